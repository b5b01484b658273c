//! The suite for stores: those of this project pass it, and each mistake is caught.

use std::sync::Mutex;
use std::time::Duration;

use vestigum::{
    Commit, Committed, DirStore, GivenSave, Image, Lease, Line, MemoryStore, Newest, Owner, Pruned, Store, StoreError,
};
use vestigum_verify::SimDisk;
use vestigum_verify::store_suite::{breaches, shared_breaches};

#[test]
fn the_stores_of_this_project_keep_every_rule() {
    assert_eq!(breaches(&MemoryStore::default, &|store| store), []);
    let in_folder = || {
        let disk = SimDisk::default();
        (disk.clone(), DirStore::open_on(disk, "saves").unwrap())
    };
    let reopen = |store: Kept| {
        let Kept { disk, store } = store;
        drop(store);
        Kept { store: DirStore::open_on(disk.clone(), "saves").unwrap(), disk }
    };
    let found = breaches(&|| in_folder().into(), &reopen);
    assert_eq!(found, []);
}

/// A store and the disk that it is on.
struct Kept {
    disk: SimDisk,
    store: DirStore,
}

impl From<(SimDisk, DirStore)> for Kept {
    fn from((disk, store): (SimDisk, DirStore)) -> Kept {
        Kept { disk, store }
    }
}

macro_rules! passes_on {
    ($store:ident, $($method:ident($($argument:ident: $ty:ty),*) -> $result:ty;)*) => {
        $(fn $method(&self, $($argument: $ty),*) -> Result<$result, StoreError> {
            self.$store.$method($($argument),*)
        })*
    };
}

impl Store for Kept {
    passes_on! { store,
        owners() -> Vec<Owner>;
        generations(owner: &Owner) -> Vec<u64>;
        read(owner: &Owner, generation: u64) -> Image;
        commit(follows: u64, image: &Image) -> Committed;
        insert(image: &Image) -> Committed;
        remove_before(owner: &Owner, generation: u64) -> usize;
        prune(owner: &Owner, keep: u32) -> Pruned;
        line(owner: &Owner) -> Option<Line>;
        begin_line(owner: &Owner) -> Line;
        give(owner: &Owner, save: &GivenSave) -> ();
    }
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Mistake {
    WritesOverOthers,
    ForgetsOnReopening,
    PrunesTheNewest,
    TakesNamesForEachOther,
    WritesAgain,
    LeavesBlobsOut,
    InsertsAtTheEnd,
    RemovesTheLast,
    CountsDeletions,
}

/// A store in memory with a mistake.
struct Wrong {
    inner: Mutex<MemoryStore>,
    mistake: Mistake,
}

impl Wrong {
    fn named(&self, owner: &Owner) -> Owner {
        match owner {
            Owner::Profile(name) if self.mistake == Mistake::TakesNamesForEachOther => {
                Owner::Profile(name.to_lowercase())
            }
            owner => owner.clone(),
        }
    }

    fn inner(&self) -> MemoryStore {
        self.inner.lock().unwrap().clone()
    }
}

impl Store for Wrong {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.inner().owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.inner().generations(&self.named(owner))
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.inner().read(&self.named(owner), generation)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        let mut image = Image { owner: self.named(&image.owner), ..image.clone() };
        if self.mistake == Mistake::LeavesBlobsOut {
            image.blobs = Default::default();
        }
        let newest = self.inner().generations(&image.owner)?.last().copied().unwrap_or(0);
        let follows = if self.mistake == Mistake::WritesOverOthers { newest } else { follows };
        let committed = self.inner().commit(follows, &image)?;
        Ok(match self.mistake {
            Mistake::WritesAgain => Committed::written(committed.generation),
            _ => committed,
        })
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        let image = Image { owner: self.named(&image.owner), ..image.clone() };
        match self.mistake {
            Mistake::InsertsAtTheEnd => {
                let newest = self.inner().generations(&image.owner)?.last().copied().unwrap_or(0);
                self.inner().commit(newest, &image)
            }
            _ => self.inner().insert(&image),
        }
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        let owner = self.named(owner);
        match self.mistake {
            Mistake::RemovesTheLast => self.inner().remove_before(&owner, generation + 1),
            _ => self.inner().remove_before(&owner, generation),
        }
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        if self.mistake == Mistake::CountsDeletions {
            let generations = self.inner().generations(owner)?;
            let newest = generations.len().saturating_sub(keep.max(1) as usize);
            let first = generations.get(newest).copied().unwrap_or(0);
            return Ok(Pruned { removed: self.inner().remove_before(owner, first)?, more: false });
        }
        if self.mistake == Mistake::PrunesTheNewest && keep == 0 {
            *self.inner.lock().unwrap() = MemoryStore::default();
        }
        self.inner().prune(&self.named(owner), keep)
    }
}

#[test]
fn every_mistake_is_caught() {
    let caught = |mistake| {
        let empty = || Wrong { inner: Mutex::default(), mistake };
        let reopen = |store: Wrong| if mistake == Mistake::ForgetsOnReopening { empty() } else { store };
        breaches(&empty, &reopen).into_iter().map(|breach| breach.rule).collect::<Vec<_>>()
    };
    let has = |mistake, rule: &str| {
        let found = caught(mistake);
        assert!(found.iter().any(|found| found.contains(rule)), "{mistake:?} is told as {found:?}");
    };
    has(Mistake::WritesOverOthers, "does not know the newest generation");
    has(Mistake::ForgetsOnReopening, "stay when the place is opened again");
    has(Mistake::PrunesTheNewest, "pruning keeps the newest");
    has(Mistake::TakesNamesForEachOther, "are their own, whatever the name");
    has(Mistake::LeavesBlobsOut, "the blobs of an image come back");
    has(Mistake::WritesAgain, "not written again");
    has(Mistake::InsertsAtTheEnd, "under the number that it has");
    has(Mistake::RemovesTheLast, "what is below a number");
    has(Mistake::CountsDeletions, "a deletion takes the place of no save");
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum LeaseMistake {
    None,
    GivesEveryLease,
    LooksAtNoToken,
    TakesWhatCarriesNone,
    GivesNothingBack,
    RunsOutAtOnce,
    StopsAtARefusal,
    ReadsTheOldest,
}

/// A store that several processes have open, with a mistake in its leases.
#[derive(Clone)]
struct Shared {
    inner: MemoryStore,
    mistake: LeaseMistake,
}

impl Store for Shared {
    passes_on! { inner,
        owners() -> Vec<Owner>;
        generations(owner: &Owner) -> Vec<u64>;
        read(owner: &Owner, generation: u64) -> Image;
        insert(image: &Image) -> Committed;
        remove_before(owner: &Owner, generation: u64) -> usize;
        prune(owner: &Owner, keep: u32) -> Pruned;
    }
    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        let generations = self.generations(owner)?;
        let (first, last) = (generations.first(), generations.last());
        let generation = if self.mistake == LeaseMistake::ReadsTheOldest { first } else { last };
        Ok(generation.map(|number| Newest { generation: *number, image: self.read(owner, *number) }))
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        let encoded = image.encoded();
        self.commit_all(&[Commit { follows, image: &encoded, lease: None }]).pop().unwrap()
    }
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        let mut results = Vec::new();
        for commit in commits {
            let result = match self.inner.commit_all(&[*commit]).pop().unwrap() {
                Err(StoreError::LeaseLost { .. }) if self.mistake == LeaseMistake::LooksAtNoToken => {
                    self.inner.commit_encoded(commit.follows, commit.image)
                }
                Err(StoreError::Leased { .. }) if self.mistake == LeaseMistake::TakesWhatCarriesNone => {
                    Ok(Committed::written(commit.follows + 1))
                }
                result => result,
            };
            let refused = result.is_err();
            results.push(result);
            if refused && self.mistake == LeaseMistake::StopsAtARefusal {
                break;
            }
        }
        results
    }
    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        match self.mistake {
            LeaseMistake::GivesEveryLease => Ok(Lease::new(owner.clone(), holder, 1)),
            LeaseMistake::RunsOutAtOnce => self.inner.lease(owner, holder, Duration::ZERO),
            _ => self.inner.lease(owner, holder, lasts),
        }
    }
    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        self.inner.renew(leases, lasts)
    }
    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        if self.mistake == LeaseMistake::GivesNothingBack { Ok(()) } else { self.inner.release(leases) }
    }
}

#[test]
fn every_mistake_with_leases_is_caught() {
    let caught = |mistake| {
        let empty = || Shared { inner: MemoryStore::default(), mistake };
        let mut found = breaches(&empty, &|store| store);
        found.extend(shared_breaches(&empty, &Shared::clone));
        found.into_iter().map(|breach| breach.rule).collect::<Vec<_>>()
    };
    assert_eq!(caught(LeaseMistake::None), [""; 0]);
    let has = |mistake, rule: &str| {
        let found = caught(mistake);
        assert!(found.iter().any(|found| found.contains(rule)), "{mistake:?} is told as {found:?}");
    };
    has(LeaseMistake::GivesEveryLease, "no other holder gets one");
    has(LeaseMistake::LooksAtNoToken, "writes nothing any more");
    has(LeaseMistake::TakesWhatCarriesNone, "that does not carry it is refused");
    has(LeaseMistake::GivesNothingBack, "is another's at once");
    has(LeaseMistake::RunsOutAtOnce, "of those who take a lease at once");
    has(LeaseMistake::StopsAtARefusal, "each counts by itself");
    has(LeaseMistake::ReadsTheOldest, "in one go");
}

/// A store of objects that reads the lease and then puts the save: two steps, and others come in between.
#[derive(Clone, Default)]
struct ReadsThenPuts {
    leases: MemoryStore,
    images: MemoryStore,
}

impl Store for ReadsThenPuts {
    passes_on! { images,
        owners() -> Vec<Owner>;
        generations(owner: &Owner) -> Vec<u64>;
        read(owner: &Owner, generation: u64) -> Image;
        commit(follows: u64, image: &Image) -> Committed;
        insert(image: &Image) -> Committed;
        remove_before(owner: &Owner, generation: u64) -> usize;
        prune(owner: &Owner, keep: u32) -> Pruned;
    }
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        let one = |commit: &Commit<'_>| {
            if let Some(lease) = commit.lease {
                self.leases.renew(std::slice::from_ref(lease), Duration::from_secs(60)).pop().unwrap()?;
            }
            // Most of a commit lies between the two, so that a busy machine finds it, too.
            std::thread::sleep(Duration::from_millis(5));
            self.images.commit_encoded(commit.follows, commit.image)
        };
        commits.iter().map(one).collect()
    }
    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.leases.lease(owner, holder, lasts)
    }
    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        self.leases.renew(leases, lasts)
    }
    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        self.leases.release(leases)
    }
}

#[test]
fn a_fence_in_two_steps_is_caught() {
    let found = shared_breaches(&ReadsThenPuts::default, &ReadsThenPuts::clone);
    assert!(found.iter().any(|breach| breach.rule.contains("not even by a commit that was under way")), "{found:?}");
}
