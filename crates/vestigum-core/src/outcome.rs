//! What a moment or a write did.

use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::nearest::did_you_mean;
use crate::value::Value;
use crate::value::ranking::Ranked;
use crate::vocabulary::fate::{Fate, Operation};
use crate::vocabulary::key::{EntryName, Keys};
use crate::vocabulary::moment::Moment;
use crate::vocabulary::place::Place;

/// One value that changed.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// The field.
    pub field: Arc<str>,
    /// The key of the entry, for a keyed field.
    pub keys: Keys,
    /// The value before the moment.
    pub before: Value,
    /// The value after it.
    pub after: Value,
    /// What happened to it.
    pub fate: Fate,
    /// Whether the value was brought into the field's limits.
    pub clamped: bool,
}

impl Change {
    /// The field and the key of the entry.
    pub fn name(&self) -> EntryName {
        EntryName { field: self.field.clone(), keys: self.keys.clone() }
    }

    /// Whether a record was beaten: a `max` or `min` rule took a new value.
    pub fn is_record(&self) -> bool {
        matches!(self.fate, Fate::Operation(Operation::Max | Operation::Min))
    }
}

/// `best_letters[mill_lane] 0 → 60 (max)`
impl fmt::Display for Change {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.field)?;
        if !self.keys.is_empty() {
            write!(f, "[{}]", self.keys)?;
        }
        write!(f, " {} ({})", self.before.difference(&self.after), self.fate)
    }
}

/// Where the entry of a `rank` rule came.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RankedIn {
    /// The ranking, and the key of the entry of a keyed one.
    pub ranking: EntryName,
    /// The place it took, and of how many.
    pub ranked: Ranked,
}

/// `best_walks[mill_lane]: place 2 of 7`
impl fmt::Display for RankedIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.ranking, self.ranked)
    }
}

/// Where the player comes back to life.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RespawnAt {
    /// The level.
    pub level: Arc<str>,
    /// The checkpoint, or none for the start of the level.
    pub checkpoint: Option<Arc<str>>,
}

/// Where completing a level leads.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Next {
    /// To this level, which is open: the exit leads there, `next` names it, or it is the one behind in `order`.
    Level(Arc<str>),
    /// To this level, which is still locked: [`Progress::lock_reason`](crate::Progress::lock_reason) says what is missing.
    Locked(Arc<str>),
    /// No level is named: these are open, not completed yet, and not hidden.
    Choose(Vec<Arc<str>>),
    /// No level is named, and of those that are open none is left to be completed.
    End,
}

/// `next: heather_rise`
impl fmt::Display for Next {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Next::Level(level) => write!(f, "next: {level}"),
            Next::Locked(level) => write!(f, "next: {level}, still locked"),
            Next::Choose(levels) => write!(f, "open: {}", levels.join(", ")),
            Next::End => f.write_str("nothing comes after it"),
        }
    }
}

/// What a moment did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Outcome {
    /// The moment.
    pub moment: Moment,
    /// `false` for a checkpoint that `[checkpoints] accept` ignores: then it was no moment and nothing happened.
    pub accepted: bool,
    /// Every value that changed, in the order of the spec; those of a game over that followed come after.
    pub changes: Vec<Change>,
    /// Where the entries of `rank` rules came, in the order of the spec: also those that were not good enough to come in.
    pub ranked: Vec<RankedIn>,
    /// Where the player is after it.
    pub place: Place,
    /// Where to put the player, after a death, a restart or a launch into a level.
    pub respawn: Option<RespawnAt>,
    /// Every attempt and visit field that was set back, whether that changed its value or not: a game that does not
    /// reload the level puts its doors and platforms back where these say.
    pub set_back: Vec<Arc<str>>,
    /// Levels that are open from now on.
    pub opened: Vec<Arc<str>>,
    /// After `complete`: where it leads. None after every other moment.
    pub next: Option<Next>,
    /// Whether the run is over: by this moment, or because it made `over_when` true.
    pub game_over: bool,
    /// Whether `[save] at` asks for a save.
    pub save_due: bool,
}

impl Outcome {
    pub(crate) fn new(moment: Moment, place: Place) -> Outcome {
        Outcome {
            moment,
            accepted: true,
            changes: Vec::new(),
            ranked: Vec::new(),
            place,
            respawn: None,
            set_back: Vec::new(),
            opened: Vec::new(),
            next: None,
            game_over: false,
            save_due: false,
        }
    }

    /// After `complete`: the level that comes next, if one is named and open.
    pub fn next_level(&self) -> Option<&str> {
        match self.next.as_ref()? {
            Next::Level(level) => Some(level),
            Next::Locked(_) | Next::Choose(_) | Next::End => None,
        }
    }

    /// The records that were beaten.
    pub fn records(&self) -> impl Iterator<Item = &Change> {
        self.changes.iter().filter(|change| change.is_record())
    }

    /// The values that were brought into their limits.
    pub fn clamped(&self) -> impl Iterator<Item = &Change> {
        self.changes.iter().filter(|change| change.clamped)
    }
}

/// What a write did.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Written {
    pub(crate) clamped: bool,
    pub(crate) beaten: bool,
    pub(crate) save_due: bool,
    pub(crate) ranked: Option<Ranked>,
    // Nearly always nothing, and writes are frequent: one word that is null.
    pub(crate) opened: Option<Box<[Arc<str>]>>,
}

impl Written {
    /// Whether the value was brought into the field's limits.
    #[must_use]
    pub fn clamped(&self) -> bool {
        self.clamped
    }

    /// Whether [`Progress::raise`](crate::Progress::raise) or [`lower`](crate::Progress::lower) wrote: the value beat the
    /// old one.
    #[must_use]
    pub fn beaten(&self) -> bool {
        self.beaten
    }

    /// Whether the field asks for a save, and the write changed it: `save = true`.
    #[must_use]
    pub fn save_due(&self) -> bool {
        self.save_due
    }

    /// Where the entry came that [`Progress::rank`](crate::Progress::rank) put into a ranking; none after other writes.
    #[must_use]
    pub fn ranked(&self) -> Option<Ranked> {
        self.ranked
    }

    /// Levels that are open from now on. Only a write outside a level can open one at once.
    #[must_use]
    pub fn opened(&self) -> &[Arc<str>] {
        self.opened.as_deref().unwrap_or_default()
    }
}

/// Why a moment was refused. Nothing has changed.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refused {
    /// The session was ended by `quit`.
    #[error("the session has quit; launch first")]
    Closed,
    /// The moment happens only inside a level.
    #[error("{moment} happens only inside a level, and the player is {}", where_it_is(.place))]
    NotInLevel {
        /// The name of the moment.
        moment: String,
        /// Where the player is.
        place: Place,
    },
    /// The moment happens only outside a level.
    #[error("{moment} happens only {}, and the player is {}", if .moment == "enter" { "from the menu" } else { "outside a level" }, where_it_is(.place))]
    NotHere {
        /// The name of the moment.
        moment: String,
        /// Where the player is.
        place: Place,
    },
    /// No level has that name.
    #[error("no level is called `{name}`{}", did_you_mean(.nearest))]
    UnknownLevel {
        /// The name asked for.
        name: String,
        /// The level that was probably meant.
        nearest: Option<String>,
    },
    /// The level lists its checkpoints, and this is none of them.
    #[error("`{level}` has no checkpoint `{name}`{}", did_you_mean(.nearest))]
    UnknownCheckpoint {
        /// The level.
        level: String,
        /// The name asked for.
        name: String,
        /// The checkpoint that was probably meant.
        nearest: Option<String>,
    },
    /// The level has no such exit.
    #[error("`{level}` has no exit `{name}`{}", did_you_mean(.nearest))]
    UnknownExit {
        /// The level.
        level: String,
        /// The name asked for.
        name: String,
        /// The exit that was probably meant.
        nearest: Option<String>,
    },
    /// The level is locked.
    #[error("`{level}` is locked: {why}")]
    Locked {
        /// The level.
        level: String,
        /// What is missing, in words.
        why: String,
    },
    /// The game has no moment of that name.
    #[error("this game has no moment `{name}`{}", did_you_mean(.nearest))]
    UnknownMoment {
        /// The name asked for.
        name: String,
        /// The moment that was probably meant.
        nearest: Option<String>,
    },
}

/// Why a read or a write was refused. Nothing has changed.
///
/// ```
/// # use vestigum_core::{AccessErrorKind, Progress, Spec};
/// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
/// # let mut game = Progress::fresh(&spec);
/// let refused = game.write("scoer", &[], 60.into()).expect_err("no field is called so");
/// assert!(matches!(refused.kind(), AccessErrorKind::UnknownName { .. }));
/// assert_eq!(refused.to_string(), "nothing is called `scoer`; did you mean `score`?");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
// One pointer wide: what a write answers is moved and dropped in many places of a game, and seldom an error.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error(transparent)]
pub struct AccessError(Box<AccessErrorKind>);

impl AccessError {
    /// What is wrong.
    pub fn kind(&self) -> &AccessErrorKind {
        &self.0
    }

    /// What is wrong, to be kept.
    pub fn into_kind(self) -> AccessErrorKind {
        *self.0
    }
}

impl From<AccessErrorKind> for AccessError {
    fn from(kind: AccessErrorKind) -> Self {
        AccessError(Box::new(kind))
    }
}

/// What is wrong with a read or a write.
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
        /// Where the player is.
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
        /// What it is keyed by.
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
    #[error("`{name}` takes {wanted}; here are {found}")]
    WrongKeys {
        /// The field.
        name: String,
        /// The keys it takes, in words.
        wanted: String,
        /// How many were named.
        found: usize,
    },
    /// No level, checkpoint or key has that name.
    #[error("no {axis} is called `{name}`{}", did_you_mean(.nearest))]
    UnknownKey {
        /// What the key is one of.
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
        /// What was tried.
        what: &'static str,
    },
    /// The bytes are more than the blob may have. Nothing was written: half of it would be worth nothing.
    #[error("`{field}` holds at most {most} bytes, and these are more")]
    BlobTooLong {
        /// The field.
        field: String,
        /// How many bytes it holds.
        most: usize,
    },
    /// A Rust value and the field have different shapes.
    #[error("`{field}` and the Rust value do not fit: {why}")]
    Shape {
        /// The field.
        field: String,
        /// Where they differ.
        why: String,
    },
    /// The field's value has no such part.
    #[error("there is no `{part}`: {why}")]
    NoPart {
        /// The part as it was named.
        part: String,
        /// Why there is none.
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

pub(crate) fn where_it_is(place: &Place) -> String {
    match place {
        Place::Menu => "in the menu".into(),
        Place::InLevel { .. } => format!("in {place}"),
        Place::RunOver => "at the end of a run".into(),
    }
}
