//! Finding the entry of a field that a game or a script names.

use std::borrow::Cow;
use std::sync::Arc;

use crate::nearest::nearest;
use crate::outcome::AccessError;
use crate::spec::{Axis, Field, MadeKeys, SpecData, key_text};

use super::Progress;

/// An entry by its names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    Slot(usize),
    /// A key of an open set that was not made yet: it reads as the default.
    NotMade,
}

impl Progress {
    pub(crate) fn find(&self, name: &str) -> Result<&Field, AccessError> {
        self.spec.0.find_field(name).ok_or_else(|| {
            if self.spec.0.derived_ids.contains_key(name) {
                return AccessError::IsDerived { name: name.to_owned() };
            }
            let nearest = nearest(name, self.spec.fields().map(Field::name)).map(str::to_owned);
            AccessError::UnknownName { name: name.to_owned(), nearest }
        })
    }

    /// The entry of a field. Without keys it is the one of the place and of the `current` keys.
    pub(crate) fn entry(&self, field: &Field, keys: &[&str]) -> Result<Found, AccessError> {
        if keys.is_empty() { self.entry_here(field) } else { entry_of(&self.spec.0, field, keys, &self.state.made) }
    }

    fn entry_here(&self, field: &Field) -> Result<Found, AccessError> {
        let spec = &self.spec.0;
        let env = self.env();
        let mut keys = Vec::with_capacity(field.axes.len());
        for axis in &field.axes {
            let key = match axis {
                Axis::Level => env.level,
                Axis::Checkpoint => env.stop(),
                Axis::Keys(set) => spec.current_key(*set, |slot| self.state.value(slot).clone()),
            };
            keys.push(key.ok_or_else(|| which_key(spec, field, *axis))?);
        }
        Ok(Found::Slot(field.slot_at(&keys)))
    }

    /// Makes the keys of open sets that a write names for the first time. Nothing is made unless all can be.
    pub(crate) fn make_keys(&mut self, field: &Field, keys: &[&str]) -> Result<usize, AccessError> {
        let spec = self.spec.clone();
        let mut names = keys.iter();
        let mut new: Vec<(usize, &str)> = Vec::new();
        for axis in &field.axes {
            let name = match axis {
                Axis::Checkpoint => names.next().and(names.next()),
                _ => names.next(),
            };
            let (Axis::Keys(set), Some(name)) = (axis, name) else { continue };
            let declared = &spec.0.key_sets[*set as usize];
            let made = &self.state.made[*set as usize];
            let Some(max) = declared.max.filter(|_| !made.contains(*name)) else { continue };
            if made.len() >= max as usize {
                return Err(AccessError::KeysFull { axis: declared.name.to_string(), max });
            }
            if !crate::spec::is_made_name(name) {
                return Err(AccessError::BadKey { axis: declared.name.to_string(), name: (*name).to_owned() });
            }
            new.push((*set as usize, name));
        }
        for (set, name) in new {
            self.state.made[set].insert(name.into());
        }
        match self.entry(field, keys)? {
            Found::Slot(slot) => Ok(slot),
            Found::NotMade => Err(which_key(&spec.0, field, field.axes[0])),
        }
    }
}

/// The entry that all names together mean.
pub(crate) fn entry_of(spec: &SpecData, field: &Field, names: &[&str], made: &MadeKeys) -> Result<Found, AccessError> {
    let wanted = spec.key_words(field);
    if wanted.is_empty() {
        return Err(AccessError::NoKey { name: field.name.to_string() });
    }
    if names.len() != wanted.len() {
        let wanted = wanted.join(" and ");
        return Err(AccessError::WrongKeys { name: field.name.to_string(), wanted, found: names.len() });
    }
    let mut names = names.iter().copied();
    let mut keys = Vec::with_capacity(field.axes.len());
    let mut all_made = true;
    for axis in &field.axes {
        let name = names.next().unwrap_or_default();
        let key = match axis {
            Axis::Level => level_of(spec, name)?,
            Axis::Checkpoint => {
                let level = level_of(spec, name)?;
                let name = names.next().unwrap_or_default();
                let listed = &spec.level(level).checkpoints;
                let index = listed.iter().position(|checkpoint| &**checkpoint == name);
                index
                    .and_then(|index| spec.stop(level, index as u32))
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
        keys.push(key);
    }
    Ok(if all_made { Found::Slot(field.slot_at(&keys)) } else { Found::NotMade })
}

fn level_of(spec: &SpecData, name: &str) -> Result<u32, AccessError> {
    let found = spec.level_ids.get(name).copied();
    found.ok_or_else(|| unknown_key("level", name, spec.levels.iter().map(|level| &*level.id)))
}

fn unknown_key<'a>(axis: &str, name: &str, known: impl Iterator<Item = &'a str>) -> AccessError {
    AccessError::UnknownKey {
        axis: axis.to_owned(),
        name: name.to_owned(),
        nearest: nearest(name, known).map(str::to_owned),
    }
}

fn which_key(spec: &SpecData, field: &Field, axis: Axis) -> AccessError {
    let example: Option<Arc<str>> = match axis {
        Axis::Level => spec.levels.first().map(|level| level.id.clone()),
        Axis::Checkpoint => spec.example_checkpoint().map(Arc::from),
        Axis::Keys(set) => spec.key_sets[set as usize].names.first().cloned(),
    };
    AccessError::WhichKey {
        name: field.name.to_string(),
        axis: spec.axis_word(axis).to_owned(),
        example: example.as_deref().unwrap_or("KEY").to_owned(),
    }
}

/// The key of an entry as expressions write it in brackets: the names of all its axes, in quotes where they are no plain
/// names.
pub(crate) fn key_of(spec: &SpecData, field: &Field, slot: usize, made: &MadeKeys) -> Option<Arc<str>> {
    if field.axes.is_empty() {
        return None;
    }
    let names = spec.entry_names(field, slot, made);
    match &names[..] {
        [one] if matches!(key_text(one), Cow::Borrowed(_)) => Some(one.clone()),
        names => Some(names.iter().map(|name| key_text(name)).collect::<Vec<_>>().join(", ").into()),
    }
}

/// An entry as expressions name it: `best_letters[mill_lane]`, or the field alone.
pub(crate) fn entry_name(spec: &SpecData, field: &Field, slot: usize, made: &MadeKeys) -> String {
    match key_of(spec, field, slot, made) {
        Some(key) => format!("{}[{key}]", field.name),
        None => field.name.to_string(),
    }
}
