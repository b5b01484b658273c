//! What a relaunch brings back where the place that a save names is not there any more.

use crate::evaluation::Env;
use crate::evaluation::touched::touched as entries_touched;
use crate::state::State;
use crate::state::position::Position;
use crate::suspension::fates::{resembled_failure, suspended_fate};
use crate::suspension::project;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Touched;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::span::Span;

/// The checkpoint mark becomes the entry mark; visit fields and those that rewind take it.
pub fn go_back_to_entry(model: &Model, state: &mut State) {
    state.give_up_checkpoint();
    for field in model.fields.iter().filter(|field| field.lasts.is_saved()) {
        let fate = suspended_fate(model, field, resembled_failure(model.resume));
        let touched = touched(model, state, field, state.position.level());
        for slot in field.slots() {
            let ruled = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
            if ruled.rewinds() || field.lasts == Span::Visit {
                project(state, field, slot, PlainFate::Entry);
            }
        }
    }
}

/// The entries that a rule of the place touches.
fn touched(model: &Model, state: &State, field: &Field, level: Option<u32>) -> Touched {
    let checkpoint = state.position.level_position().and_then(|standing| standing.checkpoint.as_ref());
    entries_touched(field, &Env::new(model, state, level, checkpoint))
}

/// Loads as given up: everything that giving up rewinds or resets is rewound or reset, and no rule has a price.
pub fn leave_level(model: &Model, state: &mut State, level: Option<u32>) {
    state.give_up_checkpoint();
    for field in &model.fields {
        if field.needs_level() {
            for slot in field.slots() {
                state.write(slot, field.default.clone());
            }
            continue;
        }
        let fate = suspended_fate(model, field, Moment::Abandon);
        let touched = touched(model, state, field, level);
        for slot in field.slots() {
            let simple = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
            // The device is left as it is: what a failure does to it is a price.
            if simple != PlainFate::Keep && field.lasts != Span::Device {
                project(state, field, slot, simple);
            }
        }
    }
    state.take_marks();
    state.position = Position::Menu;
}
