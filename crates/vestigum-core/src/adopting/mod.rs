//! Saves that a game wrote before it had a spec, taken over by a map.
//!
//! A **map** is a small TOML document: which value of an old JSON save goes into which field. [`Adoption`] reads it for a spec, and
//! makes images of old saves. Nothing of an old save is lost silently: the [`AdoptReport`] tells what was taken, what the map looked for
//! and did not find, and every value of the old save that nobody took.
//!
//! The image is then loaded like any other: what does not fit its field is dropped or brought into its limits, and that is reported, too.
//!
//! `path` finds values in an old save, `convert` makes them fit, `map` reads the document.

mod convert;
mod map;
mod path;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

use indexmap::IndexSet;
use thiserror::Error;

use crate::adopting::convert::Key;
use crate::adopting::map::{AdoptMap, Take, key_names};
use crate::adopting::path::{Found, children};
use crate::diagnostic::Diagnostics;
use crate::image::report::{LoadError, LoadReport, SavedName};
use crate::image::write::place_entry;
use crate::image::{Image, SavedPlace};
use crate::model::field::Field;
use crate::progress::Progress;
use crate::spec::Spec;
use crate::value::tree::{Moved, Tree, Values};
use crate::vocabulary::owner::Owner;
use crate::vocabulary::span::Span;

/// How the JSON saves of a game become those of a spec.
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

/// What became of an old save.
#[derive(Debug)]
#[non_exhaustive]
pub struct Adopted {
    /// The profile's image, ready for a store.
    pub profile: Image,
    /// The device's image, if the map takes something for it.
    pub device: Option<Image>,
    /// The progress that a game would load from them.
    pub progress: Progress,
    /// What was taken, and what was not.
    pub report: AdoptReport,
}

/// What of an old save was taken, and what was not.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct AdoptReport {
    /// What went where.
    pub taken: Vec<Taken>,
    /// What the map looks for and the save does not have: the field, and the path.
    pub missing: Vec<(String, String)>,
    /// What could not be taken: its path, and why.
    pub refused: Vec<(String, String)>,
    /// What nobody took, by path. What the map names under `left` is not among it.
    pub left: Vec<String>,
    /// What loading the image then did: fields that keep their defaults, and values that did not fit.
    pub load: LoadReport,
}

/// A value that was taken.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Taken {
    /// Where it was.
    pub path: String,
    /// Where it is.
    pub name: SavedName,
    /// What it is there, before its limits.
    pub value: Tree,
}

/// Why an old save was not taken over at all.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum AdoptError {
    /// It is not JSON, or has more values than a save of its size can have.
    #[error("it cannot be read as JSON: {0}")]
    Json(serde_json::Error),
    /// The image that was made of it does not load.
    #[error(transparent)]
    Load(#[from] LoadError),
}

impl AdoptReport {
    /// Whether everything was taken just as it was: nothing left, refused, dropped or brought into its limits.
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

    /// Whether the map says that nobody wants it.
    fn is_unwanted(&self, at: &[String]) -> bool {
        self.map.left.iter().any(|path| path.covers(at))
    }

    /// Makes images of an old save.
    ///
    /// # Errors
    /// If the bytes are no JSON. Everything else is told by the report.
    pub fn adopt(&self, json: &[u8], profile: &str) -> Result<Adopted, AdoptError> {
        let old = Tree::from_json(json).map_err(AdoptError::Json)?;
        let mut taking =
            Taking { adoption: self, report: AdoptReport::default(), used: BTreeSet::new(), made: BTreeMap::new() };
        let (mut of_profile, mut of_device) = (Values::new(), Values::new());
        for take in &self.map.takes {
            let field = &self.spec.model().fields[take.field];
            let values = if field.lasts() == Span::Device { &mut of_device } else { &mut of_profile };
            taking.take(take, field, &old, values);
        }
        let Taking { mut report, used, made, .. } = taking;
        let taken = |at: &[String]| (1..=at.len()).any(|parts| used.contains(&at[..parts]));
        leaves(&old, &mut Vec::new(), &mut |at| {
            if !taken(at) && !self.is_unwanted(at) {
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
            moved: Moved::default(),
            blobs: Default::default(),
        };
        let of_player = image(Owner::Profile(profile.to_owned()), made, of_profile);
        let device = (!of_device.is_empty()).then(|| image(Owner::Device, BTreeMap::new(), of_device));
        let mut loaded = Progress::load(&self.spec, Some(&of_player), device.as_ref())?;
        report.load = loaded.report;
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

/// A save that is being taken over.
struct Taking<'a> {
    adoption: &'a Adoption,
    report: AdoptReport,
    /// The places of what was taken.
    used: BTreeSet<Vec<String>>,
    /// The keys that are made at run time, by set.
    made: BTreeMap<Arc<str>, IndexSet<Arc<str>>>,
}

impl Taking<'_> {
    fn take(&mut self, take: &Take, field: &Field, old: &Tree, values: &mut Values) {
        let found = take.path.find(old);
        let starred = take.keys.iter().position(Option::is_none);
        if found.is_empty() {
            let keys: Vec<&str> = take.keys.iter().map(|key| key.as_deref().unwrap_or("*")).collect();
            let keys = if keys.is_empty() { String::new() } else { format!("[{}]", keys.join(", ")) };
            self.report.missing.push((format!("{}{keys}", field.name()), take.path.to_string()));
            return;
        }
        for Found { at, star, tree } in found {
            self.used.insert(at.clone());
            let path = at.join(".");
            let Some(axis_at) = starred else {
                self.put(take, field, &take.keys, None, (&path, tree), values);
                continue;
            };
            let axis = self.adoption.spec.model().axis_word(field.axes()[axis_at]).to_owned();
            let olds = match star {
                Some(star) => vec![star],
                // One value for all keys, of each of which something is asked.
                None => self.old_names(&axis),
            };
            for old in olds {
                match self.key(&axis, &old) {
                    // A level that stands outside the order has no position.
                    Some((_, key)) if key.position == 0 && take.conversion.asks_position() => {}
                    Some((name, key)) => {
                        let mut keys = take.keys.clone();
                        keys[axis_at] = Some(name);
                        self.put(take, field, &keys, Some(&key), (&path, tree), values);
                    }
                    None if self.adoption.is_unwanted(&at) => {}
                    None => {
                        let why = format!("no {axis} is called `{old}`; `[names.{axis}]` can say which one is meant");
                        self.report.refused.push((path.clone(), why));
                    }
                }
            }
        }
    }

    fn put(
        &mut self,
        take: &Take,
        field: &Field,
        keys: &[Option<String>],
        key: Option<&Key>,
        (path, tree): (&str, &Tree),
        values: &mut Values,
    ) {
        let keys: Vec<Arc<str>> = keys.iter().flatten().map(|key| key.as_str().into()).collect();
        match take.conversion.of(tree, field.ty(), key) {
            Err(why) => self.report.refused.push((path.to_owned(), why)),
            Ok(value) => {
                self.make(field, &keys);
                let name = SavedName { field: field.name().into(), keys: keys.clone(), inside: String::new() };
                self.report.taken.push(Taken { path: path.to_owned(), name, value: value.clone() });
                let names: Vec<Arc<str>> = [field.name().into()].into_iter().chain(keys).collect();
                place_entry(values, &names, value);
            }
        }
    }

    /// Makes the keys of open sets that have to be made.
    fn make(&mut self, field: &Field, keys: &[Arc<str>]) {
        let model = self.adoption.spec.model();
        for (axis, key) in field.axes().iter().zip(keys).filter(|(axis, _)| model.is_open(**axis)) {
            self.made.entry(model.axis_word(*axis).into()).or_default().insert(key.clone());
        }
    }

    /// What the old saves call each key of an axis.
    fn old_names(&self, axis: &str) -> Vec<String> {
        let known = key_names(self.adoption.spec.model(), axis).map(|known| known.names).unwrap_or_default();
        let named = self.adoption.map.names.get(axis);
        let old = |now: &str| {
            named.and_then(|named| named.iter().find(|(_, name)| **name == now)).map(|(old, _)| old.clone())
        };
        known.into_iter().map(|now| old(now).unwrap_or_else(|| now.to_owned())).collect()
    }

    /// The key that an old name means.
    fn key(&self, axis: &str, old: &str) -> Option<(String, Key)> {
        let known = key_names(self.adoption.spec.model(), axis)?;
        let named = self.adoption.map.names.get(axis).and_then(|named| named.get(old));
        let name = named.map_or(old, String::as_str);
        let position = match (known.names.iter().position(|known| *known == name), known.closed) {
            (Some(position), _) if position < known.in_order => position + 1,
            (Some(_), _) | (None, false) => 0,
            (None, true) => return None,
        };
        Some((name.to_owned(), Key { old: old.to_owned(), position }))
    }
}

/// Every value of a tree that has nothing in it, by its place. An empty list or map is one.
fn leaves(tree: &Tree, at: &mut Vec<String>, each: &mut impl FnMut(&[String])) {
    let inside = children(tree);
    if inside.is_empty() {
        if !at.is_empty() {
            each(at);
        }
        return;
    }
    for (name, tree) in inside {
        at.push(name);
        leaves(tree, at, each);
        at.pop();
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
