//! The moments, one function each: where it is allowed, and what happens besides the fates.

use super::openings::opened_level;
use crate::evaluation::judge::ExpressionValue;
use crate::outcome::{Outcome, Refused, RespawnAt};
use crate::progress::locks::Audience;
use crate::progress::{Progress, Subject};
use crate::state::position::{Checkpoint, LevelPosition, Position};
use vestigum_spec::nearest::suggestion;
use vestigum_spec::vocabulary::fate::Fate;
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::place::Place;
use vestigum_spec::vocabulary::policy::Accept;

impl Progress {
    /// "New game": a new run begins, from the menu or after a game over.
    ///
    /// # Errors
    /// If the player is in a level.
    pub fn new_run(&mut self) -> Result<Outcome, Refused> {
        self.begin_run(Moment::NewRun, "new_run")
    }

    fn begin_run(&mut self, moment: Moment, name: &str) -> Result<Outcome, Refused> {
        self.outside(name)?;
        let mut outcome = self.fated(moment, Subject::default());
        self.go(Position::Menu, &mut outcome);
        Ok(self.finished(outcome))
    }

    /// Play begins in a level that has finished loading.
    ///
    /// # Errors
    /// If the player is not in the menu, there is no such level, or it is locked.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.enter("mill_lane")?;
    /// assert!(game.enter("heather_rise").is_err());      // one level at a time: nothing has changed
    /// game.complete()?;
    /// game.enter("heather_rise")?;                       // it is open now
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn enter(&mut self, level: impl AsRef<str>) -> Result<Outcome, Refused> {
        self.enter_level(level.as_ref(), None, true)
    }

    /// Play begins at a checkpoint of a level; a restart comes back to it.
    ///
    /// # Errors
    /// As [`Progress::enter`], and if the level has no such checkpoint.
    pub fn enter_at(&mut self, level: impl AsRef<str>, checkpoint: impl AsRef<str>) -> Result<Outcome, Refused> {
        self.enter_level(level.as_ref(), Some(checkpoint.as_ref()), true)
    }

    /// Enters a level whether it is open or not, for debugging and practice. It opens nothing.
    ///
    /// # Errors
    /// As [`Progress::enter`], but for the lock.
    pub fn enter_any(&mut self, level: impl AsRef<str>, checkpoint: Option<&str>) -> Result<Outcome, Refused> {
        self.enter_level(level.as_ref(), checkpoint, false)
    }

    pub(super) fn enter_level(
        &mut self,
        level: &str,
        checkpoint: Option<&str>,
        locked: bool,
    ) -> Result<Outcome, Refused> {
        self.open_session()?;
        if self.state.position != Position::Menu {
            return Err(Refused::NotHere { moment: "enter".into(), place: self.place() });
        }
        let spec = self.model.clone();
        let found = spec.find_level(level);
        let index = found.map_err(|nearest| Refused::UnknownLevel { name: level.to_owned(), nearest })?;
        let checkpoint = checkpoint.map(|name| self.find_checkpoint(index, name)).transpose()?;
        // There is nothing to practise in a level that nobody made.
        let locked = locked || !self.state.has_level(&spec, index);
        if locked && !self.is_open(index) {
            return Err(Refused::Locked {
                level: level.to_owned(),
                why: self.lock_of(Audience::Players, index).to_string(),
            });
        }
        let mut outcome =
            self.fated(Moment::Enter, Subject { level: Some(index), checkpoint: checkpoint.clone(), exit: None });
        let standing = LevelPosition { level: index, checkpoint: checkpoint.clone(), entered_at: checkpoint };
        self.go(Position::Level(standing), &mut outcome);
        self.state.take_marks();
        Ok(self.finished(outcome))
    }

    /// A checkpoint was reached. `[checkpoints] accept` may ignore it: then the outcome is not
    /// [accepted](Outcome::accepted) and nothing has happened.
    ///
    /// # Errors
    /// If the player is not in a level, or the level lists its checkpoints and this is not among them.
    pub fn checkpoint(&mut self, name: impl AsRef<str>) -> Result<Outcome, Refused> {
        let name = name.as_ref();
        let standing = self.inside(Moment::Checkpoint)?;
        let reached = self.find_checkpoint(standing.level, name)?;
        let last = standing.checkpoint.as_ref().map_or(0, Checkpoint::index);
        let accepted = match self.model.accept {
            Accept::Any => true,
            Accept::Forward => reached.index() > last,
            Accept::Next => reached.index() == last + 1,
        };
        if !accepted {
            let mut outcome = Outcome::new(Moment::Checkpoint, self.place());
            outcome.accepted = false;
            return Ok(outcome);
        }
        let subject = Subject { level: Some(standing.level), checkpoint: Some(reached.clone()), exit: None };
        let mut outcome = self.fated(Moment::Checkpoint, subject);
        self.go(Position::Level(LevelPosition { checkpoint: Some(reached), ..standing }), &mut outcome);
        self.state.take_checkpoint();
        Ok(self.finished(outcome))
    }

    fn find_checkpoint(&self, level: u32, name: &str) -> Result<Checkpoint, Refused> {
        let listed = &self.model.level(level).checkpoints;
        if let Some(index) = listed.get_index_of(name) {
            return Ok(Checkpoint::Listed(index as u32));
        }
        // `forward` and `next` need an order, so a level without a list has no checkpoints there.
        if listed.is_empty() && self.model.accept == Accept::Any {
            return Ok(Checkpoint::Named(name.into()));
        }
        Err(Refused::UnknownCheckpoint {
            level: self.model.level(level).id.to_string(),
            name: name.to_owned(),
            nearest: suggestion(name, listed.iter().map(|checkpoint| &**checkpoint)),
        })
    }

    /// The player died.
    ///
    /// # Errors
    /// If the player is not in a level.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let letters = spec.int("letters")?;
    /// game.enter("mill_lane")?;
    /// game.set(letters, 30)?;
    /// game.checkpoint("ford")?;
    /// game.set(letters, 50)?;
    /// let fell = game.death()?;
    /// assert_eq!(game.get(letters), 30);                 // back to the checkpoint
    /// assert_eq!(game.get(spec.int("lanterns")?), 2);    // the rule of the death
    /// assert!(!fell.game_over);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn death(&mut self) -> Result<Outcome, Refused> {
        self.fail(Moment::Death)
    }

    /// The player starts the level again, from where it was entered.
    ///
    /// # Errors
    /// If the player is not in a level.
    pub fn restart(&mut self) -> Result<Outcome, Refused> {
        self.fail(Moment::Restart)
    }

    fn fail(&mut self, moment: Moment) -> Result<Outcome, Refused> {
        let mut outcome = self.failure(moment)?;
        self.judge_run(&mut outcome);
        Ok(self.finished(outcome))
    }

    /// A death, a restart or an abandon up to where `over_when` is judged; [`Progress::judge_run`] and
    /// [`Progress::finished`] come after it.
    #[doc(hidden)]
    pub fn failure(&mut self, moment: Moment) -> Result<Outcome, Refused> {
        let standing = self.inside(moment)?;
        let given_up = self.model.gives_up_checkpoint(moment);
        if given_up {
            self.state.give_up_checkpoint();
        }
        if moment == Moment::Abandon {
            return Ok(self.leave(moment));
        }
        let back =
            if given_up { LevelPosition { checkpoint: standing.entered_at.clone(), ..standing } } else { standing };
        let subject = self.subject();
        let mut outcome = self.fated(moment, subject);
        self.go(Position::Level(back), &mut outcome);
        outcome.respawn = self.respawn_at();
        Ok(outcome)
    }

    /// The level was passed.
    ///
    /// # Errors
    /// If the player is not in a level.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.enter("mill_lane")?;
    /// game.set(spec.int("letters")?, 85)?;
    /// let done = game.complete()?;
    /// assert_eq!(done.next_level(), Some("heather_rise"));
    /// assert_eq!(done.records().count(), 1);             // best_letters[mill_lane]
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn complete(&mut self) -> Result<Outcome, Refused> {
        let level = self.inside(Moment::Complete)?.level;
        let named = self.model.level(level).next;
        Ok(self.completed(None, named))
    }

    /// The level was passed through one of its exits. The level behind the exit opens.
    ///
    /// # Errors
    /// If the player is not in a level, or the level has no such exit.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane", "heather_rise"]
    ///     [level.mill_lane]
    ///     exits = { cellar = "millrace" }
    ///     [level.millrace]
    ///     title = "The Millrace"
    /// "#)?;
    /// let mut game = Progress::fresh(&spec);
    /// game.enter("mill_lane")?;
    /// let done = game.complete_by("cellar")?;
    /// assert_eq!(done.next_level(), Some("millrace"));
    /// assert_eq!(done.opened.len(), 2);                  // and heather_rise: mill_lane is completed
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn complete_by(&mut self, exit: impl AsRef<str>) -> Result<Outcome, Refused> {
        let name = exit.as_ref();
        let level = self.inside(Moment::Complete)?.level;
        let of = self.model.level(level);
        let to = of.exit(name).ok_or_else(|| Refused::UnknownExit {
            level: of.id.to_string(),
            name: name.to_owned(),
            nearest: suggestion(name, of.exits()),
        })?;
        Ok(self.completed(Some(name), Some(to)))
    }

    /// `complete`, and where it leads: to the level that is `named`, if one is.
    fn completed(&mut self, exit: Option<&str>, named: Option<u32>) -> Outcome {
        let subject = Subject { exit: exit.map(Into::into), ..self.subject() };
        let mut outcome = self.leave_as(Moment::Complete, subject);
        if let (Some(_), Some(level)) = (exit, named) {
            outcome.changes.extend(self.open(level));
        }
        let mut outcome = self.finished(outcome);
        outcome.next = Some(self.next(named));
        outcome
    }

    /// The level was left without passing it and without failing, through a door or over a map.
    ///
    /// # Errors
    /// If the player is not in a level.
    pub fn travel(&mut self) -> Result<Outcome, Refused> {
        self.inside(Moment::Travel)?;
        let outcome = self.leave(Moment::Travel);
        Ok(self.finished(outcome))
    }

    /// The level was given up.
    ///
    /// # Errors
    /// If the player is not in a level.
    pub fn abandon(&mut self) -> Result<Outcome, Refused> {
        self.fail(Moment::Abandon)
    }

    fn leave(&mut self, moment: Moment) -> Outcome {
        self.leave_as(moment, self.subject())
    }

    fn leave_as(&mut self, moment: Moment, subject: Subject) -> Outcome {
        if matches!(moment, Moment::Complete | Moment::Travel) {
            self.state.bank_visit();
        }
        let mut outcome = self.fated(moment, subject);
        self.go(Position::Menu, &mut outcome);
        outcome
    }

    /// The run is over. Said by the game, or by `over_when` after a failure.
    ///
    /// # Errors
    /// If the run is over already.
    pub fn game_over(&mut self) -> Result<Outcome, Refused> {
        self.open_session()?;
        if self.state.position == Position::RunOver {
            return Err(Refused::NotHere { moment: "game_over".into(), place: Place::RunOver });
        }
        let outcome = self.end_run();
        Ok(self.finished(outcome))
    }

    fn end_run(&mut self) -> Outcome {
        self.state.end_visit();
        self.state.give_up_checkpoint();
        let mut outcome = self.fated(Moment::GameOver, self.subject());
        outcome.game_over = true;
        self.go(Position::RunOver, &mut outcome);
        outcome
    }

    /// Returns whether `over_when` holds.
    #[doc(hidden)]
    pub fn is_run_over(&self) -> bool {
        self.model.over_when.as_ref().is_some_and(|over_when| over_when.holds(&self.env()))
    }

    /// After a failure: the run may be over.
    #[doc(hidden)]
    pub fn judge_run(&mut self, outcome: &mut Outcome) {
        if self.is_run_over() {
            let end = self.end_run();
            outcome.changes.extend(end.changes);
            outcome.set_back.extend(end.set_back);
            outcome.set_back.sort_unstable();
            outcome.set_back.dedup();
            outcome.save_due |= end.save_due;
            outcome.place = end.place;
            outcome.respawn = None;
            outcome.game_over = true;
        }
    }

    /// One of the game's own moments.
    ///
    /// # Errors
    /// If `[moments]` has no such name, and, for one of `new_runs`, if the player is in a level.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.own_moment("new_day")?;
    /// assert_eq!(game.get(spec.int("days")?), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn own_moment(&mut self, name: impl AsRef<str>) -> Result<Outcome, Refused> {
        let name = name.as_ref();
        self.open_session()?;
        match self.model.moment(name) {
            Some(moment @ Moment::Own(_)) => {
                let outcome = self.fated(moment, self.subject());
                Ok(self.finished(outcome))
            }
            Some(moment @ Moment::OwnRun(_)) => self.begin_run(moment, name),
            _ => Err(Refused::UnknownMoment {
                name: name.to_owned(),
                nearest: suggestion(name, self.model.own_moments.iter().map(|name| &**name)),
            }),
        }
    }

    /// The moment `launch`, on what was loaded.
    pub(crate) fn begin(&mut self) -> Outcome {
        let mut outcome = self.fated(Moment::Launch, self.subject());
        outcome.respawn = self.respawn_at();
        self.finished(outcome)
    }

    pub(crate) fn open_session(&self) -> Result<(), Refused> {
        if self.is_closed() { Err(Refused::Closed) } else { Ok(()) }
    }

    fn inside(&self, moment: Moment) -> Result<LevelPosition, Refused> {
        self.open_session()?;
        match self.state.position.level_position() {
            Some(standing) => Ok(standing.clone()),
            None => Err(Refused::NotInLevel { moment: moment.to_string(), place: self.place() }),
        }
    }

    fn outside(&self, moment: &str) -> Result<(), Refused> {
        self.open_session()?;
        match self.state.position {
            Position::Level(_) => Err(Refused::NotHere { moment: moment.to_owned(), place: self.place() }),
            Position::Menu | Position::RunOver => Ok(()),
        }
    }

    fn subject(&self) -> Subject {
        match self.state.position.level_position() {
            Some(standing) => {
                Subject { level: Some(standing.level), checkpoint: standing.checkpoint.clone(), exit: None }
            }
            None => Subject::default(),
        }
    }

    fn fated(&mut self, moment: Moment, subject: Subject) -> Outcome {
        let mut outcome = Outcome::new(moment, Place::Menu);
        self.apply_fates(moment, &subject, &mut outcome);
        outcome.save_due = self.model.save_at.contains(&moment);
        outcome
    }

    fn go(&mut self, position: Position, outcome: &mut Outcome) {
        if position.level().is_none() {
            // Outside a level both marks equal the current state.
            self.state.take_marks();
        }
        self.state.position = position;
        outcome.place = self.place();
    }

    fn respawn_at(&self) -> Option<RespawnAt> {
        match self.place() {
            Place::InLevel { level, checkpoint } => Some(RespawnAt { level, checkpoint }),
            Place::Menu | Place::RunOver => None,
        }
    }

    /// Ends every moment: judges openings, and says in the outcome where the player is.
    #[doc(hidden)]
    pub fn finished(&mut self, mut outcome: Outcome) -> Outcome {
        let opened = self.judge_openings();
        outcome.changes.extend(opened);
        outcome.opened =
            outcome.changes.iter().filter(|change| change.fate == Fate::Opened).filter_map(opened_level).collect();
        outcome.place = self.place();
        outcome
    }
}
