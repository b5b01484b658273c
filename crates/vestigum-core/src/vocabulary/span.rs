//! How long a value lives, and who writes it.

use std::fmt;

/// How long a value lives.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Span {
    /// From (re)spawn to failure.
    Attempt,
    /// From entering a level until it is completed, left or restarted.
    Visit,
    /// One process lifetime.
    Session,
    /// From "new game" to game over or the next "new game".
    Run,
    /// As long as the player's profile.
    Profile,
    /// As long as the installation, shared by all profiles.
    Device,
}

impl Span {
    pub(crate) const ALL: [Span; 6] =
        [Span::Attempt, Span::Visit, Span::Session, Span::Run, Span::Profile, Span::Device];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Span::Attempt => "attempt",
            Span::Visit => "visit",
            Span::Session => "session",
            Span::Run => "run",
            Span::Profile => "profile",
            Span::Device => "device",
        }
    }

    /// The article that goes with the word.
    pub(crate) fn article(self) -> &'static str {
        if self == Span::Attempt { "an" } else { "a" }
    }

    /// Whether values of this span can be brought back to a mark.
    pub(crate) fn can_rewind(self) -> bool {
        !matches!(self, Span::Session | Span::Device)
    }

    #[doc(hidden)]
    /// Whether values are part of an image: visit values only while suspended in a level.
    pub fn is_saved(self) -> bool {
        !matches!(self, Span::Attempt | Span::Session)
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// How long `completed` and `opened` live: `[levels] lasts`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Lasts {
    /// As long as the profile.
    #[default]
    Profile,
    /// One run.
    Run,
}

/// Who writes a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WrittenBy {
    /// The game, while it is played.
    Play,
    /// Only the rules of the spec.
    Rules,
    /// Both.
    Both,
}

impl WrittenBy {
    /// Whether the game may write it.
    pub fn play(self) -> bool {
        self != WrittenBy::Rules
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            WrittenBy::Play => "play",
            WrittenBy::Rules => "rules",
            WrittenBy::Both => "both",
        }
    }
}
