//! Writing a generation so that it survives what may come.

use std::io;
use std::path::{Path, PathBuf};

use vestigum_core::{EncodedImage, Owner};

use super::folders::settle_folder;
use super::known::Known;
use super::names::{LAST_GENERATION, TEMPORARY};
use super::{DirStore, Inner, Turn, io_error, lock, take_lock};
use crate::disk::DiskFile;
use crate::store::{Committed, SaveVerdict, Store, StoreError, checked_size, prove, random};

impl DirStore {
    /// Writes an image as the next generation, unless the newest one holds the same progress.
    pub(super) fn commit_one(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let owner = image.owner();
        checked_size(image, self.most)?;
        let turn = self.turn(owner)?;
        let mut turn = lock(&turn);
        self.keep_place()?;
        let folder = self.folder(owner)?;
        let (mut known, missing) = self.known(&mut turn, owner, follows)?;
        if missing {
            tracing::warn!(%owner, "saves were removed while the game runs; this one is written again");
        }
        // Also where the image is not written anew: somebody may have removed a blob.
        let needed = match self.write_blobs(image.blobs()) {
            Ok(needed) => needed,
            Err(error) => {
                *turn = Some(known);
                return Err(error);
            }
        };
        // A commit that failed may have left a newer name, and a launch would take that: then this one is written again.
        let is_newest = known.highest == known.generation;
        if is_newest && known.digest.as_deref() == Some(image.digest()) {
            // Another process may have left the name without making it durable: then it is not there for good.
            if !known.synced {
                self.sync(&folder)?;
                known.synced = true;
            }
            let committed = Committed { missing, ..Committed::unchanged(known.generation) };
            *turn = Some(known);
            return Ok(committed);
        }
        // Numbers in between are of commits of this process that failed, and may be there all the same.
        if !(known.generation..=known.highest).contains(&follows) {
            let newest = known.generation;
            *turn = Some(known);
            return Err(StoreError::Conflict { owner: owner.clone(), newest, follows });
        }
        let generation = self.next_generation(owner, &known)?;
        let bytes = image.bytes(generation, self.key.as_ref());
        prove(image, generation, &bytes, self.key.as_ref())?;
        let written = self.write(&folder, generation, &bytes);
        let highest = known.highest.max(generation);
        let known = match &written {
            Ok(()) => Known { generation, digest: Some(image.digest().to_owned()), highest, synced: true },
            // The number is used up, and the name may be there without being durable.
            Err(failed) if failed.named => Known { highest, synced: false, ..known },
            Err(_) => known,
        };
        *turn = Some(known);
        written.map_err(|failed| failed.error)?;
        self.note_mentions(&folder, generation, &bytes, image.blobs());
        drop(needed);
        self.judged(owner, generation, Some(SaveVerdict::of_written(image)));
        Ok(Committed { missing, ..Committed::written(generation) })
    }

    /// Writes an image under a number of its own, unless something has it.
    pub(super) fn insert_one(&self, generation: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let owner = image.owner();
        checked_size(image, self.most)?;
        let turn = self.turn(owner)?;
        let mut turn = lock(&turn);
        self.keep_place()?;
        if !(1..=LAST_GENERATION).contains(&generation) {
            return Err(StoreError::NoMoreGenerations { owner: owner.clone() });
        }
        let folder = self.folder(owner)?;
        // What was known of the owner may be another generation after this.
        *turn = None;
        match self.read(owner, generation) {
            Ok(there) if there.digest() == image.digest() => {
                let _needed = self.write_blobs(image.blobs())?;
                self.sync(&folder)?;
                return Ok(Committed::unchanged(generation));
            }
            Ok(_) | Err(StoreError::Damaged { .. }) => {
                let newest = self.generations(owner)?.last().copied().unwrap_or(generation);
                return Err(StoreError::Conflict { owner: owner.clone(), newest, follows: generation - 1 });
            }
            Err(StoreError::NoGeneration { .. }) => {}
            Err(error) => return Err(error),
        }
        let needed = self.write_blobs(image.blobs())?;
        let bytes = image.bytes(generation, self.key.as_ref());
        prove(image, generation, &bytes, self.key.as_ref())?;
        self.write(&folder, generation, &bytes).map_err(|failed| failed.error)?;
        self.note_mentions(&folder, generation, &bytes, image.blobs());
        drop(needed);
        self.judged(owner, generation, Some(SaveVerdict::of_written(image)));
        Ok(Committed::written(generation))
    }

    pub(super) fn look(&self, owner: &Owner) -> Result<Known, StoreError> {
        let highest = self.generations(owner)?.last().copied().unwrap_or(0);
        let digest = if highest == 0 { None } else { self.read(owner, highest).ok().map(|image| image.digest()) };
        Ok(Known { generation: highest, digest, highest, synced: false })
    }

    /// Returns what is known of an owner, held against what is there: somebody may have removed files while the game runs.
    /// Answers whether what the caller follows is missing.
    fn known(&self, turn: &mut Turn, owner: &Owner, follows: u64) -> Result<(Known, bool), StoreError> {
        if let Some(known) = turn
            && (known.generation == 0 || self.size(owner, known.generation)?.is_some())
        {
            let missing = known.highest < follows;
            return Ok((Known { highest: known.highest.max(follows), ..known.clone() }, missing));
        }
        let before = turn.take().unwrap_or_default();
        let found = self.look(owner)?;
        let missing = before.generation > found.generation || found.highest < follows;
        // Numbers that were used once are never used again.
        let highest = found.highest.max(before.highest).max(follows);
        let digest = found.digest.clone().filter(|_| !missing);
        Ok((Known { highest, digest, ..found }, missing))
    }

    /// Makes sure that the save folder is still the one that this process has locked.
    fn keep_place(&self) -> Result<(), StoreError> {
        let Some(held) = &self.inner.lock else { return Ok(()) };
        let mut held = lock(held);
        if held.is_in_place() {
            return Ok(());
        }
        let Inner { disk, root, settled, .. } = &*self.inner;
        let mut settled = lock(settled);
        settled.clear();
        settle_folder(&**disk, root, &mut settled).map_err(io_error("make the save folder", root))?;
        *held = take_lock(&**disk, root)?;
        tracing::warn!(folder = %root.display(), "the save folder was removed while the game runs; it is made again");
        Ok(())
    }

    /// The number of the next generation.
    fn next_generation(&self, owner: &Owner, known: &Known) -> Result<u64, StoreError> {
        if known.highest < LAST_GENERATION {
            return Ok(known.highest + 1);
        }
        // Something has the last number that there is. Unless it is a whole image, numbers below it are free.
        let generations = self.generations(owner)?;
        let mut above = 1;
        for generation in generations.iter().rev() {
            match self.read(owner, *generation) {
                Ok(_) => {
                    above = generation + 1;
                    break;
                }
                Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
                // It may be whole.
                Err(error) => return Err(error),
            }
        }
        (above..=LAST_GENERATION)
            .find(|number| generations.binary_search(number).is_err())
            .ok_or_else(|| StoreError::NoMoreGenerations { owner: owner.clone() })
    }

    /// The commit sequence. Until the rename the file has a name that nobody reads, and after it the content is
    /// durable already; the caller hears of success only when the name is, too.
    fn write(&self, folder: &Path, generation: u64, bytes: &[u8]) -> Result<(), NotWritten> {
        let disk = &*self.inner.disk;
        let before = |error| NotWritten { error, named: false };
        let after = |error| NotWritten { error, named: true };
        self.settle(folder).map_err(io_error("make", folder)).map_err(before)?;
        let target = folder.join(format!("{generation}.json"));
        let (temporary, mut file) = self.temporary(folder, &generation.to_string()).map_err(before)?;
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
    pub(super) fn temporary(&self, folder: &Path, what: &str) -> Result<(PathBuf, Box<dyn DiskFile>), StoreError> {
        for attempt in 0..TEMPORARY_TRIES {
            // Names that nobody can have taken on purpose.
            let name = if attempt == 0 { String::new() } else { format!("-{:016x}", random()) };
            let path = folder.join(format!("{TEMPORARY}{what}{name}"));
            match self.inner.disk.create_new(&path) {
                Ok(file) => return Ok((path, file)),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(io_error("write into", folder)(error)),
            }
        }
        Err(io_error("write into", folder)(io::Error::from(io::ErrorKind::AlreadyExists)))
    }
}

/// At most 5 names are tried for a file that is being written.
const TEMPORARY_TRIES: u32 = 5;

/// A write that failed.
struct NotWritten {
    error: StoreError,
    /// Whether the file may have its name all the same.
    named: bool,
}
