//! Takes an image from one version to the next.
//!
//! The old image is read by the shape of its version, so that entries it leaves out have the defaults they had then.
//! Every step reads the old values and writes the new ones, so the order of steps never matters. Values and both marks
//! are taken the same way.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::applying::entries::{Before, Entries};
use crate::applying::members::MemberFilling;
use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use crate::image::reading::read_shape;
use crate::image::report::{Clamped, Dropped, LostBlob, SavedMark, SavedName, SavedThing};
use crate::image::write::values;
use crate::image::{Gone, Image, SavedMarks, SavedPlace};
use crate::state::State;
use vestigum_spec::migration::ChoiceOwner;
use vestigum_spec::migration::Unplaced;
use vestigum_spec::migration::{FieldPlan, Fill, MigrationPlan, OwnerKind};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::{Axis, MadeKeys};
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Values;
use vestigum_spec::vocabulary::key::EntryName;
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::span::Span;

/// Describes what was lost or changed on the way, as a report tells it.
#[derive(Clone, Debug, Default)]
pub(crate) struct MigrationNotes {
    pub filled: Vec<Arc<str>>,
    pub dropped: Vec<Dropped>,
    pub clamped: Vec<Clamped>,
    pub lost_blobs: Vec<LostBlob>,
    /// Levels that players made, and their new names.
    pub moved_levels: Vec<(Arc<str>, Arc<str>)>,
}

/// The values of an image, read by the shape of its version.
pub(crate) struct OldValues {
    state: State,
    /// Whether there is a value of the field.
    present: Vec<bool>,
    in_level: bool,
}

impl OldValues {
    /// Reads an image. What it does not have is at the default, as the game of its version would have loaded it: so a
    /// player who skips a version has what one has who did not.
    pub(crate) fn read(plan: &MigrationPlan, image: &Image, notes: &mut MigrationNotes) -> OldValues {
        let spec = &*plan.old;
        let mut source = OldValues::read_part(spec, image, notes);
        let owner = owner_of(image);
        let in_level = source.in_level;
        let own = |field: &&Field| OwnerKind::of(field) == owner && (in_level || !field.needs_level());
        let extra = |field: &&Field| plan.extra.get(field.id.0 as usize).copied().unwrap_or(false);
        for field in spec.fields.iter().filter(own).filter(|field| !extra(field)) {
            if !std::mem::replace(&mut source.present[field.id.0 as usize], true) {
                notes.filled.push(field.name.clone());
            }
        }
        source
    }

    /// Reads a few values; others are not there.
    pub(crate) fn read_part(spec: &Model, image: &Image, notes: &mut MigrationNotes) -> OldValues {
        let (state, report) = read_shape(spec, image);
        notes.dropped.extend(report.dropped);
        notes.clamped.extend(report.clamped);
        notes.lost_blobs.extend(report.lost_blobs);
        let marked = |field: &Field| image.marks.as_ref().is_some_and(|marks| marks.entry.contains_key(&field.name));
        let present = spec.fields.iter().map(|field| image.values.contains_key(&field.name) || marked(field));
        OldValues { state, present: present.collect(), in_level: image.marks.is_some() }
    }

    /// Notes what a player brings for a device that has gone on without it.
    pub(crate) fn not_taken(&self, plan: &MigrationPlan, new: &Model, device: &Image, notes: &mut MigrationNotes) {
        let players =
            plan.moved.iter().map(|was| plan.old.field(*was)).filter(|was| OwnerKind::of(was) == OwnerKind::Player);
        for was in players.filter(|was| self.present[was.id.0 as usize]) {
            let now = plan.carrier(was.id).map(|now| &*new.field(now).name);
            let blobs = RefCell::default();
            let own =
                values(&plan.old, &self.state.made, |field| field.id == was.id, |slot| self.state.value(slot), &blobs);
            let same = now.is_some_and(|now| device.values.get(now) == own.get(&was.name));
            if !same && was.slots().any(|slot| *self.state.value(slot) != was.default) {
                let why = "it belongs to the device now, which has a value already";
                let what = SavedThing::Value(EntryName::field(was.name.clone()).into());
                notes.dropped.push(Dropped { what, why: why.into() });
            }
        }
    }

    /// With the values that the other owner gives up.
    pub(crate) fn with_moved(&self, plan: &MigrationPlan, other: &OldValues) -> OldValues {
        let mut state = self.state.clone();
        // The names made at run time are the player's, and their values are read by them.
        if state.made.iter().all(indexmap::IndexSet::is_empty) {
            state.made.clone_from(&other.state.made);
        }
        let mut present = self.present.clone();
        for was in plan.moved.iter().map(|was| plan.old.field(*was)) {
            let id = was.id.0 as usize;
            if other.present[id] && !self.present[id] {
                present[id] = true;
                was.slots().for_each(|slot| state.write_through(slot, other.state.value(slot).clone()));
            }
        }
        OldValues { state, present, in_level: self.in_level }
    }
}

fn owner_of(image: &Image) -> OwnerKind {
    match image.owner {
        Owner::Profile(_) => OwnerKind::Player,
        Owner::Device => OwnerKind::Device,
    }
}

/// Takes an image to the version that the plan leads to.
pub(crate) fn apply(
    plan: &MigrationPlan,
    new: &Model,
    image: &Image,
    source: &OldValues,
    notes: &mut MigrationNotes,
) -> Image {
    let owner = owner_of(image);
    let old = &*plan.old;
    let mut state = State::fresh(new);
    keep_made(plan, new, &source.state, &mut state);
    let made = state.made.clone();
    let mut transfer = ValueTransfer { plan, old, new, made, state: &mut state, notes, clamped: BTreeMap::new() };
    let mut present = vec![false; new.fields.len()];
    let marks = source.in_level.then(|| (at_mark(old, &source.state, true), at_mark(old, &source.state, false)));
    let wanted = |field: &&Field| OwnerKind::of(field) == owner && field.lasts != Span::Session;
    for field in new.fields.iter().filter(wanted) {
        let FieldPlan { carried, fills, .. } = &plan.fields[field.id.0 as usize];
        if let Some(was) = carried.filter(|was| source.present[was.0 as usize]) {
            present[field.id.0 as usize] = true;
            transfer.carry(field, old.field(was), &source.state);
        }
        // Outside a level there is nothing of a visit to fill, and what was to be moved may not be there.
        let there = |fill: &&Fill| {
            let mut reads = fill.expression.reads().iter();
            reads.all(|read| !plan.moved.contains(read) || source.present[read.0 as usize])
        };
        for fill in fills.iter().filter(there).filter(|_| source.in_level || !field.needs_level()) {
            present[field.id.0 as usize] = true;
            transfer.fill(field, fill, &source.state, marks.as_ref());
        }
        transfer.tell_clamped(field);
    }
    // What no frozen shape has, and no step speaks of, is told where nothing has become of it.
    for (was, _) in old.fields.iter().zip(&plan.extra).filter(|(_, extra)| **extra) {
        let gone = plan.carrier(was.id).is_none() && plan.readers(was.id).next().is_none();
        let holds = || was.slots().any(|slot| *source.state.value(slot) != was.default);
        if OwnerKind::of(was) == owner && gone && source.present[was.id.0 as usize] && holds() {
            let what = SavedThing::Value(EntryName::field(was.name.clone()).into());
            let why = format!("version {} has no place for it", new.version);
            transfer.notes.dropped.push(Dropped { what, why });
        }
    }
    let has = |field: &Field| present[field.id.0 as usize];
    let kept = |field: &Field| has(field) && field.lasts.is_saved_at(source.in_level);
    let marked = |field: &Field| has(field) && field.rewinds;
    let blobs = RefCell::new(image.blobs.clone());
    let migrated = Image {
        version: plan.to,
        shape: Some(new.shape.clone()),
        place: place(plan, new, &image.place),
        made: made_names(new, &state, owner),
        values: values(new, &state.made, kept, |slot| state.value(slot), &blobs),
        marks: source.in_level.then(|| SavedMarks {
            entry: values(new, &state.made, marked, |slot| state.at_entry(slot), &blobs),
            checkpoint: values(new, &state.made, marked, |slot| state.at_checkpoint(slot), &blobs),
        }),
        ..image.clone()
    };
    Image { blobs: blobs.into_inner(), ..migrated }
}

/// The values of the fields that leave the device, as the old version wrote them.
pub(crate) fn leaving(plan: &MigrationPlan, image: &Image) -> Values {
    let leaves = |field: &&Field| OwnerKind::of(field) == OwnerKind::Device && plan.moved.contains(&field.id);
    let leaving = plan.old.fields.iter().filter(leaves);
    leaving.filter_map(|field| Some((field.name.clone(), image.values.get(&field.name)?.clone()))).collect()
}

/// Returns whether the plan moves something from players to the device.
pub(crate) fn takes_from_players(plan: &MigrationPlan) -> bool {
    plan.moved.iter().any(|was| OwnerKind::of(plan.old.field(*was)) == OwnerKind::Player)
}

/// The state as it was at a mark. What is never rewound is as it is now.
fn at_mark(spec: &Model, state: &State, entry: bool) -> State {
    let mut marked = state.clone();
    for field in spec.fields.iter().filter(|field| field.rewinds) {
        for slot in field.slots() {
            let value = if entry { state.at_entry(slot) } else { state.at_checkpoint(slot) };
            if value != state.value(slot) {
                marked.write(slot, value.clone());
            }
        }
    }
    marked
}

/// The names that were made at run time, under their new names. Of a set that declared its names those are made that a
/// value was kept under.
fn keep_made(plan: &MigrationPlan, new: &Model, from: &State, to: &mut State) {
    let old = &*plan.old;
    for (set, made) in from.made.iter().enumerate() {
        let Some(now) = plan.names.sets[set] else { continue };
        let Some(max) = new.key_sets[now as usize].max else { continue };
        let declared = &old.key_sets[set].names;
        let used = declared.iter().zip(0..).filter(|(_, key)| is_used(plan, new, from, (set as u32, *key), now));
        for name in used.map(|(name, _)| name).chain(made) {
            if let Some(name) = plan.names.key(set as u32, name)
                && to.made[now as usize].len() < max as usize
            {
                to.made[now as usize].insert(name);
            }
        }
    }
}

/// Returns whether a value is kept under a declared key that goes into a field of the open set which its set has become.
fn is_used(plan: &MigrationPlan, new: &Model, from: &State, (set, key): (u32, u32), now: u32) -> bool {
    let goes_there = |was: &Field| {
        let mut readers = plan.readers(was.id);
        readers.any(|(field, _)| new.field(field).axes.contains(&Axis::Keys(now)))
    };
    let kept = |was: &Field, slot: usize| {
        let marks = || [from.at_entry(slot), from.at_checkpoint(slot)].iter().any(|mark| **mark != was.default);
        *from.value(slot) != was.default || (was.rewinds && marks())
    };
    let under = |was: &Field, slot: usize| {
        was.axes.iter().zip(was.keys_of(slot)).any(|(axis, at)| *axis == Axis::Keys(set) && at == key)
    };
    let mut fields = plan.old.fields.iter().filter(|was| was.axes.contains(&Axis::Keys(set)) && goes_there(was));
    fields.any(|was| was.slots().any(|slot| under(was, slot) && kept(was, slot)))
}

fn made_names(new: &Model, state: &State, owner: OwnerKind) -> BTreeMap<Arc<str>, Vec<Arc<str>>> {
    let sets = new.key_sets.iter().zip(&state.made).filter(|(_, made)| owner == OwnerKind::Player && !made.is_empty());
    sets.map(|(set, made)| (set.name.clone(), made.iter().cloned().collect())).collect()
}

/// The place under its new names, with what of it is gone.
fn place(plan: &MigrationPlan, new: &Model, place: &SavedPlace) -> SavedPlace {
    let SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } = place else { return place.clone() };
    // No later level of that name is taken for one that is gone.
    if let Some(Gone::Level { .. }) = gone {
        return place.clone();
    }
    let old = &*plan.old;
    let index = old.level_ids.get(level.as_str()).copied();
    let now = index.and_then(|index| plan.names.levels[index as usize]);
    let (Some(index), Some(now)) = (index, now) else {
        let gone = Some(Gone::Level { version: old.version });
        let (level, checkpoint, entered_at) = (level.clone(), checkpoint.clone(), entered_at.clone());
        return SavedPlace::InLevel { level, checkpoint, entered_at, resume: *resume, gone };
    };
    let now_named = |name: &String| plan.names.checkpoint(old, new, index, name).map(|name| name.to_string());
    let reached = checkpoint.as_ref().and_then(now_named);
    let lost = checkpoint.as_ref().filter(|_| reached.is_none());
    let lost = lost.map(|name| Gone::Checkpoint { name: name.clone(), version: old.version });
    SavedPlace::InLevel {
        level: new.level(now).id.to_string(),
        checkpoint: reached,
        entered_at: entered_at.as_ref().and_then(now_named),
        resume: *resume,
        gone: gone.clone().or(lost),
    }
}

/// Values on their way from one version to the next.
struct ValueTransfer<'a> {
    plan: &'a MigrationPlan,
    old: &'a Model,
    new: &'a Model,
    made: MadeKeys,
    state: &'a mut State,
    notes: &'a mut MigrationNotes,
    /// Remembers what was brought inside of the field that is taken, by slot and mark: a fill may yet write another value there.
    clamped: BTreeMap<(usize, Where), (Value, Value)>,
}

/// Says where a value stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Where {
    Itself,
    Entry,
    Checkpoint,
}

impl ValueTransfer<'_> {
    /// Notes what was brought inside of a field, once nothing more is written to it.
    fn tell_clamped(&mut self, field: &Field) {
        let clamped = std::mem::take(&mut self.clamped);
        for ((slot, at), (was, is)) in &clamped {
            let mark = match at {
                Where::Itself => None,
                Where::Entry => Some(SavedMark::Entry),
                Where::Checkpoint => Some(SavedMark::Checkpoint),
            };
            // What a mark shares with the value is told once.
            if mark.is_some() && clamped.get(&(*slot, Where::Itself)) == Some(&(was.clone(), is.clone())) {
                continue;
            }
            let name = SavedName { mark, ..entry_name(self.new, field, *slot, &self.made).into() };
            self.notes.clamped.push(Clamped { name, was: was.clone(), is: is.clone() });
        }
    }

    /// Takes the values of an old field over, and its marks.
    fn carry(&mut self, field: &Field, was: &Field, from: &State) {
        // What is at the default is left out of images, so it is what the default was then.
        let same_default = was.default == field.default;
        // Two names that were made at run time can be one now: the first keeps its place.
        let may_merge = was
            .axes
            .iter()
            .any(|axis| matches!(axis, Axis::Keys(set) if self.old.key_sets[*set as usize].max.is_some()));
        let mut taken_up = BTreeSet::new();
        for slot in was.slots() {
            let value = from.value(slot);
            // A level or a name that is not made has no entry, so its default is no value that another default must not change.
            let untouched =
                || [value, from.at_entry(slot), from.at_checkpoint(slot)].iter().all(|at| **at == was.default);
            if !from.has_entry(self.old, was, slot) && untouched() {
                continue;
            }
            let entries = self.entries(from);
            let fills = &self.plan.fields[field.id.0 as usize].member_fills;
            if same_default && fills.is_empty() && *value == was.default && !from.is_noted(slot) {
                // The name that was made first keeps its entry, whatever it holds.
                if may_merge {
                    taken_up.extend(entries.now(was, field, slot));
                }
                continue;
            }
            let why = match entries.now(was, field, slot) {
                Some(now) if !may_merge || taken_up.insert(now) => Ok(now),
                Some(now) => {
                    let taker = entry_name(self.new, field, now, &self.made);
                    Err(Some(format!("another entry is `{taker}` now")))
                }
                None => Err(entries.no_room(was, slot)),
            };
            let now = match why {
                Ok(now) => now,
                Err(why) => {
                    let name: SavedName = entry_name(self.old, was, slot, &from.made).into();
                    let held = [
                        (None, value),
                        (Some(SavedMark::Entry), from.at_entry(slot)),
                        (Some(SavedMark::Checkpoint), from.at_checkpoint(slot)),
                    ];
                    // A mark is told of where the value itself holds nothing.
                    let mark = held.iter().find(|(_, value)| **value != was.default).map(|(mark, _)| *mark);
                    if let (Some(why), Some(mark)) = (why, mark) {
                        let what = SavedThing::Value(SavedName { mark, ..name });
                        self.notes.dropped.push(Dropped { what, why });
                    }
                    continue;
                }
            };
            let names = &self.plan.names;
            if !self.plan.extra.is_empty() && fills.is_empty() {
                let unplaced = Unplaced { names, field: field.id };
                for inside in unplaced.parts(&ChoiceOwner::Field(was.id), value, (&was.ty, &field.ty), &[]) {
                    let name = SavedName { inside, ..entry_name(self.old, was, slot, &from.made).into() };
                    let why = format!("version {} has no place for it", self.new.version);
                    self.notes.dropped.push(Dropped { what: SavedThing::Value(name), why });
                }
            }
            let env = Env::new(self.old, from, None, None);
            let converted = |value: &Value| {
                let now = names.convert(was.id, value, &was.ty, &field.ty)?;
                let filling = MemberFilling { names, env: &env };
                Some(fills.iter().fold(now, |now, fill| filling.filled(fill, was, field, value, now)))
            };
            let taken = |value: &Value| match converted(value) {
                Some(Value::Unfilled) | None if !field.optional => field.default.clone(),
                Some(value) => field.limits.clamp(value).0,
                None => field.default.clone(),
            };
            let (entry, checkpoint) = (taken(from.at_entry(slot)), taken(from.at_checkpoint(slot)));
            let now_value = taken(value);
            let mut clamped = vec![(Where::Itself, converted(value), now_value.clone())];
            if field.rewinds && was.rewinds {
                clamped.push((Where::Entry, converted(from.at_entry(slot)), entry.clone()));
                clamped.push((Where::Checkpoint, converted(from.at_checkpoint(slot)), checkpoint.clone()));
            }
            for (at, converted, is) in clamped {
                if let Some(converted) = converted.filter(|converted| *converted != is && converted.is_filled()) {
                    self.clamped.insert((now, at), (converted, is));
                }
            }
            self.state.write_through(now, now_value);
            if field.rewinds {
                self.state.write_marks(now, entry, checkpoint);
            }
        }
    }

    fn entries<'e>(&'e self, from: &'e State) -> Entries<'e> {
        Entries { names: &self.plan.names, old: self.old, new: self.new, from, made: &self.made }
    }

    /// Returns what an expression sees: the old values, and where the entry was.
    fn seen<'e>(&'e self, from: &'e State, at: &'e Before) -> Env<'e> {
        Env { filled: &at.keys, ..Env::new(self.old, from, at.level, at.checkpoint.as_ref()) }
    }

    /// Writes what an expression makes of the old values, for each entry that it fills.
    fn fill(&mut self, field: &Field, fill: &Fill, from: &State, marks: Option<&(State, State)>) {
        let slots = fill.at.map_or_else(|| field.slots(), |slot| slot..slot + 1);
        for slot in slots {
            let Some(at) = self.entries(from).before(field, slot) else { continue };
            // A new level or key was nothing before, so there is nothing of it to read.
            if fill.expression.lacks_entry(&self.seen(from, &at)) {
                continue;
            }
            let mut note = None;
            let value = self.filled(field, fill, from, &at, Some(&mut note));
            // What was carried there is written over.
            self.clamped.retain(|(of, _), _| *of != slot);
            self.clamped.extend(note.map(|note| ((slot, Where::Itself), note)));
            let (mut of_entry, mut of_checkpoint) = (None, None);
            let marked = marks.filter(|_| field.rewinds).map(|(entry, checkpoint)| {
                let entry = self.filled(field, fill, entry, &at, Some(&mut of_entry));
                (entry, self.filled(field, fill, checkpoint, &at, Some(&mut of_checkpoint)))
            });
            self.clamped.extend(of_entry.map(|note| ((slot, Where::Entry), note)));
            self.clamped.extend(of_checkpoint.map(|note| ((slot, Where::Checkpoint), note)));
            self.state.write_through(slot, value);
            if let Some((entry, checkpoint)) = marked {
                self.state.write_marks(slot, entry, checkpoint);
            }
        }
        self.tell_unplaced(field, fill, from);
    }

    /// Notes the entries that a fill reads one by one and that have no place: a key set that declares its names now, or
    /// takes fewer of them, has none for some.
    fn tell_unplaced(&mut self, field: &Field, fill: &Fill, from: &State) {
        let names = &self.plan.names;
        for was in fill.expression.reads().iter().map(|read| self.old.field(*read)) {
            let entry_by_entry = fill.at.is_none() && was.is_keyed() && names.same_sets(was, field);
            if !entry_by_entry || names.same_axes(self.old, self.new, was, field) {
                continue;
            }
            for slot in was.slots().filter(|slot| *from.value(*slot) != was.default) {
                let entries = self.entries(from);
                if entries.now(was, field, slot).is_none()
                    && let Some(why) = entries.no_room(was, slot)
                {
                    let what = SavedThing::Value(entry_name(self.old, was, slot, &from.made).into());
                    self.notes.dropped.push(Dropped { what, why });
                }
            }
        }
    }

    fn filled(
        &self,
        field: &Field,
        fill: &Fill,
        from: &State,
        at: &Before,
        note: Option<&mut Option<(Value, Value)>>,
    ) -> Value {
        let env = self.seen(from, at);
        // Nothing that could be without a value is made of one that is not there.
        if field.optional && fill.expression.reads_unfilled(&env) {
            return Value::Unfilled;
        }
        let mut value = fill.expression.value(&env);
        if *fill.expression.ty() != field.ty {
            let was = fill.expression.reads().first().copied().unwrap_or(FieldId(0));
            let converted = self.plan.names.convert(was, &value, fill.expression.ty(), &field.ty);
            value = converted.unwrap_or_else(|| field.default.clone());
        }
        let (inside, outside) = field.limits.clamp(value.clone());
        if let (true, Some(note)) = (outside, note) {
            *note = Some((value, inside.clone()));
        }
        inside
    }
}
