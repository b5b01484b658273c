//! Bringing an origin in line with the values beside it.
//!
//! The values of a save are what counts for play. Where amounts do not come to the value that is saved, because a save is older than
//! origins, a migration has filled it in a way that is not a sum, or somebody has edited it, what lies between is noted once, under a name
//! that belongs to no installation.

use std::sync::Arc;

use crate::contributing::entries::entry_path;
use crate::origin::amount::Amount;
use crate::origin::{Dot, Installation, SavedOrigin};
use crate::state::State;
use crate::suspension::resuming::leave_level;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::vocabulary::merging::MergeLaw;

/// The installation of saves from before origins were kept: all of them are its first save.
pub(crate) const BEFORE: &str = "-";

/// Returns a state as if its level had been given up, without a price: what the player has for good.
pub(crate) fn given_up(model: &Model, state: &State) -> State {
    let mut left = state.clone();
    if let Some(level) = left.position.level() {
        leave_level(model, &mut left, Some(level));
    }
    left
}

/// Returns the fields that are sums.
pub(crate) fn sums(model: &Model) -> impl Iterator<Item = &Field> {
    let merges = model.merging.iter().flat_map(|merging| &merging.fields);
    let fields = model.fields.iter().zip(merges);
    fields.filter(|(_, merge)| **merge == FieldMerge::By(MergeLaw::Sum)).map(|(field, _)| field)
}

impl SavedOrigin {
    /// Makes the origin of a save that has none. `digest` is that of the save: two saves from before that differ cannot be told from two
    /// lines of one installation.
    pub(crate) fn of_save_before(model: &Model, state: &State, digest: &str) -> SavedOrigin {
        let id: Arc<str> = BEFORE.into();
        let tag = digest.get(..4).unwrap_or_default().into();
        let mut origin = SavedOrigin::default();
        origin.from.insert(id.clone(), Installation { count: 1, tag });
        let banked = given_up(model, state);
        for field in sums(model) {
            for slot in field.slots().filter(|slot| state.has_entry(model, field, *slot)) {
                let [banked, held] = [&banked, state].map(|state| Amount::of(state.value(slot), &field.ty));
                let given = banked.minus(Amount::of(&field.default, &field.ty));
                let pending = held.minus(banked);
                if !given.is_zero() || (field.optional && state.value(slot).is_filled()) {
                    let of = origin.sums.entry(entry_path(model, field, slot, &state.made)).or_default();
                    if !given.is_zero() {
                        of.insert(id.clone(), given);
                    }
                }
                if !pending.is_zero() {
                    let path = entry_path(model, field, slot, &state.made);
                    origin.run.visit = Some(Dot { by: id.clone(), count: 1 });
                    origin.run.pending.entry(path).or_default().insert(id.clone(), pending);
                }
            }
        }
        origin
    }

    /// Notes what lies between what the amounts come to and what is saved, under the name of the version that found it.
    pub(crate) fn bring_in_line(&mut self, model: &Model, state: &State) {
        let by: Arc<str> = format!("v{}", model.version).into();
        let banked = given_up(model, state);
        for field in sums(model) {
            for slot in field.slots().filter(|slot| state.has_entry(model, field, *slot)) {
                let path = entry_path(model, field, slot, &state.made);
                if *banked.value(slot) != self.sum(field, &path) && banked.value(slot).is_filled() {
                    self.sums.entry(path.clone()).or_default();
                    let found = self.total(field, &path);
                    let between = found.minus(Amount::of(banked.value(slot), &field.ty));
                    if is_worth_it(between, found) {
                        // What was noted before is counted in what is found.
                        let [high, low] = self.cut_off(field, &path);
                        let noted = Dot { by: by.clone(), count: 1 };
                        self.cut.insert(path.clone(), [(noted, high.plus(low).plus(between))].into());
                    }
                }
                let held = Amount::of(state.value(slot), &field.ty).minus(Amount::of(banked.value(slot), &field.ty));
                let pending = self.pending(field, &path);
                let between = held.minus(pending);
                if is_worth_it(between, held) && !self.run.visit.as_ref().is_some_and(|visit| self.is_gone(visit)) {
                    self.run.visit.get_or_insert_with(|| Dot { by: by.clone(), count: 1 });
                    let of = self.run.pending.entry(path).or_default().entry(by.clone());
                    of.and_modify(|known| *known = known.plus(between)).or_insert(between);
                }
            }
        }
    }
}

/// Returns whether a difference is larger than what adding floats in another order gives.
fn is_worth_it(between: Amount, of: Amount) -> bool {
    match between {
        Amount::Int(int) => int != 0,
        Amount::Float(float) => float.get().abs() > 1e-9 * of.as_float().abs().max(1.0),
    }
}
