//! What a game holds of a save that it handed over.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use super::owner_queue::Saved;
use super::queue::{SaveQueue, SaveTargets};
use super::state::TargetState;
use crate::store::StoreError;

/// A save on its way. It is done when the profile *and* the device are durable; a newer save that overtakes this one
/// counts for it.
///
/// Dropping a ticket changes nothing: the save goes on.
///
/// # Example
///
/// ```
/// # use vestigum::{MemoryStore, Session, Spec};
/// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
/// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
/// let ticket = game.save();                          // returns at once
/// match ticket.poll() {
///     None => println!("saving"),                    // draw the sign that it saves
///     Some(Ok(saved)) => println!("generation {} is durable", saved.generation),
///     Some(Err(error)) => println!("not saved yet: {error}"),
/// }
/// ticket.wait()?;                                    // not on the thread that draws
/// # game.quit()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct SaveTicket {
    queue: Arc<SaveQueue>,
    targets: SaveTargets,
}

impl SaveTicket {
    pub(crate) fn new(queue: Arc<SaveQueue>, targets: SaveTargets) -> SaveTicket {
        SaveTicket { queue, targets }
    }

    pub(crate) fn targets(&self) -> &SaveTargets {
        &self.targets
    }

    /// Returns what came of it; none while it is being tried. After some tries have failed it is an error; the saver goes on
    /// trying (unless that cannot help), and when it succeeds, so does the ticket.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let ticket = game.save();
    /// match ticket.poll() {
    ///     None => println!("saving …"),
    ///     Some(Ok(saved)) => println!("saved as generation {}", saved.generation),
    ///     Some(Err(why)) => println!("not saved yet: {why}"),
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn poll(&self) -> Option<Result<Saved, Arc<StoreError>>> {
        match self.queue.target_state(&self.targets) {
            TargetState::Waiting => None,
            TargetState::Durable(saved) => Some(Ok(saved)),
            TargetState::Failed(error) => Some(Err(error)),
        }
    }

    /// Waits until it is durable. Not for the thread that draws: that one polls.
    ///
    /// # Errors
    /// If several tries in a row failed, or trying again cannot help.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let saved = game.save().wait()?;
    /// println!("generation {} is durable", saved.generation);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn wait(&self) -> Result<Saved, Arc<StoreError>> {
        self.queue.wait(&self.targets, None).unwrap_or_else(|| Err(Arc::new(StoreError::Closed)))
    }

    /// Waits until it is durable, but not longer than `timeout`; none if it is still being tried then.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use std::time::Duration;
    /// if game.save().wait_timeout(Duration::from_secs(1)).is_none() {
    ///     println!("the disk is slow; it is still being tried");
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn wait_timeout(&self, timeout: Duration) -> Option<Result<Saved, Arc<StoreError>>> {
        self.queue.wait(&self.targets, Some(timeout))
    }
}

impl fmt::Debug for SaveTicket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SaveTicket").field("state", &self.poll()).finish()
    }
}
