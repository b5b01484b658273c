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
use crate::model::Model;
use crate::model::field::{Field, FieldId};
use crate::vocabulary::span::Span;

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

/// Where a write through a handle has nothing to ask but this: play may write the field, no opening depends on it, it asks
/// for no save, and its entries are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Gate(u8);

impl Gate {
    const CLOSED: Gate = Gate(0);
    const ANYWHERE: Gate = Gate(1);
    const IN_LEVEL: Gate = Gate(2);

    fn of(model: &Model, field: &Field) -> Gate {
        // Of a level that players make, a write asks whether it is made.
        let asks_level = field.is_per_level() && !model.made_levels.is_empty();
        if !field.played || field.saves || model.opens_levels(field.id) || asks_level {
            Gate::CLOSED
        } else if field.in_level {
            Gate::IN_LEVEL
        } else {
            Gate::ANYWHERE
        }
    }

    /// Whether it is open for a player who is in a level or not.
    #[inline(always)]
    pub(crate) fn lets(self, in_level: bool) -> bool {
        self == Gate::ANYWHERE || (in_level && self == Gate::IN_LEVEL)
    }
}

impl<T: ?Sized> Handle<T> {
    fn at(model: &Model, field: &Field, slot: usize) -> Handle<T> {
        let (lowest, highest) = field.limits.int_range();
        Handle {
            slot: slot as u32,
            field: field.id,
            fingerprint: model.fingerprint,
            gate: Gate::of(model, field),
            of_device: field.lasts == Span::Device,
            lowest,
            highest,
            ty: PhantomData,
        }
    }
}

impl<T: ?Sized> Handle<T> {
    /// Whether it is on a value of the device.
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

/// What generated code says of a field: its place among the values, and what a write has to ask.
#[doc(hidden)]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Placed {
    pub slot: u32,
    pub field: u32,
    pub fingerprint: u32,
    pub gate: u8,
    pub of_device: bool,
    pub lowest: i64,
    pub highest: i64,
}

impl Placed {
    /// Where a field of a model stands.
    pub fn of(model: &Model, field: &Field) -> Placed {
        let handle = Handle::<i64>::at(model, field, field.first_slot);
        Placed {
            slot: handle.slot,
            field: field.id.0,
            fingerprint: handle.fingerprint,
            gate: handle.gate.0,
            of_device: handle.of_device,
            lowest: handle.lowest,
            highest: handle.highest,
        }
    }
}

impl<T: ?Sized> Handle<T> {
    /// For generated code.
    #[doc(hidden)]
    pub const fn placed(at: Placed) -> Handle<T> {
        Handle {
            slot: at.slot,
            field: FieldId(at.field),
            fingerprint: at.fingerprint,
            gate: Gate(at.gate),
            of_device: at.of_device,
            lowest: at.lowest,
            highest: at.highest,
            ty: PhantomData,
        }
    }
}
