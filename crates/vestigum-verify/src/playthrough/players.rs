//! What a playthrough does to players: the same as a game's title screen, on the images of the script.

use vestigum::ProfileError;
use vestigum_core::image::SavedPlace;
use vestigum_core::{Image, Owner, Progress, Spec};
use vestigum_spec::vocabulary::keyword::ProfileVerb;

use super::origins::{Saving, played};
use super::outcome::Why;
use super::saves::{Saves, SavesError};
use super::written::ProfileChange;

/// Describes what there is of a player.
enum Found {
    Nothing,
    Saved(Box<Image>),
    /// Says what it was before it was deleted.
    Deleted(Box<Image>),
}

/// Does it, and says as which save.
pub(super) fn change(
    spec: &Spec,
    saves: &mut dyn Saves,
    change: &ProfileChange,
    at: String,
    saving: &Saving,
) -> Result<String, Why> {
    let ProfileChange { verb, name, to } = change;
    let refused = |error: ProfileError| Why::Refused(error.to_string());
    for name in [Some(name), Some(to).filter(|to| !to.is_empty())].into_iter().flatten() {
        vestigum::checked_profile(name).map_err(|error| refused(error.into()))?;
    }
    let found = find(saves, name)?;
    let unknown = || refused(ProfileError::Unknown { name: name.clone() });
    let image = match (verb, found) {
        (ProfileVerb::Create, found) => {
            free(name, &found).map_err(refused)?;
            Image { saved_at: at, ..Progress::fresh(spec).suspend().profile_image(name) }
        }
        (ProfileVerb::Copy | ProfileVerb::Rename, Found::Saved(image)) => {
            if name == to {
                return Err(refused(ProfileError::Taken { name: to.clone(), deleted: false }));
            }
            free(to, &find(saves, to)?).map_err(refused)?;
            if *verb == ProfileVerb::Rename {
                commit(saves, Image { owner: Owner::Profile(to.clone()), ..(*image).clone() })?;
                play(spec, saves, image.deleted(at), saving)?;
                saves.purge(&image.owner).map_err(failed)?;
                return Ok(format!("{name} is {to} now"));
            }
            Image { owner: Owner::Profile(to.clone()), ..*image }
        }
        (ProfileVerb::Delete, Found::Saved(image)) => image.deleted(at),
        (ProfileVerb::Restore, Found::Deleted(image)) => *image,
        (ProfileVerb::Purge, Found::Deleted(_)) => {
            saves.purge(&Owner::Profile(name.clone())).map_err(failed)?;
            return Ok("nothing is left".into());
        }
        (ProfileVerb::Restore | ProfileVerb::Purge, Found::Saved(_)) => {
            return Err(refused(ProfileError::NotDeleted { name: name.clone() }));
        }
        (ProfileVerb::Copy | ProfileVerb::Rename | ProfileVerb::Delete, Found::Nothing | Found::Deleted(_))
        | (ProfileVerb::Restore | ProfileVerb::Purge, Found::Nothing) => return Err(unknown()),
    };
    let generation = play(spec, saves, image, saving)?;
    Ok(format!("saved {generation}"))
}

fn find(saves: &mut dyn Saves, name: &str) -> Result<Found, Why> {
    let mut images = saves.readable(&Owner::Profile(name.to_owned())).map_err(failed)?.into_iter();
    Ok(match images.next() {
        None => Found::Nothing,
        Some(newest) if newest.place != SavedPlace::Deleted => Found::Saved(Box::new(newest)),
        Some(_) => match images.find(|image| image.place != SavedPlace::Deleted) {
            Some(before) => Found::Deleted(Box::new(before)),
            None => Found::Nothing,
        },
    })
}

fn free(name: &str, found: &Found) -> Result<(), ProfileError> {
    match found {
        Found::Nothing => Ok(()),
        Found::Saved(_) => Err(ProfileError::Taken { name: name.to_owned(), deleted: false }),
        Found::Deleted(_) => Err(ProfileError::Taken { name: name.to_owned(), deleted: true }),
    }
}

/// Commits a change of a player as one more save by play.
fn play(spec: &Spec, saves: &mut dyn Saves, image: Image, saving: &Saving) -> Result<u64, Why> {
    let newest = saves.readable(&image.owner).map_err(failed)?.into_iter().next();
    commit(saves, played(spec, newest.as_ref(), image, saving)?)
}

fn commit(saves: &mut dyn Saves, image: Image) -> Result<u64, Why> {
    saves.commit(image).map_err(failed)
}

fn failed(error: SavesError) -> Why {
    Why::Storage(error.to_string())
}
