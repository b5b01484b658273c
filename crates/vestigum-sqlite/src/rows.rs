//! Images as rows.

use std::sync::Arc;

use rusqlite::{Connection, OptionalExtension, Result as SqlResult, Transaction, TransactionBehavior, params};

use vestigum::image::{BlobDigest, BlobError, BlobRef, ImageError};
use vestigum::{Commit, Committed, EncodedImage, Image, MOST_SAVE_BYTES, Owner, SaveVerdict, StoreError, checked_size};

use crate::busy::{busy_again, is_busy};
use crate::{SqliteStore, lock, name_of};

/// The highest generation: JSON tools read numbers up to it exactly.
const LAST_GENERATION: u64 = (1 << 53) - 1;

/// The generations that this store gives. A row with another number was put there by somebody else, and is a stray.
const GIVEN: &str = "typeof(generation) = 'integer' AND generation BETWEEN 1 AND 9007199254740991";

/// A number as a column has it. None that is given is larger.
pub(crate) fn stored(generation: u64) -> i64 {
    i64::try_from(generation).unwrap_or(i64::MAX)
}

/// Returns the names that are in the table. One that no store gives was put there by somebody else.
pub(crate) fn owners(connection: &Connection) -> SqlResult<Vec<Owner>> {
    let mut statement = connection
        .prepare_cached(&format!("SELECT DISTINCT profile FROM images WHERE typeof(profile) = 'text' AND {GIVEN}"))?;
    let mut owners = Vec::new();
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let Ok(name) = row.get_ref(0)?.as_str() else { continue };
        let owner = if name.is_empty() { Owner::Device } else { Owner::Profile(name.to_owned()) };
        owners.extend(name_of(&owner).is_ok().then(|| owner.clone()));
    }
    owners.sort();
    Ok(owners)
}

pub(crate) fn generations(connection: &Connection, name: &str) -> SqlResult<Vec<u64>> {
    let sql = format!("SELECT generation FROM images WHERE profile = ? AND {GIVEN} ORDER BY generation");
    connection.prepare_cached(&sql)?.query_map([name], |row| row.get(0))?.collect()
}

/// Returns the newest generation of an owner, and what it says it holds; an empty text if that is not a text.
fn newest(connection: &Connection, name: &str) -> SqlResult<Option<(u64, String)>> {
    let sql =
        format!("SELECT generation, digest FROM images WHERE profile = ? AND {GIVEN} ORDER BY generation DESC LIMIT 1");
    let row = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get_ref(1)?.as_str().unwrap_or_default().to_owned()));
    connection.prepare_cached(&sql)?.query_row([name], row).optional()
}

fn text_of(connection: &Connection, name: &str, generation: u64) -> SqlResult<Option<String>> {
    let sql = "SELECT image FROM images WHERE profile = ? AND generation = ?";
    connection.prepare_cached(sql)?.query_row(params![name, stored(generation)], |row| row.get(0)).optional()
}

/// A row that this store did not write: where, and why.
pub(crate) fn foreign(connection: &Connection) -> SqlResult<Vec<(String, &'static str)>> {
    let sql = format!(
        "SELECT typeof(profile) = 'text', quote(profile), quote(generation), {GIVEN} FROM images
         WHERE typeof(profile) <> 'text' OR NOT ({GIVEN})"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    let mut found = Vec::new();
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let (named, numbered): (bool, bool) = (row.get(0)?, row.get(3)?);
        let shown = |at: usize| -> SqlResult<String> {
            let quoted = String::from_utf8_lossy(row.get_ref(at)?.as_bytes().unwrap_or_default()).into_owned();
            Ok(quoted.chars().take(80).collect())
        };
        let why = match (named, numbered) {
            (false, _) => "expected the name of a profile, found another type",
            (true, _) => "this store gives no such number",
        };
        found.push((format!("images, profile {}, generation {}", shown(1)?, shown(2)?), why));
    }
    Ok(found)
}

fn bytes_of(connection: &Connection, digest: &BlobDigest) -> SqlResult<Option<Vec<u8>>> {
    let sql = "SELECT bytes FROM blobs WHERE digest = ?";
    connection.prepare_cached(sql)?.query_row([digest.to_string()], |row| row.get(0)).optional()
}

impl SqliteStore {
    /// Reads a generation and remembers whether it could be read: what a prune has looked at once it does not look at again.
    pub(crate) fn read_row(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let name = name_of(owner)?;
        let read = self.read_whole(owner, name, generation);
        self.judged(name, generation, SaveVerdict::of(&read));
        read
    }

    /// Remembers what reading a generation said of a player whom this process plays or prunes, or forgets it.
    pub(crate) fn judged(&self, name: &str, generation: u64, verdict: Option<SaveVerdict>) {
        let mut verdicts = lock(&self.inner.verdicts);
        match verdict {
            Some(verdict) => {
                if let Some(known) = verdicts.get_mut(name) {
                    known.insert(generation, verdict);
                }
            }
            None => drop(verdicts.get_mut(name).map(|known| known.remove(&generation))),
        }
    }

    fn read_whole(&self, owner: &Owner, name: &str, generation: u64) -> Result<Image, StoreError> {
        let mut connection = self.connection();
        // Image and blobs as they are at one time: another process may prune in between.
        let transaction = connection.transaction().map_err(self.failed("read"))?;
        let text = text_of(&transaction, name, generation).map_err(|error| match is_damage(&error) {
            true => {
                let damaged = ImageError::Unreadable(error.to_string());
                StoreError::Damaged { owner: owner.clone(), generation, damaged }
            }
            false => self.failed("read")(error),
        })?;
        let Some(text) = text else { return Err(StoreError::NoGeneration { owner: owner.clone(), generation }) };
        let mut image = self.decoded(owner, generation, &text)?;
        image.find_blobs(|blob| self.find_blob(&transaction, blob));
        Ok(image)
    }

    fn decoded(&self, owner: &Owner, generation: u64, text: &str) -> Result<Image, StoreError> {
        let image = Image::decode(text.as_bytes(), self.key.as_ref()).and_then(|image| {
            let misplaced = (&image.owner, image.generation) != (owner, generation);
            if misplaced { Err(ImageError::Misplaced(image.owner, image.generation)) } else { Ok(image) }
        });
        image.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged })
    }

    fn find_blob(&self, connection: &Connection, blob: &BlobRef) -> Result<Arc<[u8]>, BlobError> {
        let bytes = bytes_of(connection, &blob.digest).map_err(|error| BlobError::NotRead(error.to_string()))?;
        let bytes = bytes.ok_or(BlobError::Missing)?;
        blob.verify(&bytes)?;
        lock(&self.inner.whole).insert(blob.digest);
        Ok(bytes.into())
    }

    /// The bytes of a generation, whatever they are worth.
    ///
    /// # Errors
    /// If there is no such generation, or it cannot be read.
    pub fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        let sql = "SELECT image FROM images WHERE profile = ? AND generation = ?";
        let connection = self.connection();
        let found = connection.prepare_cached(sql).and_then(|mut statement| {
            let bytes = |row: &rusqlite::Row<'_>| Ok(row.get_ref(0)?.as_bytes().unwrap_or_default().to_vec());
            statement.query_row(params![name_of(owner).unwrap_or_default(), stored(generation)], bytes).optional()
        });
        let found = found.map_err(self.failed("read"))?;
        found.ok_or_else(|| StoreError::NoGeneration { owner: owner.clone(), generation })
    }

    /// Returns how many bytes a generation has; none if it is not there.
    ///
    /// # Errors
    /// If it cannot be read.
    pub fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        match self.bytes(owner, generation) {
            Ok(bytes) => Ok(Some(bytes.len() as u64)),
            Err(StoreError::NoGeneration { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Looks up the blobs of an image that was not read by this store: one that a tool took up. What is not there, loading
    /// reports.
    pub fn find_blobs(&self, image: &mut Image) {
        let connection = self.connection();
        image.find_blobs(|blob| self.find_blob(&connection, blob));
    }

    /// Commits all of them in one transaction. Where something goes wrong with the file itself, each is tried alone: a batch that
    /// finds no room may hold one that does.
    pub(crate) fn commit_rows(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        match self.commit_at_once(commits) {
            Ok(results) => results,
            Err(error) if commits.len() == 1 => vec![Err(error)],
            // Another process writes: it would be waited for once for each of them.
            Err(error) if is_busy(&error) => commits.iter().map(|_| Err(busy_again(&error))).collect(),
            Err(_) => commits.iter().flat_map(|commit| self.commit_rows(std::slice::from_ref(commit))).collect(),
        }
    }

    fn commit_at_once(&self, commits: &[Commit<'_>]) -> Result<Vec<Result<Committed, StoreError>>, StoreError> {
        let failed = self.failed("write");
        let mut connection = self.to_write()?;
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
        let mut results = Vec::with_capacity(commits.len());
        for commit in commits {
            results.push(self.commit_in(&transaction, commit).map_err(&failed)?);
        }
        transaction.commit().map_err(&failed)?;
        for (commit, result) in commits.iter().zip(&results) {
            if let Ok(committed) = result
                && committed.written
            {
                let verdict = SaveVerdict::of_written(commit.image);
                let mut verdicts = lock(&self.inner.verdicts);
                let known = verdicts.entry(name_of(commit.image.owner())?.to_owned()).or_default();
                known.insert(committed.generation, verdict);
                lock(&self.inner.whole).extend(commit.image.blobs().iter().map(|(digest, _)| *digest));
            }
        }
        Ok(results)
    }

    /// Returns what becomes of one commit of a transaction. Nothing is written for one that is refused.
    fn commit_in(
        &self,
        transaction: &Transaction<'_>,
        commit: &Commit<'_>,
    ) -> SqlResult<Result<Committed, StoreError>> {
        let Commit { follows, image, lease } = *commit;
        let owner = image.owner();
        let name = match name_of(owner) {
            Ok(name) => name,
            Err(refused) => return Ok(Err(refused)),
        };
        if let Err(refused) = checked_size(image, MOST_SAVE_BYTES) {
            return Ok(Err(refused));
        }
        if let Err(refused) = self.allows(transaction, owner, name, lease)? {
            return Ok(Err(refused));
        }
        let found = newest(transaction, name)?;
        let highest = found.as_ref().map_or(0, |(generation, _)| *generation);
        let missing = highest < follows;
        if let Some((generation, digest)) = &found
            && digest == image.digest()
            && !missing
        {
            let text = text_of(transaction, name, *generation)
                .or_else(|error| if is_damage(&error) { Ok(None) } else { Err(error) })?;
            if text.is_some_and(|text| self.decoded(owner, *generation, &text).is_ok()) {
                // The image is there; a blob of it may have been damaged.
                self.write_blobs(transaction, image)?;
                return Ok(Ok(Committed::unchanged(*generation)));
            }
        }
        if highest > follows {
            return Ok(Err(StoreError::Conflict { owner: owner.clone(), newest: highest, follows }));
        }
        // Numbers that were used once are never used again.
        let generation = highest.max(follows) + 1;
        if generation > LAST_GENERATION {
            return Ok(Err(StoreError::NoMoreGenerations { owner: owner.clone() }));
        }
        self.write_blobs(transaction, image)?;
        self.write_image(transaction, name, generation, image)?;
        let mut committed = Committed::written(generation);
        committed.missing = missing;
        Ok(Ok(committed))
    }

    /// Writes an image under a number of its own, unless something has it.
    pub(crate) fn insert_row(&self, generation: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let (owner, failed) = (image.owner(), self.failed("write"));
        let name = name_of(owner)?;
        checked_size(image, MOST_SAVE_BYTES)?;
        if !(1..=LAST_GENERATION).contains(&generation) {
            return Err(StoreError::NoMoreGenerations { owner: owner.clone() });
        }
        let mut connection = self.to_write()?;
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
        self.allows(&transaction, owner, name, None).map_err(&failed)??;
        let sql = "SELECT digest = ? FROM images WHERE profile = ? AND generation = ?";
        let same: Option<bool> = transaction
            .prepare_cached(sql)
            .and_then(|mut sql| {
                sql.query_row(params![image.digest(), name, stored(generation)], |row| row.get(0)).optional()
            })
            .map_err(&failed)?;
        let committed = match same {
            Some(false) => {
                let newest = newest(&transaction, name).map_err(&failed)?.map_or(generation, |(newest, _)| newest);
                return Err(StoreError::Conflict { owner: owner.clone(), newest, follows: generation - 1 });
            }
            Some(true) => Committed::unchanged(generation),
            None => {
                self.write_image(&transaction, name, generation, image).map_err(&failed)?;
                Committed::written(generation)
            }
        };
        self.write_blobs(&transaction, image).map_err(&failed)?;
        transaction.commit().map_err(&failed)?;
        Ok(committed)
    }

    fn write_image(
        &self,
        transaction: &Transaction<'_>,
        name: &str,
        generation: u64,
        image: &EncodedImage,
    ) -> SqlResult<()> {
        let bytes = image.bytes(generation, self.key.as_ref());
        let text = std::str::from_utf8(&bytes)?;
        let sql = "INSERT INTO images (profile, generation, digest, saved_at, image) VALUES (?, ?, ?, ?, ?)";
        let row = params![name, stored(generation), image.digest(), image.saved_at(), text];
        transaction.prepare_cached(sql)?.execute(row)?;
        let mut means =
            transaction.prepare_cached("INSERT INTO means (profile, generation, digest) VALUES (?, ?, ?)")?;
        for digest in image.blob_digests() {
            means.execute(params![name, stored(generation), digest.to_string()])?;
        }
        Ok(())
    }

    /// Writes the blobs that are not there, or not whole.
    fn write_blobs(&self, transaction: &Transaction<'_>, image: &EncodedImage) -> SqlResult<()> {
        for (digest, bytes) in image.blobs().iter() {
            let sql = "SELECT length(bytes) FROM blobs WHERE digest = ?";
            let key = digest.to_string();
            let len: Option<usize> = transaction.prepare_cached(sql)?.query_row([&key], |row| row.get(0)).optional()?;
            let there = len == Some(bytes.len());
            let known = lock(&self.inner.whole).contains(digest);
            if there && (known || bytes_of(transaction, digest)?.is_some_and(|found| found == **bytes)) {
                continue;
            }
            let sql = "INSERT OR REPLACE INTO blobs (digest, bytes) VALUES (?, ?)";
            transaction.prepare_cached(sql)?.execute(params![key, &bytes[..]])?;
        }
        Ok(())
    }
}

/// Returns whether a row is damaged, so that no later try reads it: another type than the table has, or a broken page. Everything else
/// is the file's trouble, and the save may be whole.
fn is_damage(error: &rusqlite::Error) -> bool {
    use rusqlite::Error;
    match error {
        Error::InvalidColumnType(..)
        | Error::FromSqlConversionFailure(..)
        | Error::IntegralValueOutOfRange(..)
        | Error::Utf8Error(..) => true,
        error => error.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseCorrupt),
    }
}
