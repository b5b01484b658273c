//! Steps that need code.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::image::Image;

/// Describes what a hook says when it cannot migrate a save. Nothing of the save is changed then.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("`{field}`: {why}")]
pub struct HookError {
    /// The field that is in the way, as it is called in the old save.
    pub field: String,
    /// Says why.
    pub why: String,
}

impl HookError {
    /// A field that cannot be migrated, and why.
    pub fn new(field: &str, why: impl Into<String>) -> HookError {
        HookError { field: field.to_owned(), why: why.into() }
    }
}

/// The game's code for one migration: it gets the old image, and finishes the new one.
pub type Hook = dyn Fn(&Image, &mut Image) -> Result<(), HookError> + Send + Sync;

/// The hooks of a game, by the version that each leads to.
#[derive(Clone, Default)]
pub struct Hooks {
    known: BTreeMap<i64, Arc<Hook>>,
    /// Whether migrations go on where a hook is missing: for tools that look at everything else.
    left_out: bool,
}

impl Hooks {
    /// Gives the migration to a version its code.
    pub fn add(&mut self, to: i64, hook: Arc<Hook>) {
        self.known.insert(to, hook);
    }

    /// From now on a hook that is missing stops nothing.
    pub fn leave_out(&mut self) {
        self.left_out = true;
    }

    /// Returns whether a hook that is missing stops nothing.
    pub fn are_left_out(&self) -> bool {
        self.left_out
    }

    /// The code of the migration to a version.
    pub fn get(&self, to: i64) -> Option<&Hook> {
        self.known.get(&to).map(|hook| &**hook)
    }
}

impl fmt::Debug for Hooks {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.known.keys()).finish()
    }
}
