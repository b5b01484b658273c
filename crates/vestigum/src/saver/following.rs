//! The origins of a player's saves, in games that merge them.

use std::time::SystemTime;

use vestigum_core::contributing::{Contribution, Contributor, Visits};
use vestigum_core::origin::SavedOrigin;
use vestigum_core::{Image, LoadError, Owner, Spec, Suspended};

use crate::store::{Line, Patience, Store, StoreError, random_tag};

/// Follows the saves of one player by play.
#[derive(Debug)]
pub(crate) struct Following {
    contributor: Contributor,
    /// The line of the place; none if one begins with the next save.
    line: Option<Line>,
    /// The highest number that a save of the line is known to have.
    last: u64,
}

impl Following {
    /// Follows a player whose newest save is given. Where newer saves were lost, another line begins, so that no number of a lost save is
    /// given again. None for a game that does not merge.
    ///
    /// # Errors
    /// If the save cannot be loaded, or the place cannot be read.
    pub(crate) fn begin(
        spec: &Spec,
        patience: &Patience<'_>,
        owner: &Owner,
        newest: Option<&Image>,
        saves_were_lost: bool,
    ) -> Result<Option<Following>, FollowError> {
        let Some(contributor) = Contributor::new(spec, newest)? else { return Ok(None) };
        let line = if saves_were_lost { None } else { patience.line(owner)? };
        let last = line.as_ref().map_or(0, Line::last);
        Ok(Some(Following { contributor, line, last }))
    }

    /// Returns the origin of what is saved now.
    ///
    /// # Errors
    /// If a line begins, and the place cannot be written.
    pub(crate) fn contribute(
        &mut self,
        store: &dyn Store,
        owner: &Owner,
        now: &Suspended,
        visits: &Visits,
        at: SystemTime,
    ) -> Result<SavedOrigin, StoreError> {
        if self.contributor.is_same(now) {
            return Ok(self.contributor.origin());
        }
        let line = match &mut self.line {
            Some(line) => line,
            none => none.insert(store.begin_line(owner)?),
        };
        let since = at.duration_since(SystemTime::UNIX_EPOCH).map(|since| since.as_secs()).unwrap_or_default();
        let by = Contribution {
            by: line.installation.clone(),
            last: self.last,
            tag: random_tag(),
            at: i64::try_from(since).unwrap_or(i64::MAX),
        };
        Ok(self.contributor.contribute(now, visits, &by))
    }
}

/// Tells why a player's saves cannot be followed.
#[derive(Debug, thiserror::Error)]
pub enum FollowError {
    /// A save cannot be loaded.
    #[error(transparent)]
    Load(#[from] LoadError),
    /// The place cannot be read or written.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Gives an image the origin that it has as one more save by play on top of the newest one: for changes that no session makes. Where
/// newer saves were lost, another line begins.
///
/// # Errors
/// If one of the saves cannot be loaded, or the place cannot be read or written.
pub fn as_play(
    spec: &Spec,
    store: &dyn Store,
    newest: Option<&Image>,
    saves_were_lost: bool,
    image: Image,
) -> Result<Image, FollowError> {
    let at = SystemTime::now();
    let owner = image.owner.clone();
    // What belongs to the device is never merged.
    if owner == Owner::Device {
        return Ok(image);
    }
    let Some(mut following) = Following::begin(spec, &Patience::with(store), &owner, newest, saves_were_lost)? else {
        return Ok(image);
    };
    let state = vestigum_core::Progress::load(spec, Some(&image), None)?.progress.suspend();
    let origin = following.contribute(store, &owner, &state, &Visits::another(), at)?;
    Ok(Image { origin: Some(Box::new(origin)), ..image })
}
