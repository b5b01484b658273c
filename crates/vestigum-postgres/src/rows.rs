//! Images as rows.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

use tokio_postgres::Row;
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;

use vestigum::image::{BlobDigest, BlobError, BlobRef, ImageError};
use vestigum::{
    Commit, Committed, EncodedImage, Image, Lease, MOST_SAVE_BYTES, Newest, Owner, RemoteTrouble, SaveVerdict,
    StoreError, checked_size, leased_to,
};

use crate::client::Answered;
use crate::connections::{Connection, InTransaction};
use crate::leases::{left_in, signed, unsigned};
use crate::trouble::{Trouble, goes_for_all, same};
use crate::{Known, PostgresStore, lock, name_of};

/// The highest generation: JSON tools read numbers up to it exactly.
const LAST_GENERATION: u64 = (1 << 53) - 1;

/// Judges each commit by the lease and the newest generation of its owner, and writes those that are taken, in one statement.
///
/// The rows of leases are locked, in the order of the names: a lease that is being taken is waited for, and one that is taken next waits
/// until this is done, so that whoever has it reads what was written. Of two who follow the same generation the key lets one in.
macro_rules! commit {
    ($locked:literal) => {
        concat!(
            "
    WITH judged AS (
        SELECT given.profile, given.follows, given.place, held.holder, held.token AS held_token,
            greatest(0, extract(epoch FROM held.ends_at - clock_timestamp()) * 1000)::double precision AS left_ms,
            coalesce(found.generation, 0) AS newest,
            found.generation >= given.follows AND found.digest = given.digest AS same,
            held.profile IS NOT NULL AND CASE WHEN given.token IS NULL
                THEN held.holder IS NULL OR held.ends_at <= clock_timestamp()
                ELSE held.holder IS NOT NULL AND held.token = given.token
            END AS allowed,
            held.profile IS NOT NULL AS seen
        FROM unnest($1::text[], $2::bigint[], $3::bigint[], $4::text[]) WITH ORDINALITY
            AS given(profile, follows, token, digest, place)
        LEFT JOIN LATERAL (
            SELECT profile, holder, token, ends_at FROM leases WHERE leases.profile = given.profile ",
            $locked,
            "
        ) AS held ON true
        LEFT JOIN LATERAL (
            SELECT generation, digest FROM images
            WHERE images.profile = given.profile AND generation BETWEEN 1 AND 9007199254740991
            ORDER BY generation DESC LIMIT 1
        ) AS found ON true
    ), written AS (
        INSERT INTO images (profile, generation, digest, saved_at, image)
        SELECT judged.profile, judged.follows + 1, given.digest, given.saved_at, given.image
        FROM judged
        JOIN unnest($4::text[], $5::text[], $6::text[]) WITH ORDINALITY AS given(digest, saved_at, image, place)
            ON given.place = judged.place
        WHERE allowed AND newest <= follows AND same IS NOT TRUE
        ON CONFLICT (profile, generation) DO NOTHING
        RETURNING profile
    )
    SELECT judged.newest, judged.same IS TRUE, judged.allowed, judged.holder, judged.held_token, judged.left_ms,
        written.profile IS NOT NULL, judged.seen
    FROM judged LEFT JOIN written ON written.profile = judged.profile
    ORDER BY judged.place"
        )
    };
}

const COMMIT: &str = commit!("FOR SHARE");

/// Commits and passes over the rows that somebody has locked: one player whose row is stuck keeps no others from being saved.
const COMMIT_UNLOCKED: &str = commit!("FOR SHARE SKIP LOCKED");

/// Commits for those who have a lease and know the newest generation: nobody else can have written since, so only the lease is looked
/// at, under the same lock. Where it wrote fewer than it was given, or a key was there, [`COMMIT`] tells of each what it is.
const COMMIT_LEASED: &str = "
    INSERT INTO images (profile, generation, digest, saved_at, image)
    SELECT given.profile, given.follows + 1, given.digest, given.saved_at, given.image
    FROM unnest($1::text[], $2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::text[])
        AS given(profile, follows, token, digest, saved_at, image)
    JOIN LATERAL (
        SELECT holder, token FROM leases WHERE leases.profile = given.profile FOR SHARE
    ) AS held ON held.token = given.token AND held.holder IS NOT NULL";

/// So that there is a row to lock: a lease that is taken at the same time waits for the commit, or the commit for it.
const LEASE_ROWS: &str = "
    INSERT INTO leases (profile, holder, token, ends_at)
    SELECT profile, NULL, 0, clock_timestamp() FROM unnest($1::text[]) AS given(profile) ORDER BY profile
    ON CONFLICT (profile) DO NOTHING";

/// Those that are there cannot be removed until the transaction ends.
const BLOBS_THERE: &str =
    "SELECT digest, length(bytes)::bigint FROM blobs WHERE digest = ANY($1) ORDER BY digest FOR SHARE";

const BLOBS: &str = "
    INSERT INTO blobs (digest, bytes) SELECT * FROM unnest($1::text[], $2::bytea[]) AS given(digest, bytes) ORDER BY digest
    ON CONFLICT (digest) DO UPDATE SET bytes = excluded.bytes";

const MEANS: &str = "
    INSERT INTO means (profile, generation, digest)
    SELECT * FROM unnest($1::text[], $2::bigint[], $3::text[]) ON CONFLICT DO NOTHING";

/// Takes the lock that a commit takes: a lease that is being taken is waited for.
const LEASE_OF: &str = "
    SELECT holder, token, greatest(0, extract(epoch FROM ends_at - clock_timestamp()) * 1000)::double precision
    FROM leases WHERE profile = $1 FOR SHARE";

const INSERT: &str = "
    INSERT INTO images (profile, generation, digest, saved_at, image) VALUES ($1, $2, $3, $4, $5)
    ON CONFLICT (profile, generation) DO NOTHING RETURNING generation";

const DIGEST_OF: &str = "
    SELECT digest, (SELECT max(generation) FROM images AS all_of WHERE all_of.profile = $1)
    FROM images WHERE profile = $1 AND generation = $2";

impl PostgresStore {
    /// Writes an image under a number of its own, unless something has it.
    pub(crate) fn insert_row(&self, generation: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.may_write()?;
        let owner = image.owner();
        let name = name_of(owner)?;
        checked_size(image, MOST_SAVE_BYTES)?;
        if !(1..=LAST_GENERATION).contains(&generation) {
            return Err(StoreError::NoMoreGenerations { owner: owner.clone() });
        }
        let text = text_of_bytes(owner, generation, image.bytes(generation, self.key.as_ref()))?;
        let blobs: BTreeMap<String, Arc<[u8]>> =
            image.blobs().iter().map(|(digest, bytes)| (digest.to_string(), bytes.clone())).collect();
        let means: Vec<String> = image.blob_digests().iter().map(ToString::to_string).collect();
        let number = signed(generation);
        let inserted = self.inner.connections.run("write to", |connection| {
            connection.query(LEASE_ROWS, &[&vec![name]])?;
            connection.in_a_transaction(|transaction| {
                let held = transaction.query(LEASE_OF, &[&name])?;
                if let Some(row) = held.first() {
                    let (holder, token) = (row.get::<_, Option<String>>(0), unsigned(row.get(1)));
                    if let Err(refused) = leased_to(owner, None, holder.as_deref(), token, left_in(row, 2)) {
                        return Ok(Err(refused));
                    }
                }
                write_blobs(transaction, &blobs)?;
                let digest = image.digest();
                let written = transaction.query(INSERT, &[&name, &number, &digest, &image.saved_at(), &text])?;
                if written.is_empty() {
                    let there = transaction.query(DIGEST_OF, &[&name, &number])?;
                    let same = there.first().is_some_and(|row| row.get::<_, &str>(0) == digest);
                    let newest = there.first().map_or(generation, |row| unsigned(row.get(1)));
                    return Ok(match same {
                        true => Ok(Committed::unchanged(generation)),
                        false => Err(StoreError::Conflict { owner: owner.clone(), newest, follows: generation - 1 }),
                    });
                }
                let (names, numbers) = (vec![name; means.len()], vec![number; means.len()]);
                transaction.query(MEANS, &[&names, &numbers, &means])?;
                Ok(Ok(Committed::written(generation)))
            })
        });
        inserted?
    }

    pub(crate) fn owner_rows(&self) -> Result<Vec<Owner>, StoreError> {
        let rows = self.inner.connections.run("read", |connection| {
            connection.query("SELECT DISTINCT profile FROM images WHERE generation BETWEEN 1 AND 9007199254740991", &[])
        })?;
        let owner = |name: String| if name.is_empty() { Owner::Device } else { Owner::Profile(name) };
        let mut owners: Vec<Owner> = rows.iter().map(|row| owner(row.get(0))).collect();
        // A name that no store gives was put there by somebody else.
        owners.retain(|owner| name_of(owner).is_ok());
        owners.sort();
        Ok(owners)
    }

    pub(crate) fn generation_rows(&self, name: &str) -> Result<Vec<u64>, StoreError> {
        let sql = "SELECT generation FROM images
            WHERE profile = $1 AND generation BETWEEN 1 AND 9007199254740991 ORDER BY generation";
        let rows = self.inner.connections.run("read", |connection| connection.query(sql, &[&name]))?;
        Ok(rows.iter().map(|row| unsigned(row.get(0))).collect())
    }

    /// Rows that this store did not write: where, and why.
    pub(crate) fn foreign_rows(&self) -> Result<Vec<(String, &'static str)>, StoreError> {
        let sql = "SELECT left(profile, 80), generation FROM images
            WHERE generation NOT BETWEEN 1 AND 9007199254740991 OR length(profile) > 60";
        let rows = self.inner.connections.run("read", |connection| connection.query(sql, &[]))?;
        let told = |row: &Row| {
            let (profile, generation): (String, i64) = (row.get(0), row.get(1));
            let why = match generation {
                1..=9_007_199_254_740_991 => "no profile has such a name",
                _ => "this store gives no such number",
            };
            (format!("images, profile '{}', generation {generation}", profile.escape_debug()), why)
        };
        Ok(rows.iter().map(told).collect())
    }

    fn text_of(&self, name: &str, generation: u64) -> Result<Option<String>, StoreError> {
        let sql = "SELECT image FROM images WHERE profile = $1 AND generation = $2";
        let number = signed(generation);
        let rows = self.inner.connections.run("read", |connection| connection.query(sql, &[&name, &number]))?;
        Ok(rows.first().map(|row| row.get(0)))
    }

    pub(crate) fn newest_row(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        let name = name_of(owner)?;
        let sql = "SELECT generation, image, digest FROM images
            WHERE profile = $1 AND generation BETWEEN 1 AND 9007199254740991 ORDER BY generation DESC LIMIT 1";
        let rows = self.inner.connections.run("read", |connection| connection.query(sql, &[&name]))?;
        let found = |newest: (u64, String)| {
            if let Some(known) = lock(&self.inner.known).get_mut(name) {
                known.newest = Some(newest);
            }
        };
        let Some(row) = rows.first() else {
            found((0, String::new()));
            return Ok(None);
        };
        let generation = unsigned(row.get(0));
        let image = self.whole(owner, name, generation, row.get(1));
        if image.is_ok() {
            found((generation, row.get(2)));
        }
        Ok(Some(Newest { generation, image }))
    }

    pub(crate) fn read_row(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let name = name_of(owner)?;
        let text = self.text_of(name, generation).inspect_err(|_| {
            self.remember(name, generation, Some(SaveVerdict::Unread));
        })?;
        match text {
            Some(text) => self.whole(owner, name, generation, &text),
            None => Err(StoreError::NoGeneration { owner: owner.clone(), generation }),
        }
    }

    /// Verifies an image, looks its blobs up, and remembers what came of it: what a prune has looked at once it does not look at again.
    fn whole(&self, owner: &Owner, name: &str, generation: u64, text: &str) -> Result<Image, StoreError> {
        let decoded = Image::decode(text.as_bytes(), self.key.as_ref()).and_then(|image| {
            let misplaced = (&image.owner, image.generation) != (owner, generation);
            if misplaced { Err(ImageError::Misplaced(image.owner, image.generation)) } else { Ok(image) }
        });
        let owner = owner.clone();
        let read = decoded.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged });
        self.remember(name, generation, SaveVerdict::of(&read));
        let mut image = read?;
        if self.look_up_blobs(&mut image)? && self.text_of(name, generation)?.is_none() {
            // It was pruned between the looks at it and at its blobs.
            return Err(StoreError::NoGeneration { owner, generation });
        }
        Ok(image)
    }

    fn remember(&self, name: &str, generation: u64, verdict: Option<SaveVerdict>) {
        if let Some(known) = lock(&self.inner.known).get_mut(name)
            && let Some(verdict) = verdict
        {
            known.verdicts.insert(generation, verdict);
        }
    }

    /// Returns whether one of the blobs is not there.
    fn look_up_blobs(&self, image: &mut Image) -> Result<bool, StoreError> {
        let digests: Vec<String> = image.encoded().blob_digests().iter().map(ToString::to_string).collect();
        if digests.is_empty() {
            return Ok(false);
        }
        let rows = self.inner.connections.run("read", |connection| {
            connection.query("SELECT digest, bytes FROM blobs WHERE digest = ANY($1)", &[&digests])
        })?;
        let found: BTreeMap<String, &[u8]> = rows.iter().map(|row| (row.get(0), row.get(1))).collect();
        let find = |blob: &BlobRef| -> Result<Arc<[u8]>, BlobError> {
            let bytes = found.get(&blob.digest.to_string()).ok_or(BlobError::Missing)?;
            blob.verify(bytes)?;
            Ok((*bytes).into())
        };
        image.find_blobs(find);
        Ok(found.len() < digests.len())
    }

    /// The bytes of a generation, whatever they are worth.
    ///
    /// # Errors
    /// If there is no such generation, or it cannot be read.
    pub fn bytes(&self, owner: &Owner, generation: u64) -> Result<Vec<u8>, StoreError> {
        let text = self.text_of(name_of(owner)?, generation)?;
        text.map(String::into_bytes).ok_or_else(|| StoreError::NoGeneration { owner: owner.clone(), generation })
    }

    /// Returns how many bytes a generation has; none if it is not there.
    ///
    /// # Errors
    /// If it cannot be read.
    pub fn size(&self, owner: &Owner, generation: u64) -> Result<Option<u64>, StoreError> {
        Ok(self.text_of(name_of(owner)?, generation)?.map(|text| text.len() as u64))
    }

    /// Looks up the blobs of an image that was not read by this store: one that a tool took up. What is not there, loading
    /// reports.
    ///
    /// # Errors
    /// If the database cannot be read.
    pub fn find_blobs(&self, image: &mut Image) -> Result<(), StoreError> {
        self.look_up_blobs(image).map(drop)
    }

    /// Commits all of them in one statement. Where the database refuses the statement itself, each is tried alone: what one image holds
    /// must not keep the others from being written.
    pub(crate) fn commit_rows(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        if self.may_write().is_err() {
            return commits.iter().map(|_| self.may_write().map(|()| Committed::unchanged(0))).collect();
        }
        let rows: Vec<Result<CommitRow<'_>, StoreError>> =
            commits.iter().map(|commit| CommitRow::of(self, commit)).collect();
        let given: Vec<&CommitRow<'_>> = rows.iter().filter_map(|row| row.as_ref().ok()).collect();
        let mut done = self.write_rows(&given).into_iter();
        rows.into_iter().map(|row| row.and_then(|_| done.next().unwrap_or(Err(StoreError::Closed)))).collect()
    }

    /// Writes them in the order of their names, which is the order in which all lock.
    fn write_rows(&self, rows: &[&CommitRow<'_>]) -> Vec<Result<Committed, StoreError>> {
        let mut order: Vec<usize> = (0..rows.len()).collect();
        order.sort_by_key(|at| rows[*at].name);
        let mut results: Vec<Option<Result<Committed, StoreError>>> = rows.iter().map(|_| None).collect();
        let (mut leased, mut others) = (Vec::new(), Vec::new());
        let known = lock(&self.inner.known);
        for at in order {
            match way_of(known.get(rows[at].name), rows[at]) {
                Way::Unchanged => results[at] = Some(Ok(Committed::unchanged(rows[at].commit.follows))),
                Way::Leased => leased.push(at),
                Way::Judged => others.push(at),
            }
        }
        drop(known);
        let of = |group: &[usize]| group.iter().map(|at| rows[*at]).collect::<Vec<&CommitRow<'_>>>();
        for (at, result) in leased.iter().zip(self.write_leased(&of(&leased))) {
            results[*at] = Some(result);
        }
        for (at, result) in others.iter().zip(self.write_judged(&of(&others))) {
            results[*at] = Some(result);
        }
        results.into_iter().map(|result| result.unwrap_or(Err(StoreError::Closed))).collect()
    }

    fn write_leased(&self, rows: &[&CommitRow<'_>]) -> Vec<Result<Committed, StoreError>> {
        if rows.is_empty() {
            return Vec::new();
        }
        let written = self.inner.connections.run("write to", |connection| {
            let columns = Columns::of(rows);
            match connection.execute(COMMIT_LEASED, &columns.parameters()) {
                // A row is stuck: who is it is found out below.
                Err(error) if error.is_locked() => Ok(0),
                // A commit whose answer was lost is tried again.
                Err(error) if error.code() == Some(&SqlState::UNIQUE_VIOLATION) => Ok(0),
                written => written,
            }
        });
        match written {
            Ok(written) if written == rows.len() as u64 => {
                let mut known = lock(&self.inner.known);
                rows.iter().map(|row| Ok(written_of(&mut known, row, row.commit.follows))).collect()
            }
            Err(error) if goes_for_all(&error) => rows.iter().map(|_| Err(same(&error))).collect(),
            Ok(_) | Err(_) => {
                let judged = self.write_judged(rows).into_iter();
                let was_written = |(row, result): (&&CommitRow<'_>, Result<Committed, StoreError>)| match result {
                    // What is there already this has written.
                    Ok(committed) if committed.generation == row.commit.follows + 1 => {
                        Ok(self.written(row, row.commit.follows))
                    }
                    result => result,
                };
                rows.iter().zip(judged).map(was_written).collect()
            }
        }
    }

    fn write_judged(&self, rows: &[&CommitRow<'_>]) -> Vec<Result<Committed, StoreError>> {
        if rows.is_empty() {
            return Vec::new();
        }
        let written = self.inner.connections.run("write to", |connection| match write(connection, rows, COMMIT) {
            Err(error) if error.is_locked() => write(connection, rows, COMMIT_UNLOCKED),
            written => written,
        });
        match written {
            Ok(answers) => rows.iter().zip(answers).map(|(row, answer)| self.told(row, answer)).collect(),
            Err(error) if rows.len() > 1 && !goes_for_all(&error) => {
                rows.iter().flat_map(|row| self.write_judged(&[row])).collect()
            }
            Err(error) => rows.iter().map(|_| Err(same(&error))).collect(),
        }
    }

    /// It was written, behind the newest that was there.
    fn written(&self, row: &CommitRow<'_>, newest: u64) -> Committed {
        written_of(&mut lock(&self.inner.known), row, newest)
    }

    fn told(&self, row: &CommitRow<'_>, answer: Answer) -> Result<Committed, StoreError> {
        let owner = row.commit.image.owner();
        let Answer { newest, same, allowed, holder, token, left, written, seen } = answer;
        if !seen {
            let said = format!("the lease of {owner} is locked by another transaction");
            return Err(Trouble::new(RemoteTrouble::Busy, said).told("write to", self.place()));
        }
        if !allowed {
            leased_to(owner, row.commit.lease, holder.as_deref(), token, left)?;
            // It ran out while it was looked at: who tries again may.
            let holder = holder.unwrap_or_default();
            return Err(StoreError::Leased { owner: owner.clone(), holder, left });
        }
        let follows = row.commit.follows;
        if written {
            return Ok(self.written(row, newest));
        }
        if same {
            return Ok(Committed::unchanged(newest));
        }
        // Who was in between is the newest now, or will be seen as such by the next look.
        Err(StoreError::Conflict { owner: owner.clone(), newest: newest.max(follows + 1), follows })
    }
}

/// Describes what is written for one commit.
struct CommitRow<'a> {
    commit: Commit<'a>,
    name: &'a str,
    text: String,
    /// The blobs that it means, those that are lost, too.
    means: BTreeSet<BlobDigest>,
}

impl<'a> CommitRow<'a> {
    fn of(store: &PostgresStore, commit: &Commit<'a>) -> Result<CommitRow<'a>, StoreError> {
        let owner = commit.image.owner();
        let name = name_of(owner)?;
        checked_size(commit.image, MOST_SAVE_BYTES)?;
        if commit.follows >= LAST_GENERATION {
            return Err(StoreError::NoMoreGenerations { owner: owner.clone() });
        }
        // What follows a generation has the next number, also where it is gone: numbers that were used once are never used again.
        let bytes = commit.image.bytes(commit.follows + 1, store.key.as_ref());
        let text = text_of_bytes(owner, commit.follows + 1, bytes)?;
        Ok(CommitRow { commit: *commit, name, text, means: commit.image.blob_digests() })
    }
}

/// Describes how a commit is written.
enum Way {
    /// Not at all: the newest one says the same.
    Unchanged,
    /// With a look at the lease only.
    Leased,
    /// With a look at all there is.
    Judged,
}

fn way_of(known: Option<&Known>, row: &CommitRow<'_>) -> Way {
    let (follows, digest) = (row.commit.follows, row.commit.image.digest());
    let (Some(known), Some(lease), true) = (known, row.commit.lease, row.means.is_empty()) else {
        return Way::Judged;
    };
    match &known.newest {
        // It is durable, whoever has the lease now.
        Some((newest, same)) if *newest == follows && same == digest => Way::Unchanged,
        // A lease that this store has given and not taken back.
        Some((newest, _)) if *newest == follows && known.lease == Some(lease.token()) => Way::Leased,
        Some(_) | None => Way::Judged,
    }
}

/// It was written, behind the newest that was there.
fn written_of(known: &mut HashMap<String, Known>, row: &CommitRow<'_>, newest: u64) -> Committed {
    let generation = row.commit.follows + 1;
    let known = match known.get_mut(row.name) {
        Some(known) => known,
        None => known.entry(row.name.to_owned()).or_default(),
    };
    known.plays = true;
    known.verdicts.insert(generation, SaveVerdict::of_written(row.commit.image));
    let (number, digest) = known.newest.get_or_insert_default();
    *number = generation;
    digest.clear();
    digest.push_str(row.commit.image.digest());
    let mut committed = Committed::written(generation);
    committed.missing = newest < row.commit.follows;
    committed
}

/// Commits as the parameters of a statement.
struct Columns<'a> {
    names: Vec<&'a str>,
    follows: Vec<i64>,
    tokens: Vec<Option<i64>>,
    digests: Vec<&'a str>,
    saved_at: Vec<&'a str>,
    texts: Vec<&'a str>,
}

impl<'a> Columns<'a> {
    fn of(rows: &[&'a CommitRow<'_>]) -> Columns<'a> {
        Columns {
            names: rows.iter().map(|row| row.name).collect(),
            follows: rows.iter().map(|row| signed(row.commit.follows)).collect(),
            tokens: rows.iter().map(|row| row.commit.lease.map(Lease::token).map(signed)).collect(),
            digests: rows.iter().map(|row| row.commit.image.digest()).collect(),
            saved_at: rows.iter().map(|row| row.commit.image.saved_at()).collect(),
            texts: rows.iter().map(|row| row.text.as_str()).collect(),
        }
    }

    fn parameters(&self) -> [&(dyn ToSql + Sync); 6] {
        [&self.names, &self.follows, &self.tokens, &self.digests, &self.saved_at, &self.texts]
    }
}

/// Describes what the database says of one commit.
struct Answer {
    newest: u64,
    same: bool,
    allowed: bool,
    holder: Option<String>,
    token: u64,
    left: Duration,
    written: bool,
    /// Whether the row of the lease could be locked.
    seen: bool,
}

impl Answer {
    fn of(row: &Row) -> Answer {
        Answer {
            newest: unsigned(row.get(0)),
            same: row.get(1),
            allowed: row.get(2),
            holder: row.get(3),
            token: row.get::<_, Option<i64>>(4).map_or(0, unsigned),
            left: left_in(row, 5),
            written: row.get(6),
            seen: row.get(7),
        }
    }
}

fn write(connection: &mut Connection, rows: &[&CommitRow<'_>], commit: &'static str) -> Answered<Vec<Answer>> {
    let without: Vec<&str> = rows.iter().filter(|row| row.commit.lease.is_none()).map(|row| row.name).collect();
    if !without.is_empty() {
        connection.query(LEASE_ROWS, &[&without])?;
    }
    let columns = Columns::of(rows);
    let parameters = columns.parameters();
    if rows.iter().all(|row| row.means.is_empty()) {
        return Ok(connection.query(commit, &parameters)?.iter().map(Answer::of).collect());
    }
    connection.in_a_transaction(|transaction| {
        // Blobs first: an image that is found has them.
        let blobs: BTreeMap<String, Arc<[u8]>> = rows
            .iter()
            .flat_map(|row| row.commit.image.blobs().iter())
            .map(|(digest, bytes)| (digest.to_string(), bytes.clone()))
            .collect();
        write_blobs(transaction, &blobs)?;
        let answers: Vec<Answer> = transaction.query(commit, &parameters)?.iter().map(Answer::of).collect();
        let written = rows.iter().zip(&answers).filter(|(_, answer)| answer.written);
        let (mut names, mut generations, mut digests) = (Vec::new(), Vec::new(), Vec::new());
        for (row, _) in written {
            for digest in &row.means {
                names.push(row.name);
                generations.push(signed(row.commit.follows + 1));
                digests.push(digest.to_string());
            }
        }
        if !names.is_empty() {
            transaction.query(MEANS, &[&names, &generations, &digests])?;
        }
        Ok(answers)
    })
}

/// Writes the blobs that are not there, or of another length.
fn write_blobs(transaction: &mut InTransaction<'_>, blobs: &BTreeMap<String, Arc<[u8]>>) -> Answered<()> {
    if blobs.is_empty() {
        return Ok(());
    }
    let keys: Vec<&String> = blobs.keys().collect();
    let there = transaction.query(BLOBS_THERE, &[&keys])?;
    let there: BTreeMap<String, i64> = there.iter().map(|row| (row.get(0), row.get(1))).collect();
    let missing = blobs.iter().filter(|(digest, bytes)| there.get(*digest).copied() != i64::try_from(bytes.len()).ok());
    let (keys, bytes): (Vec<&String>, Vec<&[u8]>) = missing.map(|(digest, bytes)| (digest, &**bytes)).unzip();
    if !keys.is_empty() {
        transaction.query(BLOBS, &[&keys, &bytes])?;
    }
    Ok(())
}

/// The bytes of an image as a column has them.
fn text_of_bytes(owner: &Owner, generation: u64, bytes: Vec<u8>) -> Result<String, StoreError> {
    let damaged = ImageError::CheckFailed;
    String::from_utf8(bytes).map_err(|_| StoreError::Damaged { owner: owner.clone(), generation, damaged })
}
