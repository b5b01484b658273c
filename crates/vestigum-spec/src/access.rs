//! The errors of reads and writes.

use thiserror::Error;

use crate::nearest::did_you_mean;
use crate::vocabulary::place::{Place, where_it_is};

/// Describes why a read or a write was refused. Nothing has changed.
// One pointer wide: what a write answers is moved and dropped in many places of a game, and seldom an error.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error(transparent)]
pub struct AccessError(Box<AccessErrorKind>);

impl AccessError {
    /// Returns what is wrong.
    pub fn kind(&self) -> &AccessErrorKind {
        &self.0
    }

    /// Returns what is wrong, to be kept.
    pub fn into_kind(self) -> AccessErrorKind {
        *self.0
    }
}

impl From<AccessErrorKind> for AccessError {
    fn from(kind: AccessErrorKind) -> Self {
        AccessError(Box::new(kind))
    }
}

/// Describes what is wrong with a read or a write.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum AccessErrorKind {
    /// The session was ended by `quit`.
    #[error("the session has quit; launch first")]
    Closed,
    /// No player has made the level, so nothing is kept for it.
    #[error("there is no level `{level}`: it was not made, or it was removed")]
    LevelNotMade {
        /// The level.
        level: String,
    },
    /// A level that a player made is that player's, and the field is shared by all players of the device.
    #[error("`{field}` belongs to all players of the device, and `{level}` to one: nothing is kept there")]
    MadeByOne {
        /// The field.
        field: String,
        /// The level.
        level: String,
    },
    /// The field lives only inside a level, so a write now would be lost.
    #[error("`{field}` lasts one {lasts}, so it can be written only inside a level; the player is {}", where_it_is(.place))]
    NotInLevel {
        /// The field.
        field: String,
        /// Its span.
        lasts: crate::vocabulary::span::Span,
        /// Says where the player is.
        place: Place,
    },
    /// Only rules write the field.
    #[error("only rules write `{field}`; to let play write it too, declare it with `written_by = \"both\"`")]
    RulesOnly {
        /// The field.
        field: String,
    },
    /// No field or derived value has that name.
    #[error("nothing is called `{name}`{}", did_you_mean(.nearest))]
    UnknownName {
        /// The name asked for.
        name: String,
        /// The name that was probably meant.
        nearest: Option<String>,
    },
    /// The field has a value for each key of an axis, and none was named.
    #[error("`{name}` has a value for each {axis}; name one, as in `{name}[{example}]`")]
    WhichKey {
        /// The field or derived value.
        name: String,
        /// Says what it is keyed by.
        axis: String,
        /// Some key.
        example: String,
    },
    /// A field was asked for, and it is a derived value.
    #[error("`{name}` is a derived value, which rules and play do not write: `derived(\"{name}\")` computes it")]
    IsDerived {
        /// The name asked for.
        name: String,
    },
    /// A derived value was asked for, and it is a field.
    #[error("`{name}` is a field: `value(\"{name}\", …)` reads it")]
    IsField {
        /// The name asked for.
        name: String,
    },
    /// The field has one value and a key was named.
    #[error("`{name}` has one value, so it takes no key")]
    NoKey {
        /// The field.
        name: String,
    },
    /// Too few or too many keys were named.
    #[error("`{name}` takes {wanted}, found {found}")]
    WrongKeys {
        /// The field.
        name: String,
        /// The keys it takes, in words.
        wanted: String,
        /// Says how many were named.
        found: usize,
    },
    /// No level, checkpoint or key has that name.
    #[error("no {axis} is called `{name}`{}", did_you_mean(.nearest))]
    UnknownKey {
        /// Says what the key is one of.
        axis: String,
        /// The name asked for.
        name: String,
        /// The name that was probably meant.
        nearest: Option<String>,
    },
    /// The open key set has no room for another name.
    #[error("there is no room for another {axis}: {max} is the most")]
    KeysFull {
        /// The key set.
        axis: String,
        /// The most names it can have.
        max: u32,
    },
    /// A name made at run time that cannot be a key.
    #[error("`{}` cannot be a {axis}: names have 1 to 60 characters, none of them a control character", .name.escape_debug())]
    BadKey {
        /// The key set.
        axis: String,
        /// The name.
        name: String,
    },
    /// The field's type has no such operation.
    #[error("`{field}` is of type {ty}, which cannot be {what}")]
    NoSuchOperation {
        /// The field.
        field: String,
        /// Its type.
        ty: crate::value::types::Type,
        /// Says what was tried.
        what: &'static str,
    },
    /// The bytes are more than the blob may have. Nothing was written: half of it would be worth nothing.
    #[error("`{field}` holds at most {most} bytes, and these are more")]
    BlobTooLong {
        /// The field.
        field: String,
        /// Says how many bytes it holds.
        most: usize,
    },
    /// A Rust value and the field have different shapes.
    #[error("`{field}` and the Rust value do not fit: {why}")]
    Shape {
        /// The field.
        field: String,
        /// Says where they differ.
        why: String,
    },
    /// The field's value has no such part.
    #[error("there is no `{part}`: {why}")]
    NoPart {
        /// The part as it was named.
        part: String,
        /// Says why there is none.
        why: String,
    },
    /// The value is of another type than the field.
    #[error("`{field}` is of type {wanted}; {value} is not")]
    WrongType {
        /// The field.
        field: String,
        /// Its type.
        wanted: crate::value::types::Type,
        /// The value, as it would be written.
        value: String,
    },
}
