//! States as bytes: what tells them apart, and what the frontier of a search keeps of them.
//!
//! The bytes hold the place and every value that matters, each with its marks where they are other values. A value begins with a
//! sign: what it is, or the value itself if it is a small number.
//!
//! What tells two states apart is a number of 128 bits: the sum of one hash for the place and one for each value with its marks. A step
//! changes few values, so the sum after it is worked out from those. Tests compare it with the sum over everything at every step.

use std::sync::Arc;

use xxhash_rust::xxh3::{xxh3_64, xxh3_128};

use vestigum_core::Value;
use vestigum_core::state::State;
use vestigum_core::state::position::{Checkpoint, LevelPosition, Position};
use vestigum_spec::history::choices;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Chosen;

use super::cuts::UNCUT;
use super::question::checkpoint_key;

/// The sign before the value of the entry mark, and of the checkpoint mark.
const ENTRY: u8 = 0xE0;
const CHECKPOINT: u8 = 0xC0;

/// From 0 to below `SMALL` a number is its sign: `FIRST_SMALL` plus the number.
const FIRST_SMALL: u8 = 16;
const SMALL: u8 = 100;

/// Describes which values of a state are told apart, and how.
#[derive(Clone, Debug)]
pub(crate) struct Packing {
    slots: Vec<PackedSlot>,
    /// For each slot of the state its index in `slots`; `None` for one that does not matter.
    places: Vec<Option<u32>>,
}

#[derive(Clone, Debug)]
struct PackedSlot {
    slot: usize,
    /// A number above this one is as good as this one.
    cut: i64,
    /// The names of a choice.
    names: Option<Arc<[Arc<Chosen>]>>,
}

/// A state of the frontier. What does not matter is at its default in it.
#[derive(Clone, Debug)]
pub(super) enum Packed {
    Bytes(Box<[u8]>),
    /// One with texts or containers that matter, with names made at run time, or at a checkpoint that no level lists.
    Whole(Box<State>),
}

impl Packing {
    /// Of these fields, each with where its number is cut, the entries that are followed.
    pub(super) fn of<'f>(
        fields: impl Iterator<Item = (&'f Field, i64)>,
        follows: &dyn Fn(&Field, usize) -> bool,
    ) -> Packing {
        let mut slots = Vec::new();
        for (field, cut) in fields {
            let names: Option<Arc<[Arc<Chosen>]>> = choices(field.ty()).map(Arc::from);
            let followed = field.slots().filter(|slot| follows(field, *slot));
            slots.extend(followed.map(|slot| PackedSlot { slot, cut, names: names.clone() }));
        }
        let mut places = vec![None; slots.iter().map(|place| place.slot + 1).max().unwrap_or(0)];
        for (place, index) in slots.iter().zip(0..) {
            places[place.slot] = Some(index);
        }
        Packing { slots, places }
    }

    /// Returns the sum over all values that matter.
    pub(super) fn sum(&self, state: &State) -> u128 {
        let in_level = state.position.is_level();
        self.slots.iter().fold(0, |sum, place| sum.wrapping_add(place.hash(state, in_level)))
    }

    /// Returns the sum after a step from `before`, whose sum is known. `touched` is memory to work in.
    pub(super) fn sum_after(&self, before: &State, sum: u128, after: &State, touched: &mut Vec<usize>) -> u128 {
        // A relaunch makes another state, and nobody knows what was written to it.
        let Some((written, marks)) = after.written() else { return self.sum(after) };
        touched.clear();
        touched.extend_from_slice(written);
        let (was_in, is_in) = (before.position.is_level(), after.position.is_level());
        if marks || was_in != is_in {
            touched.extend(before.marked_slots());
            touched.extend(after.marked_slots());
            touched.sort_unstable();
            touched.dedup();
        }
        touched.iter().fold(sum, |sum, slot| match self.places.get(*slot) {
            Some(Some(index)) => {
                let place = &self.slots[*index as usize];
                sum.wrapping_sub(place.hash(before, was_in)).wrapping_add(place.hash(after, is_in))
            }
            Some(None) | None => sum,
        })
    }

    /// Returns what is added to the sum for where the player stands, and for how many levels were entered.
    pub(super) fn place(position: &Position, enters: u8) -> u128 {
        let (kind, standing) = match position {
            Position::Menu => (0, None),
            Position::RunOver => (1, None),
            Position::Level(standing) => (2, Some(standing)),
        };
        let mut bytes = [0; 22];
        (bytes[0], bytes[1]) = (enters, kind);
        if let Some(standing) = standing {
            bytes[2..6].copy_from_slice(&standing.level.to_le_bytes());
            bytes[6..14].copy_from_slice(&checkpoint_key(standing.checkpoint.as_ref()).to_le_bytes());
            bytes[14..].copy_from_slice(&checkpoint_key(standing.entered_at.as_ref()).to_le_bytes());
        }
        xxh3_128(&bytes)
    }

    /// Everything, as it is.
    pub(crate) fn all(model: &Model) -> Packing {
        Packing::of(model.fields.iter().map(|field| (field, UNCUT)), &|_, _| true)
    }

    /// `bytes` is what [`Packing::put`] has made of the state.
    pub(super) fn pack(&self, state: &State, bytes: &[u8]) -> Packed {
        if self.is_in_bytes(state) { Packed::Bytes(bytes.into()) } else { Packed::Whole(Box::new(state.clone())) }
    }

    pub(super) fn unpack(&self, packed: &Packed, into: &mut State, fresh: &State) {
        match packed {
            Packed::Whole(state) => into.copy_from(state),
            Packed::Bytes(bytes) => {
                into.copy_from(fresh);
                // The bytes are whole, because this process has made them of a state.
                let _ = self.get(&mut Reader(bytes), into);
            }
        }
    }

    /// Returns whether the bytes say all of what matters in a state.
    fn is_in_bytes(&self, state: &State) -> bool {
        let named = |checkpoint: &Option<Checkpoint>| matches!(checkpoint, Some(Checkpoint::Named(_)));
        let standing = state.position.level_position();
        state.made.iter().all(indexmap::IndexSet::is_empty)
            && !standing.is_some_and(|standing| named(&standing.checkpoint) || named(&standing.entered_at))
            && self.slots.iter().all(|place| {
                let (entry, checkpoint) = state.noted_marks(place.slot);
                [Some(state.value(place.slot)), entry, checkpoint].into_iter().flatten().all(is_small)
            })
    }

    /// The place, and the values with their marks. Numbers are cut.
    pub(crate) fn put(&self, bytes: &mut Vec<u8>, state: &State) {
        match &state.position {
            Position::Menu => bytes.push(0),
            Position::RunOver => bytes.push(1),
            Position::Level(standing) => {
                bytes.push(2);
                bytes.extend_from_slice(&standing.level.to_le_bytes());
                bytes.extend_from_slice(&checkpoint_key(standing.checkpoint.as_ref()).to_le_bytes());
                bytes.extend_from_slice(&checkpoint_key(standing.entered_at.as_ref()).to_le_bytes());
            }
        }
        let in_level = state.position.is_level();
        for PackedSlot { slot, cut, .. } in &self.slots {
            let value = state.value(*slot);
            put(bytes, value, *cut);
            if in_level && state.is_noted(*slot) {
                let (entry, checkpoint) = state.noted_marks(*slot);
                for (mark, sign) in [(entry, ENTRY), (checkpoint, CHECKPOINT)] {
                    if let Some(mark) = mark.filter(|mark| !is_same(mark, value, *cut)) {
                        bytes.push(sign);
                        put(bytes, mark, *cut);
                    }
                }
            }
        }
    }

    /// Puts the bytes into a state in which nothing was played; none if they are not whole.
    fn get(&self, reader: &mut Reader<'_>, state: &mut State) -> Option<()> {
        state.position = match reader.byte()? {
            0 => Position::Menu,
            1 => Position::RunOver,
            _ => {
                let level = u32::from_le_bytes(reader.array()?);
                let (checkpoint, entered_at) = (reader.checkpoint()?, reader.checkpoint()?);
                Position::Level(LevelPosition { level, checkpoint, entered_at })
            }
        };
        let in_level = state.position.is_level();
        for place in &self.slots {
            let value = reader.value(place)?;
            let (entry, checkpoint) =
                if in_level { (reader.signed(ENTRY, place), reader.signed(CHECKPOINT, place)) } else { (None, None) };
            state.put_back(place.slot, value, entry, checkpoint);
        }
        Some(())
    }
}

/// Names what a hash is of: the value itself, or what a mark has instead.
#[derive(Clone, Copy)]
enum Hashed {
    Value = 0,
    EntryMark = 1,
    CheckpointMark = 2,
}

impl PackedSlot {
    /// Returns the hash of the value, and of its marks where they are other values.
    fn hash(&self, state: &State, in_level: bool) -> u128 {
        let value = state.value(self.slot);
        let mut hash = self.hash_of(value, Hashed::Value);
        if in_level && state.is_noted(self.slot) {
            let (entry, checkpoint) = state.noted_marks(self.slot);
            for (mark, of) in [(entry, Hashed::EntryMark), (checkpoint, Hashed::CheckpointMark)] {
                if let Some(mark) = mark.filter(|mark| !is_same(mark, value, self.cut)) {
                    hash = hash.wrapping_add(self.hash_of(mark, of));
                }
            }
        }
        hash
    }

    #[inline]
    fn hash_of(&self, value: &Value, of: Hashed) -> u128 {
        let (kind, word) = match value {
            Value::Unfilled => (0, 0),
            Value::Bool(bool) => (1, u64::from(*bool)),
            Value::Int(int) => (3, (*int).min(self.cut).cast_unsigned()),
            Value::Float(float) => (4, float.get().to_bits()),
            Value::Choice(chosen) => (6, u64::from(chosen.index)),
            Value::Text(_)
            | Value::Bytes(_)
            | Value::Vec2(_)
            | Value::Vec3(_)
            | Value::Struct(..)
            | Value::List(_)
            | Value::Set(_)
            | Value::Map(_) => (5, xxh3_64(value.to_string().as_bytes())),
        };
        let mut bytes = [0; 16];
        bytes[..8].copy_from_slice(&word.to_le_bytes());
        bytes[8..].copy_from_slice(&((self.slot as u64) << 8 | (of as u64) << 4 | kind).to_le_bytes());
        xxh3_128(&bytes)
    }
}

/// Returns whether bytes say all of a value.
fn is_small(value: &Value) -> bool {
    match value {
        Value::Unfilled | Value::Bool(_) | Value::Int(_) | Value::Float(_) | Value::Choice(_) => true,
        Value::Text(_)
        | Value::Bytes(_)
        | Value::Vec2(_)
        | Value::Vec3(_)
        | Value::Struct(..)
        | Value::List(_)
        | Value::Set(_)
        | Value::Map(_) => false,
    }
}

fn is_same(mark: &Value, value: &Value, cut: i64) -> bool {
    match (mark, value) {
        (Value::Int(mark), Value::Int(value)) => (*mark).min(cut) == (*value).min(cut),
        _ => mark == value,
    }
}

#[inline]
fn put(bytes: &mut Vec<u8>, value: &Value, cut: i64) {
    match value {
        Value::Unfilled => bytes.push(0),
        Value::Bool(bool) => bytes.push(1 + u8::from(*bool)),
        // Small numbers are short.
        Value::Int(int) => {
            let int = (*int).min(cut);
            match u8::try_from(int) {
                Ok(small) if small < SMALL => bytes.push(FIRST_SMALL + small),
                _ => {
                    bytes.push(3);
                    bytes.extend_from_slice(&int.to_le_bytes());
                }
            }
        }
        Value::Float(float) => {
            bytes.push(4);
            bytes.extend_from_slice(&float.get().to_bits().to_le_bytes());
        }
        Value::Choice(chosen) => {
            bytes.push(6);
            bytes.extend_from_slice(&chosen.index.to_le_bytes());
        }
        other => {
            let text = other.to_string();
            bytes.push(5);
            bytes.extend_from_slice(&(text.len() as u32).to_le_bytes());
            bytes.extend_from_slice(text.as_bytes());
        }
    }
}

/// Takes apart what [`Packing::put`] has put together.
struct Reader<'b>(&'b [u8]);

impl Reader<'_> {
    fn byte(&mut self) -> Option<u8> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        Some(*first)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (first, rest) = self.0.split_first_chunk::<N>()?;
        self.0 = rest;
        Some(*first)
    }

    fn value(&mut self, place: &PackedSlot) -> Option<Value> {
        Some(match self.byte()? {
            0 => Value::Unfilled,
            1 => Value::Bool(false),
            2 => Value::Bool(true),
            3 => Value::Int(i64::from_le_bytes(self.array()?)),
            4 => Value::float(f64::from_bits(u64::from_le_bytes(self.array()?))),
            6 => {
                let index = u32::from_le_bytes(self.array()?);
                Value::Choice(place.names.as_ref()?.get(index as usize)?.clone())
            }
            sign => Value::Int(i64::from(sign.checked_sub(FIRST_SMALL)?)),
        })
    }

    /// A value, if that sign stands before it.
    fn signed(&mut self, sign: u8, place: &PackedSlot) -> Option<Value> {
        if self.0.first() != Some(&sign) {
            return None;
        }
        self.0 = &self.0[1..];
        self.value(place)
    }

    /// A listed checkpoint by its key, which is 0 for none.
    fn checkpoint(&mut self) -> Option<Option<Checkpoint>> {
        let key = u64::from_le_bytes(self.array()?);
        Some(u32::try_from(key).ok()?.checked_sub(1).map(Checkpoint::Listed))
    }
}
