//! Probing on several threads.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

use crate::probe::{Probe, ProbeVerdict, Weakened};

/// Tries everything that notices on every weakened spec, on all cores. The verdicts come in the order of the spec.
/// `watch` hears how many are done, and of how many.
pub fn probe_all(probe: &Probe, watch: &(dyn Fn(usize, usize) + Sync)) -> Vec<(Weakened, ProbeVerdict)> {
    let weakened = probe.weakened();
    let verdicts: Vec<Mutex<Option<ProbeVerdict>>> = weakened.iter().map(|_| Mutex::default()).collect();
    let (next, done) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let work = || {
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            let Some(one) = weakened.get(index) else { break };
            *verdicts[index].lock().unwrap_or_else(PoisonError::into_inner) = Some(probe.verdict(one));
            watch(done.fetch_add(1, Ordering::Relaxed) + 1, weakened.len());
        }
    };
    let threads = thread::available_parallelism().map_or(1, NonZero::get);
    thread::scope(|scope| (0..threads).for_each(|_| drop(scope.spawn(work))));
    let verdicts = verdicts.into_iter().map(|verdict| verdict.into_inner().unwrap_or_else(PoisonError::into_inner));
    weakened.into_iter().zip(verdicts).filter_map(|(one, verdict)| Some((one, verdict?))).collect()
}
