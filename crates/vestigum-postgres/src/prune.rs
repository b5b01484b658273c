//! Removing old generations and blobs.

use std::collections::BTreeSet;

use vestigum::{Owner, PruneStep, Pruned, Removable, Store, StoreError, prune_step, removable_generations};

use crate::leases::{signed, unsigned};
use crate::{PostgresStore, lock, name_of};

const REMOVE: &str = "
    WITH gone AS (
        DELETE FROM images WHERE profile = $1 AND generation = ANY($2) RETURNING generation
    ), meant AS (
        DELETE FROM means WHERE profile = $1 AND generation IN (SELECT generation FROM gone) RETURNING digest
    )
    SELECT NULL AS digest FROM gone UNION ALL SELECT digest FROM meant";

/// Says what processes before have left; from then on it is known what each removal has meant.
const ALL_UNMEANT: &str = "
    SELECT digest FROM blobs WHERE NOT EXISTS (SELECT 1 FROM means WHERE means.digest = blobs.digest)";

/// One blob is locked first: a commit that means it waits, and writes it anew.
const LOCK_BLOB: &str = "SELECT digest FROM blobs WHERE digest = $1 FOR UPDATE";

/// Asked again under the lock, where all commits can be seen.
const REMOVE_BLOB: &str =
    "DELETE FROM blobs WHERE digest = $1 AND NOT EXISTS (SELECT 1 FROM means WHERE means.digest = blobs.digest)";

/// The blobs that may be meant by no image any more.
#[derive(Default)]
pub(crate) struct Unmeant {
    /// Whether all were looked through: once in each process.
    scanned: bool,
    candidates: BTreeSet<String>,
}

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
        let more = self.remove_blob()?;
        Ok(Pruned { removed: 0, more })
    }

    fn remove_rows(&self, name: &str, generations: &[i64]) -> Result<usize, StoreError> {
        let rows = self
            .inner
            .connections
            .run("remove old saves from", |connection| connection.query(REMOVE, &[&name, &generations]))?;
        let meant: Vec<String> = rows.iter().filter_map(|row| row.get(0)).collect();
        let removed = rows.len() - meant.len();
        lock(&self.inner.unmeant).candidates.extend(meant);
        Ok(removed)
    }

    pub(crate) fn remove_rows_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        let going: Vec<i64> =
            self.generation_rows(name)?.into_iter().take_while(|known| *known < generation).map(signed).collect();
        if going.is_empty() { Ok(0) } else { self.remove_rows(name, &going) }
    }

    /// Removes one blob that no image means any more. Answers whether there may be another.
    fn remove_blob(&self) -> Result<bool, StoreError> {
        const ACTION: &str = "remove old blobs from";
        let scans = !std::mem::replace(&mut lock(&self.inner.unmeant).scanned, true);
        if scans {
            let found = self.inner.connections.run(ACTION, |connection| connection.query(ALL_UNMEANT, &[]));
            let found = found.inspect_err(|_| lock(&self.inner.unmeant).scanned = false)?;
            lock(&self.inner.unmeant).candidates.extend(found.iter().map(|row| row.get::<_, String>(0)));
        }
        let Some(digest) = lock(&self.inner.unmeant).candidates.pop_first() else { return Ok(false) };
        self.inner.connections.run(ACTION, |connection| {
            connection.in_a_transaction(|transaction| {
                transaction.query(LOCK_BLOB, &[&digest])?;
                transaction.query(REMOVE_BLOB, &[&digest]).map(drop)
            })
        })?;
        Ok(!lock(&self.inner.unmeant).candidates.is_empty())
    }

    /// Returns what pruning an owner to `keep` generations would remove; of blobs [`PostgresStore::removable_blobs`] tells. Reads what it has
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
