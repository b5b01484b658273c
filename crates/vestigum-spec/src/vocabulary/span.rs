//! How long a value lives, and who writes it.

use crate::words;

words! {
    /// Describes how long a value lives.
    pub enum Span {
        /// From (re)spawn to failure.
        Attempt = "attempt",
        /// From entering a level until it is completed, left or restarted.
        Visit = "visit",
        /// One process lifetime.
        Session = "session",
        /// From "new game" to game over or the next "new game".
        Run = "run",
        /// As long as the player's profile.
        Profile = "profile",
        /// As long as the installation, shared by all profiles.
        Device = "device",
    }
}

impl Span {
    /// The article that goes with the word.
    #[doc(hidden)]
    pub fn article(self) -> &'static str {
        match self {
            Span::Attempt => "an",
            Span::Visit | Span::Session | Span::Run | Span::Profile | Span::Device => "a",
        }
    }

    /// Returns whether values of this span can be brought back to a mark.
    #[doc(hidden)]
    pub fn can_rewind(self) -> bool {
        match self {
            Span::Attempt | Span::Visit | Span::Run | Span::Profile => true,
            Span::Session | Span::Device => false,
        }
    }

    /// Returns whether an image of a player or of the device holds values of this span, when it is made in a level or outside.
    #[doc(hidden)]
    pub fn is_saved_at(self, in_level: bool) -> bool {
        self.is_saved() && (in_level || !self.is_of_visit())
    }

    /// Returns whether values are gone with the visit to a level.
    #[doc(hidden)]
    pub fn is_of_visit(self) -> bool {
        match self {
            Span::Attempt | Span::Visit => true,
            Span::Session | Span::Run | Span::Profile | Span::Device => false,
        }
    }

    /// Returns whether values outlive the run: only a reset takes them.
    #[doc(hidden)]
    pub fn outlives_run(self) -> bool {
        match self {
            Span::Profile | Span::Device => true,
            Span::Attempt | Span::Visit | Span::Session | Span::Run => false,
        }
    }

    /// Returns whether values are part of an image: visit values only while suspended in a level.
    #[doc(hidden)]
    pub fn is_saved(self) -> bool {
        match self {
            Span::Visit | Span::Run | Span::Profile | Span::Device => true,
            Span::Attempt | Span::Session => false,
        }
    }
}

words! {
    /// Describes how long `completed` and `opened` live: `[levels] lasts`.
    #[derive(Default)]
    pub enum Lasts {
        /// As long as the profile.
        #[default]
        Profile = "profile",
        /// One run.
        Run = "run",
    }
}

words! {
    /// Describes who writes a field.
    pub enum WrittenBy {
        /// The game, while it is played.
        Play = "play",
        /// Only the rules of the spec.
        Rules = "rules",
        /// Both.
        Both = "both",
    }
}

impl WrittenBy {
    /// Returns whether the game may write it.
    pub fn play(self) -> bool {
        match self {
            WrittenBy::Play | WrittenBy::Both => true,
            WrittenBy::Rules => false,
        }
    }
}
