//! Where the player stands, by number.

use std::sync::Arc;

use vestigum_spec::model::Model;
use vestigum_spec::vocabulary::place::Place;

/// A checkpoint of a level.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Checkpoint {
    /// One that the level lists, by its place in the list.
    Listed(u32),
    /// One of a level that lists none.
    Named(Arc<str>),
}

impl Checkpoint {
    pub fn name(&self, spec: &Model, level: u32) -> Arc<str> {
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

/// Describes where the player stands in a level.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct LevelPosition {
    pub level: u32,
    pub checkpoint: Option<Checkpoint>,
    /// The checkpoint at which the level was entered: a restart comes back to it.
    pub entered_at: Option<Checkpoint>,
}

/// A [`Place`] by number.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub enum Position {
    #[default]
    Menu,
    Level(LevelPosition),
    RunOver,
}

impl Position {
    #[inline]
    pub fn is_level(&self) -> bool {
        matches!(self, Position::Level(_))
    }

    pub fn level_position(&self) -> Option<&LevelPosition> {
        match self {
            Position::Level(standing) => Some(standing),
            Position::Menu | Position::RunOver => None,
        }
    }

    pub fn level(&self) -> Option<u32> {
        self.level_position().map(|standing| standing.level)
    }

    pub fn named(&self, spec: &Model) -> Place {
        match self {
            Position::Menu => Place::Menu,
            Position::RunOver => Place::RunOver,
            Position::Level(standing) => standing.named(spec),
        }
    }
}

impl LevelPosition {
    pub fn named(&self, spec: &Model) -> Place {
        Place::InLevel {
            level: spec.level(self.level).id.clone(),
            checkpoint: self.checkpoint.as_ref().map(|checkpoint| checkpoint.name(spec, self.level)),
        }
    }
}
