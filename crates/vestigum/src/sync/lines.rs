//! Telling copies of an installation apart.
//!
//! A folder that is copied gets another id, as far as the system lets it be noticed. Where it does not, both copies write saves of one
//! number under one id. The tags of saves tell them apart: a save under the own id that was never made here is another copy's.

use vestigum_core::origin::{InstallationId, SavedOrigin};
use vestigum_core::{Image, Owner};

use crate::store::{GivenSave, Patience, Store, StoreError};

/// The last save of an installation that an image includes.
pub(super) fn own_save(image: &Image, installation: &str) -> Option<GivenSave> {
    let known = image.origin.as_ref()?.from.get(installation).filter(|known| known.count > 0)?;
    Some(GivenSave { count: known.count, tag: known.tag.clone() })
}

/// The installation of a place, if a save from elsewhere includes a save under its id that was not made here. `own` is the newest save
/// of the place.
pub(super) fn parted(
    store: &dyn Store,
    owner: &Owner,
    own: Option<&Image>,
    other: &SavedOrigin,
) -> Result<Option<InstallationId>, StoreError> {
    let patience = Patience::with(store);
    let Some(line) = patience.line(owner)? else { return Ok(None) };
    let id = line.installation;
    let Some(known) = other.from.get(&id).filter(|known| known.count > 0 && !known.tag.is_empty()) else {
        return Ok(None);
    };
    let save = GivenSave { count: known.count, tag: known.tag.clone() };
    if line.given.contains(&save) || own.is_some_and(|own| own_save(own, &id).as_ref() == Some(&save)) {
        return Ok(None);
    }
    // Only this number is remembered: what is older than all of them cannot be told.
    let oldest = line.given.iter().map(|given| given.count).min();
    if line.given.len() >= crate::store::Line::GIVEN && oldest.is_some_and(|oldest| save.count < oldest) {
        return Ok(None);
    }
    // Somebody may have copied the files: then the save lies among the older ones.
    for generation in patience.generations(owner)?.into_iter().rev() {
        match patience.read(owner, generation) {
            Ok(image) if own_save(&image, &id).as_ref() == Some(&save) => return Ok(None),
            Ok(_) | Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(Some(id))
}
