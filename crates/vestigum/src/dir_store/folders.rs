//! The folders below a save folder: made, made durable, and looked into.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use super::{DirStore, io_error, lock};
use crate::disk::{Disk, EntryKind};
use crate::store::StoreError;

impl DirStore {
    /// The names in a folder below the save folder; none if it is not there. What is no folder itself is not looked into.
    pub(super) fn names(&self, folder: &Path) -> Result<Vec<String>, StoreError> {
        let disk = &*self.inner.disk;
        for part in self.below_root(folder) {
            match self.kind_of(&part)? {
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

    /// Makes sure of a folder before something is written into it.
    pub(super) fn settle(&self, folder: &Path) -> io::Result<()> {
        let disk = &*self.inner.disk;
        let was_settled = lock(&self.inner.settled).contains(folder);
        let is_there = was_settled && disk.kind(folder)? == Some(EntryKind::Folder);
        if is_there {
            return Ok(());
        }
        let mut settled = lock(&self.inner.settled);
        if was_settled {
            // Somebody has removed it: what was known of the folders is worth nothing.
            settled.clear();
        }
        if !settled.contains(folder) {
            for part in self.below_root(folder) {
                if let Some(kind) = disk.kind(&part)?.filter(|kind| *kind != EntryKind::Folder) {
                    return Err(in_the_way(kind));
                }
            }
        }
        settle_folder(disk, &self.inner.root, &mut settled)?;
        settle_folder(disk, folder, &mut settled)
    }

    /// Makes the names in the folder of an owner durable, and the folder's own.
    pub(super) fn sync(&self, folder: &Path) -> Result<(), StoreError> {
        self.settle(folder).map_err(io_error("make", folder))?;
        self.inner.disk.sync_folder(folder).map_err(io_error("sync", folder))
    }
}

/// Says why a name that should be a folder's is not used. It stays so, however often it is asked for.
fn in_the_way(kind: EntryKind) -> io::Error {
    let why = match kind {
        EntryKind::Link => "it is a link, and links below a save folder are not followed",
        EntryKind::File(_) => "expected a folder, found a file",
        EntryKind::Folder | EntryKind::Other => "it is not a folder",
    };
    io::Error::new(io::ErrorKind::NotADirectory, why)
}

/// Returns whether an error says that something else stands where a folder is expected.
pub(super) fn is_in_the_way(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::NotADirectory
}

/// Makes a folder and those above it, and syncs the folder above each, so that the folders themselves survive a power
/// cut. A folder that is there already may be one whose name was never made durable: its maker may have crashed.
pub(crate) fn settle_folder(disk: &dyn Disk, folder: &Path, settled: &mut BTreeSet<PathBuf>) -> io::Result<()> {
    if folder.as_os_str().is_empty() || settled.contains(folder) {
        return Ok(());
    }
    let above = folder.parent().unwrap_or(Path::new(""));
    let made = !disk.is_folder(folder)?;
    if made {
        settle_folder(disk, above, settled)?;
        match disk.make_folder(folder) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists && disk.is_folder(folder)? => {}
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
