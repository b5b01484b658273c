//! A PostgreSQL database. What stands behind a `#` in its URL is the schema of the tables.

use vestigum::image::SealKey;
use vestigum::{Image, Owner, RemoteTrouble, Removable, StoreError};
use vestigum_postgres::{PostgresOptions, PostgresStore};

use super::{AnyStore, PlaceStore};

fn options(url: &str) -> Result<PostgresOptions, StoreError> {
    match url.rsplit_once('#') {
        Some((url, schema)) => Ok(PostgresOptions::new(url)?.schema(schema)),
        None => PostgresOptions::new(url),
    }
}

pub(super) fn open(url: &str, to_write: bool) -> Result<AnyStore, String> {
    let options = options(url).map(|options| if to_write { options } else { options.to_read() });
    let opened = options.and_then(PostgresOptions::connect);
    opened.map(AnyStore::new).map_err(|error| error.to_string())
}

pub(super) fn make(url: &str) -> Result<AnyStore, String> {
    options(url).and_then(PostgresOptions::prepare).map(AnyStore::new).map_err(|error| error.to_string())
}

/// The place, for people: nothing of the URL that may be a password.
pub(super) fn shown(url: &str) -> String {
    let schema = url.rsplit_once('#').map(|(_, schema)| format!("#{schema}")).unwrap_or_default();
    options(url).map_or_else(|_| "a PostgreSQL database".to_owned(), |options| options.place() + &schema)
}

pub(super) fn is_there(url: &str) -> bool {
    let unprepared = |error: StoreError| matches!(error, StoreError::Remote { trouble: RemoteTrouble::Unprepared, .. });
    !options(url).and_then(|options| options.to_read().connect()).is_err_and(unprepared)
}

impl PlaceStore for PostgresStore {
    fn with_key(&self, key: SealKey) -> AnyStore {
        AnyStore::new(self.clone().sealed(key))
    }

    fn file(&self, owner: &Owner, generation: u64) -> String {
        format!("{}, generation {generation} of {owner}", self.place())
    }

    fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        self.bytes(owner, generation)
    }

    fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        self.size(owner, generation)
    }

    fn find_blobs(&self, image: &mut Image) {
        if let Err(error) = self.find_blobs(image) {
            tracing::warn!(%error, "the blobs of a save could not be looked up");
        }
    }

    fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        self.removable(owner, keep)
    }

    fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        self.removable_blobs(keep)
    }
}
