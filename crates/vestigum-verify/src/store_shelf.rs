//! A save folder as the shelf of a playthrough.

use crate::playthrough::{OnShelf, Shelf, ShelfError};
use vestigum_core::{Image, Owner};

use vestigum::DirStore;
use vestigum::SessionError;
use vestigum::tools::newest_readable;
use vestigum::{Store, prune_all};

/// Lets a playthrough keep its images in a [`DirStore`]: it writes and reads real files.
pub struct StoreShelf {
    store: DirStore,
    keep: u32,
}

impl StoreShelf {
    /// A shelf that keeps `keep` generations of each owner.
    pub fn new(store: DirStore, keep: u32) -> StoreShelf {
        StoreShelf { store, keep }
    }
}

impl Shelf for StoreShelf {
    fn newest(&mut self, owner: &Owner) -> Result<OnShelf, ShelfError> {
        let found = newest_readable(&self.store, owner).map_err(shelf_error)?;
        prune_all(&self.store, owner, self.keep).map_err(|error| ShelfError::Failed(error.to_string()))?;
        Ok(OnShelf { image: found.image, origin: found.origin })
    }

    fn commit(&mut self, image: Image) -> Result<u64, String> {
        let follows = self.store.generations(&image.owner).map_err(|error| error.to_string())?;
        let committed = self.store.commit(follows.last().copied().unwrap_or(0), &image);
        committed.map(|committed| committed.generation).map_err(|error| error.to_string())
    }

    /// The store stays open: whoever gave it has a handle on it.
    fn crash(&mut self) {}

    fn damage(&mut self, owner: &Owner, all: bool) -> Result<usize, String> {
        let mut generations = self.store.generations(owner).map_err(|error| error.to_string())?;
        if !all {
            generations = generations.pop().into_iter().collect();
        }
        for generation in &generations {
            self.store.damage(owner, *generation).map_err(|error| error.to_string())?;
        }
        Ok(generations.len())
    }
}

/// What keeps a launch from happening, told apart from what is wrong with the disk.
pub(crate) fn shelf_error(error: SessionError) -> ShelfError {
    match error {
        SessionError::Store(error) => ShelfError::Failed(error.to_string()),
        refused => ShelfError::Refused(refused.to_string()),
    }
}
