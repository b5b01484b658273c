//! Codes: a few values as one number, and that number as a text that a player can write down.
//!
//! A number is written in mixed radix: each value is a digit of its own base, so no gate holds more. A text has a character for the
//! layout, the number, and check characters. Characters count modulo a prime, the largest that the alphabet has characters for: then one sum of
//! all characters, each times its place, is another one whenever one character is wrong or two are swapped. A second sum tells which
//! character is wrong.

use std::sync::Arc;

use crate::model::field::{Field, FieldId};
use crate::value::Value;
use crate::value::types::Type;

/// A code that a spec declares.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Code {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub digits: Vec<Digit>,
    #[doc(hidden)]
    pub form: Form,
    /// The field that remembers which codes were redeemed.
    #[doc(hidden)]
    pub once: Option<FieldId>,
}

/// One value of a code.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Digit {
    #[doc(hidden)]
    pub field: FieldId,
    #[doc(hidden)]
    pub slot: usize,
    #[doc(hidden)]
    pub entry: String,
    /// Says what it can be.
    #[doc(hidden)]
    pub holds: Holds,
    /// Whether it can have no value; that is its first one then.
    #[doc(hidden)]
    pub optional: bool,
    /// Says what one more of it adds to the number.
    #[doc(hidden)]
    pub weight: u128,
}

/// Describes what a value of a code can be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holds {
    /// `false` or `true`.
    Bool,
    /// A whole number from the lowest to the highest.
    Int(i64, i64),
    /// One of a number of choices.
    Choice(u32),
}

/// Describes how a code is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Form {
    /// As a number from 0 to `max` that counts in steps.
    Number {
        /// The highest number.
        max: u64,
        /// Every code is a multiple of this.
        step: u64,
    },
    /// As characters.
    Text(Characters),
}

/// The characters of a text code.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Characters {
    /// The characters that are used: a prime number of them.
    #[doc(hidden)]
    pub alphabet: Vec<char>,
    /// The number of characters in a group.
    #[doc(hidden)]
    pub group: usize,
    /// Says how many of them check the others: 1 or 2.
    #[doc(hidden)]
    pub check: usize,
    /// Says how many write the number.
    #[doc(hidden)]
    pub number: usize,
    /// Says what tells the layout from others: the first character, and what the sums are made to be.
    #[doc(hidden)]
    pub tag: u32,
    /// Says what the characters are shuffled by: it comes from the id of the game.
    #[doc(hidden)]
    pub salt: [u32; 2],
}

/// Describes why a text or a number is no code, as far as that can be told without a state.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unreadable {
    /// It is not a number.
    NoNumber,
    /// It is not a multiple of the step.
    NoStep,
    /// No code is as high.
    OutOfRange,
    /// A character that no code has.
    BadCharacter {
        /// Says where it stands, from 1.
        position: usize,
        /// The character.
        character: char,
    },
    /// It is too short or too long.
    Length {
        /// Says how many characters a code has.
        wanted: usize,
        /// Says how many it has.
        found: usize,
    },
    /// One character was mistyped.
    Mistyped {
        /// Says where it stands, from 1.
        position: usize,
    },
    /// Two neighbouring characters were swapped.
    Swapped,
    /// One character is wrong, or two are swapped, and one check character does not tell which.
    SomeSign,
    /// More than one character is wrong.
    Other,
}

impl Holds {
    /// Returns what a field of a type holds, if a code can carry it.
    pub fn of(field: &Field) -> Option<Holds> {
        match &field.ty {
            Type::Bool => Some(Holds::Bool),
            Type::Choice(names) => Some(Holds::Choice(names.len() as u32)),
            Type::Int => match field.limits.range.as_ref()? {
                (Value::Int(lowest), Value::Int(highest)) => Some(Holds::Int(*lowest, *highest)),
                _ => None,
            },
            Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Struct(_)
            | Type::List(_)
            | Type::Set(_)
            | Type::Map(_) => None,
        }
    }

    /// Returns how many values there are.
    fn size(self) -> u128 {
        match self {
            Holds::Bool => 2,
            Holds::Int(lowest, highest) => (i128::from(highest) - i128::from(lowest) + 1).unsigned_abs(),
            Holds::Choice(count) => u128::from(count),
        }
    }
}

impl Digit {
    /// The entry, as expressions name it.
    pub fn entry(&self) -> &str {
        &self.entry
    }

    /// Returns what it can be.
    pub fn holds(&self) -> Holds {
        self.holds
    }

    /// Returns whether it can have no value, which is the first of its values then.
    pub fn is_optional(&self) -> bool {
        self.optional
    }

    /// Returns how many values it has.
    pub fn size(&self) -> u128 {
        self.holds.size().saturating_add(u128::from(self.optional))
    }

    /// Returns what one more of it adds to the number, before steps.
    pub fn weight(&self) -> u128 {
        self.weight
    }

    /// The place of a value among all that it can have.
    fn place(&self, value: &Value) -> u128 {
        let place = match (self.holds, value) {
            (_, Value::Unfilled) => return 0,
            (Holds::Bool, value) => u128::from(value.as_bool()),
            (Holds::Int(lowest, highest), value) => {
                (i128::from(value.as_int().clamp(lowest, highest)) - i128::from(lowest)).unsigned_abs()
            }
            (Holds::Choice(count), Value::Choice(chosen)) => u128::from(chosen.index.min(count.saturating_sub(1))),
            (Holds::Choice(_), _) => 0,
        };
        place + u128::from(self.optional)
    }

    /// The value at a place.
    fn value(&self, field: &Field, place: u128) -> Value {
        let Some(place) = place.checked_sub(u128::from(self.optional)) else { return Value::Unfilled };
        match self.holds {
            Holds::Bool => Value::Bool(place == 1),
            Holds::Int(lowest, _) => Value::Int((i128::from(lowest) + place as i128) as i64),
            Holds::Choice(_) => match &field.ty {
                Type::Choice(names) => {
                    names.get(place as usize).map_or(Value::Unfilled, |name| Value::Choice(name.clone()))
                }
                _ => Value::Unfilled,
            },
        }
    }
}

impl Code {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its values, in the order in which they are carried.
    pub fn digits(&self) -> &[Digit] {
        &self.digits
    }

    /// Returns how it is written.
    pub fn form(&self) -> &Form {
        &self.form
    }

    /// In which steps its numbers count.
    pub fn step(&self) -> u64 {
        match self.form {
            Form::Number { step, .. } => step,
            Form::Text(_) => 1,
        }
    }

    /// Returns how many codes there are.
    pub fn size(&self) -> u128 {
        self.digits.last().map_or(1, |last| last.weight.saturating_mul(last.size()))
    }

    /// The number of the values that a function tells.
    pub fn number<'v>(&self, value: impl Fn(usize) -> &'v Value) -> u128 {
        self.digits.iter().map(|digit| digit.place(value(digit.slot)) * digit.weight).sum()
    }

    /// The values that a number stands for, each with its digit.
    pub fn values<'c>(&'c self, fields: &'c [Field], number: u128) -> impl Iterator<Item = (&'c Digit, Value)> {
        self.digits.iter().map(move |digit| {
            let place = number / digit.weight % digit.size();
            (digit, digit.value(&fields[digit.field.0 as usize], place))
        })
    }

    /// The number as it is written.
    pub fn written(&self, number: u128) -> String {
        match &self.form {
            Form::Number { step, .. } => (number * u128::from(*step)).to_string(),
            Form::Text(characters) => characters.written(number),
        }
    }

    /// The number that a text stands for, and the text as the code itself writes it.
    ///
    /// # Errors
    /// Why it stands for none.
    pub fn read(&self, text: &str) -> Result<(u128, String), Unreadable> {
        let number = match &self.form {
            Form::Number { max, step } => {
                let digits: String =
                    text.chars().filter(|c| !c.is_whitespace() && !matches!(c, '_' | ',' | '\'')).collect();
                let plain = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
                let number: u128 =
                    if plain { digits.parse().unwrap_or(u128::MAX) } else { return Err(Unreadable::NoNumber) };
                if number > u128::from(*max) {
                    return Err(Unreadable::OutOfRange);
                }
                if !number.is_multiple_of(u128::from(*step)) {
                    return Err(Unreadable::NoStep);
                }
                number / u128::from(*step)
            }
            Form::Text(characters) => characters.read(text)?,
        };
        if number < self.size() { Ok((number, self.written(number))) } else { Err(Unreadable::OutOfRange) }
    }
}

/// Characters that are mistaken for one another: one that the alphabet does not have is taken for one of its row that it has.
const LOOK_ALIKES: [&str; 6] = ["0O", "1IL|", "2Z", "5S", "8B", "UV"];

/// The characters that a code has if the spec names none: the digits, and the letters but I, L, O, S and V, which are taken for digits and U.
pub const ALPHABET: &str = "0123456789ABCDEFGHJKMNPQRTUWXYZ";

impl Characters {
    /// Returns how many characters a code has.
    pub fn len(&self) -> usize {
        1 + self.number + self.check
    }

    /// Returns whether it has none: never.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// Tells the layout from others, as a history records it.
    #[doc(hidden)]
    pub fn layout(&self) -> String {
        let [first, second] = self.salt;
        format!("{}.{}.{first}.{second}.{}", self.base(), self.tag, self.number)
    }

    fn base(&self) -> u32 {
        self.alphabet.len() as u32
    }

    fn written(&self, number: u128) -> String {
        let base = u128::from(self.base());
        let mut characters = vec![self.tag];
        let mut rest = number;
        for _ in 0..self.number {
            characters.push((rest % base) as u32);
            rest /= base;
        }
        characters.extend(self.checks(&characters));
        let mut text = String::new();
        for (at, character) in characters.iter().enumerate() {
            if at > 0 && at % self.group == 0 {
                text.push('-');
            }
            text.extend(self.alphabet.get(*character as usize));
        }
        text
    }

    /// The check characters behind these: they make both sums what they have to be.
    fn checks(&self, characters: &[u32]) -> Vec<u32> {
        let base = i64::from(self.base());
        let [plain, placed] = self.sums(characters);
        let wanted = |sum: u32, salt: u32| (i64::from(salt) - i64::from(sum)).rem_euclid(base);
        let n = characters.len() as i64;
        let second = wanted(placed, self.salt[1]);
        if self.check == 1 {
            return vec![(second * inverse(n + 1, base)).rem_euclid(base) as u32];
        }
        // a + b = first, and (n + 1) a + (n + 2) b = second
        let first = wanted(plain, self.salt[0]);
        let b = (second - (n + 1) * first).rem_euclid(base);
        vec![(first - b).rem_euclid(base) as u32, b as u32]
    }

    /// The sum of the characters, and the sum of the characters each times its place from 1.
    fn sums(&self, characters: &[u32]) -> [u32; 2] {
        let base = u64::from(self.base());
        let plain = characters.iter().map(|character| u64::from(*character)).sum::<u64>() % base;
        let placed =
            characters.iter().zip(1u64..).map(|(character, place)| u64::from(*character) * place).sum::<u64>() % base;
        [plain as u32, placed as u32]
    }

    fn read(&self, text: &str) -> Result<u128, Unreadable> {
        let characters = self.characters(text)?;
        if characters.len() != self.len() {
            return Err(Unreadable::Length { wanted: self.len(), found: characters.len() });
        }
        let base = i64::from(self.base());
        let sums = self.sums(&characters);
        let [plain, placed] = [0, 1].map(|at| (i64::from(sums[at]) - i64::from(self.salt[at])).rem_euclid(base));
        let known = characters[0] == self.tag;
        match (self.check, plain, placed) {
            (1, _, 0) | (_, 0, 0) if known => {}
            (1, _, 0) | (_, 0, 0) => return Err(Unreadable::Other),
            // The sum is right and the places are not.
            (2, 0, _) if known => return Err(Unreadable::Swapped),
            (2, 0, _) => return Err(Unreadable::Other),
            (2, plain, placed) => {
                let position = (placed * inverse(plain, base)).rem_euclid(base) as usize;
                // A code of another layout has another first character and no single wrong one.
                let one = (1..=self.len()).contains(&position) && (known || position == 1);
                return Err(if one { Unreadable::Mistyped { position } } else { Unreadable::Other });
            }
            _ if known => return Err(Unreadable::SomeSign),
            _ => return Err(Unreadable::Other),
        }
        let base = u128::from(self.base());
        let digits = characters.iter().skip(1).take(self.number).rev();
        Ok(digits.fold(0u128, |number, character| number.saturating_mul(base).saturating_add(u128::from(*character))))
    }

    /// The characters of a text, without what stands between them. Case and characters that look alike are forgiven.
    fn characters(&self, text: &str) -> Result<Vec<u32>, Unreadable> {
        let between = |c: &char| !(c.is_whitespace() || matches!(c, '-' | '–' | '—' | '_' | '.'));
        let mut characters = Vec::new();
        for c in text.chars().filter(between) {
            let position = characters.len() + 1;
            characters.push(self.character(c).ok_or(Unreadable::BadCharacter { position, character: c })?);
            if characters.len() > self.len() {
                let found = text.chars().filter(between).count();
                return Err(Unreadable::Length { wanted: self.len(), found });
            }
        }
        Ok(characters)
    }

    fn character(&self, c: char) -> Option<u32> {
        let find = |c: char| self.alphabet.iter().position(|character| *character == c);
        let cased = || c.to_uppercase().chain(c.to_lowercase()).find_map(find);
        let alike = || {
            let row = LOOK_ALIKES.iter().find(|row| c.to_uppercase().any(|c| row.contains(c)))?;
            row.chars().flat_map(|c| [Some(c), c.to_lowercase().next()]).flatten().find_map(find)
        };
        find(c).or_else(cased).or_else(alike).map(|character| character as u32)
    }
}

/// Returns what a number is multiplied with to give 1, modulo a prime.
fn inverse(number: i64, prime: i64) -> i64 {
    let number = number.rem_euclid(prime);
    (1..prime).find(|other| number * other % prime == 1).unwrap_or(0)
}

/// The largest prime that is not above a number.
pub fn prime_up_to(number: usize) -> Option<usize> {
    (2..=number).rev().find(|n| (2..*n).take_while(|d| d * d <= *n).all(|d| !n.is_multiple_of(d)))
}
