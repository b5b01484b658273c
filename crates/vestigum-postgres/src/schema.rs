//! The tables, and the versions of them.

use tokio_postgres::error::SqlState;

use vestigum::{RemoteTrouble, StoreError};

use crate::client::Answered;
use crate::connections::{Connections, InTransaction, quoted};
use crate::trouble::Trouble;

/// Says what leads from the version before to each, the first one from an empty schema.
const STEPS: [&str; 2] = [
    "CREATE TABLE images (
         profile text NOT NULL,
         generation bigint NOT NULL,
         digest text NOT NULL,
         saved_at text NOT NULL,
         image text NOT NULL,
         PRIMARY KEY (profile, generation)
     );
     CREATE TABLE means (
         profile text NOT NULL,
         generation bigint NOT NULL,
         digest text NOT NULL,
         PRIMARY KEY (profile, generation, digest)
     );
     CREATE INDEX means_digest ON means (digest);
     CREATE TABLE blobs (digest text NOT NULL PRIMARY KEY, bytes bytea NOT NULL);
     CREATE TABLE leases (
         profile text NOT NULL PRIMARY KEY,
         holder text,
         token bigint NOT NULL,
         ends_at timestamptz NOT NULL
     );",
    "CREATE TABLE lines (
         profile text NOT NULL PRIMARY KEY,
         installation text NOT NULL,
         given text NOT NULL
     );",
];

/// The version of the tables that this crate writes.
const VERSION: i64 = STEPS.len() as i64;

/// Tries 20 times while another program makes the tables.
const TRIES: u32 = 20;

fn is_race(code: Option<&SqlState>) -> bool {
    let race = [
        SqlState::UNIQUE_VIOLATION,
        SqlState::DUPLICATE_TABLE,
        SqlState::DUPLICATE_SCHEMA,
        SqlState::DUPLICATE_OBJECT,
        SqlState::INTERNAL_ERROR,
    ];
    code.is_some_and(|code| race.contains(code))
}

/// Brings the tables to the version of this crate.
pub(crate) fn prepare(connections: &Connections) -> Result<(), StoreError> {
    let mut tries = 0;
    loop {
        let mut race = false;
        let prepared = connections.run("prepare the tables of", |connection| {
            let done = connection.in_a_transaction(|transaction| prepare_in(transaction, &connections.schema));
            race = done.as_ref().is_err_and(|error| is_race(error.code()));
            done
        });
        tries += 1;
        match prepared {
            Ok(found) => return known(connections, found.unwrap_or(VERSION)),
            Err(_) if race && tries < TRIES => std::thread::sleep(std::time::Duration::from_millis(10)),
            Err(error) => return Err(error),
        }
    }
}

/// The version that was found; none if there was nothing.
fn prepare_in(transaction: &mut InTransaction<'_>, schema: &str) -> Answered<Option<i64>> {
    let there = transaction.query("SELECT 1 FROM information_schema.schemata WHERE schema_name = $1", &[&schema])?;
    if there.is_empty() {
        transaction.batch(&format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(schema)))?;
    }
    let tables = "SELECT 1 FROM information_schema.tables WHERE table_schema = $1 AND table_name = 'tables'";
    let found = match transaction.query(tables, &[&schema])?.is_empty() {
        true => {
            transaction.batch("CREATE TABLE tables (version bigint NOT NULL PRIMARY KEY)")?;
            None
        }
        // Whoever comes second waits here, and finds that it is done.
        false => version_in(transaction, " FOR UPDATE")?,
    };
    if found.is_some_and(|found| found >= VERSION) {
        return Ok(found);
    }
    let from = usize::try_from(found.unwrap_or(0)).unwrap_or(0);
    for step in STEPS.iter().skip(from) {
        transaction.batch(step)?;
    }
    transaction.batch(&format!("DELETE FROM tables; INSERT INTO tables (version) VALUES ({VERSION})"))?;
    Ok(None)
}

fn version_in(transaction: &mut InTransaction<'_>, lock: &str) -> Answered<Option<i64>> {
    // A column of another type was made by another program, and reading it as a number is an error.
    let rows = transaction.query(&format!("SELECT version FROM tables{lock}"), &[])?;
    Ok(rows.first().map(|row| row.try_get(0)).transpose()?)
}

/// Every column with its type, as the database names it.
const COLUMNS: [(&str, &str, &str); 17] = [
    ("images", "profile", "text"),
    ("images", "generation", "bigint"),
    ("images", "digest", "text"),
    ("images", "saved_at", "text"),
    ("images", "image", "text"),
    ("means", "profile", "text"),
    ("means", "generation", "bigint"),
    ("means", "digest", "text"),
    ("blobs", "digest", "text"),
    ("blobs", "bytes", "bytea"),
    ("leases", "profile", "text"),
    ("leases", "holder", "text"),
    ("leases", "token", "bigint"),
    ("leases", "ends_at", "timestamp with time zone"),
    ("lines", "profile", "text"),
    ("lines", "installation", "text"),
    ("lines", "given", "text"),
];

/// Returns whether the tables have the columns that statements ask for: somebody may have changed them.
fn check_columns(connections: &Connections) -> Result<(), StoreError> {
    let sql = "SELECT table_name::text, column_name::text, data_type::text FROM information_schema.columns WHERE table_schema = $1";
    let rows = connections.run("read the tables of", |connection| connection.query(sql, &[&connections.schema]))?;
    let found: Vec<(String, String, String)> = rows.iter().map(|row| (row.get(0), row.get(1), row.get(2))).collect();
    for (table, column, expected) in COLUMNS {
        let there = found.iter().find(|(of, name, _)| of == table && name == column);
        let found = match there {
            Some((_, _, found)) if found == expected => continue,
            Some((_, _, found)) => found.as_str(),
            None => "none that this role may use",
        };
        let why = format!("expected the column {table}.{column} of type {expected}, found {found}");
        return Err(Trouble::new(RemoteTrouble::Unprepared, why).told("use", &connections.place));
    }
    Ok(())
}

/// Returns why no tables are seen: none are there, or the role may not look at them.
fn unseen(connections: &Connections) -> Result<StoreError, StoreError> {
    let sql = "SELECT has_schema_privilege(oid, 'USAGE') FROM pg_namespace WHERE nspname = $1";
    let rows = connections.run("read the tables of", |connection| connection.query(sql, &[&connections.schema]))?;
    let schema = quoted(&connections.schema);
    let trouble = match rows.first().map(|row| row.get::<_, bool>(0)) {
        Some(false) => {
            let why = format!(
                "the role may not use the schema {schema}: grant USAGE on it, and SELECT, INSERT, UPDATE and DELETE on its tables"
            );
            Trouble::new(RemoteTrouble::Denied, why)
        }
        Some(true) | None => {
            let why = format!("there are no tables of saves in the schema {schema}");
            let why = format!("{why}; `PostgresStore::prepare` or `vestigum saves prepare` makes them");
            Trouble::new(RemoteTrouble::Unprepared, why)
        }
    };
    Ok(trouble.told("use", &connections.place))
}

/// Returns whether the tables are those of this crate.
pub(crate) fn check(connections: &Connections) -> Result<(), StoreError> {
    let found = connections.run("read the tables of", |connection| {
        match connection.in_a_transaction(|transaction| version_in(transaction, "")) {
            Err(error) if error.code() == Some(&SqlState::UNDEFINED_TABLE) => Ok(None),
            found => found,
        }
    })?;
    match found {
        Some(found) => known(connections, found).and_then(|()| check_columns(connections)),
        None => Err(unseen(connections)?),
    }
}

fn known(connections: &Connections, found: i64) -> Result<(), StoreError> {
    let why = match found {
        VERSION => return Ok(()),
        older if older < VERSION => "; `PostgresStore::prepare` or `vestigum saves prepare` brings them to it",
        _ => "; a newer one made them, and nothing was changed",
    };
    let why = format!("its tables have version {found}, and this program knows version {VERSION}{why}");
    Err(Trouble::new(RemoteTrouble::Unprepared, why).told("use", &connections.place))
}
