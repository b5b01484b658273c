//! A save folder as the place where a playthrough keeps its images.

use vestigum::tools::{Patience, newest_readable};
use vestigum::{DirStore, SessionError, Store, StoreError, prune_all};
use vestigum_core::{Image, Owner};

use crate::playthrough::{Newest, Saves, SavesError};

/// Lets a playthrough keep its images in a [`DirStore`]: it writes and reads real files.
pub struct StoreSaves {
    store: DirStore,
    keep: u32,
}

impl StoreSaves {
    /// A place that keeps `keep` generations of each owner.
    pub fn new(store: DirStore, keep: u32) -> StoreSaves {
        StoreSaves { store, keep }
    }
}

impl Saves for StoreSaves {
    fn newest(&mut self, owner: &Owner) -> Result<Newest, SavesError> {
        let found = newest_readable(&Patience::with(&self.store), owner, &[]).map_err(saves_error)?;
        prune_all(&self.store, owner, self.keep).map_err(failed)?;
        Ok(Newest { image: found.image, origin: found.origin })
    }

    fn commit(&mut self, image: Image) -> Result<u64, SavesError> {
        let follows = self.store.generations(&image.owner).map_err(failed)?;
        let committed = self.store.commit(follows.last().copied().unwrap_or(0), &image);
        committed.map(|committed| committed.generation).map_err(failed)
    }

    fn readable(&mut self, owner: &Owner) -> Result<Vec<Image>, SavesError> {
        readable_of(&self.store, owner)
    }

    fn purge(&mut self, owner: &Owner) -> Result<(), SavesError> {
        purge(&self.store, owner).map_err(failed)
    }

    /// The store stays open: whoever gave it has a handle on it.
    fn crash(&mut self) {}

    fn damage(&mut self, owner: &Owner, all: bool) -> Result<usize, SavesError> {
        let mut generations = self.store.generations(owner).map_err(failed)?;
        if !all {
            generations = generations.pop().into_iter().collect();
        }
        for generation in &generations {
            self.store.damage(owner, *generation).map_err(failed)?;
        }
        Ok(generations.len())
    }
}

/// All images of an owner that can be read, the newest first.
pub(crate) fn readable_of(store: &dyn Store, owner: &Owner) -> Result<Vec<Image>, SavesError> {
    let patience = Patience::with(store);
    let mut images = Vec::new();
    for generation in patience.generations(owner).map_err(failed)?.into_iter().rev() {
        match patience.read(owner, generation) {
            Ok(image) => images.push(image),
            Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
            Err(error) => return Err(failed(error)),
        }
    }
    Ok(images)
}

/// Removes all but the newest generation.
pub(crate) fn purge(store: &dyn Store, owner: &Owner) -> Result<(), StoreError> {
    let newest = Patience::with(store).generations(owner)?.last().copied().unwrap_or(0);
    store.remove_before(owner, newest)?;
    prune_all(store, owner, 1).map(drop)
}

/// Returns what keeps a launch from happening, told apart from what is wrong with the disk.
pub(crate) fn saves_error(error: SessionError) -> SavesError {
    match error {
        SessionError::Store(error) => SavesError::Failed(error.to_string()),
        refused => SavesError::Refused(refused.to_string()),
    }
}

fn failed(error: StoreError) -> SavesError {
    SavesError::Failed(error.to_string())
}
