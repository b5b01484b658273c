//! Finding the entry of a field that a game or a script names.

use crate::progress::Progress;
use vestigum_spec::model::axis::{Axis, MAX_AXES};
use vestigum_spec::model::entry::{EntrySlot, entry_of, which_key};
use vestigum_spec::model::field::Field;
use vestigum_spec::{AccessError, AccessErrorKind};

impl Progress {
    pub(crate) fn find(&self, name: &str) -> Result<&Field, AccessError> {
        self.model.find_field(name).ok_or_else(|| {
            if self.model.derived_ids.contains_key(name) {
                return AccessErrorKind::IsDerived { name: name.to_owned() }.into();
            }
            let nearest = self.model.suggested_field(name);
            AccessErrorKind::UnknownName { name: name.to_owned(), nearest }.into()
        })
    }

    /// The entry of a field. Without keys it is the one of the place and of the `current` keys.
    pub(crate) fn entry(&self, field: &Field, keys: &[&str]) -> Result<EntrySlot, AccessError> {
        if keys.is_empty() { self.entry_here(field) } else { entry_of(&self.model, field, keys, &self.state.made) }
    }

    fn entry_here(&self, field: &Field) -> Result<EntrySlot, AccessError> {
        let spec = &self.model;
        let env = self.env();
        let mut keys = [0; MAX_AXES];
        for (at, axis) in keys.iter_mut().zip(&field.axes) {
            let key = match axis {
                Axis::Level => env.level,
                Axis::Checkpoint => env.checkpoint_key(),
                Axis::Keys(set) => spec.current_key(*set, |slot| self.state.value(slot).clone()),
            };
            *at = key.ok_or_else(|| which_key(spec, field, *axis))?;
        }
        Ok(EntrySlot::Slot(field.slot_at(&keys)))
    }

    /// Makes the keys of open sets that a write names for the first time. Nothing is made unless all can be.
    pub(crate) fn make_keys(&mut self, field: &Field, keys: &[&str]) -> Result<usize, AccessError> {
        let spec = self.model.clone();
        let mut names = keys.iter();
        let mut new: Vec<(usize, &str)> = Vec::new();
        for axis in &field.axes {
            let name = match axis {
                Axis::Checkpoint => names.next().and(names.next()),
                Axis::Level | Axis::Keys(_) => names.next(),
            };
            let (Axis::Keys(set), Some(name)) = (axis, name) else { continue };
            let declared = &spec.key_sets[*set as usize];
            let made = &self.state.made[*set as usize];
            let Some(max) = declared.max.filter(|_| !made.contains(*name)) else { continue };
            if made.len() >= max as usize {
                return Err(AccessErrorKind::KeysFull { axis: declared.name.to_string(), max }.into());
            }
            if !vestigum_spec::vocabulary::names::is_made_name(name) {
                return Err(
                    AccessErrorKind::BadKey { axis: declared.name.to_string(), name: (*name).to_owned() }.into()
                );
            }
            new.push((*set as usize, name));
        }
        for (set, name) in new {
            self.state.make_name(set, name);
        }
        match self.entry(field, keys)? {
            EntrySlot::Slot(slot) => Ok(slot),
            EntrySlot::NotMade => Err(which_key(&spec, field, field.axes[0])),
        }
    }
}
