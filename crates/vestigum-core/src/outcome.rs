//! What a moment or a write did.

use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use vestigum_spec::nearest::did_you_mean;
use vestigum_spec::value::Value;
use vestigum_spec::value::ranking::Ranked;
use vestigum_spec::vocabulary::fate::{Fate, Operation};
use vestigum_spec::vocabulary::key::{EntryName, Keys};
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::place::{Place, where_it_is};

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
    /// Says what happened to it.
    pub fate: Fate,
    /// Whether the value was brought into the field's limits.
    pub clamped: bool,
}

impl Change {
    /// The field and the key of the entry.
    pub fn name(&self) -> EntryName {
        EntryName { field: self.field.clone(), keys: self.keys.clone() }
    }

    /// Returns whether a record was beaten: a `max` or `min` rule took a new value.
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

/// Describes where the entry of a `rank` rule came.
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

/// Describes where the player comes back to life.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RespawnAt {
    /// The level.
    pub level: Arc<str>,
    /// The checkpoint, or none for the start of the level.
    pub checkpoint: Option<Arc<str>>,
}

/// Describes where completing a level leads.
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

/// Describes what a moment did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Outcome {
    /// The moment.
    pub moment: Moment,
    /// `false` for a checkpoint that `[checkpoints] accept` ignores: then it was no moment and nothing happened.
    pub accepted: bool,
    /// Every value that changed, in the order of the spec; those of a game over that followed come after.
    pub changes: Vec<Change>,
    /// Says where the entries of `rank` rules came, in the order of the spec: also those that were not good enough to come in.
    pub ranked: Vec<RankedIn>,
    /// Says where the player is after it.
    pub place: Place,
    /// Says where to put the player, after a death, a restart or a launch into a level.
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

/// Describes what a write did.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Written {
    pub(crate) clamped: bool,
    pub(crate) beaten: bool,
    pub(crate) save_due: bool,
    pub(crate) ranked: Option<Ranked>,
    // Nearly always nothing, and writes are frequent: dropping a null `Arc` is one comparison in place. Dropping a box of shared
    // texts is a call with a loop in it, whether there is a box or not.
    pub(crate) opened: Option<Arc<[Arc<str>]>>,
}

impl Written {
    /// Returns whether the value was brought into the field's limits.
    #[must_use]
    pub fn clamped(&self) -> bool {
        self.clamped
    }

    /// Returns whether [`Progress::raise`](crate::Progress::raise) or [`lower`](crate::Progress::lower) wrote: the value beat the
    /// old one.
    #[must_use]
    pub fn beaten(&self) -> bool {
        self.beaten
    }

    /// Returns whether the field asks for a save, and the write changed it: `save = true`.
    #[must_use]
    pub fn save_due(&self) -> bool {
        self.save_due
    }

    /// Returns where the entry came that [`Progress::rank`](crate::Progress::rank) put into a ranking; none after other writes.
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

/// Describes why a moment was refused. Nothing has changed.
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
        /// Says where the player is.
        place: Place,
    },
    /// The moment happens only outside a level.
    #[error("{moment} happens only {}, and the player is {}", if .moment == "enter" { "from the menu" } else { "outside a level" }, where_it_is(.place))]
    NotHere {
        /// The name of the moment.
        moment: String,
        /// Says where the player is.
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
    /// The level lists its checkpoints, and this is not among them.
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
        /// Says what is missing, in words.
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
