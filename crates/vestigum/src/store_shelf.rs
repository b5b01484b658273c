//! A store as the shelf of a playthrough.

use vestigum_core::playthrough::Shelf;
use vestigum_core::{Image, Owner};

use crate::recovery::newest_readable;
use crate::store::Store;

/// Lets a playthrough keep its images in a store: with a [`crate::DirStore`] it writes and reads real files.
pub struct StoreShelf<S> {
    store: S,
    keep: u32,
}

impl<S: Store> StoreShelf<S> {
    /// A shelf that keeps `keep` generations of each owner.
    pub fn new(store: S, keep: u32) -> StoreShelf<S> {
        StoreShelf { store, keep }
    }
}

impl<S: Store> Shelf for StoreShelf<S> {
    fn newest(&mut self, owner: &Owner) -> Result<Option<Image>, String> {
        self.store.prune(owner, self.keep).map_err(|error| error.to_string())?;
        newest_readable(&self.store, owner).map(|found| found.image).map_err(|error| error.to_string())
    }

    fn commit(&mut self, image: Image) -> Result<u64, String> {
        let follows = self.store.generations(&image.owner).map_err(|error| error.to_string())?;
        let committed = self.store.commit(follows.last().copied().unwrap_or(0), &image);
        committed.map(|committed| committed.generation).map_err(|error| error.to_string())
    }
}
