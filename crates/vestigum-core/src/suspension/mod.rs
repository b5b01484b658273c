//! Suspending: what a save writes is exactly what the player would have if they quit now.
//!
//! Outside a level that is the state itself. In a level it depends on `[save] resume`: the level is left as if given
//! up, or every field is written as a restart or a death would leave it, counting only the fates without a price.
//! *Suspending is failing without the price*: a save made in a level banks nothing that failing would take, and takes
//! nothing that a life or a guarded rule would cost.

pub mod fates;
pub mod replica;
pub mod resuming;

use std::sync::Arc;

use crate::evaluation::Env;
use crate::evaluation::touched::touched;
use crate::outcome::Refused;
use crate::progress::Progress;
use crate::state::State;
use crate::state::position::{Checkpoint, LevelPosition, Position};
use crate::suspension::fates::{resembled_failure, resumes_at_entry, suspended_fate};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Touched;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::policy::Resume;
use vestigum_spec::vocabulary::span::Span;

/// Progress as a save writes it. [`crate::Image`] is its saved form.
#[derive(Clone, Debug)]
pub struct Suspended {
    pub(crate) model: Arc<Model>,
    pub(crate) state: State,
}

impl Suspended {
    /// A state that is suspended already: for the crates of this project.
    #[doc(hidden)]
    pub fn new(model: &Arc<Model>, state: State) -> Suspended {
        Suspended { model: model.clone(), state }
    }

    /// All values, the marks and the place: for the crates of this project.
    #[doc(hidden)]
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The progress that a launch right after the save gives: the same as through images, without making any.
    pub fn relaunched(&self) -> Progress {
        self.clone().into_relaunched(false)
    }

    /// Brings back a projection that is not needed any more, quiet or not: see [`Progress::set_quiet`].
    #[doc(hidden)]
    pub fn into_relaunched(self, quiet: bool) -> Progress {
        let spec = &*self.model;
        let mut state = self.state;
        for field in spec.fields.iter().filter(|field| !field.lasts.is_saved()) {
            for slot in field.slots() {
                let value = match field.lasts {
                    // An attempt begins where the level was entered.
                    Span::Attempt => state.at_entry(slot).clone(),
                    Span::Visit | Span::Session | Span::Run | Span::Profile | Span::Device => field.default.clone(),
                };
                if *state.value(slot) != value {
                    state.write(slot, value);
                }
            }
        }
        let mut progress = Progress::at(&self.model, state);
        progress.set_quiet(quiet);
        progress.begin();
        progress
    }
}

impl Progress {
    /// Returns what the player would have if they quit now. This is what a save writes.
    pub fn suspend(&self) -> Suspended {
        Suspended { model: self.model.clone(), state: suspend(&self.model, &self.state) }
    }

    /// The session ends. What comes back is what must be saved.
    ///
    /// # Errors
    /// If it has ended already.
    pub fn quit(&mut self) -> Result<Suspended, Refused> {
        self.open_session()?;
        let suspended = self.suspend();
        self.close();
        Ok(suspended)
    }
}

/// The state that a save writes.
pub fn suspend(spec: &Arc<Model>, state: &State) -> State {
    let Position::Level(standing) = &state.position else { return state.clone() };
    let resume = spec.resume;
    if resume == Resume::None {
        let mut left = Progress::at(spec, state.clone());
        (left.projects, left.quiet) = (true, true);
        // Giving up is always allowed in a level.
        let _ = left.abandon();
        return left.state;
    }
    let mut suspended = state.clone();
    if resumes_at_entry(spec) {
        suspended.give_up_checkpoint();
        let checkpoint: Option<Checkpoint> = standing.entered_at.clone();
        suspended.position = Position::Level(LevelPosition { checkpoint, ..standing.clone() });
    }
    let noted = suspended.noted_slots();
    for field in &spec.fields {
        // The device is saved as it is: what a failure's rule does to it is a price.
        if !field.lasts.is_saved() || field.lasts == Span::Device {
            continue;
        }
        let fate = suspended_fate(spec, field, resembled_failure(resume));
        let noted = noted.of(field.slots());
        let nothing_to_do = |simple: PlainFate| simple == PlainFate::Keep || (simple.rewinds() && noted.is_empty());
        if nothing_to_do(fate.touched) && nothing_to_do(fate.untouched) {
            continue;
        }
        let touched = if fate.touched == fate.untouched {
            Touched::Nothing
        } else {
            // The reads of a failure see the state before it.
            let checkpoint = standing.checkpoint.as_ref();
            let env = Env::new(spec, state, Some(standing.level), checkpoint);
            touched(field, &env)
        };
        let mut project_one = |slot: usize| {
            let simple = if touched.contains(field, slot) { fate.touched } else { fate.untouched };
            project(&mut suspended, field, slot, simple);
        };
        if fate.touched == PlainFate::Reset || fate.untouched == PlainFate::Reset {
            field.slots().for_each(&mut project_one);
        } else {
            // Only what was written since a mark was taken can be another value there.
            noted.iter().copied().for_each(&mut project_one);
        }
    }
    suspended
}

/// Writes one entry as `simple` leaves it; the marks stay.
pub fn project(state: &mut State, field: &Field, slot: usize, simple: PlainFate) {
    let value = match simple {
        PlainFate::Keep => return,
        PlainFate::Entry | PlainFate::Checkpoint if !state.is_noted(slot) => return,
        PlainFate::Reset => field.default.clone(),
        PlainFate::Entry => state.at_entry(slot).clone(),
        PlainFate::Checkpoint => state.at_checkpoint(slot).clone(),
    };
    if value != *state.value(slot) {
        state.write(slot, value);
    }
}
