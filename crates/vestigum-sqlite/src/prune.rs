//! Removing old generations and blobs, one at a time.

use std::collections::BTreeSet;

use rusqlite::{Connection, Result as SqlResult, TransactionBehavior, params};

use vestigum::{Owner, PruneStep, Pruned, Removable, Store, StoreError, prune_step, removable_generations};

use crate::{SqliteStore, lock, name_of, rows};

/// The blobs that may be meant by no image any more.
#[derive(Default)]
pub(crate) struct Unmeant {
    /// Whether the whole file was looked through: once in each process.
    scanned: bool,
    candidates: BTreeSet<String>,
}

impl SqliteStore {
    /// Reads or removes one generation, or removes one blob that none means.
    pub(crate) fn prune_row(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        let name = name_of(owner)?;
        let failed = self.failed("remove old saves from");
        let generations = rows::generations(&*self.to_write()?, name).map_err(&failed)?;
        // Nothing is remembered of what is gone.
        let verdicts = {
            let mut verdicts = lock(&self.inner.verdicts);
            let known = verdicts.entry(name.to_owned()).or_default();
            known.retain(|generation, _| generations.binary_search(generation).is_ok());
            known.clone()
        };
        match prune_step(&generations, &verdicts, keep) {
            PruneStep::Done => {}
            PruneStep::Remove(generation) => {
                let mut connection = self.to_write()?;
                let (removed, meant) = remove_generation(&mut connection, name, generation).map_err(&failed)?;
                lock(&self.inner.unmeant).candidates.extend(meant);
                self.judged(name, generation, None);
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
        let more = self.remove_unmeant().map_err(&failed)?;
        Ok(Pruned { removed: 0, more })
    }

    /// Removes one blob that no image means any more. Answers whether there may be another.
    fn remove_unmeant(&self) -> SqlResult<bool> {
        let connection = self.connection();
        let mut unmeant = lock(&self.inner.unmeant);
        if !std::mem::replace(&mut unmeant.scanned, true) {
            // What processes before have left; from then on it is known what each removal has meant.
            let sql = "SELECT digest FROM blobs
                WHERE NOT EXISTS (SELECT 1 FROM means WHERE means.digest = blobs.digest)";
            let mut found = connection.prepare_cached(sql)?;
            let found = found.query_map([], |row| row.get(0))?.collect::<SqlResult<Vec<String>>>()?;
            unmeant.candidates.extend(found);
        }
        let Some(digest) = unmeant.candidates.pop_first() else { return Ok(false) };
        // One statement, so no commit comes between the question and the answer.
        let sql = "DELETE FROM blobs
            WHERE digest = ?1 AND NOT EXISTS (SELECT 1 FROM means WHERE means.digest = ?1)";
        connection.prepare_cached(sql)?.execute([digest])?;
        Ok(!unmeant.candidates.is_empty())
    }

    pub(crate) fn remove_rows_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        let (name, failed) = (name_of(owner)?, self.failed("remove old saves from"));
        let mut connection = self.to_write()?;
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
        let remove = |sql: &str| -> SqlResult<usize> {
            transaction.prepare_cached(sql)?.execute(params![name, rows::stored(generation)])
        };
        let meant = meant_by(&transaction, "profile = ? AND generation < ?", name, generation).map_err(&failed)?;
        let removed = remove("DELETE FROM images WHERE profile = ? AND generation < ?").map_err(&failed)?;
        remove("DELETE FROM means WHERE profile = ? AND generation < ?").map_err(&failed)?;
        transaction.commit().map_err(&failed)?;
        lock(&self.inner.unmeant).candidates.extend(meant);
        if let Some(verdicts) = lock(&self.inner.verdicts).get_mut(name) {
            verdicts.retain(|known, _| *known >= generation);
        }
        Ok(removed)
    }

    /// Returns what pruning an owner to `keep` generations would remove; of blobs [`SqliteStore::removable_blobs`] tells. Reads what it has
    /// not read yet.
    ///
    /// # Errors
    /// If the file cannot be read.
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
    /// If the file cannot be read.
    pub fn removable_blobs(&self, keep: u32) -> Result<Removable, StoreError> {
        let mut going = BTreeSet::new();
        for owner in self.owners()? {
            let name = name_of(&owner)?.to_owned();
            going.extend(
                self.removable_generations(&owner, keep)?.into_iter().map(|generation| (name.clone(), generation)),
            );
        }
        let failed = self.failed("read");
        let connection = self.connection();
        let mut meant = BTreeSet::new();
        let mut statement =
            connection.prepare_cached("SELECT profile, generation, digest FROM means").map_err(&failed)?;
        let rows = statement.query_map([], |row| Ok(((row.get(0)?, row.get(1)?), row.get(2)?))).map_err(&failed)?;
        for row in rows {
            let (of, digest): ((String, u64), String) = row.map_err(&failed)?;
            if !going.contains(&of) {
                meant.insert(digest);
            }
        }
        let mut removable = Removable::default();
        let mut statement = connection.prepare_cached("SELECT digest, length(bytes) FROM blobs").map_err(&failed)?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(&failed)?;
        for row in rows {
            let (digest, len): (String, u64) = row.map_err(&failed)?;
            if !meant.contains(&digest) {
                removable.files += 1;
                removable.bytes += len;
            }
        }
        Ok(removable)
    }

    fn removable_generations(&self, owner: &Owner, keep: u32) -> Result<Vec<u64>, StoreError> {
        removable_generations(self, owner, keep)
    }
}

/// The digests of the blobs that some generations of an owner mean.
fn meant_by(connection: &Connection, which: &str, name: &str, generation: u64) -> SqlResult<Vec<String>> {
    let sql = format!("SELECT digest FROM means WHERE {which}");
    let mut found = connection.prepare_cached(&sql)?;
    found.query_map(params![name, rows::stored(generation)], |row| row.get(0))?.collect()
}

/// Answers how many rows were removed, and which blobs they meant.
fn remove_generation(connection: &mut Connection, name: &str, generation: u64) -> SqlResult<(usize, Vec<String>)> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let which = "profile = ? AND generation = ?";
    let meant = meant_by(&transaction, which, name, generation)?;
    let number = rows::stored(generation);
    let removed = transaction
        .prepare_cached("DELETE FROM images WHERE profile = ? AND generation = ?")?
        .execute(params![name, number])?;
    transaction
        .prepare_cached("DELETE FROM means WHERE profile = ? AND generation = ?")?
        .execute(params![name, number])?;
    transaction.commit()?;
    Ok((removed, meant))
}
