//! Saves in one SQLite file.
//!
//! A [`SqliteStore`] is a [`Store`]: a session, a `Saver`, the list of players and the tools for saves take it as they take a folder. One
//! file holds any number of players, and several processes of one machine may have it open. It is meant for the disk of the
//! machine, not for a network drive.
//!
//! ```
//! use vestigum::{Session, Spec};
//! use vestigum_sqlite::SqliteStore;
//!
//! # let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
//! # let folder = tempfile::tempdir()?;
//! let store = SqliteStore::open(folder.path().join("fellpost.db"))?;
//! let mut game = Session::launch(&spec, store.clone(), "ada")?;
//! game.add(spec.int("xp")?, 5)?;
//! game.quit()?;
//! let game = Session::launch(&spec, store, "ada")?;
//! assert_eq!(game.get(spec.int("xp")?), 5);
//! # game.quit()?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # What is promised
//!
//! A commit is one transaction: the image, the blobs that it means, and which these are. It is durable when it returns (write-ahead log,
//! `synchronous = FULL`). Who does not know the newest generation of a player is told so and writes nothing, whichever process wrote it. So
//! two processes that play the same player do not overwrite each other: the second one's saves fail with
//! [`StoreError::Conflict`], and it launches again. A process that takes a lease on a player keeps the others from writing at all.
//!
//! # What is in the file
//!
//! | table | columns |
//! |---|---|
//! | `images` | `profile` (`''` for the device), `generation`, `digest`, `saved_at`, `image`: the JSON of a save, as a folder has it |
//! | `means` | `profile`, `generation`, `digest`: which blobs an image means |
//! | `blobs` | `digest`, `bytes` |
//! | `leases` | `profile`, `holder` (none if it was given back), `token`, `until_ms`: who may write, until when, in milliseconds since 1970; `lasts_ms`: for how long; `written`: how often it was renewed |
//!
//! So SQL reads the saves. How many players have completed each level:
//!
//! ```sql
//! SELECT level.key, count(*)
//! FROM images, json_each(image, '$.values.completed') AS level
//! WHERE generation = (SELECT max(generation) FROM images AS newer WHERE newer.profile = images.profile)
//! GROUP BY level.key;
//! ```
//!
//! It must not write them: the check of an image covers all of it.

mod busy;
mod leases;
mod lines;
mod prune;
mod rows;
mod schema;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};

use vestigum::image::{BlobDigest, SealKey};
use vestigum::{
    Commit, Committed, EncodedImage, GivenSave, Image, Lease, Line, Owner, Pruned, SaveVerdict, Store, StoreError,
    StoreIdentity, Stray,
};

/// Says how long one statement waits for another process that writes.
const BUSY: Duration = Duration::from_secs(2);

/// One transaction writes at most 64 images, and is synced once.
const BATCH: usize = 64;

/// A store in one SQLite file. Clones share it.
#[derive(Clone)]
pub struct SqliteStore {
    inner: Arc<Inner>,
    key: Option<SealKey>,
}

struct Inner {
    path: PathBuf,
    connection: Mutex<Connection>,
    /// Whether it was opened only to look at it.
    reads_only: bool,
    /// Says what reading said of each generation, so that a prune reads each once.
    verdicts: Mutex<BTreeMap<String, BTreeMap<u64, SaveVerdict>>>,
    /// When this process has first seen leases of others, as they are.
    seen_leases: Mutex<BTreeMap<String, leases::SeenLease>>,
    /// The blobs whose bytes this process has written or read, and found whole.
    whole: Mutex<BTreeSet<BlobDigest>>,
    /// The blobs that may be meant by no image any more.
    unmeant: Mutex<prune::Unmeant>,
}

impl fmt::Debug for SqliteStore {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SqliteStore").field("path", &self.inner.path).finish_non_exhaustive()
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // A transaction that was not ended is taken back, and the rest is replaced as a whole.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl SqliteStore {
    /// Opens a file of saves, and makes it if it is not there.
    ///
    /// # Errors
    /// If it cannot be read or written, is no such file, or was made by a newer version of this crate.
    ///
    /// # Example
    ///
    /// ```
    /// # let folder = tempfile::tempdir()?;
    /// # let file = folder.path().join("fellpost.db");
    /// use vestigum::Store;
    /// use vestigum_sqlite::SqliteStore;
    ///
    /// let store = SqliteStore::open(&file)?;
    /// assert!(store.owners()?.is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn open(path: impl AsRef<Path>) -> Result<SqliteStore, StoreError> {
        SqliteStore::open_with(path.as_ref(), OpenFlags::default(), false)
    }

    /// Opens a file of saves only to look at it: a game may run beside it. Commits fail with [`StoreError::ReadOnly`].
    ///
    /// # Errors
    /// As [`SqliteStore::open`], and if there is no such file.
    ///
    /// # Example
    ///
    /// ```
    /// # let folder = tempfile::tempdir()?;
    /// # let file = folder.path().join("fellpost.db");
    /// use vestigum::Store;
    /// use vestigum_sqlite::SqliteStore;
    ///
    /// assert!(SqliteStore::open_to_read(&file).is_err());      // nothing is made
    /// SqliteStore::open(&file)?;
    /// for owner in SqliteStore::open_to_read(&file)?.owners()? {
    ///     println!("{owner}");
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn open_to_read(path: impl AsRef<Path>) -> Result<SqliteStore, StoreError> {
        SqliteStore::open_with(path.as_ref(), OpenFlags::SQLITE_OPEN_READ_ONLY, true)
    }

    fn open_with(path: &Path, flags: OpenFlags, reads_only: bool) -> Result<SqliteStore, StoreError> {
        let failed = |error| failed(path, "open the file of saves", error);
        let mut connection =
            Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX).map_err(failed)?;
        connection.busy_timeout(BUSY).map_err(failed)?;
        if reads_only {
            schema::check(&connection, path)?;
        } else {
            schema::prepare(&mut connection, path)?;
        }
        let inner = Inner {
            path: path.to_path_buf(),
            connection: Mutex::new(connection),
            reads_only,
            verdicts: Mutex::default(),
            seen_leases: Mutex::default(),
            whole: Mutex::default(),
            unmeant: Mutex::default(),
        };
        Ok(SqliteStore { inner: Arc::new(inner), key: None })
    }

    /// Seals the store's images with a key of the game: see [`SealKey`].
    #[must_use]
    pub fn sealed(self, key: SealKey) -> SqliteStore {
        SqliteStore { key: Some(key), ..self }
    }

    /// The file.
    pub fn path(&self) -> &Path {
        &self.inner.path
    }

    /// Returns rows that this store did not write: other numbers and other types. They are left alone, and never counted.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        let found = rows::foreign(&self.connection()).map_err(self.failed("read"))?;
        let stray = |(row, why): (String, &str)| Stray::new(format!("{}: {row}", self.inner.path.display()), why);
        Ok(found.into_iter().map(stray).collect())
    }

    fn connection(&self) -> MutexGuard<'_, Connection> {
        lock(&self.inner.connection)
    }

    /// The connection, unless the store only reads.
    fn to_write(&self) -> Result<MutexGuard<'_, Connection>, StoreError> {
        if self.inner.reads_only {
            return Err(StoreError::ReadOnly { path: self.inner.path.clone() });
        }
        Ok(self.connection())
    }

    fn failed(&self, action: &'static str) -> impl Fn(rusqlite::Error) -> StoreError {
        let path = self.inner.path.clone();
        move |error| failed(&path, action, error)
    }
}

impl Store for SqliteStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        rows::owners(&self.connection()).map_err(self.failed("read"))
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        rows::generations(&self.connection(), name_of(owner)?).map_err(self.failed("read"))
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.read_row(owner, generation)
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.commit_encoded(follows, &image.encoded())
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let mut results = self.commit_rows(&[Commit { follows, image, lease: None }]);
        results.pop().unwrap_or(Err(StoreError::Closed))
    }

    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        self.commit_rows(commits)
    }

    fn batch_size(&self) -> usize {
        BATCH
    }

    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.lease_row(owner, holder, lasts)
    }

    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        self.renew_rows(leases, lasts)
    }

    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.release_rows(leases)
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.prune_row(owner, keep)
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.insert_row(image.generation, &image.encoded())
    }

    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.line_row(owner)
    }

    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.begin_line_row(owner)
    }

    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.give_row(owner, save)
    }

    fn identity(&self) -> Option<StoreIdentity> {
        Some(StoreIdentity::of(&self.inner, format!("{:?}", self.key.as_ref().map(SealKey::fingerprint))))
    }

    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.remove_rows_before(owner, generation)
    }
}

/// Returns how the tables name an owner.
fn name_of(owner: &Owner) -> Result<&str, StoreError> {
    match owner {
        // No player has an empty name.
        Owner::Device => Ok(""),
        Owner::Profile(name) => vestigum::checked_profile(name).map(|()| name.as_str()),
    }
}

/// Returns what SQLite said, as stores say it.
fn failed(path: &Path, action: &'static str, error: rusqlite::Error) -> StoreError {
    use rusqlite::ErrorCode;
    use std::io::ErrorKind;
    let kind = match error.sqlite_error_code() {
        Some(ErrorCode::DiskFull) => ErrorKind::StorageFull,
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => ErrorKind::ResourceBusy,
        Some(ErrorCode::ReadOnly | ErrorCode::PermissionDenied) => ErrorKind::PermissionDenied,
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => ErrorKind::InvalidData,
        Some(ErrorCode::CannotOpen) => ErrorKind::NotFound,
        _ => ErrorKind::Other,
    };
    StoreError::Io { action, path: path.to_path_buf(), cause: std::io::Error::new(kind, error) }
}
