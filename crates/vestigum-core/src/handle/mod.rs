//! Typed handles: the name and the type of a field are checked once, and every later read and write is an index.

pub mod derived;
pub mod error;
pub mod field_value;
pub mod keyed;
pub(crate) mod shape;

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;

use crate::handle::error::HandleError;
use crate::handle::field_value::FieldValue;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::placed::{Gate, Placed};

/// A handle on one value: a field, or the entry of a keyed field that [`PerKey::at`](keyed::PerKey::at) gave.
///
/// A handle belongs to the spec it was made from. Used with progress of another spec, reads and writes panic: that is
/// a mistake in the program, not in its input.
pub struct Handle<T: ?Sized> {
    pub(crate) slot: u32,
    pub(crate) field: FieldId,
    pub(crate) fingerprint: u32,
    pub(crate) gate: Gate,
    pub(crate) of_device: bool,
    /// The range of an int.
    pub(crate) lowest: i64,
    pub(crate) highest: i64,
    ty: PhantomData<fn() -> Box<T>>,
}

impl<T: ?Sized> Handle<T> {
    fn at(model: &Model, field: &Field, slot: usize) -> Handle<T> {
        Handle::placed(Placed::at(model, field, slot))
    }
}

impl<T: ?Sized> Handle<T> {
    /// Returns whether it is on a value of the device.
    #[doc(hidden)]
    #[inline(always)]
    pub fn is_of_device(self) -> bool {
        self.of_device
    }
}

impl<T: ?Sized> fmt::Debug for Handle<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Handle").field("slot", &self.slot).finish_non_exhaustive()
    }
}

impl<T: ?Sized> Clone for Handle<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T: ?Sized> Copy for Handle<T> {}

impl<T: ?Sized> PartialEq for Handle<T> {
    fn eq(&self, other: &Self) -> bool {
        (self.fingerprint, self.slot) == (other.fingerprint, other.slot)
    }
}

impl<T: ?Sized> Eq for Handle<T> {}

impl<T: ?Sized> Hash for Handle<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (self.fingerprint, self.slot).hash(state);
    }
}

impl<T: FieldValue + ?Sized> Handle<T> {
    pub(crate) fn new(model: &Model, name: &str) -> Result<Handle<T>, HandleError> {
        let field = error::checked::<T>(model, name, 0)?;
        Ok(Handle::at(model, field, field.first_slot))
    }
}

impl<T: ?Sized> Handle<T> {
    /// For generated code.
    #[doc(hidden)]
    pub const fn placed(at: Placed) -> Handle<T> {
        Handle {
            slot: at.slot,
            field: at.field,
            fingerprint: at.fingerprint,
            gate: at.gate,
            of_device: at.of_device,
            lowest: at.lowest,
            highest: at.highest,
            ty: PhantomData,
        }
    }
}
