//! A PostgreSQL database. What stands behind a `#` in its URL is the schema of the tables.

use std::path::PathBuf;

use vestigum::image::SealKey;
use vestigum::{Image, Owner, RemoteTrouble, Removable, StoreError, Stray};
use vestigum_postgres::{PostgresOptions, PostgresStore};

use super::{AnyStore, PlaceStore};

fn options(url: &str) -> Result<PostgresOptions, StoreError> {
    let options = match url.rsplit_once('#') {
        Some((url, schema)) => PostgresOptions::new(url)?.schema(schema),
        None => PostgresOptions::new(url)?,
    };
    if options.has_password() {
        return Ok(options);
    }
    // What other programs for this database take a password from.
    if let Ok(password) = std::env::var("PGPASSWORD") {
        return Ok(options.password(password));
    }
    let file = std::env::var_os("PGPASSFILE").map(PathBuf::from);
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".pgpass"));
    match file.or_else(home).filter(|file| file.is_file()) {
        Some(file) => options.password_file(&file),
        None => Ok(options),
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
