//! Tries what play writes at will: fields that it writes and no source gives.
//!
//! Nothing says which values play gives them, so a search tries them: all values where there are few, and some where there are
//! many. What holds with some of them only is not known.

use rustc_hash::{FxHashMap, FxHashSet};

use vestigum_core::{Spec, Type, Value};
use vestigum_spec::analysis::compared::Asks;
use vestigum_spec::history::choices;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::{Field, FieldId};

use super::question::{Asked, Question};
use super::relaxed::Relaxation;

/// The most writes that a search tries in each state.
const MOST: usize = 64;

/// The most values of a number that are all tried.
const FEW: i64 = 16;

/// Says how much of what play can write into a field is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Written {
    /// Play does not write it, or sources say what it gives.
    AsGiven,
    /// Everything that play can write.
    Whole,
    /// Some values only, or none.
    InPart,
}

/// A write: the entry of a field, and which of the values that are tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct PlayWrite {
    field: u16,
    entry: u32,
    nth: u8,
}

/// Lists what play writes at will into the fields on which an answer depends.
#[derive(Clone, Debug, Default)]
pub(crate) struct PlayWrites {
    /// The values of each field. One write means the same in every search for the answer to a question, whatever is followed there.
    values: FxHashMap<FieldId, Vec<Value>>,
    /// The writes that are tried.
    pub(super) tried: Vec<PlayWrite>,
    whole: FxHashSet<FieldId>,
}

impl PlayWrites {
    /// The writes that a search for the answer to a question tries.
    pub(super) fn of(
        spec: &Spec,
        question: &Question,
        matter: &[FieldId],
        counters: &[FieldId],
        relaxation: &Relaxation,
    ) -> PlayWrites {
        let model = &**spec.model();
        let given = |id: FieldId| model.sources.iter().any(|source| source.gives.iter().any(|gift| gift.field == id));
        let at_will = |field: &&Field| {
            field.played && field.counts.is_none() && !counters.contains(&field.id) && !given(field.id)
        };
        let tries = match question.asked {
            Asked::NeverFalls(_) | Asked::ValueNeverFalls(_) | Asked::Holds(..) | Asked::NoBetterLeft(_) => true,
            // A play that is shown has to be one that the game's levels give, and what is compared is what they give.
            Asked::Reachable | Asked::Can(..) | Asked::Completable | Asked::NothingGained(_) => false,
        };
        let mut writes = PlayWrites::default();
        for field in matter.iter().map(|id| model.field(*id)).filter(at_will) {
            let (values, all) = values(model, field, question.asks(spec, field.id));
            // A search makes no levels.
            let shipped = |slot: &usize| field.level_of(model, *slot).is_none_or(|level| !model.is_made_level(level));
            let slots: Vec<usize> =
                field.slots().filter(|slot| relaxation.follows(model, field, *slot) && shipped(slot)).collect();
            if tries && writes.tried.len() + slots.len() * values.len() <= MOST {
                let of_slot = |slot: usize| {
                    let entry = (slot - field.first_slot) as u32;
                    (0..values.len() as u8).map(move |nth| PlayWrite { field: field.id.0 as u16, entry, nth })
                };
                writes.tried.extend(slots.into_iter().flat_map(of_slot));
                if all {
                    writes.whole.insert(field.id);
                }
            }
            writes.values.insert(field.id, values);
        }
        writes
    }

    /// Says how much of what play can write into a field is tried.
    pub(super) fn how(&self, field: FieldId) -> Written {
        match (self.values.contains_key(&field), self.whole.contains(&field)) {
            (false, _) => Written::AsGiven,
            (true, true) => Written::Whole,
            (true, false) => Written::InPart,
        }
    }

    /// Returns the field, the slot and the value of a write.
    pub(super) fn told<'m>(&self, model: &'m Model, write: PlayWrite) -> Option<(&'m Field, usize, &Value)> {
        let field = model.field(FieldId(u32::from(write.field)));
        let value = self.values.get(&field.id)?.get(usize::from(write.nth))?;
        Some((field, field.first_slot + write.entry as usize, value))
    }
}

/// The values that are tried, and whether there are no others.
fn values(model: &Model, field: &Field, asks: Asks) -> (Vec<Value>, bool) {
    let open = |axis: &Axis| matches!(axis, Axis::Keys(set) if model.key_sets[*set as usize].max.is_some());
    // Names that play makes are made by it, too, and a document has room for more fields than an act.
    if field.axes.iter().any(open) || u16::try_from(field.id.0).is_err() {
        return (Vec::new(), false);
    }
    // Without a value it is another thing again.
    let all = !field.optional;
    match &field.ty {
        Type::Bool => (vec![Value::Bool(false), Value::Bool(true)], all),
        Type::Choice(names) if names.len() > MOST => (Vec::new(), false),
        Type::Choice(_) => (choices(&field.ty).unwrap_or_default().iter().cloned().map(Value::Choice).collect(), all),
        Type::Int => {
            let ends = match &field.limits.range {
                Some((Value::Int(low), Value::Int(high))) => Some((*low, *high)),
                Some(_) | None => None,
            };
            match ends {
                Some((low, high)) if high.saturating_sub(low) < FEW => ((low..=high).map(Value::Int).collect(), all),
                _ => {
                    let (low, high) = ends.unwrap_or((-1, 1));
                    let mut ints = vec![low, 0, 1, high];
                    if let Asks::Compares(highest) = asks {
                        ints.extend([highest, highest.saturating_add(1)]);
                    }
                    ints.retain(|int| ends.is_none_or(|(low, high)| (low..=high).contains(int)));
                    ints.sort_unstable();
                    ints.dedup();
                    (ints.into_iter().map(Value::Int).collect(), false)
                }
            }
        }
        Type::Float => match &field.limits.range {
            Some((low, high)) => (vec![low.clone(), high.clone()], false),
            None => ([-1.0, 0.0, 1.0].into_iter().map(Value::float).collect(), false),
        },
        Type::Text
        | Type::Bytes
        | Type::Vec2
        | Type::Vec3
        | Type::Struct(_)
        | Type::List(_)
        | Type::Set(_)
        | Type::Map(_) => (Vec::new(), false),
    }
}
