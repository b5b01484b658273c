//! Saves that a game wrote before it had a spec, taken over by a map.
//!
//! A **map** is a small TOML document: which value of an old JSON save goes into which field. [`Adoption`] reads it for a spec, and
//! makes images of old saves. Nothing of an old save is lost silently: the [`AdoptReport`] tells what was taken, what the map looked for
//! and did not find, and every value of the old save that nobody took.
//!
//! The image is then loaded like any other: what does not fit its field is dropped or brought into its limits, and that is reported, too.
//!
//! `path` finds values in an old save, `number` keeps large ones exact, `convert` makes them fit; `map` reads the document, and `making` its
//! expressions; `taking` takes what the map says.

mod convert;
mod making;
mod map;
mod number;
mod path;
mod taking;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::adopting::map::{AdoptMap, MadeField};
use crate::adopting::taking::{Taking, leaves, old_tree};
use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use crate::image::report::{LoadError, LoadReport, SavedName};
use crate::image::{Image, SavedPlace};
use crate::progress::Progress;
use crate::spec::Spec;
use crate::state::State;
use vestigum_spec::diagnostic::Diagnostics;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::tree::{Moved, Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::span::{Span, WrittenBy};

/// Describes how the JSON saves of a game become those of a spec.
///
/// ```
/// # use vestigum_core::Spec;
/// use vestigum_core::adopting::Adoption;
///
/// # let spec = Spec::from_toml(r#"
/// #     [game]
/// #     id = "fellpost"
/// #     [levels]
/// #     order = ["mill_lane", "heather_rise"]
/// #     [field.best_letters]
/// #     type = "int"
/// #     per = "level"
/// #     lasts = "profile"
/// #     on.complete = { max = "1" }
/// #     [field.best_time]
/// #     type = "int"
/// #     per = "level"
/// #     optional = true
/// #     lasts = "profile"
/// #     on.complete = { min = "1" }
/// # "#)?;
/// let adoption = Adoption::from_toml(&spec, r#"
///     [names.level]                                     # what the old saves call the levels
///     Level1 = "mill_lane"
///     Level2 = "heather_rise"
///     [take]
///     "best_letters[*]" = "levels.*.best"
///     "best_time[*]" = { from = "levels.*.seconds", times = 1000 }
///     "completed[*]" = { from = "unlocked", above = "position" }
/// "#)?;
/// let old = r#"{ "levels": { "Level1": { "best": 90, "seconds": 61.5 } }, "unlocked": 2, "theme": "dark" }"#;
/// let adopted = adoption.adopt(old.as_bytes(), "ada")?;
/// assert_eq!(adopted.progress.value("best_time", &["mill_lane"])?.as_int(), 61_500);
/// assert_eq!(adopted.report.left, ["theme"]);           // nobody took it
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Adoption {
    spec: Spec,
    map: AdoptMap,
}

/// Describes what became of an old save.
#[derive(Debug)]
#[non_exhaustive]
pub struct Adopted {
    /// The profile's image, ready for a store.
    pub profile: Image,
    /// The device's image, if the map takes something for it.
    pub device: Option<Image>,
    /// The progress that a game would load from them.
    pub progress: Progress,
    /// Says what was taken, and what was not.
    pub report: AdoptReport,
}

/// Describes what of an old save was taken, and what was not.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct AdoptReport {
    /// Says what went where.
    pub taken: Vec<Taken>,
    /// Says what the map looks for and the save does not have: the field, and the path.
    pub missing: Vec<(String, String)>,
    /// Says what could not be taken: its path, and why.
    pub refused: Vec<(String, String)>,
    /// Says what nobody took, by path. What the map names under `left` is not among it.
    pub left: Vec<String>,
    /// Fields that only rules at `complete` write and that hold nothing, though levels are completed: `[make]` can work them out.
    pub at_rules: Vec<Arc<str>>,
    /// Says what loading the image then did: fields that keep their defaults, and values that did not fit.
    pub load: LoadReport,
}

/// A value that was taken.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Taken {
    /// Says where it was.
    pub path: String,
    /// Says where it is.
    pub name: SavedName,
    /// Says what it is there, before its limits.
    pub value: Tree,
}

/// Describes why an old save was not taken over at all.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum AdoptError {
    /// It is not JSON, or reading it is estimated to take more than ten times its size in memory and more than 256 MiB.
    #[error("it cannot be read as JSON: {0}")]
    Json(serde_json::Error),
    /// The image that was made of it does not load.
    #[error(transparent)]
    Load(#[from] LoadError),
}

impl AdoptReport {
    /// Returns whether everything was taken just as it was: nothing left, refused, dropped or brought into its limits.
    pub fn is_whole(&self) -> bool {
        self.missing.is_empty()
            && self.refused.is_empty()
            && self.left.is_empty()
            && self.load.dropped.is_empty()
            && self.load.clamped.is_empty()
    }
}

impl Adoption {
    /// Reads a map for a spec.
    ///
    /// # Errors
    /// Everything that is wrong with the map, with its places: what is no TOML, fields, levels and keys that the spec does not have, a `*`
    /// that means nothing.
    pub fn from_toml(spec: &Spec, text: &str) -> Result<Adoption, Diagnostics> {
        Adoption::from_named_toml(spec, "the map", text)
    }

    /// As [`Adoption::from_toml`]; errors name the document.
    ///
    /// # Errors
    /// As [`Adoption::from_toml`].
    pub fn from_named_toml(spec: &Spec, name: &str, text: &str) -> Result<Adoption, Diagnostics> {
        let (map, errors) = map::read(text, spec.model());
        match errors.is_empty() {
            true => Ok(Adoption { spec: spec.clone(), map }),
            false => Err(Diagnostics::new(name, text, errors)),
        }
    }

    /// Makes images of an old save.
    ///
    /// # Errors
    /// If the bytes are no JSON. Everything else is told by the report.
    pub fn adopt(&self, json: &[u8], profile: &str) -> Result<Adopted, AdoptError> {
        let old = old_tree(json).map_err(AdoptError::Json)?;
        let mut taking = Taking {
            adoption: self,
            report: AdoptReport::default(),
            used: BTreeSet::new(),
            unused: BTreeSet::new(),
            named: BTreeSet::new(),
            unwanted: BTreeSet::new(),
            filled: BTreeMap::new(),
            made: BTreeMap::new(),
        };
        for path in &self.map.left {
            let found = path.find(&old);
            // A name that no save has is one that nobody meant.
            if found.is_empty() {
                taking.report.missing.push(("left".into(), path.to_string()));
            }
            taking.unwanted.extend(found.into_iter().map(|found| found.at));
        }
        let (mut of_profile, mut of_device) = (Values::new(), Values::new());
        for take in &self.map.takes {
            let field = &self.spec.model().fields[take.field];
            let values = if field.lasts() == Span::Device { &mut of_device } else { &mut of_profile };
            taking.take(take, field, &old, values);
        }
        let Taking { mut report, used, unused, named, unwanted, made, .. } = taking;
        let within =
            |places: &BTreeSet<Vec<String>>, at: &[String]| (1..=at.len()).any(|parts| places.contains(&at[..parts]));
        leaves(&old, &mut Vec::new(), &mut |at| {
            let taken = within(&used, at) && (within(&named, at) || !within(&unused, at));
            if !taken && !within(&unwanted, at) {
                report.left.push(at.join("."));
            }
        });
        let made = made.into_iter().map(|(set, names)| (set, names.into_iter().collect())).collect();
        let image = |owner, made, values| Image {
            game: self.spec.id().to_owned(),
            version: self.spec.version(),
            owner,
            generation: 0,
            saved_at: String::new(),
            place: SavedPlace::Menu,
            made,
            values,
            marks: None,
            shape: Some(self.spec.model().shape.clone()),
            moved: Moved::default(),
            origin: None,
            blobs: Default::default(),
        };
        let of_player = image(Owner::Profile(profile.to_owned()), made, of_profile);
        let device = (!of_device.is_empty()).then(|| image(Owner::Device, BTreeMap::new(), of_device));
        let mut loaded = Progress::load(&self.spec, Some(&of_player), device.as_ref())?;
        report.load = loaded.report;
        let mut changed = Vec::new();
        for MadeField { field, slots } in &self.map.makes {
            let (model, state) = (self.spec.model(), loaded.progress.state());
            let field = &model.fields[*field];
            for (slot, level, expression) in slots {
                let value = expression.value(&Env::new(model, state, *level, None));
                changed.push((*slot, field.limits.clamp(value).0));
            }
        }
        for (slot, value) in changed {
            loaded.progress.state_mut().write_through(slot, value);
        }
        report.at_rules = self.left_to_rules(loaded.progress.state());
        // What is completed opens what follows it, also where the old save knew nothing of open levels.
        loaded.progress.judge_openings();
        // What a save of the loaded progress holds is what the game would write: whole, in order, and inside its limits.
        let saved = loaded.progress.suspend();
        Ok(Adopted {
            profile: saved.profile_image(profile),
            device: device.map(|_| saved.device_image()),
            progress: loaded.progress,
            report,
        })
    }
}

impl Adoption {
    /// The per-level fields that only rules at `complete` write and that hold nothing, though levels are completed.
    fn left_to_rules(&self, state: &State) -> Vec<Arc<str>> {
        let model = self.spec.model();
        let completed = model.field(model.completed);
        if completed.slots().all(|slot| !state.value(slot).as_bool()) {
            return Vec::new();
        }
        let taken = |field: &Field| {
            let of = |at: usize| model.fields[at].id == field.id;
            self.map.takes.iter().any(|take| of(take.field)) || self.map.makes.iter().any(|made| of(made.field))
        };
        let by_rules = |field: &&Field| {
            let keeps = matches!(field.lasts, Span::Run | Span::Profile | Span::Device);
            keeps && !field.built_in && field.written_by == WrittenBy::Rules && field.is_per_level() && !taken(field)
        };
        let empty = |field: &&Field| field.slots().all(|slot| *state.value(slot) == field.default);
        model.fields.iter().filter(by_rules).filter(empty).map(|field| field.name.clone()).collect()
    }
}

impl fmt::Display for AdoptReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let values = if self.taken.len() == 1 { "value" } else { "values" };
        write!(f, "{} {values} taken", self.taken.len())?;
        for (field, path) in &self.missing {
            write!(f, "\n  nothing for {field}: there is no {path}")?;
        }
        for (path, why) in &self.refused {
            write!(f, "\n  not taken, {path}: {why}")?;
        }
        for path in &self.left {
            write!(f, "\n  left, {path}: nothing takes it")?;
        }
        if !self.at_rules.is_empty() {
            write!(f, "\n  left to rules, and at the default: {}", self.at_rules.join(", "))?;
        }
        for dropped in &self.load.dropped {
            write!(f, "\n  dropped {}: {}", dropped.what, dropped.why)?;
        }
        for clamped in &self.load.clamped {
            write!(f, "\n  {} was {}, outside its limits; it is {} now", clamped.name, clamped.was, clamped.is)?;
        }
        if !self.load.filled.is_empty() {
            write!(f, "\n  as for a newcomer: {}", self.load.filled.join(", "))?;
        }
        Ok(())
    }
}
