//! Where projections wait to be written.
//!
//! Each owner has a queue of its own. A projection gets the next number and replaces one that still waits there; what is
//! durable is known by the number that was written last. So a ticket is a number for each queue. `owner_queue` is one of them,
//! `state` is all of them, and here is what the game and the writers do with them, behind a lock.

use std::cell::Cell;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use vestigum_core::{Owner, Progress};

use super::following::Following;
use super::owner_queue::{
    After, FIRST_PAUSE, Job, LONGEST_HURRIED, LONGEST_PAUSE, OwnerQueue, Prune, Retry, Saved, Waiting,
};
use super::state::{Pace, QueueState, Taken, TargetState};
use crate::store::{Committed, Lease, Pruned, StoreError};

/// When the last session of a store has ended, old generations are removed for 50 ms at the most; what is left is removed
/// after the next launch.
const LAST_PRUNES: Duration = Duration::from_millis(50);

/// Looks again 10 s after nothing could be removed from a full disk.
const NO_ROOM: Duration = Duration::from_secs(10);

/// At most 8 threads write at once: a disk takes the syncs of several at little more than the price of one.
const WRITERS: usize = 8;

/// Writes for a store that takes batches: while one is on its way, the next ones are made.
const BATCH_WRITERS: usize = 4;

/// Describes where the game hands over and the writer takes.
pub(crate) struct SaveQueue {
    /// Says how many commits are made at once.
    batch: usize,
    state: Mutex<QueueState>,
    /// Something was handed over, or it is time to end.
    work: Condvar,
    /// A try has ended.
    done: Condvar,
}

/// Some things for the writer to do.
pub(super) enum Task {
    Commit(Vec<Job>),
    Prune(Vec<(Arc<Owner>, u32)>),
    End,
}

/// A task, and whether there is more than the writers can do, so that another one begins.
pub(super) struct Assignment {
    pub task: Task,
    pub another: bool,
}

/// Numbers in the queues of owners: all up to it are durable, or not. The profile comes last.
type Targets = Vec<(Owner, u64)>;

/// Describes what a ticket waits for.
#[derive(Clone, Debug)]
pub(crate) struct SaveTargets {
    profile: Arc<Owner>,
    number: u64,
    /// The number in the device's queue.
    device: Option<u64>,
}

impl SaveTargets {
    /// Returns what was handed over of a player alone.
    pub(super) fn of(profile: Arc<Owner>, number: u64) -> SaveTargets {
        SaveTargets { profile, number, device: None }
    }

    fn iter(&self) -> impl Iterator<Item = (&Owner, u64)> {
        let device = self.device.map(|number| (&Owner::Device, number));
        device.into_iter().chain([(&*self.profile, self.number)])
    }
}

impl SaveQueue {
    /// A queue whose commits are made in batches of that size.
    pub(super) fn new(batch: usize) -> SaveQueue {
        SaveQueue { batch: batch.max(1), state: Mutex::default(), work: Condvar::new(), done: Condvar::new() }
    }

    fn lock(&self) -> MutexGuard<'_, QueueState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a session of that owner, unless one runs.
    pub(crate) fn begin(&self, owner: &Arc<Owner>) -> bool {
        let began = self.lock().make(owner, |queue| {
            queue.retired = false;
            !std::mem::replace(&mut queue.running, true)
        });
        began.unwrap_or(false)
    }

    /// Notes what loading found: the next commit follows the newest generation. Old ones are removed when there is time,
    /// now or, of a roster with its many players, when the player leaves.
    pub(crate) fn found(&self, owner: &Arc<Owner>, newest: u64, keep: u32, prune: bool) {
        self.lock().make(owner, |queue| {
            queue.saved = Saved { generation: newest, written: false };
            queue.failure = None;
            queue.prune = Prune { keep, commits: 0, due: prune };
            queue.after = After::Nothing;
        });
        self.work.notify_one();
    }

    /// The origins of what is saved of a player from now on, in a game that merges.
    pub(crate) fn follow(&self, owner: &Arc<Owner>, following: Option<Following>) {
        self.lock().make(owner, |queue| queue.following = following.map(Box::new));
    }

    /// Loading moved values of this player to the device: nothing is written for the player before the device has them.
    pub(crate) fn device_first(&self, owner: &Owner) {
        self.lock().change(owner, |queue| queue.after = After::Next);
    }

    /// Sets what the commits of an owner carry from now on.
    pub(crate) fn set_lease(&self, owner: &Arc<Owner>, lease: Option<Lease>) {
        self.lock().make(owner, |queue| queue.lease = lease);
    }

    /// A session of that owner has ended.
    pub(crate) fn end(&self, owner: &Owner) {
        self.lock().change(owner, |queue| {
            queue.running = false;
            queue.last = None;
            queue.forget_copies();
        });
    }

    /// Forgets an owner as soon as there is nothing left to do for it.
    pub(crate) fn retire(&self, owner: &Owner) {
        self.lock().change(owner, |queue| queue.retired = true);
    }

    /// Gives up what is not durable of an owner: somebody else wrote, or has the owner, so it never can be.
    pub(crate) fn give_up(&self, owner: &Owner, error: Arc<StoreError>) {
        self.lock().change(owner, |queue| {
            if !queue.is_settled() {
                tracing::warn!(%owner, %error, "what was not saved is given up");
                queue.give_up(error);
            }
        });
        self.done.notify_all();
    }

    /// Tries everything at once that waits after a failure.
    pub(crate) fn hurry(&self) {
        let mut state = self.lock();
        let longest = state.longest_pause.map_or(LONGEST_HURRIED, |longest| longest.min(LONGEST_HURRIED));
        (state.pace, state.longest_pause) = (None, Some(longest));
        state.hurry(Instant::now());
        drop(state);
        self.work.notify_all();
    }

    /// The leases that were found to be lost since this was asked last, and why.
    pub(crate) fn take_lost(&self) -> Vec<(Lease, Arc<StoreError>)> {
        std::mem::take(&mut self.lock().lost)
    }

    /// A lease is lost.
    pub(crate) fn lost(&self, lease: Lease, error: Arc<StoreError>) {
        self.lock().lost.push((lease, error));
    }

    /// The number of what was handed over last for an owner.
    pub(crate) fn handed(&self, owner: &Owner) -> u64 {
        self.lock().get(owner).map_or(0, |queue| queue.handed)
    }

    /// Returns what was handed over last for owners.
    pub(crate) fn targets_of<'o>(&self, owners: impl IntoIterator<Item = &'o Arc<Owner>>) -> Vec<SaveTargets> {
        let state = self.lock();
        let targets =
            |owner: &Arc<Owner>| SaveTargets::of(owner.clone(), state.get(owner).map_or(0, |queue| queue.handed));
        owners.into_iter().map(targets).collect()
    }

    /// Waits until each of the targets is durable or can never be, but not longer than that; answers for each of them, with why the
    /// last try failed, if one did.
    pub(crate) fn wait_for_all(
        &self,
        targets: &[&SaveTargets],
        timeout: Duration,
    ) -> Vec<Result<(), Option<Arc<StoreError>>>> {
        let is_done = |state: &QueueState, targets: &SaveTargets| match state.target_state(targets.iter()) {
            TargetState::Durable(_) => true,
            TargetState::Failed(error) => state.stopped || !error.may_pass(),
            TargetState::Waiting => false,
        };
        // What is done stays done, so that nothing is looked at twice.
        let done = Cell::new(0);
        self.wait_for(Some(timeout), |state| {
            let left = targets.iter().skip(done.get());
            done.set(done.get() + left.take_while(|targets| is_done(state, targets)).count());
            (done.get() == targets.len()).then_some(())
        });
        let state = self.lock();
        let answer = |targets: &&SaveTargets| match state.target_state(targets.iter()) {
            TargetState::Durable(_) => Ok(()),
            TargetState::Failed(error) => Err(Some(error)),
            TargetState::Waiting => {
                let queue = state.get(&targets.profile);
                let failure = queue.and_then(|queue| Some(queue.failure.as_ref()?.error.clone()));
                Err(failure.or_else(|| queue?.stuck(Instant::now()).map(Arc::new)))
            }
        };
        targets.iter().map(answer).collect()
    }

    /// From now on at most that number of commits is made in a second; none: as many as can be.
    pub(crate) fn set_pace(&self, commits_a_second: Option<u32>) {
        self.lock().pace = commits_a_second.map(Pace::new);
        self.work.notify_all();
    }

    /// Bounds the pause before what failed is tried again. A player who leaves keeps the lease until the last save is durable, so no
    /// pause may be long beside a lease: other servers wait for it.
    pub(crate) fn set_longest_pause(&self, longest: Duration) {
        self.lock().longest_pause = Some(longest.clamp(FIRST_PAUSE, LONGEST_PAUSE));
    }

    /// All owners whose saves may be pruned, with how many generations each keeps.
    pub(super) fn owners(&self) -> Vec<(Owner, u32)> {
        let state = self.lock();
        let known = state.iter().filter(|queue| queue.prune.keep > 0);
        let mut owners: Vec<(Owner, u32)> = known.map(|queue| ((*queue.owner).clone(), queue.prune.keep)).collect();
        owners.sort();
        owners
    }

    /// Returns whether old saves are removed to make room: not again soon after there was nothing to remove.
    pub(super) fn may_make_room(&self) -> bool {
        self.lock().no_room_until.is_none_or(|until| Instant::now() >= until)
    }

    /// Old saves were removed to make room, or there were none.
    pub(super) fn made_room(&self, removed: bool) {
        self.lock().no_room_until = (!removed).then(|| Instant::now() + NO_ROOM);
    }

    /// Says what one step of a prune did.
    pub(super) fn pruned(&self, owner: &Owner, pruned: Pruned) {
        self.lock().change(owner, |queue| {
            queue.busy = false;
            queue.prune.due |= pruned.more;
            queue.prune.commits = if pruned.more { queue.prune.commits.saturating_sub(1) } else { 0 };
        });
        self.work.notify_one();
    }

    /// Has old generations of an owner removed when there is time.
    pub(crate) fn prune(&self, owner: &Owner) {
        self.lock().change(owner, |queue| queue.prune.due = true);
        self.work.notify_one();
    }

    /// Takes what a session saves: what changed for the player, and the device's values if it saves any.
    pub(crate) fn hand_over(&self, profile: &Arc<Owner>, progress: &mut Progress, saves_device: bool) -> SaveTargets {
        let (handed, at) = (progress.hand_over(), SystemTime::now());
        let mut state = self.lock();
        let device = saves_device.then(|| state.put_device(progress, at));
        let number = state.put(profile, at, |queue| {
            queue.pending.push(handed);
            if let (After::Next, Some(device)) = (queue.after, device) {
                queue.after = After::Device(device);
            }
        });
        drop(state);
        self.work.notify_one();
        SaveTargets { profile: profile.clone(), number, device }
    }

    /// The newest generation of an owner that is durable.
    pub(crate) fn generation(&self, owner: &Owner) -> u64 {
        self.lock().get(owner).map_or(0, |queue| queue.saved.generation)
    }

    /// Returns why the last try to save any of these failed, while none has succeeded since.
    pub(crate) fn failure(&self, owners: &[&Owner]) -> Option<Arc<StoreError>> {
        let state = self.lock();
        let now = Instant::now();
        let mut failures = owners.iter().filter_map(|owner| {
            let queue = state.get(owner)?;
            let failure = queue.failure.as_ref().map(|failure| failure.error.clone());
            failure.or_else(|| queue.stuck(now).map(Arc::new))
        });
        failures.next()
    }

    /// Returns whether everything these owners handed over is durable.
    pub(crate) fn settled(&self, owners: &[&Owner]) -> bool {
        let state = self.lock();
        owners.iter().filter_map(|owner| state.get(owner)).all(OwnerQueue::is_settled)
    }

    pub(crate) fn all_settled(&self) -> bool {
        self.lock().iter().all(OwnerQueue::is_settled)
    }

    pub(super) fn target_state(&self, targets: &SaveTargets) -> TargetState {
        self.lock().target_state(targets.iter())
    }

    /// Waits until the targets are durable or have failed; none if that takes longer.
    pub(super) fn wait(
        &self,
        targets: &SaveTargets,
        timeout: Option<Duration>,
    ) -> Option<Result<Saved, Arc<StoreError>>> {
        self.wait_for(timeout, |state| match state.target_state(targets.iter()) {
            TargetState::Waiting => None,
            TargetState::Durable(saved) => Some(Ok(saved)),
            TargetState::Failed(error) => Some(Err(error)),
        })
    }

    /// Waits until the targets are durable, through failures that may pass.
    pub(crate) fn insist(&self, targets: &SaveTargets, timeout: Duration) -> Result<Saved, Arc<StoreError>> {
        let targets: Targets = targets.iter().map(|(owner, number)| (owner.clone(), number)).collect();
        self.insist_on(&targets, timeout)
    }

    fn insist_on(&self, targets: &Targets, timeout: Duration) -> Result<Saved, Arc<StoreError>> {
        let each = || targets.iter().map(|(owner, number)| (owner, *number));
        let done = self.wait_for(Some(timeout), |state| match state.target_state(each()) {
            TargetState::Durable(saved) => Some(Ok(saved)),
            TargetState::Failed(error) if state.stopped || !error.may_pass() => Some(Err(error)),
            _ => None,
        });
        done.unwrap_or_else(|| {
            let owners: Vec<&Owner> = targets.iter().map(|(owner, _)| owner).collect();
            Err(Arc::new(StoreError::TimedOut { waited: timeout, last: self.failure(&owners) }))
        })
    }

    /// Waits until everything these owners handed over is durable.
    pub(crate) fn settle(&self, owners: &[&Owner], timeout: Duration) -> Result<(), Arc<StoreError>> {
        let state = self.lock();
        let queues = owners.iter().filter_map(|owner| Some(((*owner).clone(), state.get(owner)?.handed)));
        let targets = queues.collect();
        drop(state);
        self.insist_on(&targets, timeout).map(drop)
    }

    /// Waits until every queue is settled.
    pub(crate) fn settle_all(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        let targets = self.lock().iter().map(|queue| ((*queue.owner).clone(), queue.handed)).collect();
        self.insist_on(&targets, timeout).map(drop)
    }

    fn wait_for<T>(&self, timeout: Option<Duration>, look: impl Fn(&QueueState) -> Option<T>) -> Option<T> {
        let until = timeout.and_then(|timeout| Instant::now().checked_add(timeout));
        let mut state = self.lock();
        loop {
            if let Some(answer) = look(&state) {
                return Some(answer);
            }
            state = match until {
                None => self.done.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(until) => {
                    let left = until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero())?;
                    self.done.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0
                }
            };
        }
    }

    /// Nobody hands over any more: the writer tries what is left once, and ends.
    pub(crate) fn close(&self) {
        let mut state = self.lock();
        (state.closing, state.closes_at) = (true, Some(Instant::now() + LAST_PRUNES));
        self.work.notify_one();
    }

    /// A thread that writes begins.
    pub(crate) fn writer_begins(&self) {
        self.lock().writers += 1;
    }

    /// A thread that wrote has ended; with the last one, and with one that panicked, nothing is written any more.
    pub(crate) fn writer_ends(&self, panicked: bool) {
        let mut state = self.lock();
        state.writers = state.writers.saturating_sub(1);
        state.stopped |= state.writers == 0 || panicked;
        state.closing |= panicked;
        drop(state);
        self.done.notify_all();
        self.work.notify_all();
    }

    /// Returns what a writer does next. The first one waits here until there is something; the others end when there is nothing.
    pub(super) fn next(&self, first: bool) -> Assignment {
        let most = if self.batch > 1 { BATCH_WRITERS } else { WRITERS };
        let (mut state, task) = self.task(first);
        let another = state.writers < most && !matches!(task, Task::End) && state.has_due(Instant::now());
        if another {
            state.writers += 1;
        }
        Assignment { task, another }
    }

    fn task(&self, first: bool) -> (MutexGuard<'_, QueueState>, Task) {
        let mut state = self.lock();
        loop {
            let now = Instant::now();
            // One of this number of commits is due for it when saves come without a pause.
            let pressing = state.take_prunes(true, (self.batch / 8).max(1));
            if !pressing.is_empty() {
                return (state, Task::Prune(pressing));
            }
            let later = match state.take(now, self.batch) {
                Taken::Jobs(jobs) => return (state, Task::Commit(jobs)),
                Taken::At(later) => Some(later),
                Taken::Nothing => None,
            };
            if state.closes_at.is_none_or(|closes_at| now < closes_at) {
                let due = state.take_prunes(false, 1);
                if !due.is_empty() {
                    return (state, Task::Prune(due));
                }
            }
            if state.closing || !first {
                return (state, Task::End);
            }
            state = match later.map(|later| later.saturating_duration_since(now)) {
                None => self.work.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(pause) => self.work.wait_timeout(state, pause).unwrap_or_else(PoisonError::into_inner).0,
            };
        }
    }

    /// Notes what came of commits.
    pub(super) fn tried(&self, tried: Vec<(Job, Result<Committed, StoreError>)>) {
        let mut state = self.lock();
        // All of a batch began at once, so what one found gone is written again once, however many found it.
        let mut gone = None;
        for (job, result) in tried {
            let began = job.began;
            if Self::tried_one(&mut state, job, result) {
                gone = Some(began);
            }
        }
        if let Some(began) = gone {
            state.write_again(began);
        }
        drop(state);
        self.done.notify_all();
        self.work.notify_one();
    }

    /// Answers whether older saves were found to be gone.
    fn tried_one(state: &mut QueueState, job: Job, result: Result<Committed, StoreError>) -> bool {
        state.events += 1;
        let now = state.events;
        let retry = match state.closing {
            true => Retry::Never,
            false => Retry::Within(state.longest_pause.unwrap_or(LONGEST_PAUSE)),
        };
        let Job { owner, number, turn, at, content, lease, uncertain, .. } = job;
        match result {
            Ok(Committed { generation, written, missing }) => {
                let again = state.change(&owner, |queue| {
                    queue.give_back(content);
                    // What was given up meanwhile counts as done already.
                    (queue.durable, queue.failure) = (number.max(queue.durable), None);
                    queue.saved = Saved { generation, written };
                    queue.prune.committed(written);
                    queue.last = queue.running.then_some(at);
                    // What has noticed the loss itself was written after it.
                    let again = std::mem::take(&mut queue.again) && !missing;
                    let again = again && queue.running && queue.waiting.is_none();
                    if missing {
                        queue.noticed = now;
                    }
                    queue.forget_copies();
                    again
                });
                if again == Some(true) {
                    state.put(&owner, at, |_| ());
                }
                missing
            }
            Err(error) => {
                // Whoever has a lease, and finds that somebody else has written all the same, plays for nothing.
                let lost = error.is_someone_else();
                let error = state.change(&owner, |queue| {
                    queue.give_back(content);
                    if number <= queue.durable {
                        // It was given up meanwhile.
                        queue.forget_copies();
                        return None;
                    }
                    queue.uncertain = uncertain;
                    queue.failed(Waiting { number, turn, at }, error, retry);
                    queue.failure.as_ref().map(|failure| failure.error.clone())
                });
                if let (true, Some(lease), Some(error)) = (lost, lease, error.flatten()) {
                    state.lost.push((lease, error));
                }
                false
            }
        }
    }
}
