//! Leases as rows: one for each owner that ever had one, so that its tokens never begin anew.
//!
//! The clock of a machine can be set back and forth, and a lease must run out all the same. So a row counts how often it was
//! written, and a process that asks for the lease remembers when it has first seen that count: it takes a lease that nobody has
//! renewed for as long as it lasts, by a clock that never steps back, whatever the clock of the machine says. Whoever loses a lease
//! too early is kept from writing by its token.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use rusqlite::{Connection, OptionalExtension, Result as SqlResult, Transaction, TransactionBehavior, params};

use vestigum::{Lease, Owner, StoreError, leased_to};

use crate::busy::{busy_again, is_busy};
use crate::{SqliteStore, lock, name_of};

/// Describes what a row says.
struct LeaseRow {
    holder: Option<String>,
    token: u64,
    until_ms: i64,
    lasts_ms: i64,
    /// Says how often it was written.
    written: i64,
}

/// When this process has first seen a row as it is.
pub(crate) struct SeenLease {
    token: u64,
    written: i64,
    at: Instant,
}

/// The processes of one machine have one clock.
fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

fn ms(lasts: Duration) -> i64 {
    i64::try_from(lasts.as_millis()).unwrap_or(i64::MAX)
}

fn row_of(connection: &Connection, name: &str) -> SqlResult<Option<LeaseRow>> {
    let sql = "SELECT holder, token, until_ms, lasts_ms, written FROM leases WHERE profile = ?";
    let row = |row: &rusqlite::Row<'_>| {
        let (holder, token, until_ms) = (row.get(0)?, row.get(1)?, row.get(2)?);
        Ok(LeaseRow { holder, token, until_ms, lasts_ms: row.get(3)?, written: row.get(4)? })
    };
    connection.prepare_cached(sql)?.query_row([name], row).optional()
}

impl SqliteStore {
    /// Returns whether a commit is taken.
    pub(crate) fn allows(
        &self,
        connection: &Connection,
        owner: &Owner,
        name: &str,
        lease: Option<&Lease>,
    ) -> SqlResult<Result<(), StoreError>> {
        Ok(match row_of(connection, name)? {
            Some(row) => {
                // Who has a lease is judged by its token alone.
                let left = if lease.is_some() { Duration::ZERO } else { self.left_of(name, &row) };
                leased_to(owner, lease, row.holder.as_deref(), row.token, left)
            }
            None => leased_to(owner, lease, None, 0, Duration::ZERO),
        })
    }

    /// For how long a lease runs: until its end by the clock of the machine, but not longer than it lasts since this process has seen it
    /// renewed.
    fn left_of(&self, name: &str, row: &LeaseRow) -> Duration {
        let by_clock = u64::try_from(row.until_ms.saturating_sub(now_ms())).unwrap_or(0);
        let mut seen = lock(&self.inner.seen_leases);
        if by_clock == 0 || row.holder.is_none() {
            seen.remove(name);
            return Duration::ZERO;
        }
        let now = Instant::now();
        let known = seen.get(name).filter(|known| (known.token, known.written) == (row.token, row.written));
        let since = known.map_or(now, |known| known.at);
        if since == now {
            seen.insert(name.to_owned(), SeenLease { token: row.token, written: row.written, at: now });
        }
        let lasts = Duration::from_millis(u64::try_from(row.lasts_ms).unwrap_or(0));
        Duration::from_millis(by_clock).min(lasts.saturating_sub(now.duration_since(since)))
    }

    fn in_a_transaction<T>(
        &self,
        action: &'static str,
        work: impl FnOnce(&Transaction<'_>) -> SqlResult<T>,
    ) -> Result<T, StoreError> {
        let failed = self.failed(action);
        let mut connection = self.to_write()?;
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
        let done = work(&transaction).map_err(&failed)?;
        transaction.commit().map_err(&failed)?;
        Ok(done)
    }

    pub(crate) fn lease_row(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        let name = name_of(owner)?;
        self.in_a_transaction("take a lease in", |transaction| {
            let before = row_of(transaction, name)?;
            if let Some(before) = &before
                && before.holder.as_deref() != Some(holder)
                && let Err(refused) =
                    leased_to(owner, None, before.holder.as_deref(), before.token, self.left_of(name, before))
            {
                return Ok(Err(refused));
            }
            let token = before.map_or(0, |before| before.token) + 1;
            let sql = "INSERT OR REPLACE INTO leases (profile, holder, token, until_ms, lasts_ms, written) VALUES (?, ?, ?, ?, ?, 0)";
            let until = now_ms().saturating_add(ms(lasts));
            transaction.prepare_cached(sql)?.execute(params![name, holder, token, until, ms(lasts)])?;
            lock(&self.inner.seen_leases).remove(name);
            Ok(Ok(Lease::new(owner.clone(), holder, token)))
        })?
    }

    pub(crate) fn renew_rows(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        let renewed = self.in_a_transaction("renew leases in", |transaction| {
            let mut results = Vec::with_capacity(leases.len());
            for lease in leases {
                let owner = lease.owner();
                let allowed = match name_of(owner) {
                    Ok(name) => self.allows(transaction, owner, name, Some(lease))?.map(|()| name),
                    Err(refused) => Err(refused),
                };
                if let Ok(name) = &allowed {
                    let sql = "UPDATE leases SET until_ms = ?, lasts_ms = ?, written = written + 1 WHERE profile = ?";
                    let until = now_ms().saturating_add(ms(lasts));
                    transaction.prepare_cached(sql)?.execute(params![until, ms(lasts), name])?;
                }
                results.push(allowed.map(drop));
            }
            Ok(results)
        });
        match renewed {
            Ok(results) => results,
            Err(error) if is_busy(&error) => leases.iter().map(|_| Err(busy_again(&error))).collect(),
            Err(_) if leases.len() > 1 => {
                leases.iter().flat_map(|lease| self.renew_rows(std::slice::from_ref(lease), lasts)).collect()
            }
            Err(error) => vec![Err(error)],
        }
    }

    pub(crate) fn release_rows(&self, leases: &[Lease]) -> Result<(), StoreError> {
        // Who comes again is read again: of players who have gone nothing is remembered.
        for lease in leases {
            if let Ok(name) = name_of(lease.owner()) {
                lock(&self.inner.verdicts).remove(name);
                lock(&self.inner.seen_leases).remove(name);
            }
        }
        self.in_a_transaction("give leases back in", |transaction| {
            for lease in leases {
                if let Ok(name) = name_of(lease.owner()) {
                    let sql = "UPDATE leases SET holder = NULL WHERE profile = ? AND token = ?";
                    transaction.prepare_cached(sql)?.execute(params![name, lease.token()])?;
                }
            }
            Ok(())
        })
    }
}
