//! The state: all values in one flat array, the two marks, and where the player stands.
//!
//! A mark is a set of values to come back to. Keeping one as a copy would cost as much as the whole state at every
//! checkpoint, so a mark is kept as what *changed* since it was taken: the old value of each slot that was written.
//! Taking a mark is forgetting those; a slot without a note is as it was. Outside a level both marks equal the
//! current state, so nothing is noted there.

use std::ops::Range;

use indexmap::IndexSet;
use rustc_hash::FxHashMap;

use crate::place::Spot;
use crate::spec::{MadeKeys, SpecData};
use crate::value::Value;

const ENTRY: u8 = 1;
const CHECKPOINT: u8 = 2;
const BOTH: u8 = ENTRY | CHECKPOINT;

/// Values, marks and place.
#[derive(Clone, Debug)]
pub(crate) struct State {
    values: Vec<Value>,
    /// For each slot the marks that hold its old value. Slots that are never rewound have both bits set for good, so
    /// that one comparison tells a write whether anything is left to note.
    noted: Vec<u8>,
    entry: FxHashMap<usize, Value>,
    checkpoint: FxHashMap<usize, Value>,
    pub spot: Spot,
    /// The names of open key sets that were made so far.
    pub made: MadeKeys,
}

impl State {
    /// Everything at its default, in the menu.
    pub fn fresh(spec: &SpecData) -> State {
        let mut values = Vec::with_capacity(spec.slots);
        let mut noted = Vec::with_capacity(spec.slots);
        let made = vec![IndexSet::new(); spec.key_sets.len()];
        for field in &spec.fields {
            values.extend(std::iter::repeat_n(field.default.clone(), field.slots));
            noted.extend(std::iter::repeat_n(if field.rewinds { 0 } else { BOTH }, field.slots));
        }
        State { values, noted, entry: FxHashMap::default(), checkpoint: FxHashMap::default(), spot: Spot::Menu, made }
    }

    #[inline]
    pub fn value(&self, slot: usize) -> &Value {
        &self.values[slot]
    }

    /// What the slot was when the level was entered.
    pub fn at_entry(&self, slot: usize) -> &Value {
        if self.noted[slot] & ENTRY == 0 {
            return &self.values[slot];
        }
        self.entry.get(&slot).unwrap_or(&self.values[slot])
    }

    /// What the slot was at the last checkpoint.
    pub fn at_checkpoint(&self, slot: usize) -> &Value {
        if self.noted[slot] & CHECKPOINT == 0 {
            return &self.values[slot];
        }
        self.checkpoint.get(&slot).unwrap_or(&self.values[slot])
    }

    /// Whether a mark may hold another value than the current one.
    #[inline]
    pub fn is_noted(&self, slot: usize) -> bool {
        self.noted[slot] != 0
    }

    /// Whether a mark may hold another value than the current one for any of these.
    pub fn any_noted(&self, slots: Range<usize>) -> bool {
        self.noted[slots].iter().any(|noted| *noted != 0)
    }

    /// Writes a value and leaves both marks as they are.
    #[inline]
    pub fn write(&mut self, slot: usize, value: Value) {
        if self.noted[slot] != BOTH && self.spot.is_level() {
            self.note(slot);
        }
        self.values[slot] = value;
    }

    /// Takes a value out, to be written back changed. The marks have noted it.
    pub fn take(&mut self, slot: usize) -> Value {
        if self.noted[slot] != BOTH && self.spot.is_level() {
            self.note(slot);
        }
        std::mem::take(&mut self.values[slot])
    }

    #[cold]
    fn note(&mut self, slot: usize) {
        let old = &self.values[slot];
        if self.noted[slot] & ENTRY == 0 {
            self.entry.insert(slot, old.clone());
        }
        if self.noted[slot] & CHECKPOINT == 0 {
            self.checkpoint.insert(slot, old.clone());
        }
        self.noted[slot] = BOTH;
    }

    /// Writes a value into the state and into both marks, as `launch` and a reset do.
    pub fn write_through(&mut self, slot: usize, value: Value) {
        let in_entry = self.entry.remove(&slot).is_some();
        let in_checkpoint = self.checkpoint.remove(&slot).is_some();
        if in_entry || in_checkpoint {
            self.noted[slot] = 0;
        }
        self.values[slot] = value;
    }

    /// Sets what a slot comes back to, as an image tells it.
    pub fn write_marks(&mut self, slot: usize, entry: Value, checkpoint: Value) {
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
        for slot in self.entry.keys().chain(self.checkpoint.keys()) {
            self.noted[*slot] = 0;
        }
        self.entry.clear();
        self.checkpoint.clear();
    }

    /// Takes the checkpoint mark.
    pub fn take_checkpoint(&mut self) {
        for slot in self.checkpoint.keys() {
            self.noted[*slot] &= !CHECKPOINT;
        }
        self.checkpoint.clear();
    }

    /// Gives the checkpoint up: its mark becomes the entry mark.
    pub fn give_up_checkpoint(&mut self) {
        self.take_checkpoint();
        for (slot, value) in &self.entry {
            self.noted[*slot] |= CHECKPOINT;
            self.checkpoint.insert(*slot, value.clone());
        }
    }
}
