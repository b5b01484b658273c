//! Where projections wait to be written.
//!
//! Each owner has a queue of its own. A projection gets the next number in it and replaces one that still waits there; what is
//! durable is known by the number that was written last. So a ticket is a number for each queue.

use std::collections::BTreeMap;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use vestigum_core::device::DeviceSnapshot;
use vestigum_core::suspension::replica::{Handed, Replica};
use vestigum_core::{EncodedImage, Owner, Progress};

use crate::clock::rfc3339;
use crate::store::{Committed, Pruned, StoreError};

/// After so many failed tries of one projection its tickets answer with the error; the saver goes on trying.
const TRIES: u32 = 4;
/// The time before the second try. It doubles each time.
const FIRST_PAUSE: Duration = Duration::from_millis(25);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);
/// So many commits after the last pruning, old generations are removed when there is nothing else to do; after twice as
/// many, one file before each commit, so that they do not pile up while a game saves without a pause.
const PRUNE_AFTER: u32 = 16;

/// When the last session of a store has ended, old generations are removed for so long at the most; what is left is removed
/// after the next launch.
const LAST_PRUNES: Duration = Duration::from_millis(50);

/// So many threads write at once at the most: a disk takes the syncs of several at little more than the price of one.
const WRITERS: usize = 8;

/// A save that is durable.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Saved {
    /// The generation of the profile that holds the progress.
    pub generation: u64,
    /// Whether anything had to be written.
    pub written: bool,
}

/// Where the game hands over and the writer takes.
#[derive(Default)]
pub(crate) struct SaveQueue {
    state: Mutex<QueueState>,
    /// Something was handed over, or it is time to end.
    work: Condvar,
    /// A try has ended.
    done: Condvar,
}

#[derive(Default)]
struct QueueState {
    queues: BTreeMap<Owner, OwnerQueue>,
    turn: u64,
    /// Counts commits as they begin and end, so that it is known which overlapped.
    events: u64,
    /// How many threads write.
    writers: usize,
    closing: bool,
    /// Until when old generations may still be removed: nobody who ends waits long for that.
    closes_at: Option<Instant>,
    stopped: bool,
}

/// What is to be written for one owner, and how far that is.
#[derive(Default)]
struct OwnerQueue {
    running: bool,
    /// Whether a writer is at it: no two are at the files of one owner.
    busy: bool,
    /// Whether what is being written may be gone: then it is written once more.
    again: bool,
    /// The event at which a commit of this owner ended that found older saves gone.
    noticed: u64,
    waiting: Option<Waiting>,
    handed: u64,
    durable: u64,
    saved: Saved,
    failure: Option<SaveFailure>,
    /// The digests of images whose commit failed in a way that leaves open whether they were written, since the last that did
    /// not fail. A store beyond a network can do what it was asked, and lose the answer.
    uncertain: Vec<String>,
    prune: Prune,
    after: After,
    /// What the session has handed over since a writer took it.
    pending: Vec<Handed>,
    /// The session's progress as of what a writer took. A writer that is busy has it.
    replica: Option<Box<Replica>>,
    /// The device's values as they were handed over last.
    device: Option<Arc<DeviceSnapshot>>,
    /// When what was written last was handed over, while sessions run: if saves turn out to be gone, it is written again.
    last: Option<SystemTime>,
}

/// Whether the device's queue must be ahead of a player's.
#[derive(Clone, Copy, Default)]
enum After {
    #[default]
    Nothing,
    /// Of what is handed over next.
    Next,
    /// Of this number of the device's queue.
    Device(u64),
}

struct Waiting {
    number: u64,
    /// Who came first is written first.
    turn: u64,
    at: SystemTime,
}

#[derive(Default)]
struct Prune {
    keep: u32,
    commits: u32,
    due: bool,
}

struct SaveFailure {
    error: Arc<StoreError>,
    number: u64,
    tries: u32,
    /// When to try again; never, if trying cannot help.
    again: Option<Instant>,
}

/// One thing for the writer to do.
pub(super) enum Task {
    Commit(Job),
    Prune { owner: Owner, keep: u32 },
    End,
}

/// A task, and whether there is more than the writers can do, so that another one begins.
pub(super) struct Assignment {
    pub task: Task,
    pub another: bool,
}

/// A projection that is being written.
pub(super) struct Job {
    pub owner: Owner,
    pub follows: u64,
    pub at: SystemTime,
    pub content: Content,
    pub uncertain: Vec<String>,
    number: u64,
    turn: u64,
    began: u64,
}

/// What is written for an owner.
pub(super) enum Content {
    /// Of a player the copy of the session's progress, and what it has not heard of yet.
    Profile(Option<Box<Replica>>, Vec<Handed>),
    Device(Option<Arc<DeviceSnapshot>>),
}

impl Job {
    /// Brings the copy up to date, and encodes what is to be written; none if there is nothing.
    pub(super) fn encode(&mut self) -> Option<EncodedImage> {
        let saved_at = rfc3339(self.at);
        match &mut self.content {
            Content::Profile(replica, pending) => {
                for handed in pending.drain(..) {
                    *replica = Replica::after(replica.take(), handed);
                }
                Some(replica.as_ref()?.suspended().encoded(&self.owner, saved_at))
            }
            Content::Device(snapshot) => Some(snapshot.as_ref()?.encoded(saved_at)),
        }
    }
}

/// Numbers in the queues of owners: all up to it are durable, or not. The profile comes last.
pub(crate) type Targets = Vec<(Owner, u64)>;

/// What a ticket waits for.
#[derive(Clone, Debug)]
pub(crate) struct SaveTargets {
    profile: Arc<Owner>,
    number: u64,
    /// The number in the device's queue.
    device: Option<u64>,
}

impl SaveTargets {
    fn iter(&self) -> impl Iterator<Item = (&Owner, u64)> {
        let device = self.device.map(|number| (&Owner::Device, number));
        device.into_iter().chain([(&*self.profile, self.number)])
    }
}

/// How far targets are.
pub(super) enum TargetState {
    Waiting,
    Durable(Saved),
    Failed(Arc<StoreError>),
}

impl SaveQueue {
    fn lock(&self) -> MutexGuard<'_, QueueState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a session of that owner, unless one runs.
    pub(crate) fn begin(&self, owner: &Owner) -> bool {
        let mut state = self.lock();
        let queue = state.queues.entry(owner.clone()).or_default();
        !std::mem::replace(&mut queue.running, true)
    }

    /// What loading found: the newest generation is the one that the next commit follows.
    pub(crate) fn found(&self, owner: &Owner, newest: u64, keep: u32) {
        let mut state = self.lock();
        let queue = state.queues.entry(owner.clone()).or_default();
        queue.saved = Saved { generation: newest, written: false };
        queue.failure = None;
        queue.prune = Prune { keep, commits: 0, due: true };
        queue.after = After::Nothing;
        self.work.notify_one();
    }

    /// Loading moved values of this player to the device: nothing is written for the player before the device has them.
    pub(crate) fn device_first(&self, owner: &Owner) {
        if let Some(queue) = self.lock().queues.get_mut(owner) {
            queue.after = After::Next;
        }
    }

    /// A session of that owner has ended.
    pub(crate) fn end(&self, owner: &Owner) {
        if let Some(queue) = self.lock().queues.get_mut(owner) {
            queue.running = false;
            queue.last = None;
            queue.forget();
        }
    }

    /// All owners whose saves may be pruned, with how many generations each keeps.
    pub(super) fn owners(&self) -> Vec<(Owner, u32)> {
        let state = self.lock();
        let known = state.queues.iter().filter(|(_, queue)| queue.prune.keep > 0);
        known.map(|(owner, queue)| (owner.clone(), queue.prune.keep)).collect()
    }

    /// What one step of a prune did.
    pub(super) fn pruned(&self, owner: &Owner, pruned: Pruned) {
        if let Some(queue) = self.lock().queues.get_mut(owner) {
            queue.busy = false;
            queue.prune.due |= pruned.more;
            queue.prune.commits = if pruned.more { queue.prune.commits.saturating_sub(1) } else { 0 };
        }
        self.work.notify_one();
    }

    /// Has old generations of an owner removed when there is time.
    pub(crate) fn prune(&self, owner: &Owner) {
        if let Some(queue) = self.lock().queues.get_mut(owner) {
            queue.prune.due = true;
            self.work.notify_one();
        }
    }

    /// Takes what a session saves: what changed for the player, and the device's values if it saves any.
    pub(crate) fn hand_over(&self, profile: &Arc<Owner>, progress: &mut Progress, saves_device: bool) -> SaveTargets {
        let (handed, at) = (progress.hand_over(), SystemTime::now());
        let mut state = self.lock();
        let device = saves_device.then(|| state.put_device(progress, at));
        let number = state.put(profile, at);
        if let Some(queue) = state.queues.get_mut(&**profile) {
            queue.pending.push(handed);
            if let (After::Next, Some(device)) = (queue.after, device) {
                queue.after = After::Device(device);
            }
        }
        drop(state);
        self.work.notify_one();
        SaveTargets { profile: profile.clone(), number, device }
    }

    /// The newest generation of an owner that is durable.
    pub(crate) fn generation(&self, owner: &Owner) -> u64 {
        self.lock().queues.get(owner).map_or(0, |queue| queue.saved.generation)
    }

    /// Why the last try to save any of these failed, while none has succeeded since.
    pub(crate) fn failure(&self, owners: &[&Owner]) -> Option<Arc<StoreError>> {
        let state = self.lock();
        let mut failures = owners.iter().filter_map(|owner| state.queues.get(*owner)?.failure.as_ref());
        failures.next().map(|failure| failure.error.clone())
    }

    /// Whether everything these owners handed over is durable.
    pub(crate) fn settled(&self, owners: &[&Owner]) -> bool {
        let state = self.lock();
        owners.iter().filter_map(|owner| state.queues.get(*owner)).all(OwnerQueue::is_settled)
    }

    pub(crate) fn all_settled(&self) -> bool {
        self.lock().queues.values().all(OwnerQueue::is_settled)
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
        let queues = owners.iter().filter_map(|owner| Some(((*owner).clone(), state.queues.get(*owner)?.handed)));
        let targets = queues.collect();
        drop(state);
        self.insist_on(&targets, timeout).map(drop)
    }

    /// Waits until every queue is settled.
    pub(crate) fn settle_all(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        let targets = self.lock().queues.iter().map(|(owner, queue)| (owner.clone(), queue.handed)).collect();
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

    /// What a writer does next. The first one waits here until there is something; the others end when there is nothing.
    pub(super) fn next(&self, first: bool) -> Assignment {
        let (mut state, task) = self.task(first);
        let another = state.writers < WRITERS && !matches!(task, Task::End) && state.has_due(Instant::now());
        if another {
            state.writers += 1;
        }
        Assignment { task, another }
    }

    fn task(&self, first: bool) -> (MutexGuard<'_, QueueState>, Task) {
        let mut state = self.lock();
        loop {
            let now = Instant::now();
            let pressing = |prune: &Prune| prune.commits >= 2 * PRUNE_AFTER;
            if let Some(prune) = state.prune(pressing) {
                return (state, prune);
            }
            if let Some(job) = state.take(now) {
                return (state, Task::Commit(job));
            }
            let in_time = state.closes_at.is_none_or(|closes_at| now < closes_at);
            if let Some(prune) = state.prune(|prune| prune.due && in_time) {
                return (state, prune);
            }
            if state.closing || !first {
                return (state, Task::End);
            }
            let device = state.device();
            let again = state.queues.values().filter(|queue| queue.waiting.is_some() && queue.may_follow(device));
            let again = again.filter_map(|queue| queue.failure.as_ref()?.again).min();
            let pause = again.map(|again| again.saturating_duration_since(now));
            state = match pause {
                None => self.work.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(pause) => self.work.wait_timeout(state, pause).unwrap_or_else(PoisonError::into_inner).0,
            };
        }
    }

    /// What came of a commit.
    pub(super) fn tried(&self, job: Job, result: Result<Committed, StoreError>) {
        let mut state = self.lock();
        state.events += 1;
        let (closing, now) = (state.closing, state.events);
        let Job { owner, number, turn, at, content, uncertain, began, .. } = job;
        let Some(queue) = state.queues.get_mut(&owner) else { return };
        queue.give_back(content);
        match result {
            Ok(Committed { generation, written, missing }) => {
                (queue.durable, queue.failure) = (number, None);
                queue.saved = Saved { generation, written };
                queue.prune.commits += u32::from(written);
                queue.prune.due |= queue.prune.commits >= PRUNE_AFTER;
                queue.last = queue.running.then_some(at);
                // What has noticed the loss itself was written after it.
                let again = std::mem::take(&mut queue.again) && !missing;
                let again = again && queue.running && queue.waiting.is_none();
                if missing {
                    queue.noticed = now;
                }
                queue.forget();
                if again {
                    state.put(&owner, at);
                }
                if missing {
                    state.write_again(&owner, began);
                }
            }
            Err(error) => {
                queue.uncertain = uncertain;
                queue.failed(Waiting { number, turn, at }, error, closing);
            }
        }
        self.done.notify_all();
        drop(state);
        self.work.notify_one();
    }
}

impl QueueState {
    /// The number of what is to be written for the device.
    fn put_device(&mut self, progress: &Progress, at: SystemTime) -> u64 {
        let number = self.put(&Owner::Device, at);
        if let Some(queue) = self.queues.get_mut(&Owner::Device)
            && queue.device.as_ref().is_none_or(|device| !device.is_still(progress))
        {
            queue.device = Some(Arc::new(DeviceSnapshot::of(progress)));
        }
        number
    }

    fn put(&mut self, owner: &Owner, at: SystemTime) -> u64 {
        self.turn += 1;
        let queue = match self.queues.get_mut(owner) {
            Some(queue) => queue,
            None => self.queues.entry(owner.clone()).or_default(),
        };
        queue.handed += 1;
        // What is newer keeps the place in the queue of what it replaces, so that nobody is overtaken for ever.
        let turn = queue.waiting.as_ref().map_or(self.turn, |waiting| waiting.turn);
        queue.waiting = Some(Waiting { number: queue.handed, turn, at });
        queue.handed
    }

    /// The saves of one owner were gone, so those of the others may be: what their sessions saved last is written again,
    /// unless something newer waits, or they have noticed it since that commit began.
    fn write_again(&mut self, but: &Owner, began: u64) {
        for (_, queue) in self.queues.iter_mut().filter(|(owner, queue)| *owner != but && queue.busy) {
            // What it saved last is not what it is writing now.
            queue.again = true;
        }
        let others = self
            .queues
            .iter()
            .filter(|(owner, queue)| *owner != but && !queue.busy && queue.waiting.is_none() && queue.noticed < began);
        let again = others.filter_map(|(owner, queue)| Some((owner.clone(), queue.last?)));
        for (owner, at) in again.collect::<Vec<_>>() {
            self.put(&owner, at);
        }
    }

    /// Whether something waits that can be written now.
    fn has_due(&self, now: Instant) -> bool {
        let device = self.device();
        self.queues.values().any(|queue| queue.is_due(now, self.closing) && queue.may_follow(device))
    }

    /// How far the device's queue is.
    fn device(&self) -> u64 {
        self.queues.get(&Owner::Device).map_or(0, |queue| queue.durable)
    }

    /// The projection that is to be written next.
    fn take(&mut self, now: Instant) -> Option<Job> {
        self.events += 1;
        let (closing, began) = (self.closing, self.events);
        let device = self.device();
        let ready = self.queues.iter_mut().filter(|(_, queue)| queue.is_due(now, closing) && queue.may_follow(device));
        let (owner, queue) = ready.min_by_key(|(_, queue)| queue.waiting.as_ref().map(|waiting| waiting.turn))?;
        let Waiting { number, turn, at } = queue.waiting.take()?;
        queue.busy = true;
        let content = match owner {
            Owner::Profile(_) => Content::Profile(queue.replica.take(), std::mem::take(&mut queue.pending)),
            Owner::Device => Content::Device(queue.device.clone()),
        };
        let uncertain = std::mem::take(&mut queue.uncertain);
        Some(Job { owner: owner.clone(), follows: queue.saved.generation, at, content, uncertain, number, turn, began })
    }

    fn prune(&mut self, which: impl Fn(&Prune) -> bool) -> Option<Task> {
        let (owner, queue) = self.queues.iter_mut().find(|(_, queue)| !queue.busy && which(&queue.prune))?;
        (queue.prune.due, queue.busy) = (false, true);
        Some(Task::Prune { owner: owner.clone(), keep: queue.prune.keep })
    }

    fn target_state<'t>(&self, targets: impl Iterator<Item = (&'t Owner, u64)>) -> TargetState {
        let mut saved = Saved::default();
        let mut waiting = false;
        for (owner, number) in targets {
            let Some(queue) = self.queues.get(owner) else { continue };
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

impl OwnerQueue {
    fn is_settled(&self) -> bool {
        self.durable == self.handed
    }

    /// What a writer had comes back.
    fn give_back(&mut self, content: Content) {
        self.busy = false;
        if let Content::Profile(replica, mut spare) = content {
            self.replica = replica;
            // The memory of the list is used again.
            if self.pending.is_empty() {
                spare.clear();
                self.pending = spare;
            }
        }
    }

    /// Nobody needs the copies once the session has ended and everything is written.
    fn forget(&mut self) {
        if !self.running && !self.busy && self.waiting.is_none() {
            (self.pending, self.replica) = (Vec::new(), None);
        }
    }

    /// Whether the device's queue is as far as this one needs it.
    fn may_follow(&self, device: u64) -> bool {
        !matches!(self.after, After::Device(number) if device < number)
    }

    /// Whether something waits that can be tried now. At the end everything is tried once.
    fn is_due(&self, now: Instant, closing: bool) -> bool {
        if self.busy {
            return false;
        }
        let Some(waiting) = &self.waiting else { return false };
        match self.failure.as_ref().filter(|failure| failure.number == waiting.number) {
            None => true,
            Some(failure) => failure.again.is_some_and(|again| closing || again <= now),
        }
    }

    fn failed(&mut self, tried: Waiting, error: StoreError, closing: bool) {
        let tries = self.failure.take().map_or(0, |failure| failure.tries) + 1;
        let pause = FIRST_PAUSE.saturating_mul(1 << tries.min(20)).min(LONGEST_PAUSE);
        let again = error.may_pass().then(|| Instant::now() + pause).filter(|_| !closing);
        self.failure = Some(SaveFailure { error: Arc::new(error), number: tried.number, tries, again });
        if self.waiting.is_none() {
            self.waiting = Some(tried);
        }
    }
}

impl SaveFailure {
    /// Whether tickets answer with it: trying again cannot help, or has not helped for a while.
    fn is_told(&self) -> bool {
        self.again.is_none() || self.tries >= TRIES
    }
}
