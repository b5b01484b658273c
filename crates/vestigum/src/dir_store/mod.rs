//! Images as files in a folder.
//!
//! ```text
//! saves/
//!   .lock                    held while a process uses the folder
//!   device/7.json            the device's progress
//!   profiles/ada/41.json     one player's progress, newest generation
//!   profiles/ada/40.json     the one before
//! ```
//!
//! A commit writes a temporary file beside the others, syncs it, renames it to a *new* number and syncs the folder. So a
//! power cut leaves the old generations as they were and the new one either whole or not there.
//!
//! A save folder may come from somebody else, so nothing below it is trusted: links are not followed, what is no regular
//! file is passed over, and names that this store does not give are left alone.

mod known;
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

use vestigum_core::image::{Damaged, SealKey};
use vestigum_core::{Image, Owner};

use crate::common::Common;
use crate::disk::{Disk, EntryKind, HeldLock, Lock, RealDisk};
use crate::store::{Committed, Pruned, Store, StoreError};

use known::{Known, Verdict, Verdicts};
use names::{LAST_GENERATION, TEMPORARY, folder_name, generation_of};

/// The largest file that is read as an image, unless [`DirStore::reading_at_most`] says otherwise: 64 MiB.
const MOST_BYTES: u64 = 64 << 20;

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
    /// Whoever writes or removes has the turn, so that no two do at once.
    turn: Mutex<Turn>,
    /// What reading said, held for no longer than it takes to look it up.
    verdicts: Mutex<BTreeMap<Owner, Verdicts>>,
    common: Common,
}

impl std::fmt::Debug for Inner {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DirStore").field("root", &self.root).finish_non_exhaustive()
    }
}

#[derive(Default)]
struct Turn {
    known: BTreeMap<Owner, Known>,
    /// The folders whose names this process has made durable.
    settled: BTreeSet<PathBuf>,
}

impl DirStore {
    /// Opens a save folder and makes it if it is not there.
    ///
    /// # Errors
    /// If another process or another store of this one uses it, or it cannot be made or written.
    pub fn open(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        DirStore::open_on(RealDisk, root)
    }

    /// Opens a save folder on a disk of one's own: a [`crate::SimDisk`], or one that encrypts or counts.
    ///
    /// # Errors
    /// As [`DirStore::open`].
    pub fn open_on(disk: impl Disk + 'static, root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let root = root.as_ref().to_path_buf();
        let mut turn = Turn::default();
        settle_folder(&disk, &root, &mut turn.settled).map_err(io_error("make the save folder", &root))?;
        let lock = take_lock(&disk, &root)?;
        Ok(DirStore::with(Arc::new(disk), root, Some(lock), turn))
    }

    /// Opens a save folder only to look at it: nothing is made, locked or written, so a game may run beside it, and the
    /// folder may be one that cannot be written. Commits fail with [`StoreError::ReadOnly`].
    ///
    /// # Errors
    /// If there is no such folder.
    pub fn open_to_read(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let (disk, root) = (Arc::new(RealDisk), root.as_ref().to_path_buf());
        disk.list(&root).map_err(io_error("read the save folder", &root))?;
        Ok(DirStore::with(disk, root, None, Turn::default()))
    }

    fn with(disk: Arc<dyn Disk>, root: PathBuf, lock: Option<Box<dyn HeldLock>>, turn: Turn) -> DirStore {
        let (lock, turn, verdicts) = (lock.map(Mutex::new), Mutex::new(turn), Mutex::default());
        let inner = Inner { disk, root, lock, turn, verdicts, common: Common::default() };
        DirStore { inner: Arc::new(inner), key: None, most: MOST_BYTES }
    }

    /// The same store, whose images are sealed with a key of the game: what the game did not seal is refused as
    /// damaged. See [`SealKey`] for what that stops and what it does not.
    #[must_use]
    pub fn sealed(self, key: SealKey) -> DirStore {
        DirStore { key: Some(key), ..self }
    }

    /// The same store, which reads files of up to so many bytes; larger ones are damage. Left out, 64 MiB. Reading a file
    /// takes at most ten times its size in memory, and 64 MiB more.
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

    /// How many bytes the file of a generation has; none if it is no regular file.
    ///
    /// # Errors
    /// If a profile's name is empty or too long.
    pub fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        let kind = self.inner.disk.kind(&self.file(owner, generation)?);
        Ok(kind.and_then(|kind| if let EntryKind::File(bytes) = kind { Some(bytes) } else { None }))
    }

    /// The bytes of a generation, whatever they are worth.
    ///
    /// # Errors
    /// If there is no such generation, it is larger than what is read, or it cannot be read.
    pub fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        let path = self.file(owner, generation)?;
        let damaged = |damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged };
        match self.inner.disk.kind(&path) {
            Some(EntryKind::File(bytes)) if bytes > self.most => {
                return Err(damaged(Damaged::TooLarge { bytes, most: self.most }));
            }
            Some(EntryKind::Folder | EntryKind::Link | EntryKind::Other) => return Err(damaged(Damaged::NoFile)),
            Some(EntryKind::File(_)) | None => {}
        }
        match self.inner.disk.read(&path, self.most + 1) {
            Ok(bytes) => Ok(bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                Err(StoreError::NoGeneration { owner: owner.clone(), generation })
            }
            Err(error) => Err(io_error("read", &path)(error)),
        }
    }

    /// Cuts a generation in half, as a failing disk would: to try out what a game does then.
    ///
    /// # Errors
    /// If there is no such generation, or it cannot be written.
    pub fn damage(&self, owner: &Owner, generation: u64) -> Result<(), StoreError> {
        let mut turn = self.turn()?;
        let bytes = self.bytes(owner, generation)?;
        let path = self.file(owner, generation)?;
        let written = self.inner.disk.create(&path).and_then(|mut file| file.write(&bytes[..bytes.len() / 2]));
        turn.known.remove(owner);
        self.judged(owner, generation, None);
        written.map_err(io_error("write", &path))
    }

    fn folder(&self, owner: &Owner) -> Result<PathBuf, StoreError> {
        Ok(match owner {
            Owner::Device => self.inner.root.join("device"),
            Owner::Profile(name) => self.profiles().join(folder_name(name)?),
        })
    }

    fn profiles(&self) -> PathBuf {
        self.inner.root.join("profiles")
    }

    /// The names in a folder below the save folder; none if it is not there. What is no folder itself is not looked into.
    fn names(&self, folder: &Path) -> Result<Vec<String>, StoreError> {
        let disk = &*self.inner.disk;
        for part in self.below_root(folder) {
            match disk.kind(&part) {
                None => return Ok(Vec::new()),
                Some(EntryKind::Folder) => {}
                Some(kind) => return Err(io_error("read", &part)(in_the_way(kind))),
            }
        }
        match disk.list(folder) {
            Ok(names) => Ok(names),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(io_error("read", folder)(error)),
        }
    }

    /// A folder and those above it, up to the save folder, without that.
    fn below_root<'a>(&'a self, folder: &'a Path) -> impl Iterator<Item = PathBuf> + 'a {
        let inside = folder.strip_prefix(&self.inner.root).unwrap_or(Path::new(""));
        inside.components().scan(self.inner.root.clone(), |above, part| {
            above.push(part);
            Some(above.clone())
        })
    }

    /// The turn of whoever writes or removes.
    fn turn(&self) -> Result<MutexGuard<'_, Turn>, StoreError> {
        if self.inner.lock.is_none() {
            return Err(StoreError::ReadOnly { path: self.inner.root.clone() });
        }
        // What is inside is replaced as a whole, so a panic elsewhere leaves it sound.
        Ok(self.inner.turn.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Remembers what reading a generation said, or forgets it.
    fn judged(&self, owner: &Owner, generation: u64, verdict: Option<Verdict>) {
        let mut verdicts = self.inner.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
        match verdict {
            Some(verdict) => drop(verdicts.entry(owner.clone()).or_default().insert(generation, verdict)),
            None => drop(verdicts.get_mut(owner).map(|verdicts| verdicts.remove(&generation))),
        }
    }

    fn verdicts(&self, owner: &Owner) -> Verdicts {
        let verdicts = self.inner.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
        verdicts.get(owner).cloned().unwrap_or_default()
    }

    fn look(&self, owner: &Owner) -> Result<Known, StoreError> {
        let highest = self.generations(owner)?.last().copied().unwrap_or(0);
        let digest = if highest == 0 { None } else { self.read(owner, highest).ok().map(|image| image.digest()) };
        Ok(Known { generation: highest, digest, highest, synced: false })
    }

    /// What is known of an owner, held against what is there: somebody may have removed files while the game runs.
    /// Answers whether what the caller follows is missing.
    fn known(&self, turn: &mut Turn, owner: &Owner, follows: u64) -> Result<(Known, bool), StoreError> {
        if let Some(known) = turn.known.get(owner)
            && (known.generation == 0 || self.size(owner, known.generation)?.is_some())
        {
            let missing = known.highest < follows;
            return Ok((Known { highest: known.highest.max(follows), ..known.clone() }, missing));
        }
        let before = turn.known.remove(owner).unwrap_or_default();
        let found = self.look(owner)?;
        let missing = before.generation > found.generation || found.highest < follows;
        // Numbers that were used once are never used again.
        let highest = found.highest.max(before.highest).max(follows);
        let digest = found.digest.clone().filter(|_| !missing);
        Ok((Known { highest, digest, ..found }, missing))
    }

    /// Makes sure that the save folder is still the one that this process has locked.
    fn keep_place(&self, turn: &mut Turn) -> Result<(), StoreError> {
        let Some(lock) = &self.inner.lock else { return Ok(()) };
        let mut lock = lock.lock().unwrap_or_else(PoisonError::into_inner);
        if lock.is_in_place() {
            return Ok(());
        }
        let Inner { disk, root, .. } = &*self.inner;
        turn.settled.clear();
        settle_folder(&**disk, root, &mut turn.settled).map_err(io_error("make the save folder", root))?;
        *lock = take_lock(&**disk, root)?;
        tracing::warn!(folder = %root.display(), "the save folder was removed while the game runs; it is made again");
        Ok(())
    }

    /// Makes the names in the folder of an owner durable, and the folder's own.
    fn sync(&self, turn: &mut Turn, folder: &Path) -> Result<(), StoreError> {
        self.settle(turn, folder).map_err(io_error("make", folder))?;
        self.inner.disk.sync_folder(folder).map_err(io_error("sync", folder))
    }

    /// The number of the next generation.
    fn next_generation(&self, owner: &Owner, known: &Known) -> Result<u64, StoreError> {
        if known.highest < LAST_GENERATION {
            return Ok(known.highest + 1);
        }
        // Something has the last number that there is. Unless it is a whole image, numbers below it are free.
        let generations = self.generations(owner)?;
        let whole = generations.iter().rev().find(|generation| self.read(owner, **generation).is_ok());
        let above = whole.copied().unwrap_or(0) + 1;
        (above..=LAST_GENERATION)
            .find(|number| generations.binary_search(number).is_err())
            .ok_or_else(|| StoreError::NoMoreGenerations { owner: owner.clone() })
    }

    /// The commit sequence. Until the rename the file has a name that nobody reads, and after it the content is
    /// durable already; the caller hears of success only when the name is, too.
    fn write(&self, turn: &mut Turn, folder: &Path, generation: u64, bytes: &[u8]) -> Result<(), NotWritten> {
        let disk = &*self.inner.disk;
        let before = |error| NotWritten { error, named: false };
        let after = |error| NotWritten { error, named: true };
        self.settle(turn, folder).map_err(io_error("make", folder)).map_err(before)?;
        let target = folder.join(format!("{generation}.json"));
        let (temporary, mut file) = self.temporary(folder, generation).map_err(before)?;
        let written = file.write(bytes).map_err(io_error("write", &temporary));
        let written = written.and_then(|()| file.sync().map_err(io_error("sync", &temporary)));
        drop(file);
        let named = written
            .map_err(before)
            .and_then(|()| disk.rename_new(&temporary, &target).map_err(io_error("write", &target)).map_err(after));
        if named.is_err() {
            // What cannot be removed now is removed by a later prune.
            let _ = disk.remove(&temporary);
        }
        named?;
        disk.sync_folder(folder).map_err(io_error("sync", folder)).map_err(after)
    }

    /// A new file under a name that nothing has: what lies there from a crash, or was put there, is not written into.
    fn temporary(&self, folder: &Path, generation: u64) -> Result<(PathBuf, Box<dyn crate::DiskFile>), StoreError> {
        for attempt in 0..100 {
            let name = if attempt == 0 { String::new() } else { format!("-{attempt}") };
            let path = folder.join(format!("{TEMPORARY}{generation}{name}"));
            match self.inner.disk.create_new(&path) {
                Ok(file) => return Ok((path, file)),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(io_error("write into", folder)(error)),
            }
        }
        Err(io_error("write into", folder)(io::Error::from(io::ErrorKind::AlreadyExists)))
    }

    /// Makes sure of a folder before something is written into it.
    fn settle(&self, turn: &mut Turn, folder: &Path) -> io::Result<()> {
        let disk = &*self.inner.disk;
        if turn.settled.contains(folder) && disk.kind(folder) != Some(EntryKind::Folder) {
            // Somebody has removed it: what was known of the folders is worth nothing.
            turn.settled.clear();
        }
        if !turn.settled.contains(folder) {
            for part in self.below_root(folder) {
                if let Some(kind) = disk.kind(&part).filter(|kind| *kind != EntryKind::Folder) {
                    return Err(in_the_way(kind));
                }
            }
        }
        settle_folder(disk, folder, &mut turn.settled)
    }
}

/// A write that failed.
struct NotWritten {
    error: StoreError,
    /// Whether the file may have its name all the same.
    named: bool,
}

impl Store for DirStore {
    fn common(&self) -> &Common {
        &self.inner.common
    }

    /// Everyone with a folder that says whose it is; [`DirStore::strays`] tells of the rest.
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        let mut owners = Vec::new();
        if self.generations(&Owner::Device).is_ok_and(|generations| !generations.is_empty()) {
            owners.push(Owner::Device);
        }
        let profiles = self.names(&self.profiles())?;
        owners.extend(profiles.iter().filter_map(|name| self.profile_in(name)).map(Owner::Profile));
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
                if says == named { Ok(image) } else { Err(Damaged::Misplaced(image.owner.clone(), image.generation)) }
            });
            image.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged })
        });
        match &read {
            Ok(_) => self.judged(owner, generation, Some(Verdict::Whole)),
            Err(StoreError::NoGeneration { .. }) => self.judged(owner, generation, None),
            Err(_) => self.judged(owner, generation, Some(Verdict::Bad)),
        }
        read
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        let owner = &image.owner;
        let digest = image.digest();
        let mut turn = self.turn()?;
        self.keep_place(&mut turn)?;
        let folder = self.folder(owner)?;
        let (mut known, missing) = self.known(&mut turn, owner, follows)?;
        if missing {
            tracing::warn!(%owner, "saves were removed while the game runs; this one is written again");
        }
        // A commit that failed may have left a newer name, and a launch would take that: then this one is written again.
        let is_newest = known.highest == known.generation;
        if is_newest && known.digest.as_ref() == Some(&digest) {
            // Another process may have left the name without making it durable: then it is not there for good.
            if !known.synced {
                self.sync(&mut turn, &folder)?;
                known.synced = true;
            }
            let committed = Committed { missing, ..Committed::unchanged(known.generation) };
            turn.known.insert(owner.clone(), known);
            return Ok(committed);
        }
        // Numbers in between are of commits of this process that failed, and may be there all the same.
        if !(known.generation..=known.highest).contains(&follows) {
            let newest = known.generation;
            turn.known.insert(owner.clone(), known);
            return Err(StoreError::Conflict { owner: owner.clone(), newest, follows });
        }
        let generation = self.next_generation(owner, &known)?;
        let bytes = image.encode(generation, &digest, self.key.as_ref());
        prove(image, generation, &bytes, self.key.as_ref())?;
        let written = self.write(&mut turn, &folder, generation, &bytes);
        let highest = known.highest.max(generation);
        let known = match &written {
            Ok(()) => Known { generation, digest: Some(digest), highest, synced: true },
            // The number is used up, and the name may be there without being durable.
            Err(failed) if failed.named => Known { highest, synced: false, ..known },
            Err(_) => known,
        };
        turn.known.insert(owner.clone(), known);
        written.map_err(|failed| failed.error)?;
        self.judged(owner, generation, Some(Verdict::Whole));
        Ok(Committed { missing, ..Committed::written(generation) })
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.prune_one(owner, keep)
    }
}

/// Proves, where it is cheap enough, that what is about to be written reads as what was to be saved: in debug builds, so
/// in every test.
pub(crate) fn prove(image: &Image, generation: u64, bytes: &[u8], key: Option<&SealKey>) -> Result<(), StoreError> {
    if !cfg!(debug_assertions) {
        return Ok(());
    }
    let owner = image.owner.clone();
    let read = Image::decode(bytes, key);
    match read {
        Ok(read) if read == (Image { generation, ..image.clone() }) => Ok(()),
        Ok(_) => Err(StoreError::Damaged { owner, generation, damaged: Damaged::CheckFailed }),
        Err(damaged) => Err(StoreError::Damaged { owner, generation, damaged }),
    }
}

/// So often, with a pause each time, a lock that this process seems to hold itself is asked for. A program that it starts
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
    move |source| StoreError::Io { action, path, source }
}

/// Why a name that should be a folder's is not used.
fn in_the_way(kind: EntryKind) -> io::Error {
    io::Error::other(match kind {
        EntryKind::Link => "it is a link, and links below a save folder are not followed",
        EntryKind::File(_) => "it is a file, and a folder is wanted there",
        EntryKind::Folder | EntryKind::Other => "it is no folder",
    })
}

/// Makes a folder and those above it, and syncs the folder above each, so that the folders themselves survive a power
/// cut. A folder that is there already may be one whose name was never made durable: its maker may have crashed.
fn settle_folder(disk: &dyn Disk, folder: &Path, settled: &mut BTreeSet<PathBuf>) -> io::Result<()> {
    if folder.as_os_str().is_empty() || settled.contains(folder) {
        return Ok(());
    }
    let above = folder.parent().unwrap_or(Path::new(""));
    let made = !disk.is_folder(folder);
    if made {
        settle_folder(disk, above, settled)?;
        match disk.make_folder(folder) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists && disk.is_folder(folder) => {}
            made => made?,
        }
    }
    match disk.sync_folder(above) {
        // The folder above the save folder may belong to somebody else, who has made it and this one.
        Err(error) if !made && error.kind() == io::ErrorKind::PermissionDenied => {}
        synced => synced?,
    }
    settled.insert(folder.to_path_buf());
    Ok(())
}
