//! Probing on several threads.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::parallel::{cores, in_parts};
use crate::probe::{Probe, ProbeVerdict, Weakened};

/// Tries everything that notices on every weakened spec, on all cores, within a budget of time; none means as long as it takes. What there
/// was no time for is [`ProbeVerdict::NotTried`]. The verdicts come in the order of the spec. `watch` hears how many are done, and of
/// how many.
pub fn probe_all(
    probe: &Probe,
    budget: Option<Duration>,
    watch: &(dyn Fn(usize, usize) + Sync),
) -> Vec<(Weakened, ProbeVerdict)> {
    // A time that no clock can hold is no limit.
    let until = budget.and_then(|budget| Instant::now().checked_add(budget));
    let stop = || until.is_some_and(|until| Instant::now() >= until);
    let weakened = probe.weakened();
    watch(0, weakened.len());
    let done = AtomicUsize::new(0);
    let verdicts = in_parts(weakened.len(), cores(), &|part| {
        let verdict = if stop() { ProbeVerdict::NotTried } else { probe.verdict_within(weakened.get(part)?, &stop) };
        watch(done.fetch_add(1, Ordering::Relaxed) + 1, weakened.len());
        Some(verdict)
    });
    weakened.into_iter().zip(verdicts).collect()
}
