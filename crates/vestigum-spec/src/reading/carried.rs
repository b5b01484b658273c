//! Codes: which values they carry, and whether these fit.

use crate::codes;
use crate::diagnostic::{Diagnostic, Spanned};
use crate::document::{CodeEntry, Word};
use crate::model::axis::Axis;
use crate::model::code::{ALPHABET, Characters, Code, Digit, Form, Holds, prime_up_to};
use crate::model::entry::entry_name;
use crate::model::field::{Field, FieldId};
use crate::model::{Readable, Types};
use crate::reading::Resolver;
use crate::value::types::Type;
use crate::vocabulary::policy::CodeForm;
use crate::vocabulary::span::Span;

/// The most values that a code carries.
const MAX_DIGITS: usize = 1_000;

/// A group has 4 characters by default, and 2 characters check the others.
const GROUP: i64 = 4;
const CHECK: i64 = 2;

/// The fewest characters that an alphabet can have: with fewer, no code is longer than three characters.
const FEWEST_CHARACTERS: usize = 5;

impl Resolver<'_> {
    pub(super) fn codes(&mut self, spec: &Readable) -> Vec<Code> {
        let document = self.document;
        let codes = document.codes.iter().filter_map(|(name, entry)| {
            let named = self.name("code", name);
            let code = self.code(spec, name, entry)?;
            named.then_some(code)
        });
        codes.collect()
    }

    fn code(&mut self, spec: &Readable, name: &Word, entry: &CodeEntry) -> Option<Code> {
        if entry.carries.is_empty() {
            let error = self.error(codes::SHAPE, name.span, format!("`{}` carries nothing", name.value));
            error.help = Some("add `carries`, a list of bools, choices and ints with a `range`".into());
            return None;
        }
        let mut digits: Vec<Digit> = Vec::new();
        let mut whole = true;
        for word in &entry.carries {
            match self.carried(spec, word) {
                Some(field) if digits.iter().any(|digit| digit.field == field.id) => {
                    self.error(codes::SHAPE, word.span, format!("`{}` is carried twice", word.value));
                }
                Some(field) if digits.len() + field.slots > MAX_DIGITS => {
                    let message = format!("`{}` carries more than {MAX_DIGITS} values", name.value);
                    self.error(codes::OUT_OF_RANGE, word.span, message).help =
                        Some("carry the few values that the other side needs".into());
                    return None;
                }
                Some(field) => digits.extend(digits_of(spec, field)),
                None => whole = false,
            }
        }
        if digits.is_empty() && whole {
            let message = format!("`{}` carries nothing: what it names has no entries", name.value);
            self.error(codes::SHAPE, name.span, message);
            return None;
        }
        let mut weight = 1u128;
        for digit in &mut digits {
            digit.weight = weight;
            // No number or text is that long, so where it ends does not matter.
            weight = weight.saturating_mul(digit.size());
        }
        let once = match &entry.once {
            Some(word) => self.remembering(spec, word),
            None => None,
        };
        let form = match self.choose::<CodeForm>("as", entry.form.as_ref()) {
            None if entry.form.is_some() => return None,
            None | Some(CodeForm::Number) => self.number_form(spec, name, entry, &digits, weight),
            Some(CodeForm::Text) => self.text_form(spec, name, entry, &digits, weight),
        };
        whole.then_some(Code { name: name.value.as_str().into(), digits, form: form?, once })
    }

    /// A field that a code can carry.
    fn carried<'s>(&mut self, spec: &'s Readable, word: &Word) -> Option<&'s Field> {
        let Some(field) = spec.find_field(&word.value) else {
            let message = format!("no field is called `{}`", word.value.escape_debug());
            let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
            self.errors.push(error.suggest(&word.value, spec.fields.iter().map(Field::name)));
            return None;
        };
        let open = |axis: &Axis| matches!(axis, Axis::Keys(set) if spec.key_sets[*set as usize].max.is_some());
        let (message, help) = if field.needs_level() {
            let lasts = field.lasts;
            let why = format!("`{}` lasts {} {lasts}, and a code is redeemed in the menu", field.name, lasts.article());
            (why, "carry a field that lives longer")
        } else if field.axes.iter().any(open) {
            let why =
                format!("`{}` has an entry for each name that play makes, and a code has a certain number", field.name);
            (why, "carry fields whose keys are declared")
        } else if field.ty == Type::Int && Holds::of(field).is_none() {
            (
                format!("`{}` has no range, so no code is large enough for it", field.name),
                "give it a `range`, as in `[0, 9]`",
            )
        } else if Holds::of(field).is_none() {
            let why = format!(
                "`{}` is of type {}; a code carries bools, choices and ints with a range",
                field.name, field.ty
            );
            (why, "carry the few values that the other side needs")
        } else {
            return Some(field);
        };
        self.error(codes::WRONG_TYPE, word.span, message).help = Some(help.into());
        None
    }

    /// The field that remembers which codes were redeemed.
    fn remembering(&mut self, spec: &Types, word: &Word) -> Option<FieldId> {
        let found = spec.find_field(&word.value);
        let fits = |field: &&Field| {
            let texts = matches!(&field.ty, Type::Set(inner) if **inner == Type::Text);
            texts
                && !field.is_keyed()
                && !field.optional
                && matches!(field.lasts, Span::Run | Span::Profile | Span::Device)
        };
        match found.filter(fits) {
            Some(field) => Some(field.id),
            None => {
                let message = format!("`{}` cannot remember which codes were redeemed", word.value.escape_debug());
                let error = Diagnostic::error(codes::WRONG_TYPE, word.span, message)
                    .help("`once` names a field of type `set of text` that lasts a profile, a run or a device");
                let sets = spec.fields.iter().filter(fits).map(Field::name);
                self.errors.push(if found.is_none() { error.suggest(&word.value, sets) } else { error });
                None
            }
        }
    }

    fn number_form(
        &mut self,
        spec: &Types,
        name: &Word,
        entry: &CodeEntry,
        digits: &[Digit],
        size: u128,
    ) -> Option<Form> {
        for (key, word) in [
            ("alphabet", entry.alphabet.as_ref().map(|word| word.span)),
            ("group", span(&entry.group)),
            ("check", span(&entry.check)),
        ] {
            if let Some(at) = word {
                self.error(codes::SHAPE, at, format!("a number has no `{key}`")).help =
                    Some("write `as = \"text\"`".into());
            }
        }
        let Some(max) = &entry.max else {
            self.error(codes::SHAPE, name.span, format!("`{}` does not say how large its number can be", name.value))
                .help = Some("add `max`, the largest number that the gate holds".into());
            return None;
        };
        let highest = u64::try_from(max.value).ok().filter(|max| *max > 0);
        let step = entry.step.as_ref().map_or(Some(1), |step| u64::try_from(step.value).ok().filter(|step| *step > 0));
        let (Some(highest), Some(step)) = (highest, step) else {
            let at = if highest.is_none() { max.span } else { span(&entry.step).unwrap_or(max.span) };
            self.error(codes::OUT_OF_RANGE, at, "`max` and `step` are whole numbers from 1");
            return None;
        };
        let room = u128::from(highest / step) + 1;
        if size > room {
            let message = format!(
                "`{}` needs {} numbers, and a gate of {highest} {} holds {room}",
                name.value,
                told(size),
                in_steps(step)
            );
            let error = self.error(codes::OUT_OF_RANGE, max.span, message);
            error.label = format!("{} times too small", told(size.div_ceil(room)));
            error.help = Some(format!("carry less: {}", costs(spec, digits)));
            return None;
        }
        Some(Form::Number { max: highest, step })
    }

    fn text_form(
        &mut self,
        spec: &Types,
        name: &Word,
        entry: &CodeEntry,
        digits: &[Digit],
        size: u128,
    ) -> Option<Form> {
        for (key, at) in [("max", span(&entry.max)), ("step", span(&entry.step))] {
            if let Some(at) = at {
                self.error(codes::SHAPE, at, format!("a text has no `{key}`")).help =
                    Some("write `as = \"number\"`".into());
            }
        }
        let said = entry.alphabet.as_ref().map_or(ALPHABET, |word| &word.value);
        let at = entry.alphabet.as_ref().map_or(name.span, |word| word.span);
        let characters: Vec<char> = said.chars().collect();
        let twice = characters.iter().enumerate().find(|(index, character)| characters[..*index].contains(character));
        let bad = characters
            .iter()
            .find(|character| character.is_whitespace() || character.is_control() || "-–—_.".contains(**character));
        let wrong = match (twice, bad) {
            (Some((_, character)), _) => Some(format!("the character `{character}` is there twice")),
            (None, Some(character)) => {
                Some(format!("`{}` separates groups, so it cannot be a character of codes", character.escape_debug()))
            }
            (None, None) if characters.len() < FEWEST_CHARACTERS => {
                Some(format!("expected at least {FEWEST_CHARACTERS} characters"))
            }
            (None, None) => None,
        };
        if let Some(message) = wrong {
            self.error(codes::SHAPE, at, message);
            return None;
        }
        let base = prime_up_to(characters.len())?;
        let group = self.one_of(entry.group.as_ref(), "group", GROUP, 1..=100)?;
        let check = self.one_of(entry.check.as_ref(), "check", CHECK, 1..=2)?;
        let mut number = 1;
        let mut holds = base as u128;
        while holds < size && number < base {
            holds = holds.saturating_mul(base as u128);
            number += 1;
        }
        // Every place has a weight of its own, and there are fewer of these than characters.
        let most = base - 1;
        if size == u128::MAX || 1 + number + check > most {
            let message =
                format!("`{}` would have more than {most} characters, the most with this alphabet", name.value);
            self.error(codes::OUT_OF_RANGE, at, message).help = Some(format!("carry less: {}", costs(spec, digits)));
            return None;
        }
        let layout = layout(spec, &name.value, digits);
        let alphabet = characters[..base].to_vec();
        let [tag, salt @ ..] = layout.map(|part| part % base as u32);
        Some(Form::Text(Characters { alphabet, group, check, number, tag, salt }))
    }

    fn one_of(
        &mut self,
        said: Option<&Spanned<i64>>,
        key: &str,
        left_out: i64,
        can_be: std::ops::RangeInclusive<i64>,
    ) -> Option<usize> {
        let value = said.map_or(left_out, |said| said.value);
        if can_be.contains(&value) {
            return usize::try_from(value).ok();
        }
        let message = format!("`{key}` goes from {} to {}", can_be.start(), can_be.end());
        self.error(codes::OUT_OF_RANGE, said.map(|said| said.span).unwrap_or_default(), message);
        None
    }
}

fn span<T>(said: &Option<Spanned<T>>) -> Option<crate::diagnostic::SourceSpan> {
    said.as_ref().map(|said| said.span)
}

/// Every entry of a field. A level that one player made is not there for another, so a code carries nothing of it.
fn digits_of(spec: &Types, field: &Field) -> Vec<Digit> {
    let made = vec![Default::default(); spec.key_sets.len()];
    let Some(holds) = Holds::of(field) else { return Vec::new() };
    let digit = |slot: usize| Digit {
        field: field.id,
        slot,
        entry: entry_name(spec, field, slot, &made).to_string(),
        holds,
        optional: field.optional,
        weight: 1,
    };
    let shipped = |slot: &usize| field.level_of(spec, *slot).is_none_or(|level| !spec.is_made_level(level));
    field.slots().filter(shipped).map(digit).collect()
}

/// A number for people: of those that no gate holds, how many digits they have.
fn told(number: u128) -> String {
    if number < 1_000_000_000_000 { number.to_string() } else { format!("more than 10^{}", number.ilog10()) }
}

fn in_steps(step: u64) -> String {
    if step == 1 { "in ones".to_owned() } else { format!("in steps of {step}") }
}

/// Returns which field needs how many numbers.
fn costs(spec: &Types, digits: &[Digit]) -> String {
    let mut costs: Vec<(FieldId, u128)> = Vec::new();
    for digit in digits {
        match costs.iter_mut().find(|(field, _)| *field == digit.field) {
            Some((_, cost)) => *cost = cost.saturating_mul(digit.size()),
            None => costs.push((digit.field, digit.size())),
        }
    }
    costs.sort_by_key(|(_, cost)| std::cmp::Reverse(*cost));
    let costs: Vec<String> = costs
        .iter()
        .map(|(field, cost)| format!("`{}` alone takes {}", spec.field(*field).name, told(*cost)))
        .collect();
    costs.join(", ")
}

/// Returns what tells the layout of a code from that of any other: of the game, its name, and what it carries.
fn layout(spec: &Types, name: &str, digits: &[Digit]) -> [u32; 3] {
    let mut hasher = blake3::Hasher::new();
    let mut add = |text: &str| {
        hasher.update(&(text.len() as u64).to_le_bytes());
        hasher.update(text.as_bytes());
    };
    add(&spec.id);
    add(name);
    for digit in digits {
        add(&digit.entry);
        add(&format!("{:?} {}", digit.holds, digit.optional));
        // In another order the same number would be another choice.
        if let Type::Choice(names) = &spec.field(digit.field).ty {
            names.iter().for_each(|name| add(name.name()));
        }
    }
    let hash = hasher.finalize();
    let part = |at: usize| hash.as_bytes()[at..at + 4].iter().fold(0u32, |part, byte| part << 8 | u32::from(*byte));
    [part(0), part(4), part(8)]
}
