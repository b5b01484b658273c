//! The choices that a spec makes for a whole game.

use crate::words;

words! {
    /// When levels of `order` open: `[levels] opening`.
    #[derive(Default)]
    pub enum OpeningOrder {
        /// Each when the one before it is completed.
        #[default]
        InOrder = "in order",
        /// All at the beginning.
        All = "all",
    }
}

words! {
    /// Describes where a death puts the player: `[death] respawn`.
    #[derive(Default)]
    pub enum Respawn {
        /// At the last checkpoint.
        #[default]
        Checkpoint = "checkpoint",
        /// At the entry of the level; the checkpoint is given up.
        Entry = "entry",
    }
}

words! {
    /// Describes which checkpoints count: `[checkpoints] accept`.
    #[derive(Default)]
    pub enum Accept {
        /// Every one, also again and backwards.
        #[default]
        Any = "any",
        /// Only one further on than the last.
        Forward = "forward",
        /// Only the next in order.
        Next = "next",
    }
}

words! {
    /// Describes how a code is written: `as`.
    pub enum CodeForm {
        /// As a number.
        Number = "number",
        /// As signs that a player writes down.
        Text = "text",
    }
}

words! {
    /// Describes what a save made inside a level brings back: `[save] resume`.
    #[derive(Default)]
    pub enum Resume {
        /// The level is left as if given up.
        None = "none",
        /// Play goes on where the level was entered.
        Entry = "entry",
        /// Play goes on where a death would put the player: at the last checkpoint, or with `respawn = "entry"` where
        /// the level was entered.
        #[default]
        Checkpoint = "checkpoint",
    }
}

words! {
    /// Says what a launch does with a save of its own version that holds values it has no place for: `[save] newer`. Another build of the
    /// version made it, one that was patched.
    pub enum NewerSaves {
        /// Refuses it; the build that made it can load it.
        Refuse = "refuse",
        /// Loads what this build knows. The rest is carried along, unread, and is written back.
        Keep = "keep",
    }
}
