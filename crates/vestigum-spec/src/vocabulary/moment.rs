//! Moments: the boundaries in play at which progress is kept, reset, rewound or changed.
//!
//! Every built-in moment is one line of the table below: its name in Rust, its word, and its place in tables come from there.
//! What is true of it stands in one `match`, `Moment::nature`.

use std::fmt;

use crate::vocabulary::span::Span;

macro_rules! moments {
    ($($(#[$doc:meta])* $variant:ident = $word:literal,)*) => {
        /// A boundary in play.
        ///
        /// ```
        /// use vestigum_spec::{Moment, Span};
        /// assert!(Moment::Death.is_failure());
        /// assert!(Moment::Complete.ends(Span::Visit));
        /// assert!(!Moment::Death.ends(Span::Visit));
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum Moment {
            $($(#[$doc])* $variant,)*
            /// One of the game's own moments, by its place in `[moments] names`.
            Own(u16),
            /// One of the game's own moments that begin a run, by its place behind those of `names`: `[moments] new_runs`.
            OwnRun(u16),
        }

        /// The built-in moments by their places in tables.
        enum MomentRow {
            $($variant,)*
        }

        impl Moment {
            /// The moments every game has, in the order in which tables show them.
            pub const BUILT_IN: &'static [Moment] = &[$(Moment::$variant,)*];

            /// The word for a built-in moment; the game's own are named in the spec.
            pub const fn word(self) -> Option<&'static str> {
                match self {
                    $(Moment::$variant => Some($word),)*
                    Moment::Own(_) | Moment::OwnRun(_) => None,
                }
            }

            /// The place in tables that have a row for each moment.
            #[doc(hidden)]
            pub const fn index(self) -> usize {
                match self {
                    $(Moment::$variant => MomentRow::$variant as usize,)*
                    Moment::Own(n) | Moment::OwnRun(n) => Moment::BUILT_IN.len() + n as usize,
                }
            }
        }
    };
}

moments! {
    /// The process started and the saved progress was loaded.
    Launch = "launch",
    /// "New game".
    NewRun = "new_run",
    /// A level has finished loading and play begins in it.
    Enter = "enter",
    /// A checkpoint was reached.
    Checkpoint = "checkpoint",
    /// The player died.
    Death = "death",
    /// The player starts the level again, from where it was entered.
    Restart = "restart",
    /// The level was passed.
    Complete = "complete",
    /// The level was left without passing it and without failing.
    Travel = "travel",
    /// The level was given up.
    Abandon = "abandon",
    /// The run is over.
    GameOver = "game_over",
    /// The session ends in an orderly way.
    Quit = "quit",
}

/// Describes what is true of a moment, whatever the spec says.
#[derive(Clone, Copy)]
struct Nature {
    /// Something went wrong for the player.
    failure: bool,
    /// The visit to the level ends.
    ends_visit: bool,
    /// The session before it has ended.
    ends_session: bool,
    /// The run before it has ended.
    ends_run: bool,
    /// Play is still in the level after it.
    stays: bool,
    /// There always is a level that it is about.
    level: bool,
    /// There always are marks: play is in a level that was entered before.
    marks: bool,
}

impl Moment {
    /// The moments at which a game saves whose spec has no `[save] at`, besides quitting and resets.
    pub const SAVES: [Moment; 3] = [Moment::Checkpoint, Moment::Complete, Moment::GameOver];

    const fn nature(self) -> Nature {
        const NONE: Nature = Nature {
            failure: false,
            ends_visit: false,
            ends_session: false,
            ends_run: false,
            stays: false,
            level: false,
            marks: false,
        };
        const INSIDE: Nature = Nature { level: true, marks: true, ..NONE };
        match self {
            Moment::Launch => Nature { ends_session: true, ..NONE },
            Moment::NewRun | Moment::OwnRun(_) => Nature { ends_run: true, ..NONE },
            Moment::Enter => Nature { level: true, ..NONE },
            Moment::Checkpoint => INSIDE,
            Moment::Death => Nature { failure: true, stays: true, ..INSIDE },
            Moment::Restart => Nature { failure: true, ends_visit: true, stays: true, ..INSIDE },
            Moment::Complete | Moment::Travel => Nature { ends_visit: true, ..INSIDE },
            Moment::Abandon => Nature { failure: true, ends_visit: true, ..INSIDE },
            Moment::GameOver => Nature { failure: true, ends_visit: true, ..NONE },
            Moment::Quit | Moment::Own(_) => NONE,
        }
    }

    /// The built-in moment that `word` names.
    pub fn from_word(word: &str) -> Option<Moment> {
        Moment::BUILT_IN.iter().copied().find(|moment| moment.word() == Some(word))
    }

    /// Returns whether the moment is a failure. A game over counts as one only in a level.
    pub const fn is_failure(self) -> bool {
        self.nature().failure
    }

    /// Returns whether a run begins here, and the one before it has ended.
    pub const fn begins_run(self) -> bool {
        self.nature().ends_run
    }

    /// Returns whether values of `span` end here.
    pub const fn ends(self, span: Span) -> bool {
        let nature = self.nature();
        match span {
            Span::Attempt => nature.failure || nature.ends_visit,
            Span::Visit => nature.ends_visit,
            Span::Session => nature.ends_session,
            Span::Run => nature.ends_run,
            Span::Profile | Span::Device => false,
        }
    }

    /// Returns whether play is still in the level after it: the spans it ends start again from the entry mark.
    #[doc(hidden)]
    pub const fn stays_in_level(self) -> bool {
        self.nature().stays
    }

    /// Returns whether there always is a level that the moment is about.
    #[doc(hidden)]
    pub const fn has_level(self) -> bool {
        self.nature().level
    }

    /// Returns whether the marks mean something here: play is in a level that was entered before.
    #[doc(hidden)]
    pub const fn has_marks(self) -> bool {
        self.nature().marks
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Moment::Own(n) | Moment::OwnRun(n) => write!(f, "own moment {}", n + 1),
            moment => f.write_str(moment.word().unwrap_or_default()),
        }
    }
}
