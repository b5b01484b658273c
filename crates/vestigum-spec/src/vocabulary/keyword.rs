//! The words with which statements of a playthrough begin. No field, level or moment may have one.

use crate::vocabulary::moment::Moment;
use crate::words;

words! {
    /// The word with which a statement of a playthrough begins, where it is not a moment.
    pub enum Keyword {
        /// A level is entered whether it is open or not.
        EnterAny = "enter_any",
        /// A condition must hold.
        Expect = "expect",
        /// The statement behind it must be refused.
        Refuse = "refuse",
        /// The progress is saved.
        Save = "save",
        /// The process dies.
        Crash = "crash",
        /// Saved images are damaged.
        Damage = "damage",
        /// A promise of the spec is not judged.
        Without = "without",
        /// The timeline shows values.
        Watch = "watch",
        /// A saved image is brought in.
        Import = "import",
        /// Another player's session.
        Profile = "profile",
        /// Players are made, copied, renamed, deleted and brought back.
        Profiles = "profiles",
        /// Another device, with saves of its own.
        Device = "device",
        /// The player's saves here and in the place that all devices share come to be the same.
        Sync = "sync",
        /// A value comes into a container.
        Insert = "insert",
        /// A value goes out of a container.
        Remove = "remove",
        /// A value is written if it is higher.
        Raise = "raise",
        /// A value is written if it is lower.
        Lower = "lower",
        /// Time passes.
        Tick = "tick",
        /// A code is made.
        Code = "code",
        /// A code is redeemed.
        Redeem = "redeem",
        /// A player makes a level.
        MakeLevel = "make_level",
        /// A level that a player made is removed.
        RemoveLevel = "remove_level",
        /// A level that a player made becomes a text for others.
        ExportLevel = "export_level",
        /// A level that another player made is brought in.
        ImportLevel = "import_level",
        /// Progress is put back to its beginning.
        Reset = "reset",
        /// The level overview is shown.
        Board = "board",
        /// The statements up to `end` happen several times.
        Repeat = "repeat",
        /// The end of a `repeat`.
        End = "end",
        /// A playthrough begins.
        Playthrough = "playthrough",
    }
}

words! {
    /// Describes what a statement does to players.
    pub enum ProfileVerb {
        /// A player who has played nothing is made.
        Create = "create",
        /// A player is made who has what another has.
        Copy = "copy",
        /// A player gets another name.
        Rename = "rename",
        /// A player is deleted.
        Delete = "delete",
        /// A deleted player is brought back.
        Restore = "restore",
        /// The saves that are left of a deleted player are removed.
        Purge = "purge",
    }
}

impl ProfileVerb {
    /// Returns whether it is said of two players.
    pub fn takes_two(self) -> bool {
        match self {
            ProfileVerb::Copy | ProfileVerb::Rename => true,
            ProfileVerb::Create | ProfileVerb::Delete | ProfileVerb::Restore | ProfileVerb::Purge => false,
        }
    }
}

/// All words with which a statement can begin: the built-in moments, and the keywords.
pub fn statement_words<'a>() -> impl Iterator<Item = &'a str> {
    let moments = Moment::BUILT_IN.iter().filter_map(|moment| moment.word());
    moments.chain(Keyword::ALL.iter().map(|keyword| keyword.word()))
}
