//! Exploring on several threads.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use vestigum_core::Spec;

use crate::explore::{Ending, Expansion, Question, Search, SearchBounds, Seen};

/// So many states of the frontier are looked at together.
const PART: usize = 128;

/// Searches for the answers to many questions within a budget of time, on so many threads; none means all cores, and no
/// budget as long as it takes.
///
/// A mistake is mostly found soon, in whatever question, so each question first gets a small share; what is not answered by
/// then is asked again, with the time that is left. `watch` hears after each round which question it is and how much was
/// seen of it. An answer that was cut short says so: see [`Seen::stopped`].
pub fn explore_all(
    spec: &Spec,
    questions: &[Question],
    bounds: &SearchBounds,
    budget: Option<Duration>,
    threads: Option<NonZero<usize>>,
    watch: &mut dyn FnMut(usize, Seen),
) -> Vec<Explored> {
    let begun = Instant::now();
    let mut answers: Vec<Option<Explored>> = questions.iter().map(|_| None).collect();
    for last in [false, true] {
        let open: Vec<usize> = (0..questions.len())
            .filter(|at| answers[*at].as_ref().is_none_or(|answer| answer.ending.seen().stopped))
            .collect();
        for (place, at) in open.iter().enumerate() {
            let share = budget.map(|budget| match last {
                false => budget / 4 / questions.len() as u32,
                true => budget.saturating_sub(begun.elapsed()) / (open.len() - place) as u32,
            });
            let start = Instant::now();
            let until = share.map(|share| start + share);
            let ending = search(spec, &questions[*at], bounds, until, threads, &mut |seen| watch(*at, seen));
            let before = answers[*at].take().filter(|before| before.ending.seen().states > ending.seen().states);
            // The second look is the longer one, unless there was no time left for it.
            answers[*at] = Some(match before {
                Some(before) if ending.broken().is_none() => before,
                _ => Explored { ending, took: start.elapsed() },
            });
        }
        if budget.is_none() {
            break;
        }
    }
    answers.into_iter().flatten().collect()
}

/// The answer to a question, and how long it took.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Explored {
    /// The answer.
    pub ending: Ending,
    /// How long it took.
    pub took: Duration,
}

/// Searches for the answer to a question on so many threads; none means all cores. The answer does not depend on how many
/// there are. `watch` hears after each round how much was seen.
///
/// ```
/// use vestigum_verify::explore::{SearchBounds, Ending, questions};
/// use vestigum::Spec;
/// use vestigum_verify::explore::explore_with;
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
/// let question = &questions(&spec)[0];
/// let ending = explore_with(&spec, question, &SearchBounds::default(), None, &mut |_| {});
/// assert!(matches!(ending, Ending::Holds(seen) if seen.all));
/// # Ok::<(), vestigum::Diagnostics>(())
/// ```
pub fn explore_with(
    spec: &Spec,
    question: &Question,
    bounds: &SearchBounds,
    threads: Option<NonZero<usize>>,
    watch: &mut dyn FnMut(Seen),
) -> Ending {
    search(spec, question, bounds, None, threads, watch)
}

fn search(
    spec: &Spec,
    question: &Question,
    bounds: &SearchBounds,
    until: Option<Instant>,
    threads: Option<NonZero<usize>>,
    watch: &mut dyn FnMut(Seen),
) -> Ending {
    let threads = threads.or_else(|| thread::available_parallelism().ok()).map_or(1, NonZero::get);
    let mut search = Search::new(spec, question, bounds.clone());
    let late = || until.is_some_and(|until| Instant::now() >= until);
    while search.frontier() > 0 {
        let found = round(&search, threads, &late);
        // What a round that was cut short has found is as near as anything could be.
        search.merge(found);
        watch(search.seen());
        if late() && search.frontier() > 0 {
            search.checkpoint_key();
        }
    }
    search.into_ending()
}

/// One round: what came of each part of the frontier, in the order of the parts.
fn round(search: &Search<'_>, threads: usize, late: &(dyn Fn() -> bool + Sync)) -> Vec<Vec<Expansion>> {
    let parts = search.frontier().div_ceil(PART);
    let range = |part: usize| part * PART..((part + 1) * PART).min(search.frontier());
    if threads == 1 || parts == 1 {
        return (0..parts).take_while(|_| !late()).map(|part| search.expand(range(part))).collect();
    }
    let done: Vec<Mutex<Vec<Expansion>>> = (0..parts).map(|_| Mutex::default()).collect();
    let next = AtomicUsize::new(0);
    let work = || {
        loop {
            let part = next.fetch_add(1, Ordering::Relaxed);
            let Some(place) = done.get(part).filter(|_| !late()) else { break };
            *place.lock().unwrap_or_else(PoisonError::into_inner) = search.expand(range(part));
        }
    };
    thread::scope(|scope| (0..threads.min(parts)).for_each(|_| drop(scope.spawn(work))));
    done.into_iter().map(|part| part.into_inner().unwrap_or_else(PoisonError::into_inner)).collect()
}
