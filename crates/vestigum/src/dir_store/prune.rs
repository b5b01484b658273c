//! Removing old generations, a little at a time: nobody who saves waits for it.

use std::collections::BTreeSet;
use std::path::Path;

use vestigum_core::Owner;

use super::known::Known;
use super::names::TEMPORARY;
use super::{DirStore, Turn, io_error, lock};
use crate::disk::EntryKind;
use crate::store::{PruneStep, Pruned, Store, StoreError, prune_step, removable_generations};

/// Describes what a prune would remove.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Removable {
    /// Says how many files.
    pub files: usize,
    /// Says how many bytes they have.
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
            if matches!(self.kind_of(&path)?, Some(EntryKind::File(_) | EntryKind::Link)) {
                disk.remove(&path).map_err(io_error("remove", &path))?;
                return Ok(Pruned { removed: 0, more: true });
            }
        }
        let generations = self.generations(owner)?;
        match prune_step(&generations, &self.verdicts(owner), keep) {
            PruneStep::Done => {}
            PruneStep::Remove(generation) => {
                self.settle_names(&mut turn, owner, &folder)?;
                self.remove_generation(&folder, generation, &self.file(owner, generation)?)?;
                self.judged(owner, generation, None);
                return Ok(Pruned { removed: 1, more: true });
            }
            // What it says is remembered.
            PruneStep::Read(generation) => match self.read(owner, generation) {
                Err(error) if error.may_pass() => return Err(error),
                _ => return Ok(Pruned { removed: 0, more: true }),
            },
            PruneStep::ReadBehind(generation) => {
                let _ = self.read(owner, generation);
                return Ok(Pruned { removed: 0, more: true });
            }
        }
        // Blobs belong to no owner, so this goes on whatever is kept of this one.
        drop(turn);
        Ok(Pruned { removed: 0, more: self.prune_blobs()? })
    }

    /// Makes sure that the names which stay are durable, before any is removed.
    fn settle_names(&self, turn: &mut Turn, owner: &Owner, folder: &Path) -> Result<(), StoreError> {
        if turn.as_ref().is_some_and(|known| known.synced) {
            return Ok(());
        }
        self.sync(folder)?;
        let known = match turn.take() {
            Some(known) => known,
            None => self.look(owner)?,
        };
        *turn = Some(Known { synced: true, ..known });
        Ok(())
    }

    /// Removes every generation below a number, whatever it is worth, and makes that durable.
    pub(super) fn remove_all_before(&self, owner: &Owner, before: u64) -> Result<usize, StoreError> {
        let turn = self.turn(owner)?;
        let mut turn = lock(&turn);
        let folder = self.folder(owner)?;
        let generations = self.generations(owner)?;
        let going: Vec<u64> = generations.into_iter().take_while(|generation| *generation < before).collect();
        if going.is_empty() {
            return Ok(0);
        }
        self.settle_names(&mut turn, owner, &folder)?;
        for generation in &going {
            self.remove_generation(&folder, *generation, &self.file(owner, *generation)?)?;
            self.judged(owner, *generation, None);
        }
        self.sync(&folder)?;
        Ok(going.len())
    }

    /// Returns what pruning an owner to `keep` generations would remove; of its blobs [`DirStore::removable_blobs`] tells. Reads what it
    /// has not read yet.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        let folder = self.folder(owner)?;
        let mut removable = Removable::default();
        for name in self.names(&folder)?.iter().filter(|name| name.starts_with(TEMPORARY)) {
            if let Some(EntryKind::File(bytes)) = self.kind_of(&folder.join(name))? {
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
        removable_generations(self, owner, keep)
    }
}

impl Removable {
    fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes += bytes;
    }
}
