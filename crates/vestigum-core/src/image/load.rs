//! Bringing an image under a spec.
//!
//! Nothing that an image of this game says stops it from being loaded: what is missing is filled with the default, what
//! the spec does not know is dropped, what lies outside its limits is brought inside, and all of it is reported.

use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::expression::Env;
use crate::fate::Simple;
use crate::migration::{Migrated, Step, migrate};
use crate::moment::Moment;
use crate::place::{Checkpoint, Place, Spot, Standing};
use crate::progress::{Found, entry_of};
use crate::spec::{Accept, Field, Resume, Span, Spec, SpecData, Touched, is_made_name};
use crate::state::State;
use crate::suspend::{project, resembled, resumes_at_entry, without_price};
use crate::value::Value;

use super::{Gone, Image, Owner, SavedPlace, Tree, Values, decode};

/// Why an image is not loaded. It stays as it is.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum LoadError {
    /// The image is of another game.
    #[error("the save is of the game `{found}`, and this is `{wanted}`; nothing was overwritten")]
    OtherGame {
        /// The game in the image.
        found: String,
        /// This game.
        wanted: String,
    },
    /// A newer version of the game wrote it.
    #[error(
        "the save is of version {found}, and this game knows versions up to {known}; update the game to play on, nothing was overwritten"
    )]
    NewerVersion {
        /// The version in the image.
        found: i64,
        /// The version of the spec.
        known: i64,
    },
    /// The image of a device was given for a profile, or the other way round.
    #[error("the save is of {found}, which is not what was to be loaded")]
    OtherOwner {
        /// Whose image it is.
        found: String,
    },
    /// The image is of an older version, and the game was built without the history that tells its shape.
    #[error(
        "the save is of version {found}, this game is of version {known} and has migrations, but no history to take them by; build it with `Spec::from_toml_with_history`, nothing was overwritten"
    )]
    NoHistory {
        /// The version in the image.
        found: i64,
        /// The version of the spec.
        known: i64,
    },
    /// The image is of a version that was never frozen.
    #[error(
        "the save is of version {found}, which was never frozen; the history begins with version {oldest}, nothing was overwritten"
    )]
    UnknownVersion {
        /// The version in the image.
        found: i64,
        /// The oldest version of the history.
        oldest: i64,
    },
    /// A step of a migration needs code that the game did not give.
    #[error("the migration to version {to} needs the game's code for {}; give it with `Spec::with_hook`, nothing was overwritten", fields.join(", "))]
    NoHook {
        /// The version that the migration leads to.
        to: i64,
        /// The fields that it makes.
        fields: Vec<String>,
    },
    /// The game's code panicked on the image.
    #[error("the migration to version {to} panicked in the game's code: {why}; nothing was overwritten")]
    HookPanicked {
        /// The version that the migration leads to.
        to: i64,
        /// What the panic said.
        why: String,
    },
    /// The game's code could not migrate the image.
    #[error(
        "the migration to version {to} failed in the game's code, at `{field}`, which is {value}: {why}; nothing was overwritten"
    )]
    Migration {
        /// The version that the migration leads to.
        to: i64,
        /// The field, as it is called in the version before.
        field: String,
        /// What the image says there.
        value: String,
        /// Why.
        why: String,
    },
}

/// Where the progress came from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Origin {
    /// There was no image.
    #[default]
    Fresh,
    /// The newest image.
    Loaded {
        /// Its generation.
        generation: u64,
    },
    /// An older image, because newer ones could not be read.
    Recovered {
        /// Its generation.
        generation: u64,
        /// The newer generations and what is wrong with them.
        passed_over: Vec<(u64, String)>,
    },
}

/// How the place differs from the one in the image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceChange {
    /// The place in the image.
    pub from: String,
    /// The place now.
    pub to: Place,
    /// Why.
    pub why: String,
}

/// What loading did.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct LoadReport {
    /// Where the profile's progress came from.
    pub origin: Origin,
    /// Where the device's progress came from.
    pub device_origin: Origin,
    /// The version of the image, if it is older than the spec.
    pub older_version: Option<i64>,
    /// Fields that the image does not have; they are at their defaults.
    pub filled: Vec<String>,
    /// Values that the spec has no place for, and why.
    pub dropped: Vec<(String, String)>,
    /// Values brought into their limits: the name, what the image said, what it is now.
    pub clamped: Vec<(String, Value, Value)>,
    /// The migrations that were taken, oldest first.
    pub migrated: Vec<Step>,
    /// How the place changed.
    pub place: Option<PlaceChange>,
}

impl LoadReport {
    /// Whether everything was loaded just as it was saved, from the newest image, or freshly begun.
    pub fn is_clean(&self) -> bool {
        !matches!(self.origin, Origin::Recovered { .. })
            && !matches!(self.device_origin, Origin::Recovered { .. })
            && self.filled.is_empty()
            && self.dropped.is_empty()
            && self.clamped.is_empty()
            && self.migrated.is_empty()
            && self.place.is_none()
    }
}

impl fmt::Display for LoadReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.origin {
            Origin::Fresh => f.write_str("a fresh profile")?,
            Origin::Loaded { generation } => write!(f, "loaded generation {generation}")?,
            Origin::Recovered { generation, .. } => write!(f, "recovered from generation {generation}")?,
        }
        for origin in [&self.origin, &self.device_origin] {
            if let Origin::Recovered { passed_over, .. } = origin {
                for (generation, why) in passed_over {
                    write!(f, "\n  passed over generation {generation}: {why}")?;
                }
            }
        }
        if let Some(version) = self.older_version {
            write!(f, "\n  saved by version {version} of the spec")?;
        }
        for step in &self.migrated {
            write!(f, "\n  migrated to version {}", step.to)?;
            step.told.iter().try_for_each(|told| write!(f, "\n    {told}"))?;
        }
        if !self.filled.is_empty() {
            write!(f, "\n  new, at the default: {}", self.filled.join(", "))?;
        }
        for (name, why) in &self.dropped {
            write!(f, "\n  dropped {name}: {why}")?;
        }
        for (name, was, is) in &self.clamped {
            write!(f, "\n  {name} was {was}, outside its limits; it is {is} now")?;
        }
        if let Some(PlaceChange { from, to, why }) = &self.place {
            write!(f, "\n  the place was {from} and is {to} now: {why}")?;
        }
        Ok(())
    }
}

/// The state that the images tell of, ready for the moment `launch`. Images of older versions are migrated first; the
/// images themselves stay as they are.
pub(crate) fn load(
    spec: &Spec,
    profile: Option<&Image>,
    device: Option<&Image>,
) -> Result<(State, LoadReport), LoadError> {
    let data = &*spec.0;
    let mut report = LoadReport::default();
    if let Some(image) = device {
        acceptable(data, image, matches!(image.owner, Owner::Device))?;
        report.device_origin = Origin::Loaded { generation: image.generation };
    }
    if let Some(image) = profile {
        acceptable(data, image, matches!(image.owner, Owner::Profile(_)))?;
        report.origin = Origin::Loaded { generation: image.generation };
        report.older_version = Some(image.version).filter(|version| *version < data.version);
    }
    let Migrated { profile, device, .. } = migrate(spec, profile, device, &mut report)?;
    let mut loader = Loader { spec: data, state: State::fresh(data), report };
    if let Some(image) = device {
        loader.values(&image.values, |field| field.lasts == Span::Device);
        loader.state.moved = (!image.moved.is_empty()).then(|| Arc::new(image.moved.clone()));
    }
    if let Some(image) = profile {
        loader.profile(&image);
    }
    Ok((loader.state, loader.report))
}

/// The values and marks of an image, read by the shape of the version that wrote it, and what did not fit. The place is
/// left out: the shape has no rules to leave a level by.
pub(crate) fn read_shape(spec: &SpecData, image: &Image) -> (State, LoadReport) {
    let mut loader = Loader { spec, state: State::fresh(spec), report: LoadReport::default() };
    match image.owner {
        Owner::Device => loader.values(&image.values, |field| field.lasts == Span::Device),
        Owner::Profile(_) => loader.player(image),
    }
    (loader.state, loader.report)
}

fn acceptable(spec: &SpecData, image: &Image, owner_fits: bool) -> Result<(), LoadError> {
    if image.game != *spec.id {
        return Err(LoadError::OtherGame { found: image.game.clone(), wanted: spec.id.to_string() });
    }
    if image.version > spec.version {
        return Err(LoadError::NewerVersion { found: image.version, known: spec.version });
    }
    if !owner_fits {
        return Err(LoadError::OtherOwner { found: image.owner.to_string() });
    }
    Ok(())
}

/// Where an image says that the player stood.
struct Saved<'a> {
    level: &'a str,
    checkpoint: Option<&'a str>,
    entered_at: Option<&'a str>,
    resume: Resume,
    gone: Option<&'a Gone>,
}

struct Loader<'a> {
    spec: &'a SpecData,
    state: State,
    report: LoadReport,
}

impl Loader<'_> {
    /// What an image of a player holds: names, values and marks.
    fn player(&mut self, image: &Image) {
        let in_level = matches!(image.place, SavedPlace::InLevel { .. });
        self.made(image);
        self.values(&image.values, |field| match field.lasts {
            Span::Run | Span::Profile => true,
            Span::Visit => in_level,
            Span::Attempt | Span::Session | Span::Device => false,
        });
        if in_level {
            self.marks(image);
        }
    }

    fn profile(&mut self, image: &Image) {
        self.player(image);
        match &image.place {
            SavedPlace::Menu => {}
            SavedPlace::RunOver => self.state.spot = Spot::RunOver,
            SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } => {
                let saved = Saved {
                    level,
                    checkpoint: checkpoint.as_deref(),
                    entered_at: entered_at.as_deref(),
                    resume: *resume,
                    gone: gone.as_ref(),
                };
                self.stand(image, saved);
            }
        }
    }

    fn values(&mut self, values: &Values, wanted: impl Fn(&Field) -> bool) {
        let spec = self.spec;
        for field in spec.fields.iter().filter(|field| wanted(field)) {
            let Some(tree) = values.get(&field.name) else {
                self.report.filled.push(field.name.to_string());
                continue;
            };
            for (slot, value) in self.entries(field, tree) {
                self.state.write(slot, value);
            }
        }
        for name in values.keys() {
            if !spec.find_field(name).is_some_and(&wanted) {
                self.drop(name.to_string(), "the spec saves no such field");
            }
        }
    }

    fn drop(&mut self, name: String, why: &str) {
        self.report.dropped.push((name, why.to_owned()));
    }

    /// The names that were made at run time, as far as the spec still has their sets and room for them.
    fn made(&mut self, image: &Image) {
        for (set, names) in &image.made {
            let found = self.spec.key_sets.iter().position(|declared| declared.name == *set);
            let Some(index) = found else {
                self.drop(set.to_string(), "there is no such key set");
                continue;
            };
            // A set that declares its names has those; what was kept under others says so itself.
            let Some(max) = self.spec.key_sets[index].max else { continue };
            for name in names {
                if self.state.made[index].len() < max as usize && is_made_name(name) {
                    self.state.made[index].insert(name.clone());
                } else {
                    self.drop(name.to_string(), &format!("there is no room for it in `{set}`"));
                }
            }
        }
    }

    /// The slots of a field that an image names, and their values.
    fn entries(&mut self, field: &Field, tree: &Tree) -> Vec<(usize, Value)> {
        let mut out = Vec::new();
        if field.is_keyed() {
            let depth = self.spec.key_words(field).len();
            self.keyed(field, tree, depth, &mut Vec::new(), &mut out);
        } else if let Some(value) = self.value(field, &field.name, tree) {
            out.push((field.first_slot, value));
        }
        out
    }

    /// Goes down one map for each axis.
    fn keyed<'t>(
        &mut self,
        field: &Field,
        tree: &'t Tree,
        depth: usize,
        names: &mut Vec<&'t str>,
        out: &mut Vec<(usize, Value)>,
    ) {
        let shown =
            if names.is_empty() { field.name.to_string() } else { format!("{}[{}]", field.name, names.join(", ")) };
        if depth == 0 {
            match entry_of(self.spec, field, names, &self.state.made) {
                Ok(Found::Slot(slot)) => out.extend(self.value(field, &shown, tree).map(|value| (slot, value))),
                Ok(Found::NotMade) => self.drop(shown, "its key was not made"),
                Err(error) => self.drop(shown, &error.to_string()),
            }
            return;
        }
        let Tree::Map(entries) = tree else {
            self.drop(shown, &format!("it is {}, and a value for each key is wanted", tree.kind()));
            return;
        };
        for (name, tree) in entries {
            names.push(name);
            self.keyed(field, tree, depth - 1, names, out);
            names.pop();
        }
    }

    fn value(&mut self, field: &Field, name: &str, tree: &Tree) -> Option<Value> {
        if field.optional && *tree == Tree::Null {
            return Some(Value::Unfilled);
        }
        let dropped = &mut self.report.dropped;
        let value = decode(tree, &field.ty, name, &mut |name, why| dropped.push((name, why)))?;
        let (inside, clamped) = field.limits.clamp(value.clone());
        if clamped {
            self.report.clamped.push((name.to_owned(), value, inside.clone()));
        }
        Some(inside)
    }

    fn marks(&mut self, image: &Image) {
        let Some(marks) = &image.marks else { return };
        let spec = self.spec;
        // What a mark drops or clamps, the value beside it does too, and that is reported already.
        let reported = self.report.clone();
        for field in spec.fields.iter().filter(|field| field.rewinds) {
            let mut entry: Vec<Value> = self.marked(field, &marks.entry);
            let mut checkpoint = self.marked(field, &marks.checkpoint);
            for slot in field.slots().rev() {
                let (Some(entry), Some(checkpoint)) = (entry.pop(), checkpoint.pop()) else { break };
                if field.lasts == Span::Attempt {
                    self.state.write(slot, entry.clone());
                }
                self.state.write_marks(slot, entry, checkpoint);
            }
        }
        self.report = reported;
    }

    /// All entries of a field in a mark. A field that the mark does not know is at its value.
    fn marked(&mut self, field: &Field, values: &Values) -> Vec<Value> {
        let Some(tree) = values.get(&field.name) else {
            return field.slots().map(|slot| self.state.value(slot).clone()).collect();
        };
        let mut out = vec![field.default.clone(); field.slots];
        for (slot, value) in self.entries(field, tree) {
            out[slot - field.first_slot] = value;
        }
        out
    }

    /// Puts the player back into the level, or as near as this spec allows.
    fn stand(&mut self, image: &Image, saved: Saved<'_>) {
        let spec = self.spec;
        let Saved { level, checkpoint: at, entered_at, resume, gone } = saved;
        let (index, of) = match gone {
            Some(Gone::Level { version }) => (None, format!(" of version {version}")),
            Some(Gone::Checkpoint { .. }) | None => (spec.level_ids.get(level).copied(), String::new()),
        };
        let (Some(index), false) = (index, spec.resume == Resume::None) else {
            let why = match index {
                None => format!("there is no level `{level}`{of} any more"),
                Some(_) => "levels are not resumed any more".to_owned(),
            };
            self.leave(index);
            self.changed(image, why);
            return;
        };
        let entered = entered_at.and_then(|name| self.checkpoint(index, name));
        let reached = at.and_then(|name| self.checkpoint(index, name));
        let lost = match gone {
            Some(Gone::Checkpoint { name, version }) => Some(format!("`{name}` of version {version}")),
            Some(Gone::Level { .. }) | None => at.filter(|_| reached.is_none()).map(|name| format!("`{name}`")),
        };
        let to_entry = resumes_at_entry(spec) && resume == Resume::Checkpoint;
        let checkpoint = if lost.is_some() || to_entry { entered.clone() } else { reached };
        self.state.spot = Spot::Level(Standing { level: index, checkpoint, entered_at: entered });
        if lost.is_some() || to_entry {
            self.back_to_entry();
            let why = match lost {
                Some(checkpoint) => format!("`{level}` has no checkpoint {checkpoint} any more"),
                None => "levels are resumed at their entry now".to_owned(),
            };
            self.changed(image, why);
        }
    }

    fn checkpoint(&self, level: u32, name: &str) -> Option<Checkpoint> {
        let listed = &self.spec.level(level).checkpoints;
        match listed.iter().position(|checkpoint| &**checkpoint == name) {
            Some(index) => Some(Checkpoint::Listed(index as u32)),
            None if listed.is_empty() && self.spec.accept == Accept::Any => Some(Checkpoint::Named(name.into())),
            None => None,
        }
    }

    fn changed(&mut self, image: &Image, why: String) {
        let to = self.state.spot.named(self.spec);
        self.report.place = Some(PlaceChange { from: image.place.to_string(), to, why });
    }

    /// The checkpoint mark becomes the entry mark; visit fields and those that rewind take it.
    fn back_to_entry(&mut self) {
        self.state.give_up_checkpoint();
        for field in self.spec.fields.iter().filter(|field| field.lasts.is_saved()) {
            let fate = without_price(self.spec, field, resembled(self.spec.resume));
            let touched = self.touched(field, self.state.spot.level());
            for slot in field.slots() {
                let ruled = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
                if ruled.rewinds() || field.lasts == Span::Visit {
                    project(&mut self.state, field, slot, Simple::Entry);
                }
            }
        }
    }

    /// The entries that a rule of the place touches.
    fn touched(&self, field: &Field, level: Option<u32>) -> Touched {
        let checkpoint = self.state.spot.standing().and_then(|standing| standing.checkpoint.as_ref());
        self.spec.touched(field, &Env::new(self.spec, &self.state, level, checkpoint))
    }

    /// Loads as given up: everything that giving up rewinds is rewound, and no rule has a price.
    fn leave(&mut self, level: Option<u32>) {
        let spec = self.spec;
        self.state.give_up_checkpoint();
        for field in &spec.fields {
            if field.needs_level() {
                for slot in field.slots() {
                    self.state.write(slot, field.default.clone());
                }
                continue;
            }
            let fate = without_price(spec, field, Moment::Abandon);
            let touched = self.touched(field, level);
            for slot in field.slots() {
                let simple = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
                if simple.rewinds() {
                    project(&mut self.state, field, slot, simple);
                }
            }
        }
        self.state.take_marks();
        self.state.spot = Spot::Menu;
    }
}
