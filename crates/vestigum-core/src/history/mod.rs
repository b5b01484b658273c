//! The history: the shape of every version that players have.
//!
//! A [`History`] is kept beside the spec, in version control. [`History::freeze`] puts the shape of the spec's version
//! into it when that version ships: its fields, types, axes, ranges, spans and defaults, its levels, checkpoints, keys
//! and choices. A spec that is read with its history ([`Spec::from_toml_with_history`]) knows how to read the saves of
//! all those versions, and refuses a change that would lose something without a migration saying so. The steps that lead to
//! a version are frozen with it: changed afterwards, they would make other saves of those who come later.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_core::history::History;
//!
//! let first = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"old_mill\"]\n";
//! let shipped = Spec::from_toml(first)?;
//! let history = History::default().freeze(&shipped)?.history.to_json();
//!
//! let renamed = "[game]\nid = \"fellpost\"\nversion = 2\n[levels]\norder = [\"mill_lane\"]\n";
//! let refused = Spec::from_toml_with_history(renamed, &history).unwrap_err();
//! assert_eq!(refused.list()[0].code, "V304");
//! assert_eq!(refused.list()[0].message, "version 1 has the level `old_mill`, and version 2 has none of that name");
//!
//! let step = "[[migration]]\nto = 2\nsteps = [{ rename = \"level\", from = \"old_mill\", to = \"mill_lane\" }]\n";
//! Spec::from_toml_with_history(&format!("{renamed}{step}"), &history)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod file;
mod shape;

use std::sync::Arc;

use thiserror::Error;

use crate::diagnostic::Diagnostics;
use crate::migration::recorded;
use crate::spec::Spec;
use shape::Shape;
pub(crate) use shape::choices;

/// The shapes of the versions that players have, one after the other.
#[derive(Clone, Debug, Default)]
pub struct History {
    game: String,
    frozen: Vec<Arc<Frozen>>,
}

/// The shape of one version.
#[derive(Debug)]
struct Frozen {
    shape: Shape,
    spec: Spec,
}

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
    /// Reads a history file.
    ///
    /// # Errors
    /// What is wrong with it and where: it is no JSON, was edited by hand, or leaves a version out.
    pub fn from_json(name: &str, text: &str) -> Result<History, Diagnostics> {
        file::read(text).map_err(|error| Diagnostics::new(name, text, vec![error]))
    }

    /// The history file: JSON with a line for each thing, so that version control shows what an update changed.
    pub fn to_json(&self) -> String {
        file::write(self)
    }

    /// The frozen versions, oldest first.
    pub fn versions(&self) -> impl DoubleEndedIterator<Item = i64> + ExactSizeIterator {
        self.frozen.iter().map(|frozen| frozen.shape.version)
    }

    /// Whether no version was frozen yet.
    pub fn is_empty(&self) -> bool {
        self.frozen.is_empty()
    }

    /// Puts the shape of the spec's version into the history.
    ///
    /// # Errors
    /// If the version does not follow the newest one, or is frozen already with a shape that the spec has left.
    pub fn freeze(&self, spec: &Spec) -> Result<Freezing, FreezeError> {
        let version = spec.version();
        let mut history = self.clone();
        let Some(newest) = self.frozen.last() else {
            history.game = spec.id().to_owned();
            history.frozen.push(Arc::new(Frozen::of(spec)));
            return Ok(Freezing { history, done: Froze::New });
        };
        if self.game != spec.id() {
            return Err(FreezeError::OtherGame { found: self.game.clone(), wanted: spec.id().to_owned() });
        }
        let newest_version = newest.shape.version;
        if version != newest_version && version != newest_version + 1 {
            return Err(FreezeError::OutOfOrder { version, newest: newest_version });
        }
        let mut frozen = Frozen::of(spec);
        let entry = spec.0.document.migrations.iter().find(|entry| entry.to.value == version);
        // Nothing leads to the first version.
        let led_to = self.frozen.len() > 1 || version > newest_version;
        frozen.shape.migration = led_to.then(|| recorded(entry));
        if version == newest_version {
            if frozen.shape == newest.shape {
                return Ok(Freezing { history, done: Froze::Unchanged });
            }
            let other_steps = newest.shape.migration.is_some() && newest.shape.migration != frozen.shape.migration;
            if other_steps || !crate::migration::is_compatible(&newest.spec, spec) {
                return Err(FreezeError::Incompatible { version });
            }
            history.frozen.pop();
        }
        history.frozen.push(Arc::new(frozen));
        let done = if version == newest_version { Froze::Grown } else { Froze::New };
        Ok(Freezing { history, done })
    }

    /// The id of the game.
    pub(crate) fn game(&self) -> &str {
        &self.game
    }

    /// The spec of a frozen version: its shape, without rules.
    pub(crate) fn spec(&self, version: i64) -> Option<&Spec> {
        self.frozen.iter().find(|frozen| frozen.shape.version == version).map(|frozen| &frozen.spec)
    }

    /// The steps that led to a frozen version when it shipped, as [`recorded`] writes them.
    pub(crate) fn steps_to(&self, version: i64) -> Option<&[String]> {
        self.frozen.iter().find(|frozen| frozen.shape.version == version)?.shape.migration.as_deref()
    }

    pub(crate) fn oldest(&self) -> Option<i64> {
        self.versions().next()
    }

    pub(crate) fn newest(&self) -> Option<i64> {
        self.versions().next_back()
    }
}

impl Frozen {
    fn of(spec: &Spec) -> Frozen {
        let shape = Shape::of(spec);
        // The shape of a sound spec is sound; with less in it nothing can be wrong that was not before.
        let spec = shape.spec(spec.id()).unwrap_or_else(|_| spec.clone());
        Frozen { shape, spec }
    }
}
