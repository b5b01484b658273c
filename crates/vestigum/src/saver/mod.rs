//! Saving off the game loop.
//!
//! ```text
//! game thread                    the saver's thread
//!   save(): project ──────────▶  lane of the profile ─▶ encode ─▶ commit ─▶ durable
//!           ▲        └────────▶  lane of the device  ─▶ encode ─▶ commit ─▶ durable
//!           └── SaveTicket ◀──────────────────────────────────────────────────┘
//! ```
//!
//! `desk` is where projections are handed over and tickets look, `writer` is the thread that takes them from there,
//! `ticket` is what the game holds.

mod desk;
mod ticket;
mod writer;

pub use ticket::SaveTicket;

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use vestigum_core::{LiveDevice, Owner, Suspended};

use crate::common::Writing;
use crate::session::SessionError;
use crate::store::{Store, StoreError};

pub(crate) use desk::Desk;
pub use writer::commit_making_room;

/// The writer of a store: one thread that all sessions on that store in this process share.
///
/// Sessions start it by themselves. A game asks for it to flush everything before it ends.
///
/// ```
/// use std::time::Duration;
/// use vestigum::{MemoryStore, Saver, Session, Spec};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let store = MemoryStore::default();
/// let mut game = Session::launch(&spec, store.clone(), "ada")?;
/// game.add(spec.int("xp")?, 5)?;
/// game.save();                                     // returns at once
/// Saver::of(store).close(Duration::from_secs(5))?; // everything handed over is durable
/// # game.quit()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct Saver {
    core: Arc<Core>,
}

/// What the sessions of one store share. When the last one goes, the thread writes what it was given, and ends.
pub(crate) struct Core {
    pub store: Arc<dyn Store>,
    pub desk: Arc<Desk>,
    device: Mutex<LiveDevice>,
    thread: Option<JoinHandle<()>>,
}

impl Saver {
    /// The saver of a store.
    pub fn of<S: Store + 'static>(store: S) -> Saver {
        store.common().clone().saver(store)
    }

    pub(crate) fn at_work(core: Arc<Core>) -> Saver {
        Saver { core }
    }

    pub(crate) fn store(&self) -> &dyn Store {
        &*self.core.store
    }

    pub(crate) fn desk(&self) -> &Desk {
        &self.core.desk
    }

    pub(crate) fn device(&self) -> MutexGuard<'_, LiveDevice> {
        self.core.device.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a profile for one session. The newest generations are those that loading finds.
    pub(crate) fn begin(&self, profile: &Owner) -> Result<(), SessionError> {
        // What an earlier session of this process handed over is loaded, not passed over.
        self.desk().settle(&[profile], Duration::from_secs(10)).map_err(SessionError::Unsettled)?;
        match self.desk().begin(profile) {
            true => Ok(()),
            false => Err(SessionError::AlreadyRunning { owner: profile.clone() }),
        }
    }

    pub(crate) fn hand_over(&self, profile: &Owner, suspended: Suspended, saves_device: bool) -> SaveTicket {
        let marks = self.desk().hand_over(profile, suspended, saves_device);
        SaveTicket::new(self.core.desk.clone(), marks)
    }

    /// Whether everything that any session handed over is durable.
    pub fn settled(&self) -> bool {
        self.desk().all_settled()
    }

    /// Waits until everything that any session handed over is durable. Sessions can go on saving afterwards.
    ///
    /// # Errors
    /// If that takes longer than `timeout`, with the reason why the last try failed. It is still being tried.
    pub fn close(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        self.desk().settle_all(timeout)
    }
}

impl fmt::Debug for Saver {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Saver").field("settled", &self.settled()).finish_non_exhaustive()
    }
}

impl Core {
    pub(crate) fn start(store: Arc<dyn Store>, writing: Writing) -> Core {
        let desk = Arc::new(Desk::default());
        let thread = {
            let (store, desk) = (store.clone(), desk.clone());
            let work = move || {
                writer::run(&*store, &desk);
                drop((store, writing));
            };
            std::thread::Builder::new().name("vestigum saver".into()).spawn(work)
        };
        // Without a thread every save fails with that, and play goes on.
        if thread.is_err() {
            desk.stopped();
        }
        Core { store, desk, device: Mutex::default(), thread: thread.ok() }
    }
}

impl Drop for Core {
    fn drop(&mut self) {
        self.desk.close();
        if let Some(thread) = self.thread.take() {
            // A panic in the store was reported by the panic itself; tickets have failed with it.
            let _ = thread.join();
        }
    }
}
