//! Finding the newest image that can be read, without ever passing over one that a newer game wrote.

use vestigum_core::image::SavedPlace;
use vestigum_core::image::json::ImageError;
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner};

use crate::error::SessionError;
use crate::store::{Committed, Newest, Store, StoreError};

/// Makes an older generation the newest again, as a new generation; the others stay as they are.
///
/// # Errors
/// If there is no such generation, it is damaged, or the store fails.
pub fn restore(store: &dyn Store, owner: &Owner, generation: u64) -> Result<Committed, StoreError> {
    let image = store.read(owner, generation)?;
    let newest = store.generations(owner)?.last().copied().unwrap_or(0);
    store.commit(newest, &image)
}

/// What a launch finds of one owner.
pub struct NewestImage {
    /// The newest image that can be read.
    pub image: Option<Image>,
    /// Whether newer ones were passed over.
    pub origin: Origin,
    /// The highest generation there, whether it can be read or not: what the next commit follows.
    pub newest: u64,
}

/// A running game may prune what was just listed; then the list is read again, a few times.
const LOOKS: usize = 3;

/// The newest readable image of an owner. Damaged ones are passed over: the images before them are whole. A store that fails
/// passes nothing over.
///
/// # Errors
/// If the store cannot be read, a newer game wrote the newest image, none can be read, or the player was deleted.
pub fn newest_readable(store: &dyn Store, owner: &Owner) -> Result<NewestImage, SessionError> {
    let found = newest_image(store, owner)?;
    let is_deleted = |image: &&Image| image.place == SavedPlace::Deleted && *owner != Owner::Device;
    let Some(deleted) = found.image.as_ref().filter(is_deleted) else {
        return Ok(found);
    };
    // A purge leaves nothing but that image, and then the name is free.
    if has_before(store, owner, deleted.generation)? {
        return Err(SessionError::Deleted { owner: owner.clone() });
    }
    Ok(NewestImage { image: None, origin: Origin::Fresh, newest: found.newest })
}

/// The same, and of a player who was deleted the image that says so.
///
/// # Errors
/// As [`newest_readable`], but for the player who was deleted.
pub fn newest_image(store: &dyn Store, owner: &Owner) -> Result<NewestImage, SessionError> {
    // One round trip, where the newest one is whole. What it said of another is not asked again.
    let mut read_already = match store.newest(owner)? {
        None => return Ok(NewestImage { image: None, origin: Origin::Fresh, newest: 0 }),
        Some(Newest { generation, image: Ok(image) }) => {
            return Ok(NewestImage { image: Some(image), origin: Origin::Loaded { generation }, newest: generation });
        }
        Some(Newest { generation, image }) => Some((generation, image)),
    };
    let mut looks = 0;
    loop {
        looks += 1;
        let generations = store.generations(owner)?;
        let Some(newest) = generations.last().copied() else {
            return Ok(NewestImage { image: None, origin: Origin::Fresh, newest: 0 });
        };
        let mut passed_over = Vec::new();
        let mut gone = false;
        for generation in generations.into_iter().rev() {
            let read = match read_already.take_if(|(read, _)| *read == generation) {
                Some((_, image)) => image,
                None => store.read(owner, generation),
            };
            match read {
                Ok(image) => {
                    let origin = if passed_over.is_empty() {
                        Origin::Loaded { generation }
                    } else {
                        Origin::Recovered { generation, passed_over }
                    };
                    return Ok(NewestImage { image: Some(image), origin, newest });
                }
                Err(StoreError::Damaged { damaged: ImageError::NewerFormat(format), .. }) => {
                    return Err(SessionError::NewerFormat { owner: owner.clone(), generation, format });
                }
                Err(StoreError::NoGeneration { .. }) if looks < LOOKS => gone = true,
                Err(StoreError::Damaged { damaged, .. }) => passed_over.push((generation, damaged.to_string())),
                Err(StoreError::NoGeneration { .. }) => passed_over.push((generation, "it is gone".to_owned())),
                // The place fails, and the save may be whole: an older one would be loaded, and written over it.
                Err(error) => return Err(error.into()),
            }
        }
        if !gone {
            return Err(SessionError::AllDamaged { owner: owner.clone(), damaged: passed_over });
        }
    }
}

/// Whether an owner has a generation before one.
fn has_before(store: &dyn Store, owner: &Owner, before: u64) -> Result<bool, StoreError> {
    Ok(store.generations(owner)?.iter().any(|generation| *generation < before))
}

/// The same, but where everything is damaged there is nothing: a new game begins behind the highest number.
pub(crate) fn anew(store: &dyn Store, owner: &Owner) -> Result<NewestImage, SessionError> {
    match newest_readable(store, owner) {
        Err(SessionError::AllDamaged { damaged, .. }) => {
            let newest = damaged.iter().map(|(generation, _)| *generation).max().unwrap_or(0);
            Ok(NewestImage { image: None, origin: Origin::Fresh, newest })
        }
        found => found,
    }
}
