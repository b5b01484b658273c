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

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use vestigum_core::image::{Damaged, SealKey};
use vestigum_core::{Image, Owner};

use crate::common::Common;
use crate::disk::{Disk, HeldLock, Lock, RealDisk};
use crate::store::{Committed, Store, StoreError};

/// The beginning of the names of files that are being written.
const TEMPORARY: &str = ".saving-";

/// No image has more bytes; what is longer is not read to its end.
const MAX_BYTES: u64 = 256 << 20;

/// The default store: one folder for each profile, one file for each generation.
#[derive(Clone, Debug)]
pub struct DirStore {
    inner: Arc<Inner>,
    key: Option<SealKey>,
}

struct Inner {
    disk: Arc<dyn Disk>,
    root: PathBuf,
    /// Held as long as the store lives; none if the store only reads.
    lock: Option<Box<dyn HeldLock>>,
    /// What this process knows of each owner. Whoever writes or removes holds it, so that no two do at once.
    known: Mutex<BTreeMap<Owner, Newest>>,
    /// The folders whose names this process has made durable.
    settled: Mutex<BTreeSet<PathBuf>>,
    common: Common,
}

impl std::fmt::Debug for Inner {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DirStore").field("root", &self.root).finish_non_exhaustive()
    }
}

/// The newest generation of an owner. The lock keeps other processes out, so it stays so until this one writes.
#[derive(Clone, Debug, Default)]
struct Newest {
    /// The newest generation that is known to be there for good; 0 if there is none.
    generation: u64,
    /// What it holds; none if it cannot be read.
    digest: Option<String>,
    /// The highest number that any file has. A commit that failed may have left a higher one than `generation`.
    highest: u64,
}

impl DirStore {
    /// Opens a save folder and makes it if it is not there.
    ///
    /// # Errors
    /// If another process uses it, or it cannot be made or written.
    pub fn open(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        DirStore::open_on(RealDisk, root)
    }

    /// Opens a save folder on a disk of one's own: a [`crate::SimDisk`], or one that encrypts or counts.
    ///
    /// # Errors
    /// As [`DirStore::open`].
    pub fn open_on(disk: impl Disk + 'static, root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let root = root.as_ref().to_path_buf();
        let mut settled = BTreeSet::new();
        settle_folder(&disk, &root, &mut settled).map_err(io_error("make the save folder", &root))?;
        let lock_file = root.join(".lock");
        let lock = match disk.lock(&lock_file).map_err(io_error("lock the save folder with", &lock_file))? {
            Lock::Held(lock) => lock,
            Lock::Taken(holder) => return Err(StoreError::InUse { path: root, holder }),
        };
        let (disk, known, settled) = (Arc::new(disk), Mutex::default(), Mutex::new(settled));
        let inner = Inner { disk, root, lock: Some(lock), known, settled, common: Common::default() };
        Ok(DirStore { inner: Arc::new(inner), key: None })
    }

    /// Opens a save folder only to look at it: nothing is made, locked or written, so a game may run beside it, and the
    /// folder may be one that cannot be written. Commits fail with [`StoreError::ReadOnly`].
    ///
    /// # Errors
    /// If there is no such folder.
    pub fn open_to_read(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let (disk, root) = (Arc::new(RealDisk), root.as_ref().to_path_buf());
        disk.list(&root).map_err(io_error("read the save folder", &root))?;
        let (known, settled, common) = (Mutex::default(), Mutex::default(), Common::default());
        Ok(DirStore { inner: Arc::new(Inner { disk, root, lock: None, known, settled, common }), key: None })
    }

    /// The same store, whose images are sealed with a key of the game: what the game did not seal is refused as
    /// damaged. See [`SealKey`] for what that stops and what it does not.
    #[must_use]
    pub fn sealed(self, key: SealKey) -> DirStore {
        DirStore { key: Some(key), ..self }
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

    /// The bytes of a generation, whatever they are worth.
    ///
    /// # Errors
    /// If there is no such generation, or it cannot be read.
    pub fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        let path = self.file(owner, generation)?;
        match self.inner.disk.read(&path, MAX_BYTES + 1) {
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
        let mut known = self.turn()?;
        let bytes = self.bytes(owner, generation)?;
        let path = self.file(owner, generation)?;
        let written = self.inner.disk.create(&path).and_then(|mut file| file.write(&bytes[..bytes.len() / 2]));
        known.remove(owner);
        written.map_err(io_error("write", &path))
    }

    fn folder(&self, owner: &Owner) -> Result<PathBuf, StoreError> {
        Ok(match owner {
            Owner::Device => self.inner.root.join("device"),
            Owner::Profile(name) => self.inner.root.join("profiles").join(folder_name(name)?),
        })
    }

    /// The names in a folder; none if it is not there.
    fn names(&self, folder: &Path) -> Result<Vec<String>, StoreError> {
        match self.inner.disk.list(folder) {
            Ok(names) => Ok(names),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(io_error("read", folder)(error)),
        }
    }

    /// The turn of whoever writes or removes, and what is known of each owner.
    fn turn(&self) -> Result<MutexGuard<'_, BTreeMap<Owner, Newest>>, StoreError> {
        if self.inner.lock.is_none() {
            return Err(StoreError::ReadOnly { path: self.inner.root.clone() });
        }
        // What is inside is replaced as a whole, so a panic elsewhere leaves it sound.
        Ok(self.inner.known.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn newest(&self, owner: &Owner) -> Result<Newest, StoreError> {
        let highest = self.generations(owner)?.last().copied().unwrap_or(0);
        let digest = if highest == 0 { None } else { self.read(owner, highest).ok().map(|image| image.digest()) };
        Ok(Newest { generation: highest, digest, highest })
    }

    /// The commit sequence. Until the rename the file has a name that nobody reads, and after it the content is
    /// durable already; the caller hears of success only when the name is, too.
    fn write(&self, folder: &Path, generation: u64, bytes: &[u8]) -> Result<(), NotWritten> {
        let disk = &*self.inner.disk;
        let before = |error| NotWritten { error, named: false };
        let after = |error| NotWritten { error, named: true };
        self.settle(folder).map_err(io_error("make", folder)).map_err(before)?;
        let temporary = folder.join(format!("{TEMPORARY}{generation}"));
        let target = folder.join(format!("{generation}.json"));
        let written = disk.create(&temporary).map_err(io_error("write into", folder)).and_then(|mut file| {
            file.write(bytes).map_err(io_error("write", &temporary))?;
            file.sync().map_err(io_error("sync", &temporary))
        });
        let named = written
            .map_err(before)
            .and_then(|()| disk.rename_new(&temporary, &target).map_err(io_error("write", &target)).map_err(after));
        if named.is_err() {
            // What cannot be removed now is removed at the next launch.
            let _ = disk.remove(&temporary);
        }
        named?;
        disk.sync_folder(folder).map_err(io_error("sync", folder)).map_err(after)
    }

    /// Makes sure of a folder before something is written into it.
    fn settle(&self, folder: &Path) -> io::Result<()> {
        let disk = &*self.inner.disk;
        let mut settled = self.inner.settled.lock().unwrap_or_else(PoisonError::into_inner);
        if settled.contains(folder) && !disk.is_folder(folder) {
            // Somebody has removed it: what was known of the folders is worth nothing.
            settled.clear();
        }
        settle_folder(disk, folder, &mut settled)
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

    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        let mut owners = Vec::new();
        if !self.generations(&Owner::Device)?.is_empty() {
            owners.push(Owner::Device);
        }
        let profiles = self.names(&self.inner.root.join("profiles"))?;
        owners.extend(profiles.iter().filter_map(|name| profile_of(name)).map(Owner::Profile));
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
        let bytes = self.bytes(owner, generation)?;
        let image = Image::decode(&bytes, self.key.as_ref()).and_then(|image| {
            let (named, says) = ((owner, generation), (&image.owner, image.generation));
            if says == named { Ok(image) } else { Err(Damaged::Misplaced(image.owner.clone(), image.generation)) }
        });
        image.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged })
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        let owner = &image.owner;
        let digest = image.digest();
        let mut known = self.turn()?;
        let newest = match known.get(owner) {
            Some(newest) => newest.clone(),
            None => self.newest(owner)?,
        };
        if newest.digest.as_ref() == Some(&digest) {
            let committed = Committed { generation: newest.generation, written: false };
            known.insert(owner.clone(), newest);
            return Ok(committed);
        }
        // Numbers in between are of commits of this process that failed, and may be there all the same.
        if !(newest.generation..=newest.highest).contains(&follows) {
            return Err(StoreError::Conflict { owner: owner.clone(), newest: newest.generation, follows });
        }
        let generation = newest.highest + 1;
        let bytes = image.encode(generation, &digest, self.key.as_ref());
        let written = self.write(&self.folder(owner)?, generation, &bytes);
        let newest = match &written {
            Ok(()) => Newest { generation, digest: Some(digest), highest: generation },
            // The number is used up.
            Err(failed) if failed.named => Newest { highest: generation, ..newest },
            Err(_) => newest,
        };
        known.insert(owner.clone(), newest);
        written.map(|()| Committed { generation, written: true }).map_err(|failed| failed.error)
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<usize, StoreError> {
        let _turn = self.turn()?;
        let folder = self.folder(owner)?;
        let remove = |name: &str| {
            let path = folder.join(name);
            self.inner.disk.remove(&path).map_err(io_error("remove", &path))
        };
        // Nobody writes while this store has the lock and the turn: these are left from a crash.
        for name in self.names(&folder)?.iter().filter(|name| name.starts_with(TEMPORARY)) {
            remove(name)?;
        }
        let (mut whole, mut removed) = (0, 0);
        for generation in self.generations(owner)?.into_iter().rev() {
            // What cannot be read stays where it is: it may be all that a repair has to go by.
            if self.read(owner, generation).is_err() {
                continue;
            }
            whole += 1;
            if whole > keep.max(1) {
                remove(&format!("{generation}.json"))?;
                removed += 1;
            }
        }
        Ok(removed)
    }
}

fn generation_of(name: &str) -> Option<u64> {
    let digits = name.strip_suffix(".json")?;
    let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) && !digits.starts_with('0');
    digits.parse().ok().filter(|_| plain)
}

/// A profile's name as a file name: lower-case letters, digits, `-` and `_` stand for themselves, every other byte is
/// written as `%` and two hex digits. So no name leaves the folder, and no two names meet on a file system that
/// does not tell upper from lower case.
fn folder_name(name: &str) -> Result<String, StoreError> {
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::BadProfile { name: name.chars().take(80).collect() });
    }
    let mut out = String::new();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' => out.push(char::from(byte)),
            other => out.push_str(&format!("%{other:02x}")),
        }
    }
    Ok(out)
}

/// The profile whose folder has that name.
fn profile_of(folder: &str) -> Option<String> {
    let mut bytes = Vec::new();
    let mut rest = folder.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            plain => plain,
        });
    }
    String::from_utf8(bytes).ok().filter(|name| folder_name(name).is_ok_and(|made| made == folder))
}

fn io_error(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.to_path_buf();
    move |source| StoreError::Io { action, path, source }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_never_leave_the_folder() {
        assert_eq!(folder_name("ada_2").unwrap(), "ada_2");
        assert_eq!(folder_name("../Ada").unwrap(), "%2e%2e%2f%41da");
        assert!(folder_name("").is_err());
        for name in ["ada_2", "../Ada", "ü %"] {
            assert_eq!(profile_of(&folder_name(name).unwrap()).as_deref(), Some(name));
        }
        assert_eq!(profile_of("Ada"), None);
        assert_eq!(generation_of("12.json"), Some(12));
        assert_eq!(generation_of("012.json"), None);
        assert_eq!(generation_of(".saving-1.json"), None);
    }
}
