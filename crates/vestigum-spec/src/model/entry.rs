//! Finding an entry by its names, and naming it.

use std::sync::Arc;

use crate::access::{AccessError, AccessErrorKind};
use crate::model::Types;
use crate::model::axis::{Axis, MAX_AXES, MadeKeys};
use crate::model::field::Field;
use crate::nearest::suggestion;
use crate::vocabulary::key::{EntryName, Key, KeyAxis, Keys};

/// An entry by its names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntrySlot {
    /// Its place among all values.
    Slot(usize),
    /// A key of an open set that was not made yet: it reads as the default.
    NotMade,
}

/// The entry that all names together mean.
///
/// # Errors
/// If the field takes no key, or another number of names, or a name is unknown.
pub fn entry_of(spec: &Types, field: &Field, names: &[&str], made: &MadeKeys) -> Result<EntrySlot, AccessError> {
    if !field.is_keyed() {
        return Err(AccessErrorKind::NoKey { name: field.name.to_string() }.into());
    }
    if names.len() != field.names_in_key() {
        let wanted = spec.key_words(field).join(" and ");
        return Err(AccessErrorKind::WrongKeys { name: field.name.to_string(), wanted, found: names.len() }.into());
    }
    let mut names = names.iter().copied();
    let mut keys = [0; MAX_AXES];
    let mut all_made = true;
    for (key, axis) in keys.iter_mut().zip(&field.axes) {
        let name = names.next().unwrap_or_default();
        *key = match axis {
            Axis::Level => level_of(spec, name)?,
            Axis::Checkpoint => {
                let level = level_of(spec, name)?;
                let name = names.next().unwrap_or_default();
                let listed = &spec.level(level).checkpoints;
                let index = listed.get_index_of(name);
                index
                    .and_then(|index| spec.checkpoint_key(level, index as u32))
                    .ok_or_else(|| unknown_key("checkpoint", name, listed.iter().map(|checkpoint| &**checkpoint)))?
            }
            Axis::Keys(set) => {
                let declared = &spec.key_sets[*set as usize];
                if declared.max.is_some() {
                    match made[*set as usize].get_index_of(name) {
                        Some(key) => key as u32,
                        // The other names are looked at all the same: an unknown one is an error.
                        None => {
                            all_made = false;
                            0
                        }
                    }
                } else {
                    let key = declared.names.get_index_of(name).map(|key| key as u32);
                    key.ok_or_else(|| unknown_key(&declared.name, name, declared.names()))?
                }
            }
        };
    }
    Ok(if all_made { EntrySlot::Slot(field.slot_at(&keys)) } else { EntrySlot::NotMade })
}

fn level_of(spec: &Types, name: &str) -> Result<u32, AccessError> {
    let unknown = |nearest| AccessErrorKind::UnknownKey { axis: "level".into(), name: name.to_owned(), nearest }.into();
    spec.find_level(name).map_err(unknown)
}

fn unknown_key<'a>(axis: &str, name: &str, known: impl Iterator<Item = &'a str>) -> AccessError {
    AccessErrorKind::UnknownKey { axis: axis.to_owned(), name: name.to_owned(), nearest: suggestion(name, known) }
        .into()
}

/// Says that an axis has no key of that name.
pub fn which_key(spec: &Types, field: &Field, axis: Axis) -> AccessError {
    let example: Option<Arc<str>> = match axis {
        Axis::Level => spec.levels.first().map(|level| level.id.clone()),
        Axis::Checkpoint => spec.example_checkpoint().map(Arc::from),
        Axis::Keys(set) => spec.key_sets[set as usize].names.first().cloned(),
    };
    AccessErrorKind::WhichKey {
        name: field.name.to_string(),
        axis: spec.axis_word(axis).to_owned(),
        example: example.as_deref().unwrap_or("KEY").to_owned(),
    }
    .into()
}

/// The key of an entry. Of a field that is keyed it is empty where a key of an open set was not made yet.
pub fn keys_of(spec: &Types, field: &Field, slot: usize, made: &MadeKeys) -> Keys {
    let mut keys = Vec::with_capacity(field.axes.len());
    for (axis, key) in field.axes.iter().zip(field.keys_of(slot)) {
        match axis {
            Axis::Level => keys.push(Key { axis: KeyAxis::Level, name: spec.level(key).id.clone() }),
            Axis::Checkpoint => {
                let (level, checkpoint) = spec.checkpoint_keys[key as usize];
                let level = spec.level(level);
                keys.push(Key { axis: KeyAxis::Level, name: level.id.clone() });
                keys.push(Key { axis: KeyAxis::Checkpoint, name: level.checkpoints[checkpoint as usize].clone() });
            }
            Axis::Keys(set) => {
                let declared = &spec.key_sets[*set as usize];
                let Some(name) = declared.all_names(&made[*set as usize]).get_index(key as usize) else {
                    return Keys::default();
                };
                keys.push(Key { axis: KeyAxis::Set(declared.name.clone()), name: name.clone() });
            }
        }
    }
    Keys::new(keys)
}

/// An entry as expressions name it: `best_letters[mill_lane]`, or the field alone.
pub fn entry_name(spec: &Types, field: &Field, slot: usize, made: &MadeKeys) -> EntryName {
    EntryName { field: field.name.clone(), keys: keys_of(spec, field, slot, made) }
}
