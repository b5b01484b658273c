//! The pure core of Vestigum: progress, expressions, images, and how saves are loaded, migrated and merged.
//!
//! Nothing in this crate reads a file, a clock, the environment or a random number, and nothing starts a thread: give
//! the same spec the same moments and the same progress comes out. Games use the crate `vestigum`, which adds stores and
//! sessions.
//!
//! Its modules stand on floors, and a module uses only modules of lower floors; ARCHITECTURE.md lists them. What a game
//! calls:
//!
//! | module | holds |
//! |---|---|
//! | [`spec`] | a checked document that can be played: [`Spec`] |
//! | [`progress`] | the state machine that a game feeds with moments |
//! | [`suspension`] | what a save writes: exactly what the player would have if they quit now |
//! | [`image`] | the saved form, its digest and check |
//! | [`loading`] | from images to progress |
//! | [`adopting`] | saves that a game wrote before it had a spec |
//! | [`merging`] | the saves of two installations become one |
//! | [`applying`] | saves of older versions come to this one |
//!
//! [`vestigum_spec`] reads documents and finds what is wrong with them.

pub mod adopting;
pub mod applying;
pub mod contributing;
pub mod device;
#[doc(hidden)]
pub mod evaluation;
pub mod handle;
pub mod image;
pub mod loading;
pub mod merging;
pub mod origin;
pub mod outcome;
pub mod progress;
pub mod spec;
#[doc(hidden)]
pub mod state;
pub mod suspension;

pub use device::LiveDevice;
pub use handle::Handle;
pub use handle::derived::{DerivedHandle, DerivedPerKey};
pub use handle::error::HandleError;
pub use handle::field_value::{FieldValue, Number};
pub use handle::keyed::PerKey;
pub use image::Image;
pub use image::encoded::{EncodedImage, MOST_SAVE_BYTES};
pub use image::report::{LoadError, LoadReport};
pub use loading::Launched;
pub use outcome::{Change, Next, Outcome, RankedIn, Refused, Written};
pub use progress::Progress;
pub use progress::board::BoardRow;
pub use progress::call::Call;
pub use progress::collections::{Item, ListMut, ListView, MapMut, MapValue, MapView, Plays, SetMut, SetValue, SetView};
pub use progress::display::{Entry, Update};
pub use progress::locks::{Comparison, LockReason};
pub use progress::made::MadeLevelError;
pub use progress::reads::Reads;
pub use progress::redeem::{CodeError, Redeemed};
pub use progress::reset::Reset;
pub use spec::Spec;
pub use suspension::Suspended;
// The words of the signatures above.
pub use vestigum_spec::{
    AccessError, AccessErrorKind, Diagnostic, Diagnostics, Edit, EntryName, Finite, History, Key, KeyAxis, Keys, List,
    Map, Moment, Owner, Part, Place, Ranked, Set, Severity, Span, Type, Value,
};
