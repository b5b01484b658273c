//! Levels, when they open, and derived values.

use std::sync::Arc;

use indexmap::IndexSet;
use rustc_hash::FxBuildHasher;

use crate::model::axis::Axis;
use crate::model::expression::Expression;
use crate::value::types::Type;

/// Says what the ids of levels that players make begin with; their numbers follow, from 1.
pub const MADE_LEVEL: &str = "made_";

/// A level.
#[derive(Debug)]
#[non_exhaustive]
pub struct Level {
    #[doc(hidden)]
    pub id: Arc<str>,
    #[doc(hidden)]
    pub title: Option<String>,
    #[doc(hidden)]
    pub checkpoints: IndexSet<Arc<str>, FxBuildHasher>,
    /// The key of its first checkpoint on the axis of checkpoints.
    #[doc(hidden)]
    pub first_checkpoint_key: u32,
    #[doc(hidden)]
    pub next: Option<u32>,
    /// Its exits, each with the level to which it leads.
    #[doc(hidden)]
    pub exits: Vec<(Arc<str>, u32)>,
    /// The levels that have an exit leading to it, each once.
    #[doc(hidden)]
    pub entrances: Vec<u32>,
    #[doc(hidden)]
    pub asset: Option<String>,
}

impl Level {
    /// The name that saves and rules use.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// The name that players see: the title, or the id where there is none.
    pub fn title(&self) -> &str {
        self.title.as_deref().unwrap_or(&self.id)
    }

    /// The names of its exits.
    pub fn exits(&self) -> impl ExactSizeIterator<Item = &str> {
        self.exits.iter().map(|(name, _)| &**name)
    }

    /// Its file in the folder of `[levels] assets`: what `asset` says. Where it says nothing, the id,
    /// which stands for a file of that name with any extension.
    pub fn asset(&self) -> &str {
        self.asset.as_deref().unwrap_or(&self.id)
    }

    /// The level to which an exit leads.
    #[doc(hidden)]
    pub fn exit(&self, name: &str) -> Option<u32> {
        self.exits.iter().find(|(exit, _)| **exit == *name).map(|(_, level)| *level)
    }

    /// The checkpoints in the order of the way, where the level lists any.
    pub fn checkpoints(&self) -> impl ExactSizeIterator<Item = &str> {
        self.checkpoints.iter().map(|name| &**name)
    }
}

/// When a level opens.
#[derive(Debug)]
pub enum Opening {
    /// It is always open.
    Always,
    /// After a level was completed.
    After(u32),
    /// Once a condition has held.
    When(Expression),
    /// Only when it is reached by an exit of another level.
    ByExit,
    /// While a player has made it.
    Made,
}

/// A value computed from others when it is read.
#[derive(Debug)]
#[non_exhaustive]
pub struct Derived {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub expression: Expression,
    /// 1 if it reads no other derived value, else one more than the deepest of those.
    #[doc(hidden)]
    pub depth: usize,
    /// Says what it has a value for each of: its values for each key stand right before it.
    #[doc(hidden)]
    pub axis: Option<Axis>,
    #[doc(hidden)]
    pub label: Option<Arc<str>>,
    #[doc(hidden)]
    pub keys: u32,
    /// Whether it is the value for one key of another.
    #[doc(hidden)]
    pub is_of_key: bool,
}

impl Derived {
    /// Its name; with the key in brackets where it is the value for one key of another.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns what it has a value for each of: levels or the keys of a set; none where it has one value.
    pub fn axis(&self) -> Option<Axis> {
        self.axis
    }

    /// Returns what players call it, where the spec says it.
    pub fn label(&self) -> Option<&str> {
        self.label.as_deref()
    }

    /// The type of its value.
    pub fn ty(&self) -> &Type {
        self.expression.ty()
    }

    /// The expression as the document says it.
    pub fn source(&self) -> &str {
        self.expression.source()
    }
}
