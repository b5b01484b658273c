//! The queues of all owners, and lists of those that have something to do: with many owners nothing is searched.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use vestigum_core::device::DeviceSnapshot;
use vestigum_core::{Owner, Progress};

use super::owner_queue::{GivenUp, Job, Listed, OwnerQueue, Saved, Waiting};
use crate::store::{Lease, StoreError};

/// Describes where the game hands over and the writers take.
#[derive(Default)]
pub(super) struct QueueState {
    queues: HashMap<Arc<Owner>, OwnerQueue>,
    /// Those with something to write that no writer is at, who came first first.
    waiting: BTreeMap<u64, Arc<Owner>>,
    /// Those whose save failed, by when they are tried again.
    later: BTreeMap<(Instant, u64), Arc<Owner>>,
    /// Those whose old generations are removed when there is time, and those for whom it is time.
    due: BTreeSet<Arc<Owner>>,
    pressing: BTreeSet<Arc<Owner>>,
    /// The number of what was handed over last.
    numbers: u64,
    /// Counts commits as they begin and end, so that it is known which overlapped.
    pub events: u64,
    /// Says how many threads write.
    pub writers: usize,
    pub closing: bool,
    /// Bounds the pause before what failed is tried again; none for `LONGEST_PAUSE`.
    pub longest_pause: Option<Duration>,
    /// Until when old generations may still be removed: nobody who ends waits long for that.
    pub closes_at: Option<Instant>,
    pub stopped: bool,
    /// Says how many commits a second are made at the most.
    pub pace: Option<Pace>,
    /// Until when it is not looked again for old saves to make room.
    pub no_room_until: Option<Instant>,
    /// The leases that were found to be lost, until somebody asks.
    pub lost: Vec<(Lease, Arc<StoreError>)>,
}

/// A budget of commits a second.
#[derive(Clone, Copy, Debug)]
pub(super) struct Pace {
    a_second: f64,
    /// Says what may be made now.
    left: f64,
    counted_at: Instant,
}

impl Pace {
    pub(super) fn new(commits_a_second: u32) -> Pace {
        Pace { a_second: f64::from(commits_a_second.max(1)), left: 1.0, counted_at: Instant::now() }
    }

    /// Returns how many commits may be made now; if none, when one may be.
    fn may(&mut self, now: Instant) -> Result<usize, Instant> {
        let since = now.saturating_duration_since(self.counted_at).as_secs_f64();
        // What a quarter of a second has not used is gone: a budget is no debt.
        self.left = (self.left + since * self.a_second).min((self.a_second / 4.0).max(1.0));
        self.counted_at = now;
        if self.left >= 1.0 {
            return Ok(self.left as usize);
        }
        Err(now + Duration::from_secs_f64((1.0 - self.left) / self.a_second))
    }
}

/// Moves an owner in a list, into it or out of it.
fn relist<K: Ord>(list: &mut BTreeMap<K, Arc<Owner>>, owner: &Arc<Owner>, was: Option<K>, is: Option<K>) {
    if was != is {
        if let Some(was) = was {
            list.remove(&was);
        }
        if let Some(is) = is {
            list.insert(is, owner.clone());
        }
    }
}

/// Describes what there is to write.
pub(super) enum Taken {
    Jobs(Vec<Job>),
    /// Nothing yet, and from then on perhaps something.
    At(Instant),
    Nothing,
}

/// Describes how far targets are.
pub(super) enum TargetState {
    Waiting,
    Durable(Saved),
    Failed(Arc<StoreError>),
}

impl QueueState {
    pub(super) fn get(&self, owner: &Owner) -> Option<&OwnerQueue> {
        self.queues.get(owner)
    }

    /// All of them, in no order.
    pub(super) fn iter(&self) -> impl Iterator<Item = &OwnerQueue> {
        self.queues.values()
    }

    /// Changes a queue that is there, and brings the lists up to date.
    pub(super) fn change<T>(&mut self, owner: &Owner, change: impl FnOnce(&mut OwnerQueue) -> T) -> Option<T> {
        let queue = self.queues.get_mut(owner)?;
        let changed = change(queue);
        let (was, is, is_over) = (queue.listed, queue.wanted(), queue.is_over());
        if was != is || is_over {
            queue.listed = is;
            let owner = queue.owner.clone();
            self.list(&owner, was, is);
            if is_over {
                self.list(&owner, is, Listed::default());
                self.queues.remove(&*owner);
            }
        }
        Some(changed)
    }

    /// Returns the queue of an owner, and makes it if it is not there.
    pub(super) fn make<T>(&mut self, owner: &Arc<Owner>, change: impl FnOnce(&mut OwnerQueue) -> T) -> Option<T> {
        if let Entry::Vacant(entry) = self.queues.entry(owner.clone()) {
            entry.insert(OwnerQueue::new(owner.clone(), self.numbers));
        }
        self.change(owner, change)
    }

    fn list(&mut self, owner: &Arc<Owner>, was: Listed, is: Listed) {
        relist(&mut self.waiting, owner, was.turn, is.turn);
        relist(&mut self.later, owner, was.later, is.later);
        let sets = [(&mut self.due, was.due, is.due), (&mut self.pressing, was.pressing, is.pressing)];
        for (set, was, is) in sets {
            match (was, is) {
                (false, true) => drop(set.insert(owner.clone())),
                (true, false) => drop(set.remove(owner)),
                (true, true) | (false, false) => {}
            }
        }
    }

    /// The number of what is to be written for the device.
    pub(super) fn put_device(&mut self, progress: &Progress, at: SystemTime) -> u64 {
        self.put(&Arc::new(Owner::Device), at, |queue| {
            if queue.device.as_ref().is_none_or(|device| !device.is_still(progress)) {
                queue.device = Some(Arc::new(DeviceSnapshot::of(progress)));
            }
        })
    }

    /// Has something written, behind what waits already; `with` is what comes with it.
    pub(super) fn put(&mut self, owner: &Arc<Owner>, at: SystemTime, with: impl FnOnce(&mut OwnerQueue)) -> u64 {
        let number = self.numbers + 1;
        self.make(owner, |queue| {
            queue.handed = number;
            // What is newer keeps the place in the queue of what it replaces, so that nobody is overtaken for ever.
            let turn = queue.waiting.as_ref().map_or(number, |waiting| waiting.turn);
            queue.waiting = Some(Waiting { number, turn, at });
            with(queue);
        });
        self.numbers = number;
        number
    }

    /// The saves of some owners were gone, so those of the others may be: what their sessions saved last is written again,
    /// unless something newer waits, or they have noticed it since the commit began that found it.
    pub(super) fn write_again(&mut self, began: u64) {
        for queue in self.queues.values_mut().filter(|queue| queue.busy) {
            // What it saved last is not what it is writing now.
            queue.again = true;
        }
        let others =
            self.queues.values().filter(|queue| !queue.busy && queue.waiting.is_none() && queue.noticed < began);
        let mut again: Vec<(Arc<Owner>, SystemTime)> =
            others.filter_map(|queue| Some((queue.owner.clone(), queue.last?))).collect();
        // In the same order each time, so that tests with faults have the same story each time.
        again.sort();
        for (owner, at) in again {
            self.put(&owner, at, |_| ());
        }
    }

    /// Returns how far the device's queue is.
    fn device(&self) -> u64 {
        self.queues.get(&Owner::Device).map_or(u64::MAX, |queue| queue.durable)
    }

    /// Those that can be written now, at most that number; who came first comes first. If there are none, when there may be some. At the end
    /// everything is tried once.
    fn ready(&self, now: Instant, most: usize) -> Result<Vec<Arc<Owner>>, Option<Instant>> {
        let device = self.device();
        let may_follow = |owner: &&Arc<Owner>| self.queues.get(*owner).is_some_and(|queue| queue.may_follow(device));
        let again = self.later.iter().take_while(|((at, _), _)| self.closing || *at <= now).map(|(_, owner)| owner);
        let ready: Vec<Arc<Owner>> =
            again.chain(self.waiting.values()).filter(may_follow).take(most).cloned().collect();
        // Who cannot follow the device yet is looked at again when that is written.
        let later = self.later.keys().map(|(at, _)| *at).find(|at| *at > now);
        if ready.is_empty() { Err(later) } else { Ok(ready) }
    }

    /// Returns whether something waits that can be written now.
    pub(super) fn has_due(&mut self, now: Instant) -> bool {
        self.may(now).is_ok() && self.ready(now, 1).is_ok()
    }

    /// Returns how many commits the budget allows now. The end does not wait.
    fn may(&mut self, now: Instant) -> Result<usize, Instant> {
        match &mut self.pace {
            Some(pace) if !self.closing => pace.may(now),
            Some(_) | None => Ok(usize::MAX),
        }
    }

    /// The projections that are to be written next, at most that number.
    pub(super) fn take(&mut self, now: Instant, most: usize) -> Taken {
        if self.waiting.is_empty() && self.later.is_empty() {
            return Taken::Nothing;
        }
        let may = match self.may(now) {
            Ok(may) => may,
            Err(at) => return Taken::At(at),
        };
        let ready = match self.ready(now, most.min(may)) {
            Ok(ready) => ready,
            Err(Some(later)) => return Taken::At(later),
            Err(None) => return Taken::Nothing,
        };
        self.events += 1;
        let began = self.events;
        let jobs: Vec<Job> =
            ready.iter().filter_map(|owner| self.change(owner, |queue| queue.take(began)).flatten()).collect();
        if let Some(pace) = &mut self.pace {
            pace.left -= jobs.len() as f64;
        }
        Taken::Jobs(jobs)
    }

    /// Tries now what waits after a failure that may pass.
    pub(super) fn hurry(&mut self, now: Instant) {
        let owners: Vec<Arc<Owner>> = self.later.values().cloned().collect();
        for owner in owners {
            self.change(&owner, |queue| {
                if let Some(failure) = &mut queue.failure {
                    failure.again = Some(now);
                }
            });
        }
    }

    /// Those whose old generations are removed next, at most that number, each with how many it keeps.
    pub(super) fn take_prunes(&mut self, pressing: bool, most: usize) -> Vec<(Arc<Owner>, u32)> {
        let set = if pressing { &self.pressing } else { &self.due };
        let owners: Vec<Arc<Owner>> = set.iter().take(most).cloned().collect();
        let take = |owner: Arc<Owner>| {
            let keep = self.change(&owner, |queue| {
                (queue.prune.due, queue.busy) = (false, true);
                queue.prune.keep
            })?;
            Some((owner, keep))
        };
        owners.into_iter().filter_map(take).collect()
    }

    pub(super) fn target_state<'t>(&self, targets: impl Iterator<Item = (&'t Owner, u64)>) -> TargetState {
        let mut saved = Saved::default();
        let mut waiting = false;
        for (owner, number) in targets {
            let Some(queue) = self.queues.get(owner) else { continue };
            if let Some(error) = queue.given_up.as_ref().and_then(|given_up: &GivenUp| given_up.error_of(number)) {
                return TargetState::Failed(error.clone());
            }
            if queue.durable >= number {
                // The profile comes last, so that its generation is the one that is told.
                saved = Saved { generation: queue.saved.generation, written: saved.written || queue.saved.written };
                continue;
            }
            match &queue.failure {
                Some(failure) if failure.number >= number && failure.is_told() => {
                    return TargetState::Failed(failure.error.clone());
                }
                _ if self.stopped => return TargetState::Failed(Arc::new(StoreError::Closed)),
                _ => waiting = true,
            }
        }
        if waiting { TargetState::Waiting } else { TargetState::Durable(saved) }
    }
}
