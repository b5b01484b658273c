//! Saving off the game loop.
//!
//! ```text
//! game thread                    the saver's thread
//!   save(): project ──────────▶  queue of the profile ─▶ encode ─▶ commit ─▶ durable
//!           ▲        └────────▶  queue of the device  ─▶ encode ─▶ commit ─▶ durable
//!           └── SaveTicket ◀──────────────────────────────────────────────────┘
//! ```
//!
//! `queue` is where projections are handed over and tickets look; `state` behind it has an `owner_queue` for each owner. `writer` has
//! the threads that take them from there, `ticket` is what the game holds. One thread is always there; where many owners save at
//! once, others help.

mod following;
mod owner_queue;
mod queue;
mod state;
mod ticket;
mod writer;

pub(crate) use following::Following;
pub use following::{FollowError, as_play};
pub use owner_queue::Saved;
pub(crate) use queue::SaveTargets;
pub use ticket::SaveTicket;
pub use writer::commit_making_room;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::Duration;

use queue::SaveQueue;
use writer::Writers;

use vestigum_core::{LiveDevice, Owner, Progress};

use crate::error::SessionError;
use crate::store::{Store, StoreError, StoreIdentity};

/// A store and the threads that write into it.
///
/// A session makes one by itself of the store that it is given, and sessions on clones of one store share it: they share the device's
/// values, and none writes over another. Of a store that cannot tell [which one it is](Store::identity) the game makes one and gives
/// each session a clone.
///
/// When the last clone is dropped, its threads write what they were given, and end.
///
/// ```
/// use std::time::Duration;
/// use vestigum::{MemoryStore, Saver, Session, Spec};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let saver = Saver::new(MemoryStore::default());
/// let mut ada = Session::launch(&spec, &saver, "ada")?;
/// let mut bo = Session::launch(&spec, &saver, "bo")?;
/// ada.add(spec.int("xp")?, 5)?;
/// ada.save();                                   // returns at once
/// bo.save();
/// saver.flush(Duration::from_secs(5))?;         // everything that was handed over is durable
/// # ada.quit()?;
/// # bo.quit()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct Saver {
    shared: Arc<Shared>,
}

/// Describes what the clones of a saver share.
struct Shared {
    writers: Writers,
    device: Mutex<LiveDevice>,
    /// The version of the device's values, for a look without the lock.
    device_version: AtomicU64,
}

/// The savers of this process, by their stores.
static KNOWN: Mutex<BTreeMap<StoreIdentity, Weak<Shared>>> = Mutex::new(BTreeMap::new());

impl<S: Store + 'static> From<S> for Saver {
    fn from(store: S) -> Saver {
        Saver::new(store)
    }
}

impl From<&Saver> for Saver {
    fn from(saver: &Saver) -> Saver {
        saver.clone()
    }
}

impl Saver {
    /// Returns the saver of a store: the one that its [clones](Store::identity) have already in this process, or a new one.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Saver, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// let saver = Saver::new(MemoryStore::default());
    /// let ada = Session::launch(&spec, &saver, "ada")?;
    /// let bo = Session::launch(&spec, &saver, "bo")?;      // a second player on the same sofa
    /// # ada.quit()?;
    /// # bo.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn new(store: impl Store + 'static) -> Saver {
        let Some(identity) = store.identity() else { return Saver::alone(store) };
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        // The address of a store is its own for as long as its saver is there.
        if let Some(shared) = known.get(&identity).and_then(Weak::upgrade) {
            return Saver { shared };
        }
        known.retain(|_, shared| shared.strong_count() > 0);
        let saver = Saver::alone(store);
        known.insert(identity, Arc::downgrade(&saver.shared));
        saver
    }

    /// Returns a saver of its own: for a roster, which is one of several servers even where they share a process.
    pub(crate) fn alone(store: impl Store + 'static) -> Saver {
        let writers = Writers::new(Arc::new(store));
        Saver { shared: Arc::new(Shared { writers, device: Mutex::default(), device_version: AtomicU64::new(0) }) }
    }

    /// The store.
    pub fn store(&self) -> &dyn Store {
        &*self.shared.writers.store
    }

    pub(crate) fn queue(&self) -> &SaveQueue {
        &self.shared.writers.queue
    }

    pub(crate) fn device(&self) -> MutexGuard<'_, LiveDevice> {
        self.shared.device.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns whether a session that has seen that version of the device's values has the newest.
    #[inline]
    pub(crate) fn is_newest_device(&self, seen: u64) -> bool {
        self.shared.device_version.load(Ordering::Acquire) == seen
    }

    /// Tells all sessions which version of the device's values is the newest. The caller holds their lock.
    pub(crate) fn publish_device(&self, version: u64) {
        self.shared.device_version.store(version, Ordering::Release);
    }

    /// Takes a profile for one session. The newest generations are those that loading finds.
    pub(crate) fn begin(&self, profile: &Arc<Owner>) -> Result<(), SessionError> {
        // What an earlier session of this process handed over is loaded, not passed over.
        if let Err(error) = self.queue().settle(&[profile], Duration::from_secs(10)) {
            if !error.is_someone_else() {
                return Err(SessionError::Unsettled(error));
            }
            // It was told as such, and can never be written: what somebody else wrote is loaded.
            self.queue().give_up(profile, error);
        }
        match self.queue().begin(profile) {
            true => Ok(()),
            false => Err(SessionError::AlreadyRunning { owner: (**profile).clone() }),
        }
    }

    pub(crate) fn hand_over(&self, profile: &Arc<Owner>, progress: &mut Progress, saves_device: bool) -> SaveTicket {
        let targets = self.queue().hand_over(profile, progress, saves_device);
        SaveTicket::new(self.shared.writers.queue.clone(), targets)
    }

    /// A ticket for what was handed over last for an owner.
    pub(crate) fn ticket_of(&self, owner: &Arc<Owner>) -> SaveTicket {
        let targets = SaveTargets::of(owner.clone(), self.queue().handed(owner));
        SaveTicket::new(self.shared.writers.queue.clone(), targets)
    }

    /// Returns whether everything that any session handed over is durable.
    pub fn settled(&self) -> bool {
        self.queue().all_settled()
    }

    /// Waits until everything that any session handed over is durable. Sessions can go on saving afterwards.
    ///
    /// # Errors
    /// If that takes longer than `timeout`, with the reason why the last try failed. It is still being tried.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Saver, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// use std::time::Duration;
    /// let saver = Saver::new(MemoryStore::default());
    /// # let mut ada = Session::launch(&spec, &saver, "ada")?;
    /// ada.save();
    /// saver.flush(Duration::from_secs(3))?;        // before the process is replaced by another
    /// # ada.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn flush(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        self.queue().settle_all(timeout)
    }
}

impl fmt::Debug for Saver {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Saver").field("settled", &self.settled()).finish_non_exhaustive()
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        self.writers.close();
    }
}
