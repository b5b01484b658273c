//! The stores that the commands know: a folder, or a SQLite file, named `sqlite:FILE`.

use std::path::Path;

use vestigum::image::SealKey;
use vestigum::{Committed, DirStore, EncodedImage, Image, Owner, Pruned, Removable, Store, StoreError, Stray};
use vestigum_sqlite::SqliteStore;

/// What stands before the file of a SQLite store.
const SQLITE: &str = "sqlite:";

/// A store of one of the kinds.
#[derive(Clone)]
pub(super) enum AnyStore {
    Folder(DirStore),
    Sqlite(SqliteStore),
}

/// The file that a text names as a SQLite store.
fn sqlite_file(place: &Path) -> Option<&Path> {
    place.to_str()?.strip_prefix(SQLITE).map(Path::new)
}

impl AnyStore {
    /// Opens a place that is there; a misspelt one is not made. Only what is written to needs a lock.
    ///
    /// # Errors
    /// Why not, in words.
    pub(super) fn open(place: &Path, to_write: bool) -> Result<AnyStore, String> {
        let told = |error: StoreError| error.to_string();
        match sqlite_file(place) {
            Some(file) if !file.is_file() => Err(format!("there is no file of saves {}", file.display())),
            Some(file) if to_write => SqliteStore::open(file).map(AnyStore::Sqlite).map_err(told),
            Some(file) => SqliteStore::open_to_read(file).map(AnyStore::Sqlite).map_err(told),
            None if !place.is_dir() => Err(format!("there is no save folder {}", place.display())),
            None if to_write => DirStore::open(place).map(AnyStore::Folder).map_err(told),
            None => DirStore::open_to_read(place).map(AnyStore::Folder).map_err(told),
        }
    }

    /// Opens a place to write into, and makes it if it is not there.
    ///
    /// # Errors
    /// Why not, in words.
    pub(super) fn make(place: &Path) -> Result<AnyStore, String> {
        let opened = match sqlite_file(place) {
            Some(file) => SqliteStore::open(file).map(AnyStore::Sqlite),
            None => DirStore::open(place).map(AnyStore::Folder),
        };
        opened.map_err(|error| error.to_string())
    }

    /// Whether there is something at a place.
    pub(super) fn is_there(place: &Path) -> bool {
        sqlite_file(place).map_or_else(|| place.is_dir(), Path::is_file)
    }

    pub(super) fn sealed(self, key: SealKey) -> AnyStore {
        match self {
            AnyStore::Folder(store) => AnyStore::Folder(store.sealed(key)),
            AnyStore::Sqlite(store) => AnyStore::Sqlite(store.sealed(key)),
        }
    }

    fn store(&self) -> &dyn Store {
        match self {
            AnyStore::Folder(store) => store,
            AnyStore::Sqlite(store) => store,
        }
    }

    /// Where a generation lies, for people.
    pub(super) fn file(&self, owner: &Owner, generation: u64) -> String {
        match self {
            AnyStore::Folder(store) => {
                store.file(owner, generation).map(|path| path.display().to_string()).unwrap_or_default()
            }
            AnyStore::Sqlite(store) => format!("{}, generation {generation} of {owner}", store.path().display()),
        }
    }

    /// The bytes of a generation, whatever they are worth.
    pub(super) fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        match self {
            AnyStore::Folder(store) => store.bytes(owner, generation),
            AnyStore::Sqlite(store) => store.bytes(owner, generation),
        }
    }

    /// How many bytes a generation has; none if there is nothing that could be read.
    pub(super) fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        match self {
            AnyStore::Folder(store) => store.size(owner, generation),
            AnyStore::Sqlite(store) => store.size(owner, generation),
        }
    }

    pub(super) fn find_blobs(&self, image: &mut Image) {
        match self {
            AnyStore::Folder(store) => store.find_blobs(image),
            AnyStore::Sqlite(store) => store.find_blobs(image),
        }
    }

    pub(super) fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        match self {
            AnyStore::Folder(store) => store.strays(),
            // A file of saves has nothing else in it.
            AnyStore::Sqlite(_) => Ok(Vec::new()),
        }
    }

    pub(super) fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        match self {
            AnyStore::Folder(store) => store.removable(owner, keep),
            AnyStore::Sqlite(store) => store.removable(owner, keep),
        }
    }

    pub(super) fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        match self {
            AnyStore::Folder(store) => store.removable_blobs(keep),
            AnyStore::Sqlite(store) => store.removable_blobs(keep),
        }
    }
}

impl Store for AnyStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.store().owners()
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.store().generations(owner)
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.store().read(owner, generation)
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.store().commit(follows, image)
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.store().commit_encoded(follows, image)
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.store().prune(owner, keep)
    }
}
