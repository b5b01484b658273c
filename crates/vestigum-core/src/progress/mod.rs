//! Progress: the state machine that a game feeds with moments.
//!
//! `Progress` is pure. It holds one player's values and both marks, applies the spec's rules at every moment and says
//! what they did; it never reads a clock, a file or a random number. A session that also saves is `vestigum::Session`.

mod board;
mod display;
mod entries;
mod fates;
mod moments;
mod openings;
mod reset;
mod writes;

pub use board::BoardRow;
pub use display::{Entry, Update};
pub(crate) use entries::{Found, entry_name, entry_of, key_of};
pub use reset::Reset;

use crate::nearest::nearest;
use crate::expression::{Env, Expression, Judged};
use crate::handle::{Handle, Scalar};
use crate::image::{Image, LoadError, LoadReport};
use crate::moment::Moment;
use crate::outcome::{AccessError, Outcome};
use crate::place::{Checkpoint, Place};
use crate::spec::{Span, Spec};

use crate::state::State;
use crate::suspend::{Suspended, suspend};
use crate::value::Value;

/// One player's progress in one session.
///
/// ```
/// use vestigum_core::{Progress, Spec};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [levels]
///     order = ["mill_lane", "heather_rise"]
///     [field.score]
///     type = "int"
///     lasts = "run"
///     after_failure = "entry"
/// "#)?;
/// let score = spec.int("score")?;
/// let mut game = Progress::fresh(&spec);
/// game.enter("mill_lane")?;
/// game.add(score, 60)?;
/// let fell = game.death()?;
/// assert_eq!(fell.changes[0].to_string(), "score 60 → 0 (entry)");
/// game.add(score, 40)?;
/// let done = game.complete()?;
/// assert_eq!(game.get(score), 40);
/// assert_eq!(done.next.as_deref(), Some("heather_rise"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Progress {
    pub(crate) spec: Spec,
    pub(crate) state: State,
    pub(crate) closed: bool,
    /// What a display has yet to hear of entries whose names are gone.
    gone: Vec<Update>,
    /// Whether it only works out what a save writes: then no rule changes the device, which is saved as it is.
    pub(crate) projects: bool,
    fingerprint: u32,
}

/// What a launch gives: the progress, what loading did, and what the moment `launch` did.
#[derive(Debug)]
pub struct Launched {
    /// The progress, standing where the image left it.
    pub progress: Progress,
    /// What loading did.
    pub report: LoadReport,
    /// What the rules of `launch` did.
    pub outcome: Outcome,
}

impl Progress {
    /// A fresh profile on a fresh device, launched for the first time.
    pub fn fresh(spec: &Spec) -> Progress {
        let mut progress = Progress::at(spec, State::fresh(&spec.0));
        progress.begin();
        progress
    }

    /// Loads saved progress and launches it. Without an image the profile, or the device, is fresh.
    ///
    /// # Errors
    /// If an image is of another game, of a newer version, or belongs to the other owner. Nothing that an image of
    /// this game can say is an error: values that do not fit are brought inside and reported.
    pub fn launch(spec: &Spec, profile: Option<&Image>, device: Option<&Image>) -> Result<Launched, LoadError> {
        let (state, report) = crate::image::load(spec, profile, device)?;
        let mut progress = Progress::at(spec, state);
        let outcome = progress.begin();
        Ok(Launched { progress, report, outcome })
    }

    /// Loads saved progress without the moment `launch`: for tools that look at saves and repair them. The outcome is
    /// that of a launch without rules.
    ///
    /// # Errors
    /// As [`Progress::launch`].
    pub fn load(spec: &Spec, profile: Option<&Image>, device: Option<&Image>) -> Result<Launched, LoadError> {
        let (state, report) = crate::image::load(spec, profile, device)?;
        let progress = Progress::at(spec, state);
        let outcome = Outcome::new(Moment::Launch, progress.place());
        Ok(Launched { progress, report, outcome })
    }

    /// Progress that goes on from a state.
    pub(crate) fn at(spec: &Spec, state: State) -> Progress {
        Progress {
            spec: spec.clone(),
            state,
            closed: false,
            projects: false,
            gone: Vec::new(),
            fingerprint: spec.0.fingerprint,
        }
    }

    /// The spec it runs.
    pub fn spec(&self) -> &Spec {
        &self.spec
    }

    /// Where the player stands.
    pub fn place(&self) -> Place {
        self.state.spot.named(&self.spec.0)
    }

    /// Whether `quit` has ended the session.
    pub fn is_closed(&self) -> bool {
        self.closed
    }

    /// What the player would have if they quit now. This is what a save writes.
    pub fn suspend(&self) -> Suspended {
        Suspended { spec: self.spec.clone(), state: suspend(&self.spec, &self.state) }
    }

    /// Reads a value. An unfilled one reads as zero, `false` or the empty text; see [`Progress::filled`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    #[inline]
    pub fn get<T: Scalar + ?Sized>(&self, at: Handle<T>) -> T::Read<'_> {
        self.check_handle(at.fingerprint);
        T::read(self.state.value(at.slot as usize))
    }

    /// Whether an optional field has a value.
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn filled<T: ?Sized>(&self, at: Handle<T>) -> bool {
        self.check_handle(at.fingerprint);
        self.state.value(at.slot as usize).is_filled()
    }

    #[inline]
    pub(crate) fn check_handle(&self, fingerprint: u32) {
        assert!(fingerprint == self.fingerprint, "this handle was made from another spec");
    }

    /// Reads a field by name. `keys` names the entry of a keyed field, one name for each axis and two for a checkpoint;
    /// without keys the entry of the level the player is in, and of the `current` keys, is meant.
    ///
    /// # Errors
    /// If there is no such field or key, or keys are needed.
    pub fn value(&self, field: &str, keys: &[&str]) -> Result<Value, AccessError> {
        let field = self.find(field)?;
        Ok(match self.entry(field, keys)? {
            Found::Slot(slot) => self.state.value(slot).clone(),
            Found::NotMade => field.default.clone(),
        })
    }

    /// Computes a derived value.
    ///
    /// # Errors
    /// If there is no such value, or it needs a level and the player is in none.
    pub fn derived(&self, name: &str) -> Result<Value, AccessError> {
        let spec = &self.spec.0;
        let Some(index) = spec.derived_ids.get(name) else {
            if spec.find_field(name).is_some() {
                return Err(AccessError::IsField { name: name.to_owned() });
            }
            let nearest = nearest(name, spec.derived_ids.keys().map(|name| &**name)).map(str::to_owned);
            return Err(AccessError::UnknownName { name: name.to_owned(), nearest });
        };
        self.evaluate(&spec.derived[*index as usize].expression)
    }

    /// The value of an expression where the player stands.
    pub(crate) fn evaluate(&self, expression: &Expression) -> Result<Value, AccessError> {
        self.check_level(expression)?;
        Ok(expression.value(&self.env()))
    }

    /// The parts of a condition and what became of them.
    pub(crate) fn judge(&self, expression: &Expression) -> Result<Vec<Judged>, AccessError> {
        self.check_level(expression)?;
        Ok(expression.judge(&self.env()))
    }

    fn check_level(&self, expression: &Expression) -> Result<(), AccessError> {
        match expression.name_that_needs_level() {
            Some(name) if self.state.spot.level().is_none() => {
                let example = self.spec.0.levels.first().map_or("LEVEL", |level| &level.id).to_owned();
                Err(AccessError::WhichKey { name: name.to_owned(), axis: "level".into(), example })
            }
            _ => Ok(()),
        }
    }

    pub(crate) fn env(&self) -> Env<'_> {
        let standing = self.state.spot.standing();
        let checkpoint = standing.and_then(|standing| standing.checkpoint.as_ref());
        Env::new(&self.spec.0, &self.state, standing.map(|standing| standing.level), checkpoint)
    }

    fn device_slots(&self) -> impl Iterator<Item = usize> + use<> {
        let spec = self.spec.clone();
        let device = (0..spec.0.fields.len()).filter(move |index| spec.0.fields[*index].lasts == Span::Device);
        let spec = self.spec.clone();
        device.flat_map(move |index| spec.0.fields[index].slots())
    }

    /// The values of the device fields, for the other sessions of a process: one process has one device.
    pub fn device_values(&self) -> Vec<Value> {
        self.device_slots().map(|slot| self.state.value(slot).clone()).collect()
    }

    /// Whether the device fields have these values.
    pub fn has_device_values(&self, values: &[Value]) -> bool {
        self.device_slots().map(|slot| self.state.value(slot)).eq(values)
    }

    /// Takes over the device values that another session of this process left, one by the same spec. Outside a level,
    /// what they open becomes open.
    pub fn take_device_values(&mut self, values: &[Value]) {
        for (slot, value) in self.device_slots().zip(values) {
            self.state.write(slot, value.clone());
        }
        self.judge_openings();
    }
}

/// The level and the checkpoint that a moment is about.
#[derive(Clone, Debug, Default)]
pub(crate) struct Subject {
    pub level: Option<u32>,
    pub checkpoint: Option<Checkpoint>,
}
