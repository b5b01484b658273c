//! What loading says: why it refused, or what it did.

use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::image::Image;
use crate::image::blobs::{BlobError, BlobRef};
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::key::EntryName;
use vestigum_spec::vocabulary::names::key_text;
use vestigum_spec::vocabulary::place::Place;
use vestigum_spec::vocabulary::shown::shown;

/// Describes why an image is not loaded. It stays as it is.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum LoadError {
    /// The image is of another game.
    #[error("the save is of the game `{found}`, and this is `{wanted}`; nothing was overwritten")]
    OtherGame {
        /// The game in the image.
        found: String,
        /// This game.
        wanted: String,
    },
    /// A newer version of the game wrote it.
    #[error(
        "the save of {owner} is of version {found}, and this game knows versions up to {known}; update the game to play on, nothing was overwritten"
    )]
    NewerVersion {
        /// Whose image it is: of a player or of the device.
        owner: String,
        /// The version in the image.
        found: i64,
        /// The version of the spec.
        known: i64,
    },
    /// Another build of the same version wrote it, and it holds what this one has no place for.
    #[error(
        "the save is of version {version}, as this game, but of a build that saves more: {}; update the game to play on, nothing was overwritten",
        what.join(", ")
    )]
    NewerBuild {
        /// The version of both.
        version: i64,
        /// Whose image it is.
        owner: String,
        /// A few of the things that this game has no place for.
        what: Vec<String>,
    },
    /// The image of a device was given for a profile, or the other way round.
    #[error("the save is of {found}, which is not what was to be loaded")]
    OtherOwner {
        /// Whose image it is.
        found: String,
    },
    /// The image is of an older version, and the game was built without the history that tells its shape.
    #[error(
        "the save is of version {found}, this game is of version {known} and was built without the history that says what version {found} saved; build it with `Spec::from_toml_with_history`, nothing was overwritten"
    )]
    NoHistory {
        /// The version in the image.
        found: i64,
        /// The version of the spec.
        known: i64,
    },
    /// The image is of a version that was never frozen.
    #[error(
        "the save is of version {found}, which was never frozen; the history begins with version {oldest}, nothing was overwritten"
    )]
    UnknownVersion {
        /// The version in the image.
        found: i64,
        /// The oldest version of the history.
        oldest: i64,
    },
    /// A step of a migration needs code that the game did not give.
    #[error("the migration to version {to} needs the game's code for {}; give it with `Spec::with_hook`, nothing was overwritten", fields.join(", "))]
    NoHook {
        /// The version that the migration leads to.
        to: i64,
        /// The fields that it makes.
        fields: Vec<String>,
    },
    /// The game's code panicked on the image.
    #[error("the migration to version {to} panicked in the game's code: {why}; nothing was overwritten")]
    HookPanicked {
        /// The version that the migration leads to.
        to: i64,
        /// Says what the panic said.
        why: String,
    },
    /// The game's code could not migrate the image.
    #[error(
        "the migration to version {to} failed in the game's code, at `{field}`, which is {value}: {why}; nothing was overwritten"
    )]
    Migration {
        /// The version that the migration leads to.
        to: i64,
        /// The field, as it is called in the version before.
        field: String,
        /// Says what the image says there.
        value: String,
        /// Says why.
        why: String,
    },
}

/// Describes where the progress came from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Origin {
    /// There was no image.
    #[default]
    Fresh,
    /// The newest image.
    Loaded {
        /// Its generation.
        generation: u64,
    },
    /// An older image, because newer ones could not be read.
    Recovered {
        /// Its generation.
        generation: u64,
        /// The newer generations and what is wrong with them.
        passed_over: Vec<(u64, String)>,
    },
}

/// Describes how the place differs from the one in the image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceChange {
    /// The place in the image.
    pub from: String,
    /// The place now.
    pub to: Place,
    /// Says why.
    pub why: String,
}

/// A value in an image, by the names that the image gives it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedName {
    /// The field.
    pub field: Arc<str>,
    /// The names of the entry's key, as far as the image has them.
    pub keys: Vec<Arc<str>>,
    /// The piece of the value, as `.weight` or `, item 2`; empty for all of it.
    pub inside: String,
    /// Says which mark of the level holds it: nothing for the value itself.
    pub mark: Option<SavedMark>,
}

/// A mark of the level that the player stands in, in an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SavedMark {
    /// Holds the values as they were when the level was entered.
    Entry,
    /// Holds the values as they were at the last checkpoint.
    Checkpoint,
}

impl SavedName {
    /// The value of a field, or of one entry of it.
    pub(crate) fn of(field: &Arc<str>, keys: impl IntoIterator<Item = Arc<str>>) -> SavedName {
        SavedName { field: field.clone(), keys: keys.into_iter().collect(), inside: String::new(), mark: None }
    }
}

impl fmt::Display for SavedName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.mark {
            None => {}
            Some(SavedMark::Entry) => f.write_str("at the level's entry, ")?,
            Some(SavedMark::Checkpoint) => f.write_str("at the checkpoint, ")?,
        }
        f.write_str(&shown(&self.field))?;
        if !self.keys.is_empty() {
            let keys: Vec<String> = self.keys.iter().map(|key| shown(&key_text(key)).into_owned()).collect();
            write!(f, "[{}]", keys.join(", "))?;
        }
        f.write_str(&shown(&self.inside))
    }
}

impl From<EntryName> for SavedName {
    fn from(name: EntryName) -> SavedName {
        let keys = name.keys.iter().map(|key| key.name.clone()).collect();
        SavedName { field: name.field, keys, inside: String::new(), mark: None }
    }
}

/// Something that an image holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SavedThing {
    /// A value, or a piece of one.
    Value(SavedName),
    /// All names of a key set.
    KeySet(Arc<str>),
    /// A name that was made at run time.
    Key {
        /// The key set.
        set: Arc<str>,
        /// The name.
        name: Arc<str>,
    },
}

impl fmt::Display for SavedThing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SavedThing::Value(name) => write!(f, "{name}"),
            SavedThing::KeySet(name) | SavedThing::Key { name, .. } => f.pad(&shown(name)),
        }
    }
}

/// Something in an image that the spec has no place for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dropped {
    /// Says what it is.
    pub what: SavedThing,
    /// Says why there is no place for it.
    pub why: String,
}

impl fmt::Display for Dropped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.what, self.why)
    }
}

/// A value in an image that was brought into the limits of its field.
#[derive(Clone, Debug, PartialEq)]
pub struct Clamped {
    /// Says which value.
    pub name: SavedName,
    /// Says what the image says.
    pub was: Value,
    /// Says what it is now.
    pub is: Value,
}

/// A value in an image whose blob could not be had.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LostBlob {
    /// Says which value.
    pub name: SavedName,
    /// The blob that the image means.
    pub blob: BlobRef,
    /// Says why its bytes are not there.
    pub why: BlobError,
}

/// Describes what loading did.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct LoadReport {
    /// Says where the profile's progress came from.
    pub origin: Origin,
    /// Says where the device's progress came from.
    pub device_origin: Origin,
    /// The version of the image, if it is older than the spec.
    pub older_version: Option<i64>,
    /// Says that an image was read by name because no freeze has recorded the shape that it was saved in.
    pub unfrozen: bool,
    /// Fields that the image does not have; they are at their defaults.
    pub filled: Vec<Arc<str>>,
    /// Says what the spec has no place for.
    pub dropped: Vec<Dropped>,
    /// Values brought into their limits.
    pub clamped: Vec<Clamped>,
    /// Blobs whose bytes are gone or damaged; the values are at their defaults.
    pub lost_blobs: Vec<LostBlob>,
    /// Levels that the player made and that have other names now, because there is room for fewer: each with the name that it had and the one that it has.
    pub moved_levels: Vec<(Arc<str>, Arc<str>)>,
    /// The migrations that were taken, oldest first.
    pub migrated: Vec<MigrationStep>,
    /// Says how the place changed.
    pub place: Option<PlaceChange>,
}

impl LoadError {
    /// Refuses an image of another build of this version, which holds all that is named.
    pub(crate) fn newer_build(version: i64, image: &Image, what: impl Iterator<Item = String>) -> LoadError {
        /// Limits how many things are named.
        const FEW: usize = 4;
        let mut what: Vec<String> = what.take(FEW + 1).collect();
        if what.len() > FEW {
            what[FEW] = "and more".into();
        }
        LoadError::NewerBuild { version, owner: image.owner.to_string(), what }
    }
}

impl LoadReport {
    /// Returns whether everything was loaded just as it was saved, from the newest image, or freshly begun.
    pub fn is_clean(&self) -> bool {
        !matches!(self.origin, Origin::Recovered { .. })
            && !matches!(self.device_origin, Origin::Recovered { .. })
            && self.filled.is_empty()
            && self.dropped.is_empty()
            && self.clamped.is_empty()
            && self.lost_blobs.is_empty()
            && self.moved_levels.is_empty()
            && self.migrated.is_empty()
            && self.place.is_none()
    }
}

impl fmt::Display for LoadReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.origin {
            Origin::Fresh => f.write_str("a fresh profile")?,
            Origin::Loaded { generation } => write!(f, "loaded generation {generation}")?,
            Origin::Recovered { generation, .. } => write!(f, "recovered from generation {generation}")?,
        }
        for origin in [&self.origin, &self.device_origin] {
            if let Origin::Recovered { passed_over, .. } = origin {
                for (generation, why) in passed_over {
                    write!(f, "\n  passed over generation {generation}: {why}")?;
                }
            }
        }
        if let Some(version) = self.older_version {
            write!(f, "\n  saved by version {version} of the spec")?;
        }
        if self.unfrozen {
            f.write_str("\n  saved in a shape that no freeze has recorded, and read by name")?;
        }
        for step in &self.migrated {
            write!(f, "\n  migrated to version {}", step.to)?;
            step.told.iter().try_for_each(|told| write!(f, "\n    {told}"))?;
        }
        if !self.filled.is_empty() {
            write!(f, "\n  new, at the default: {}", self.filled.join(", "))?;
        }
        for Dropped { what, why } in &self.dropped {
            write!(f, "\n  dropped {what}: {why}")?;
        }
        for Clamped { name, was, is } in &self.clamped {
            write!(f, "\n  {name} was {was}, outside its limits; it is {is} now")?;
        }
        for LostBlob { name, blob, why } in &self.lost_blobs {
            let BlobRef { digest, len } = blob;
            write!(f, "\n  {name} is at its default: its blob {digest} of {len} bytes {why}")?;
        }
        for (from, to) in &self.moved_levels {
            write!(f, "\n  the level {from} is {to} now: there is room for fewer")?;
        }
        if let Some(PlaceChange { from, to, why }) = &self.place {
            write!(f, "\n  the place was {from} and is {to} now: {why}")?;
        }
        Ok(())
    }
}

/// A migration that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct MigrationStep {
    /// The version it led to.
    pub to: i64,
    /// Says what its steps say, in words.
    pub told: Arc<[String]>,
    /// Whether it moved values of players to the device: until the device's image is durable, a player's must not
    /// follow, or the values would be in neither.
    pub device_first: bool,
}

impl fmt::Display for MigrationStep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "migrated to version {}", self.to)?;
        for (index, step) in self.told.iter().enumerate() {
            write!(f, "{} {step}", if index == 0 { ":" } else { ";" })?;
        }
        Ok(())
    }
}
