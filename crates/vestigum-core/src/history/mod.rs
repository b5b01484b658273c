//! The history: the shape of every version that players have.
//!
//! A [`History`] is kept beside the spec, in version control. [`History::freeze`] puts the shape of the spec's version
//! into it when that version ships: its fields, types, axes, ranges, spans and defaults, its levels, checkpoints, keys
//! and choices. A spec that is read with its history ([`crate::Spec::from_toml_with_history`]) knows how to read the saves of
//! all those versions, and refuses a change that would lose something without a migration saying so. The steps that lead to
//! a version are frozen with it: changed afterwards, they would make other saves of those who come later.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_core::History;
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

#[doc(hidden)]
pub mod file;
#[doc(hidden)]
pub mod shape;

use std::sync::Arc;

use shape::Shape;

use crate::diagnostic::Diagnostics;
use crate::model::Model;

/// The shapes of the versions that players have, one after the other.
#[derive(Clone, Debug, Default)]
pub struct History {
    pub(crate) game: String,
    pub(crate) frozen: Vec<Arc<Frozen>>,
}

/// The shape of one version.
#[derive(Debug)]
pub struct Frozen {
    /// What the history file holds of it.
    pub shape: Shape,
    /// What reads its saves.
    pub model: Arc<Model>,
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

    /// The id of the game.
    pub(crate) fn game(&self) -> &str {
        &self.game
    }

    /// The model of a frozen version: its shape, without rules.
    #[doc(hidden)]
    pub fn model(&self, version: i64) -> Option<&Arc<Model>> {
        self.frozen.iter().find(|frozen| frozen.shape.version == version).map(|frozen| &frozen.model)
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
    /// The shape of a model.
    pub fn of(model: &Arc<Model>) -> Frozen {
        let shape = Shape::of(model);
        // The shape of a sound spec is sound; with less in it nothing can be wrong that was not before.
        let model = shape.model(&model.id).map_or_else(|_| model.clone(), Arc::new);
        Frozen { shape, model }
    }
}
