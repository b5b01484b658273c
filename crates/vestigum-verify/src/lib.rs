//! What a team runs beside a game that is built on [`vestigum`]: nothing of it is linked into the game.
//!
//! | module | answers |
//! |---|---|
//! | [`lint`] | what is wrong with a spec, and what is sound and probably not meant |
//! | [`render()`] | findings over the text of their document |
//! | [`fate_table`] | what every moment does to every field |
//! | [`fate_words`] | the same of one field, in words, and where the spec says so |
//! | [`playthrough`] | does a script of moments end as it expects? |
//! | [`explore`] | can any play break a promise, and what is the shortest one? |
//! | [`probe`] | would anybody notice if a rule were weaker? |
//! | [`proof`] | what becomes of the saves of every version that shipped? |
//! | [`faults`] | what is left of a save after a power cut, a kill, a full disk, a flipped bit? |
//! | [`testing`] | the same in a game's own `cargo test` |
//! | [`store_suite`] | does a store of one's own keep what a store must? |
//! | [`FlakyStore`] | does the game go on when its store fails, stalls and loses answers? |
//!
//! The program `vestigum` is these, with arguments in front. A game's own tests call them directly: this crate is a
//! dev-dependency.
//!
//! ```
//! use vestigum::Spec;
//! use vestigum_verify::playthrough::{MemorySaves, Script, run};
//!
//! let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
//! let script = Script::from_text("xp.play", "playthrough \"xp is kept\"\nlaunch\nxp += 5\nquit\nlaunch\nexpect xp == 5", &spec)?;
//! assert!(run(&spec, &script.playthroughs()[0], &mut MemorySaves::default()).passed());
//! # Ok::<(), vestigum::Diagnostics>(())
//! ```

pub mod explore;
pub mod fate_table;
pub mod fate_words;
pub mod faults;
mod flaky_store;
mod imported;
pub mod lint;
mod parallel;
pub mod playthrough;
pub mod probe;
pub mod proof;
mod sim_disk;
mod store_saves;
pub mod store_suite;
pub mod testing;

pub use flaky_store::{FlakyCounts, FlakyStore};
pub use imported::{asset_files, imported_file};
pub use sim_disk::{DiskOperation, Fault, PowerLoss, PowerLosses, SimDisk};
pub use store_saves::StoreSaves;
pub use vestigum_macros::tests;
pub use vestigum_render::{render, scripts_beside};
