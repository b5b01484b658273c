//! The thread that writes.

use vestigum_core::{Image, Owner, Suspended};

use crate::store::Store;

use super::desk::{Desk, Task};

/// Writes what is handed over until the desk is closed.
pub(super) fn run(store: &dyn Store, desk: &Desk) {
    let _stopped = Stopped(desk);
    loop {
        match desk.next() {
            Task::Commit(job) => {
                let mut image = image(&job.owner, &job.suspended);
                image.saved_at = format!("{:.3}", job.at);
                let result = store.commit(job.follows, &image);
                if let Err(error) = &result {
                    tracing::warn!(owner = %job.owner, %error, "a save failed; play goes on");
                }
                desk.tried(job, result);
            }
            Task::Prune { owner, keep } => {
                if let Err(error) = store.prune(&owner, keep) {
                    tracing::warn!(%owner, %error, "old saves could not be removed");
                }
            }
            Task::End => return,
        }
    }
}

fn image(owner: &Owner, suspended: &Suspended) -> Image {
    match owner {
        Owner::Profile(name) => suspended.profile_image(name),
        Owner::Device => suspended.device_image(),
    }
}

/// Tells whoever waits that nothing more is written, also when the store panics.
struct Stopped<'a>(&'a Desk);

impl Drop for Stopped<'_> {
    fn drop(&mut self) {
        self.0.stopped();
    }
}
