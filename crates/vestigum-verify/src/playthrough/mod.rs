//! Playthroughs: scripts of moments with expectations.
//!
//! A script is read (`script`), checked against a spec (`check`) and run ([`run()`]) with its images on a [`Saves`]:
//! in memory, or wherever the caller keeps them. Every run can tell its story as a [`Timeline`].
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_verify::playthrough::{MemorySaves, Script, run};
//!
//! let spec = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane"]
//!     [field.score]
//!     type = "int"
//!     lasts = "run"
//!     after_failure = "entry"
//! "#)?;
//! let script = Script::from_text("score.play", r#"
//!     playthrough "a death gives back what was earned since entry"
//!     launch
//!     enter mill_lane
//!       score += 60
//!       death
//!       expect score == 0
//! "#, &spec)?;
//! let result = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
//! assert!(result.passed());
//! # Ok::<(), vestigum_core::Diagnostics>(())
//! ```

mod action;
mod check;
mod known;
mod levels;
mod origins;
mod outcome;
mod players;
mod promises;
mod run;
mod saves;
mod script;
mod statements;
mod syncs;
mod target;
mod timeline;
mod told;
mod written;

pub use check::{Files, ImportError, Playthrough, Script};
pub use outcome::{Failure, LastChange, PromiseFailure, Run, Why};
pub use run::run;
pub use saves::{MemorySaves, Newest, Saves, SavesError};
pub use timeline::{Cell, Row, Timeline};
pub use told::Tone;
