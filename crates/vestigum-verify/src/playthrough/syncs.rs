//! Several devices, and the place with which each of them syncs.

use vestigum_core::merging::report::Side;
use vestigum_core::merging::{Meeting, meet};
use vestigum_core::{Image, Owner, Spec};

use super::outcome::Why;
use super::saves::{MemorySaves, Saves, SavesError};

/// The place that all devices sync with.
#[derive(Default)]
pub(super) struct Syncs {
    there: MemorySaves,
}

impl Syncs {
    /// Brings the saves of a player on a device and there to the same progress, as a game's sync does. Says what it did.
    pub(super) fn sync(&mut self, spec: &Spec, here: &mut dyn Saves, player: &str) -> Result<String, Why> {
        let owner = Owner::Profile(player.to_owned());
        let (of_here, of_there) = (newest(here, &owner)?, newest(&mut self.there, &owner)?);
        let meeting = meet(spec, of_here.as_ref(), of_there.as_ref());
        let meeting = meeting.map_err(|error| Why::Refused(error.to_string()))?;
        Ok(match (meeting, of_here, of_there) {
            (Meeting::InSync, ..) => "in sync".to_owned(),
            (Meeting::Takes(Side::Here), Some(image), _) => {
                format!("taken there as save {}", commit(&mut self.there, image)?)
            }
            (Meeting::Takes(Side::There), _, Some(image)) => {
                format!("taken from there as save {}", commit(here, image)?)
            }
            (Meeting::Merged(merged), ..) => {
                let generation = commit(here, merged.image.clone())?;
                commit(&mut self.there, merged.image)?;
                let values = merged.report.entries.len();
                let s = if values == 1 { "" } else { "s" };
                format!("merged {values} value{s} as save {generation}; {}", merged.report.run)
            }
            (Meeting::Nothing | Meeting::Takes(_), ..) => "there is nothing to sync".to_owned(),
        })
    }
}

/// The newest save that can be read; of a deleted player the one that says so.
fn newest(saves: &mut dyn Saves, owner: &Owner) -> Result<Option<Image>, Why> {
    if let Some(image) = saves.readable(owner).map_err(failed)?.into_iter().next() {
        return Ok(Some(image));
    }
    // Nothing was saved, or nothing of it can be read.
    match saves.newest(owner) {
        Ok(newest) => Ok(newest.image),
        Err(SavesError::Refused(why)) => Err(Why::Refused(why)),
        Err(error @ SavesError::Failed(_)) => Err(failed(error)),
    }
}

fn commit(saves: &mut dyn Saves, image: Image) -> Result<u64, Why> {
    saves.commit(image).map_err(failed)
}

fn failed(error: SavesError) -> Why {
    Why::Storage(error.to_string())
}
