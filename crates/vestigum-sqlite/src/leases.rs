//! Leases as rows: one for each owner that ever had one, so that its tokens never begin anew.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rusqlite::{Connection, OptionalExtension, Result as SqlResult, Transaction, TransactionBehavior, params};

use vestigum::{Lease, Owner, StoreError, leased_to};

use crate::{SqliteStore, name_of};

/// What a row says.
struct LeaseRow {
    holder: Option<String>,
    token: u64,
    until_ms: i64,
}

/// The processes of one machine have one clock.
fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

fn after(lasts: Duration) -> i64 {
    now_ms().saturating_add(i64::try_from(lasts.as_millis()).unwrap_or(i64::MAX))
}

fn row_of(connection: &Connection, name: &str) -> SqlResult<Option<LeaseRow>> {
    let sql = "SELECT holder, token, until_ms FROM leases WHERE profile = ?";
    let row = |row: &rusqlite::Row<'_>| Ok(LeaseRow { holder: row.get(0)?, token: row.get(1)?, until_ms: row.get(2)? });
    connection.prepare_cached(sql)?.query_row([name], row).optional()
}

impl LeaseRow {
    fn left(&self) -> Duration {
        Duration::from_millis(u64::try_from(self.until_ms.saturating_sub(now_ms())).unwrap_or(0))
    }
}

/// Whether a commit is taken.
pub(crate) fn allows(
    connection: &Connection,
    owner: &Owner,
    name: &str,
    lease: Option<&Lease>,
) -> SqlResult<Result<(), StoreError>> {
    Ok(match row_of(connection, name)? {
        Some(row) => leased_to(owner, lease, row.holder.as_deref(), row.token, row.left()),
        None => leased_to(owner, lease, None, 0, Duration::ZERO),
    })
}

impl SqliteStore {
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
                && let Err(refused) = leased_to(owner, None, before.holder.as_deref(), before.token, before.left())
            {
                return Ok(Err(refused));
            }
            let token = before.map_or(0, |before| before.token) + 1;
            let sql = "INSERT OR REPLACE INTO leases (profile, holder, token, until_ms) VALUES (?, ?, ?, ?)";
            transaction.prepare_cached(sql)?.execute(params![name, holder, token, after(lasts)])?;
            Ok(Ok(Lease::new(owner.clone(), holder, token)))
        })?
    }

    pub(crate) fn renew_rows(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        let renewed = self.in_a_transaction("renew leases in", |transaction| {
            let mut results = Vec::with_capacity(leases.len());
            for lease in leases {
                let owner = lease.owner();
                let allowed = match name_of(owner) {
                    Ok(name) => allows(transaction, owner, name, Some(lease))?.map(|()| name),
                    Err(refused) => Err(refused),
                };
                if let Ok(name) = &allowed {
                    let sql = "UPDATE leases SET until_ms = ? WHERE profile = ?";
                    transaction.prepare_cached(sql)?.execute(params![after(lasts), name])?;
                }
                results.push(allowed.map(drop));
            }
            Ok(results)
        });
        match renewed {
            Ok(results) => results,
            Err(_) if leases.len() > 1 => {
                leases.iter().flat_map(|lease| self.renew_rows(std::slice::from_ref(lease), lasts)).collect()
            }
            Err(error) => vec![Err(error)],
        }
    }

    pub(crate) fn release_rows(&self, leases: &[Lease]) -> Result<(), StoreError> {
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
