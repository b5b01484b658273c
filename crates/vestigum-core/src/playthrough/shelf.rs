//! Where a playthrough's images live while it runs.

use std::collections::BTreeMap;

use crate::image::{Image, Owner};

/// A place for images. The runner knows no files; a caller that has some offers them as a shelf.
pub trait Shelf {
    /// The newest image of an owner, or none if nothing was saved yet.
    ///
    /// # Errors
    /// What went wrong, in words.
    fn newest(&mut self, owner: &Owner) -> Result<Option<Image>, String>;

    /// Puts a new image on the shelf and gives it the next generation. An image with the digest of the newest one is
    /// not written again.
    ///
    /// # Errors
    /// What went wrong, in words.
    fn commit(&mut self, image: Image) -> Result<u64, String>;
}

/// A shelf in memory. Images go through their JSON form, as they do on disk.
#[derive(Clone, Debug, Default)]
pub struct MemoryShelf {
    images: BTreeMap<Owner, Vec<Vec<u8>>>,
}

impl Shelf for MemoryShelf {
    fn newest(&mut self, owner: &Owner) -> Result<Option<Image>, String> {
        let newest = self.images.get(owner).and_then(|images| images.last());
        newest.map(|bytes| Image::from_json(bytes).map_err(|damaged| damaged.to_string())).transpose()
    }

    fn commit(&mut self, mut image: Image) -> Result<u64, String> {
        if let Some(newest) = self.newest(&image.owner)?
            && newest.digest() == image.digest()
        {
            return Ok(newest.generation);
        }
        let images = self.images.entry(image.owner.clone()).or_default();
        image.generation = images.len() as u64 + 1;
        images.push(image.to_json());
        Ok(image.generation)
    }
}
