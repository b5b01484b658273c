//! Asking a store again that cannot answer now.

use std::cell::Cell;
use std::time::Duration;

use vestigum_core::{Image, Owner};

use super::{Line, Newest, Store, StoreError};

/// The pauses before the second, third… try. Together they are less than a second: a scanner lets go of a file by then, and a
/// title screen waits no longer.
const PAUSES: [Duration; 4] =
    [Duration::from_millis(10), Duration::from_millis(50), Duration::from_millis(200), Duration::from_millis(500)];

/// Reads from a store, and reads again what it cannot give now. All that is read through one shares the pauses: a store that does
/// not answer at all is not waited for once for each player.
pub struct Patience<'a> {
    store: &'a dyn Store,
    pauses: Cell<usize>,
}

impl<'a> Patience<'a> {
    /// Returns a reader of a store that has not waited yet.
    pub fn with(store: &'a dyn Store) -> Patience<'a> {
        Patience { store, pauses: Cell::new(0) }
    }

    /// Returns the store.
    pub fn store(&self) -> &'a dyn Store {
        self.store
    }

    /// Asks until there is an answer, an error that stays, or no pause is left.
    fn ask<T>(&self, mut ask: impl FnMut() -> Result<T, StoreError>) -> Result<T, StoreError> {
        loop {
            match ask() {
                Err(error) if error.may_pass() && self.pause() => {
                    tracing::debug!(%error, "asked again");
                }
                answer => return answer,
            }
        }
    }

    /// Waits once more; false if it was waited long enough.
    fn pause(&self) -> bool {
        let Some(pause) = PAUSES.get(self.pauses.get()) else { return false };
        self.pauses.set(self.pauses.get() + 1);
        self.store.pause(*pause);
        true
    }

    /// Returns everyone who has saves.
    ///
    /// # Errors
    /// As [`Store::owners`].
    pub fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.ask(|| self.store.owners())
    }

    /// Returns the numbers of an owner's generations, the oldest first.
    ///
    /// # Errors
    /// As [`Store::generations`].
    pub fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.ask(|| self.store.generations(owner))
    }

    /// Returns the highest number of an owner's generations, and what reading it said.
    ///
    /// # Errors
    /// As [`Store::newest`].
    pub fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        let Some(Newest { generation, image }) = self.ask(|| self.store.newest(owner))? else { return Ok(None) };
        let image = match unavailable(owner, generation, image) {
            // The whole is asked again: the newest may be another by now.
            Err(StoreError::Unavailable { .. }) if self.pause() => return self.newest(owner),
            image => image,
        };
        Ok(Some(Newest { generation, image }))
    }

    /// Returns the line of saves that the place writes for an owner.
    ///
    /// # Errors
    /// As [`Store::line`].
    pub fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.ask(|| self.store.line(owner))
    }

    /// Reads a generation, with all of its blobs that can be had at all.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] if the generation, or a blob of it, cannot be read now; others as [`Store::read`].
    pub fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        loop {
            match unavailable(owner, generation, self.store.read(owner, generation)) {
                Err(StoreError::Unavailable { .. }) if self.pause() => {}
                answer => return answer,
            }
        }
    }
}

/// Tells what cannot be read now from what is damaged or gone.
fn unavailable(owner: &Owner, generation: u64, read: Result<Image, StoreError>) -> Result<Image, StoreError> {
    let why = match &read {
        Ok(image) => {
            let lost = image.lost_blobs().into_iter().find(|(_, why)| why.is_unavailable());
            lost.map(|(blob, why)| format!("its blob {} {why}", blob.digest))
        }
        Err(error) if error.may_pass() => Some(error.to_string()),
        Err(_) => None,
    };
    match why {
        Some(why) => Err(StoreError::Unavailable { owner: owner.clone(), generation, why }),
        None => read,
    }
}
