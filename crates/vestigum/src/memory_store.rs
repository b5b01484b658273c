//! Images in memory: for tests, for trying things out, and for games that keep their saves elsewhere.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

use vestigum_core::{EncodedImage, Image, Owner};

use crate::store::{Committed, Pruned, Store, StoreError, checked_profile, prove};

type Generations = BTreeMap<u64, EncodedImage>;

/// A store in memory. Images go through their JSON form, as they do on disk.
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
    owners: Arc<Mutex<BTreeMap<Owner, Generations>>>,
}

impl MemoryStore {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<Owner, Generations>> {
        // A panic elsewhere cannot leave a map of whole images half changed.
        self.owners.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

impl Store for MemoryStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        Ok(self.lock().keys().cloned().collect())
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        Ok(self.lock().get(owner).map(|images| images.keys().copied().collect()).unwrap_or_default())
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let image = self.lock().get(owner).and_then(|images| images.get(&generation).cloned());
        let owner = owner.clone();
        match image {
            None => Err(StoreError::NoGeneration { owner, generation }),
            Some(image) => {
                let read = Image::from_json(&image.bytes(generation, None));
                read.map_err(|damaged| StoreError::Damaged { owner, generation, damaged })
            }
        }
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.commit_encoded(follows, &image.encoded())
    }

    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let owner = image.owner();
        if let Owner::Profile(name) = owner {
            checked_profile(name)?;
        }
        let mut owners = self.lock();
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

    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        let mut owners = self.lock();
        let Some(images) = owners.get_mut(owner) else { return Ok(Pruned::default()) };
        let removed = images.len().saturating_sub(keep.max(1) as usize);
        (0..removed).for_each(|_| drop(images.pop_first()));
        Ok(Pruned { removed, more: false })
    }
}
