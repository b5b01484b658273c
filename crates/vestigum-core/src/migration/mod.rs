//! Migration: how saves of older versions come to this one.
//!
//! A spec that was read with its [history](crate::history) takes every older image through the versions between, one
//! after the other. `steps` reads what the document says and `names` knows what became of names; `plan` works out where
//! every field's values come from, `merged` finds names that become one, and `needs` what was forgotten; `prepare` does so for every version. `apply`
//! takes an image one version on (`entries` knows where each entry goes), `chain` a player's and a device's all the way.
//! Old images are never touched: loading makes new ones of them, which become the newest only when the game saves.
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
pub(crate) mod fills;
pub mod hook;
pub(crate) mod members;
pub(crate) mod merged;
pub(crate) mod names;
#[doc(hidden)]
pub mod needs;
#[doc(hidden)]
pub mod plan;
#[doc(hidden)]
pub mod prepare;
#[doc(hidden)]
pub mod steps;
#[doc(hidden)]
pub mod version_step;
#[doc(hidden)]
pub mod wording;
