//! A store with troubles, over any other: calls that fail, answers that are lost, outages, limits, latency.
//!
//! A store beyond a network does all of this, and a game should be tried with it before its players do. Which call has which
//! trouble is worked out from a seed and the number of the call, so a test with one thread has the same troubles every time.

use std::io;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use vestigum::{
    Commit, Committed, EncodedImage, GivenSave, Image, Lease, Line, Newest, Owner, Pruned, Store, StoreError,
    StoreIdentity,
};
use xxhash_rust::xxh3::xxh3_64_with_seed;

/// A store that fails now and then.
///
/// # Example
///
/// ```
/// use std::time::Duration;
/// use vestigum::{MemoryStore, Session, Spec};
/// use vestigum_verify::FlakyStore;
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let xp = spec.int("xp")?;
/// let saves = MemoryStore::default();
/// let flaky = FlakyStore::new(saves.clone(), 7).fail_one_in(3).lose_one_answer_in(4);
/// let mut game = loop {
///     // A launch that cannot read the saves is tried again; a save is tried again by itself.
///     if let Ok(game) = Session::launch(&spec, flaky.clone(), "ada") {
///         break game;
///     }
/// };
/// for _ in 0..10 {
///     game.add(xp, 1)?;
///     game.save();
/// }
/// game.settle(Duration::from_secs(20))?;
/// flaky.calm();
/// game.quit()?;
/// assert!(flaky.counts().failed + flaky.counts().lost_answers > 0);
/// assert_eq!(Session::launch(&spec, saves, "ada")?.get(xp), 10);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct FlakyStore<S> {
    shared: std::sync::Arc<Shared<S>>,
}

impl<S> Clone for FlakyStore<S> {
    fn clone(&self) -> Self {
        FlakyStore { shared: self.shared.clone() }
    }
}

#[derive(Debug)]
struct Shared<S> {
    store: S,
    state: Mutex<State>,
}

/// Describes what happened so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct FlakyCounts {
    /// All calls.
    pub calls: u64,
    /// Calls that failed before anything was done, those of outages included.
    pub failed: u64,
    /// Commits that were done, and told as failed.
    pub lost_answers: u64,
    /// Commits that were refused because there were too many in a minute.
    pub refused: u64,
}

#[derive(Debug)]
struct State {
    seed: u64,
    latency: Duration,
    fail_one_in: u64,
    lose_one_in: u64,
    /// Calls between two outages, and calls that an outage lasts.
    outages: Option<(u64, u64)>,
    a_minute: Option<u32>,
    minute: Option<(Instant, u32)>,
    counts: FlakyCounts,
}

/// Describes what becomes of a call.
enum Trouble {
    None,
    Fails,
    AnswerLost,
    TooMany,
}

impl<S: Store> FlakyStore<S> {
    /// A store without troubles so far.
    pub fn new(store: S, seed: u64) -> FlakyStore<S> {
        let state = State {
            seed,
            latency: Duration::ZERO,
            fail_one_in: 0,
            lose_one_in: 0,
            outages: None,
            a_minute: None,
            minute: None,
            counts: FlakyCounts::default(),
        };
        FlakyStore { shared: std::sync::Arc::new(Shared { store, state: Mutex::new(state) }) }
    }

    /// One call in this number fails before anything is done; 0: none.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum::MemoryStore;
    /// use vestigum_verify::FlakyStore;
    /// let store = FlakyStore::new(MemoryStore::default(), 7).fail_one_in(10);
    /// ```
    #[must_use]
    pub fn fail_one_in(self, calls: u64) -> Self {
        self.state().fail_one_in = calls;
        self
    }

    /// The answer to one commit in this number is lost: the commit is done and reported as failed; 0: to none.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum::MemoryStore;
    /// use vestigum_verify::FlakyStore;
    /// let store = FlakyStore::new(MemoryStore::default(), 7).lose_one_answer_in(20);
    /// ```
    #[must_use]
    pub fn lose_one_answer_in(self, commits: u64) -> Self {
        self.state().lose_one_in = commits;
        self
    }

    /// After every `between` calls, the next `lasting` calls fail.
    #[must_use]
    pub fn outages(self, between: u64, lasting: u64) -> Self {
        self.state().outages = Some((between, lasting));
        self
    }

    /// More commits than this in a minute are refused.
    #[must_use]
    pub fn limit_a_minute(self, commits: u32) -> Self {
        self.state().a_minute = Some(commits);
        self
    }

    /// Delays every call, and every commit of a batch, by at most `longest`.
    ///
    /// # Example
    ///
    /// ```
    /// use std::time::Duration;
    /// use vestigum::MemoryStore;
    /// use vestigum_verify::FlakyStore;
    /// let store = FlakyStore::new(MemoryStore::default(), 7).latency(Duration::from_millis(5));
    /// ```
    #[must_use]
    pub fn latency(self, longest: Duration) -> Self {
        self.state().latency = longest;
        self
    }

    /// From now on there is no trouble.
    pub fn calm(&self) {
        let mut state = self.state();
        (state.fail_one_in, state.lose_one_in, state.latency) = (0, 0, Duration::ZERO);
        (state.outages, state.a_minute) = (None, None);
    }

    /// Returns what happened so far.
    pub fn counts(&self) -> FlakyCounts {
        self.state().counts
    }

    /// The store below.
    pub fn store(&self) -> &S {
        &self.shared.store
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.shared.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A call that reads.
    fn read_with<T>(&self, read: impl FnOnce(&S) -> Result<T, StoreError>) -> Result<T, StoreError> {
        match self.trouble(false) {
            Trouble::None => read(&self.shared.store),
            Trouble::Fails | Trouble::AnswerLost => Err(failed("reach", io::ErrorKind::ConnectionReset)),
            Trouble::TooMany => Err(failed("reach", io::ErrorKind::WouldBlock)),
        }
    }

    /// Returns which trouble the next call has; waits for as long as it takes.
    fn trouble(&self, commits: bool) -> Trouble {
        let mut state = self.state();
        state.counts.calls += 1;
        let call = state.counts.calls;
        let drawn = |what: u64| xxh3_64_with_seed(&call.to_le_bytes(), state.seed ^ what);
        let one_in = |what: u64, many: u64| many > 0 && drawn(what) % many == 0;
        let is_out = state.outages.is_some_and(|(between, lasting)| {
            let period = between.saturating_add(lasting).max(1);
            (call - 1) % period >= between
        });
        let (fails, loses) = (is_out || one_in(1, state.fail_one_in), commits && one_in(2, state.lose_one_in));
        let share = (drawn(3) % 1000) as u32;
        let wait = state.latency * share / 1000;
        let trouble = if fails {
            state.counts.failed += 1;
            Trouble::Fails
        } else if commits && state.is_one_too_many() {
            state.counts.refused += 1;
            Trouble::TooMany
        } else if loses {
            state.counts.lost_answers += 1;
            Trouble::AnswerLost
        } else {
            Trouble::None
        };
        drop(state);
        if !wait.is_zero() {
            std::thread::sleep(wait);
        }
        trouble
    }
}

impl State {
    /// Counts a commit against the limit.
    fn is_one_too_many(&mut self) -> bool {
        let Some(most) = self.a_minute else { return false };
        let now = Instant::now();
        let (began, commits) = self.minute.unwrap_or((now, 0));
        let (began, commits) =
            if now.duration_since(began) >= Duration::from_secs(60) { (now, 0) } else { (began, commits) };
        self.minute = Some((began, commits.saturating_add(1)));
        commits >= most
    }
}

/// Returns what a commit with a trouble answers.
fn commit_with(
    trouble: &Trouble,
    commit: impl FnOnce() -> Result<Committed, StoreError>,
) -> Result<Committed, StoreError> {
    match trouble {
        Trouble::None => commit(),
        Trouble::Fails => Err(failed("reach", io::ErrorKind::ConnectionReset)),
        Trouble::TooMany => Err(failed("write to", io::ErrorKind::WouldBlock)),
        Trouble::AnswerLost => {
            // What the store itself refuses is refused.
            commit()?;
            Err(failed("hear from", io::ErrorKind::TimedOut))
        }
    }
}

fn failed(action: &'static str, cause: io::ErrorKind) -> StoreError {
    StoreError::Io { action, path: PathBuf::from("the flaky store"), cause: cause.into() }
}

impl<S: Store> Store for FlakyStore<S> {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.read_with(Store::owners)
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.read_with(|store| store.generations(owner))
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.read_with(|store| store.read(owner, generation))
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        commit_with(&self.trouble(true), || self.shared.store.commit(follows, image))
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        commit_with(&self.trouble(true), || self.shared.store.commit_encoded(follows, image))
    }

    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        self.read_with(|store| store.newest(owner))
    }

    /// Each commit of a batch has its own trouble, so a batch is written in part. Who is told of a lost answer has been written.
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        let troubles: Vec<Trouble> = commits.iter().map(|_| self.trouble(true)).collect();
        let reaches = |trouble: &Trouble| matches!(trouble, Trouble::None | Trouble::AnswerLost);
        let reaching: Vec<Commit<'_>> =
            commits.iter().zip(&troubles).filter(|(_, trouble)| reaches(trouble)).map(|(commit, _)| *commit).collect();
        let mut done = self.shared.store.commit_all(&reaching).into_iter();
        troubles.iter().map(|trouble| commit_with(trouble, || done.next().unwrap_or(Err(StoreError::Closed)))).collect()
    }

    fn batch_size(&self) -> usize {
        self.shared.store.batch_size()
    }

    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.read_with(|store| store.lease(owner, holder, lasts))
    }

    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        match self.read_with(|store| Ok(store.renew(leases, lasts))) {
            Ok(results) => results,
            Err(_) => leases.iter().map(|_| Err(failed("reach", io::ErrorKind::ConnectionReset))).collect(),
        }
    }

    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.read_with(|store| store.release(leases))
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.read_with(|store| store.prune(owner, keep))
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        commit_with(&self.trouble(true), || self.shared.store.insert(image))
    }

    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.read_with(|store| store.line(owner))
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.read_with(|store| store.begin_line(owner))
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.read_with(|store| store.give(owner, save))
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.read_with(|store| store.remove_before(owner, generation))
    }

    fn identity(&self) -> Option<StoreIdentity> {
        Some(StoreIdentity::of(&self.shared, ""))
    }

    /// Does not wait: a call that is repeated meets the next trouble at once.
    fn pause(&self, _: Duration) {}
}
