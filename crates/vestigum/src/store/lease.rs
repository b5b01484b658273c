//! Who of several processes may write for an owner.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use vestigum_core::Owner;

use super::StoreError;

/// A lease on an owner: what a commit carries to be taken while it runs.
///
/// The token makes it safe. A process that stood still for longer than its lease does not know that it is lost; the store does,
/// because the next lease has a higher token, and it refuses what carries the old one.
///
/// # Example
///
/// ```
/// use std::time::Duration;
/// use vestigum::{MemoryStore, Owner, Store, StoreError};
///
/// let store = MemoryStore::default();
/// let ada = Owner::Profile("ada".into());
/// let lease = store.lease(&ada, "server 1", Duration::from_secs(30))?;
/// let second = store.lease(&ada, "server 2", Duration::from_secs(30));
/// assert!(matches!(second, Err(StoreError::Leased { holder, .. }) if holder == "server 1"));
/// store.release(&[lease.clone()])?;
/// assert!(store.lease(&ada, "server 2", Duration::from_secs(30))?.token() > lease.token());
/// # Ok::<(), StoreError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lease {
    owner: Owner,
    holder: String,
    token: u64,
}

impl Lease {
    /// A lease that a store gives: for those who write one.
    pub fn new(owner: Owner, holder: impl Into<String>, token: u64) -> Lease {
        Lease { owner, holder: holder.into(), token }
    }

    /// Returns whose saves.
    pub fn owner(&self) -> &Owner {
        &self.owner
    }

    /// Returns who holds it.
    pub fn holder(&self) -> &str {
        &self.holder
    }

    /// Its number: higher than that of every earlier lease on this owner. 0 from a store that gives every lease.
    pub fn token(&self) -> u64 {
        self.token
    }
}

/// Checks a commit against what a store holds about the lease on one owner: for those who write a store. Times are of the store's clock.
///
/// `holder` is who has the newest lease, none if it was given back, `token` is its number, and `left` is how long it runs, zero
/// where it has run out. Answers whether a commit that carries `lease` is taken.
///
/// # Errors
/// [`StoreError::LeaseLost`] or [`StoreError::Leased`], as [`Store::commit_all`](super::Store::commit_all) says.
pub fn leased_to(
    owner: &Owner,
    lease: Option<&Lease>,
    holder: Option<&str>,
    token: u64,
    left: Duration,
) -> Result<(), StoreError> {
    match (lease, holder) {
        (Some(lease), Some(_)) if lease.token == token => Ok(()),
        (Some(_), holder) => Err(StoreError::LeaseLost { owner: owner.clone(), holder: holder.map(ToOwned::to_owned) }),
        (None, Some(holder)) if !left.is_zero() => {
            Err(StoreError::Leased { owner: owner.clone(), holder: holder.to_owned(), left })
        }
        (None, _) => Ok(()),
    }
}

/// Returns when something that begins now and lasts this long has ended; what no clock can say is a hundred years.
pub(crate) fn ends_at(lasts: Duration) -> Instant {
    let now = Instant::now();
    now.checked_add(lasts).unwrap_or_else(|| now + Duration::from_secs(100 * 365 * 24 * 3600))
}

/// The leases of a store in memory.
#[derive(Debug, Default)]
pub(crate) struct LeaseBook {
    entries: BTreeMap<Owner, LeaseEntry>,
}

#[derive(Debug)]
struct LeaseEntry {
    holder: Option<String>,
    token: u64,
    until: Instant,
}

impl LeaseEntry {
    fn left(&self) -> Duration {
        self.until.saturating_duration_since(Instant::now())
    }

    fn is(&self, lease: &Lease) -> bool {
        self.token == lease.token && self.holder.is_some()
    }
}

impl LeaseBook {
    pub(crate) fn lease(&mut self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        let before = self.entries.get(owner);
        if let Some(before) = before
            && before.holder.as_deref() != Some(holder)
        {
            leased_to(owner, None, before.holder.as_deref(), before.token, before.left())?;
        }
        let token = before.map_or(0, |before| before.token) + 1;
        let entry = LeaseEntry { holder: Some(holder.to_owned()), token, until: ends_at(lasts) };
        self.entries.insert(owner.clone(), entry);
        Ok(Lease::new(owner.clone(), holder, token))
    }

    /// Returns whether a commit is taken.
    pub(crate) fn allows(&self, owner: &Owner, lease: Option<&Lease>) -> Result<(), StoreError> {
        match self.entries.get(owner) {
            Some(entry) => leased_to(owner, lease, entry.holder.as_deref(), entry.token, entry.left()),
            None => leased_to(owner, lease, None, 0, Duration::ZERO),
        }
    }

    pub(crate) fn renew(&mut self, lease: &Lease, lasts: Duration) -> Result<(), StoreError> {
        self.allows(&lease.owner, Some(lease))?;
        if let Some(entry) = self.entries.get_mut(&lease.owner) {
            entry.until = ends_at(lasts);
        }
        Ok(())
    }

    pub(crate) fn release(&mut self, lease: &Lease) {
        if let Some(entry) = self.entries.get_mut(&lease.owner).filter(|entry| entry.is(lease)) {
            entry.holder = None;
        }
    }
}
