//! The mail carriers of Fellpost, as a small game for the terminal.
//!
//! What persists is said in `progress.toml`; `spec!` makes the types of [`progress`] from it. Everything else here is the game:
//!
//! | module | has |
//! |---|---|
//! | `path` | the tiles of the paths, read from text files |
//! | `walk` | a visit to a path: each moment of play is said to the session here |
//! | `walk_view` | how it is drawn |
//! | `board` | the level overview with records and reasons for locks |
//! | `desk` | settings, postcards and resets, over the board |
//! | `arrival` | what a completed path came to, and the name for the ranking |
//! | `title` | the profiles |
//! | `app` | which of these is shown, the sign while it saves, and leaving |
//! | `look` | colours and boxes |
//!
//! The game needs no terminal: tests press keys on an [`App`] and read what it draws.

#![forbid(unsafe_code)]

mod app;
mod arrival;
mod board;
mod desk;
mod look;
mod path;
mod title;
mod walk;
mod walk_view;

vestigum::spec! {
    /// Says what persists.
    pub mod progress = "progress.toml";
}

pub use app::App;

/// Describes what the game could not do: it is shown, and play goes on.
pub type Trouble = Box<dyn std::error::Error>;

/// Describes what follows a key.
enum Go {
    /// Shows the map, the ranking and the path.
    Stay,
    /// The session is in another place.
    On,
    /// A path was completed.
    Arrived(progress::Level, Box<vestigum::Outcome>),
    /// The carrier goes home: save, and back to the title.
    Home,
}
