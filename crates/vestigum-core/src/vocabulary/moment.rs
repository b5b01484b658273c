//! Moments: the boundaries in play at which progress is kept, reset, rewound or changed.

use std::fmt;

use crate::vocabulary::span::Span;

/// A boundary in play.
///
/// ```
/// use vestigum_core::{Moment, Span};
/// assert!(Moment::Death.is_failure());
/// assert!(Moment::Complete.ends(Span::Visit));
/// assert!(!Moment::Death.ends(Span::Visit));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Moment {
    /// The process started and the saved progress was loaded.
    Launch,
    /// "New game".
    NewRun,
    /// A level has finished loading and play begins in it.
    Enter,
    /// A checkpoint was reached.
    Checkpoint,
    /// The player died.
    Death,
    /// The player starts the level again, from where it was entered.
    Restart,
    /// The level was passed.
    Complete,
    /// The level was left without passing it and without failing.
    Travel,
    /// The level was given up.
    Abandon,
    /// The run is over.
    GameOver,
    /// The session ends in an orderly way.
    Quit,
    /// One of the game's own moments, by its place in `[moments] names`.
    Own(u16),
}

impl Moment {
    /// The moments every game has, in the order in which tables show them.
    pub const BUILT_IN: [Moment; 11] = [
        Moment::Launch,
        Moment::NewRun,
        Moment::Enter,
        Moment::Checkpoint,
        Moment::Death,
        Moment::Restart,
        Moment::Complete,
        Moment::Travel,
        Moment::Abandon,
        Moment::GameOver,
        Moment::Quit,
    ];

    /// The word for a built-in moment; the game's own are named in the spec.
    pub fn word(self) -> Option<&'static str> {
        Some(match self {
            Moment::Launch => "launch",
            Moment::NewRun => "new_run",
            Moment::Enter => "enter",
            Moment::Checkpoint => "checkpoint",
            Moment::Death => "death",
            Moment::Restart => "restart",
            Moment::Complete => "complete",
            Moment::Travel => "travel",
            Moment::Abandon => "abandon",
            Moment::GameOver => "game_over",
            Moment::Quit => "quit",
            Moment::Own(_) => return None,
        })
    }

    /// The built-in moment that `word` names.
    pub fn from_word(word: &str) -> Option<Moment> {
        Moment::BUILT_IN.into_iter().find(|moment| moment.word() == Some(word))
    }

    /// Whether the moment is a failure. A game over counts as one only in a level.
    pub fn is_failure(self) -> bool {
        matches!(self, Moment::Death | Moment::Restart | Moment::Abandon | Moment::GameOver)
    }

    /// Whether values of `span` end here.
    pub fn ends(self, span: Span) -> bool {
        match span {
            Span::Attempt => self.is_failure() || self.ends(Span::Visit),
            Span::Visit => {
                matches!(self, Moment::Restart | Moment::Complete | Moment::Travel | Moment::Abandon | Moment::GameOver)
            }
            Span::Session => self == Moment::Launch,
            Span::Run => self == Moment::NewRun,
            Span::Profile | Span::Device => false,
        }
    }

    /// Whether play is still in the level after it: the spans it ends start again from the entry mark.
    pub(crate) fn stays_in_level(self) -> bool {
        matches!(self, Moment::Death | Moment::Restart)
    }

    #[doc(hidden)]
    /// Whether there always is a level that the moment is about.
    pub fn has_level(self) -> bool {
        matches!(
            self,
            Moment::Enter
                | Moment::Checkpoint
                | Moment::Death
                | Moment::Restart
                | Moment::Complete
                | Moment::Travel
                | Moment::Abandon
        )
    }

    /// Whether the marks mean something here: play is in a level that was entered before.
    pub(crate) fn has_marks(self) -> bool {
        self.has_level() && self != Moment::Enter
    }

    /// Position in tables that have a row for each moment.
    pub(crate) fn index(self) -> usize {
        match self {
            Moment::Launch => 0,
            Moment::NewRun => 1,
            Moment::Enter => 2,
            Moment::Checkpoint => 3,
            Moment::Death => 4,
            Moment::Restart => 5,
            Moment::Complete => 6,
            Moment::Travel => 7,
            Moment::Abandon => 8,
            Moment::GameOver => 9,
            Moment::Quit => 10,
            Moment::Own(n) => 11 + usize::from(n),
        }
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Moment::Own(n) => write!(f, "own moment {}", n + 1),
            moment => f.write_str(moment.word().unwrap_or_default()),
        }
    }
}
