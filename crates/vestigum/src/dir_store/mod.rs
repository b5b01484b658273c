//! Images as files in a folder.
//!
//! ```text
//! saves/
//!   .lock                    held while a process uses the folder
//!   device/7.json            the device's progress
//!   profiles/ada/41.json     one player's progress, newest generation
//!   profiles/ada/40.json     the one before
//!   blobs/9f86d0…            a blob that images mean, under its digest
//! ```
//!
//! A commit writes a temporary file beside the others, syncs it, renames it to a *new* number and syncs the folder. So a
//! power cut leaves the old generations as they were and the new one either whole or not there. The blobs that the image means
//! are made durable before that.
//!
//! A save folder may come from somebody else, so nothing below it is trusted: links are not followed, what is not a regular
//! file is passed over, and names that this store does not give are left alone.

mod blobs;
mod commit;
mod folders;
mod known;
mod line;
mod names;
mod prune;
mod strays;

pub use prune::Removable;
pub use strays::Stray;

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use blobs::BlobShelf;
pub(crate) use folders::settle_folder;
use known::{FileVerdicts, Known};
pub(crate) use names::folder_name;
use names::generation_of;
use strays::FolderOf;

use vestigum_core::image::json::ImageError;
use vestigum_core::image::seal::SealKey;
use vestigum_core::{EncodedImage, Image, MOST_SAVE_BYTES, Owner};

use crate::disk::{Disk, EntryKind, HeldLock, Lock, RealDisk};
use crate::store::{Committed, GivenSave, Line, Pruned, SaveVerdict, Store, StoreError, StoreIdentity};

/// The default store: one folder for each profile, one file for each generation.
#[derive(Clone, Debug)]
pub struct DirStore {
    inner: Arc<Inner>,
    key: Option<SealKey>,
    most: u64,
}

struct Inner {
    disk: Arc<dyn Disk>,
    root: PathBuf,
    /// Held as long as the store lives; none if the store only reads.
    lock: Option<Mutex<Box<dyn HeldLock>>>,
    /// For each owner what is known of its files. Whoever writes or removes files of an owner holds its lock: no two do at
    /// once, and other owners are not held up.
    turns: Mutex<BTreeMap<Owner, Arc<Mutex<Turn>>>>,
    /// The folders whose names this process has made durable.
    settled: Mutex<BTreeSet<PathBuf>>,
    /// Says what reading said, held for no longer than it takes to look it up.
    verdicts: Mutex<BTreeMap<Owner, FileVerdicts>>,
    blobs: Mutex<BlobShelf>,
}

impl std::fmt::Debug for Inner {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DirStore").field("root", &self.root).finish_non_exhaustive()
    }
}

/// Describes what is known of an owner's files, once something was written or looked for.
type Turn = Option<Known>;

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // What is inside is replaced as a whole, so a panic elsewhere leaves it sound.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl DirStore {
    /// Opens a save folder and makes it if it is not there.
    ///
    /// # Errors
    /// If another process or another store of this one uses it, or it cannot be made or written.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{DirStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let folder = std::env::temp_dir().join(format!("vestigum-example-open-{}", std::process::id()));
    /// let store = DirStore::open(&folder)?;
    /// let game = Session::launch(&spec, store, "ada")?;
    /// game.quit()?;
    /// # std::fs::remove_dir_all(&folder)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn open(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        DirStore::open_on(RealDisk, root)
    }

    /// Opens a save folder on a disk of one's own: one that loses power in tests, encrypts, or counts.
    ///
    /// # Errors
    /// As [`DirStore::open`].
    pub fn open_on(disk: impl Disk + 'static, root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let root = root.as_ref().to_path_buf();
        let mut settled = BTreeSet::new();
        // That the name of a folder that is there is durable is made sure of by the first commit: a launch only reads.
        if !disk.is_folder(&root).map_err(io_error("look for the save folder", &root))? {
            settle_folder(&disk, &root, &mut settled).map_err(io_error("make the save folder", &root))?;
        }
        let lock = take_lock(&disk, &root)?;
        Ok(DirStore::with(Arc::new(disk), root, Some(lock), settled))
    }

    /// Opens a save folder only to look at it: nothing is made, locked or written, so a game may run beside it, and the
    /// folder may be one that cannot be written. Commits fail with [`StoreError::ReadOnly`].
    ///
    /// # Errors
    /// If there is no such folder.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{DirStore, Owner, Session, Spec, Store};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let folder = std::env::temp_dir().join(format!("vestigum-example-read-{}", std::process::id()));
    /// # let game = Session::launch(&spec, DirStore::open(&folder)?, "ada")?;
    /// # game.quit()?;
    /// let store = DirStore::open_to_read(&folder)?;      // a game may run beside it
    /// for owner in store.owners()? {
    ///     println!("{owner}: {:?}", store.generations(&owner)?);
    /// }
    /// # std::fs::remove_dir_all(&folder)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn open_to_read(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let (disk, root) = (Arc::new(RealDisk), root.as_ref().to_path_buf());
        disk.list(&root).map_err(io_error("read the save folder", &root))?;
        Ok(DirStore::with(disk, root, None, BTreeSet::new()))
    }

    fn with(
        disk: Arc<dyn Disk>,
        root: PathBuf,
        lock: Option<Box<dyn HeldLock>>,
        settled: BTreeSet<PathBuf>,
    ) -> DirStore {
        let (lock, settled) = (lock.map(Mutex::new), Mutex::new(settled));
        let (turns, verdicts, blobs) = (Mutex::default(), Mutex::default(), Mutex::default());
        let inner = Inner { disk, root, lock, turns, settled, verdicts, blobs };
        DirStore { inner: Arc::new(inner), key: None, most: MOST_SAVE_BYTES }
    }

    /// Seals the store's images with a key of the game: what the game did not seal is refused as
    /// damaged. See [`SealKey`] for what that stops and what it does not.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{DirStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// use vestigum::image::SealKey;
    /// # let folder = std::env::temp_dir().join(format!("vestigum-example-sealed-{}", std::process::id()));
    /// let store = DirStore::open(&folder)?.sealed(SealKey::from_text("a key of the game"));
    /// Session::launch(&spec, store, "ada")?.quit()?;
    /// # std::fs::remove_dir_all(&folder)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn sealed(self, key: SealKey) -> DirStore {
        DirStore { key: Some(key), ..self }
    }

    /// Returns the same store with another limit: it reads and writes files of up to that number of bytes; larger ones are damage, and are not written. Left out,
    /// [`MOST_SAVE_BYTES`]. Reading a file takes at most ten times its size in memory, and 64 MiB more.
    #[must_use]
    pub fn reading_at_most(self, bytes: u64) -> DirStore {
        DirStore { most: bytes, ..self }
    }

    /// The folder.
    pub fn root(&self) -> &Path {
        &self.inner.root
    }

    /// The file of a generation.
    ///
    /// # Errors
    /// If a profile's name is empty or too long.
    pub fn file(&self, owner: &Owner, generation: u64) -> Result<PathBuf, StoreError> {
        Ok(self.folder(owner)?.join(format!("{generation}.json")))
    }

    /// Returns how many bytes the file of a generation has; none if it is not there or not a regular file.
    ///
    /// # Errors
    /// If a profile's name is empty or too long, or the folder cannot be read now.
    pub fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        let kind = self.kind_of(&self.file(owner, generation)?)?;
        Ok(kind.and_then(|kind| if let EntryKind::File(bytes) = kind { Some(bytes) } else { None }))
    }

    fn kind_of(&self, path: &Path) -> Result<Option<EntryKind>, StoreError> {
        self.inner.disk.kind(path).map_err(io_error("look at", path))
    }

    /// Returns the bytes of a generation, whatever they are worth.
    ///
    /// # Errors
    /// [`StoreError::NoGeneration`] if it is not there, [`StoreError::Damaged`] if it is not a regular file or larger than what
    /// is read, and [`StoreError::Io`] if it cannot be read to its end now.
    pub fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        let path = self.file(owner, generation)?;
        let damaged = |damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged };
        let gone = || StoreError::NoGeneration { owner: owner.clone(), generation };
        let len = match self.kind_of(&path)? {
            Some(EntryKind::File(bytes)) if bytes > self.most => {
                return Err(damaged(ImageError::TooLarge { bytes, most: self.most }));
            }
            Some(EntryKind::Folder | EntryKind::Link | EntryKind::Other) => return Err(damaged(ImageError::NoFile)),
            Some(EntryKind::File(bytes)) => bytes,
            None => return Err(gone()),
        };
        match self.inner.disk.read(&path, self.most + 1) {
            // What came is not all that is there: nothing is known of the rest.
            Ok(bytes) if (bytes.len() as u64) < len => {
                let short = format!("expected {len} bytes, found {}", bytes.len());
                Err(io_error("read", &path)(io::Error::new(io::ErrorKind::UnexpectedEof, short)))
            }
            Ok(bytes) => Ok(bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(gone()),
            Err(error) => Err(io_error("read", &path)(error)),
        }
    }

    /// Cuts a generation in half, as a failing disk would: to try out what a game does then.
    ///
    /// # Errors
    /// If there is no such generation, or it cannot be written.
    #[doc(hidden)]
    pub fn damage(&self, owner: &Owner, generation: u64) -> Result<(), StoreError> {
        let turn = self.turn(owner)?;
        let mut turn = lock(&turn);
        let bytes = self.bytes(owner, generation)?;
        let path = self.file(owner, generation)?;
        let written = self.inner.disk.create(&path).and_then(|mut file| file.write(&bytes[..bytes.len() / 2]));
        *turn = None;
        self.judged(owner, generation, None);
        written.map_err(io_error("write", &path))
    }

    fn folder(&self, owner: &Owner) -> Result<PathBuf, StoreError> {
        Ok(match owner {
            Owner::Device => self.inner.root.join("device"),
            Owner::Profile(name) => self.profiles().join(folder_name(name)?),
        })
    }

    /// Looks up the blobs of an image that was not read by this store: one that a tool took up. What is not there, loading
    /// reports.
    pub fn find_blobs(&self, image: &mut Image) {
        image.find_blobs(|blob| self.find_blob(blob));
    }

    /// An image with its blobs, as far as they are there. A blob may be gone because the generation was removed meanwhile.
    fn with_blobs(&self, owner: &Owner, generation: u64, mut image: Image) -> Result<Image, StoreError> {
        let mut lost = false;
        image.find_blobs(|blob| self.find_blob(blob).inspect_err(|_| lost = true));
        if lost && self.size(owner, generation)?.is_none() {
            return Err(StoreError::NoGeneration { owner: owner.clone(), generation });
        }
        Ok(image)
    }

    fn profiles(&self) -> PathBuf {
        self.inner.root.join("profiles")
    }

    /// Returns what is known of an owner, to be locked by whoever writes or removes its files.
    fn turn(&self, owner: &Owner) -> Result<Arc<Mutex<Turn>>, StoreError> {
        if self.inner.lock.is_none() {
            return Err(StoreError::ReadOnly { path: self.inner.root.clone() });
        }
        Ok(lock(&self.inner.turns).entry(owner.clone()).or_default().clone())
    }

    /// Remembers what reading a generation said, or forgets it.
    fn judged(&self, owner: &Owner, generation: u64, verdict: Option<SaveVerdict>) {
        let mut verdicts = lock(&self.inner.verdicts);
        match verdict {
            Some(verdict) => drop(verdicts.entry(owner.clone()).or_default().insert(generation, verdict)),
            None => drop(verdicts.get_mut(owner).map(|verdicts| verdicts.remove(&generation))),
        }
    }

    fn verdicts(&self, owner: &Owner) -> FileVerdicts {
        let verdicts = lock(&self.inner.verdicts);
        verdicts.get(owner).cloned().unwrap_or_default()
    }
}

impl Store for DirStore {
    /// Returns everyone with a folder that says whose it is, whether the saves in it can be read or not;
    /// [`DirStore::strays`] tells of the rest.
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        let mut owners = Vec::new();
        // A folder that cannot be read has an owner all the same: asking for the generations tells why.
        if self.kind_of(&self.inner.root.join("device"))? == Some(EntryKind::Folder)
            && !self.generations(&Owner::Device).is_ok_and(|generations| generations.is_empty())
        {
            owners.push(Owner::Device);
        }
        for name in self.names(&self.profiles())? {
            match self.folder_of(&name) {
                FolderOf::Profile(profile) => owners.push(Owner::Profile(profile)),
                FolderOf::Nobody(_) => {}
                FolderOf::Unread(error) => {
                    tracing::warn!(folder = name, %error, "nobody can tell whose saves a folder holds");
                }
            }
        }
        owners.sort();
        Ok(owners)
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        let names = self.names(&self.folder(owner)?)?;
        let mut generations: Vec<u64> = names.iter().filter_map(|name| generation_of(name)).collect();
        generations.sort_unstable();
        Ok(generations)
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let read = self.bytes(owner, generation).and_then(|bytes| {
            let image = Image::decode(&bytes, self.key.as_ref()).and_then(|image| {
                let (named, says) = ((owner, generation), (&image.owner, image.generation));
                if says == named {
                    Ok(image)
                } else {
                    Err(ImageError::Misplaced(image.owner.clone(), image.generation))
                }
            });
            image.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged })
        });
        let read = read.and_then(|image| self.with_blobs(owner, generation, image));
        self.judged(owner, generation, SaveVerdict::of(&read));
        read
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.commit_one(follows, &image.encoded())
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.commit_one(follows, image)
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.prune_one(owner, keep)
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.insert_one(image.generation, &image.encoded())
    }

    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.remove_all_before(owner, generation)
    }

    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.read_line(owner)
    }

    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.new_line(owner)
    }

    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.note_given(owner, save.clone())
    }

    fn identity(&self) -> Option<StoreIdentity> {
        Some(StoreIdentity::of(&self.inner, format!("{} {:?}", self.most, self.key.as_ref().map(SealKey::fingerprint))))
    }

    fn pause(&self, how_long: Duration) {
        self.inner.disk.pause(how_long);
    }
}

/// Asks 5 times, with a pause of 10 ms each time, for a lock that this process seems to hold itself. A program that it starts
/// just then has the lock for a moment, too.
const LOCK_TRIES: u32 = 5;
const LOCK_PAUSE: Duration = Duration::from_millis(10);

fn take_lock(disk: &dyn Disk, root: &Path) -> Result<Box<dyn HeldLock>, StoreError> {
    let file = root.join(".lock");
    for attempt in 1.. {
        match disk.lock(&file).map_err(io_error("lock the save folder with", &file))? {
            Lock::Held(lock) => return Ok(lock),
            Lock::Taken(Some(holder)) if holder == std::process::id() => {
                if attempt >= LOCK_TRIES {
                    break;
                }
                std::thread::sleep(LOCK_PAUSE);
            }
            Lock::Taken(holder) => return Err(StoreError::InUse { path: root.to_path_buf(), holder }),
        }
    }
    Err(StoreError::OpenAlready { path: root.to_path_buf() })
}

fn io_error(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.to_path_buf();
    move |cause| StoreError::Io { action, path, cause }
}
