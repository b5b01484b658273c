//! The state: all values in one flat array, the two marks, and where the player stands.
//!
//! A mark is a set of values to come back to. Keeping one as a copy would cost as much as the whole state at every
//! checkpoint, so a mark is kept as what *changed* since it was taken: the old value of each slot that was written.
//! These old values are the mark's *notes*. Taking a mark anew drops all its notes. A slot without a note has the value
//! that it had when the mark was taken. Outside a level both marks equal the current state, so nothing is noted there. The
//! display baseline, which is what a display was last told, is kept in the same way.

pub mod hand_over;
pub mod kept;
pub mod position;
pub mod visits;

use std::ops::Range;
use std::sync::Arc;

use indexmap::IndexSet;
use rustc_hash::FxHashMap;

use crate::state::hand_over::{CheckpointMark, Unheard};
use crate::state::kept::Kept;
use crate::state::position::Position;
use crate::state::visits::Visits;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::MadeKeys;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Moved;
use vestigum_spec::vocabulary::span::Span;

const ENTRY: u8 = 1;
const CHECKPOINT: u8 = 2;
const MARKS: u8 = ENTRY | CHECKPOINT;
const BASELINE: u8 = 4;
/// The copy of the state has to hear of the slot, and will.
const HANDED: u8 = 8;
const ALL: u8 = MARKS | BASELINE | HANDED;

type MarkedValues = FxHashMap<usize, Value>;

/// Values, marks and place.
#[derive(Clone, Debug)]
pub struct State {
    values: Vec<Value>,
    /// For each slot which notes hold its old value. Slots that are never rewound have both marks' bits set for good,
    /// all slots the display's while there is none, and all slots the copy's while there is none, so that one comparison tells
    /// a write whether anything is left to note.
    noted: Vec<u8>,
    entry: MarkedValues,
    checkpoint: MarkedValues,
    /// Says what values were when a display was last told of them, if there is one.
    baseline: Option<MarkedValues>,
    /// Says what the copy on the saver's thread has not heard of, if there is one.
    unheard: Option<Unheard>,
    pub position: Position,
    /// The names of open key sets that were made so far.
    pub made: MadeKeys,
    /// Says what a migration moved from the device to its players, kept for those who have not been migrated yet.
    pub moved: Option<Arc<Moved>>,
    /// Holds what the player's save said and this spec has no place for: it is written back with each save.
    pub kept: Option<Arc<Kept>>,
    /// Holds the same of the device's save.
    pub kept_of_device: Option<Arc<Kept>>,
    /// Follows visits to levels, if somebody wants to know what becomes of them.
    visits: Option<Box<Visits>>,
}

/// The slots that were written since a mark was taken. What goes back to a mark is one of them.
#[derive(Default)]
pub struct NotedSlots(Vec<usize>);

impl NotedSlots {
    /// Those of one field.
    pub fn of(&self, slots: Range<usize>) -> &[usize] {
        let from = self.0.partition_point(|slot| *slot < slots.start);
        let to = self.0.partition_point(|slot| *slot < slots.end);
        &self.0[from..to]
    }

    /// The fields that they are of, in the order of the spec.
    pub fn fields(&self, fields: &[Field]) -> impl Iterator<Item = FieldId> {
        let (mut slots, mut fields) = (&self.0[..], fields);
        std::iter::from_fn(move || {
            let slot = slots.first()?;
            fields = &fields[fields.partition_point(|field| field.slots().end <= *slot)..];
            let field = fields.first()?;
            slots = &slots[slots.partition_point(|slot| *slot < field.slots().end)..];
            Some(field.id)
        })
    }
}

impl State {
    /// Everything at its default, in the menu.
    pub fn fresh(spec: &Model) -> State {
        let mut values = Vec::with_capacity(spec.slots);
        let mut noted = Vec::with_capacity(spec.slots);
        for field in &spec.fields {
            values.extend(std::iter::repeat_n(field.default.clone(), field.slots));
            noted.extend(std::iter::repeat_n(if field.rewinds { ALL & !MARKS } else { ALL }, field.slots));
        }
        let made = vec![IndexSet::new(); spec.key_sets.len()];
        let (entry, checkpoint) = (MarkedValues::default(), MarkedValues::default());
        State {
            values,
            noted,
            entry,
            checkpoint,
            baseline: None,
            unheard: None,
            position: Position::Menu,
            made,
            moved: None,
            kept: None,
            kept_of_device: None,
            visits: None,
        }
    }

    /// Follows from now on what becomes of visits to levels.
    pub fn follow_visits(&mut self) {
        self.visits = Some(Box::default());
    }

    /// Returns what became of visits to levels since that was asked for.
    pub fn visits(&self) -> Option<&Visits> {
        self.visits.as_deref()
    }

    /// Forgets which visits were banked: whoever wanted to know has heard of them.
    pub fn visits_are_told(&mut self) {
        if let Some(visits) = &mut self.visits {
            visits.banked.clear();
            visits.ended.clear();
        }
    }

    /// The visit to the level ends, and what was earned in it stays.
    pub fn bank_visit(&mut self) {
        if let Some(visits) = &mut self.visits {
            visits.banked.push(visits.current);
        }
    }

    /// Ends the visit to the level by a reset or a game over.
    pub fn end_visit(&mut self) {
        if let Some(visits) = &mut self.visits {
            visits.ended.push(visits.current);
        }
    }

    /// Another visit begins, or this one from the level's entry again.
    fn begin_visit(&mut self) {
        if let Some(visits) = &mut self.visits {
            visits.current += 1;
        }
    }

    /// Becomes another state of the same model, in the memory that is there. No display looks at it.
    pub fn copy_from(&mut self, other: &State) {
        for (to, from) in self.values.iter_mut().zip(&other.values) {
            // Most are what they are already, and asking costs less than a copy.
            if !to.is_same_scalar(from) {
                to.clone_from(from);
            }
        }
        self.noted.clone_from(&other.noted);
        self.copy_rest(other);
        (self.baseline, self.unheard) = (None, None);
    }

    /// Copies what is not a value: the old values that the marks have noted, the place, the names.
    fn copy_rest(&mut self, other: &State) {
        for (to, from) in [(&mut self.entry, &other.entry), (&mut self.checkpoint, &other.checkpoint)] {
            to.clear();
            to.extend(from.iter().map(|(slot, value)| (*slot, value.clone())));
        }
        self.position.clone_from(&other.position);
        if self.made != other.made {
            self.made.clone_from(&other.made);
        }
        self.moved.clone_from(&other.moved);
        self.kept.clone_from(&other.kept);
        self.kept_of_device.clone_from(&other.kept_of_device);
        self.visits.clone_from(&other.visits);
    }

    /// Sets a value, and a mark where it is another one, in a state without notes.
    pub fn put_back(&mut self, slot: usize, value: Value, entry: Option<Value>, checkpoint: Option<Value>) {
        self.values[slot] = value;
        if let Some(entry) = entry {
            self.entry.insert(slot, entry);
            self.noted[slot] |= ENTRY;
        }
        if let Some(checkpoint) = checkpoint {
            self.checkpoint.insert(slot, checkpoint);
            self.noted[slot] |= CHECKPOINT;
        }
    }

    /// Returns how many values there are.
    pub fn slot_count(&self) -> usize {
        self.values.len()
    }

    /// Returns whether a level is there: one that players make is, while it is made.
    pub fn has_level(&self, spec: &Model, level: u32) -> bool {
        spec.made_slot(level).is_none_or(|slot| self.values[slot].as_bool())
    }

    /// The entries of a player that belong to levels that are not made, so that nothing may be kept in them.
    pub fn without_level(&self, spec: &Model) -> Vec<(FieldId, usize)> {
        let missing: Vec<u32> = spec.made_levels.clone().filter(|level| !self.has_level(spec, *level)).collect();
        let of_players = spec.fields.iter().filter(|field| field.is_per_level() && field.lasts != Span::Device);
        let of_field = |field: &Field| {
            let slots = missing.iter().flat_map(|level| field.slots_of_level(spec, *level));
            slots.map(|slot| (field.id, slot)).collect::<Vec<_>>()
        };
        of_players.flat_map(of_field).collect()
    }

    /// Returns whether an entry of a field is there: the names of its keys and its level are made. The device keeps nothing for a level that
    /// one of its players made.
    pub fn has_entry(&self, spec: &Model, field: &Field, slot: usize) -> bool {
        let of_level = |level: u32| match spec.is_made_level(level) {
            true => field.lasts != Span::Device && self.has_level(spec, level),
            false => true,
        };
        let asks = !spec.made_levels.is_empty();
        spec.is_made(field, slot, &self.made) && (!asks || field.level_of(spec, slot).is_none_or(of_level))
    }

    #[inline]
    pub fn value(&self, slot: usize) -> &Value {
        &self.values[slot]
    }

    /// Returns what the slot was when the level was entered.
    pub fn at_entry(&self, slot: usize) -> &Value {
        if self.noted[slot] & ENTRY == 0 {
            return &self.values[slot];
        }
        self.entry.get(&slot).unwrap_or(&self.values[slot])
    }

    /// Returns what the slot was at the last checkpoint.
    pub fn at_checkpoint(&self, slot: usize) -> &Value {
        if self.noted[slot] & CHECKPOINT == 0 {
            return &self.values[slot];
        }
        self.checkpoint.get(&slot).unwrap_or(&self.values[slot])
    }

    /// Returns whether a mark may hold another value than the current one.
    #[inline]
    pub fn is_noted(&self, slot: usize) -> bool {
        self.noted[slot] & MARKS != 0
    }

    /// The slots for which a mark may hold another value than the current one, in their order.
    pub fn noted_slots(&self) -> NotedSlots {
        let mut slots: Vec<usize> = self.entry.keys().copied().collect();
        slots.extend(self.checkpoint.keys().filter(|slot| !self.entry.contains_key(slot)));
        slots.sort_unstable();
        NotedSlots(slots)
    }

    /// Writes a value and leaves both marks as they are.
    #[inline]
    pub fn write(&mut self, slot: usize, value: Value) {
        if self.noted[slot] != ALL {
            self.note(slot);
        }
        self.values[slot] = value;
    }

    /// The value to be changed in place, if nothing is left to note about it.
    #[inline(always)]
    pub fn settled(&mut self, slot: usize, in_level: bool) -> Option<&mut Value> {
        // Outside a level the marks equal the state, and nothing is noted for them.
        let to_note = if in_level { ALL } else { ALL & !MARKS };
        if !*self.noted.get(slot)? & to_note != 0 {
            return None;
        }
        self.values.get_mut(slot)
    }

    /// Returns whether a mark that is another value than the current one is noted for the slot: of the entry, of the checkpoint.
    #[inline]
    pub fn noted_marks(&self, slot: usize) -> (Option<&Value>, Option<&Value>) {
        if self.noted[slot] & MARKS == 0 {
            return (None, None);
        }
        (self.entry.get(&slot), self.checkpoint.get(&slot))
    }

    /// Takes a value out, to be written back changed. The marks have noted it.
    pub fn take(&mut self, slot: usize) -> Value {
        self.note(slot);
        std::mem::take(&mut self.values[slot])
    }

    fn note(&mut self, slot: usize) {
        self.changes(slot);
        let noted = self.noted[slot];
        let old = &self.values[slot];
        if self.position.is_level() {
            if noted & ENTRY == 0 {
                self.entry.insert(slot, old.clone());
            }
            if noted & CHECKPOINT == 0 {
                self.checkpoint.insert(slot, old.clone());
            }
            self.noted[slot] |= MARKS;
        }
        if noted & BASELINE == 0
            && let Some(baseline) = &mut self.baseline
        {
            baseline.insert(slot, old.clone());
            self.noted[slot] |= BASELINE;
        }
    }

    /// Writes a value into the state and into both marks, as `launch` and a reset do.
    pub fn write_through(&mut self, slot: usize, value: Value) {
        self.changes(slot);
        if let Some(baseline) = &mut self.baseline
            && self.noted[slot] & BASELINE == 0
        {
            baseline.insert(slot, self.values[slot].clone());
            self.noted[slot] |= BASELINE;
        }
        let in_entry = self.entry.remove(&slot).is_some();
        let in_checkpoint = self.checkpoint.remove(&slot).is_some();
        if in_entry || in_checkpoint {
            self.noted[slot] &= !MARKS;
        }
        self.values[slot] = value;
    }

    /// Sets what a slot comes back to, as an image tells it.
    pub fn write_marks(&mut self, slot: usize, entry: Value, checkpoint: Value) {
        self.changes(slot);
        if entry != self.values[slot] {
            self.entry.insert(slot, entry);
            self.noted[slot] |= ENTRY;
        }
        if checkpoint != self.values[slot] {
            self.checkpoint.insert(slot, checkpoint);
            self.noted[slot] |= CHECKPOINT;
        }
    }

    /// Takes both marks: play in a level begins here.
    pub fn take_marks(&mut self) {
        self.begin_visit();
        if let Some(unheard) = &mut self.unheard {
            (unheard.marks_taken, unheard.checkpoint) = (true, CheckpointMark::Taken);
        }
        for slot in self.entry.keys().chain(self.checkpoint.keys()) {
            self.noted[*slot] &= !MARKS;
        }
        self.entry.clear();
        self.checkpoint.clear();
    }

    /// Takes the checkpoint mark.
    pub fn take_checkpoint(&mut self) {
        if let Some(unheard) = &mut self.unheard {
            unheard.checkpoint = CheckpointMark::Taken;
        }
        for slot in self.checkpoint.keys() {
            self.noted[*slot] &= !CHECKPOINT;
        }
        self.checkpoint.clear();
    }

    /// Gives the checkpoint up: its mark becomes the entry mark.
    pub fn give_up_checkpoint(&mut self) {
        self.begin_visit();
        self.take_checkpoint();
        if let Some(unheard) = &mut self.unheard {
            unheard.checkpoint = CheckpointMark::GivenUp;
        }
        for (slot, value) in &self.entry {
            self.noted[*slot] |= CHECKPOINT;
            self.checkpoint.insert(*slot, value.clone());
        }
    }

    /// Returns what a display was told of a slot last; none if there is no display.
    pub fn baseline(&self, slot: usize) -> Option<&Value> {
        let baseline = self.baseline.as_ref()?;
        if self.noted[slot] & BASELINE == 0 {
            Some(&self.values[slot])
        } else {
            baseline.get(&slot).or(Some(&self.values[slot]))
        }
    }

    /// Sets what a display was told of a slot, as its entry has come from another one.
    pub fn set_baseline(&mut self, slot: usize, value: Value) {
        let Some(baseline) = &mut self.baseline else { return };
        if value == self.values[slot] {
            baseline.remove(&slot);
            self.noted[slot] &= !BASELINE;
        } else {
            baseline.insert(slot, value);
            self.noted[slot] |= BASELINE;
        }
    }

    /// Returns what a display was last told of each value that was written since, in the order of the slots; none for the first
    /// time. From now on it has been told everything.
    pub fn drain_baseline(&mut self) -> Option<Vec<(usize, Value)>> {
        let Some(baseline) = &mut self.baseline else {
            self.baseline = Some(MarkedValues::default());
            self.noted.iter_mut().for_each(|noted| *noted &= !BASELINE);
            return None;
        };
        let mut changed: Vec<(usize, Value)> = baseline.drain().collect();
        changed.sort_unstable_by_key(|(slot, _)| *slot);
        for (slot, _) in &changed {
            self.noted[*slot] &= !BASELINE;
        }
        Some(changed)
    }
}
