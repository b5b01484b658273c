//! The words with which statements of a playthrough begin. No field, level or moment may bear one.

use crate::words::words;
words! {
    /// The word with which a statement of a playthrough begins.
    pub enum Keyword {
        /// A session begins.
        Launch = "launch",
        /// A new run begins.
        NewRun = "new_run",
        /// A level is entered.
        Enter = "enter",
        /// A level is entered whether it is open or not.
        EnterAny = "enter_any",
        /// A checkpoint is reached.
        Checkpoint = "checkpoint",
        /// The player dies.
        Death = "death",
        /// The level is started again.
        Restart = "restart",
        /// The level is passed.
        Complete = "complete",
        /// The level is left over a map or through a door.
        Travel = "travel",
        /// The level is given up.
        Abandon = "abandon",
        /// The run is over.
        GameOver = "game_over",
        /// The session ends and is saved.
        Quit = "quit",
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
        /// The timeline shows values.
        Watch = "watch",
        /// A saved image is brought in.
        Import = "import",
        /// Another player's session.
        Profile = "profile",
        /// A value comes into a container.
        Insert = "insert",
        /// A value goes out of a container.
        Remove = "remove",
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
