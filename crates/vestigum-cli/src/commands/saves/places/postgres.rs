//! A PostgreSQL database. What stands behind a `#` in its URL is the schema of the tables. With `sslmode=require` in its URL the
//! connection has TLS, and the certificate is checked.

use std::path::PathBuf;

use vestigum::image::SealKey;
use vestigum::{Image, Owner, RemoteTrouble, Removable, StoreError, Stray};
use vestigum_postgres::{PostgresOptions, PostgresStore, tls};

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

/// Connects, with TLS where the URL asks for it. `PGSSLROOTCERT` names the file of the authorities that are trusted; without it they are
/// those of this machine.
fn connect(options: PostgresOptions) -> Result<PostgresStore, StoreError> {
    if options.requires_tls() { options.connect_tls(trusted()?) } else { options.connect() }
}

fn prepare(options: PostgresOptions) -> Result<PostgresStore, StoreError> {
    if options.requires_tls() { options.prepare_tls(trusted()?) } else { options.prepare() }
}

fn trusted() -> Result<tls::Connector, StoreError> {
    match std::env::var_os("PGSSLROOTCERT") {
        Some(file) => tls::trust_file(file),
        None => tls::trust_system(),
    }
}

pub(super) fn open(url: &str, to_write: bool) -> Result<AnyStore, String> {
    let options = options(url).map(|options| if to_write { options } else { options.to_read() });
    let opened = options.and_then(connect);
    opened.map(AnyStore::new).map_err(told)
}

pub(super) fn make(url: &str) -> Result<AnyStore, String> {
    options(url).and_then(prepare).map(AnyStore::new).map_err(told)
}

/// Says what to do about a certificate, which the store cannot know.
fn told(error: StoreError) -> String {
    let untrusted = matches!(error, StoreError::Remote { trouble: RemoteTrouble::Untrusted, .. });
    let help =
        if untrusted { "; set PGSSLROOTCERT to the file of the authority that signed its certificate" } else { "" };
    format!("{error}{help}")
}

/// The place, for people: nothing of the URL that may be a password.
pub(super) fn shown(url: &str) -> String {
    let schema = url.rsplit_once('#').map(|(_, schema)| format!("#{schema}")).unwrap_or_default();
    options(url).map_or_else(|_| "a PostgreSQL database".to_owned(), |options| options.place() + &schema)
}

pub(super) fn is_there(url: &str) -> bool {
    let unprepared = |error: StoreError| matches!(error, StoreError::Remote { trouble: RemoteTrouble::Unprepared, .. });
    !options(url).and_then(|options| connect(options.to_read())).is_err_and(unprepared)
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
