//! How saves of older versions come to a spec, step by step: for tools that look at what each migration does.

use std::borrow::Cow;

use crate::applying::chain::{Migrated, Route, migrate};
use crate::image::Image;
use crate::image::report::{LoadError, LoadReport};
use crate::spec::Spec;

/// Images that were brought to a newer version, and what that did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Upgraded {
    /// The player's image.
    pub profile: Option<Image>,
    /// The device's image. One is made if a migration moves something to a device that has none yet.
    pub device: Option<Image>,
    /// Says what the migrations did. The origins are left to those who know them.
    pub report: LoadReport,
}

impl Spec {
    /// Brings images to a version that is frozen, or to the spec's, and no further. A launch does the same by itself.
    ///
    /// # Errors
    /// If a version is not known, or the game's code is needed or fails. The images are untouched in any case.
    pub fn upgrade(
        &self,
        version: i64,
        profile: Option<&Image>,
        device: Option<&Image>,
    ) -> Result<Upgraded, LoadError> {
        let mut report = LoadReport::default();
        let Migrated { profile, device } = migrate(self.route(), version, profile, device, &mut report)?;
        Ok(Upgraded { profile: profile.map(Cow::into_owned), device: device.map(Cow::into_owned), report })
    }

    /// Returns what the migration to a version does, a sentence for each step.
    pub fn steps_to(&self, version: i64) -> Vec<String> {
        self.updates().plan_to(version).map(|plan| plan.told.to_vec()).unwrap_or_default()
    }

    /// Returns what images are migrated by: for the crates of this project.
    #[doc(hidden)]
    pub fn route(&self) -> Route<'_> {
        Route { model: self.model(), updates: self.updates(), hooks: &self.hooks }
    }
}
