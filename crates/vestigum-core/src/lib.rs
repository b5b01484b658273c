//! The pure core of Vestigum: specs, expressions, progress, images and playthroughs.
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
//! | [`spec`] | the document that says what persists, from TOML to a checked [`Spec`] |
//! | [`progress`] | the state machine that a game feeds with moments |
//! | [`suspension`] | what a save writes: exactly what the player would have if they quit now |
//! | [`image`] | the saved form, its digest and check |
//! | [`loading`] | from images to progress |
//! | [`adopting`] | saves that a game wrote before it had a spec |
//! | [`merging`] | the saves of two installations become one |
//! | [`history`] | the shape of every version that players have |
//! | [`migration`] | how saves of older versions come to this one |
//! | [`vocabulary`] | moments, spans, fates, places, keys |

pub mod adopting;
#[doc(hidden)]
pub mod analysis;
pub mod codes;
pub mod device;
pub mod diagnostic;
#[doc(hidden)]
pub mod document;
#[doc(hidden)]
pub mod evaluation;
pub mod handle;
pub mod history;
pub mod image;
pub mod loading;
pub mod merging;
pub mod migration;
#[doc(hidden)]
pub mod model;
pub mod nearest;
pub mod outcome;
pub mod progress;
#[doc(hidden)]
pub mod reading;
pub mod spec;
#[doc(hidden)]
pub mod state;
pub mod suspension;
#[doc(hidden)]
pub mod syntax;
pub mod value;
pub mod vocabulary;
#[doc(hidden)]
pub mod words;

pub use device::LiveDevice;
pub use diagnostic::{Diagnostic, Diagnostics, Severity};
pub use handle::Handle;
pub use handle::derived::{DerivedHandle, DerivedPerKey};
pub use handle::error::HandleError;
pub use handle::field_value::{FieldValue, Number};
pub use handle::keyed::PerKey;
pub use history::History;
pub use image::Image;
pub use image::encoded::{EncodedImage, MOST_SAVE_BYTES};
pub use image::report::{LoadError, LoadReport};
pub use loading::Launched;
pub use nearest::nearest;
pub use outcome::{AccessError, AccessErrorKind, Change, Next, Outcome, RankedIn, Refused, Written};
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
pub use value::containers::{List, Map, Set};
pub use value::edit::Edit;
pub use value::parts::Part;
pub use value::ranking::Ranked;
pub use value::types::Type;
pub use value::{Finite, Value};
pub use vocabulary::key::{EntryName, Key, KeyAxis, Keys};
pub use vocabulary::moment::Moment;
pub use vocabulary::owner::Owner;
pub use vocabulary::place::Place;
pub use vocabulary::span::Span;
