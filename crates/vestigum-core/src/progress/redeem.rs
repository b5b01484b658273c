//! Codes in play: made of the values as they are, and redeemed in the menu.

use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use super::openings::opened_level;
use crate::outcome::Change;
use crate::progress::Progress;
use crate::state::position::Position;
use vestigum_spec::model::code::{Code, Unreadable};
use vestigum_spec::model::entry::keys_of;
use vestigum_spec::nearest::did_you_mean;
use vestigum_spec::value::Value;
use vestigum_spec::value::limits::Limits;
use vestigum_spec::vocabulary::fate::{Fate, Operation};
use vestigum_spec::vocabulary::place::Place;
use vestigum_spec::vocabulary::place::where_it_is;

/// Describes what redeeming a code did.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct Redeemed {
    /// Every value that changed.
    pub changes: Vec<Change>,
    /// Levels that are open from now on.
    pub opened: Vec<Arc<str>>,
}

/// Describes why a code was not made or redeemed. Nothing has changed.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum CodeError {
    /// The session was ended by `quit`.
    #[error("the session has quit; launch first")]
    Closed,
    /// The spec has no code of that name.
    #[error("no code is called `{name}`{}", did_you_mean(.nearest))]
    UnknownCode {
        /// The name asked for.
        name: String,
        /// The code that was probably meant.
        nearest: Option<String>,
    },
    /// Codes are redeemed in the menu.
    #[error("a code is redeemed in the menu, and the player is {}", where_it_is(.place))]
    NotInMenu {
        /// Says where the player is.
        place: Place,
    },
    /// It is no number.
    #[error("expected a whole number, found `{}`", .text.escape_debug())]
    NoNumber {
        /// Says what was given.
        text: String,
    },
    /// The gate counts in steps, and this lies between two.
    #[error("the code counts in steps of {step}, so it is never {text}")]
    NoStep {
        /// Says what was given.
        text: String,
        /// The step.
        step: u64,
    },
    /// The number is larger than any code.
    #[error("there is no such code: the largest is {largest}")]
    OutOfRange {
        /// The largest code.
        largest: String,
    },
    /// A character that no code has.
    #[error("character {position}, `{}`, is not used in codes", .character.escape_debug())]
    BadCharacter {
        /// Says which character, from 1. What stands between the groups does not count.
        position: usize,
        /// The character.
        character: char,
    },
    /// Too many or too few characters.
    #[error("expected a code of {wanted} characters, found {found}")]
    WrongLength {
        /// Says how many it has.
        wanted: usize,
        /// Says how many were given.
        found: usize,
    },
    /// One character is wrong.
    #[error("character {position} is mistyped")]
    Mistyped {
        /// Says which character, from 1.
        position: usize,
    },
    /// Two characters are in each other's place.
    #[error("two characters are swapped")]
    Swapped,
    /// A character is wrong, or two are swapped.
    #[error("a character is mistyped, or two are swapped")]
    SomeSign,
    /// It belongs to another code, another game, or another version of this one.
    #[error("it is not a code of `{name}` in this version of the game")]
    Other {
        /// The code.
        name: String,
    },
    /// The code was redeemed before.
    #[error("this code was redeemed before")]
    RedeemedBefore,
    /// The field that remembers what was redeemed is full.
    #[error("`{field}` has no room to remember another code")]
    NoRoom {
        /// The field.
        field: String,
    },
}

impl Progress {
    /// The code of the values as they are now. It is a pure read: the same however often it is asked.
    ///
    /// # Errors
    /// If there is no such code.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [field.lamps]
    ///     type = "int"
    ///     range = [0, 9]
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     [code.crossing]
    ///     carries = ["lamps"]
    ///     max = 1000
    ///     step = 10
    /// "#)?;
    /// let mut ada = Progress::fresh(&spec);
    /// ada.write("lamps", &[], Value::Int(5))?;
    /// let code = ada.code("crossing")?;
    /// assert_eq!(code, "50");
    /// let mut bo = Progress::fresh(&spec);
    /// bo.redeem("crossing", &code)?;
    /// assert_eq!(bo.value("lamps", &[])?, Value::Int(5));
    /// assert!(bo.redeem("crossing", 55).is_err());       // it counts in tens
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn code(&self, name: impl AsRef<str>) -> Result<String, CodeError> {
        let code = self.find_code(name.as_ref())?;
        Ok(code.written(code.number(|slot| self.state.value(slot))))
    }

    /// Writes all values of a code, whatever they were. A text is read in any case, with or without its groups, and characters that
    /// look like others are taken for them.
    ///
    /// # Errors
    /// If there is no such code, the player is not in the menu, the text or number is no code, or the code is redeemed once and
    /// was redeemed before.
    pub fn redeem(&mut self, name: impl AsRef<str>, code: impl fmt::Display) -> Result<Redeemed, CodeError> {
        let name = name.as_ref();
        let model = self.model.clone();
        let of = self.find_code(name)?;
        if self.is_closed() {
            return Err(CodeError::Closed);
        }
        if self.state.position != Position::Menu {
            return Err(CodeError::NotInMenu { place: self.place() });
        }
        let (number, written) = read(of, &code.to_string())?;
        let mut values: Vec<(usize, Value)> =
            of.values(&model.fields, number).map(|(digit, value)| (digit.slot, value)).collect();
        if let Some(id) = of.once {
            let field = model.field(id);
            values.push((
                field.first_slot,
                self.remembered(&field.limits, field.first_slot, &field.name, name, &written)?,
            ));
        }
        let mut redeemed = Redeemed::default();
        for (slot, value) in values {
            let before = self.state.value(slot).clone();
            if before == value {
                continue;
            }
            let Some(field) = model.fields.iter().find(|field| field.slots().contains(&slot)) else { continue };
            redeemed.changes.push(Change {
                field: field.name.clone(),
                keys: keys_of(&model, field, slot, &self.state.made),
                before,
                after: value.clone(),
                fate: Fate::Operation(Operation::Set),
                clamped: false,
            });
            self.state.write(slot, value);
        }
        let opened = self.judge_openings();
        redeemed.opened = opened.iter().filter_map(opened_level).collect();
        redeemed.changes.extend(opened);
        Ok(redeemed)
    }

    fn find_code(&self, name: &str) -> Result<&Code, CodeError> {
        self.model.find_code(name).map_err(|nearest| CodeError::UnknownCode { name: name.to_owned(), nearest })
    }

    /// Returns what was redeemed so far, with one more.
    fn remembered(
        &self,
        limits: &Limits,
        slot: usize,
        field: &str,
        name: &str,
        written: &str,
    ) -> Result<Value, CodeError> {
        let item = Value::text(format!("{name} {written}"));
        let Value::Set(known) = self.state.value(slot) else { return Err(CodeError::RedeemedBefore) };
        if known.contains(&item) {
            return Err(CodeError::RedeemedBefore);
        }
        let mut more = known.clone();
        more.insert(item);
        let (value, cut) = limits.clamp(Value::Set(more));
        if cut { Err(CodeError::NoRoom { field: field.to_owned() }) } else { Ok(value) }
    }
}

/// The number that a text stands for, and the text as the code itself writes it.
pub(crate) fn read(code: &Code, text: &str) -> Result<(u128, String), CodeError> {
    code.read(text).map_err(|why| unreadable(code, text.to_owned(), why))
}

fn unreadable(code: &Code, text: String, why: Unreadable) -> CodeError {
    match why {
        Unreadable::NoNumber => CodeError::NoNumber { text },
        Unreadable::NoStep => CodeError::NoStep { text, step: code.step() },
        Unreadable::OutOfRange => CodeError::OutOfRange { largest: code.written(code.size().saturating_sub(1)) },
        Unreadable::BadCharacter { position, character } => CodeError::BadCharacter { position, character },
        Unreadable::Length { wanted, found } => CodeError::WrongLength { wanted, found },
        Unreadable::Mistyped { position } => CodeError::Mistyped { position },
        Unreadable::Swapped => CodeError::Swapped,
        Unreadable::SomeSign => CodeError::SomeSign,
        Unreadable::Other => CodeError::Other { name: code.name().to_owned() },
    }
}
