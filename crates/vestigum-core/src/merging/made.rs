//! What players make, in two places: names of open key sets, and levels.

use std::sync::Arc;

use indexmap::IndexSet;

use crate::loading::load;
use crate::merging::MergeError;
use crate::merging::report::{MovedLevel, Side};
use crate::model::Model;
use crate::model::axis::MadeKeys;
use crate::model::field::FieldId;
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::Suspended;
use crate::value::Value;

/// Gives all three states the same names of open key sets, in one order, so that an entry has the same place in each: those
/// of the newer side first. What finds no room is told.
pub(super) fn align(spec: &Spec, states: &mut [State; 3], newer: Side) -> Result<Vec<(Arc<str>, Arc<str>)>, MergeError> {
    let model = spec.model();
    let mut no_room = Vec::new();
    let order = match newer {
        Side::Here => [1, 2, 0],
        Side::There => [2, 1, 0],
    };
    let mut made: MadeKeys = vec![IndexSet::new(); model.key_sets.len()];
    for (index, set) in model.key_sets.iter().enumerate() {
        let Some(max) = set.max else { continue };
        for name in order.iter().flat_map(|state| &states[*state].made[index]) {
            if made[index].contains(name) {
                continue;
            }
            if made[index].len() < max as usize {
                made[index].insert(name.clone());
            } else if !no_room.contains(&(set.name.clone(), name.clone())) {
                no_room.push((set.name.clone(), name.clone()));
            }
        }
    }
    for state in states {
        if state.made.iter().zip(&made).all(|(known, wanted)| known.iter().eq(wanted.iter())) {
            continue;
        }
        // Images name their entries, so that one is put where another order wants it.
        let mut image = Suspended::new(model, state.clone()).profile_image("");
        let sets = model.key_sets.iter().zip(&made).filter(|(_, names)| !names.is_empty());
        image.made = sets.map(|(set, names)| (set.name.clone(), names.iter().cloned().collect())).collect();
        let again = load(spec, Some(&image), None);
        *state = again.map_err(|why| MergeError::Load { of: "an image that is read again", why })?.0;
    }
    Ok(no_room)
}

/// Levels that both sides made under one name since they parted: that of the side whose run does not stay moves to a name that is
/// free. Where none is, it is left out.
pub(super) fn make_way(model: &Model, base: &State, stays: &State, leaves: &mut State) -> Vec<MovedLevel> {
    let mut moved = Vec::new();
    for level in model.made_levels.clone() {
        let is_new = !base.has_level(model, level) && stays.has_level(model, level) && leaves.has_level(model, level);
        if !is_new || same_level(model, level, stays, leaves) {
            continue;
        }
        let is_free = |free: &u32| [base, stays, leaves].iter().all(|state| !state.has_level(model, *free));
        let free = model.made_levels.clone().find(is_free);
        move_level(model, leaves, level, free);
        let name = |level: u32| model.level(level).id.to_string();
        moved.push(MovedLevel { level: name(level), to: free.map(name) });
    }
    moved
}

/// The fields that are kept for levels.
fn kept_for_levels(model: &Model) -> Vec<FieldId> {
    model.fields.iter().filter(|field| field.is_per_level()).map(|field| field.id).collect()
}

fn same_level(model: &Model, level: u32, one: &State, other: &State) -> bool {
    kept_for_levels(model).iter().all(|id| {
        let slots = model.field(*id).slots_of_level(model, level);
        slots.iter().all(|slot| one.value(*slot) == other.value(*slot))
    })
}

fn move_level(model: &Model, state: &mut State, level: u32, to: Option<u32>) {
    for id in kept_for_levels(model) {
        let field = model.field(id);
        let from = field.slots_of_level(model, level);
        let targets = to.map(|to| field.slots_of_level(model, to)).unwrap_or_default();
        for (at, slot) in from.iter().enumerate() {
            let value: Value = state.value(*slot).clone();
            if let Some(target) = targets.get(at) {
                state.write_through(*target, value);
            }
            state.write_through(*slot, field.default.clone());
        }
    }
}
