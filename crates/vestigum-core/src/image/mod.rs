//! Images: the saved form of progress.
//!
//! An [`Image`] is a tree of names and values. It knows no spec, so a new game can read an old image. `encoded` is what a store
//! writes, with the digest that says in 32 bytes what it holds; `direct` makes that of a projection without the tree. `json`
//! reads, `blobs` keeps bytes apart, `kept` carries along what a spec has no place for, `seal` makes the check one that only the game can make, `reading` brings the values under a model.

pub mod blobs;
mod direct;
pub mod encoded;
pub mod json;
pub(crate) mod kept;
pub(crate) mod reading;
pub mod report;
pub mod seal;
pub mod write;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use crate::image::blobs::Blobs;
use crate::origin::SavedOrigin;
use vestigum_spec::value::tree::{Moved, Values};
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::policy::Resume;
use vestigum_spec::vocabulary::shown::shown;

/// The number of the image format that this crate writes, and the newest it reads. Since format 2 an image names its shape, and may say what each
/// installation gave to it.
pub const FORMAT: i64 = 2;

/// The saved form of a profile's or a device's progress.
#[derive(Clone, Debug, PartialEq)]
pub struct Image {
    /// The id of the game.
    pub game: String,
    /// The version of the spec that wrote it.
    pub version: i64,
    /// Names what saves of the build that wrote it hold: a version has several shapes once it was patched. Builds before
    /// this was written say nothing.
    pub shape: Option<Arc<str>>,
    /// Whose progress it is.
    pub owner: Owner,
    /// Its number: each image of an owner has one higher than any before. The store gives it.
    pub generation: u64,
    /// When it was saved, as the caller's clock told it (RFC 3339).
    pub saved_at: String,
    /// Says where the player stands.
    pub place: SavedPlace,
    /// The names made at run time, by open key set, in the order in which they were made.
    pub made: BTreeMap<Arc<str>, Vec<Arc<str>>>,
    /// The values by field name.
    pub values: Values,
    /// The marks, if play goes on inside a level.
    pub marks: Option<SavedMarks>,
    /// In a device's image, values that a migration moved from the device to its players, by the version that moved
    /// them: kept for the players who have not come to that version yet.
    pub moved: Moved,
    /// Says what each installation gave to it, if the game merges saves.
    pub origin: Option<Box<SavedOrigin>>,
    /// The bytes of the blobs that the values and the marks mean.
    pub blobs: Blobs,
}

impl Image {
    /// Returns what is written behind this image when its player is deleted: it holds nothing but the name.
    #[must_use]
    pub fn deleted(&self, saved_at: String) -> Image {
        Image {
            game: self.game.clone(),
            version: self.version,
            shape: self.shape.clone(),
            owner: self.owner.clone(),
            generation: 0,
            saved_at,
            place: SavedPlace::Deleted,
            made: BTreeMap::new(),
            values: Values::default(),
            marks: None,
            moved: Moved::default(),
            origin: None,
            blobs: Blobs::default(),
        }
    }
}

/// Describes where the player stands, in an image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum SavedPlace {
    /// Outside a level.
    #[default]
    Menu,
    /// After a game over.
    RunOver,
    /// Nowhere: the player was deleted. The image holds nothing; the generations before it hold what there was.
    Deleted,
    /// Suspended in a level.
    InLevel {
        /// The level.
        level: String,
        /// The checkpoint to come back to.
        checkpoint: Option<String>,
        /// The checkpoint at which the level was entered.
        entered_at: Option<String>,
        /// Whether it was suspended at the checkpoint or at the level's entry.
        resume: Resume,
        /// Says what of the place a migration has found gone. A game writes none: loading puts the player elsewhere.
        gone: Option<Gone>,
    },
}

/// Describes what of a place no later version has: no name of one is taken for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Gone {
    /// The level.
    Level {
        /// The last version that had it.
        version: i64,
    },
    /// The checkpoint to come back to; the level is there.
    Checkpoint {
        /// Its name.
        name: String,
        /// The last version that had it.
        version: i64,
    },
}

impl fmt::Display for SavedPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SavedPlace::Menu => f.pad("menu"),
            SavedPlace::RunOver => f.pad("run over"),
            SavedPlace::Deleted => f.pad("deleted"),
            SavedPlace::InLevel { level, checkpoint, gone: Some(Gone::Level { version }), .. } => {
                let at = checkpoint.as_ref().map(|checkpoint| format!(" at {}", shown(checkpoint))).unwrap_or_default();
                f.pad(&format!("{} of version {version}{at}", shown(level)))
            }
            SavedPlace::InLevel { level, gone: Some(Gone::Checkpoint { name, version }), .. } => {
                f.pad(&format!("{} at {} of version {version}", shown(level), shown(name)))
            }
            SavedPlace::InLevel { level, checkpoint: None, .. } => f.pad(&shown(level)),
            SavedPlace::InLevel { level, checkpoint: Some(checkpoint), .. } => {
                f.pad(&format!("{} at {}", shown(level), shown(checkpoint)))
            }
        }
    }
}

/// The values to come back to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SavedMarks {
    /// Says what the fields were when the level was entered.
    pub entry: Values,
    /// Holds the values as they were at the last checkpoint.
    pub checkpoint: Values,
}
