//! The places that the commands know: a folder, a SQLite file named `sqlite:FILE`, a database named `postgres://…`.

mod folder;
#[cfg(feature = "postgres")]
mod postgres;
#[cfg(feature = "sqlite")]
mod sqlite;

use std::ffi::OsString;
use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use clap::builder::{OsStringValueParser, TypedValueParser, ValueParser};

use vestigum::image::SealKey;
use vestigum::{
    Commit, Committed, EncodedImage, GivenSave, Image, Lease, Line, Newest, Owner, Pruned, Removable, Store,
    StoreError, StoreIdentity, Stray,
};

/// Says what stands before the file of a SQLite store.
const SQLITE: &str = "sqlite:";
/// Says what stands before a database. Both are usual.
const POSTGRES: [&str; 2] = ["postgres://", "postgresql://"];

/// A place that may hold saves, as it was named.
#[derive(Clone, Debug)]
pub(super) enum Place {
    Folder(PathBuf),
    Sqlite(PathBuf),
    Postgres(
        #[cfg_attr(
            not(feature = "postgres"),
            expect(dead_code, reason = "a database cannot be opened without the feature")
        )]
        String,
    ),
}

impl Place {
    /// Returns what reads it from the command line.
    pub(super) fn parser() -> ValueParser {
        OsStringValueParser::new().try_map(Place::named).into()
    }

    /// Opens a place that is there; a misspelt one is not made. Only what is written to needs a lock.
    ///
    /// # Errors
    /// Why not, in words.
    pub(super) fn open(&self, to_write: bool) -> Result<AnyStore, String> {
        match self {
            Place::Folder(path) => folder::open(path, to_write),
            #[cfg(feature = "sqlite")]
            Place::Sqlite(file) => sqlite::open(file, to_write),
            #[cfg(feature = "postgres")]
            Place::Postgres(url) => postgres::open(url, to_write),
            #[cfg(not(feature = "sqlite"))]
            Place::Sqlite(_) => Err(left_out("sqlite")),
            #[cfg(not(feature = "postgres"))]
            Place::Postgres(_) => Err(left_out("postgres")),
        }
    }

    /// Opens a place to write into, and makes it if it is not there.
    ///
    /// # Errors
    /// Why not, in words.
    pub(super) fn make(&self) -> Result<AnyStore, String> {
        match self {
            Place::Folder(path) => folder::make(path),
            #[cfg(feature = "sqlite")]
            Place::Sqlite(file) => sqlite::make(file),
            #[cfg(feature = "postgres")]
            Place::Postgres(url) => postgres::make(url),
            #[cfg(not(feature = "sqlite"))]
            Place::Sqlite(_) => Err(left_out("sqlite")),
            #[cfg(not(feature = "postgres"))]
            Place::Postgres(_) => Err(left_out("postgres")),
        }
    }

    /// Returns whether there is something at the place. A database that cannot be reached may hold something.
    pub(super) fn is_there(&self) -> bool {
        match self {
            Place::Folder(path) => path.is_dir(),
            Place::Sqlite(file) => file.is_file(),
            #[cfg(feature = "postgres")]
            Place::Postgres(url) => postgres::is_there(url),
            #[cfg(not(feature = "postgres"))]
            Place::Postgres(_) => true,
        }
    }
}

#[cfg(not(all(feature = "sqlite", feature = "postgres")))]
fn left_out(feature: &str) -> String {
    format!("this program was built without the feature `{feature}`, so it cannot open that place")
}

impl Place {
    /// The place that a text on the command line names. A scheme is known in any case of its letters, as in every URL.
    ///
    /// # Errors
    /// If it is a URL of another kind: a folder of that name is not meant.
    fn named(named: OsString) -> Result<Place, String> {
        let Some(text) = named.to_str() else { return Ok(Place::Folder(PathBuf::from(named))) };
        let after = |prefix: &str| {
            let begins = text.get(..prefix.len()).is_some_and(|begin| begin.eq_ignore_ascii_case(prefix));
            begins.then(|| &text[prefix.len()..])
        };
        if let Some(file) = after(SQLITE) {
            return Ok(Place::Sqlite(PathBuf::from(file)));
        }
        if let Some((prefix, rest)) = POSTGRES.iter().find_map(|prefix| Some((prefix, after(prefix)?))) {
            return Ok(Place::Postgres(format!("{prefix}{rest}")));
        }
        match text.split_once("://") {
            Some((scheme, _)) if !scheme.is_empty() && scheme.bytes().all(|byte| byte.is_ascii_alphanumeric()) => {
                Err(format!("expected a folder, {SQLITE}FILE or postgres://…, found a URL of the kind `{scheme}`"))
            }
            _ => Ok(Place::Folder(PathBuf::from(named))),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Folder(path) => path.display().fmt(f),
            Place::Sqlite(file) => write!(f, "{SQLITE}{}", file.display()),
            #[cfg(feature = "postgres")]
            Place::Postgres(url) => f.write_str(&postgres::shown(url)),
            #[cfg(not(feature = "postgres"))]
            Place::Postgres(_) => f.write_str("a PostgreSQL database"),
        }
    }
}

/// A store of one of the kinds, with what the commands ask of it besides.
pub(super) trait PlaceStore: Store {
    /// Returns the place with its images sealed with a key.
    fn with_key(&self, key: SealKey) -> AnyStore;

    /// Returns where a generation lies, for people.
    fn file(&self, owner: &Owner, generation: u64) -> String;

    /// The bytes of a generation, whatever they are worth.
    fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError>;

    /// Returns how many bytes a generation has; none if there is nothing that could be read.
    fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError>;

    /// Looks up the blobs of an image that the store has not read itself. What cannot be had, loading reports.
    fn find_blobs(&self, image: &mut Image);

    /// Returns what lies there and is no save. A place that holds nothing else has none.
    fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        Ok(Vec::new())
    }

    fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError>;

    fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError>;
}

/// A store of one of the kinds.
#[derive(Clone)]
pub(super) struct AnyStore(Arc<dyn PlaceStore>);

impl AnyStore {
    fn new(store: impl PlaceStore + 'static) -> AnyStore {
        AnyStore(Arc::new(store))
    }

    pub(super) fn sealed(&self, key: SealKey) -> AnyStore {
        self.0.with_key(key)
    }
}

impl std::ops::Deref for AnyStore {
    type Target = dyn PlaceStore;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl Store for AnyStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.0.owners()
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.0.generations(owner)
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.0.read(owner, generation)
    }

    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        self.0.newest(owner)
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.0.commit(follows, image)
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.0.commit_encoded(follows, image)
    }

    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        self.0.commit_all(commits)
    }

    fn batch_size(&self) -> usize {
        self.0.batch_size()
    }

    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.0.lease(owner, holder, lasts)
    }

    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        self.0.renew(leases, lasts)
    }

    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.0.release(leases)
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.0.prune(owner, keep)
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.0.insert(image)
    }

    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.0.line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.0.begin_line(owner)
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.0.give(owner, save)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.0.remove_before(owner, generation)
    }

    fn identity(&self) -> Option<StoreIdentity> {
        self.0.identity()
    }

    fn pause(&self, how_long: Duration) {
        self.0.pause(how_long);
    }
}
