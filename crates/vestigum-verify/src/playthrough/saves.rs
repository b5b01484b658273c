//! Where a playthrough's images live while it runs.

use std::collections::BTreeMap;

use thiserror::Error;

use vestigum::SessionError;
use vestigum_core::image::SavedPlace;
use vestigum_core::image::blobs::Blobs;
use vestigum_core::image::json::ImageError;
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner};

/// A place for images. The runner knows no files: a caller that has some offers them as this.
pub trait Saves {
    /// The newest image of an owner that can be read, and how it was found.
    ///
    /// # Errors
    /// If there are images and none can be used, or the place itself fails.
    fn newest(&mut self, owner: &Owner) -> Result<Newest, SavesError>;

    /// Keeps a new image and gives it the next generation. An image with the digest of the newest one is
    /// not written again.
    ///
    /// # Errors
    /// If the place for images fails.
    fn commit(&mut self, image: Image) -> Result<u64, SavesError>;

    /// All images of an owner that can be read, the newest first.
    ///
    /// # Errors
    /// If the place for images fails.
    fn readable(&mut self, owner: &Owner) -> Result<Vec<Image>, SavesError>;

    /// Gives up all images of an owner but the newest.
    ///
    /// # Errors
    /// If the place for images fails.
    fn purge(&mut self, owner: &Owner) -> Result<(), SavesError>;

    /// Names the place, where a playthrough is played in more than one: its devices are others in each.
    fn place(&self) -> &'static str {
        ""
    }

    /// The process of all sessions has died. What it knew of the images is gone with it; they stay.
    fn crash(&mut self);

    /// Damages the newest image of an owner, or all of them, as a failing disk would. Answers how many were.
    ///
    /// # Errors
    /// If the place for images fails.
    fn damage(&mut self, owner: &Owner, all: bool) -> Result<usize, SavesError>;
}

/// The newest image of an owner.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Newest {
    /// The image, unless nothing was saved yet.
    pub image: Option<Image>,
    /// Whether it is the newest there, or newer ones were damaged.
    pub origin: Origin,
}

/// Describes why there is no image to launch with, or why one was not kept.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum SavesError {
    /// There are images, and none may be loaded: a launch is refused, and nothing is overwritten.
    #[error("{0}")]
    Refused(String),
    /// The place itself failed.
    #[error("{0}")]
    Failed(String),
}

/// Images in memory. Images go through their JSON form, as they do on disk.
#[derive(Clone, Debug, Default)]
pub struct MemorySaves {
    images: BTreeMap<Owner, Vec<Vec<u8>>>,
    blobs: Blobs,
}

impl MemorySaves {
    fn read(&self, bytes: &[u8]) -> Result<Image, ImageError> {
        let mut image = Image::from_json(bytes)?;
        image.find_blobs(|blob| self.blobs.get(&blob.digest).cloned());
        Ok(image)
    }
}

impl Saves for MemorySaves {
    fn newest(&mut self, owner: &Owner) -> Result<Newest, SavesError> {
        let images = self.images.get(owner).map(Vec::as_slice).unwrap_or_default();
        let mut passed_over = Vec::new();
        for (index, bytes) in images.iter().enumerate().rev() {
            let generation = index as u64 + 1;
            match self.read(bytes) {
                // Somebody has played since the deletion, and that is damaged.
                Ok(image) if image.place == SavedPlace::Deleted && !passed_over.is_empty() => break,
                Ok(image) if image.place == SavedPlace::Deleted => {
                    // What was purged is empty.
                    let left = images[..index].iter().any(|bytes| !bytes.is_empty());
                    let deleted = || SavesError::Refused(SessionError::Deleted { owner: owner.clone() }.to_string());
                    return if left { Err(deleted()) } else { Ok(Newest::default()) };
                }
                Ok(image) if passed_over.is_empty() => {
                    return Ok(Newest { image: Some(image), origin: Origin::Loaded { generation } });
                }
                Ok(image) => {
                    return Ok(Newest { image: Some(image), origin: Origin::Recovered { generation, passed_over } });
                }
                Err(damaged @ ImageError::NewerFormat(_)) => return Err(SavesError::Refused(damaged.to_string())),
                Err(damaged) => passed_over.push((generation, damaged.to_string())),
            }
        }
        if passed_over.is_empty() {
            return Ok(Newest::default());
        }
        Err(SavesError::Refused(format!("no save of {owner} can be read")))
    }

    fn commit(&mut self, mut image: Image) -> Result<u64, SavesError> {
        let images = self.images.entry(image.owner.clone()).or_default();
        let newest = images.last().and_then(|bytes| Image::from_json(bytes).ok());
        if let Some(newest) = newest.filter(|newest| newest.digest() == image.digest()) {
            return Ok(newest.generation);
        }
        image.generation = images.len() as u64 + 1;
        for (_, bytes) in image.blobs.iter() {
            self.blobs.insert(bytes.clone());
        }
        images.push(image.to_json());
        Ok(image.generation)
    }

    fn readable(&mut self, owner: &Owner) -> Result<Vec<Image>, SavesError> {
        let images = self.images.get(owner).map(Vec::as_slice).unwrap_or_default();
        Ok(images.iter().rev().filter_map(|bytes| self.read(bytes).ok()).collect())
    }

    fn purge(&mut self, owner: &Owner) -> Result<(), SavesError> {
        if let Some([older @ .., _]) = self.images.get_mut(owner).map(Vec::as_mut_slice) {
            older.iter_mut().for_each(Vec::clear);
        }
        Ok(())
    }

    fn crash(&mut self) {}

    fn damage(&mut self, owner: &Owner, all: bool) -> Result<usize, SavesError> {
        let images = self.images.get_mut(owner).map(Vec::as_mut_slice).unwrap_or_default();
        let from = if all { 0 } else { images.len().saturating_sub(1) };
        images[from..].iter_mut().for_each(|bytes| bytes.truncate(bytes.len() / 2));
        Ok(images.len() - from)
    }
}
