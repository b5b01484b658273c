//! The tables, and the versions of them.

use std::io;
use std::path::Path;
use std::time::{Duration, Instant};

use rusqlite::{Connection, ErrorCode, TransactionBehavior};

use vestigum::StoreError;

use crate::{BUSY, failed};

/// Says what marks a file as one of saves: `VSTG`.
const APPLICATION: i32 = 0x5653_5447;

/// The version of the tables that this crate writes.
const VERSION: i32 = 4;

/// Says what leads from the version before to each, the first one from an empty file.
const STEPS: [&str; VERSION as usize] = [
    "CREATE TABLE images (
         profile TEXT NOT NULL,
         generation INTEGER NOT NULL,
         digest TEXT NOT NULL,
         saved_at TEXT NOT NULL,
         image TEXT NOT NULL,
         PRIMARY KEY (profile, generation)
     ) WITHOUT ROWID;
     CREATE TABLE means (
         profile TEXT NOT NULL,
         generation INTEGER NOT NULL,
         digest TEXT NOT NULL,
         PRIMARY KEY (profile, generation, digest)
     ) WITHOUT ROWID;
     CREATE INDEX meant ON means (digest);
     CREATE TABLE blobs (digest TEXT NOT NULL PRIMARY KEY, bytes BLOB NOT NULL) WITHOUT ROWID;",
    "CREATE TABLE leases (
         profile TEXT NOT NULL PRIMARY KEY,
         holder TEXT,
         token INTEGER NOT NULL,
         until_ms INTEGER NOT NULL
     ) WITHOUT ROWID;",
    // Large rows do not stand in the tree of the keys, so that looking one up loads none of its neighbours.
    "CREATE TABLE images_3 (
         profile TEXT NOT NULL,
         generation INTEGER NOT NULL,
         digest TEXT NOT NULL,
         saved_at TEXT NOT NULL,
         image TEXT NOT NULL,
         PRIMARY KEY (profile, generation)
     );
     INSERT INTO images_3 SELECT profile, generation, digest, saved_at, image FROM images;
     DROP TABLE images;
     ALTER TABLE images_3 RENAME TO images;
     CREATE TABLE blobs_3 (digest TEXT NOT NULL PRIMARY KEY, bytes BLOB NOT NULL);
     INSERT INTO blobs_3 SELECT digest, bytes FROM blobs;
     DROP TABLE blobs;
     ALTER TABLE blobs_3 RENAME TO blobs;
     ALTER TABLE leases ADD COLUMN lasts_ms INTEGER NOT NULL DEFAULT 0;
     ALTER TABLE leases ADD COLUMN written INTEGER NOT NULL DEFAULT 0;",
    "CREATE TABLE lines (
         profile TEXT NOT NULL PRIMARY KEY,
         installation TEXT NOT NULL,
         given TEXT NOT NULL
     ) WITHOUT ROWID;",
];

/// Brings a file to the version of this crate.
pub(crate) fn prepare(connection: &mut Connection, path: &Path) -> Result<(), StoreError> {
    let failed = |error| failed(path, "prepare the file of saves", error);
    let found = seen_at_once(connection, path)?;
    write_ahead(connection).map_err(failed)?;
    connection.pragma_update(None, "synchronous", "FULL").map_err(failed)?;
    if found == Some(VERSION) {
        return Ok(());
    }
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)?;
    // Another process may have been first.
    let from = version(&transaction, path)?.unwrap_or(0);
    for step in &STEPS[usize::try_from(from).unwrap_or(0)..] {
        transaction.execute_batch(step).map_err(failed)?;
    }
    transaction.pragma_update(None, "application_id", APPLICATION).map_err(failed)?;
    transaction.pragma_update(None, "user_version", VERSION).map_err(failed)?;
    transaction.commit().map_err(failed)
}

/// Returns whether a file can be read as it is.
pub(crate) fn check(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    match seen_at_once(connection, path)? {
        // Leases came with version 2 and lines with version 4; who only looks asks for none.
        Some(1..=VERSION) => Ok(()),
        _ => Err(refused(path, "it holds no saves yet".into())),
    }
}

/// Lets the file keep a log of what is written. SQLite does not wait by itself where another process does the same just now.
fn write_ahead(connection: &Connection) -> rusqlite::Result<()> {
    let began = Instant::now();
    loop {
        let done = connection.pragma_update(None, "journal_mode", "WAL");
        let busy = done.as_ref().is_err_and(|error| error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy));
        if !busy || began.elapsed() >= BUSY {
            return done;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// The version of the tables as it is at one time: another process may make them just now.
fn seen_at_once(connection: &Connection, path: &Path) -> Result<Option<i32>, StoreError> {
    let failed = |error| failed(path, "read the file of saves", error);
    let transaction = connection.unchecked_transaction().map_err(failed)?;
    let found = version(&transaction, path)?;
    transaction.finish().map_err(failed)?;
    Ok(found)
}

/// The version of the tables of a file, in a transaction; none if it is empty.
fn version(connection: &Connection, path: &Path) -> Result<Option<i32>, StoreError> {
    let failed = |error| failed(path, "read the file of saves", error);
    let pragma = |name: &str| connection.pragma_query_value(None, name, |row| row.get::<_, i32>(0));
    let (application, found) = (pragma("application_id").map_err(failed)?, pragma("user_version").map_err(failed)?);
    let tables: i64 =
        connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0)).map_err(failed)?;
    match (application, found) {
        (0, 0) if tables == 0 => Ok(None),
        (APPLICATION, 1..=VERSION) => Ok(Some(found)),
        (APPLICATION, newer) => {
            let why = format!("its tables have version {newer}, and this program knows versions up to {VERSION}");
            Err(refused(path, format!("{why}; a newer one made it, and nothing was changed")))
        }
        _ => Err(refused(path, "it is a database of something else; nothing was changed".into())),
    }
}

fn refused(path: &Path, why: String) -> StoreError {
    let cause = io::Error::new(io::ErrorKind::InvalidData, why);
    StoreError::Io { action: "use the file of saves", path: path.to_path_buf(), cause }
}
