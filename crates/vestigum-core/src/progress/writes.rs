//! What play writes, between the moments.

use std::sync::Arc;

use crate::expression::literal_of;
use crate::handle::{Handle, Scalar};
use crate::outcome::{AccessError, Written};
use crate::spec::{Field, FieldId};
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
    #[inline]
    pub fn set<T: Scalar + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        self.put(at.field, at.slot, T::value(value))
    }

    /// Adds to a number. The sum saturates.
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    #[inline]
    pub fn add<T>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError>
    where
        T: for<'a> Scalar<Write<'a> = T> + Copy + Into<Value>,
    {
        self.check_handle(at.fingerprint);
        let sum = self.sum(at.field, at.slot, &by.into());
        self.put(at.field, at.slot, sum)
    }

    /// Writes a field by name; `level` names the entry of a per-level field, and left out means the level the player
    /// is in.
    ///
    /// # Errors
    /// As [`Progress::set`], and if there is no such field or level, or the value is of another type.
    pub fn write(&mut self, field: &str, level: Option<&str>, value: Value) -> Result<Written, AccessError> {
        let (id, slot, value) = self.target(field, level, value)?;
        self.put(id, slot, value)
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
        let sum = self.sum(id, slot, &by);
        self.put(id, slot, sum)
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

    fn sum(&self, field: FieldId, slot: usize, by: &Value) -> Value {
        let old = self.state.value(slot);
        if old.is_filled() { add(old, by) } else { add(&self.spec.0.field(field).ty.zero(), by) }
    }

    #[inline]
    fn put(&mut self, field: FieldId, slot: usize, value: Value) -> Result<Written, AccessError> {
        let spec = &*self.spec.0;
        let field = spec.field(field);
        if self.closed || !field.written_by.play() || (field.needs_level() && self.state.spot.level().is_none()) {
            return Err(self.why_not(field));
        }
        let (value, clamped) = field.limits.clamp(value);
        let judge = field.read_by_openings;
        self.state.write(slot, value);
        let opened = if judge { self.opened_now() } else { Vec::new() };
        Ok(Written { clamped, opened })
    }

    #[cold]
    fn why_not(&self, field: &Field) -> AccessError {
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
    fn opened_now(&mut self) -> Vec<Arc<str>> {
        self.judge_openings().into_iter().filter_map(|change| change.key).collect()
    }
}
