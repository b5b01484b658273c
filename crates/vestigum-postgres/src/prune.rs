//! Removing old generations and blobs.

use std::collections::BTreeSet;
use std::sync::atomic::Ordering;

use vestigum::{Owner, PruneStep, Pruned, Removable, Store, StoreError, prune_step, removable_generations};

use crate::leases::{signed, unsigned};
use crate::{PostgresStore, lock, name_of};

const REMOVE: &str = "
    WITH gone AS (
        DELETE FROM images WHERE profile = $1 AND generation = ANY($2) RETURNING generation
    ), meant AS (
        DELETE FROM means WHERE profile = $1 AND generation IN (SELECT generation FROM gone) RETURNING digest
    )
    SELECT (SELECT count(*) FROM gone), (SELECT count(*) FROM meant)";

/// One blob that no image means. It is locked first: a commit that means it waits, and writes it anew.
const UNMEANT: &str = "
    SELECT digest FROM blobs
    WHERE NOT EXISTS (SELECT 1 FROM means WHERE means.digest = blobs.digest)
    LIMIT 1 FOR UPDATE";

/// Asked again under the lock, where all commits can be seen.
const REMOVE_BLOB: &str =
    "DELETE FROM blobs WHERE digest = $1 AND NOT EXISTS (SELECT 1 FROM means WHERE means.digest = blobs.digest)";

impl PostgresStore {
    pub(crate) fn prune_rows(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        let pruned = self.prune_one(owner, name, keep);
        // Of a player whom this process does not play, nothing is remembered once it is done.
        if !pruned.as_ref().is_ok_and(|pruned| pruned.more) {
            let mut known = lock(&self.inner.known);
            if known.get(name).is_some_and(|known| !known.plays) {
                known.remove(name);
            }
        }
        pruned
    }

    fn prune_one(&self, owner: &Owner, name: &str, keep: u32) -> Result<Pruned, StoreError> {
        let generations = self.generation_rows(name)?;
        // Nothing is remembered of what is gone.
        let known = {
            let mut known = lock(&self.inner.known);
            let known = known.entry(name.to_owned()).or_default();
            known.verdicts.retain(|generation, _| generations.binary_search(generation).is_ok());
            known.verdicts.clone()
        };
        match prune_step(&generations, &known, keep) {
            PruneStep::Done => {}
            PruneStep::Remove(_) => {
                // All that may go, at once.
                let mut old = Vec::new();
                let mut left = generations.clone();
                while let PruneStep::Remove(generation) = prune_step(&left, &known, keep) {
                    old.push(signed(generation));
                    left.retain(|known| *known != generation);
                }
                let removed = self.remove_rows(name, &old)?;
                return Ok(Pruned { removed, more: true });
            }
            // Remembered from now on, whole or not; another process may have removed it.
            PruneStep::Read(generation) => match self.read(owner, generation) {
                Err(error) if error.may_pass() => return Err(error),
                _ => return Ok(Pruned { removed: 0, more: true }),
            },
            PruneStep::ReadBehind(generation) => {
                let _ = self.read(owner, generation);
                return Ok(Pruned { removed: 0, more: true });
            }
        }
        // Taken back before the look: another thread may remove a generation meanwhile, and says so again.
        let more = self.inner.may_have_unmeant.swap(false, Ordering::Relaxed) && self.remove_blob()?;
        if more {
            self.inner.may_have_unmeant.store(true, Ordering::Relaxed);
        }
        Ok(Pruned { removed: 0, more })
    }

    fn remove_rows(&self, name: &str, generations: &[i64]) -> Result<usize, StoreError> {
        let removed = self.inner.connections.run("remove old saves from", |connection| {
            let rows = connection.query(REMOVE, &[&name, &generations])?;
            Ok(rows.first().map_or((0, 0), |row| (row.get::<_, i64>(0), row.get::<_, i64>(1))))
        })?;
        if removed.1 > 0 {
            self.inner.may_have_unmeant.store(true, Ordering::Relaxed);
        }
        Ok(usize::try_from(removed.0).unwrap_or(0))
    }

    pub(crate) fn remove_rows_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        let going: Vec<i64> =
            self.generation_rows(name)?.into_iter().take_while(|known| *known < generation).map(signed).collect();
        if going.is_empty() { Ok(0) } else { self.remove_rows(name, &going) }
    }

    /// Whether there was one to look at.
    fn remove_blob(&self) -> Result<bool, StoreError> {
        self.inner.connections.run("remove old blobs from", |connection| {
            connection.in_a_transaction(|transaction| {
                let rows = transaction.query(UNMEANT, &[])?;
                let Some(digest) = rows.first().map(|row| row.get::<_, String>(0)) else { return Ok(false) };
                transaction.query(REMOVE_BLOB, &[&digest])?;
                Ok(true)
            })
        })
    }

    /// What pruning an owner to `keep` generations would remove; of blobs [`PostgresStore::removable_blobs`] tells. Reads what it has
    /// not read yet.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub fn removable(&self, owner: &Owner, keep: u32) -> Result<Removable, StoreError> {
        let mut removable = Removable::default();
        for generation in self.removable_generations(owner, keep)? {
            removable.files += 1;
            removable.bytes += self.size(owner, generation)?.unwrap_or(0);
        }
        Ok(removable)
    }

    /// The blobs that nothing would mean any more if every owner were pruned to `keep` generations.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        let mut going = BTreeSet::new();
        for owner in self.owners()? {
            let generations = self.removable_generations(&owner, keep)?;
            let name = name_of(&owner)?.to_owned();
            going.extend(generations.into_iter().map(|generation| (name.clone(), generation)));
        }
        let (means, blobs) = self.inner.connections.run("read", |connection| {
            let means = connection.query("SELECT profile, generation, digest FROM means", &[])?;
            Ok((means, connection.query("SELECT digest, length(bytes)::bigint FROM blobs", &[])?))
        })?;
        let mut meant = BTreeSet::new();
        for row in &means {
            let of: (String, u64) = (row.get(0), unsigned(row.get(1)));
            if !going.contains(&of) {
                meant.insert(row.get::<_, String>(2));
            }
        }
        let mut removable = Removable::default();
        for row in blobs.iter().filter(|row| !meant.contains(&row.get::<_, String>(0))) {
            removable.files += 1;
            removable.bytes += unsigned(row.get(1));
        }
        Ok(removable)
    }

    fn removable_generations(&self, owner: &Owner, keep: u32) -> Result<Vec<u64>, StoreError> {
        removable_generations(self, owner, keep)
    }
}
