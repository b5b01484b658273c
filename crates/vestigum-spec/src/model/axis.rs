//! Axes: what a field is keyed by.
//!
//! A keyed field has a value for every combination of its axes' keys. They lie side by side in the flat array of values:
//! the last axis runs fastest.

use std::sync::Arc;

use indexmap::IndexSet;

use crate::model::field::{Field, FieldId};
use crate::model::{Names, Types};
use crate::value::Value;

/// The most axes that a field can have.
pub const MAX_AXES: usize = 3;

/// Describes what a field is keyed by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Axis {
    /// The levels.
    Level,
    /// The checkpoints of the levels that list theirs: a key is a level and one of its checkpoints.
    Checkpoint,
    /// A declared key set, by its place in the spec.
    Keys(u32),
}

/// A key set.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct KeySet {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub names: IndexSet<Arc<str>>,
    /// Says how many names can be made at run time; `None` for a closed set.
    #[doc(hidden)]
    pub max: Option<u32>,
    /// The choice field that says which key is meant, and for each of its choices the key.
    #[doc(hidden)]
    pub current: Option<(FieldId, Vec<u32>)>,
}

impl KeySet {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its declared names.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(|name| &**name)
    }

    /// The names there are: of an open set those that were made.
    pub fn all_names<'a>(&'a self, made: &'a IndexSet<Arc<str>>) -> &'a IndexSet<Arc<str>> {
        if self.max.is_some() { made } else { &self.names }
    }

    /// Returns how many names can be made at run time; `None` if all are declared.
    pub fn max(&self) -> Option<u32> {
        self.max
    }

    pub(crate) fn size(&self) -> usize {
        self.max.map_or(self.names.len(), |max| max as usize)
    }
}

/// The names of open key sets that were made so far, for each set of the spec.
pub type MadeKeys = Vec<IndexSet<Arc<str>>>;

/// The entries of a field that a rule touches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Touched {
    /// None: the moment is about no key.
    Nothing,
    /// One, by its slot.
    One(usize),
    /// For each axis the key, or all of them.
    Where(Vec<Option<u32>>),
}

impl Touched {
    /// Returns whether a slot of the field is among them.
    pub fn contains(&self, field: &Field, slot: usize) -> bool {
        match self {
            Touched::Nothing => false,
            Touched::One(one) => *one == slot,
            Touched::Where(wanted) => {
                let keys = field.keys_of(slot);
                wanted.iter().zip(keys).all(|(wanted, key)| wanted.is_none_or(|wanted| wanted == key))
            }
        }
    }
}

impl Names {
    /// Returns how many keys an axis has.
    pub fn axis_len(&self, axis: Axis) -> usize {
        match axis {
            Axis::Level => self.levels.len(),
            Axis::Checkpoint => self.checkpoint_keys.len(),
            Axis::Keys(set) => self.key_sets[set as usize].size(),
        }
    }

    /// The place of a checkpoint on the axis of checkpoints.
    pub fn checkpoint_key(&self, level: u32, checkpoint: u32) -> Option<u32> {
        let of = self.level(level);
        ((checkpoint as usize) < of.checkpoints.len()).then_some(of.first_checkpoint_key + checkpoint)
    }

    /// A checkpoint as keys name it, for messages: its level and its name.
    pub fn example_checkpoint(&self) -> Option<String> {
        let (level, checkpoint) = *self.checkpoint_keys.first()?;
        let level = self.level(level);
        Some(format!("{}, {}", level.id, level.checkpoints[checkpoint as usize]))
    }

    /// The names of one key of an axis: two for a checkpoint.
    pub fn key_names(&self, axis: Axis, key: u32, made: &MadeKeys) -> Vec<Arc<str>> {
        match axis {
            Axis::Level => vec![self.level(key).id.clone()],
            Axis::Checkpoint => {
                let (level, checkpoint) = self.checkpoint_keys[key as usize];
                let level = self.level(level);
                vec![level.id.clone(), level.checkpoints[checkpoint as usize].clone()]
            }
            Axis::Keys(set) => {
                let names = self.key_sets[set as usize].all_names(&made[set as usize]);
                names.get_index(key as usize).cloned().into_iter().collect()
            }
        }
    }

    /// The names of all keys of an entry. Empty for a slot that no made key uses yet.
    pub fn entry_names(&self, field: &Field, slot: usize, made: &MadeKeys) -> Vec<Arc<str>> {
        let keys = field.axes.iter().zip(field.keys_of(slot));
        let mut names = Vec::new();
        for (axis, key) in keys {
            let of_key = self.key_names(*axis, key, made);
            if of_key.is_empty() {
                return Vec::new();
            }
            names.extend(of_key);
        }
        names
    }

    /// Returns whether the keys of an axis are made at run time.
    pub fn is_open(&self, axis: Axis) -> bool {
        matches!(axis, Axis::Keys(set) if self.key_sets[set as usize].max.is_some())
    }

    /// Returns how many entries a keyed field has: of an open key set only the keys that were made.
    pub fn entries_of(&self, field: &Field, made: &MadeKeys) -> usize {
        let lens = field.axes.iter().map(|axis| match axis {
            Axis::Keys(set) if self.key_sets[*set as usize].max.is_some() => made[*set as usize].len(),
            axis @ (Axis::Level | Axis::Checkpoint | Axis::Keys(_)) => self.axis_len(*axis),
        });
        lens.product()
    }

    /// Returns whether an entry's keys are all there: those of open sets are made at run time.
    pub fn is_made(&self, field: &Field, slot: usize, made: &MadeKeys) -> bool {
        field.axes.iter().zip(field.keys_of(slot)).all(|(axis, key)| match axis {
            Axis::Keys(set) if self.key_sets[*set as usize].max.is_some() => (key as usize) < made[*set as usize].len(),
            Axis::Level | Axis::Checkpoint | Axis::Keys(_) => true,
        })
    }

    /// Returns what keys an entry of the field takes, in words.
    pub fn key_words(&self, field: &Field) -> Vec<String> {
        let words = field.axes.iter().flat_map(|axis| match axis {
            Axis::Checkpoint => vec!["a level".to_owned(), "a checkpoint".to_owned()],
            axis @ (Axis::Level | Axis::Keys(_)) => vec![format!("a {}", self.axis_word(*axis))],
        });
        words.collect()
    }

    /// The word for an axis.
    pub fn axis_word(&self, axis: Axis) -> &str {
        match axis {
            Axis::Level => "level",
            Axis::Checkpoint => "checkpoint",
            Axis::Keys(set) => &self.key_sets[set as usize].name,
        }
    }

    /// Returns whether the entry that a rule touches depends on something that a failure can change: on what a choice field says,
    /// or on the checkpoint.
    pub fn touches_by_state(&self, field: &Field) -> bool {
        field.axes.iter().any(|axis| match axis {
            Axis::Level => false,
            Axis::Checkpoint => true,
            Axis::Keys(set) => self.key_sets[*set as usize].current.is_some(),
        })
    }
}

impl Types {
    /// The key that unkeyed names mean on a key set with `current`.
    pub fn current_key(&self, set: u32, value: impl Fn(usize) -> Value) -> Option<u32> {
        let (field, keys) = self.key_sets[set as usize].current.as_ref()?;
        match value(self.field(*field).first_slot) {
            Value::Choice(chosen) => keys.get(chosen.index as usize).copied(),
            _ => None,
        }
    }
}

impl Field {
    /// The slot of an entry.
    #[doc(hidden)]
    pub fn slot_at(&self, keys: &[u32]) -> usize {
        let offset = self.dims.iter().zip(keys).fold(0, |offset, (dim, key)| offset * *dim as usize + *key as usize);
        self.first_slot + offset
    }

    /// The keys of a slot, one for each axis; those after the last axis are 0.
    #[doc(hidden)]
    pub fn keys_of(&self, slot: usize) -> [u32; MAX_AXES] {
        let mut rest = slot - self.first_slot;
        let mut keys = [0; MAX_AXES];
        for (key, dim) in keys[..self.dims.len()].iter_mut().zip(&self.dims).rev() {
            let dim = (*dim).max(1) as usize;
            *key = (rest % dim) as u32;
            rest /= dim;
        }
        keys
    }

    /// Returns how many names the key of an entry has: two for a checkpoint, that of its level and its own.
    #[doc(hidden)]
    pub fn names_in_key(&self) -> usize {
        let names = self.axes.iter().map(|axis| match axis {
            Axis::Checkpoint => 2,
            Axis::Level | Axis::Keys(_) => 1,
        });
        names.sum()
    }

    /// Returns whether the field has a value for each key of something.
    pub fn is_keyed(&self) -> bool {
        !self.axes.is_empty()
    }

    /// Returns what the field is keyed by.
    pub fn axes(&self) -> &[Axis] {
        &self.axes
    }

    /// Returns whether entries belong to levels: keyed by level or by checkpoint.
    pub fn is_per_level(&self) -> bool {
        self.axes.iter().any(|axis| matches!(axis, Axis::Level | Axis::Checkpoint))
    }

    /// The level that an entry belongs to, if it belongs to one.
    #[doc(hidden)]
    pub fn level_of(&self, spec: &Names, slot: usize) -> Option<u32> {
        let at = self.axes.iter().position(|axis| matches!(axis, Axis::Level | Axis::Checkpoint))?;
        let below: usize = self.dims[at + 1..].iter().map(|dim| *dim as usize).product();
        let key = (slot - self.first_slot) / below.max(1) % (self.dims[at] as usize).max(1);
        Some(match self.axes[at] {
            Axis::Checkpoint => spec.checkpoint_keys[key].0,
            Axis::Level | Axis::Keys(_) => key as u32,
        })
    }

    /// The slots of the entries that belong to a level, in their order; none for a field that is not kept for levels.
    #[doc(hidden)]
    pub fn slots_of_level(&self, spec: &Names, level: u32) -> Vec<usize> {
        let Some(at) = self.axes.iter().position(|axis| matches!(axis, Axis::Level | Axis::Checkpoint)) else {
            return Vec::new();
        };
        let below: usize = self.dims[at + 1..].iter().map(|dim| *dim as usize).product();
        let above: usize = self.dims[..at].iter().map(|dim| *dim as usize).product();
        let keys = match self.axes[at] {
            Axis::Checkpoint => {
                let of = spec.level(level);
                of.first_checkpoint_key as usize..of.first_checkpoint_key as usize + of.checkpoints.len()
            }
            Axis::Level | Axis::Keys(_) => level as usize..level as usize + 1,
        };
        let row = self.dims[at] as usize * below;
        let start = |outer: usize| self.first_slot + outer * row;
        (0..above).flat_map(|outer| start(outer) + keys.start * below..start(outer) + keys.end * below).collect()
    }

    /// Returns whether an entry belongs to a level.
    #[doc(hidden)]
    pub fn is_of_level(&self, spec: &Names, slot: usize, level: u32) -> bool {
        self.level_of(spec, slot) == Some(level)
    }
}
