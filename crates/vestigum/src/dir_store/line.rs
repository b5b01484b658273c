//! The line of a player in a save folder.
//!
//! ```text
//! profiles/ada/.installation    random characters, made at the first save by play
//! profiles/ada/.given           the saves that other places were given
//! ```
//!
//! The id of the installation is made of those characters and of [what the disk knows of the file](crate::Disk::identity). So a folder
//! that is copied, put back from a backup or mirrored to another machine has another id, though its files are the same.

use std::io;
use std::path::{Path, PathBuf};

use vestigum_core::Owner;
use vestigum_core::origin::InstallationId;

use super::{DirStore, io_error, lock};
use crate::store::{GivenSave, Line, StoreError, in_signs, random};

const INSTALLATION: &str = ".installation";
const GIVEN: &str = ".given";

/// Limits the bytes that are read of such a file: 64 KiB.
const LONGEST: u64 = 64 << 10;

/// Returns whether a file in a player's folder belongs to its line.
pub(super) fn is_of_line(name: &str) -> bool {
    matches!(name, INSTALLATION | GIVEN)
}

impl DirStore {
    pub(super) fn read_line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        let folder = self.folder(owner)?;
        let Some(installation) = self.installation(&folder.join(INSTALLATION))? else { return Ok(None) };
        let given = self.text(&folder.join(GIVEN))?.unwrap_or_default();
        Ok(Some(Line { installation, given: Line::read_given(&given) }))
    }

    pub(super) fn new_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        let turn = self.turn(owner)?;
        let _turn = lock(&turn);
        let folder = self.folder(owner)?;
        self.settle(&folder).map_err(io_error("make", &folder))?;
        let path = folder.join(INSTALLATION);
        self.replace(&path, format!("{:016x}{:016x}\n", random(), random()).as_bytes())?;
        let given = folder.join(GIVEN);
        if self.kind_of(&given)?.is_some() {
            self.replace(&given, b"")?;
        }
        match self.installation(&path)? {
            Some(installation) => Ok(Line::new(installation)),
            None => Err(io_error("read", &path)(io::ErrorKind::NotFound.into())),
        }
    }

    pub(super) fn note_given(&self, owner: &Owner, save: GivenSave) -> Result<(), StoreError> {
        let turn = self.turn(owner)?;
        let _turn = lock(&turn);
        let Some(mut line) = self.read_line(owner)? else { return Ok(()) };
        if line.given.contains(&save) {
            return Ok(());
        }
        line.give(save);
        self.replace(&self.folder(owner)?.join(GIVEN), line.given_text().as_bytes())
    }

    fn installation(&self, path: &Path) -> Result<Option<InstallationId>, StoreError> {
        let Some(seed) = self.text(path)? else { return Ok(None) };
        let identity = self.inner.disk.identity(path).map_err(io_error("look at", path))?;
        let mut hasher = blake3::Hasher::new();
        hasher.update(seed.as_bytes());
        hasher.update(identity.as_bytes());
        let hash = hasher.finalize();
        let (first, _) = hash.as_bytes().split_at(8);
        let number = first.iter().fold(0u64, |number, byte| number << 8 | u64::from(*byte));
        Ok(Some(in_signs(number, 6)))
    }

    fn text(&self, path: &Path) -> Result<Option<String>, StoreError> {
        if self.kind_of(path)?.is_none() {
            return Ok(None);
        }
        match self.inner.disk.read(path, LONGEST) {
            Ok(bytes) => Ok(Some(String::from_utf8_lossy(&bytes).into_owned())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io_error("read", path)(error)),
        }
    }

    /// Writes a small file: whole or as it was, and durable.
    fn replace(&self, path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
        let disk = &*self.inner.disk;
        let folder = path.parent().map(PathBuf::from).unwrap_or_default();
        let temporary = folder.join(format!("{}line", super::names::TEMPORARY));
        // What lies there from a crash, or was put there, is not written into: it may have another name elsewhere.
        let mut file = match disk.create_new(&temporary) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                disk.remove(&temporary).map_err(io_error("remove", &temporary))?;
                disk.create_new(&temporary)
            }
            made => made,
        }
        .map_err(io_error("write", &temporary))?;
        file.write(bytes).map_err(io_error("write", &temporary))?;
        file.sync().map_err(io_error("sync", &temporary))?;
        drop(file);
        disk.rename(&temporary, path).map_err(io_error("write", path))?;
        disk.sync_folder(&folder).map_err(io_error("sync", &folder))
    }
}
