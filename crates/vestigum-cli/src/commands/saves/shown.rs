//! Players whose saved progress another command shows: their newest saves that are whole, loaded as a launch would.

use vestigum::tools::Patience;
use vestigum::{Owner, Progress, Spec, StoreError};

use super::Key;
use super::places::{AnyStore, Place};
use super::show::{Loaded, load};
use crate::Verdict;
use crate::show::Output;

/// Says where the saves are, and whose are wanted.
#[derive(clap::Args)]
pub(crate) struct Shown {
    /// Show saved progress: the save folder, sqlite:FILE or postgres://…
    #[arg(long, value_name = "PLACE", value_parser = Place::parser())]
    saves: Option<Place>,
    #[command(flatten)]
    player: super::Player,
    #[command(flatten)]
    key: Key,
}

/// A player and their progress.
pub(crate) struct ShownPlayer {
    pub name: String,
    pub progress: Progress,
    /// When it was saved, as the image says it.
    pub saved_at: String,
    /// Says where the player stands, for people.
    pub place: String,
}

impl Shown {
    fn store(&self, out: &Output) -> Result<Option<AnyStore>, Verdict> {
        match &self.saves {
            Some(place) => self.key.open(out, place, false).map(Some),
            None if self.player.profile.is_some() => Err(out.unusable("--profile NAME needs --saves PLACE")),
            None => Ok(None),
        }
    }

    /// The one player that is meant, if any saves are.
    pub(crate) fn one(&self, out: &Output, spec: &Spec) -> Result<Option<ShownPlayer>, Verdict> {
        let Some(store) = self.store(out)? else { return Ok(None) };
        let name = self.player.name(out, &store)?;
        let owner = Owner::Profile(name.clone());
        super::generations(out, &store, &owner)?;
        match newest(out, spec, &store, &name)? {
            Some(player) => Ok(Some(player)),
            None => Err(out.unusable(&format!("no save of {owner} is whole"))),
        }
    }

    /// Every player that is there, or the one that is named. Who has no save that is whole is left out.
    pub(crate) fn all(&self, out: &Output, spec: &Spec) -> Result<Vec<ShownPlayer>, Verdict> {
        let Some(store) = self.store(out)? else { return Ok(Vec::new()) };
        if self.player.profile.is_some() {
            return Ok(self.one(out, spec)?.into_iter().collect());
        }
        let owners = Patience::with(&store).owners().map_err(|error| out.unusable(&error.to_string()))?;
        let mut players = Vec::new();
        for owner in owners {
            if let Owner::Profile(name) = owner {
                players.extend(newest(out, spec, &store, &name)?);
            }
        }
        Ok(players)
    }
}

/// The newest save of a player that is whole; none if there is none, or if the player was deleted. What cannot be read now may be
/// newer, so it is refused.
fn newest(out: &Output, spec: &Spec, store: &AnyStore, name: &str) -> Result<Option<ShownPlayer>, Verdict> {
    let failed = |error: StoreError| out.unusable(&error.to_string());
    let owner = Owner::Profile(name.to_owned());
    let Some(image) = super::newest(store, &owner).map_err(failed)? else { return Ok(None) };
    if image.place == vestigum::image::SavedPlace::Deleted {
        return Ok(None);
    }
    let (saved_at, place) = (image.saved_at.clone(), image.place.to_string());
    let Loaded { progress, .. } = load(out, spec, store, image)?;
    Ok(Some(ShownPlayer { name: name.to_owned(), progress, saved_at, place }))
}
