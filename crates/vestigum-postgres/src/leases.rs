//! Leases as rows: one for each owner that ever had one, so that its tokens never begin anew.

use std::collections::BTreeMap;
use std::time::Duration;

use tokio_postgres::Row;

use vestigum::{Lease, Owner, RemoteTrouble, StoreError, leased_to};

use crate::trouble::{Trouble, same};
use crate::{Known, PostgresStore, lock, name_of};

/// Takes a lease that is free, has run out, or is the holder's already.
const LEASE: &str = "
    INSERT INTO leases AS held (profile, holder, token, ends_at)
    VALUES ($1, $2, 1, clock_timestamp() + $3 * interval '1 millisecond')
    ON CONFLICT (profile) DO UPDATE
        SET holder = excluded.holder, token = held.token + 1, ends_at = excluded.ends_at
        WHERE held.holder IS NULL OR held.holder = excluded.holder OR held.ends_at <= clock_timestamp()
    RETURNING token";

/// Who has it, and for how many milliseconds.
const HELD: &str = "
    SELECT holder, token, greatest(0, extract(epoch FROM ends_at - clock_timestamp()) * 1000)::double precision
    FROM leases WHERE profile = $1";

/// Rows are locked in the order of the names, by this as by commits, so that nobody waits for each other.
macro_rules! renew {
    ($locked:literal) => {
        concat!(
            "
    WITH locked AS (
        SELECT given.profile, given.token, given.place, held.holder, held.token AS held_token,
            held.profile IS NOT NULL AS seen
        FROM unnest($1::text[], $2::bigint[]) WITH ORDINALITY AS given(profile, token, place)
        LEFT JOIN LATERAL (
            SELECT profile, holder, token FROM leases WHERE leases.profile = given.profile ",
            $locked,
            "
        ) AS held ON true
    ), renewed AS (
        UPDATE leases SET ends_at = clock_timestamp() + $3 * interval '1 millisecond'
        FROM locked
        WHERE leases.profile = locked.profile AND locked.held_token = locked.token AND locked.holder IS NOT NULL
    )
    SELECT holder, held_token, seen FROM locked ORDER BY place"
        )
    };
}

const RENEW: &str = renew!("FOR UPDATE");

/// The same, which passes over the rows that somebody has locked: one that is stuck lets no other lease run out.
const RENEW_UNLOCKED: &str = renew!("FOR UPDATE SKIP LOCKED");

const RELEASE: &str = "
    WITH locked AS (
        SELECT given.profile
        FROM unnest($1::text[], $2::bigint[]) AS given(profile, token)
        JOIN LATERAL (
            SELECT token FROM leases WHERE leases.profile = given.profile FOR UPDATE
        ) AS held ON held.token = given.token
    )
    UPDATE leases SET holder = NULL FROM locked WHERE leases.profile = locked.profile";

pub(crate) fn milliseconds(lasts: Duration) -> f64 {
    // A lease of more than a thousand years is as good as one for ever.
    (lasts.as_secs_f64() * 1000.0).min(3.2e13)
}

/// What a column of milliseconds says.
pub(crate) fn left_in(row: &Row, column: usize) -> Duration {
    let milliseconds = row.get::<_, Option<f64>>(column).unwrap_or(0.0);
    Duration::try_from_secs_f64(milliseconds / 1000.0).unwrap_or_default()
}

impl PostgresStore {
    pub(crate) fn lease_row(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        self.inner.connections.leases_run(lasts);
        let holder_text = holder.replace('\0', "");
        let taken = self.inner.connections.run("take a lease in", |connection| {
            let rows = connection.query(LEASE, &[&name, &holder_text, &milliseconds(lasts)])?;
            match rows.first() {
                Some(row) => Ok(Ok(row.get::<_, i64>(0))),
                None => Ok(Err(connection.query(HELD, &[&name])?)),
            }
        })?;
        let held = match taken {
            Ok(token) => {
                let lease = Lease::new(owner.clone(), holder, unsigned(token));
                let known = Known { plays: true, lease: Some(lease.token()), ..Known::default() };
                lock(&self.inner.known).insert(name.to_owned(), known);
                return Ok(lease);
            }
            Err(held) => held,
        };
        // It may have been given back in between: then it is somebody's who was quicker, or free the next time.
        let (other, left) = match held.first() {
            Some(row) => (row.get::<_, Option<String>>(0).unwrap_or_default(), left_in(row, 2)),
            None => (String::new(), Duration::ZERO),
        };
        Err(StoreError::Leased { owner: owner.clone(), holder: other, left })
    }

    pub(crate) fn renew_rows(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        if leases.is_empty() {
            return Vec::new();
        }
        if self.may_write().is_err() {
            return leases.iter().map(|_| self.may_write()).collect();
        }
        let mut order: Vec<&Lease> = leases.iter().collect();
        order.sort_by_key(|lease| lease.owner());
        let (names, tokens) = columns(&order);
        self.inner.connections.leases_run(lasts);
        let mut skips = false;
        let renewed = self.inner.connections.run_urgent("renew leases in", |connection| {
            match connection.query(RENEW, &[&names, &tokens, &milliseconds(lasts)]) {
                Err(error) if error.is_locked() => {
                    skips = true;
                    connection.query(RENEW_UNLOCKED, &[&names, &tokens, &milliseconds(lasts)])
                }
                renewed => renewed,
            }
        });
        let rows = match renewed {
            Ok(rows) => rows,
            Err(error) => return leases.iter().map(|_| Err(same(&error))).collect(),
        };
        let found: BTreeMap<&Owner, &Row> = order.iter().map(|lease| lease.owner()).zip(&rows).collect();
        let told = |lease: &Lease| {
            let row = found.get(lease.owner());
            if skips && row.is_some_and(|row| !row.get::<_, bool>(2)) {
                let said = format!("the lease of {} is locked by another transaction", lease.owner());
                return Err(Trouble::new(RemoteTrouble::Busy, said).told("renew leases in", self.place()));
            }
            let holder = row.and_then(|row| row.get::<_, Option<String>>(0));
            let token = row.and_then(|row| row.get::<_, Option<i64>>(1)).map_or(0, unsigned);
            leased_to(lease.owner(), Some(lease), holder.as_deref(), token, Duration::ZERO)
        };
        leases.iter().map(told).collect()
    }

    pub(crate) fn release_rows(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.may_write()?;
        let mut order: Vec<&Lease> = leases.iter().collect();
        order.sort_by_key(|lease| lease.owner());
        let (names, tokens) = columns(&order);
        // Who comes again is read again.
        for name in &names {
            lock(&self.inner.known).remove(*name);
        }
        self.inner
            .connections
            .run("give leases back in", |connection| connection.execute(RELEASE, &[&names, &tokens]).map(drop))
    }
}

/// Leases as the parameters of a statement. No player has a name that cannot be one.
fn columns<'a>(leases: &[&'a Lease]) -> (Vec<&'a str>, Vec<i64>) {
    leases.iter().map(|lease| (name_of(lease.owner()).unwrap_or_default(), signed(lease.token()))).unzip()
}

pub(crate) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(crate) fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}
