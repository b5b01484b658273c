//! Where the entries of one version are in the next, and where they were.

use crate::state::State;
use crate::state::position::Checkpoint;
use vestigum_spec::migration::NameMap;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::{Axis, MadeKeys};
use vestigum_spec::model::field::Field;

/// The entries of two versions, by the names of their keys.
pub(crate) struct Entries<'a> {
    pub names: &'a NameMap,
    pub old: &'a Model,
    pub new: &'a Model,
    /// The old values, for the names that were made at run time.
    pub from: &'a State,
    /// Those names as they are now.
    pub made: &'a MadeKeys,
}

/// The level, checkpoint and keys of the old version that an entry of the new one had.
pub(crate) struct Before {
    pub level: Option<u32>,
    pub checkpoint: Option<Checkpoint>,
    pub keys: Vec<(u32, u32)>,
}

impl Entries<'_> {
    /// The slot of an old entry, if the new version has a place for it.
    pub(crate) fn now(&self, was: &Field, is: &Field, slot: usize) -> Option<usize> {
        if was.axes.is_empty() {
            return Some(is.first_slot);
        }
        let made = |set: u32, name: &str| self.made[set as usize].get_index_of(name).map(|key| key as u32);
        let keys = was.axes.iter().zip(was.keys_of(slot)).map(|(axis, key)| {
            let names = match axis {
                Axis::Keys(set) => Some(self.old.key_sets[*set as usize].all_names(&self.from.made[*set as usize])),
                Axis::Level | Axis::Checkpoint => None,
            };
            let name = names.and_then(|names| names.get_index(key as usize));
            self.names.key_now(self.new, *axis, key, name, made)
        });
        Some(is.slot_at(&keys.collect::<Option<Vec<u32>>>()?))
    }

    /// Returns why an old entry has no place, if that is because of a name: the new version keeps fewer of those that are made at
    /// run time, or declares others.
    pub(crate) fn no_room(&self, was: &Field, slot: usize) -> Option<String> {
        was.axes.iter().zip(was.keys_of(slot)).find_map(|(axis, key)| {
            let Axis::Keys(set) = axis else { return None };
            let keys = &self.new.key_sets[self.names.sets[*set as usize]? as usize];
            let before = self.old.key_sets[*set as usize].all_names(&self.from.made[*set as usize]);
            let name = self.names.key(*set, before.get_index(key as usize)?)?;
            match keys.max {
                Some(max) => Some(format!("`{}` keeps {max} names at most", keys.name)),
                None if keys.names.contains(&name) => None,
                None => Some(format!("no {} is called `{name}`", keys.name)),
            }
        })
    }

    /// Returns what a new entry was. None for one of an open key set whose name was never made.
    pub(crate) fn before(&self, field: &Field, slot: usize) -> Option<Before> {
        let mut before = Before { level: None, checkpoint: None, keys: Vec::new() };
        for (axis, key) in field.axes.iter().zip(field.keys_of(slot)) {
            match axis {
                Axis::Level => before.level = self.names.old_levels[key as usize],
                Axis::Checkpoint => {
                    let stop = self.names.old_stops[key as usize].map(|stop| self.old.checkpoint_keys[stop as usize]);
                    before.level = stop.map(|(level, _)| level);
                    before.checkpoint = stop.map(|(_, checkpoint)| Checkpoint::Listed(checkpoint));
                }
                Axis::Keys(set) => {
                    let keys = &self.new.key_sets[*set as usize];
                    let name = keys.all_names(&self.made[*set as usize]).get_index(key as usize)?;
                    let Some(was) = self.names.old_sets[*set as usize] else { continue };
                    let there = self.old.key_sets[was as usize].all_names(&self.from.made[was as usize]);
                    let found = there.iter().position(|old| self.names.key(was, old).is_some_and(|now| now == *name));
                    before.keys.extend(found.map(|key| (was, key as u32)));
                }
            }
        }
        Some(before)
    }
}
