//! Leases as rows: one for each owner that ever had one, so that its tokens never begin anew.

use std::collections::BTreeMap;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tokio_postgres::Row;

use vestigum::{Lease, Owner, RemoteTrouble, StoreError, leased_to};

use crate::client::Answered;
use crate::connections::Connection;
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

/// Says who has it, and for how many milliseconds.
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

/// Renews leases and passes over the rows that somebody has locked: one that is stuck lets no other lease run out.
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

/// Returns what a column of milliseconds says.
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
        self.inner.connections.leases_run(lasts);
        let renewed = self.inner.connections.run_urgent("renew leases in", |connection| {
            let mut found = BTreeMap::new();
            if !self.inner.has_locked.load(Ordering::Relaxed) {
                match renew(connection, RENEW, &order, lasts, &mut found) {
                    Err(error) if error.is_locked() => self.inner.has_locked.store(true, Ordering::Relaxed),
                    renewed => return renewed.map(|()| found),
                }
            }
            // Somebody has a row for longer than a commit takes. The others are renewed without it, in a few rounds, as a commit has a row
            // now and then.
            for _ in 0..ROUNDS {
                let left: Vec<&Lease> =
                    order.iter().copied().filter(|lease| !found.contains_key(lease.owner())).collect();
                if left.is_empty() {
                    self.inner.has_locked.store(false, Ordering::Relaxed);
                    break;
                }
                renew(connection, RENEW_UNLOCKED, &left, lasts, &mut found)?;
                std::thread::sleep(BETWEEN_ROUNDS);
            }
            Ok(found)
        });
        let found = match renewed {
            Ok(found) => found,
            Err(error) => return leases.iter().map(|_| Err(same(&error))).collect(),
        };
        let told = |lease: &Lease| match found.get(lease.owner()) {
            Some((holder, token)) => leased_to(lease.owner(), Some(lease), holder.as_deref(), *token, Duration::ZERO),
            None => {
                let said = format!("the lease of {} is locked by another transaction", lease.owner());
                Err(Trouble::new(RemoteTrouble::Busy, said).told("renew leases in", self.place()))
            }
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

/// Locked rows are tried again 20 times, with a pause of 5 ms in between.
const ROUNDS: u32 = 20;
const BETWEEN_ROUNDS: Duration = Duration::from_millis(5);

/// Renews leases, and notes of each whose row could be locked who holds it, with which token.
fn renew(
    connection: &mut Connection,
    sql: &'static str,
    leases: &[&Lease],
    lasts: Duration,
    found: &mut BTreeMap<Owner, (Option<String>, u64)>,
) -> Answered<()> {
    let (names, tokens) = columns(leases);
    let rows = connection.query(sql, &[&names, &tokens, &milliseconds(lasts)])?;
    for (lease, row) in leases.iter().zip(&rows) {
        // Where rows are waited for, one that is not seen is not there.
        if sql == RENEW || row.get::<_, bool>(2) {
            let token = row.get::<_, Option<i64>>(1).map_or(0, unsigned);
            found.insert(lease.owner().clone(), (row.get(0), token));
        }
    }
    Ok(())
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
