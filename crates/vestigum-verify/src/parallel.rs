//! Work in many parts, on all cores.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

/// Returns the number of cores: one thread for each.
pub(crate) fn cores() -> usize {
    thread::available_parallelism().map_or(1, NonZero::get)
}

/// Does part 0 to part `parts` - 1, each once, on a number of threads; whoever is free takes the next one. Answers what came of
/// the parts, in their order, whichever thread did them.
///
/// `work` answers none to end early: no thread begins another part then, and parts that were not done have no result.
pub(crate) fn in_parts<T: Send>(parts: usize, threads: usize, work: &(dyn Fn(usize) -> Option<T> + Sync)) -> Vec<T> {
    if threads <= 1 || parts <= 1 {
        return (0..parts).map_while(work).collect();
    }
    let done: Vec<Mutex<Option<T>>> = (0..parts).map(|_| Mutex::new(None)).collect();
    let next = AtomicUsize::new(0);
    let take = || {
        loop {
            let part = next.fetch_add(1, Ordering::Relaxed);
            let Some(place) = done.get(part) else { break };
            let Some(result) = work(part) else {
                next.store(parts, Ordering::Relaxed);
                break;
            };
            *place.lock().unwrap_or_else(PoisonError::into_inner) = Some(result);
        }
    };
    thread::scope(|scope| (0..threads.min(parts)).for_each(|_| drop(scope.spawn(take))));
    done.into_iter().filter_map(|part| part.into_inner().unwrap_or_else(PoisonError::into_inner)).collect()
}
