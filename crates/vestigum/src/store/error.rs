//! Why a store could not do what was asked.

use std::error::Error;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use vestigum_core::Owner;
use vestigum_core::image::json::ImageError;

use super::PROFILE_NAME_LEN;

/// Describes why a store could not do what was asked.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file or folder could not be read or written.
    #[error("cannot {action} {}: {cause}", .path.display())]
    Io {
        /// Says what was tried.
        action: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// Says what the system said.
        cause: std::io::Error,
    },
    /// Another process uses the folder.
    #[error("the save folder {} is in use{}; close the other game first", .path.display(), by_process(.holder))]
    InUse {
        /// The folder.
        path: PathBuf,
        /// The number of the other process, if it is known.
        holder: Option<u32>,
    },
    /// Another store of this process uses the folder.
    #[error(
        "a store of this process has the save folder {} open; clone that one, or drop it before opening another",
        .path.display()
    )]
    OpenAlready {
        /// The folder.
        path: PathBuf,
    },
    /// A whole image has the last number that there is.
    #[error("{owner} has a save with the last number that there is, so none can follow; move that file away")]
    NoMoreGenerations {
        /// Whose saves.
        owner: Owner,
    },
    /// Someone else wrote a newer generation.
    #[error(
        "the saves of {owner} were changed by someone else: expected generation {follows}, found {newest}; launch again, and let sessions of one process share a `Saver`"
    )]
    Conflict {
        /// Whose saves.
        owner: Owner,
        /// The newest generation there.
        newest: u64,
        /// The newest that the caller knew.
        follows: u64,
    },
    /// Somebody holds the lease on this owner, and what was asked does not carry it.
    #[error("{owner} is held by `{}`{}; nothing was written", .holder.escape_debug(), for_another(.left))]
    Leased {
        /// Whose saves.
        owner: Owner,
        /// Says who holds the lease.
        holder: String,
        /// For how long it runs, unless it is renewed.
        left: Duration,
    },
    /// The lease that a commit or a renewal carries is not the newest one on its owner: another holder has taken the owner, or it
    /// was given back.
    #[error("the lease on {owner} is lost{}; nothing was written, and nothing more will be: take it anew and load", to_holder(.holder))]
    LeaseLost {
        /// Whose saves.
        owner: Owner,
        /// Says who holds the newest lease; none if nobody does.
        holder: Option<String>,
    },
    /// A lease was not renewed in time: the store did not answer for as long as it lasts. Another server may have the player.
    #[error("the lease on {owner} ran out, as the store did not answer for {} s; what was handed over is still being tried", .lasts.as_secs_f64())]
    LeaseRanOut {
        /// Whose saves.
        owner: Owner,
        /// For how long the lease ran.
        lasts: Duration,
    },
    /// There is no such generation.
    #[error("{owner} has no generation {generation}")]
    NoGeneration {
        /// Whose saves.
        owner: Owner,
        /// The number asked for.
        generation: u64,
    },
    /// A place that is not a folder, such as a database, did not do what was asked.
    #[error("cannot {action} {place}: {cause}{}", .trouble.advice())]
    Remote {
        /// Says what was tried.
        action: &'static str,
        /// The place, without passwords.
        place: String,
        /// Says what kind of trouble it is.
        trouble: RemoteTrouble,
        /// Says what the place, or the way to it, said.
        cause: Box<dyn Error + Send + Sync>,
    },
    /// The image is damaged. It stays where it is.
    #[error("generation {generation} of {owner} is damaged: {damaged}")]
    Damaged {
        /// Whose saves.
        owner: Owner,
        /// The generation.
        generation: u64,
        /// Says what is wrong with it.
        damaged: ImageError,
    },
    /// A generation, or a blob of it, cannot be read now, though it was asked for several times. It may be whole: nothing older was
    /// taken, and nothing was written.
    #[error(
        "generation {generation} of {owner} cannot be read now: {why}; it may be whole, so nothing older was taken: try again, or pass over it"
    )]
    Unavailable {
        /// Whose saves.
        owner: Owner,
        /// The generation.
        generation: u64,
        /// Says what could not be read, with its file or row, and the reason.
        why: String,
    },
    /// The store keeps no lines of saves, so a game that merges saves cannot save in it. What was saved before is as it was.
    #[error(
        "the save of {owner} was not written: the game merges saves, and this store keeps no lines of them (`Store::begin_line`)"
    )]
    NoLines {
        /// Whose saves.
        owner: Owner,
    },
    /// The save is larger than what can be read: it was not written. What was saved before is as it was.
    #[error("the save of {owner} was not written, as it could not be read: {why}")]
    TooLarge {
        /// Whose saves.
        owner: Owner,
        /// Says what is too large.
        why: ImageError,
    },
    /// The store was opened only to read.
    #[error("{} was opened only to look at it, and nothing is written", .path.display())]
    ReadOnly {
        /// The folder.
        path: PathBuf,
    },
    /// The thread that writes is gone: the saver was closed, or the store panicked.
    #[error("nothing is written any more: the saver was closed")]
    Closed,
    /// It took longer than the caller would wait. What was handed over is still being tried.
    #[error("the save was not durable after {} ms{}", .waited.as_millis(), because(.last))]
    TimedOut {
        /// Says how long the caller waited.
        waited: Duration,
        /// Says why the last try failed, if one did.
        last: Option<Arc<StoreError>>,
    },
    /// A profile's name cannot be used.
    #[error("`{}` cannot be the name of a profile: names have 1 to {PROFILE_NAME_LEN} characters", .name.escape_debug())]
    BadProfile {
        /// The name.
        name: String,
    },
}

/// Describes what kind of trouble a place beyond a network has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum RemoteTrouble {
    /// It cannot be reached, or the connection was lost.
    Unreachable,
    /// It has too much to do: too many connections, or others change the same all the time.
    Busy,
    /// It took longer than it was given.
    Slow,
    /// It only reads: a standby.
    ReadOnly,
    /// It has no room.
    Full,
    /// It does not let this program in, or not do this.
    Denied,
    /// The tables are not the expected ones: some are missing, or a newer program made them.
    Unprepared,
    /// Its certificate is not signed by an authority that is trusted, is for another host, or has expired.
    Untrusted,
    /// Anything else.
    Other,
}

impl RemoteTrouble {
    /// Returns what to do about it, where that is not plain.
    fn advice(self) -> &'static str {
        match self {
            RemoteTrouble::ReadOnly => "; connect to the one that is written to",
            RemoteTrouble::Full => "; make room",
            RemoteTrouble::Unreachable
            | RemoteTrouble::Busy
            | RemoteTrouble::Slow
            | RemoteTrouble::Denied
            | RemoteTrouble::Unprepared
            | RemoteTrouble::Untrusted
            | RemoteTrouble::Other => "",
        }
    }
}

impl StoreError {
    /// Returns whether the same commit may succeed later: a full disk is emptied, a folder comes back, a database answers again. A
    /// conflict stays, and so does a lease that is lost.
    pub fn may_pass(&self) -> bool {
        match self {
            StoreError::Io { .. }
            | StoreError::InUse { .. }
            | StoreError::TimedOut { .. }
            | StoreError::Unavailable { .. }
            | StoreError::Remote { .. } => true,
            StoreError::OpenAlready { .. }
            | StoreError::NoMoreGenerations { .. }
            | StoreError::Conflict { .. }
            | StoreError::Leased { .. }
            | StoreError::LeaseLost { .. }
            | StoreError::LeaseRanOut { .. }
            | StoreError::NoGeneration { .. }
            | StoreError::Damaged { .. }
            | StoreError::TooLarge { .. }
            | StoreError::NoLines { .. }
            | StoreError::ReadOnly { .. }
            | StoreError::Closed
            | StoreError::BadProfile { .. } => false,
        }
    }

    /// Returns whether somebody else has the owner, or has written for it: what this process has not saved, it never can.
    pub(crate) fn is_someone_else(&self) -> bool {
        matches!(self, StoreError::Conflict { .. } | StoreError::Leased { .. } | StoreError::LeaseLost { .. })
    }

    /// Returns whether there was no room for it.
    pub fn is_full(&self) -> bool {
        use std::io::ErrorKind::{QuotaExceeded, StorageFull};
        match self {
            StoreError::Io { cause, .. } => matches!(cause.kind(), StorageFull | QuotaExceeded),
            StoreError::Remote { trouble, .. } => *trouble == RemoteTrouble::Full,
            _ => false,
        }
    }
}

fn because(last: &Option<Arc<StoreError>>) -> String {
    last.as_ref().map(|error| format!(": {error}")).unwrap_or_default()
}

fn by_process(pid: &Option<u32>) -> String {
    pid.map(|pid| format!(" by process {pid}")).unwrap_or_default()
}

fn for_another(left: &Duration) -> String {
    format!(" for another {} s unless it is renewed", left.as_secs_f64().ceil())
}

fn to_holder(holder: &Option<String>) -> String {
    holder.as_ref().map(|holder| format!(" to `{}`", holder.escape_debug())).unwrap_or_default()
}
