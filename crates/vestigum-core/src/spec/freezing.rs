//! Freezing a version: its shape goes into the history when it ships.

use std::sync::Arc;

use thiserror::Error;

use crate::history::{Frozen, History};
use crate::migration::prepare::is_compatible;
use crate::migration::wording::recorded;
use crate::spec::Spec;

/// What freezing did.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Freezing {
    /// The history with the version in it.
    pub history: History,
    /// Whether it is another one than before.
    pub done: Froze,
}

/// What freezing found to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Froze {
    /// The version was not frozen yet.
    New,
    /// It was, and the spec has grown since in ways that lose nothing.
    Grown,
    /// It was, just as the spec is.
    Unchanged,
}

/// Why a version is not frozen. The history stays as it is.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum FreezeError {
    /// The history is of another game.
    #[error("the history is of the game `{found}`, and this spec is of `{wanted}`")]
    OtherGame {
        /// The game of the history.
        found: String,
        /// The game of the spec.
        wanted: String,
    },
    /// Versions are frozen one after the other.
    #[error("version {version} does not follow: the newest frozen version is {newest}, so the next one is {}", newest + 1)]
    OutOfOrder {
        /// The version of the spec.
        version: i64,
        /// The newest version of the history.
        newest: i64,
    },
    /// The version is frozen, and the spec has changed in a way that its saves would not survive.
    #[error(
        "version {version} is frozen already, and the spec has changed its shape since; `check` says what it needs"
    )]
    Incompatible {
        /// The version of the spec.
        version: i64,
    },
}

impl History {
    /// Puts the shape of the spec's version into the history.
    ///
    /// # Errors
    /// If the version does not follow the newest one, or is frozen already with a shape that the spec has left.
    pub fn freeze(&self, spec: &Spec) -> Result<Freezing, FreezeError> {
        let version = spec.version();
        let mut history = self.clone();
        let Some(newest) = self.frozen.last() else {
            history.game = spec.id().to_owned();
            history.frozen.push(Arc::new(Frozen::of(&spec.model)));
            return Ok(Freezing { history, done: Froze::New });
        };
        if self.game != spec.id() {
            return Err(FreezeError::OtherGame { found: self.game.clone(), wanted: spec.id().to_owned() });
        }
        let newest_version = newest.shape.version;
        if version != newest_version && version != newest_version + 1 {
            return Err(FreezeError::OutOfOrder { version, newest: newest_version });
        }
        let mut frozen = Frozen::of(&spec.model);
        let entry = spec.model.document.migrations.iter().find(|entry| entry.to.value == version);
        // Nothing leads to the first version.
        let led_to = self.frozen.len() > 1 || version > newest_version;
        frozen.shape.migration = led_to.then(|| recorded(entry));
        if version == newest_version {
            if frozen.shape == newest.shape {
                return Ok(Freezing { history, done: Froze::Unchanged });
            }
            let other_steps = newest.shape.migration.is_some() && newest.shape.migration != frozen.shape.migration;
            if other_steps || !is_compatible(&newest.model, &spec.model) {
                return Err(FreezeError::Incompatible { version });
            }
            history.frozen.pop();
        }
        history.frozen.push(Arc::new(frozen));
        let done = if version == newest_version { Froze::Grown } else { Froze::New };
        Ok(Freezing { history, done })
    }
}
