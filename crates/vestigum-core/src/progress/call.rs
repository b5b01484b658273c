//! One way to say every moment.

use crate::outcome::{Outcome, Refused};
use crate::progress::Progress;
use vestigum_spec::vocabulary::moment::Moment;

/// A moment that a game says, with what it needs to be said.
///
/// `launch` is said by loading, and `quit` ends what says the others: they are not calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Call<'a> {
    /// "New game".
    NewRun,
    /// Play begins in a level.
    Enter {
        /// The level.
        level: &'a str,
        /// The checkpoint at which play begins; left out, at the start of the level.
        checkpoint: Option<&'a str>,
        /// Whether a locked level is refused.
        locked: bool,
    },
    /// A checkpoint was reached.
    Checkpoint(&'a str),
    /// The player died.
    Death,
    /// The player starts the level again.
    Restart,
    /// The level was passed.
    Complete,
    /// The level was passed through an exit.
    CompleteBy(&'a str),
    /// The level was left without passing it and without failing.
    Travel,
    /// The level was given up.
    Abandon,
    /// The run is over.
    GameOver,
    /// One of the game's own moments, by its name.
    Own(&'a str),
}

impl<'a> Call<'a> {
    /// Play begins in a level, if it is open.
    pub fn enter(level: &'a str) -> Call<'a> {
        Call::Enter { level, checkpoint: None, locked: true }
    }

    /// The call of a moment that needs no level and no checkpoint; `name` is what one of the game's own is called. None for
    /// the others, and for `launch` and `quit`.
    #[doc(hidden)]
    pub fn plain(moment: Moment, name: &'a str) -> Option<Call<'a>> {
        match moment {
            Moment::NewRun => Some(Call::NewRun),
            Moment::Death => Some(Call::Death),
            Moment::Restart => Some(Call::Restart),
            Moment::Complete => Some(Call::Complete),
            Moment::Travel => Some(Call::Travel),
            Moment::Abandon => Some(Call::Abandon),
            Moment::GameOver => Some(Call::GameOver),
            Moment::Own(_) | Moment::OwnRun(_) => Some(Call::Own(name)),
            Moment::Launch | Moment::Enter | Moment::Checkpoint | Moment::Quit => None,
        }
    }

    /// Begins play at a checkpoint. Other moments than [`Call::Enter`] stay as they are.
    #[must_use]
    pub fn at(self, name: &'a str) -> Call<'a> {
        match self {
            Call::Enter { level, locked, .. } => Call::Enter { level, checkpoint: Some(name), locked },
            other => other,
        }
    }
}

impl Progress {
    /// Says a moment. Each has a method of its own, which does the same.
    ///
    /// ```
    /// use vestigum_core::{Call, Progress, Spec};
    ///
    /// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
    /// let mut game = Progress::fresh(&spec);
    /// for call in [Call::enter("mill_lane"), Call::Death, Call::Complete] {
    ///     game.apply(call)?;
    /// }
    /// assert_eq!(game.value("completed", &["mill_lane"])?, true.into());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// If the moment cannot happen here, or it names a level, a checkpoint or a moment that the game does not have. Nothing
    /// has changed then.
    pub fn apply(&mut self, call: Call<'_>) -> Result<Outcome, Refused> {
        match call {
            Call::NewRun => self.new_run(),
            Call::Enter { level, checkpoint, locked } => self.enter_level(level, checkpoint, locked),
            Call::Checkpoint(name) => self.checkpoint(name),
            Call::Death => self.death(),
            Call::Restart => self.restart(),
            Call::Complete => self.complete(),
            Call::CompleteBy(exit) => self.complete_by(exit),
            Call::Travel => self.travel(),
            Call::Abandon => self.abandon(),
            Call::GameOver => self.game_over(),
            Call::Own(name) => self.own_moment(name),
        }
    }
}
