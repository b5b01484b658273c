//! Applying migrations: an older save comes to the spec's version.
//!
//! The way from one version to the next was planned when the spec was read ([`vestigum_spec::migration`]). `apply` takes an image one version on
//! (`entries` knows where each entry goes, `levels` finds room for those that players made, `members` fills members of structs), `chain` a
//! player's and a device's all the way, and `origins` what installations gave along with them. Old images are never touched: loading makes new
//! ones of them, which become the newest only when the game saves.
//!
//! ```
//! use vestigum_core::{History, Progress, Spec};
//!
//! let old = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["old_mill", "heather_rise"]
//!     [field.best]
//!     type = "int"
//!     lasts = "profile"
//!     after_failure = "keep"
//! "#)?;
//! let mut game = Progress::fresh(&old);
//! game.write("best", &[], 80.into())?;
//! let saved = game.suspend().profile_image("ada");
//!
//! let spec = Spec::from_named_toml_with_history("fellpost.toml", r#"
//!     [game]
//!     id = "fellpost"
//!     version = 2
//!     [levels]
//!     order = ["mill_lane", "heather_rise"]
//!     [field.best_letters]
//!     type = "int"
//!     per = "level"
//!     lasts = "profile"
//!     after_failure = "keep"
//!     [[migration]]
//!     to = 2
//!     steps = [
//!       { rename = "level", from = "old_mill", to = "mill_lane" },
//!       { fill = "best_letters[mill_lane]", with = "best" },
//!     ]
//! "#, History::default().freeze(&old)?.history)?;
//! let game = Progress::launch(&spec, Some(&saved), None)?;
//! assert_eq!(game.progress.value("best_letters", &["mill_lane"])?.as_int(), 80);
//! assert_eq!(game.report.migrated[0].to_string(), "migrated to version 2: the level old_mill is mill_lane now; best_letters[mill_lane] is filled with best");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub(crate) mod apply;
#[doc(hidden)]
pub mod chain;
pub(crate) mod entries;
pub mod hook;
mod levels;
pub(crate) mod members;
pub(crate) mod origins;
