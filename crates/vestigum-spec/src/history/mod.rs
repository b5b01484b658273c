//! The history: the shape of every version that players have.
//!
//! A [`History`] is kept beside the spec, in version control. [`History::freeze`] puts the shape of the spec's version
//! into it when that version ships: its fields, types, axes, ranges, spans and defaults, its levels, checkpoints, keys
//! and choices. A spec that is read with its history ([`CheckedSpec::from_named_toml_with_history`](crate::CheckedSpec::from_named_toml_with_history)) knows how to read the saves of
//! all those versions, and refuses a change that would lose something without a migration saying so. The steps that lead to
//! a version are frozen with it: changed afterwards, they would make other saves of those who come later.
//!
//! ```
//! use vestigum_spec::{CheckedSpec, History};
//!
//! let first = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"old_mill\"]\n";
//! let shipped = CheckedSpec::from_named_toml("first.toml", first)?;
//! let history = History::default().freeze(&shipped)?.history;
//!
//! let renamed = "[game]\nid = \"fellpost\"\nversion = 2\n[levels]\norder = [\"mill_lane\"]\n";
//! let refused = CheckedSpec::from_named_toml_with_history("renamed.toml", renamed, history.clone()).unwrap_err();
//! assert_eq!(refused.list()[0].code, "V304");
//! assert_eq!(refused.list()[0].message, "version 1 has the level `old_mill`, and version 2 has none of that name");
//!
//! let step = "[[migration]]\nto = 2\nsteps = [{ rename = \"level\", from = \"old_mill\", to = \"mill_lane\" }]\n";
//! CheckedSpec::from_named_toml_with_history("renamed.toml", &format!("{renamed}{step}"), history)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub(crate) mod codes;
pub(crate) mod file;
pub(crate) mod growth;
pub(crate) mod shape;
pub(crate) mod union;

pub use shape::choices;

use std::sync::Arc;

use shape::Shape;
use union::Union;

use crate::diagnostic::Diagnostics;
use crate::model::Model;

/// The shapes that players have saves of, by version. A version has one shape when it ships, and another one for each patch and for each
/// branch that was frozen under its number.
#[derive(Clone, Debug, Default)]
pub struct History {
    pub(crate) game: String,
    /// By version, and then by digest.
    pub(crate) frozen: Vec<Arc<Frozen>>,
    versions: Vec<FrozenVersion>,
}

/// One version, with all the shapes that were frozen under its number.
#[derive(Clone, Debug)]
pub struct FrozenVersion {
    /// Its number.
    pub version: i64,
    /// The union of its shapes.
    pub shape: Arc<Shape>,
    /// Reads the saves of all of them.
    pub model: Arc<Model>,
    /// Lists what its shapes say in different ways, so that one model cannot read the saves of all.
    pub conflicts: Vec<String>,
}

/// The shape of one version.
#[derive(Debug)]
pub struct Frozen {
    /// Says what the history file holds of it.
    pub shape: Shape,
    /// Says what reads its saves.
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

    /// The frozen versions, oldest first. One that was patched is there once.
    pub fn versions(&self) -> impl DoubleEndedIterator<Item = i64> + ExactSizeIterator {
        self.versions.iter().map(|frozen| frozen.version)
    }

    /// Counts the shapes that were frozen under a version's number: 0 if it was never frozen.
    pub fn shapes(&self, version: i64) -> usize {
        self.models_of(version).len()
    }

    /// Returns the models of those shapes, each once: one shape can be recorded again with more steps that lead to it.
    #[doc(hidden)]
    pub fn models_of(&self, version: i64) -> Vec<&Arc<Model>> {
        let mut models: Vec<&Arc<Model>> = Vec::new();
        for frozen in self.shapes_of(version) {
            if !models.iter().any(|known| known.shape == frozen.model.shape) {
                models.push(&frozen.model);
            }
        }
        models
    }

    /// Returns what was frozen under a version's number, by digest.
    #[doc(hidden)]
    pub fn shapes_of(&self, version: i64) -> impl Iterator<Item = &Arc<Frozen>> {
        self.frozen.iter().filter(move |frozen| frozen.shape.version == version)
    }

    #[doc(hidden)]
    pub fn version(&self, version: i64) -> Option<&FrozenVersion> {
        self.versions.iter().find(|frozen| frozen.version == version)
    }

    /// Puts shapes into their order and unites those of each version.
    pub(crate) fn new(game: String, mut frozen: Vec<Arc<Frozen>>) -> History {
        let key = |frozen: &Arc<Frozen>| (frozen.shape.version, frozen.shape.digest());
        frozen.sort_by_cached_key(key);
        frozen.dedup_by(|one, other| one.shape == other.shape);
        let mut versions: Vec<FrozenVersion> = Vec::new();
        for shapes in frozen.chunk_by(|one, other| one.shape.version == other.shape.version) {
            let Some(first) = shapes.first() else { continue };
            let version = first.shape.version;
            let same = shapes.iter().all(|frozen| frozen.model.shape == first.model.shape);
            let united = Union::of(shapes.iter().map(|frozen| &frozen.shape)).filter(|_| !same);
            let Some((shape, mut conflicts)) = united else {
                let (shape, model) = (Arc::new(first.shape.clone()), first.model.clone());
                versions.push(FrozenVersion { version, shape, model, conflicts: Vec::new() });
                continue;
            };
            let model = shape.model(&game).map(Arc::new).unwrap_or_else(|why| {
                conflicts.push(why);
                first.model.clone()
            });
            versions.push(FrozenVersion { version, shape: Arc::new(shape), model, conflicts });
        }
        History { game, frozen, versions }
    }

    /// Returns whether no version was frozen yet.
    pub fn is_empty(&self) -> bool {
        self.frozen.is_empty()
    }

    /// The id of the game.
    pub(crate) fn game(&self) -> &str {
        &self.game
    }

    /// The model of a frozen version: all its shapes as one, without rules.
    #[doc(hidden)]
    pub fn model(&self, version: i64) -> Option<&Arc<Model>> {
        self.version(version).map(|frozen| &frozen.model)
    }

    /// The frozen shape that an image names.
    #[doc(hidden)]
    pub fn shape(&self, version: i64, id: &str) -> Option<&Arc<Frozen>> {
        self.shapes_of(version).find(|frozen| *frozen.model.shape == *id)
    }

    /// The oldest version that was frozen; none while nothing was.
    #[doc(hidden)]
    pub fn oldest(&self) -> Option<i64> {
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
