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

mod apply;
mod chain;
mod entries;
mod hook;
mod merged;
mod names;
mod needs;
mod plan;
mod prepare;
mod steps;
mod way;
mod wording;

use std::borrow::Cow;
use std::fmt;
use std::sync::Arc;

use crate::image::{Image, LoadError, LoadReport};
use crate::spec::Spec;

pub(crate) use chain::{Migrated, migrate};
pub use hook::HookError;
pub(crate) use hook::Hooks;
pub(crate) use needs::{Need, Offer, either};
pub(crate) use prepare::{Migrations, is_compatible, prepare};
pub(crate) use way::{Way, ways};
pub(crate) use wording::recorded;

/// A migration that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Step {
    /// The version it led to.
    pub to: i64,
    /// What its steps say, in words.
    pub told: Arc<[String]>,
    /// Whether it moved values of players to the device: until the device's image is durable, a player's must not
    /// follow, or the values would be in neither.
    pub device_first: bool,
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "migrated to version {}", self.to)?;
        for (index, step) in self.told.iter().enumerate() {
            write!(f, "{} {step}", if index == 0 { ":" } else { ";" })?;
        }
        Ok(())
    }
}

/// Images that were brought to a newer version, and what that did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Upgraded {
    /// The player's image.
    pub profile: Option<Image>,
    /// The device's image. One is made if a migration moves something to a device that has none yet.
    pub device: Option<Image>,
    /// What the migrations did. The origins are left to those who know them.
    pub report: LoadReport,
}

/// Brings images to a version that is frozen, or to the spec's, and no further: for tools that look at what each
/// migration does. A launch does the same by itself.
///
/// # Errors
/// If a version is not known, or the game's code is needed or fails. The images are untouched in any case.
pub fn upgrade(
    spec: &Spec,
    version: i64,
    profile: Option<&Image>,
    device: Option<&Image>,
) -> Result<Upgraded, LoadError> {
    let mut report = LoadReport::default();
    let migrated = chain::migrate_to(spec, version, profile, device, &mut report)?;
    Ok(Upgraded {
        profile: migrated.profile.map(Cow::into_owned),
        device: migrated.device.map(Cow::into_owned),
        report,
    })
}

/// What the migration to a version does, a sentence for each step.
pub fn steps_to(spec: &Spec, version: i64) -> Vec<String> {
    spec.0.migrations.to(version).map(|plan| plan.told.to_vec()).unwrap_or_default()
}
