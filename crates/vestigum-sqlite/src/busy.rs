//! Another process that writes: nobody else can meanwhile.

use std::io;

use vestigum::StoreError;

/// Returns whether another process writes, so that nobody else can.
pub(crate) fn is_busy(error: &StoreError) -> bool {
    matches!(error, StoreError::Io { cause, .. } if cause.kind() == io::ErrorKind::ResourceBusy)
}

/// Copies an error: the causes become text.
pub(crate) fn busy_again(error: &StoreError) -> StoreError {
    match error {
        StoreError::Io { action, path, cause } => {
            let cause = io::Error::new(cause.kind(), cause.to_string());
            StoreError::Io { action, path: path.clone(), cause }
        }
        _ => StoreError::Closed,
    }
}
