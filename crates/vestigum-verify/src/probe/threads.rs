//! Probing on several threads.

use std::sync::atomic::{AtomicUsize, Ordering};

use crate::parallel::{cores, in_parts};
use crate::probe::{Probe, ProbeVerdict, Weakened};

/// Tries everything that notices on every weakened spec, on all cores. The verdicts come in the order of the spec.
/// `watch` hears how many are done, and of how many.
pub fn probe_all(probe: &Probe, watch: &(dyn Fn(usize, usize) + Sync)) -> Vec<(Weakened, ProbeVerdict)> {
    let weakened = probe.weakened();
    let done = AtomicUsize::new(0);
    let verdicts = in_parts(weakened.len(), cores(), &|part| {
        let verdict = probe.verdict(weakened.get(part)?);
        watch(done.fetch_add(1, Ordering::Relaxed) + 1, weakened.len());
        Some(verdict)
    });
    weakened.into_iter().zip(verdicts).collect()
}
