//! Several devices, and the place with which each of them syncs.

use std::collections::BTreeMap;
use std::sync::Arc;

use vestigum_core::merging::report::Side;
use vestigum_core::merging::{Meeting, meet, merge};
use vestigum_core::{Image, Owner, Spec};

use super::outcome::Why;
use super::saves::{MemorySaves, Saves, SavesError};

/// The place that all devices sync with, and what each has in common with it.
#[derive(Default)]
pub(super) struct Syncs {
    there: MemorySaves,
    /// The last save that both had, by device and player.
    agreed: BTreeMap<(Arc<str>, Arc<str>), Image>,
}

impl Syncs {
    /// Brings the saves of a player on a device and there to the same progress, as a game's sync does. Says what it did.
    pub(super) fn sync(
        &mut self,
        spec: &Spec,
        here: &mut dyn Saves,
        device: &Arc<str>,
        player: &Arc<str>,
        saved_at: String,
    ) -> Result<String, Why> {
        let owner = Owner::Profile(player.to_string());
        let (of_here, of_there) = (newest(here, &owner)?, newest(&mut self.there, &owner)?);
        let key = (device.clone(), player.clone());
        let base = self.agreed.get(&key);
        let (agreed, told) = match (meet(base, of_here.as_ref(), of_there.as_ref()), of_here, of_there) {
            (Meeting::InSync, Some(image), _) => (image, "in sync".to_owned()),
            (Meeting::Takes(Side::Here), Some(image), _) => {
                let generation = commit(&mut self.there, image.clone())?;
                (image, format!("taken there as save {generation}"))
            }
            (Meeting::Takes(Side::There), _, Some(image)) => {
                let generation = commit(here, image.clone())?;
                (image, format!("taken from there as save {generation}"))
            }
            (Meeting::Diverged, Some(of_here), Some(of_there)) => {
                let merged = merge(spec, base, &of_here, &of_there).map_err(|error| Why::Refused(error.to_string()))?;
                let image = Image { saved_at, ..merged.suspended.profile_image(player) };
                let generation = commit(here, image.clone())?;
                commit(&mut self.there, image.clone())?;
                let values = merged.report.entries.len();
                let s = if values == 1 { "" } else { "s" };
                (image, format!("merged {values} value{s} as save {generation}; {}", merged.report.run))
            }
            (Meeting::Nothing | Meeting::InSync | Meeting::Takes(_) | Meeting::Diverged, _, _) => {
                return Ok("there is nothing to sync".into());
            }
        };
        self.agreed.insert(key, agreed);
        Ok(told)
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
