//! Exploring on several threads.

use std::num::NonZero;
use std::time::{Duration, Instant};

use vestigum_core::Spec;

use super::search::Replayed;
use crate::explore::{Act, Ending, Expansion, Question, Search, SearchBounds, Seen};
use crate::parallel::{cores, in_parts};

/// 128 states of the frontier are looked at together.
const PART: usize = 128;

/// Searches for the answers to many questions within a budget of time, on a number of threads; none means all cores, and no
/// budget as long as it takes.
///
/// A mistake is mostly found soon, in whatever question, so each question first gets a small share; what is not answered by
/// then is asked again, with the time that is left. `watch` hears after each round which question it is and how much was
/// seen of it. An answer that was cut short says so: see [`Seen::stopped`].
///
/// # Example
///
/// ```
/// use vestigum_verify::explore::{SearchBounds, explore_all, questions};
/// # let spec = vestigum::Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let asked = questions(&spec);
/// for answer in explore_all(&spec, &asked, &SearchBounds::default(), None, None, &mut |_, _| {}) {
///     println!("{}", answer.ending.how_known());
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
            let now = Explored { ending, took: start.elapsed() };
            answers[*at] = Some(match answers[*at].take() {
                Some(before) => before.or(now),
                None => now,
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
    /// Says how long it took.
    pub took: Duration,
}

impl Explored {
    /// The answer of a second look, or this one: where neither came to its end, the one that has seen more. The second look is the
    /// longer one, unless there was no time left for it.
    fn or(self, second: Explored) -> Explored {
        let (first_seen, seen) = (self.ending.seen(), second.ending.seen());
        if seen.stopped && second.ending.broken().is_none() && first_seen.states > seen.states { self } else { second }
    }
}

/// Searches for the answer to a question on a number of threads; none means all cores. The answer does not depend on how many
/// there are. `watch` hears after each round how much was seen.
///
/// ```
/// use vestigum_verify::explore::{SearchBounds, questions};
/// use vestigum::Spec;
/// use vestigum_verify::explore::explore_with;
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
/// let question = &questions(&spec)[0];
/// let ending = explore_with(&spec, question, &SearchBounds::default(), None, &mut |_| {});
/// assert!(ending.broken().is_none() && ending.seen().all);
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
    let threads = threads.map_or_else(cores, NonZero::get);
    let search = Search::new(spec, question, bounds.clone());
    if search.frontier() > 0 && bounds.unlocked {
        // Half of the time is for the search with the locks on.
        let half = until.map(|until| Instant::now() + until.saturating_duration_since(Instant::now()) / 2);
        if let Some(ending) = unlocked(spec, question, &search, bounds, half, threads, watch) {
            return ending;
        }
    }
    run(search, until, threads, watch).into_ending()
}

/// The answer of a search with locks lifted, if it has one.
fn unlocked(
    spec: &Spec,
    question: &Question,
    exact: &Search<'_>,
    bounds: &SearchBounds,
    until: Option<Instant>,
    threads: usize,
    watch: &mut dyn FnMut(Seen),
) -> Option<Ending> {
    let mut relaxation = exact.relaxation()?;
    loop {
        let mut seen = Seen { all: true, unlocked: true, ..Seen::default() };
        let mut broken: Option<Vec<Act>> = None;
        let mut looked_at = Seen::default();
        for focused in exact.focused(&relaxation) {
            let search = run(Search::relaxed(spec, question, bounds.clone(), focused), until, threads, watch);
            let candidate = search.broken_by().to_vec();
            let ending = search.into_ending();
            looked_at = looked_at.and(ending.seen());
            match ending {
                Ending::Holds(one, _) | Ending::NeverHappened(one) | Ending::Unknown(one, _) => seen = seen.and(one),
                // Of several candidates the shortest is the one that no other play undercuts.
                Ending::Broken(_) if !candidate.is_empty() => {
                    if broken.as_ref().is_none_or(|known| candidate.len() < known.len()) {
                        broken = Some(candidate);
                    }
                }
                // What was not seen to its end is left to the search with the locks on.
                Ending::Open(..) | Ending::Broken(_) | Ending::Proved(_) | Ending::Played(..) => return None,
            }
        }
        let Some(acts) = broken else { return Some(exact.unbroken(seen)) };
        match exact.replay(&acts, looked_at) {
            Replayed::Broken(ending) => return Some(ending),
            Replayed::LockedOut(level) => relaxation = exact.locked(&relaxation, level)?,
            Replayed::Otherwise => return None,
        }
    }
}

fn run<'s>(mut search: Search<'s>, until: Option<Instant>, threads: usize, watch: &mut dyn FnMut(Seen)) -> Search<'s> {
    let late = || until.is_some_and(|until| Instant::now() >= until);
    while search.frontier() > 0 {
        let (found, whole) = round(&search, threads, &late);
        // What a round that was cut short has found is as near as anything could be.
        search.merge(found, whole);
        watch(search.seen());
        if late() && search.frontier() > 0 {
            search.stop();
        }
    }
    search
}

/// One round: what came of each part of the frontier, in the order of the parts, and whether there was time for all of them.
fn round(search: &Search<'_>, threads: usize, late: &(dyn Fn() -> bool + Sync)) -> (Vec<Vec<Expansion>>, bool) {
    let parts = search.frontier().div_ceil(PART);
    let range = |part: usize| part * PART..((part + 1) * PART).min(search.frontier());
    let found = in_parts(parts, threads, &|part| (!late()).then(|| search.expand(range(part))));
    let whole = found.len() == parts;
    (found, whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// With the locks lifted a search can be through with fewer states than one that was cut short has seen.
    #[test]
    fn an_answer_that_came_to_its_end_is_not_given_up_for_one_that_has_seen_more() {
        let explored = |states, stopped| {
            let seen = Seen { states, stopped, all: !stopped, ..Seen::default() };
            Explored {
                ending: Ending::unbroken(Seen { judged: true, ..seen }, &SearchBounds::default(), &[]),
                took: Duration::ZERO,
            }
        };
        for (first, second, kept) in [(33_049, (18_561, false), 18_561), (900, (40, true), 900), (40, (900, true), 900)]
        {
            let both = explored(first, true).or(explored(second.0, second.1));
            assert_eq!(both.ending.seen().states, kept);
        }
    }
}
