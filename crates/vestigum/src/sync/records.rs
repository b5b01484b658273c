//! Where records of syncs are kept.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::dir_store::{folder_name, settle_folder};
use crate::disk::{Disk, RealDisk};
use crate::store::StoreError;

/// Where a [`PlayerSync`](super::PlayerSync) keeps what both places had last: a few saves of each player. It belongs to one device.
pub trait SyncRecords: Send + Sync {
    /// The record of a player, if there is one.
    ///
    /// # Errors
    /// If the place cannot be read.
    fn read(&self, player: &str) -> Result<Option<Vec<u8>>, StoreError>;

    /// Replaces the record of a player: atomic, and durable when it returns.
    ///
    /// # Errors
    /// If the place cannot be written. The record is as it was.
    fn write(&self, player: &str, record: &[u8]) -> Result<(), StoreError>;
}

/// Records in memory, for tests.
#[derive(Clone, Debug, Default)]
pub struct MemoryRecords {
    kept: Arc<Mutex<BTreeMap<String, Vec<u8>>>>,
}

impl SyncRecords for MemoryRecords {
    fn read(&self, player: &str) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(self.kept.lock().unwrap_or_else(PoisonError::into_inner).get(player).cloned())
    }

    fn write(&self, player: &str, record: &[u8]) -> Result<(), StoreError> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).insert(player.to_owned(), record.to_vec());
        Ok(())
    }
}

/// A record larger than this was not written by a sync.
const LARGEST: u64 = 1 << 30;

/// Records in a folder of their own, one file for each player.
#[derive(Clone, Debug)]
pub struct SyncFolder {
    disk: Arc<dyn Disk>,
    root: PathBuf,
    /// The folders whose names this process has made durable: another one may have made them and died.
    settled: Arc<Mutex<BTreeSet<PathBuf>>>,
}

impl SyncFolder {
    /// The folder; it is made at the first sync, inside one that is there.
    pub fn new(folder: impl Into<PathBuf>) -> SyncFolder {
        SyncFolder::on(Arc::new(RealDisk), folder)
    }

    /// The same on another disk.
    pub fn on(disk: Arc<dyn Disk>, folder: impl Into<PathBuf>) -> SyncFolder {
        SyncFolder { disk, root: folder.into(), settled: Arc::default() }
    }

    fn path(&self, player: &str) -> Result<PathBuf, StoreError> {
        Ok(self.root.join(format!("{}.sync", folder_name(player)?)))
    }

    fn make(&self) -> Result<(), StoreError> {
        let mut settled = self.settled.lock().unwrap_or_else(PoisonError::into_inner);
        settle_folder(&*self.disk, &self.root, &mut settled).map_err(failed("make", &self.root))
    }
}

fn failed(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.to_owned();
    move |cause| StoreError::Io { action, path, cause }
}

impl SyncRecords for SyncFolder {
    fn read(&self, player: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let path = self.path(player)?;
        match self.disk.read(&path, LARGEST) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(failed("read", &path)(error)),
        }
    }

    fn write(&self, player: &str, record: &[u8]) -> Result<(), StoreError> {
        self.make()?;
        let path = self.path(player)?;
        let temporary = path.with_extension("syncing");
        // What lies there from a crash, or was put there, is not written into: it may have another name elsewhere.
        let mut file = match self.disk.create_new(&temporary) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                self.disk.remove(&temporary).map_err(failed("remove", &temporary))?;
                self.disk.create_new(&temporary)
            }
            made => made,
        }
        .map_err(failed("write", &temporary))?;
        file.write(record).map_err(failed("write", &temporary))?;
        file.sync().map_err(failed("sync", &temporary))?;
        drop(file);
        self.disk.rename(&temporary, &path).map_err(failed("write", &path))?;
        self.disk.sync_folder(&self.root).map_err(failed("sync", &self.root))
    }
}
