//! What play writes, between the moments.

use std::sync::Arc;

use crate::expression::literal_of;
use crate::handle::{Handle, Number, Scalar};
use crate::outcome::{AccessError, Written};
use crate::spec::{FieldId, Limits};
use crate::value::{Value, add};

use super::Progress;

impl Progress {
    /// Writes a value. It is brought into the field's limits, and the answer says so.
    ///
    /// # Errors
    /// If only rules write the field, if it lives inside a level and the player is in none, or after `quit`.
    ///
    /// # Panics
    /// If the handle is of another spec.
    #[inline(always)]
    pub fn set<T: Scalar + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        self.put(at.field, at.slot as usize, |_, limits| T::fit(value, limits))
    }

    /// Adds to a number. The sum saturates.
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    #[inline(always)]
    pub fn add<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        self.put(at.field, at.slot as usize, |old, limits| T::fit(T::plus(old, by), limits))
    }

    /// Writes a field by name; `level` names the entry of a per-level field, and left out means the level the player
    /// is in.
    ///
    /// # Errors
    /// As [`Progress::set`], and if there is no such field or level, or the value is of another type.
    pub fn write(&mut self, field: &str, level: Option<&str>, value: Value) -> Result<Written, AccessError> {
        let (id, slot, value) = self.target(field, level, value)?;
        self.put(id, slot, |_, limits| limits.clamp(value))
    }

    /// Adds to a field by name.
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is no number.
    pub fn write_add(&mut self, field: &str, level: Option<&str>, by: Value) -> Result<Written, AccessError> {
        let (id, slot, by) = self.target(field, level, by)?;
        if !self.spec.0.field(id).ty.is_number() {
            return Err(AccessError::WrongType {
                field: field.to_owned(),
                wanted: self.spec.0.field(id).ty.clone(),
                value: "a sum".into(),
            });
        }
        self.put(id, slot, |old, limits| limits.clamp(if old.is_filled() { add(old, &by) } else { by }))
    }

    fn target(&self, name: &str, level: Option<&str>, value: Value) -> Result<(FieldId, usize, Value), AccessError> {
        let field = self.find(name)?;
        let written = value.to_string();
        let Some(value) = literal_of(&field.ty, value) else {
            let (field, wanted) = (field.name.to_string(), field.ty.clone());
            return Err(AccessError::WrongType { field, wanted, value: written });
        };
        Ok((field.id, self.slot(field, level)?, value))
    }

    /// Writes what `new` makes of the old value, if play may write the field where it is now.
    #[inline(always)]
    fn put(
        &mut self,
        id: FieldId,
        slot: usize,
        new: impl FnOnce(&Value, &Limits) -> (Value, bool),
    ) -> Result<Written, AccessError> {
        let field = self.spec.0.field(id);
        if self.closed || !field.played || (field.in_level && !self.state.spot.is_level()) {
            return Err(self.why_not(id));
        }
        let (value, clamped) = new(self.state.value(slot), &field.limits);
        let judge = field.read_by_openings;
        self.state.write(slot, value);
        Ok(Written { clamped, opened: if judge { self.opened_now() } else { None } })
    }

    #[cold]
    #[inline(never)]
    fn why_not(&self, field: FieldId) -> AccessError {
        let field = self.spec.0.field(field);
        let name = field.name.to_string();
        if self.closed {
            AccessError::Closed
        } else if !field.written_by.play() {
            AccessError::RulesOnly { field: name }
        } else {
            AccessError::NotInLevel { field: name, lasts: field.lasts, place: self.place() }
        }
    }

    #[cold]
    #[inline(never)]
    fn opened_now(&mut self) -> Option<Box<[Arc<str>]>> {
        let opened: Vec<Arc<str>> = self.judge_openings().into_iter().filter_map(|change| change.key).collect();
        (!opened.is_empty()).then(|| opened.into())
    }
}
