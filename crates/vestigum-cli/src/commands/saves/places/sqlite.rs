//! A SQLite file.

use std::path::Path;

use vestigum::image::SealKey;
use vestigum::{Image, Owner, Removable, StoreError, Stray};
use vestigum_sqlite::SqliteStore;

use super::{AnyStore, PlaceStore};

pub(super) fn open(file: &Path, to_write: bool) -> Result<AnyStore, String> {
    if !file.is_file() {
        return Err(format!("there is no file of saves {}", file.display()));
    }
    if to_write {
        return make(file);
    }
    SqliteStore::open_to_read(file).map(AnyStore::new).map_err(|error| error.to_string())
}

pub(super) fn make(file: &Path) -> Result<AnyStore, String> {
    SqliteStore::open(file).map(AnyStore::new).map_err(|error| error.to_string())
}

impl PlaceStore for SqliteStore {
    fn with_key(&self, key: SealKey) -> AnyStore {
        AnyStore::new(self.clone().sealed(key))
    }

    fn file(&self, owner: &Owner, generation: u64) -> String {
        format!("{}, generation {generation} of {owner}", self.path().display())
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
