//! What the states of a search hold together: which levels were ever completed, and the best that was ever had.

use rustc_hash::FxHashMap;

use vestigum_core::state::State;
use vestigum_core::{Spec, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::value::below;

use super::question::{Broken, Question, at_most};

/// The best that play without failing has of each entry, by the number of visits.
pub(super) type Best = FxHashMap<(u8, usize), Value>;

/// Describes what was seen so far.
pub(super) struct Tally {
    pub best: Best,
    /// Says which levels were completed in some state, or need not be.
    pub completed: Vec<bool>,
    /// The levels and the visits that were the first to complete them.
    pub completed_by: Vec<(u32, u32)>,
}

impl Tally {
    /// Of a search that has seen nothing. What is allowed never to be completed is as good as completed.
    pub(super) fn of(spec: &Spec, question: &Question) -> Tally {
        let mut completed = vec![false; spec.model().levels.len()];
        // A search makes no levels, so it need not complete them.
        spec.model().made_levels.clone().for_each(|level| completed[level as usize] = true);
        for (level, _) in question.allowed_levels(spec) {
            completed[spec.model().level_ids[level] as usize] = true;
        }
        Tally { best: Best::default(), completed, completed_by: Vec::new() }
    }

    /// Notes the levels that a state has completed.
    pub(super) fn note_completed(&mut self, spec: &Model, state: &State, id: u32) {
        for (level, slot) in spec.field(spec.completed).slots().enumerate() {
            if !self.completed[level] && state.value(slot).as_bool() {
                self.completed[level] = true;
                self.completed_by.push((level as u32, id));
            }
        }
    }

    /// Notes what play without failing has.
    pub(super) fn note_best(&mut self, spec: &Model, id: FieldId, state: &State, enters: u8) {
        for slot in spec.field(id).slots() {
            let value = state.value(slot);
            let best = self.best.entry((enters, slot)).or_insert_with(|| value.clone());
            if below(best, value) {
                *best = value.clone();
            }
        }
    }

    /// Returns what a state has more of than play without failing can have in as many visits.
    pub(super) fn gained(&self, spec: &Model, id: FieldId, state: &State, enters: u8) -> Option<Broken> {
        let field = spec.field(id);
        field.slots().find_map(|slot| {
            let value = state.value(slot);
            // Fewer visits can have no more than as many.
            let had = (0..=enters).filter_map(|enters| self.best.get(&(enters, slot)));
            let best = had.reduce(|a, b| if below(a, b) { b } else { a })?;
            if !below(best, value) {
                return None;
            }
            let name = entry_name(spec, field, slot, &state.made).to_string();
            let s = if enters == 1 { "" } else { "s" };
            let what = format!("`{name}` is {value}, and without failing it is {best} at most in {enters} visit{s}");
            Some(Broken { what, expect: at_most(&name, best), note: None })
        })
    }
}
