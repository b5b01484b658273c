//! The pure core of Vestigum: specs, expressions, progress, images and playthroughs.
//!
//! Nothing in this crate reads a file, a clock, the environment or a random number, and nothing starts a thread: give
//! the same spec the same moments and the same progress comes out. Games use the crate `vestigum`, which adds stores and
//! sessions.
//!
//! The rooms, in the order in which data walks through them:
//!
//! | module | holds |
//! |---|---|
//! | [`spec`] | the document that says what persists, from TOML to a checked [`Spec`] |
//! | [`fate`] | the fate rule: what a moment does to a field |
//! | [`progress`] | the state machine that a game feeds with moments |
//! | [`mod@suspend`] | what a save writes: exactly what the player would have if they quit now |
//! | [`image`] | the saved form, its digest and check, and what loading makes of it |
//! | [`history`] | the shape of every version that players have |
//! | [`migration`] | how saves of older versions come to this one |

pub mod codes;
pub mod device;
pub mod diagnostic;
pub mod difference;
pub mod expression;
pub mod fate;
pub mod handle;
pub mod history;
pub mod image;
pub mod keyword;
pub mod literal;
pub mod migration;
pub mod moment;
pub mod nearest;
pub mod outcome;
pub mod place;
pub mod progress;
pub mod spec;
pub mod state;
pub mod suspend;
pub mod types;
pub mod value;
mod words;

pub use device::LiveDevice;
pub use diagnostic::{Diagnostic, Diagnostics, Severity};
pub use handle::{Handle, HandleError, PerLevel};
pub use history::History;
pub use image::{Image, LoadError, LoadReport, Owner};
pub use moment::Moment;
pub use nearest::nearest;
pub use outcome::{AccessError, Change, Outcome, Refused, Written};
pub use place::Place;
pub use progress::{BoardRow, Entry, Launched, Progress, Reset, Update};
pub use spec::{Span, Spec};
pub use suspend::Suspended;
pub use types::Type;
pub use value::{Finite, Value};
