//! The thread that writes.

use vestigum_core::{Image, Owner, Suspended};

use super::queue::{SaveQueue, Task};
use crate::clock::rfc3339;
use crate::store::{Committed, Pruned, Store, StoreError, prune_all};

/// Writes what is handed over until the queue is closed.
pub(super) fn run(store: &dyn Store, queue: &SaveQueue) {
    let _stopped = Stopped(queue);
    loop {
        match queue.next() {
            Task::Commit(job) => {
                let mut image = image(&job.owner, &job.suspended);
                image.saved_at = rfc3339(job.at);
                let result = commit_making_room(store, job.follows, &image, &queue.owners());
                if let Err(error) = &result {
                    tracing::warn!(owner = %job.owner, %error, "a save failed; play goes on");
                }
                queue.tried(job, result);
            }
            Task::Prune { owner, keep } => {
                let pruned = store.prune(&owner, keep).unwrap_or_else(|error| {
                    tracing::warn!(%owner, %error, "old saves could not be removed");
                    Pruned::default()
                });
                queue.pruned(&owner, pruned);
            }
            Task::End => return,
        }
    }
}

/// Commits; where the disk is full, removes at once what may go, and tries once more. `owners` are those whose saves may
/// be pruned, each with how many generations it keeps.
///
/// # Errors
/// As [`Store::commit`].
pub fn commit_making_room(
    store: &dyn Store,
    follows: u64,
    image: &Image,
    owners: &[(Owner, u32)],
) -> Result<Committed, StoreError> {
    let result = store.commit(follows, image);
    if !result.as_ref().is_err_and(StoreError::is_full) {
        return result;
    }
    for (owner, keep) in owners {
        if let Err(error) = prune_all(store, owner, *keep) {
            tracing::warn!(%owner, %error, "the disk is full, and old saves could not be removed");
        }
    }
    store.commit(follows, image)
}

fn image(owner: &Owner, suspended: &Suspended) -> Image {
    match owner {
        Owner::Profile(name) => suspended.profile_image(name),
        Owner::Device => suspended.device_image(),
    }
}

/// Tells whoever waits that nothing more is written, also when the store panics.
struct Stopped<'a>(&'a SaveQueue);

impl Drop for Stopped<'_> {
    fn drop(&mut self) {
        self.0.stopped();
    }
}
