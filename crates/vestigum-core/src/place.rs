//! Where the player stands.

use std::fmt;
use std::sync::Arc;

use crate::spec::SpecData;

/// Where the player stands, by name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Place {
    /// Between levels, or before the first.
    #[default]
    Menu,
    /// In a level.
    InLevel {
        /// The level's id.
        level: Arc<str>,
        /// The last checkpoint reached, or the one where the level was entered.
        checkpoint: Option<Arc<str>>,
    },
    /// After a game over, until the next run begins.
    RunOver,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Menu => f.pad("menu"),
            Place::InLevel { level, checkpoint: None } => f.pad(level),
            Place::InLevel { level, checkpoint: Some(checkpoint) } => f.pad(&format!("{level} at {checkpoint}")),
            Place::RunOver => f.pad("run over"),
        }
    }
}

/// A checkpoint of a level.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Checkpoint {
    /// One that the level lists, by its place in the list.
    Listed(u32),
    /// One of a level that lists none.
    Named(Arc<str>),
}

impl Checkpoint {
    pub fn name(&self, spec: &SpecData, level: u32) -> Arc<str> {
        match self {
            Checkpoint::Listed(index) => spec.level(level).checkpoints[*index as usize].clone(),
            Checkpoint::Named(name) => name.clone(),
        }
    }

    /// From 1; 0 for one that is not listed.
    pub fn index(&self) -> i64 {
        match self {
            Checkpoint::Listed(index) => i64::from(*index) + 1,
            Checkpoint::Named(_) => 0,
        }
    }
}

/// Where the player stands in a level.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Standing {
    pub level: u32,
    pub checkpoint: Option<Checkpoint>,
    /// The checkpoint at which the level was entered: a restart comes back to it.
    pub entered_at: Option<Checkpoint>,
}

/// A [`Place`] by number.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) enum Spot {
    #[default]
    Menu,
    Level(Standing),
    RunOver,
}

impl Spot {
    #[inline]
    pub fn is_level(&self) -> bool {
        matches!(self, Spot::Level(_))
    }

    pub fn standing(&self) -> Option<&Standing> {
        match self {
            Spot::Level(standing) => Some(standing),
            _ => None,
        }
    }

    pub fn level(&self) -> Option<u32> {
        self.standing().map(|standing| standing.level)
    }

    pub fn named(&self, spec: &SpecData) -> Place {
        match self {
            Spot::Menu => Place::Menu,
            Spot::RunOver => Place::RunOver,
            Spot::Level(standing) => standing.named(spec),
        }
    }
}

impl Standing {
    pub fn named(&self, spec: &SpecData) -> Place {
        Place::InLevel {
            level: spec.level(self.level).id.clone(),
            checkpoint: self.checkpoint.as_ref().map(|checkpoint| checkpoint.name(spec, self.level)),
        }
    }
}
