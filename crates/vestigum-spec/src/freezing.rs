//! Freezing a version: its shape goes into the history when it ships.

use std::sync::Arc;

use thiserror::Error;

use crate::checked::CheckedSpec;
use crate::history::{Frozen, History};
use crate::migration::prepare::is_compatible;
use crate::migration::wording::recorded;

/// Describes what freezing did.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Freezing {
    /// The history with the version in it.
    pub history: History,
    /// Whether it is another one than before.
    pub done: Froze,
}

/// Describes what freezing found to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Froze {
    /// The version was not frozen yet.
    New,
    /// It was, and the spec has grown since in ways that lose nothing: the shape that it has now is frozen beside the others.
    Grown,
    /// It was, in this shape: other steps lead to it now, or its codes carry something else, and that is recorded.
    Steps,
    /// It was, just as the spec is.
    Unchanged,
}

/// Describes why a version is not frozen. The history stays as it is.
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
    #[error("version {version} is out of sequence: versions {oldest} to {newest} are frozen, so the next one is {}", newest + 1)]
    OutOfOrder {
        /// The version of the spec.
        version: i64,
        /// The oldest version of the history.
        oldest: i64,
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
    /// Puts the shape of the spec's version into the history. A version that is frozen already gets one more shape, whether later versions
    /// have shipped since or not.
    ///
    /// # Errors
    /// If the version does not follow the newest one, or if a shape that is frozen under its number holds something that the spec
    /// has no place for.
    pub fn freeze(&self, spec: &impl AsRef<CheckedSpec>) -> Result<Freezing, FreezeError> {
        let model = spec.as_ref().model();
        let version = model.version;
        if !self.is_empty() && *self.game != *model.id {
            return Err(FreezeError::OtherGame { found: self.game.clone(), wanted: model.id.to_string() });
        }
        if let (Some(oldest), Some(newest)) = (self.oldest(), self.newest())
            && !(oldest..=newest + 1).contains(&version)
        {
            return Err(FreezeError::OutOfOrder { version, oldest, newest });
        }
        let mut frozen = Frozen::of(model);
        let before: Vec<String> = self.shapes_of(version - 1).map(|frozen| frozen.model.shape.to_string()).collect();
        // Nothing leads to the first version.
        if !before.is_empty() {
            let entry = model.document.migrations.iter().find(|entry| entry.to.value == version);
            frozen.shape.migration = Some(recorded(entry));
            frozen.shape.from = before;
        }
        let mut done = Froze::New;
        for known in self.shapes_of(version) {
            let same = done == Froze::Steps || known.model.shape == frozen.model.shape;
            done = if same { Froze::Steps } else { Froze::Grown };
            let steps = frozen.shape.migration.as_deref().unwrap_or_default();
            let other_steps = known.shape.migration.iter().flatten().any(|step| !steps.contains(step));
            if other_steps || !is_compatible(&known.model, model) {
                return Err(FreezeError::Incompatible { version });
            }
        }
        let unchanged = |known: &Arc<Frozen>| {
            let steps = known.shape.migration.is_none() || known.shape.migration == frozen.shape.migration;
            known.model.shape == frozen.model.shape && known.shape.codes == frozen.shape.codes && steps
        };
        if self.shapes_of(version).any(unchanged) {
            return Ok(Freezing { history: self.clone(), done: Froze::Unchanged });
        }
        let shapes = self.frozen.iter().cloned().chain([Arc::new(frozen)]);
        Ok(Freezing { history: History::new(model.id.to_string(), shapes.collect()), done })
    }

    /// Says what the saves of a spec can hold beyond every shape that was frozen under its version's number, a few words for each:
    /// `coins to 1000`, `late`. Players have no such saves before the spec ships, and it is frozen when it does. Empty for a spec
    /// whose version is not frozen, or frozen as it is.
    pub fn grown(&self, spec: &impl AsRef<CheckedSpec>) -> Vec<String> {
        self.growth(spec.as_ref().model())
    }
}
