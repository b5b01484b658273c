//! What the handles on one store have in common.

use std::fmt;
use std::sync::{Arc, Condvar, Mutex, PoisonError, Weak};

use crate::saver::{Core, Saver};
use crate::store::Store;

/// Ties the sessions of a process together that use one store: they share its saver and the values of the device.
///
/// A store keeps one, made with `Common::default()`, beside whatever its handles share, and answers it in
/// [`Store::common`]. Clones are the same one.
#[derive(Clone, Default)]
pub struct Common(Arc<Shared>);

#[derive(Default)]
struct Shared {
    state: Mutex<State>,
    stopped: Condvar,
}

#[derive(Default)]
struct State {
    core: Weak<Core>,
    writers: usize,
}

impl Common {
    /// The saver of the store: the one that is at work, or a new one.
    pub(crate) fn saver<S: Store + 'static>(&self, store: S) -> Saver {
        let mut state = self.0.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(core) = state.core.upgrade() {
                return Saver::at_work(core);
            }
            if state.writers == 0 {
                break;
            }
            // The one before is still writing what it was given: whoever loads now must find it.
            state = self.0.stopped.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        state.writers += 1;
        let core = Arc::new(Core::start(Arc::new(store), Writing(self.clone())));
        state.core = Arc::downgrade(&core);
        Saver::at_work(core)
    }
}

impl fmt::Debug for Common {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Common")
    }
}

/// Held by a thread while it writes.
pub(crate) struct Writing(Common);

impl Drop for Writing {
    fn drop(&mut self) {
        let mut state = self.0.0.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.writers -= 1;
        self.0.0.stopped.notify_all();
    }
}
