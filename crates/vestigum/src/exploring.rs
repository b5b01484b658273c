//! Exploring on several threads.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

use vestigum_core::Spec;
use vestigum_core::explore::{Bounds, Ending, Found, Question, Search, Seen};

/// So many states of the frontier are looked at together.
const PART: usize = 128;

/// Searches for the answer to a question on so many threads; none means all cores. The answer does not depend on how many
/// there are. `watch` hears after each round how much was seen.
///
/// ```
/// use vestigum::explore::{Bounds, Ending, questions};
/// use vestigum::{Spec, explore_with};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
/// let question = &questions(&spec)[0];
/// let ending = explore_with(&spec, question, &Bounds::default(), None, &mut |_| {});
/// assert!(matches!(ending, Ending::Holds(seen) if seen.all));
/// # Ok::<(), vestigum::Diagnostics>(())
/// ```
pub fn explore_with(
    spec: &Spec,
    question: &Question,
    bounds: &Bounds,
    threads: Option<NonZero<usize>>,
    watch: &mut dyn FnMut(Seen),
) -> Ending {
    let threads = threads.or_else(|| thread::available_parallelism().ok()).map_or(1, NonZero::get);
    let mut search = Search::new(spec, question, bounds.clone());
    while search.frontier() > 0 {
        let found = round(&search, threads);
        search.merge(found);
        watch(search.seen());
    }
    search.into_ending()
}

/// One round: what came of each part of the frontier, in the order of the parts.
fn round(search: &Search<'_>, threads: usize) -> Vec<Vec<Found>> {
    let parts = search.frontier().div_ceil(PART);
    let range = |part: usize| part * PART..((part + 1) * PART).min(search.frontier());
    if threads == 1 || parts == 1 {
        return (0..parts).map(|part| search.expand(range(part))).collect();
    }
    let done: Vec<Mutex<Vec<Found>>> = (0..parts).map(|_| Mutex::default()).collect();
    let next = AtomicUsize::new(0);
    let work = || {
        loop {
            let part = next.fetch_add(1, Ordering::Relaxed);
            let Some(place) = done.get(part) else { break };
            *place.lock().unwrap_or_else(PoisonError::into_inner) = search.expand(range(part));
        }
    };
    thread::scope(|scope| (0..threads.min(parts)).for_each(|_| drop(scope.spawn(work))));
    done.into_iter().map(|part| part.into_inner().unwrap_or_else(PoisonError::into_inner)).collect()
}
