//! What PostgreSQL said, as stores say it.

use std::error::Error;

use tokio_postgres::error::SqlState;

use vestigum::{RemoteTrouble, StoreError};

use crate::client::ClientError;

/// Describes why a database did not do what was asked: before it becomes the error of a store.
#[derive(Debug)]
pub(crate) struct Trouble {
    pub kind: RemoteTrouble,
    pub said: String,
}

impl Trouble {
    pub(crate) fn new(kind: RemoteTrouble, said: impl Into<String>) -> Trouble {
        Trouble { kind, said: said.into() }
    }

    /// Returns whether the same may work when it is tried once more soon.
    pub(crate) fn passes_soon(&self) -> bool {
        matches!(self.kind, RemoteTrouble::Unreachable | RemoteTrouble::Busy)
    }

    pub(crate) fn told(self, action: &'static str, place: &str) -> StoreError {
        StoreError::Remote { action, place: place.to_owned(), trouble: self.kind, cause: self.said.into() }
    }
}

impl From<ClientError> for Trouble {
    fn from(error: ClientError) -> Trouble {
        match error {
            ClientError::Said(error) => {
                let kind = match error.code() {
                    Some(code) => kind_of(code),
                    None if error.is_closed() => RemoteTrouble::Unreachable,
                    None if causes(&error).any(is_untrusted) => RemoteTrouble::Untrusted,
                    None if causes(&error).any(<dyn Error>::is::<std::io::Error>) => RemoteTrouble::Unreachable,
                    None => RemoteTrouble::Other,
                };
                Trouble { kind, said: said_by(&error) }
            }
            ClientError::Silent(_) => Trouble { kind: RemoteTrouble::Slow, said: error.to_string() },
            ClientError::Here(_) => Trouble { kind: RemoteTrouble::Unreachable, said: error.to_string() },
        }
    }
}

/// Returns what the server said, or the way to it, on one line.
fn said_by(error: &tokio_postgres::Error) -> String {
    if let Some(server) = error.as_db_error() {
        let mut said = format!("{} ({})", server.message(), server.code().code());
        for more in [server.detail(), server.hint()].into_iter().flatten() {
            said.push_str("; ");
            said.push_str(more);
        }
        return said;
    }
    let mut said = error.to_string();
    for cause in causes(error).map(ToString::to_string) {
        if !said.contains(&cause) {
            said.push_str(": ");
            said.push_str(&cause);
        }
    }
    said
}

/// Returns what an error came of, the nearest cause first.
fn causes(error: &tokio_postgres::Error) -> impl Iterator<Item = &(dyn Error + 'static)> {
    std::iter::successors(error.source(), |&cause| cause.source())
}

/// Returns whether a cause is a certificate that this program does not trust. Connectors of other crates do not say it in a way that is known here.
#[cfg(feature = "tls")]
fn is_untrusted(cause: &(dyn Error + 'static)) -> bool {
    let inner = cause.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
    let of_tls = inner.and_then(|inner| inner.downcast_ref::<rustls::Error>());
    of_tls.is_some_and(|error| matches!(error, rustls::Error::InvalidCertificate(_)))
}

#[cfg(not(feature = "tls"))]
fn is_untrusted(_: &(dyn Error + 'static)) -> bool {
    false
}

fn kind_of(code: &SqlState) -> RemoteTrouble {
    if *code == SqlState::QUERY_CANCELED {
        RemoteTrouble::Slow
    } else if *code == SqlState::READ_ONLY_SQL_TRANSACTION {
        RemoteTrouble::ReadOnly
    } else if [SqlState::DISK_FULL, SqlState::OUT_OF_MEMORY].contains(code) {
        RemoteTrouble::Full
    } else if [SqlState::INSUFFICIENT_PRIVILEGE, SqlState::INVALID_CATALOG_NAME].contains(code) {
        RemoteTrouble::Denied
    } else if [SqlState::UNDEFINED_TABLE, SqlState::UNDEFINED_COLUMN, SqlState::INVALID_SCHEMA_NAME].contains(code) {
        RemoteTrouble::Unprepared
    } else if [SqlState::TOO_MANY_CONNECTIONS, SqlState::LOCK_NOT_AVAILABLE].contains(code) {
        RemoteTrouble::Busy
    } else {
        match code.code().get(..2) {
            // A connection that failed, and a server that stops or begins.
            Some("08" | "57") => RemoteTrouble::Unreachable,
            // A transaction that others got in the way of.
            Some("40") => RemoteTrouble::Busy,
            Some("28") => RemoteTrouble::Denied,
            _ => RemoteTrouble::Other,
        }
    }
}

/// Returns whether a trouble is one of the database and not of what is written: then it goes for all.
pub(crate) fn goes_for_all(error: &StoreError) -> bool {
    match error {
        StoreError::Remote { trouble, .. } => !matches!(trouble, RemoteTrouble::Other | RemoteTrouble::Full),
        _ => false,
    }
}

/// Copies an error: the causes become text.
pub(crate) fn same(error: &StoreError) -> StoreError {
    match error {
        StoreError::Remote { action, place, trouble, cause } => {
            StoreError::Remote { action, place: place.clone(), trouble: *trouble, cause: cause.to_string().into() }
        }
        _ => StoreError::Closed,
    }
}
