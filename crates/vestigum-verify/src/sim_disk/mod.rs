//! A disk in memory that can fail.
//!
//! It keeps two pictures: what is *seen* while the power is on, and what is *durable*. Between them stand the operations
//! that no sync has settled yet; [`PowerLosses`] lists every state in which the disk can come back from them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use std::{fmt, io};

mod outcomes;

pub use outcomes::{PowerLoss, PowerLosses};

use vestigum::{Disk, DiskFile, EntryKind, HeldLock, Lock};

/// A disk in memory that logs every operation, fails on demand, and can lose its power after any of them.
///
/// ```
/// use std::path::Path;
/// use vestigum::Disk;
/// use vestigum_verify::SimDisk;
///
/// let disk = SimDisk::default();
/// let mut file = disk.create(Path::new("a"))?;
/// file.write(b"letters")?;
/// assert_eq!(disk.read(Path::new("a"), 100)?, b"letters");
/// // Nothing was synced: the file may be gone, empty, torn or whole.
/// let found = disk.power_loss().map(|loss| loss.disk().read(Path::new("a"), 100).ok());
/// let found: Vec<Option<Vec<u8>>> = found.collect();
/// assert!(found.contains(&None) && found.contains(&Some(b"let".to_vec())));
/// # Ok::<(), std::io::Error>(())
/// ```
///
/// Clones are handles on the same disk.
#[derive(Clone, Default)]
pub struct SimDisk {
    inner: Arc<Mutex<Inner>>,
}

#[derive(Default)]
struct Inner {
    state: Arc<DiskState>,
    /// The state before the first operation.
    first: Arc<DiskState>,
    log: Vec<Arc<Logged>>,
    faults: Vec<(usize, Fault)>,
    /// Those that stay.
    for_good: Vec<(PathBuf, Fault)>,
    locks: BTreeSet<PathBuf>,
}

/// An operation and the state that it left.
struct Logged {
    operation: DiskOperation,
    after: Arc<DiskState>,
}

/// Describes what is seen, what is durable, and what stands between them.
#[derive(Clone, Default)]
pub(super) struct DiskState {
    pub seen: NameTable,
    pub durable: NameTable,
    /// Says what was done to names and is not durable yet, in order.
    pub pending: Vec<NameChange>,
    pub files: BTreeMap<FileId, Content>,
    pub next: FileId,
}

pub(super) type FileId = u64;
pub(super) type NameTable = BTreeMap<PathBuf, DiskEntry>;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum DiskEntry {
    Folder,
    File(FileId),
}

/// A change of names: one entry goes, one comes, or both at once. It is durable when its folder is synced.
#[derive(Clone, Debug)]
pub(super) struct NameChange {
    pub goes: Option<PathBuf>,
    pub comes: Option<(PathBuf, DiskEntry)>,
    /// The operation in the log.
    pub operation: usize,
}

#[derive(Clone, Debug, Default)]
pub(super) struct Content {
    pub seen: Arc<Vec<u8>>,
    pub durable: Arc<Vec<u8>>,
    /// A sync failed: what was written is never made durable, whatever later syncs say.
    pub lost: bool,
}

/// One operation on a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
#[expect(missing_docs, reason = "each variant is what the method of `Disk` with that name does")]
pub enum DiskOperation {
    MakeFolder(PathBuf),
    /// `kind` and `is_folder`.
    LookAt(PathBuf),
    List(PathBuf),
    Read(PathBuf),
    Create(PathBuf),
    Write(PathBuf, usize),
    Sync(PathBuf),
    Rename(PathBuf, PathBuf),
    Remove(PathBuf),
    SyncFolder(PathBuf),
}

impl DiskOperation {
    /// Returns whether it can leave anything for a power loss to take.
    pub fn changes(&self) -> bool {
        match self {
            DiskOperation::LookAt(_) | DiskOperation::List(_) | DiskOperation::Read(_) => false,
            DiskOperation::MakeFolder(_)
            | DiskOperation::Create(_)
            | DiskOperation::Write(..)
            | DiskOperation::Sync(_)
            | DiskOperation::Rename(..)
            | DiskOperation::Remove(_)
            | DiskOperation::SyncFolder(_) => true,
        }
    }

    /// Returns the file or folder that it is about; of a rename the old name.
    pub fn path(&self) -> &Path {
        match self {
            DiskOperation::MakeFolder(path)
            | DiskOperation::LookAt(path)
            | DiskOperation::List(path)
            | DiskOperation::Read(path)
            | DiskOperation::Create(path)
            | DiskOperation::Write(path, _)
            | DiskOperation::Sync(path)
            | DiskOperation::Rename(path, _)
            | DiskOperation::Remove(path)
            | DiskOperation::SyncFolder(path) => path,
        }
    }
}

impl fmt::Display for DiskOperation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DiskOperation::MakeFolder(path) => write!(f, "make folder  {}", path.display()),
            DiskOperation::LookAt(path) => write!(f, "look at      {}", path.display()),
            DiskOperation::List(path) => write!(f, "list         {}", path.display()),
            DiskOperation::Read(path) => write!(f, "read         {}", path.display()),
            DiskOperation::Create(path) => write!(f, "create       {}", path.display()),
            DiskOperation::Write(path, len) => write!(f, "write        {}, {len} bytes", path.display()),
            DiskOperation::Sync(path) => write!(f, "sync         {}", path.display()),
            DiskOperation::Rename(from, to) => write!(f, "rename       {} to {}", from.display(), to.display()),
            DiskOperation::Remove(path) => write!(f, "remove       {}", path.display()),
            DiskOperation::SyncFolder(path) => write!(f, "sync folder  {}", path.display()),
        }
    }
}

/// Describes what can go wrong with one operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Fault {
    /// The disk is full: a write stops halfway, nothing new is made.
    Full,
    /// The disk reports an error: a write stops halfway, a sync loses what was written.
    Broken,
    /// A read gives only the first half.
    ShortRead,
    /// Nothing of the file or folder can be read now, though it is whole: another program holds it, the system has no more file
    /// numbers, or the share does not answer.
    Unavailable,
}

impl Fault {
    /// Returns whether this can happen to that operation.
    pub fn strikes(self, operation: &DiskOperation) -> bool {
        match self {
            // A look at a name asks for nothing that is on the file itself.
            Fault::Broken => !matches!(operation, DiskOperation::LookAt(_)),
            Fault::Unavailable => !operation.changes(),
            Fault::Full => {
                matches!(operation, DiskOperation::MakeFolder(_) | DiskOperation::Create(_) | DiskOperation::Write(..))
            }
            Fault::ShortRead => matches!(operation, DiskOperation::Read(_)),
        }
    }

    fn error(self) -> io::Error {
        match self {
            Fault::Full => io::Error::new(io::ErrorKind::StorageFull, "no space left on the disk"),
            Fault::Broken | Fault::ShortRead => io::Error::other("the disk reports an error"),
            Fault::Unavailable => io::Error::new(io::ErrorKind::PermissionDenied, "another program holds it"),
        }
    }
}

impl SimDisk {
    pub(super) fn of(state: DiskState) -> SimDisk {
        let state = Arc::new(state);
        SimDisk { inner: Arc::new(Mutex::new(Inner { first: state.clone(), state, ..Inner::default() })) }
    }

    /// Lets the operation with that number (from 0) fail, besides those that are to fail already.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum_verify::{Fault, SimDisk};
    /// let disk = SimDisk::default();
    /// disk.fail(disk.count() + 2, Fault::Full);     // the third operation from now on
    /// ```
    pub fn fail(&self, operation: usize, fault: Fault) {
        self.lock_inner().faults.push((operation, fault));
    }

    /// Lets every operation on that file or folder fail from now on that the fault strikes.
    pub fn fail_always(&self, path: &Path, fault: Fault) {
        self.lock_inner().for_good.push((path.to_path_buf(), fault));
    }

    /// Every operation so far.
    pub fn operations(&self) -> Vec<DiskOperation> {
        self.lock_inner().log.iter().map(|logged| logged.operation.clone()).collect()
    }

    /// Returns how many operations there were so far.
    pub fn count(&self) -> usize {
        self.lock_inner().log.len()
    }

    /// Every state in which the disk can be found if the power fails now.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum_verify::SimDisk;
    /// let disk = SimDisk::default();
    /// for loss in disk.power_loss() {
    ///     let found = loss.disk();                  // a disk of its own, to open the store on
    ///     println!("{} files", found.files().len());
    /// }
    /// ```
    pub fn power_loss(&self) -> PowerLosses {
        PowerLosses::of((*self.lock_inner().state).clone())
    }

    /// Every state in which the disk could be found if the power had failed after a number of operations.
    pub fn power_loss_after(&self, operations: usize) -> PowerLosses {
        let inner = self.lock_inner();
        PowerLosses::of((*inner.state_after(operations)).clone())
    }

    /// A disk of its own as it was after a number of operations, with its log up to there: the process that used it was
    /// killed, and the power stayed on. So everything that was seen is there, and what was not synced is still not
    /// durable. Nobody holds a lock.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum_verify::SimDisk;
    /// let disk = SimDisk::default();
    /// for operations in 0..=disk.count() {
    ///     let found = disk.killed_after(operations); // what the next process finds
    ///     println!("{} files", found.files().len());
    /// }
    /// ```
    #[must_use]
    pub fn killed_after(&self, operations: usize) -> SimDisk {
        let inner = self.lock_inner();
        let (state, log) = (inner.state_after(operations), inner.log[..operations.min(inner.log.len())].to_vec());
        SimDisk { inner: Arc::new(Mutex::new(Inner { state, first: inner.first.clone(), log, ..Inner::default() })) }
    }

    /// Returns a disk of its own with everything that is seen, on which nothing fails and nobody holds a lock.
    #[must_use]
    pub fn sound(&self) -> SimDisk {
        self.killed_after(self.count())
    }

    /// The files that are seen, with their content.
    pub fn files(&self) -> Vec<(PathBuf, Vec<u8>)> {
        let inner = self.lock_inner();
        let seen = inner.state.seen.iter().filter_map(|(path, entry)| match entry {
            DiskEntry::File(file) => Some((path.clone(), inner.state.files.get(file)?.seen.to_vec())),
            DiskEntry::Folder => None,
        });
        seen.collect()
    }

    /// Returns a disk of its own with the same files and folders, all of them durable, and another content in one file.
    #[must_use]
    pub fn with_content(&self, path: &Path, bytes: Vec<u8>) -> SimDisk {
        let mut state = (*self.lock_inner().state).clone();
        state.durable = state.seen.clone();
        state.pending.clear();
        for (at, entry) in &state.seen.clone() {
            if let DiskEntry::File(file) = entry
                && let Some(content) = state.files.get_mut(file)
            {
                if at == path {
                    content.seen = Arc::new(bytes.clone());
                }
                content.durable = content.seen.clone();
            }
        }
        SimDisk::of(state)
    }

    fn lock_inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Logs an operation and does it, or lets it fail if it is to.
    fn operate<T>(
        &self,
        operation: DiskOperation,
        act: impl FnOnce(&mut DiskState, usize, Option<Fault>) -> io::Result<T>,
    ) -> io::Result<T> {
        let mut inner = self.lock_inner();
        let number = inner.log.len();
        let fault = inner.fault_of(&operation);
        let result = act(Arc::make_mut(&mut inner.state), number, fault);
        let after = inner.state.clone();
        inner.log.push(Arc::new(Logged { operation, after }));
        result
    }

    /// Logs an operation that changes nothing and does it, or lets it fail if it is to.
    fn observe<T>(
        &self,
        operation: DiskOperation,
        act: impl FnOnce(&DiskState, Option<Fault>) -> io::Result<T>,
    ) -> io::Result<T> {
        let mut inner = self.lock_inner();
        let fault = inner.fault_of(&operation);
        let result = act(&inner.state, fault);
        let after = inner.state.clone();
        inner.log.push(Arc::new(Logged { operation, after }));
        result
    }
}

impl Inner {
    /// Returns what is to go wrong with the next operation.
    fn fault_of(&self, operation: &DiskOperation) -> Option<Fault> {
        let number = self.log.len();
        let once = self.faults.iter().find(|(at, fault)| *at == number && fault.strikes(operation));
        let stays = || self.for_good.iter().find(|(path, fault)| path == operation.path() && fault.strikes(operation));
        once.map(|(_, fault)| *fault).or_else(|| stays().map(|(_, fault)| *fault))
    }

    fn state_after(&self, operations: usize) -> Arc<DiskState> {
        let last = operations.checked_sub(1).and_then(|last| self.log.get(last).or(self.log.last()));
        last.map_or_else(|| self.first.clone(), |logged| logged.after.clone())
    }
}

/// The faults of operations that either happen or do not.
fn unless(fault: Option<Fault>) -> io::Result<()> {
    fault.map_or(Ok(()), |fault| Err(fault.error()))
}

fn missing(path: &Path) -> io::Error {
    io::Error::new(io::ErrorKind::NotFound, format!("there is no {}", path.display()))
}

impl DiskState {
    fn file(&self, path: &Path) -> io::Result<FileId> {
        match self.seen.get(path) {
            Some(DiskEntry::File(file)) => Ok(*file),
            Some(DiskEntry::Folder) => Err(io::Error::from(io::ErrorKind::IsADirectory)),
            None => Err(missing(path)),
        }
    }

    fn folder(&self, path: &Path) -> io::Result<()> {
        match self.seen.get(path) {
            Some(DiskEntry::Folder) => Ok(()),
            Some(DiskEntry::File(_)) => Err(io::Error::from(io::ErrorKind::NotADirectory)),
            None if path.as_os_str().is_empty() => Ok(()),
            None => Err(missing(path)),
        }
    }

    fn change(&mut self, goes: Option<&Path>, comes: Option<(&Path, DiskEntry)>, operation: usize) {
        let goes = goes.map(Path::to_path_buf);
        let comes = comes.map(|(path, entry)| (path.to_path_buf(), entry));
        let change = NameChange { goes, comes, operation };
        change.apply(&mut self.seen);
        self.pending.push(change);
    }

    fn make_file(&mut self, path: &Path, operation: usize) -> FileId {
        let file = self.next;
        self.next += 1;
        self.files.insert(file, Content::default());
        self.change(None, Some((path, DiskEntry::File(file))), operation);
        file
    }

    fn rename(&mut self, from: &Path, to: &Path, operation: usize) -> io::Result<()> {
        let file = self.file(from)?;
        self.folder(to.parent().unwrap_or(Path::new("")))?;
        self.change(Some(from), Some((to, DiskEntry::File(file))), operation);
        Ok(())
    }

    /// Forgets the files that no name, seen or possible, leads to.
    fn forget(&mut self) {
        let coming = self.pending.iter().filter_map(|change| change.comes.as_ref().map(|(_, entry)| *entry));
        let all = self.seen.values().chain(self.durable.values()).copied().chain(coming);
        let known: BTreeSet<FileId> = all
            .filter_map(|entry| match entry {
                DiskEntry::File(file) => Some(file),
                DiskEntry::Folder => None,
            })
            .collect();
        self.files.retain(|file, _| known.contains(file));
    }
}

impl NameChange {
    pub(crate) fn apply(&self, names: &mut NameTable) {
        if let Some(path) = &self.goes {
            names.remove(path);
        }
        if let Some((path, entry)) = &self.comes {
            names.insert(path.clone(), *entry);
        }
    }

    /// The folders whose sync makes it durable.
    fn folders(&self) -> impl Iterator<Item = &Path> {
        let paths = self.goes.iter().chain(self.comes.iter().map(|(path, _)| path));
        paths.filter_map(|path| path.parent())
    }
}

impl Disk for SimDisk {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.operate(DiskOperation::MakeFolder(path.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            state.folder(path.parent().unwrap_or(Path::new("")))?;
            if state.seen.contains_key(path) {
                return Err(io::Error::from(io::ErrorKind::AlreadyExists));
            }
            state.change(None, Some((path, DiskEntry::Folder)), number);
            Ok(())
        })
    }

    fn is_folder(&self, path: &Path) -> io::Result<bool> {
        self.observe(DiskOperation::LookAt(path.to_path_buf()), |state, fault| {
            unless(fault)?;
            Ok(state.folder(path).is_ok())
        })
    }

    fn kind(&self, path: &Path) -> io::Result<Option<EntryKind>> {
        self.observe(DiskOperation::LookAt(path.to_path_buf()), |state, fault| {
            unless(fault)?;
            Ok(state.seen.get(path).map(|entry| match entry {
                DiskEntry::Folder => EntryKind::Folder,
                DiskEntry::File(file) => EntryKind::File(state.files[file].seen.len() as u64),
            }))
        })
    }

    /// Nothing of it changes by itself, so that nobody need wait.
    fn pause(&self, _: Duration) {}

    fn list(&self, folder: &Path) -> io::Result<Vec<String>> {
        self.observe(DiskOperation::List(folder.to_path_buf()), |state, fault| {
            unless(fault)?;
            state.folder(folder)?;
            let inside = state.seen.keys().filter(|path| path.parent() == Some(folder));
            Ok(inside.filter_map(|path| Some(path.file_name()?.to_str()?.to_owned())).collect())
        })
    }

    fn read(&self, path: &Path, most: u64) -> io::Result<Vec<u8>> {
        self.observe(DiskOperation::Read(path.to_path_buf()), |state, fault| {
            let file = state.file(path)?;
            let bytes = &state.files[&file].seen;
            let most = usize::try_from(most).unwrap_or(usize::MAX).min(bytes.len());
            match fault {
                Some(Fault::ShortRead) => Ok(bytes[..most / 2].to_vec()),
                Some(fault) => Err(fault.error()),
                None => Ok(bytes[..most].to_vec()),
            }
        })
    }

    fn create_new(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let file = self.operate(DiskOperation::Create(path.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            state.folder(path.parent().unwrap_or(Path::new("")))?;
            if state.seen.contains_key(path) {
                return Err(io::Error::from(io::ErrorKind::AlreadyExists));
            }
            Ok(state.make_file(path, number))
        })?;
        Ok(Box::new(SimFile { disk: self.clone(), path: path.to_path_buf(), file }))
    }

    fn create(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let file = self.operate(DiskOperation::Create(path.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            state.folder(path.parent().unwrap_or(Path::new("")))?;
            if state.seen.contains_key(path) {
                let file = state.file(path)?;
                let content = state.files.entry(file).or_default();
                (content.seen, content.lost) = (Arc::default(), false);
                return Ok(file);
            }
            Ok(state.make_file(path, number))
        })?;
        Ok(Box::new(SimFile { disk: self.clone(), path: path.to_path_buf(), file }))
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.operate(DiskOperation::Rename(from.to_path_buf(), to.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            state.rename(from, to, number)
        })
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.operate(DiskOperation::Rename(from.to_path_buf(), to.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            if state.seen.contains_key(to) {
                return Err(io::Error::from(io::ErrorKind::AlreadyExists));
            }
            state.rename(from, to, number)
        })
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        self.operate(DiskOperation::Remove(path.to_path_buf()), |state, number, fault| {
            unless(fault)?;
            state.file(path)?;
            state.change(Some(path), None, number);
            Ok(())
        })
    }

    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        self.operate(DiskOperation::SyncFolder(path.to_path_buf()), |state, _, fault| {
            unless(fault)?;
            state.folder(path)?;
            let pending = std::mem::take(&mut state.pending);
            for change in pending {
                // What also touches another folder waits for that one: nothing is promised about it.
                if change.folders().all(|folder| folder == path) {
                    change.apply(&mut state.durable);
                } else {
                    state.pending.push(change);
                }
            }
            state.forget();
            Ok(())
        })
    }

    fn lock(&self, path: &Path) -> io::Result<Lock> {
        if self.lock_inner().locks.insert(path.to_path_buf()) {
            Ok(Lock::Held(Box::new(SimLock { disk: self.clone(), path: path.to_path_buf() })))
        } else {
            Ok(Lock::Taken(None))
        }
    }
}

struct SimLock {
    disk: SimDisk,
    path: PathBuf,
}

impl HeldLock for SimLock {
    fn is_in_place(&self) -> bool {
        self.disk.lock_inner().locks.contains(&self.path)
    }
}

impl Drop for SimLock {
    fn drop(&mut self) {
        self.disk.lock_inner().locks.remove(&self.path);
    }
}

struct SimFile {
    disk: SimDisk,
    path: PathBuf,
    file: FileId,
}

impl DiskFile for SimFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.disk.operate(DiskOperation::Write(self.path.clone(), bytes.len()), |state, _, fault| {
            let content = state.files.get_mut(&self.file).ok_or_else(|| missing(&self.path))?;
            let written = if fault.is_some() { &bytes[..bytes.len() / 2] } else { bytes };
            Arc::make_mut(&mut content.seen).extend_from_slice(written);
            unless(fault)
        })
    }

    fn sync(&mut self) -> io::Result<()> {
        self.disk.operate(DiskOperation::Sync(self.path.clone()), |state, _, fault| {
            let content = state.files.get_mut(&self.file).ok_or_else(|| missing(&self.path))?;
            content.lost |= fault.is_some();
            unless(fault)?;
            if !content.lost {
                content.durable = content.seen.clone();
            }
            Ok(())
        })
    }
}

impl fmt::Debug for SimDisk {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let inner = self.lock_inner();
        let names: Vec<&PathBuf> = inner.state.seen.keys().collect();
        f.debug_struct("SimDisk").field("seen", &names).field("operations", &inner.log.len()).finish_non_exhaustive()
    }
}
