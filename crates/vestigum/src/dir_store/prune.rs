//! Removing old generations, a little at a time: nobody who saves waits for it.

use std::collections::BTreeSet;

use vestigum_core::Owner;

use super::known::{FileVerdict, FileVerdicts};
use super::names::TEMPORARY;
use super::{DirStore, io_error, lock};
use crate::disk::EntryKind;
use crate::store::{Pruned, Store, StoreError};

/// What a prune would remove.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Removable {
    /// How many files.
    pub files: usize,
    /// How many bytes they have.
    pub bytes: u64,
}

impl DirStore {
    /// Reads or removes one file, or syncs one folder; when nothing of the owner is left to do, of the blobs. Nothing is removed before the names that stay are durable: a newer generation that
    /// another process named and never synced may be gone after a power cut.
    pub(super) fn prune_one(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        let turn = self.turn(owner)?;
        let mut turn = lock(&turn);
        let disk = &*self.inner.disk;
        let folder = self.folder(owner)?;
        let names = self.names(&folder)?;
        // Nobody writes while this store has the lock and the turn: these are left from a crash.
        for name in names.iter().filter(|name| name.starts_with(TEMPORARY)) {
            let path = folder.join(name);
            // What is no file was not left by a crash, and removing it would fail for ever.
            if matches!(disk.kind(&path), Some(EntryKind::File(_) | EntryKind::Link)) {
                disk.remove(&path).map_err(io_error("remove", &path))?;
                return Ok(Pruned { removed: 0, more: true });
            }
        }
        let mut room = keep.max(1);
        let verdicts = self.verdicts(owner);
        for generation in self.candidates(owner, &verdicts, keep)? {
            match verdicts.get(&generation) {
                Some(FileVerdict::Bad) => {}
                Some(FileVerdict::Whole) if room > 0 => room -= 1,
                Some(FileVerdict::Whole) => {
                    let synced = turn.as_ref().is_some_and(|known| known.synced);
                    if !synced {
                        self.sync(&folder)?;
                        let known = match turn.take() {
                            Some(known) => known,
                            None => self.look(owner)?,
                        };
                        *turn = Some(super::Known { synced: true, ..known });
                    }
                    let path = self.file(owner, generation)?;
                    self.remove_generation(&folder, generation, &path)?;
                    self.judged(owner, generation, None);
                    return Ok(Pruned { removed: 1, more: true });
                }
                None => {
                    // Remembered from now on, whole or not.
                    let _ = self.read(owner, generation);
                    return Ok(Pruned { removed: 0, more: true });
                }
            }
        }
        // Blobs belong to no owner, so this goes on whatever is kept of this one.
        drop(turn);
        Ok(Pruned { removed: 0, more: self.prune_blobs()? })
    }

    /// The generations of an owner, the newest first, if there may be any to remove: none are read for nothing.
    fn candidates(&self, owner: &Owner, verdicts: &FileVerdicts, keep: u32) -> Result<Vec<u64>, StoreError> {
        let mut generations = self.generations(owner)?;
        generations.retain(|generation| verdicts.get(generation) != Some(&FileVerdict::Bad));
        if generations.len() <= keep.max(1) as usize {
            return Ok(Vec::new());
        }
        generations.reverse();
        Ok(generations)
    }

    /// What pruning an owner to `keep` generations would remove; of its blobs [`DirStore::removable_blobs`] tells. Reads what it
    /// has not read yet.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        let folder = self.folder(owner)?;
        let mut removable = Removable::default();
        for name in self.names(&folder)?.iter().filter(|name| name.starts_with(TEMPORARY)) {
            if let Some(EntryKind::File(bytes)) = self.inner.disk.kind(&folder.join(name)) {
                removable.add(bytes);
            }
        }
        for generation in self.removable_generations(owner, keep)? {
            removable.add(self.size(owner, generation)?.unwrap_or(0));
        }
        Ok(removable)
    }

    /// The blobs that nothing would mean any more if every owner were pruned to `keep` generations. None, if a generation cannot
    /// be read now: it may mean any.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        let mut without = BTreeSet::new();
        for owner in self.owners()? {
            for generation in self.removable_generations(&owner, keep)? {
                without.insert(self.file(&owner, generation)?);
            }
        }
        let mut removable = Removable::default();
        self.blobs_without(&without)?.into_iter().for_each(|bytes| removable.add(bytes));
        Ok(removable)
    }

    fn removable_generations(&self, owner: &Owner, keep: u32) -> Result<Vec<u64>, StoreError> {
        let mut whole = self.candidates(owner, &self.verdicts(owner), keep)?;
        whole.retain(|generation| self.read(owner, *generation).is_ok());
        Ok(whole.split_off(whole.len().min(keep.max(1) as usize)))
    }
}

impl Removable {
    fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes += bytes;
    }
}
