//! Suspending: what a save writes is exactly what the player would have if they quit now.
//!
//! Outside a level that is the state itself. In a level it depends on `[save] resume`: the level is left as if given
//! up, or every field is written as a restart or a death would leave it, counting only the fates without a price.
//! *Suspending is failing without the price*: a save made in a level banks nothing that failing would take, and takes
//! nothing that a life or a guarded rule would cost.

use crate::expression::Env;
use crate::fate::Simple;
use crate::moment::Moment;
use crate::place::{Checkpoint, Spot, Standing};
use crate::progress::Progress;
use crate::spec::{Field, Resume, Span, Spec, SpecData, Touched};
use crate::state::State;

/// Progress as a save writes it. [`crate::Image`] is its saved form.
#[derive(Clone, Debug)]
pub struct Suspended {
    pub(crate) spec: Spec,
    pub(crate) state: State,
}

impl Suspended {
    /// The progress that a launch right after the save gives: the same as through images, without making any.
    pub fn relaunched(&self) -> Progress {
        let spec = &*self.spec.0;
        let mut state = self.state.clone();
        for field in spec.fields.iter().filter(|field| !field.lasts.is_saved()) {
            for slot in field.slots() {
                let value = match field.lasts {
                    // An attempt begins where the level was entered.
                    Span::Attempt => state.at_entry(slot).clone(),
                    _ => field.default.clone(),
                };
                if *state.value(slot) != value {
                    state.write(slot, value);
                }
            }
        }
        let mut progress = Progress::at(&self.spec, state);
        progress.begin();
        progress
    }
}

/// What is left of one entry of a field when it is suspended in a level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct SuspendedFate {
    /// The fate of the entries that a rule of the moment touches.
    pub touched: Simple,
    /// The fate of the others.
    pub untouched: Simple,
}

/// The fate of a field at a failure, without its price: of a list the first rule counts, if it has no guard and no
/// operand. Where it has one, `after_failure` decides; at a restart a visit field takes its entry mark. A rule that
/// touches only the current key or checkpoint depends on a read as a guarded one does, so it does not count either.
pub(crate) fn without_price(spec: &SpecData, field: &Field, moment: Moment) -> SuspendedFate {
    let untouched = spec.plan.fate(field.id, moment).otherwise;
    SuspendedFate { touched: unpriced(spec, field, moment).unwrap_or(untouched), untouched }
}

/// The fate of the entries that a rule of the moment touches, if it has no price.
pub(crate) fn unpriced(spec: &SpecData, field: &Field, moment: Moment) -> Option<Simple> {
    let fate = spec.plan.fate(field.id, moment);
    let counts = fate.rules.is_empty() || !spec.touches_by_state(field);
    fate.without_price().filter(|_| counts)
}

/// The failure that a save inside a level resembles.
pub(crate) fn resembled(resume: Resume) -> Moment {
    match resume {
        Resume::None => Moment::Abandon,
        Resume::Entry => Moment::Restart,
        Resume::Checkpoint => Moment::Death,
    }
}

/// Whether play goes on where the level was entered: because the spec says so, or because a death, which such a save
/// resembles, gives the checkpoint up.
pub(crate) fn resumes_at_entry(spec: &SpecData) -> bool {
    spec.resume != Resume::None && spec.gives_up_checkpoint(resembled(spec.resume))
}

/// The state that a save writes.
pub(crate) fn suspend(spec: &Spec, state: &State) -> State {
    let Spot::Level(standing) = &state.spot else { return state.clone() };
    let resume = spec.0.resume;
    if resume == Resume::None {
        let mut left = Progress::at(spec, state.clone());
        left.projects = true;
        // Giving up is always allowed in a level.
        let _ = left.abandon();
        return left.state;
    }
    let mut suspended = state.clone();
    if resumes_at_entry(&spec.0) {
        suspended.give_up_checkpoint();
        let checkpoint: Option<Checkpoint> = standing.entered_at.clone();
        suspended.spot = Spot::Level(Standing { checkpoint, ..standing.clone() });
    }
    for field in &spec.0.fields {
        // The device is saved as it is: what a failure's rule does to it is a price.
        if !field.lasts.is_saved() || field.lasts == Span::Device {
            continue;
        }
        let fate = without_price(&spec.0, field, resembled(resume));
        let nothing_to_do =
            |simple: Simple| simple == Simple::Keep || (simple.rewinds() && !suspended.any_noted(field.slots()));
        if nothing_to_do(fate.touched) && nothing_to_do(fate.untouched) {
            continue;
        }
        let touched = if fate.touched == fate.untouched {
            Touched::Nothing
        } else {
            // The reads of a failure see the state before it.
            let checkpoint = standing.checkpoint.as_ref();
            let env = Env::new(&spec.0, state, Some(standing.level), checkpoint);
            spec.0.touched(field, &env)
        };
        for slot in field.slots() {
            let simple = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
            project(&mut suspended, field, slot, simple);
        }
    }
    suspended
}

/// Writes one entry as `simple` leaves it; the marks stay.
pub(crate) fn project(state: &mut State, field: &Field, slot: usize, simple: Simple) {
    let value = match simple {
        Simple::Keep => return,
        Simple::Entry | Simple::Checkpoint if !state.is_noted(slot) => return,
        Simple::Reset => field.default.clone(),
        Simple::Entry => state.at_entry(slot).clone(),
        Simple::Checkpoint => state.at_checkpoint(slot).clone(),
    };
    if value != *state.value(slot) {
        state.write(slot, value);
    }
}
