//! The place of a field among the values, for typed handles and for what `spec!` generates.

use crate::model::Model;
use crate::model::field::{Field, FieldId};
use crate::vocabulary::span::Span;

/// Describes where a write through a handle has nothing to ask but this: play may write the field, no opening depends on it, it asks
/// for no save, and its entries are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gate(pub u8);

impl Gate {
    const CLOSED: Gate = Gate(0);
    const ANYWHERE: Gate = Gate(1);
    const IN_LEVEL: Gate = Gate(2);

    pub(crate) fn of(model: &Model, field: &Field) -> Gate {
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

    /// Returns whether it is open for a player who is in a level or not.
    #[inline(always)]
    pub fn lets(self, in_level: bool) -> bool {
        // The gates are bits, so that this is one test.
        let open = if in_level { Gate::ANYWHERE.0 | Gate::IN_LEVEL.0 } else { Gate::ANYWHERE.0 };
        self.0 & open != 0
    }
}

/// The place of a value, and what a write to it has to ask.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Placed {
    /// The value, among all values.
    pub slot: u32,
    /// The field.
    pub field: FieldId,
    /// The fingerprint of the model, so that a handle of another spec is noticed.
    pub fingerprint: u32,
    /// Says what a write has to ask.
    pub gate: Gate,
    /// Whether the value is the device's.
    pub of_device: bool,
    /// The lowest value of an int.
    pub lowest: i64,
    /// The highest value of an int.
    pub highest: i64,
}

impl Placed {
    /// The place of a field that has one value.
    pub fn of(model: &Model, field: &Field) -> Placed {
        Placed::at(model, field, field.first_slot)
    }

    /// The place of an entry of a field.
    pub fn at(model: &Model, field: &Field, slot: usize) -> Placed {
        let (lowest, highest) = field.limits.int_range();
        Placed {
            slot: slot as u32,
            field: field.id,
            fingerprint: model.fingerprint,
            gate: Gate::of(model, field),
            of_device: field.lasts == Span::Device,
            lowest,
            highest,
        }
    }
}
