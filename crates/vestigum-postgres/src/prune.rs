//! Removing old generations and blobs.

use std::collections::BTreeSet;
use std::sync::atomic::Ordering;

use vestigum::{Owner, Pruned, Removable, Store, StoreError};

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
        let pruned = self.prune_step(owner, name, keep);
        // Of a player whom this process does not play, nothing is remembered once it is done.
        if !pruned.as_ref().is_ok_and(|pruned| pruned.more) {
            let mut known = lock(&self.inner.known);
            if known.get(name).is_some_and(|known| !known.plays) {
                known.remove(name);
            }
        }
        pruned
    }

    fn prune_step(&self, owner: &Owner, name: &str, keep: u32) -> Result<Pruned, StoreError> {
        let generations = self.generation_rows(name)?;
        // Nothing is remembered of what is gone.
        let known = {
            let mut known = lock(&self.inner.known);
            let known = known.entry(name.to_owned()).or_default();
            known.verdicts.retain(|generation, _| generations.binary_search(generation).is_ok());
            known.verdicts.clone()
        };
        let keep = keep.max(1) as usize;
        if generations.len() > keep {
            // None are read for nothing; one that is not known yet is read, and remembered, whole or not.
            if let Some(unknown) = generations.iter().rev().find(|generation| !known.contains_key(generation)) {
                let _ = self.read(owner, *unknown);
                return Ok(Pruned { removed: 0, more: true });
            }
            let whole = generations.iter().rev().filter(|generation| known.get(generation) == Some(&true));
            let old: Vec<i64> = whole.skip(keep).map(|generation| signed(*generation)).collect();
            if !old.is_empty() {
                let removed = self.inner.connections.run("remove old saves from", |connection| {
                    let rows = connection.query(REMOVE, &[&name, &old])?;
                    Ok(rows.first().map_or((0, 0), |row| (row.get::<_, i64>(0), row.get::<_, i64>(1))))
                })?;
                if removed.1 > 0 {
                    self.inner.may_have_unmeant.store(true, Ordering::Relaxed);
                }
                let removed = usize::try_from(removed.0).unwrap_or(0);
                return Ok(Pruned { removed, more: self.inner.may_have_unmeant.load(Ordering::Relaxed) });
            }
        }
        // Taken back before the look: another thread may remove a generation meanwhile, and says so again.
        let more = self.inner.may_have_unmeant.swap(false, Ordering::Relaxed) && self.remove_blob()?;
        if more {
            self.inner.may_have_unmeant.store(true, Ordering::Relaxed);
        }
        Ok(Pruned { removed: 0, more })
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
        let mut whole = self.generations(owner)?;
        whole.reverse();
        whole.retain(|generation| self.read(owner, *generation).is_ok());
        Ok(whole.split_off(whole.len().min(keep.max(1) as usize)))
    }
}
