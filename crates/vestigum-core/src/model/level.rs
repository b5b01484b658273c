//! Levels, when they open, and derived values.

use std::sync::Arc;

use indexmap::IndexSet;
use rustc_hash::FxBuildHasher;

use crate::model::expression::Expression;

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

    /// The checkpoints in the order of the way, where the level lists any.
    pub fn checkpoints(&self) -> impl ExactSizeIterator<Item = &str> {
        self.checkpoints.iter().map(|name| &**name)
    }
}

/// When a level opens.
#[derive(Debug)]
pub enum Opening {
    Always,
    After(u32),
    When(Expression),
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
}

impl Derived {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }
}
