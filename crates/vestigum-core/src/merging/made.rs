//! What players make, in two places: names of open key sets, and levels.

use std::sync::Arc;

use indexmap::IndexSet;
use rustc_hash::FxHashSet;

use crate::loading::load;
use crate::merging::MergeError;
use crate::merging::report::{MovedLevel, Side};
use crate::model::Model;
use crate::model::axis::{Axis, MadeKeys};
use crate::model::entry::keys_of;
use crate::model::field::FieldId;
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::Suspended;
use crate::value::Value;

/// What becomes of the names of open key sets.
pub(super) struct Aligned {
    /// The base and both sides, in which an entry has the same place.
    pub states: [State; 3],
    /// Names that one side has taken out: they go unless the other side has kept something new under them.
    pub removed: Vec<(usize, Arc<str>)>,
    /// Names for which there was no room: the set and the name.
    pub no_room: Vec<(Arc<str>, Arc<str>)>,
}

/// Gives the base and both sides the same names of open key sets, in one order: that of the side which changed them, and of
/// the newer one where both did.
pub(super) fn align(spec: &Spec, states: [State; 3], newer: Side) -> Result<Aligned, MergeError> {
    let model = spec.model();
    let mut aligned = Aligned { states, removed: Vec::new(), no_room: Vec::new() };
    let [base, here, there] = &aligned.states;
    let mut made: MadeKeys = vec![IndexSet::new(); model.key_sets.len()];
    for (index, set) in model.key_sets.iter().enumerate() {
        let Some(max) = set.max else { continue };
        let [base, here, there] = [base, here, there].map(|state| &state.made[index]);
        let unchanged = |side: &IndexSet<Arc<str>>| side.iter().eq(base.iter());
        let first = match (unchanged(here), unchanged(there)) {
            (true, false) => Side::There,
            (false, true) => Side::Here,
            (true, true) | (false, false) => newer,
        };
        let order = match first {
            Side::Here => [here, there, base],
            Side::There => [there, here, base],
        };
        let mut left_out = FxHashSet::default();
        for name in order.into_iter().flatten() {
            let is_removed = base.contains(name) && !(here.contains(name) && there.contains(name));
            if made[index].contains(name) {
                continue;
            }
            if made[index].len() < max as usize {
                made[index].insert(name.clone());
                if is_removed {
                    aligned.removed.push((index, name.clone()));
                }
            } else if (here.contains(name) || there.contains(name)) && left_out.insert(name) {
                aligned.no_room.push((set.name.clone(), name.clone()));
            }
        }
    }
    for state in &mut aligned.states {
        with_names(spec, state, &made)?;
    }
    Ok(aligned)
}

/// Takes out the names that one side has taken out, where nothing is kept under them any more.
pub(super) fn remove_names(removed: &[(usize, Arc<str>)], spec: &Spec, state: &mut State) -> Result<(), MergeError> {
    if removed.is_empty() {
        return Ok(());
    }
    let used = used_names(spec.model(), state);
    let removed: FxHashSet<(usize, &str)> = removed.iter().map(|(set, name)| (*set, &**name)).collect();
    let mut made = state.made.clone();
    for (set, names) in made.iter_mut().enumerate() {
        names.retain(|name| used[set].contains(name) || !removed.contains(&(set, &**name)));
    }
    with_names(spec, state, &made)
}

/// The names of each open key set under which an entry is another value than at first.
fn used_names(model: &Model, state: &State) -> Vec<FxHashSet<Arc<str>>> {
    let mut used = vec![FxHashSet::default(); model.key_sets.len()];
    for field in model.fields.iter().filter(|field| field.axes.iter().any(|axis| model.is_open(*axis))) {
        for slot in field.slots() {
            let values = [state.value(slot), state.at_entry(slot), state.at_checkpoint(slot)];
            if values.iter().all(|value| **value == field.default) {
                continue;
            }
            let keys = keys_of(model, field, slot, &state.made);
            for axis in &field.axes {
                if let Axis::Keys(set) = axis
                    && let Some(name) = keys.key(&model.key_sets[*set as usize].name)
                {
                    used[*set as usize].insert(name.into());
                }
            }
        }
    }
    used
}

/// The state with other names of open key sets. Images name their entries, so that one is put where another order wants it.
fn with_names(spec: &Spec, state: &mut State, made: &MadeKeys) -> Result<(), MergeError> {
    if state.made.iter().zip(made).all(|(known, wanted)| known.iter().eq(wanted.iter())) {
        return Ok(());
    }
    let model = spec.model();
    let mut image = Suspended::new(model, state.clone()).profile_image("");
    let sets = model.key_sets.iter().zip(made).filter(|(_, names)| !names.is_empty());
    image.made = sets.map(|(set, names)| (set.name.clone(), names.iter().cloned().collect())).collect();
    let again = load(spec, Some(&image), None);
    *state = again.map_err(|why| MergeError::Load { of: "an image that is read again", why })?.0;
    Ok(())
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
