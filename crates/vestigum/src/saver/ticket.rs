//! What a game holds of a save that it handed over.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use crate::session::Saved;
use crate::store::StoreError;

use super::desk::{Desk, Marks, Standing};

/// A save on its way. It is done when the profile *and* the device are durable; a newer save that overtakes this one
/// counts for it.
///
/// Dropping a ticket changes nothing: the save goes on.
#[derive(Clone)]
pub struct SaveTicket {
    desk: Arc<Desk>,
    marks: Marks,
}

impl SaveTicket {
    pub(crate) fn new(desk: Arc<Desk>, marks: Marks) -> SaveTicket {
        SaveTicket { desk, marks }
    }

    pub(crate) fn marks(&self) -> &Marks {
        &self.marks
    }

    /// What came of it; none while it is being tried. After some tries have failed it is an error; the saver goes on
    /// trying (unless that cannot help), and when it succeeds, so does the ticket.
    pub fn poll(&self) -> Option<Result<Saved, Arc<StoreError>>> {
        match self.desk.standing(&self.marks) {
            Standing::Waiting => None,
            Standing::Durable(saved) => Some(Ok(saved)),
            Standing::Failed(error) => Some(Err(error)),
        }
    }

    /// Waits until it is durable. Not for the thread that draws: that one polls.
    ///
    /// # Errors
    /// If several tries in a row failed, or trying again cannot help.
    pub fn wait(&self) -> Result<Saved, Arc<StoreError>> {
        self.desk.wait(&self.marks, None).unwrap_or_else(|| Err(Arc::new(StoreError::Closed)))
    }

    /// Waits until it is durable, but not longer than `timeout`; none if it is still being tried then.
    pub fn wait_timeout(&self, timeout: Duration) -> Option<Result<Saved, Arc<StoreError>>> {
        self.desk.wait(&self.marks, Some(timeout))
    }
}

impl fmt::Debug for SaveTicket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SaveTicket").field("state", &self.poll()).finish()
    }
}
