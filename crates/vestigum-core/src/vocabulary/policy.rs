//! The choices that a spec makes for a whole game.

/// Where a death puts the player: `[death] respawn`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Respawn {
    /// At the last checkpoint.
    #[default]
    Checkpoint,
    /// Where the level was entered; the checkpoint is given up.
    Entry,
}

/// Which checkpoints count: `[checkpoints] accept`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Accept {
    /// Every one, also again and backwards.
    #[default]
    Any,
    /// Only one further on than the last.
    Forward,
    /// Only the next in order.
    Next,
}

/// What a save made inside a level brings back: `[save] resume`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Resume {
    /// The level is left as if given up.
    None,
    /// Play goes on where the level was entered.
    Entry,
    /// Play goes on where a death would put the player: at the last checkpoint, or with `respawn = "entry"` where the
    /// level was entered.
    #[default]
    Checkpoint,
}

impl Accept {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Accept::Any => "any",
            Accept::Forward => "forward",
            Accept::Next => "next",
        }
    }
}

impl Resume {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Resume::None => "none",
            Resume::Entry => "entry",
            Resume::Checkpoint => "checkpoint",
        }
    }

    /// The mode that `word` names.
    pub fn from_word(word: &str) -> Option<Resume> {
        [Resume::None, Resume::Entry, Resume::Checkpoint].into_iter().find(|mode| mode.word() == word)
    }
}
