//! The threads that write.

use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use vestigum_core::{EncodedImage, Image, Owner};

use super::owner_queue::Job;
use super::queue::{Assignment, SaveQueue, Task};
use crate::store::{Commit, Committed, Pruned, Store, StoreError, prune_all};

/// The threads that write into one store. One is always there; others help while there is more to do than it can.
#[derive(Clone)]
pub(super) struct Writers {
    pub store: Arc<dyn Store>,
    pub queue: Arc<SaveQueue>,
    threads: Arc<Mutex<Vec<JoinHandle<()>>>>,
}

impl Writers {
    pub(super) fn new(store: Arc<dyn Store>) -> Writers {
        let queue = Arc::new(SaveQueue::new(store.batch_size()));
        let writers = Writers { store, queue, threads: Arc::default() };
        writers.queue.writer_begins();
        writers.spawn(true);
        writers
    }

    /// Begins a thread that the queue counts already.
    fn spawn(&self, first: bool) {
        let writers = self.clone();
        let work = move || {
            let _ends = Ends(&writers.queue);
            writers.write(first);
        };
        match std::thread::Builder::new().name("vestigum saver".into()).spawn(work) {
            Ok(thread) => {
                let mut threads = self.threads.lock().unwrap_or_else(PoisonError::into_inner);
                threads.retain(|thread| !thread.is_finished());
                threads.push(thread);
            }
            Err(_) => self.queue.writer_ends(false),
        }
    }

    /// Writes what is left, and ends the threads.
    pub(super) fn close(&self) {
        self.queue.close();
        loop {
            let thread = self.threads.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let Some(thread) = thread else { return };
            // What a panic said, it has said.
            let _ = thread.join();
        }
    }

    /// Writes what is handed over until the queue is closed.
    fn write(&self, first: bool) {
        let (store, queue) = (&*self.store, &*self.queue);
        loop {
            let Assignment { task, another } = queue.next(first);
            if another {
                self.spawn(false);
            }
            if !work_on(store, queue, task) {
                return;
            }
        }
    }
}

/// Does a task; not for the end.
fn work_on(store: &dyn Store, queue: &SaveQueue, task: Task) -> bool {
    match task {
        Task::Commit(jobs) => {
            let tried = commit(store, queue, jobs);
            for (job, result) in &tried {
                if let Err(error) = result {
                    tracing::warn!(owner = %job.owner, %error, "a save failed; play goes on");
                }
            }
            queue.tried(tried);
        }
        Task::Prune(owners) => {
            for (owner, keep) in owners {
                let pruned = store.prune(&owner, keep).unwrap_or_else(|error| {
                    tracing::warn!(%owner, %error, "old saves could not be removed");
                    Pruned::default()
                });
                queue.pruned(&owner, pruned);
            }
        }
        Task::End => return false,
    }
    true
}

/// Remembers at most 64 images whose commit may have been done though it was reported as failed.
const UNCERTAIN: usize = 64;

/// Commits in one batch, each behind what the saver knows.
fn commit(store: &dyn Store, queue: &SaveQueue, mut jobs: Vec<Job>) -> Vec<(Job, Result<Committed, StoreError>)> {
    let images: Vec<Result<Option<EncodedImage>, StoreError>> = jobs.iter_mut().map(|job| job.encode(store)).collect();
    let encoded = images.iter().map(|image| image.as_ref().ok().and_then(Option::as_ref));
    let commits: Vec<Commit<'_>> = jobs.iter().zip(encoded).filter_map(|(job, image)| Some(of(job, image?))).collect();
    let mut done = store.commit_all(&commits);
    let is_full = |result: &Result<Committed, StoreError>| result.as_ref().is_err_and(StoreError::is_full);
    if done.iter().any(is_full) && queue.may_make_room() {
        // Once for all that found none, and in vain only now and then: thousands of players are not pruned for each of them.
        let removed = make_room(store, &queue.owners());
        queue.made_room(removed > 0);
        let full: Vec<usize> =
            done.iter().enumerate().filter(|(_, result)| is_full(result)).map(|(at, _)| at).collect();
        let again: Vec<Commit<'_>> = full.iter().filter_map(|at| commits.get(*at).copied()).collect();
        for (at, result) in full.into_iter().zip(store.commit_all(&again)) {
            done[at] = result;
        }
    }
    let mut done = done.into_iter();
    let mut tried = Vec::with_capacity(jobs.len());
    for (mut job, image) in jobs.into_iter().zip(images) {
        let result = match image {
            Ok(Some(image)) => {
                // A store that answers for fewer than it was given has not said that it wrote the rest.
                let result = done.next().unwrap_or(Err(StoreError::Closed));
                settle(store, &mut job, &image, result)
            }
            Err(error) => Err(error),
            Ok(None) => Ok(Committed::unchanged(job.follows)),
        };
        tried.push((job, result));
    }
    tried
}

fn of<'a>(job: &'a Job, image: &'a EncodedImage) -> Commit<'a> {
    Commit { follows: job.follows, image, lease: job.lease.as_ref() }
}

fn commit_alone(store: &dyn Store, commit: Commit<'_>) -> Result<Committed, StoreError> {
    store.commit_all(&[commit]).pop().unwrap_or(Err(StoreError::Closed))
}

/// Looks at a store that has another newest save than the saver knows. It may be one of the saver's own whose answer was lost: then
/// this one follows it.
fn settle(
    store: &dyn Store,
    job: &mut Job,
    image: &EncodedImage,
    mut result: Result<Committed, StoreError>,
) -> Result<Committed, StoreError> {
    if let Err(StoreError::Conflict { newest, .. }) = &result
        && !job.uncertain.is_empty()
    {
        let newest = *newest;
        match store.read(&job.owner, newest) {
            Ok(there) if job.uncertain.contains(&there.digest()) => {
                tracing::info!(owner = %job.owner, newest, "a save that was told as failed has been written");
                result = commit_alone(store, Commit { follows: newest, ..of(job, image) });
            }
            // It is tried again, and then looked at again.
            Err(error) if error.may_pass() => result = Err(error),
            Ok(_) | Err(_) => {}
        }
    }
    if result.as_ref().is_err_and(StoreError::may_pass) && !job.uncertain.iter().any(|digest| digest == image.digest())
    {
        let first = (job.uncertain.len() + 1).saturating_sub(UNCERTAIN);
        job.uncertain.drain(..first);
        job.uncertain.push(image.digest().to_owned());
    }
    result
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
    let _ = make_room(store, owners);
    store.commit(follows, image)
}

/// Old saves are removed for at most 2 s while others wait for room.
const MAKES_ROOM: Duration = Duration::from_secs(2);

/// Removes what may go; answers how many generations went.
fn make_room(store: &dyn Store, owners: &[(Owner, u32)]) -> usize {
    let began = Instant::now();
    let mut removed = 0;
    for (owner, keep) in owners {
        match prune_all(store, owner, *keep) {
            Ok(went) => removed += went,
            Err(error) => tracing::warn!(%owner, %error, "the disk is full, and old saves could not be removed"),
        }
        if began.elapsed() >= MAKES_ROOM {
            break;
        }
    }
    removed
}

/// Tells the queue that a writer has ended, also when the store panics.
struct Ends<'a>(&'a SaveQueue);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.writer_ends(std::thread::panicking());
    }
}
