//! Images in memory: for tests, for trying things out, and for games that keep their saves elsewhere.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use vestigum_core::image::blobs::{BlobDigest, BlobError};
use vestigum_core::{EncodedImage, Image, MOST_SAVE_BYTES, Owner};

use crate::store::{
    Commit, Committed, GivenSave, Lease, LeaseBook, Line, PruneStep, Pruned, SaveVerdict, Store, StoreError,
    StoreIdentity, checked_profile, checked_size, prove, prune_step, random_installation,
};

type Generations = BTreeMap<u64, EncodedImage>;

/// Describes what clones of a store share.
#[derive(Debug, Default)]
struct Kept {
    owners: BTreeMap<Owner, Generations>,
    blobs: BTreeMap<BlobDigest, Arc<[u8]>>,
    leases: LeaseBook,
    lines: BTreeMap<Owner, Line>,
}

impl Kept {
    fn commit(&mut self, commit: Commit<'_>) -> Result<Committed, StoreError> {
        let Commit { follows, image, lease } = commit;
        let owner = image.owner();
        if let Owner::Profile(name) = owner {
            checked_profile(name)?;
        }
        checked_size(image, MOST_SAVE_BYTES)?;
        self.leases.allows(owner, lease)?;
        let Kept { owners, blobs, .. } = self;
        blobs.extend(image.blobs().iter().map(|(digest, bytes)| (*digest, bytes.clone())));
        let images = owners.entry(owner.clone()).or_default();
        let newest = images.last_key_value().map(|(number, newest)| (*number, newest.digest() == image.digest()));
        let (number, same) = newest.unwrap_or((0, false));
        if same {
            return Ok(Committed::unchanged(number));
        }
        if number != follows {
            return Err(StoreError::Conflict { owner: owner.clone(), newest: number, follows });
        }
        let generation = number + 1;
        prove(image, generation, &image.bytes(generation, None), None)?;
        images.insert(generation, image.clone());
        Ok(Committed::written(generation))
    }
}

/// A store in memory. Images go through their JSON form, as they do on disk. Sessions on clones of one share it as those of one process
/// do; two [rosters](crate::roster::Roster) on clones of one are as two servers, and give each other [leases](Store::lease).
///
/// # Example
///
/// ```
/// # use vestigum::{MemoryStore, Session, Spec};
/// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
/// let store = MemoryStore::default();
/// Session::launch(&spec, store.clone(), "ada")?.quit()?;   // a clone is the same store
/// let game = Session::launch(&spec, store, "ada")?;
/// assert_eq!(game.generation(), 1);
/// # game.quit()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct MemoryStore {
    kept: Arc<Mutex<Kept>>,
}

impl MemoryStore {
    fn lock(&self) -> MutexGuard<'_, Kept> {
        // A panic elsewhere cannot leave a map of whole images half changed.
        self.kept.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

impl Store for MemoryStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        Ok(self.lock().owners.keys().cloned().collect())
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        Ok(self.lock().owners.get(owner).map(|images| images.keys().copied().collect()).unwrap_or_default())
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let kept = self.lock();
        let image = kept.owners.get(owner).and_then(|images| images.get(&generation));
        let owner = owner.clone();
        match image {
            None => Err(StoreError::NoGeneration { owner, generation }),
            Some(image) => {
                let read = Image::from_json(&image.bytes(generation, None));
                let mut read = read.map_err(|damaged| StoreError::Damaged { owner, generation, damaged })?;
                read.find_blobs(|blob| kept.blobs.get(&blob.digest).cloned().ok_or(BlobError::Missing));
                Ok(read)
            }
        }
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.commit_encoded(follows, &image.encoded())
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        self.lock().commit(Commit { follows, image, lease: None })
    }

    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        let mut kept = self.lock();
        commits.iter().map(|commit| kept.commit(*commit)).collect()
    }

    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        self.lock().leases.lease(owner, holder, lasts)
    }

    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        let mut kept = self.lock();
        leases.iter().map(|lease| kept.leases.renew(lease, lasts)).collect()
    }

    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        let mut kept = self.lock();
        leases.iter().for_each(|lease| kept.leases.release(lease));
        Ok(())
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        let mut kept = self.lock();
        let Some(images) = kept.owners.get_mut(owner) else { return Ok(Pruned::default()) };
        let verdicts = images.iter().map(|(generation, image)| (*generation, SaveVerdict::of_written(image))).collect();
        let mut generations: Vec<u64> = images.keys().copied().collect();
        let mut removed = 0;
        while let PruneStep::Remove(generation) = prune_step(&generations, &verdicts, keep) {
            images.remove(&generation);
            generations.retain(|known| *known != generation);
            removed += 1;
        }
        let Kept { owners, blobs, .. } = &mut *kept;
        if !blobs.is_empty() {
            let images = owners.values().flatten();
            let means: BTreeSet<BlobDigest> = images.flat_map(|(_, image)| image.blob_digests()).collect();
            blobs.retain(|digest, _| means.contains(digest));
        }
        Ok(Pruned { removed, more: false })
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        let (generation, image) = (image.generation, image.encoded());
        let mut kept = self.lock();
        let owner = image.owner().clone();
        if let Owner::Profile(name) = &owner {
            checked_profile(name)?;
        }
        checked_size(&image, MOST_SAVE_BYTES)?;
        kept.leases.allows(&owner, None)?;
        kept.blobs.extend(image.blobs().iter().map(|(digest, bytes)| (*digest, bytes.clone())));
        let images = kept.owners.entry(owner.clone()).or_default();
        match images.get(&generation) {
            Some(there) if there.digest() == image.digest() => return Ok(Committed::unchanged(generation)),
            Some(_) => {
                let newest = images.last_key_value().map_or(generation, |(newest, _)| *newest);
                return Err(StoreError::Conflict { owner, newest, follows: generation.saturating_sub(1) });
            }
            None => {}
        }
        prove(&image, generation, &image.bytes(generation, None), None)?;
        images.insert(generation, image);
        Ok(Committed::written(generation))
    }

    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        Ok(self.lock().lines.get(owner).cloned())
    }

    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        let line = Line::new(random_installation());
        self.lock().lines.insert(owner.clone(), line.clone());
        Ok(line)
    }

    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        if let Some(line) = self.lock().lines.get_mut(owner) {
            line.give(save.clone());
        }
        Ok(())
    }

    fn identity(&self) -> Option<StoreIdentity> {
        Some(StoreIdentity::of(&self.kept, ""))
    }

    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        let mut kept = self.lock();
        let Some(images) = kept.owners.get_mut(owner) else { return Ok(0) };
        let stays = images.split_off(&generation);
        Ok(std::mem::replace(images, stays).len())
    }
}
