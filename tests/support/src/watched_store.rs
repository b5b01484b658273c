//! A store that a test watches, cuts off and holds up.

use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

use vestigum::{
    Commit, Committed, EncodedImage, GivenSave, Image, Lease, Line, Newest, Owner, Pruned, Store, StoreError,
};

/// One process's way to a store. Clones are the same way.
#[derive(Clone, Debug)]
pub struct WatchedStore<S> {
    store: S,
    watch: Arc<Watch>,
}

#[derive(Debug, Default)]
struct Watch {
    cut_off: AtomicBool,
    held: Mutex<bool>,
    /// Whether commits wait, and the player whose lease does.
    holds: Mutex<(bool, Option<String>)>,
    /// Counts the threads that wait because of `holds`.
    held_up: AtomicU64,
    /// Whose lease was asked for, in order.
    leases: Mutex<Vec<Owner>>,
    released: Condvar,
    paused: Condvar,
    batch: usize,
    /// Counts the next commits that fail.
    refused: AtomicU64,
    commits: AtomicU64,
    batches: AtomicU64,
    largest: AtomicU64,
}

impl<S: Store> WatchedStore<S> {
    /// A way to a store that takes that number of commits at once.
    pub fn new(store: S, batch: usize) -> WatchedStore<S> {
        WatchedStore { store, watch: Arc::new(Watch { batch, ..Watch::default() }) }
    }

    /// From now on every call fails, or none.
    pub fn cut_off(&self, is_cut_off: bool) {
        self.watch.cut_off.store(is_cut_off, Ordering::SeqCst);
    }

    /// From now on every call waits, or none.
    pub fn hold(&self, is_held: bool) {
        *self.watch.held.lock().unwrap() = is_held;
        self.watch.released.notify_all();
    }

    /// From now on every commit waits, or none.
    pub fn hold_commits(&self, is_held: bool) {
        self.watch.holds.lock().unwrap().0 = is_held;
    }

    /// Lets the next commits fail, that many, as if the connection broke; everything else works.
    pub fn refuse_commits(&self, next: u64) {
        self.watch.refused.store(next, Ordering::SeqCst);
    }

    /// From now on whoever asks for the lease of that player waits; nobody, if there is none.
    pub fn hold_lease_of(&self, player: Option<&str>) {
        self.watch.holds.lock().unwrap().1 = player.map(str::to_owned);
    }

    /// Returns whose lease was asked for, in order.
    pub fn leases(&self) -> Vec<Owner> {
        self.watch.leases.lock().unwrap().clone()
    }

    /// Says whether a commit or a lease is being held up.
    pub fn holds_up(&self) -> bool {
        self.watch.held_up.load(Ordering::SeqCst) > 0
    }

    fn wait_while(&self, is_held: impl Fn(&(bool, Option<String>)) -> bool) {
        let mut holds = self.watch.holds.lock().unwrap();
        if !is_held(&holds) {
            return;
        }
        self.watch.held_up.fetch_add(1, Ordering::SeqCst);
        while is_held(&holds) {
            // The condition is one for both locks, so that it is looked at again soon.
            holds = self.watch.paused.wait_timeout(holds, Duration::from_millis(2)).unwrap().0;
        }
        self.watch.held_up.fetch_sub(1, Ordering::SeqCst);
    }

    /// Returns how many images were to be written.
    pub fn commits(&self) -> u64 {
        self.watch.commits.load(Ordering::SeqCst)
    }

    /// Returns how often some were, and how many at once at the most.
    pub fn batches(&self) -> (u64, u64) {
        (self.watch.batches.load(Ordering::SeqCst), self.watch.largest.load(Ordering::SeqCst))
    }

    fn may(&self) -> Result<(), StoreError> {
        let mut held = self.watch.held.lock().unwrap();
        while *held {
            held = self.watch.released.wait(held).unwrap();
        }
        drop(held);
        if self.watch.cut_off.load(Ordering::SeqCst) {
            return Err(Self::reset());
        }
        Ok(())
    }

    fn reset() -> StoreError {
        let (path, cause) = (PathBuf::from("the watched store"), io::ErrorKind::ConnectionReset.into());
        StoreError::Io { action: "reach", path, cause }
    }
}

impl<S: Store> Store for WatchedStore<S> {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.may()?;
        self.store.owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.may()?;
        self.store.generations(owner)
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.may()?;
        self.store.read(owner, generation)
    }
    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        self.may()?;
        self.store.newest(owner)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.commit_encoded(follows, &image.encoded())
    }
    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.commit_all(&[Commit { follows, image, lease: None }]).pop().unwrap()
    }
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        if self.may().is_err() {
            return commits.iter().map(|_| self.may().map(|()| Committed::unchanged(0))).collect();
        }
        self.wait_while(|(commits, _)| *commits);
        let refused = self.watch.refused.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |next| next.checked_sub(1));
        if refused.is_ok() {
            return commits.iter().map(|_| Err(Self::reset())).collect();
        }
        let many = commits.len() as u64;
        self.watch.commits.fetch_add(many, Ordering::SeqCst);
        self.watch.batches.fetch_add(1, Ordering::SeqCst);
        self.watch.largest.fetch_max(many, Ordering::SeqCst);
        self.store.commit_all(commits)
    }
    fn batch_size(&self) -> usize {
        self.watch.batch
    }
    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.may()?;
        self.watch.leases.lock().unwrap().push(owner.clone());
        self.wait_while(|(_, held)| matches!((owner, held), (Owner::Profile(name), Some(held)) if name == held));
        self.store.lease(owner, holder, lasts)
    }
    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        if self.may().is_err() {
            return leases.iter().map(|_| self.may()).collect();
        }
        self.store.renew(leases, lasts)
    }
    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.may()?;
        self.store.release(leases)
    }
    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.may()?;
        self.store.line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.may()?;
        self.store.begin_line(owner)
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.may()?;
        self.store.give(owner, save)
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.may()?;
        self.store.insert(image)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.may()?;
        self.store.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.may()?;
        self.store.prune(owner, keep)
    }
}
