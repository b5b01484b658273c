//! Vestigum: say in one document which player progress persists, and keep it.
//!
//! A **spec** says for every piece of progress how long it lasts, what a death takes and what is recorded. A [`Session`]
//! runs it: the game says its *moments* (enter, checkpoint, death, complete, quit …) and the rules do the rest,
//! durably, in a [`Store`].
//!
//! ```
//! use vestigum::{MemoryStore, Session, Spec};
//!
//! let spec = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane", "heather_rise"]
//!     [field.score]                  # what the run has earned
//!     type = "int"
//!     lasts = "run"
//!     after_failure = "entry"        # a death takes what was earned since the level was entered
//!     [field.letters]                # delivered on this visit
//!     type = "int"
//!     lasts = "visit"
//!     after_failure = "entry"
//!     [field.best_letters]           # a record for each level
//!     type = "int"
//!     per = "level"
//!     lasts = "profile"
//!     on.complete = { max = "letters" }
//! "#)?;
//! let letters = spec.int("letters")?;                 // name and type are checked here, once
//! let best = spec.int_per_level("best_letters")?;
//!
//! let store = MemoryStore::default();
//! let mut game = Session::launch(&spec, store.clone(), "ada")?;
//! game.enter("mill_lane")?;
//! game.add(letters, 60)?;
//! let done = game.complete()?;
//! assert_eq!(done.next.as_deref(), Some("heather_rise"));
//! game.quit()?;
//!
//! let game = Session::launch(&spec, store, "ada")?;   // the next evening
//! assert_eq!(game.get(best.at("mill_lane")?), 60);
//! # game.quit()?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Everything pure lives in the crate `vestigum-core` and is re-exported here.

mod clock;
mod common;
mod dir_store;
mod disk;
mod memory_store;
mod peek;
mod recovery;
mod saver;
mod session;
mod store;

pub use common::Common;
pub use dir_store::{DirStore, Removable, Stray};
pub use disk::{Disk, DiskFile, EntryKind, HeldLock, Lock, RealDisk};
pub use memory_store::MemoryStore;
pub use peek::Peek;
pub use recovery::restore;
pub use saver::{SaveTicket, Saver};
pub use session::{QuitError, Saved, Session, SessionError};
pub use store::{Committed, PROFILE_NAME_LEN, Pruned, Store, StoreError, checked_profile, prune_all};
pub use vestigum_core::*;

/// What the project's own tools need besides. No promise is made about it.
#[doc(hidden)]
pub mod tools {
    pub use crate::recovery::{Found, newest_readable};
    pub use crate::saver::commit_making_room;
}
