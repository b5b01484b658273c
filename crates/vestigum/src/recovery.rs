//! Finding the newest image that can be read.
//!
//! Four answers of a store are four different things here: *absent*, *whole*, *damaged* and *unavailable*. Only what is damaged is
//! passed over, with a report that names it. What cannot be read now is asked for again, for less than a second, and then refused:
//! it may be whole, and newer than anything else. [`PassingOver`] takes the decision of a person who knows better.

use vestigum_core::image::SavedPlace;
use vestigum_core::image::json::ImageError;
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner, Spec};

use crate::error::SessionError;
use crate::saver::{FollowError, as_play};
use crate::store::{Committed, Newest, Patience, Store, StoreError};

/// Makes an older generation the newest again, as a new generation; the others stay as they are. In a game that merges it is one more
/// save by play on top of the newest one, so that other places take it over; then the spec has to be given.
///
/// # Errors
/// If there is no such generation, it is damaged or cannot be read now, the store fails, or the save knows what each installation gave
/// to it and there is no spec to tell what became of that.
pub fn restore(
    store: &dyn Store,
    spec: Option<&Spec>,
    owner: &Owner,
    generation: u64,
) -> Result<Committed, SessionError> {
    let patience = Patience::with(store);
    let mut image = patience.read(owner, generation)?;
    let newest = newest_image(&patience, owner, &[])?;
    let knows = |image: &Image| image.origin.is_some();
    if let Some(spec) = spec.filter(|spec| spec.merges() && *owner != Owner::Device) {
        let lost = matches!(newest.origin, Origin::Recovered { .. });
        image = as_play(spec, store, newest.image.as_ref(), lost, image).map_err(|error| match error {
            FollowError::Load(error) => SessionError::from(error),
            FollowError::Store(error) => error.into(),
        })?;
    } else if knows(&image) || newest.image.as_ref().is_some_and(knows) {
        return Err(SessionError::NeedsSpec { owner: owner.clone() });
    }
    Ok(store.commit(newest.newest, &image)?)
}

/// Describes what a launch finds of one owner.
pub struct NewestImage {
    /// The newest image that can be read.
    pub image: Option<Image>,
    /// Whether newer ones were passed over.
    pub origin: Origin,
    /// The highest generation there, whether it can be read or not: what the next commit follows.
    pub newest: u64,
    /// Holds the image that says that the player was deleted, where that is all there is.
    pub deletion: Option<Image>,
}

/// The generations of an owner that a person has decided to pass over where they cannot be read.
pub(crate) type PassingOver<'a> = &'a [u64];

/// A running game may prune what was just listed; then the list is read again, a few times.
const LOOKS: usize = 3;

/// Finds the newest readable image of an owner. Damaged ones are passed over: the images before them are whole. A store that fails
/// passes nothing over.
///
/// # Errors
/// If the store cannot be read, a newer game wrote the newest image, none can be read, or the player was deleted.
pub fn newest_readable(
    patience: &Patience<'_>,
    owner: &Owner,
    over: PassingOver<'_>,
) -> Result<NewestImage, SessionError> {
    let found = newest_image(patience, owner, over)?;
    let is_deleted = |image: &&Image| image.place == SavedPlace::Deleted && *owner != Owner::Device;
    let Some(deleted) = found.image.as_ref().filter(is_deleted) else {
        return Ok(found);
    };
    if let Origin::Recovered { passed_over, .. } = found.origin {
        // Somebody has played since the deletion, and that is what cannot be read.
        return Err(SessionError::AllDamaged { owner: owner.clone(), damaged: passed_over });
    }
    // A purge leaves nothing but that image, and then the name is free.
    if has_before(patience, owner, deleted.generation)? {
        return Err(SessionError::Deleted { owner: owner.clone() });
    }
    Ok(NewestImage { image: None, origin: Origin::Fresh, newest: found.newest, deletion: found.image })
}

/// Finds the same, and of a player who was deleted the image that says so.
///
/// # Errors
/// As [`newest_readable`], but for the player who was deleted.
pub fn newest_image(
    patience: &Patience<'_>,
    owner: &Owner,
    over: PassingOver<'_>,
) -> Result<NewestImage, SessionError> {
    // One round trip, where the newest one is whole. What it said of another is not asked again.
    let mut read_already = match patience.newest(owner)? {
        None => return Ok(NewestImage { image: None, origin: Origin::Fresh, newest: 0, deletion: None }),
        Some(Newest { generation, image: Ok(image) }) => {
            return Ok(NewestImage {
                image: Some(image),
                origin: Origin::Loaded { generation },
                newest: generation,
                deletion: None,
            });
        }
        Some(Newest { generation, image }) => Some((generation, image)),
    };
    let mut looks = 0;
    loop {
        looks += 1;
        let generations = patience.generations(owner)?;
        let Some(newest) = generations.last().copied() else {
            return Ok(NewestImage { image: None, origin: Origin::Fresh, newest: 0, deletion: None });
        };
        let mut passed_over = Vec::new();
        let mut gone = false;
        for generation in generations.into_iter().rev() {
            let mut read = match read_already.take_if(|(read, _)| *read == generation) {
                Some((_, image)) => image,
                None => patience.read(owner, generation),
            };
            if over.contains(&generation) && matches!(read, Err(StoreError::Unavailable { .. })) {
                // Where only a blob cannot be read, the rest is taken: the report of loading names the blob.
                read = patience.store().read(owner, generation).or(read);
            }
            match read {
                Ok(image) => {
                    let origin = if passed_over.is_empty() {
                        Origin::Loaded { generation }
                    } else {
                        Origin::Recovered { generation, passed_over }
                    };
                    return Ok(NewestImage { image: Some(image), origin, newest, deletion: None });
                }
                Err(StoreError::Damaged { damaged: ImageError::NewerFormat(format), .. }) => {
                    return Err(SessionError::NewerFormat { owner: owner.clone(), generation, format });
                }
                Err(StoreError::NoGeneration { .. }) if looks < LOOKS => gone = true,
                Err(StoreError::Damaged { damaged, .. }) => passed_over.push((generation, damaged.to_string())),
                Err(StoreError::NoGeneration { .. }) => passed_over.push((generation, "it is gone".to_owned())),
                Err(StoreError::Unavailable { why, .. }) if over.contains(&generation) => {
                    passed_over.push((generation, format!("it could not be read, and was to be passed over: {why}")));
                }
                // It may be whole: an older one would be loaded, and written over it.
                Err(error) => return Err(error.into()),
            }
        }
        if !gone {
            return Err(SessionError::AllDamaged { owner: owner.clone(), damaged: passed_over });
        }
    }
}

/// Returns whether an owner has a generation before one.
fn has_before(patience: &Patience<'_>, owner: &Owner, before: u64) -> Result<bool, StoreError> {
    Ok(patience.generations(owner)?.iter().any(|generation| *generation < before))
}

/// Finds the same as [`newest_readable`], but where everything is damaged there is nothing: a new game begins behind the highest
/// number.
pub(crate) fn anew(patience: &Patience<'_>, owner: &Owner, over: PassingOver<'_>) -> Result<NewestImage, SessionError> {
    match newest_readable(patience, owner, over) {
        Err(SessionError::AllDamaged { damaged, .. }) => {
            let newest = damaged.iter().map(|(generation, _)| *generation).max().unwrap_or(0);
            Ok(NewestImage { image: None, origin: Origin::Fresh, newest, deletion: None })
        }
        found => found,
    }
}
