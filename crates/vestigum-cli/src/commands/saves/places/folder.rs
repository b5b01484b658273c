//! A save folder.

use std::path::Path;

use vestigum::image::SealKey;
use vestigum::{DirStore, Image, Owner, Removable, StoreError, Stray};

use super::{AnyStore, PlaceStore};

pub(super) fn open(path: &Path, to_write: bool) -> Result<AnyStore, String> {
    if !path.is_dir() {
        return Err(format!("there is no save folder {}", path.display()));
    }
    if to_write {
        return make(path);
    }
    DirStore::open_to_read(path).map(AnyStore::new).map_err(|error| error.to_string())
}

pub(super) fn make(path: &Path) -> Result<AnyStore, String> {
    DirStore::open(path).map(AnyStore::new).map_err(|error| error.to_string())
}

impl PlaceStore for DirStore {
    fn with_key(&self, key: SealKey) -> AnyStore {
        AnyStore::new(self.clone().sealed(key))
    }

    fn file(&self, owner: &Owner, generation: u64) -> String {
        self.file(owner, generation).map(|path| path.display().to_string()).unwrap_or_default()
    }

    fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        self.bytes(owner, generation)
    }

    fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        self.size(owner, generation)
    }

    fn find_blobs(&self, image: &mut Image) {
        self.find_blobs(image);
    }

    fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        self.strays()
    }

    fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        self.removable(owner, keep)
    }

    fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        self.removable_blobs(keep)
    }
}
