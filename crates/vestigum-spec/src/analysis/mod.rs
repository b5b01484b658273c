//! What a compiled expression can be, without evaluating it.

pub mod assume;
pub mod bounds;
pub mod compared;
pub mod monotone;
pub mod order;

use crate::analysis::bounds::{Bounds, FieldBounds};
use crate::analysis::compared::{Asks, asks};
use crate::analysis::monotone::{FieldMoves, Moves};
use crate::model::Readable;
use crate::model::expression::Expression;
use crate::model::field::FieldId;

impl Expression {
    /// Returns which values it can have, if fields have those that are given.
    pub fn bounds(&self, spec: &Readable, fields: &FieldBounds<'_>) -> Bounds {
        bounds::bounds(&self.node, spec, fields, &self.derived_bounds(spec, fields))
    }

    /// Returns what it can be if every field can be anything in its range.
    pub fn bounds_in_ranges(&self, spec: &Readable) -> Bounds {
        self.bounds(spec, &FieldBounds::new(&|field, _| Bounds::of_range(spec.field(field))))
    }

    fn derived_bounds(&self, spec: &Readable, fields: &FieldBounds<'_>) -> Vec<(u32, Bounds)> {
        let mut known = Vec::with_capacity(self.derived.len());
        for index in &*self.derived {
            let node = &spec.derived[*index as usize].expression.node;
            known.push((*index, bounds::bounds(node, spec, fields, &known)));
        }
        known
    }

    /// Returns what it asks of a field, itself or in the derived values that it reads.
    pub fn asks(&self, spec: &Readable, field: FieldId) -> Asks {
        let derived = self.derived.iter().map(|index| &spec.derived[*index as usize].expression.node);
        derived.chain([&self.node]).map(|node| asks(node, field)).fold(Asks::Nothing, Asks::and)
    }

    /// Returns how its value moves when more levels are open.
    pub(crate) fn moves(&self, spec: &Readable) -> Moves {
        self.moves_with(spec, &|field| if field == spec.opened { Moves::Up } else { Moves::Not })
    }

    /// Tells how its value moves when the fields that it reads move so.
    pub fn moves_with(&self, spec: &Readable, fields: &FieldMoves<'_>) -> Moves {
        let mut known = Vec::with_capacity(self.derived.len());
        for index in &*self.derived {
            let node = &spec.derived[*index as usize].expression.node;
            known.push((*index, monotone::moves(node, spec, fields, &known)));
        }
        monotone::moves(&self.node, spec, fields, &known)
    }

    /// The parts that can never hold.
    pub fn impossible(&self, spec: &Readable, fields: &FieldBounds<'_>) -> Vec<&str> {
        let derived = self.derived_bounds(spec, fields);
        let never = self.parts.all.iter().filter(|part| !bounds::bounds(&part.node, spec, fields, &derived).can_hold());
        never.map(|part| &*part.source).collect()
    }
}
