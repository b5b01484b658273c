//! Images: the saved form of progress.
//!
//! An [`Image`] is a tree of names and values. `json` turns it into bytes and back, `digest` says what it holds in
//! 32 bytes, `seal` makes the check one that only the game can make, `load` brings it under a spec. The tree knows no spec, so an old image can be read by a new game.

mod decode;
mod digest;
mod json;
mod load;
mod seal;
mod tree;

pub(crate) use decode::decode;
pub use json::Damaged;
pub use load::{LoadError, LoadReport, Origin, PlaceChange};
pub(crate) use load::{load, read_shape};
pub use seal::SealKey;
pub use tree::Tree;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use crate::place::{Checkpoint, Spot};
use crate::spec::{Axis, Field, MadeKeys, Resume, Span, SpecData};
use crate::suspend::{Suspended, resumes_at_entry};
use crate::value::Value;

/// The number of the image format that this crate writes, and the newest it reads.
pub const FORMAT: i64 = 1;

/// Whose progress an image holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Owner {
    /// One player.
    Profile(String),
    /// The installation, shared by all its players.
    Device,
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Owner::Profile(name) => write!(f, "profile `{name}`"),
            Owner::Device => f.write_str("the device"),
        }
    }
}

/// Values by field name. Keyed fields hold a map of their entries.
pub type Values = BTreeMap<Arc<str>, Tree>;

/// The saved form of a profile's or a device's progress.
#[derive(Clone, Debug, PartialEq)]
pub struct Image {
    /// The id of the game.
    pub game: String,
    /// The version of the spec that wrote it.
    pub version: i64,
    /// Whose progress it is.
    pub owner: Owner,
    /// Its number: each image of an owner has one higher than any before. The store gives it.
    pub generation: u64,
    /// When it was saved, as the caller's clock told it (RFC 3339).
    pub saved_at: String,
    /// Where the player stands.
    pub place: SavedPlace,
    /// The names made at run time, by open key set, in the order in which they were made.
    pub made: BTreeMap<Arc<str>, Vec<Arc<str>>>,
    /// The values by field name.
    pub values: Values,
    /// The marks, if play goes on inside a level.
    pub marks: Option<SavedMarks>,
    /// In a device's image, values that a migration moved from the device to its players, by the version that moved
    /// them: kept for the players who have not come to that version yet.
    pub moved: Moved,
}

/// Values by the version that moved them away, as the version before it wrote them.
pub type Moved = BTreeMap<i64, Values>;

/// Where the player stands, in an image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum SavedPlace {
    /// Outside a level.
    #[default]
    Menu,
    /// After a game over.
    RunOver,
    /// Suspended in a level.
    InLevel {
        /// The level.
        level: String,
        /// The checkpoint to come back to.
        checkpoint: Option<String>,
        /// The checkpoint at which the level was entered.
        entered_at: Option<String>,
        /// Whether it was suspended at the checkpoint or at the level's entry.
        resume: Resume,
        /// What of the place a migration has found gone. A game writes none: loading puts the player elsewhere.
        gone: Option<Gone>,
    },
}

/// What of a place no later version has: no name of one is taken for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Gone {
    /// The level.
    Level {
        /// The last version that had it.
        version: i64,
    },
    /// The checkpoint to come back to; the level is there.
    Checkpoint {
        /// Its name.
        name: String,
        /// The last version that had it.
        version: i64,
    },
}

impl fmt::Display for SavedPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SavedPlace::Menu => f.pad("menu"),
            SavedPlace::RunOver => f.pad("run over"),
            SavedPlace::InLevel { level, checkpoint, gone: Some(Gone::Level { version }), .. } => {
                let at = checkpoint.as_ref().map(|checkpoint| format!(" at {checkpoint}")).unwrap_or_default();
                f.pad(&format!("{level} of version {version}{at}"))
            }
            SavedPlace::InLevel { level, gone: Some(Gone::Checkpoint { name, version }), .. } => {
                f.pad(&format!("{level} at {name} of version {version}"))
            }
            SavedPlace::InLevel { level, checkpoint: None, .. } => f.pad(level),
            SavedPlace::InLevel { level, checkpoint: Some(checkpoint), .. } => {
                f.pad(&format!("{level} at {checkpoint}"))
            }
        }
    }
}

/// The values to come back to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SavedMarks {
    /// What the fields were when the level was entered.
    pub entry: Values,
    /// What they were at the last checkpoint.
    pub checkpoint: Values,
}

impl Suspended {
    /// The image of the profile's progress.
    pub fn profile_image(&self, profile: &str) -> Image {
        let spec = &*self.spec.0;
        let (place, marks) = match &self.state.spot {
            Spot::Menu => (SavedPlace::Menu, None),
            Spot::RunOver => (SavedPlace::RunOver, None),
            Spot::Level(standing) => {
                let name = |checkpoint: &Checkpoint| checkpoint.name(spec, standing.level).to_string();
                let place = SavedPlace::InLevel {
                    level: spec.level(standing.level).id.to_string(),
                    checkpoint: standing.checkpoint.as_ref().map(name),
                    entered_at: standing.entered_at.as_ref().map(name),
                    resume: if resumes_at_entry(spec) { Resume::Entry } else { spec.resume },
                    gone: None,
                };
                let rewinding = |field: &Field| field.rewinds;
                let marks = SavedMarks {
                    entry: values(spec, &self.state.made, rewinding, |slot| self.state.at_entry(slot)),
                    checkpoint: values(spec, &self.state.made, rewinding, |slot| self.state.at_checkpoint(slot)),
                };
                (place, Some(marks))
            }
        };
        let in_level = marks.is_some();
        let kept = |field: &Field| match field.lasts {
            Span::Run | Span::Profile => true,
            Span::Visit => in_level,
            Span::Attempt | Span::Session | Span::Device => false,
        };
        self.image(Owner::Profile(profile.to_owned()), place, kept, marks)
    }

    /// The image of the device's progress.
    pub fn device_image(&self) -> Image {
        self.image(Owner::Device, SavedPlace::Menu, |field| field.lasts == Span::Device, None)
    }

    /// Whether the spec has any device field, so that there is something to save for the device.
    pub fn has_device(&self) -> bool {
        self.spec.fields().any(|field| field.lasts == Span::Device)
    }

    fn image(
        &self,
        owner: Owner,
        place: SavedPlace,
        kept: impl Fn(&Field) -> bool,
        marks: Option<SavedMarks>,
    ) -> Image {
        let sets = self.spec.0.key_sets.iter().zip(&self.state.made);
        let made = match owner {
            Owner::Device => BTreeMap::new(),
            Owner::Profile(_) => sets
                .filter(|(_, made)| !made.is_empty())
                .map(|(set, made)| (set.name.clone(), made.iter().cloned().collect()))
                .collect(),
        };
        let moved = match owner {
            Owner::Device => self.state.moved.as_deref().cloned().unwrap_or_default(),
            Owner::Profile(_) => Moved::new(),
        };
        Image {
            game: self.spec.id().to_owned(),
            version: self.spec.version(),
            owner,
            generation: 0,
            saved_at: String::new(),
            place,
            made,
            values: values(&self.spec.0, &self.state.made, kept, |slot| self.state.value(slot)),
            marks,
            moved,
        }
    }
}

/// The values of some fields, as an image writes them: every scalar, also at its default, so that a later change of
/// defaults does not rewrite history; entries of keyed fields only where they differ from it.
pub(crate) fn values<'s>(
    spec: &SpecData,
    made: &MadeKeys,
    kept: impl Fn(&Field) -> bool,
    value: impl Fn(usize) -> &'s Value,
) -> Values {
    let mut out = Values::new();
    for field in spec.fields.iter().filter(|field| kept(field)) {
        let tree = if !field.is_keyed() {
            Tree::of(value(field.first_slot))
        } else if field.axes.contains(&Axis::Checkpoint) {
            let mut entries = Values::new();
            for slot in field.slots().filter(|slot| *value(*slot) != field.default) {
                place_entry(&mut entries, &spec.entry_names(field, slot, made), Tree::of(value(slot)));
            }
            Tree::Map(entries)
        } else {
            let keyed = Keyed { spec, made, default: &field.default, value: &value };
            Tree::Map(keyed.entries(&field.axes, field.first_slot))
        };
        out.insert(field.name.clone(), tree);
    }
    out
}

/// The entries of a field whose axes have one name for each key.
struct Keyed<'a, F> {
    spec: &'a SpecData,
    made: &'a MadeKeys,
    default: &'a Value,
    value: &'a F,
}

impl<'s, F: Fn(usize) -> &'s Value> Keyed<'_, F> {
    fn entries(&self, axes: &[Axis], first_slot: usize) -> Values {
        let [axis, inner @ ..] = axes else { return Values::new() };
        let stride: usize = inner.iter().map(|axis| self.spec.axis_len(*axis)).product();
        let entry = |key: u32| {
            let slot = first_slot + key as usize * stride;
            if inner.is_empty() {
                let value = (self.value)(slot);
                return (value != self.default).then(|| Tree::of(value));
            }
            let entries = self.entries(inner, slot);
            (!entries.is_empty()).then_some(Tree::Map(entries))
        };
        let named = |name: &Arc<str>, key: u32| Some((name.clone(), entry(key)?));
        match axis {
            // In the order of their names, which is the one the map wants.
            Axis::Level => {
                let levels = self.spec.levels_by_name.iter();
                levels.filter_map(|level| named(&self.spec.level(*level).id, *level)).collect()
            }
            Axis::Keys(set) => {
                let names = self.spec.key_sets[*set as usize].all_names(&self.made[*set as usize]);
                names.iter().zip(0..).filter_map(|(name, key)| named(name, key)).collect()
            }
            Axis::Checkpoint => Values::new(),
        }
    }
}

/// Puts an entry where its keys say: a map for each axis.
fn place_entry(entries: &mut Values, names: &[Arc<str>], tree: Tree) {
    match names {
        [] => {}
        [last] => drop(entries.insert(last.clone(), tree)),
        [first, rest @ ..] => {
            let inner = entries.entry(first.clone()).or_insert_with(|| Tree::Map(Values::new()));
            if let Tree::Map(inner) = inner {
                place_entry(inner, rest, tree);
            }
        }
    }
}
