//! The proof that no shipped save is lost.
//!
//! From the shapes in the history, [`prove`] makes images of every frozen version: the smallest, the largest, typical
//! ones, random ones, and one suspended at every place. Each is migrated step by step and all at once, and loaded under
//! the spec. What becomes of a field is not read off the migrations alone: for each field of each old version the proof
//! changes its value in a save, and each member of its structs, and looks whether anything of the loaded game is another.
//! Where nothing is, the value is **lost**, and unless a step drops it, the proof fails.
//!
//! ```
//! use vestigum_verify::proof::{Options, FieldVerdict, prove};
//! use vestigum_core::{History, Spec};
//!
//! let field = |name: &str| format!("[field.{name}]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n");
//! let old = Spec::from_toml(&format!("[game]\nid = \"fellpost\"\n{}", field("coins")))?;
//! let spec = format!("[game]\nid = \"fellpost\"\nversion = 2\n{}\n{}", field("letters"),
//!     "[[migration]]\nto = 2\nsteps = [{ fill = \"letters\", with = \"if(coins > 5, 1, 1)\" }]");
//! let spec = Spec::from_named_toml_with_history("fellpost.toml", &spec, History::default().freeze(&old)?.history)?;
//!
//! let proof = prove(&spec, &Options::default());
//! assert!(!proof.holds(), "the fill reads coins, and makes the same of all of them");
//! assert_eq!(proof.versions[0].fields[0].verdict, FieldVerdict::Lost);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod images;
mod members;
mod together;
mod trace;

pub use trace::Became;

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use images::{Sample, SampleKind, made, made_names, samples};
use trace::Trace;

use vestigum_core::state::State;
use vestigum_core::{EntryName, History, Image, Launched, Place, Progress, Spec, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::policy::Resume;

use crate::parallel::{cores, in_parts};

/// Describes how much the proof tries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Options {
    /// Says how many random images of each version.
    pub random: usize,
    /// Says what the random ones are made of: the same seed makes the same ones.
    pub seed: u64,
}

impl Default for Options {
    fn default() -> Self {
        Options { random: 100, seed: 1 }
    }
}

/// Describes what becomes of the saves of every frozen version.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Proof {
    /// For each frozen version before the spec's, the oldest first.
    pub versions: Vec<VersionProof>,
}

/// Describes what becomes of the saves of one version.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct VersionProof {
    /// The version.
    pub version: i64,
    /// The shape, as images name it, where several were frozen under that version's number.
    pub shape: Option<String>,
    /// Says how many images were made, migrated and loaded.
    pub images: usize,
    /// Says what becomes of each field that the version saves.
    pub fields: Vec<FieldProof>,
    /// Fields that the version does not have.
    pub new: Vec<NewField>,
    /// Says what becomes of each place in a level where a player can have stopped.
    pub places: Vec<PlaceProof>,
    /// Says what went wrong: images that do not load, or that come to something else step by step.
    pub failures: Vec<String>,
}

/// Describes what becomes of one field.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FieldProof {
    /// Its name in the old version.
    pub field: Arc<str>,
    /// Says where its values are in the spec: fields, or entries of them.
    pub now: Vec<EntryName>,
    /// Says what happened to it on the way, and at which version.
    pub became: Vec<(i64, Became)>,
    /// Whether the values are still there.
    pub verdict: FieldVerdict,
    /// Entries, and members of structs, whose values nothing of the loaded game depends on, though the field is not lost.
    pub lost: Vec<LostPart>,
    /// In how many images a value of it was brought into narrower limits.
    pub clamped: usize,
    /// A value before and after, from a typical image.
    pub example: Option<Example>,
}

/// A field that the old version does not have.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct NewField {
    /// Its name.
    pub name: Arc<str>,
    /// The expressions that fill it; without any it begins at its default.
    pub filled_with: Vec<String>,
}

/// An entry, or a member of a struct in one.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LostPart {
    /// The entry in the old version.
    pub entry: EntryName,
    /// The names on the way to the member; none for all of the entry.
    pub members: Vec<Arc<str>>,
}

impl fmt::Display for LostPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.entry)?;
        self.members.iter().try_for_each(|member| write!(f, ".{member}"))
    }
}

/// One value of a field, before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Example {
    /// The entry in the old version.
    pub from: EntryName,
    /// Says what it was.
    pub was: String,
    /// The entry in the spec.
    pub to: EntryName,
    /// Says what it is.
    pub is: String,
}

/// Whether the values of a field are still there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldVerdict {
    /// Other values of it make another game.
    Kept,
    /// A step drops it.
    Dropped,
    /// The game's own code takes it, and was not given.
    Code,
    /// Whatever it was, the game is the same, and no step says so.
    Lost,
}

/// Describes what becomes of a player who stopped at one place.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PlaceProof {
    /// The place in the old version.
    pub place: Place,
    /// The place after loading.
    pub now: Place,
    /// Says why it is another one, if it is not just another name.
    pub why: Option<String>,
}

impl Proof {
    /// Returns whether nothing is lost that no step drops, and every image came through.
    pub fn holds(&self) -> bool {
        self.versions.iter().all(|version| version.failures.is_empty() && version.lost().next().is_none())
    }
}

impl VersionProof {
    /// The fields that are lost, in whole or in some entries.
    pub fn lost(&self) -> impl Iterator<Item = &FieldProof> {
        self.fields.iter().filter(|field| field.verdict == FieldVerdict::Lost || !field.lost.is_empty())
    }
}

/// Tries what becomes of the saves of every frozen version. Hooks that were not given are left out.
pub fn prove(spec: &Spec, options: &Options) -> Proof {
    let spec = spec.without_hooks();
    let history = spec.history();
    let versions = |history: &History| history.versions().filter(|version| *version < spec.version()).collect();
    let older: Vec<i64> = history.map(versions).unwrap_or_default();
    let shapes = history.iter().flat_map(|history| older.iter().flat_map(|version| history.models_of(*version)));
    let models: Vec<&Arc<Model>> = shapes.collect();
    let alone = |model: &Model| models.iter().filter(|other| other.version == model.version).count() == 1;
    let prove = |model: &&Arc<Model>| {
        let proof = Prover::new(&spec, model, options).prove();
        VersionProof { shape: Some(model.shape.to_string()).filter(|_| !alone(model)), ..proof }
    };
    Proof { versions: models.iter().map(prove).collect() }
}

/// At most 24 entries of a field are tried one by one, of those that did not show all together.
const ENTRIES: usize = 24;

/// Describes what came of one sample.
struct TriedSample {
    failure: Option<String>,
    place: Option<PlaceProof>,
    /// The fields that had a value clamped; `None` if the sample does not load.
    clamped: Option<BTreeSet<Arc<str>>>,
}

struct Prover<'a> {
    spec: &'a Spec,
    old: Arc<Model>,
    samples: Vec<Sample>,
    trace: Trace,
}

impl Prover<'_> {
    fn new<'a>(spec: &'a Spec, old: &Arc<Model>, options: &Options) -> Prover<'a> {
        let trace = Trace::of(spec, old);
        let made = made_names(old, |set| trace.declared_later(set));
        let samples = samples(old, &made, options.random, options.seed);
        Prover { spec, old: old.clone(), samples, trace }
    }

    fn prove(&self) -> VersionProof {
        let mut proof = VersionProof {
            version: self.old.version,
            shape: None,
            images: self.samples.len(),
            fields: Vec::new(),
            new: self.trace.new_fields(),
            places: Vec::new(),
            failures: Vec::new(),
        };
        let mut clamped: Vec<BTreeSet<Arc<str>>> = Vec::new();
        let tried = in_parts(self.samples.len(), cores(), &|part| Some(self.tried(self.samples.get(part)?)));
        for tried in tried {
            proof.failures.extend(tried.failure);
            proof.places.extend(tried.place);
            clamped.extend(tried.clamped);
        }
        let fields = self.saved_fields(!proof.places.is_empty());
        let together = self.all_together(&fields);
        proof.fields = in_parts(fields.len(), cores(), &|part| {
            let mut found = self.field(fields.get(part)?, &together);
            let there = |image: &&BTreeSet<Arc<str>>| found.now.iter().any(|name| image.contains(&name.field));
            found.clamped = clamped.iter().filter(there).count();
            Some(found)
        });
        proof
    }

    /// Loads a sample, as it is and step by step.
    fn tried(&self, sample: &Sample) -> TriedSample {
        match self.load(sample) {
            Ok(loaded) => {
                let fields = loaded.report.clamped.iter();
                TriedSample {
                    failure: self.differs(sample, &loaded),
                    place: place(sample, &loaded),
                    clamped: Some(fields.map(|clamped| clamped.name.field.clone()).collect()),
                }
            }
            Err(why) => {
                let failure = format!("the image `{}` does not load: {why}", sample.name);
                TriedSample { failure: Some(failure), place: None, clamped: None }
            }
        }
    }

    fn load(&self, sample: &Sample) -> Result<Launched, String> {
        let (profile, device) = sample.images();
        Progress::load(self.spec, Some(&profile), Some(&device)).map_err(|error| error.to_string())
    }

    /// Returns what is left of a save.
    fn left(&self, sample: &Sample) -> Option<State> {
        self.load(sample).ok().map(|loaded| loaded.progress.into_state())
    }

    /// Takes the image step by step, through its bytes, and compares what is left.
    fn differs(&self, sample: &Sample, direct: &Launched) -> Option<String> {
        let (mut profile, mut device) = sample.images();
        for version in self.old.version + 1..=self.spec.version() {
            let step = self.spec.upgrade(version, Some(&profile), Some(&device));
            let written = |image: Option<Image>| {
                let image = image?;
                Some(Image { blobs: image.blobs.clone(), ..Image::from_json(&image.to_json()).ok()? })
            };
            let upgraded = step.ok().and_then(|step| Some((written(step.profile)?, written(step.device)?)));
            let Some(images) = upgraded else {
                return Some(format!("the image `{}` does not come to version {version}", sample.name));
            };
            (profile, device) = images;
        }
        let chain = Progress::load(self.spec, Some(&profile), Some(&device)).ok()?;
        let same = is_same(chain.progress.state(), direct.progress.state());
        (!same).then(|| format!("the image `{}` comes to something else step by step", sample.name))
    }

    /// Returns what becomes of a field: by the steps, and by trying.
    fn field(&self, field: &Field, together: &BTreeSet<usize>) -> FieldProof {
        let way = self.trace.way(field.id);
        let data = &*self.old;
        let state = &self.samples[0].state;
        // Keys of open sets and levels of players are made in the samples; the others are declared.
        let tried =
            |slot: &usize| state.has_entry(data, field, *slot) && !self.trace.drops_entry(field, *slot, &state.made);
        let slots: Vec<usize> = field.slots().filter(tried).collect();
        let whole = |slot| LostPart { entry: self.entry_name(field, slot), members: Vec::new() };
        let mut lost: Vec<LostPart> = self.unmoving(field, &slots, together).into_iter().map(whole).collect();
        let (first, slots) = (slots.first().copied(), slots.len());
        let verdict = match (lost.len() == slots, way.dropped, way.code) {
            // The names that it made may still be there.
            (_, true, _) if way.now.is_empty() => FieldVerdict::Dropped,
            (false, ..) => FieldVerdict::Kept,
            (true, true, _) => FieldVerdict::Dropped,
            (true, _, true) => FieldVerdict::Code,
            // Every entry is of something that a step drops, or only choices are left that are one.
            (true, ..) if slots == 0 || self.trace.drops_choices(field) => FieldVerdict::Dropped,
            // Steps take it apart until nothing is left of it.
            (true, ..) if self.all_members_go(field) => FieldVerdict::Dropped,
            // The spec resumes no level any more: what was saved of a visit ends with it, as after giving up.
            (true, ..) if field.needs_level() && self.spec.resume() == Resume::None => FieldVerdict::Dropped,
            (true, ..) => FieldVerdict::Lost,
        };
        if verdict != FieldVerdict::Kept {
            lost.clear();
        } else if let Some(slot) = first.filter(|_| !way.code) {
            lost.extend(self.lost_members(field, slot));
        }
        let example = self.example(field, &way.now);
        FieldProof { field: field.name.clone(), now: way.now, became: way.became, verdict, lost, clamped: 0, example }
    }

    /// The entries whose value nothing of the loaded game depends on. `seen` are entries that are known to show.
    fn unmoving(&self, field: &Field, slots: &[usize], seen: &BTreeSet<usize>) -> Vec<usize> {
        let unseen: Vec<usize> = slots.iter().copied().filter(|slot| !seen.contains(slot)).collect();
        let unmoving = |slots: &[usize]| -> Vec<usize> {
            slots.iter().copied().filter(|slot| !self.matters(field, *slot)).collect()
        };
        // If some of very many do not matter at all, neither do the others.
        let step = unseen.len().div_ceil(ENTRIES).max(1);
        let some: Vec<usize> = unseen.iter().copied().step_by(step).collect();
        let found = unmoving(&some);
        if step == 1 || found.is_empty() {
            return found;
        }
        if found.len() == some.len() { unseen } else { unmoving(&unseen) }
    }

    fn entry_name(&self, field: &Field, slot: usize) -> EntryName {
        entry_name(&self.old, field, slot, &self.samples[0].state.made)
    }

    /// Returns whether another value makes another game.
    fn matters(&self, field: &Field, slot: usize) -> bool {
        let kinds = [
            SampleKind::Smallest,
            SampleKind::Largest,
            SampleKind::Typical(40),
            SampleKind::Typical(90),
            SampleKind::Random(7),
        ];
        let mut values: Vec<Value> = kinds.iter().map(|kind| made(field, *kind, slot as u64)).collect();
        values.extend(self.trace.compared(&field.ty, &field.limits));
        // Of what has only one value, nothing can be lost.
        values.iter().all(|value| *value == values[0]) || self.tells_apart(field, slot, &values)
    }

    /// Returns whether some of these values of an entry make other games than others.
    fn tells_apart(&self, field: &Field, slot: usize, values: &[Value]) -> bool {
        let in_level = |sample: &&Sample| sample.state.position.is_level() || !field.needs_level();
        let bases = || self.samples.iter().filter(in_level);
        // The highest or the lowest of several values shows a change only where the others leave room for it.
        let extremes = bases().filter(|base| base.extreme);
        extremes.chain(bases().filter(|base| !base.extreme).take(8)).any(|base| {
            let mut left = values.iter().filter_map(|value| self.left(&base.with(field, [(slot, value.clone())])));
            left.next().is_some_and(|first| left.any(|other| !is_same(&first, &other)))
        })
    }

    /// A value before and after.
    fn example(&self, field: &Field, now: &[EntryName]) -> Option<Example> {
        let wanted = |sample: &&Sample| sample.state.position.is_level() == field.needs_level();
        let sample = self.samples.iter().filter(|sample| !sample.extreme).find(wanted)?;
        let loaded = self.load(sample).ok()?;
        let made = &sample.state.made;
        let slots = || {
            field.slots().filter(|slot| {
                sample.state.has_entry(&self.old, field, *slot) && !self.trace.drops_entry(field, *slot, made)
            })
        };
        // At most this number of entries is looked at for one that shows in the entry beside which it is reported.
        const TRIED: usize = 6;
        let filled = slots().filter(|slot| *sample.state.value(*slot) != field.default);
        let tried = filled.chain(slots()).take(TRIED);
        let mut pairs = tried.filter_map(|slot| Some((slot, self.trace.entry_now(field, slot, now)?)));
        let (slot, to) = pairs.find(|(slot, to)| self.shows_in(sample, &loaded, field, *slot, to))?;
        let keys: Vec<&str> = to.keys.names().collect();
        let value = loaded.progress.value(&to.field, &keys).ok()?;
        let from = entry_name(&self.old, field, slot, made);
        Some(Example { from, was: sample.state.value(slot).brief(), to, is: value.brief() })
    }
}

impl Prover<'_> {
    /// Checks whether another value of an entry makes another value of an entry of the loaded game.
    fn shows_in(&self, sample: &Sample, loaded: &Launched, field: &Field, slot: usize, to: &EntryName) -> bool {
        let keys: Vec<&str> = to.keys.names().collect();
        let value = |loaded: &Launched| loaded.progress.value(&to.field, &keys).ok();
        let before = value(loaded);
        [SampleKind::Typical(40), SampleKind::Typical(91), SampleKind::Largest, SampleKind::Smallest].iter().any(
            |kind| {
                let other = sample.with(field, [(slot, made(field, *kind, slot as u64))]);
                self.load(&other).is_ok_and(|loaded| value(&loaded) != before)
            },
        )
    }
}

/// Returns whether two loaded games are the same: place, values and marks.
fn is_same(one: &State, other: &State) -> bool {
    one.position == other.position
        && one.made == other.made
        && one.slot_count() == other.slot_count()
        && (0..one.slot_count()).all(|slot| same_slot(one, other, slot))
}

fn same_slot(one: &State, other: &State, slot: usize) -> bool {
    one.value(slot) == other.value(slot)
        && one.at_entry(slot) == other.at_entry(slot)
        && one.at_checkpoint(slot) == other.at_checkpoint(slot)
}

/// Returns where a player who stopped in a level is after loading.
fn place(sample: &Sample, loaded: &Launched) -> Option<PlaceProof> {
    if !sample.stopped {
        return None;
    }
    let why = loaded.report.place.as_ref().map(|change| change.why.clone());
    let place = sample.state.position.named(&sample.model);
    Some(PlaceProof { place, now: loaded.progress.place(), why })
}
