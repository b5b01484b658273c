//! The suite for stores: those of this project pass it, and each mistake is caught.

use std::sync::Mutex;

use vestigum::{Committed, DirStore, Image, MemoryStore, Owner, Pruned, Store, StoreError};
use vestigum_verify::SimDisk;
use vestigum_verify::store_suite::breaches;

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
        prune(owner: &Owner, keep: u32) -> Pruned;
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
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
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
}
