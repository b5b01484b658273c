//! Where projections wait to be written.
//!
//! Each owner has a lane. A projection gets the next number of its lane and replaces one that still waits there; what is
//! durable is known by the number that was written last. So a ticket is nothing but a number for each lane.

use std::collections::BTreeMap;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use vestigum_core::{Owner, Suspended};

use crate::session::Saved;
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

/// Where the game hands over and the writer takes.
#[derive(Default)]
pub(crate) struct Desk {
    state: Mutex<State>,
    /// Something was handed over, or it is time to end.
    work: Condvar,
    /// A try has ended.
    done: Condvar,
}

#[derive(Default)]
struct State {
    lanes: BTreeMap<Owner, Lane>,
    turn: u64,
    closing: bool,
    /// Until when old generations may still be removed: nobody who ends waits long for that.
    closes_at: Option<Instant>,
    stopped: bool,
}

/// What is to be written for one owner, and how far that is.
#[derive(Default)]
struct Lane {
    running: bool,
    waiting: Option<Waiting>,
    handed: u64,
    durable: u64,
    saved: Saved,
    failure: Option<Failure>,
    prune: Prune,
    after: After,
    /// What was written last, while sessions run: if saves turn out to be gone, it is written again.
    last: Option<(Arc<Suspended>, SystemTime)>,
}

/// Whether the device's lane must be ahead of a player's.
#[derive(Clone, Copy, Default)]
enum After {
    #[default]
    Nothing,
    /// Of what is handed over next.
    Next,
    /// Of this number of the device's lane.
    Device(u64),
}

struct Waiting {
    number: u64,
    /// Who came first is written first.
    turn: u64,
    suspended: Arc<Suspended>,
    at: SystemTime,
}

#[derive(Default)]
struct Prune {
    keep: u32,
    commits: u32,
    due: bool,
}

struct Failure {
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

/// A projection that is being written.
pub(super) struct Job {
    pub owner: Owner,
    pub follows: u64,
    pub suspended: Arc<Suspended>,
    pub at: SystemTime,
    number: u64,
    turn: u64,
}

/// A number in a lane: all up to it are durable, or not.
pub(crate) type Marks = Vec<(Owner, u64)>;

/// How far marks are.
pub(super) enum Standing {
    Waiting,
    Durable(Saved),
    Failed(Arc<StoreError>),
}

impl Desk {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a session of that owner, unless one runs.
    pub fn begin(&self, owner: &Owner) -> bool {
        let mut state = self.lock();
        let lane = state.lanes.entry(owner.clone()).or_default();
        !std::mem::replace(&mut lane.running, true)
    }

    /// What loading found: the newest generation is the one that the next commit follows.
    pub fn found(&self, owner: &Owner, newest: u64, keep: u32) {
        let mut state = self.lock();
        let lane = state.lanes.entry(owner.clone()).or_default();
        lane.saved = Saved { generation: newest, written: false };
        lane.failure = None;
        lane.prune = Prune { keep, commits: 0, due: true };
        lane.after = After::Nothing;
        self.work.notify_one();
    }

    /// Loading moved values of this player to the device: nothing is written for the player before the device has them.
    pub fn device_first(&self, owner: &Owner) {
        if let Some(lane) = self.lock().lanes.get_mut(owner) {
            lane.after = After::Next;
        }
    }

    /// A session of that owner has ended.
    pub fn end(&self, owner: &Owner) {
        if let Some(lane) = self.lock().lanes.get_mut(owner) {
            lane.running = false;
            lane.last = None;
        }
    }

    /// All owners whose saves may be pruned, with how many generations each keeps.
    pub(super) fn owners(&self) -> Vec<(Owner, u32)> {
        let state = self.lock();
        let known = state.lanes.iter().filter(|(_, lane)| lane.prune.keep > 0);
        known.map(|(owner, lane)| (owner.clone(), lane.prune.keep)).collect()
    }

    /// What one step of a prune did.
    pub(super) fn pruned(&self, owner: &Owner, pruned: Pruned) {
        if let Some(lane) = self.lock().lanes.get_mut(owner) {
            lane.prune.due |= pruned.more;
            lane.prune.commits = if pruned.more { lane.prune.commits.saturating_sub(1) } else { 0 };
        }
    }

    /// Has old generations of an owner removed when there is time.
    pub fn prune(&self, owner: &Owner) {
        if let Some(lane) = self.lock().lanes.get_mut(owner) {
            lane.prune.due = true;
            self.work.notify_one();
        }
    }

    /// Takes a projection of a profile, and of the device if there is something to save for it.
    pub fn hand_over(&self, profile: &Owner, suspended: Suspended, saves_device: bool) -> Marks {
        let (suspended, at) = (Arc::new(suspended), SystemTime::now());
        let mut state = self.lock();
        let mut marks = Marks::with_capacity(2);
        if saves_device {
            let number = state.put(&Owner::Device, suspended.clone(), at);
            marks.push((Owner::Device, number));
            if let Some(lane) = state.lanes.get_mut(profile).filter(|lane| matches!(lane.after, After::Next)) {
                lane.after = After::Device(number);
            }
        }
        marks.push((profile.clone(), state.put(profile, suspended, at)));
        self.work.notify_one();
        marks
    }

    /// The newest generation of an owner that is durable.
    pub fn generation(&self, owner: &Owner) -> u64 {
        self.lock().lanes.get(owner).map_or(0, |lane| lane.saved.generation)
    }

    /// Why the last try to save any of these failed, while none has succeeded since.
    pub fn failure(&self, owners: &[&Owner]) -> Option<Arc<StoreError>> {
        let state = self.lock();
        let mut failures = owners.iter().filter_map(|owner| state.lanes.get(*owner)?.failure.as_ref());
        failures.next().map(|failure| failure.error.clone())
    }

    /// Whether everything these owners handed over is durable.
    pub fn settled(&self, owners: &[&Owner]) -> bool {
        let state = self.lock();
        owners.iter().filter_map(|owner| state.lanes.get(*owner)).all(Lane::is_settled)
    }

    pub fn all_settled(&self) -> bool {
        self.lock().lanes.values().all(Lane::is_settled)
    }

    pub(super) fn standing(&self, marks: &Marks) -> Standing {
        self.lock().standing(marks)
    }

    /// Waits until the marks are durable or have failed; none if that takes longer.
    pub(super) fn wait(&self, marks: &Marks, timeout: Option<Duration>) -> Option<Result<Saved, Arc<StoreError>>> {
        self.wait_for(timeout, |state| match state.standing(marks) {
            Standing::Waiting => None,
            Standing::Durable(saved) => Some(Ok(saved)),
            Standing::Failed(error) => Some(Err(error)),
        })
    }

    /// Waits until the marks are durable, through failures that may pass.
    pub fn insist(&self, marks: &Marks, timeout: Duration) -> Result<Saved, Arc<StoreError>> {
        let done = self.wait_for(Some(timeout), |state| match state.standing(marks) {
            Standing::Durable(saved) => Some(Ok(saved)),
            Standing::Failed(error) if state.stopped || !error.may_pass() => Some(Err(error)),
            _ => None,
        });
        done.unwrap_or_else(|| {
            let owners: Vec<&Owner> = marks.iter().map(|(owner, _)| owner).collect();
            Err(Arc::new(StoreError::TimedOut { waited: timeout, last: self.failure(&owners) }))
        })
    }

    /// Waits until everything these owners handed over is durable.
    pub fn settle(&self, owners: &[&Owner], timeout: Duration) -> Result<(), Arc<StoreError>> {
        let state = self.lock();
        let lanes = owners.iter().filter_map(|owner| Some(((*owner).clone(), state.lanes.get(*owner)?.handed)));
        let marks = lanes.collect();
        drop(state);
        self.insist(&marks, timeout).map(drop)
    }

    /// Waits until every lane is settled.
    pub fn settle_all(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        let marks = self.lock().lanes.iter().map(|(owner, lane)| (owner.clone(), lane.handed)).collect();
        self.insist(&marks, timeout).map(drop)
    }

    fn wait_for<T>(&self, timeout: Option<Duration>, look: impl Fn(&State) -> Option<T>) -> Option<T> {
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
    pub fn close(&self) {
        let mut state = self.lock();
        (state.closing, state.closes_at) = (true, Some(Instant::now() + LAST_PRUNES));
        self.work.notify_one();
    }

    /// Nothing is written any more.
    pub fn stopped(&self) {
        self.lock().stopped = true;
        self.done.notify_all();
    }

    /// What the writer does next; it waits here until there is something.
    pub(super) fn next(&self) -> Task {
        let mut state = self.lock();
        loop {
            let now = Instant::now();
            let pressing = |prune: &Prune| prune.commits >= 2 * PRUNE_AFTER;
            if let Some(prune) = state.prune(pressing) {
                return prune;
            }
            if let Some(job) = state.take(now) {
                return Task::Commit(job);
            }
            let in_time = state.closes_at.is_none_or(|closes_at| now < closes_at);
            if let Some(prune) = state.prune(|prune| prune.due && in_time) {
                return prune;
            }
            if state.closing {
                return Task::End;
            }
            let device = state.device();
            let again = state.lanes.values().filter(|lane| lane.waiting.is_some() && lane.may_follow(device));
            let again = again.filter_map(|lane| lane.failure.as_ref()?.again).min();
            state = match again {
                None => self.work.wait(state).unwrap_or_else(PoisonError::into_inner),
                Some(again) => {
                    let pause = again.saturating_duration_since(now);
                    self.work.wait_timeout(state, pause).unwrap_or_else(PoisonError::into_inner).0
                }
            };
        }
    }

    /// What came of a commit.
    pub(super) fn tried(&self, job: Job, result: Result<Committed, StoreError>) {
        let mut state = self.lock();
        let closing = state.closing;
        let Some(lane) = state.lanes.get_mut(&job.owner) else { return };
        // What was saved before is dropped when nobody waits for this lock.
        let mut before = None;
        match result {
            Ok(Committed { generation, written, missing }) => {
                (lane.durable, lane.failure) = (job.number, None);
                lane.saved = Saved { generation, written };
                lane.prune.commits += u32::from(written);
                lane.prune.due |= lane.prune.commits >= PRUNE_AFTER;
                before = std::mem::replace(&mut lane.last, lane.running.then_some((job.suspended, job.at)));
                if missing {
                    state.write_again(&job.owner);
                }
            }
            Err(error) => lane.failed(job, error, closing),
        }
        self.done.notify_all();
        drop(state);
        drop(before);
    }
}

impl State {
    fn put(&mut self, owner: &Owner, suspended: Arc<Suspended>, at: SystemTime) -> u64 {
        self.turn += 1;
        let lane = match self.lanes.get_mut(owner) {
            Some(lane) => lane,
            None => self.lanes.entry(owner.clone()).or_default(),
        };
        lane.handed += 1;
        // What is newer keeps the place in the queue of what it replaces, so that nobody is overtaken for ever.
        let turn = lane.waiting.as_ref().map_or(self.turn, |waiting| waiting.turn);
        lane.waiting = Some(Waiting { number: lane.handed, turn, suspended, at });
        lane.handed
    }

    /// The saves of one owner were gone, so those of the others may be: what their sessions saved last is written again,
    /// unless something newer waits.
    fn write_again(&mut self, but: &Owner) {
        let others = self.lanes.iter().filter(|(owner, lane)| *owner != but && lane.waiting.is_none());
        let again = others.filter_map(|(owner, lane)| Some((owner.clone(), lane.last.clone()?)));
        for (owner, (suspended, at)) in again.collect::<Vec<_>>() {
            self.put(&owner, suspended, at);
        }
    }

    /// How far the device's lane is.
    fn device(&self) -> u64 {
        self.lanes.get(&Owner::Device).map_or(0, |lane| lane.durable)
    }

    /// The projection that is to be written next.
    fn take(&mut self, now: Instant) -> Option<Job> {
        let closing = self.closing;
        let device = self.device();
        let ready = self.lanes.iter_mut().filter(|(_, lane)| lane.is_due(now, closing) && lane.may_follow(device));
        let (owner, lane) = ready.min_by_key(|(_, lane)| lane.waiting.as_ref().map(|waiting| waiting.turn))?;
        let Waiting { number, turn, suspended, at } = lane.waiting.take()?;
        Some(Job { owner: owner.clone(), follows: lane.saved.generation, suspended, at, number, turn })
    }

    fn prune(&mut self, which: impl Fn(&Prune) -> bool) -> Option<Task> {
        let (owner, lane) = self.lanes.iter_mut().find(|(_, lane)| which(&lane.prune))?;
        lane.prune.due = false;
        Some(Task::Prune { owner: owner.clone(), keep: lane.prune.keep })
    }

    fn standing(&self, marks: &Marks) -> Standing {
        let mut saved = Saved::default();
        let mut waiting = false;
        for (owner, number) in marks {
            let Some(lane) = self.lanes.get(owner) else { continue };
            if lane.durable >= *number {
                // The profile comes last, so that its generation is the one that is told.
                saved = Saved { generation: lane.saved.generation, written: saved.written || lane.saved.written };
                continue;
            }
            match &lane.failure {
                Some(failure) if failure.number >= *number && failure.is_told() => {
                    return Standing::Failed(failure.error.clone());
                }
                _ if self.stopped => return Standing::Failed(Arc::new(StoreError::Closed)),
                _ => waiting = true,
            }
        }
        if waiting { Standing::Waiting } else { Standing::Durable(saved) }
    }
}

impl Lane {
    fn is_settled(&self) -> bool {
        self.durable == self.handed
    }

    /// Whether the device's lane is as far as this one needs it.
    fn may_follow(&self, device: u64) -> bool {
        !matches!(self.after, After::Device(number) if device < number)
    }

    /// Whether something waits that can be tried now. At the end everything is tried once.
    fn is_due(&self, now: Instant, closing: bool) -> bool {
        let Some(waiting) = &self.waiting else { return false };
        match self.failure.as_ref().filter(|failure| failure.number == waiting.number) {
            None => true,
            Some(failure) => failure.again.is_some_and(|again| closing || again <= now),
        }
    }

    fn failed(&mut self, tried: Job, error: StoreError, closing: bool) {
        let tries = self.failure.take().map_or(0, |failure| failure.tries) + 1;
        let pause = FIRST_PAUSE.saturating_mul(1 << tries.min(20)).min(LONGEST_PAUSE);
        let again = error.may_pass().then(|| Instant::now() + pause).filter(|_| !closing);
        self.failure = Some(Failure { error: Arc::new(error), number: tried.number, tries, again });
        if self.waiting.is_none() {
            let Job { number, turn, suspended, at, .. } = tried;
            self.waiting = Some(Waiting { number, turn, suspended, at });
        }
    }
}

impl Failure {
    /// Whether tickets answer with it: trying again cannot help, or has not helped for a while.
    fn is_told(&self) -> bool {
        self.again.is_none() || self.tries >= TRIES
    }
}
