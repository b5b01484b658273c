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
//! assert_eq!(done.next_level(), Some("heather_rise"));
//! game.quit()?;
//!
//! let game = Session::launch(&spec, store, "ada")?;   // the next evening
//! assert_eq!(game.get(best.at("mill_lane")?), 60);
//! # game.quit()?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Everything pure lives in the crate `vestigum-core`; this crate re-exports what a game needs, by name.

#[doc = include_str!("../docs/design.md")]
pub mod design {}

#[cfg(feature = "macros")]
#[doc = include_str!("../docs/cookbook.md")]
pub mod cookbook {}

#[doc = include_str!("../docs/stores.md")]
pub mod stores {}

/// The examples of the second part of the guide run as tests.
#[cfg(all(doctest, feature = "macros"))]
#[doc = include_str!("../docs/second-hour.md")]
struct SecondHour;

#[doc = include_str!("../docs/servers.md")]
pub mod servers {}

/// The examples of this crate's README run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;

mod clock;
mod dir_store;
mod disk;
mod error;
mod memory_store;
mod profiles;
mod recovery;
pub mod roster;
mod saver;
mod session;
mod store;
pub mod sync;

pub use dir_store::{DirStore, Removable, Stray};
pub use disk::{Disk, DiskFile, EntryKind, HeldLock, Lock, RealDisk};
pub use error::SessionError;
pub use memory_store::MemoryStore;
pub use profiles::{Profile, ProfileError, ProfileState, Profiles};
pub use recovery::restore;
pub use saver::{SaveTicket, Saved, Saver};
pub use session::{Launch, Peek, QuitError, Session};
pub use store::{
    Commit, Committed, GivenSave, Lease, Line, Newest, PROFILE_NAME_LEN, PruneStep, Pruned, RemoteTrouble, SaveVerdict,
    Store, StoreError, StoreIdentity, checked_profile, checked_size, leased_to, prune_all, prune_step,
    random_installation, random_tag, removable_generations,
};

pub use vestigum_core::outcome::RespawnAt;
pub use vestigum_core::{
    AccessError, AccessErrorKind, BoardRow, Call, Change, CodeError, Comparison, DerivedHandle, DerivedPerKey,
    Diagnostic, Diagnostics, Edit, EncodedImage, Entry, EntryName, Finite, Handle, HandleError, History, Image, Key,
    KeyAxis, Keys, Launched, List, LoadError, LoadReport, LockReason, MOST_SAVE_BYTES, MadeLevelError, Map, Moment,
    Next, Outcome, Owner, Part, PerKey, Place, Progress, Ranked, RankedIn, Redeemed, Refused, Reset, Set, Severity,
    Span, Spec, Suspended, Type, Update, Value, Written,
};
pub use vestigum_spec::codes;
pub use vestigum_spec::diagnostic::SourceSpan;
pub use vestigum_spec::value::Chosen;
pub use vestigum_spec::value::containers::ValueIter;

/// Looking at what a spec says.
pub mod spec {
    pub use vestigum_spec::checked::CheckedSpec;
    pub use vestigum_spec::model::axis::{Axis, KeySet};
    pub use vestigum_spec::model::code::{Characters, Code, Digit, Form, Holds};
    pub use vestigum_spec::model::expression::Expression;
    pub use vestigum_spec::model::fates::{Effect, FieldFate, Rule};
    pub use vestigum_spec::model::field::{Counts, Field};
    pub use vestigum_spec::model::level::{Derived, Level};
    pub use vestigum_spec::model::promise::Promise;
    pub use vestigum_spec::model::source::Source;
    pub use vestigum_spec::model::table::Table;
    pub use vestigum_spec::value::limits::Limits;
    pub use vestigum_spec::value::ranking::{Better, RankedBy, Ranking};
    pub use vestigum_spec::value::types::{Member, StructType};
    pub use vestigum_spec::vocabulary::fate::{Fate, Operation, PlainFate};
    pub use vestigum_spec::vocabulary::policy::{Accept, NewerSaves, Respawn, Resume};
    pub use vestigum_spec::vocabulary::span::WrittenBy;
}

/// Reads and writes what each installation gave to a save, in games that merge saves.
pub mod origin {
    pub use vestigum_core::contributing::{Contribution, Contributor, Visits};
    pub use vestigum_core::origin::amount::Amount;
    pub use vestigum_core::origin::{
        Amounts, Change, Changes, Dot, EntryPath, Installation, InstallationId, RunOrigin, SavedOrigin,
    };
}

/// Saved images: what is in one, and what can be wrong with one.
pub mod image {
    pub use vestigum_core::image::blobs::{BlobDigest, BlobError, BlobRef, Blobs};
    pub use vestigum_core::image::json::ImageError;
    pub use vestigum_core::image::report::{
        Clamped, Dropped, LostBlob, Origin, PlaceChange, SavedMark, SavedName, SavedThing,
    };
    pub use vestigum_core::image::seal::SealKey;
    pub use vestigum_core::image::{FORMAT, Gone, SavedMarks, SavedPlace};
    pub use vestigum_spec::value::tree::{Moved, Tree, Values};
}

#[doc = include_str!("../docs/adopt.md")]
pub mod adopting {
    pub use vestigum_core::adopting::{AdoptError, AdoptReport, Adopted, Adoption, Taken};
}

/// Merging: the saves of two installations become one. [`sync`] does it between two stores.
pub mod merging {
    pub use vestigum_core::merging::report::{MergeReport, MergedEntry, MovedLevel, RunFrom, Side};
    pub use vestigum_core::merging::{Meeting, MergeError, Merged, join, meet};
    pub use vestigum_spec::model::merging::FieldMerge;
    pub use vestigum_spec::vocabulary::merging::MergeLaw;
}

/// Updates: what shipped, and how its saves come to this version.
pub mod update {
    pub use vestigum_core::applying::hook::HookError;
    pub use vestigum_core::image::report::MigrationStep;
    pub use vestigum_core::spec::updates::Upgraded;
    pub use vestigum_spec::freezing::{FreezeError, Freezing, Froze};
}

/// Types that handles can hold.
pub mod handle {
    pub use vestigum_core::handle::derived::DerivedKeyed;
    pub use vestigum_core::handle::keyed::{KeyIndex, KeyNames, Keyed};
    pub use vestigum_core::{
        FieldValue, Item, ListMut, ListView, MapMut, MapValue, MapView, Number, Plays, Reads, SetMut, SetValue, SetView,
    };
}

/// Items that the code of [`spec!`] uses. No promise is made about them.
#[cfg(feature = "macros")]
#[doc(hidden)]
pub mod generated {
    pub use serde;
    pub use vestigum_core::handle::Handle;
    pub use vestigum_core::handle::derived::{DerivedHandle, DerivedKeyed};
    pub use vestigum_core::handle::keyed::{KeyIndex, Keyed};
    pub use vestigum_core::{History, Spec};
    pub use vestigum_spec::model::field::FieldId;
    pub use vestigum_spec::model::placed::{Gate, Placed};
}

#[cfg(feature = "macros")]
pub use vestigum_macros::spec;

/// Items that the project's own tools need besides. No promise is made about them.
#[doc(hidden)]
pub mod tools {
    pub use crate::clock::rfc3339;
    pub use crate::recovery::{NewestImage, newest_image, newest_readable};
    pub use crate::saver::{FollowError, as_play, commit_making_room};
    pub use crate::store::Patience;
    pub use vestigum_spec::vocabulary::shown::{is_unseen, shown};
}
