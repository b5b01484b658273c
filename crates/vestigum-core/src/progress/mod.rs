//! Progress: the state machine that a game feeds with moments.
//!
//! `Progress` is pure. It holds one player's values and both marks, applies the spec's rules at every moment and says
//! what they did; it never reads a clock, a file or a random number. A session that also saves is `vestigum::Session`.

pub mod board;
pub mod call;
pub mod collections;
pub mod display;
pub mod entries;
pub mod fates;
pub mod locks;
pub mod made;
pub mod moments;
pub mod openings;
pub mod reads;
pub mod redeem;
pub mod reset;
pub mod time;
pub mod writes;

use std::sync::Arc;
use std::time::Duration;

use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use crate::evaluation::judge::Judged;
use crate::handle::Handle;
use crate::progress::display::Update;
use crate::progress::reads::Reads;
use crate::state::State;
use crate::state::position::Checkpoint;
use crate::state::visits::Visits;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::entry::EntrySlot;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::nearest::suggestion;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::place::Place;
use vestigum_spec::vocabulary::span::Span;
use vestigum_spec::{AccessError, AccessErrorKind};

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
/// assert_eq!(done.next_level(), Some("heather_rise"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Progress {
    pub(crate) model: Arc<Model>,
    pub(crate) state: State,
    /// Says what a display has yet to hear of entries whose names are gone.
    gone: Vec<Update>,
    /// Whether it only works out what a save writes: then no rule changes the device, which is saved as it is.
    pub(crate) projects: bool,
    /// Whether nobody asks what a moment changed.
    pub(crate) quiet: bool,
    /// The model's: handles carry it.
    fingerprint: u32,
    /// Equals `fingerprint` while the session lasts, and another number once `quit` has ended it: a handle that equals it may write.
    open_to: u32,
    /// Says what is left of the time that passed, less than a millisecond.
    rest: Duration,
}

impl Progress {
    /// Progress that goes on from a state: for the crates of this project.
    #[doc(hidden)]
    pub fn at(model: &Arc<Model>, state: State) -> Progress {
        Progress {
            model: model.clone(),
            state,
            projects: false,
            quiet: false,
            gone: Vec::new(),
            fingerprint: model.fingerprint,
            open_to: model.fingerprint,
            rest: Duration::ZERO,
        }
    }

    /// Returns what the spec means that it runs: for the crates of this project.
    #[doc(hidden)]
    pub fn model(&self) -> &Arc<Model> {
        &self.model
    }

    /// All values, the marks and the place: for the crates of this project.
    #[doc(hidden)]
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Returns the state to be changed past all rules: for the crates of this project.
    #[doc(hidden)]
    pub fn state_mut(&mut self) -> &mut State {
        &mut self.state
    }

    /// Returns whether moments leave out of their outcomes what they changed and set back: for searches, which compare states.
    #[doc(hidden)]
    pub fn set_quiet(&mut self, quiet: bool) {
        self.quiet = quiet;
    }

    /// Returns what is left of it.
    #[doc(hidden)]
    pub fn into_state(self) -> State {
        self.state
    }

    /// Follows from now on what becomes of visits to levels: what a [`Contributor`](crate::contributing::Contributor) asks for.
    /// A session of a game that merges saves does it by itself.
    pub fn follow_visits(&mut self) {
        self.state.follow_visits();
    }

    /// Returns what became of visits to levels since [`Progress::follow_visits`].
    pub fn visits(&self) -> Visits {
        self.state.visits().cloned().unwrap_or_default()
    }

    /// Forgets which visits were banked: a save has it.
    pub fn visits_are_told(&mut self) {
        self.state.visits_are_told();
    }

    /// Returns where the player stands.
    pub fn place(&self) -> Place {
        self.state.position.named(&self.model)
    }

    /// Returns whether `quit` has ended the session.
    pub fn is_closed(&self) -> bool {
        self.open_to != self.fingerprint
    }

    /// Ends the session: nothing is written any more.
    pub(crate) fn close(&mut self) {
        self.open_to = !self.fingerprint;
    }

    /// Reads a value. An unfilled one reads as zero, `false` or the empty text; see [`Progress::filled`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// # game.enter("mill_lane")?;
    /// let letters = spec.int("letters")?;
    /// game.set(letters, 30)?;
    /// assert_eq!(game.get(letters), 30);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline(always)]
    pub fn get<H: Reads>(&self, at: H) -> H::Value<'_> {
        at.read(self)
    }

    /// Returns whether an optional field has a value.
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let best_time = spec.int_per_level("best_time")?.at("mill_lane")?;
    /// assert!(!game.filled(best_time));                  // no time yet, which is not a time of zero
    /// game.set(best_time, 61_500)?;
    /// assert!(game.filled(best_time));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn filled<T: ?Sized>(&self, at: Handle<T>) -> bool {
        self.check_handle(at.fingerprint);
        self.state.value(at.slot as usize).is_filled()
    }

    #[cfg_attr(not(debug_assertions), inline(always))]
    pub(crate) fn held_at(&self, fingerprint: u32, slot: u32) -> &Value {
        self.check_handle(fingerprint);
        self.state.value(slot as usize)
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
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// assert_eq!(game.value("best_letters", &["mill_lane"])?, Value::Int(0));
    /// assert!(game.value("best_leters", &["mill_lane"]).is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn value(&self, field: &str, keys: &[&str]) -> Result<Value, AccessError> {
        let field = self.find(field)?;
        Ok(match self.entry(field, keys)? {
            EntrySlot::Slot(slot) => self.state.value(slot).clone(),
            EntrySlot::NotMade => field.default.clone(),
        })
    }

    /// Computes a derived value.
    ///
    /// # Errors
    /// If there is no such value, or it needs a level and the player is in none.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.enter("mill_lane")?;
    /// game.complete()?;
    /// assert_eq!(game.derived("paths_done")?, Value::Int(1));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn derived(&self, name: &str) -> Result<Value, AccessError> {
        let index = self.find_derived(name)?;
        let derived = &self.model.derived[index as usize];
        let (axis, example) = match derived.axis {
            Some(Axis::Keys(set)) if self.model.key_sets[set as usize].current.is_none() => {
                let keys = &self.model.key_sets[set as usize];
                (&*keys.name, keys.names().next())
            }
            Some(Axis::Level | Axis::Checkpoint) if self.state.position.level().is_none() => {
                ("level", self.model.levels.first().map(|level| &*level.id))
            }
            Some(Axis::Keys(_) | Axis::Level | Axis::Checkpoint) | None => return self.evaluate(&derived.expression),
        };
        let example = example.unwrap_or("KEY").to_owned();
        Err(AccessErrorKind::WhichKey { name: name.to_owned(), axis: axis.to_owned(), example }.into())
    }

    /// Computes a derived value that is kept per level or key, for one of them.
    ///
    /// # Errors
    /// If there is no such value or key, or it has one value.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane", "heather_rise"]
    ///     [field.letters]
    ///     type = "int"
    ///     per = "level"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     [derived]
    ///     all_found = { per = "level", value = "letters >= 10" }
    /// "#)?;
    /// let mut game = Progress::fresh(&spec);
    /// game.write("letters", &["mill_lane"], Value::Int(12))?;
    /// assert_eq!(game.derived_of("all_found", "mill_lane")?, Value::Bool(true));
    /// assert_eq!(game.derived_of("all_found", "heather_rise")?, Value::Bool(false));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn derived_of(&self, name: &str, key: &str) -> Result<Value, AccessError> {
        let index = self.find_derived(name)?;
        match self.model.derived_for(index, key) {
            Some(Ok(index)) => self.evaluate(&self.model.derived[index as usize].expression),
            Some(Err((axis, nearest))) => {
                Err(AccessErrorKind::UnknownKey { axis: axis.to_owned(), name: key.to_owned(), nearest }.into())
            }
            None => Err(AccessErrorKind::NoKey { name: name.to_owned() }.into()),
        }
    }

    fn find_derived(&self, name: &str) -> Result<u32, AccessError> {
        let spec = &self.model;
        let Some(index) = spec.derived_ids.get(name) else {
            if spec.find_field(name).is_some() {
                return Err(AccessErrorKind::IsField { name: name.to_owned() }.into());
            }
            let nearest = suggestion(name, spec.derived_ids.keys().map(|name| &**name));
            return Err(AccessErrorKind::UnknownName { name: name.to_owned(), nearest }.into());
        };
        Ok(*index)
    }

    /// The value of an expression where the player stands.
    #[doc(hidden)]
    pub fn evaluate(&self, expression: &Expression) -> Result<Value, AccessError> {
        self.check_level(expression)?;
        Ok(expression.value(&self.env()))
    }

    /// The parts of a condition and what became of them.
    #[doc(hidden)]
    pub fn judge(&self, expression: &Expression) -> Result<Vec<Judged>, AccessError> {
        self.check_level(expression)?;
        Ok(expression.judge(&self.env()))
    }

    fn check_level(&self, expression: &Expression) -> Result<(), AccessError> {
        match expression.name_that_needs_level() {
            Some(name) if self.state.position.level().is_none() => {
                let example = self.model.levels.first().map_or("LEVEL", |level| &level.id).to_owned();
                Err(AccessErrorKind::WhichKey { name: name.to_owned(), axis: "level".into(), example }.into())
            }
            _ => Ok(()),
        }
    }

    pub(crate) fn env(&self) -> Env<'_> {
        let standing = self.state.position.level_position();
        let checkpoint = standing.and_then(|standing| standing.checkpoint.as_ref());
        Env::new(&self.model, &self.state, standing.map(|standing| standing.level), checkpoint)
    }

    /// Returns whether a field belongs to the device.
    #[doc(hidden)]
    pub fn is_device_field(&self, name: &str) -> bool {
        self.model.find_field(name).is_some_and(|field| field.lasts == Span::Device)
    }

    /// The values of the device fields, for the other sessions of a process: one process has one device.
    #[doc(hidden)]
    pub fn device_values(&self) -> Vec<Value> {
        self.model.device_slots().map(|slot| self.state.value(slot).clone()).collect()
    }

    /// Returns whether the device fields have these values.
    #[doc(hidden)]
    pub fn has_device_values(&self, values: &[Value]) -> bool {
        self.model.device_slots().map(|slot| self.state.value(slot)).eq(values)
    }

    /// Takes over the device values that another session of this process left, one by the same spec. Outside a level,
    /// what they open becomes open.
    #[doc(hidden)]
    pub fn take_device_values(&mut self, values: &[Value]) {
        let model = self.model.clone();
        for (slot, value) in model.device_slots().zip(values) {
            self.state.write(slot, value.clone());
        }
        self.judge_openings();
    }
}

/// The level and the checkpoint that a moment is about.
#[derive(Clone, Debug, Default)]
pub struct Subject {
    /// The level, by its place in the spec.
    pub level: Option<u32>,
    /// The checkpoint of that level.
    pub checkpoint: Option<Checkpoint>,
    /// The exit by which it is completed, if one was named.
    pub exit: Option<Arc<str>>,
}
