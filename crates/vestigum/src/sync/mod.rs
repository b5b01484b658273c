//! One player in two places: a sync brings both stores to the same progress.
//!
//! A save of a game that [merges](vestigum_core::merging) says what each installation gave to it, so two saves can be joined without
//! a third, and a sync keeps no record of its own. What one place has and the other has not goes there; where each has something that
//! the other has not, the saves are joined by the spec's `[merge]`. A sync that was cut short is done again: what is included already
//! changes nothing, so nothing is lost and no gain is added twice, in any number of places that sync in any order.

mod lines;

use thiserror::Error;

use vestigum_core::image::report::Origin;
use vestigum_core::merging::report::{MergeReport, Side};
use vestigum_core::merging::{Meeting, MergeError, meet};
use vestigum_core::origin::InstallationId;
use vestigum_core::{Image, LoadError, Owner, Progress, Spec};

use crate::error::SessionError;
use crate::recovery::newest_image;
use crate::saver::{FollowError, as_play};
use crate::store::{GivenSave, Patience, Store, StoreError};
use lines::own_save;

/// Tells what a sync did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Synced {
    /// Says what was written.
    pub did: SyncDid,
    /// Newest saves that were damaged and passed over: each place, the generation, and why. What the other place has of them is in
    /// both places now; what only they had is lost.
    pub damaged: Vec<(Side, u64, String)>,
}

/// Tells what a sync would do: what [`PlayerSync::preview`] gives.
#[derive(Debug)]
#[non_exhaustive]
pub struct SyncPreview {
    /// Says what the places have to do.
    pub meeting: Meeting,
    /// The newest whole save here.
    pub here: Option<Image>,
    /// The newest whole save there.
    pub there: Option<Image>,
    /// Newest saves that are damaged and would be passed over: each place, the generation, and why.
    pub damaged: Vec<(Side, u64, String)>,
}

/// Says what a sync wrote.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum SyncDid {
    /// Neither place has a save of the player.
    Nothing,
    /// Both had the same.
    InSync,
    /// The save here includes all that there was there, and was written there.
    Pushed {
        /// Its generation there.
        generation: u64,
    },
    /// The save there includes all that there was here, and was written here.
    Pulled {
        /// Its generation here.
        generation: u64,
    },
    /// Each place had something that the other had not; what came of it is in both now.
    Merged {
        /// Says what came from where.
        report: Box<MergeReport>,
        /// Its generation here.
        here: u64,
        /// Its generation there.
        there: u64,
    },
}

/// Describes why a sync was not done, or not to the end. No save is lost: sync again.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SyncError {
    /// A store failed, or somebody else wrote again and again meanwhile.
    #[error("{side}: {why}")]
    Store {
        /// Says which one.
        side: Side,
        /// Says why.
        why: StoreError,
    },
    /// The saves of one place cannot be read.
    #[error("{side}: {why}")]
    Saves {
        /// Says which one.
        side: Side,
        /// Says why not.
        why: SessionError,
    },
    /// The save of one place cannot be loaded by this game, so it is not spread.
    #[error("{side}: {why}")]
    Load {
        /// Says which one.
        side: Side,
        /// Says why not.
        why: LoadError,
    },
    /// The saves cannot be joined: the spec has no `[merge]`, or one of them cannot be loaded. [`PlayerSync::take`] takes one of them
    /// whole.
    #[error("the places hold different saves, and they are not merged: {0}")]
    Diverged(MergeError),
    /// Two copies of one installation were played on, so nobody can tell what the places have in common. The player decides:
    /// [`PlayerSync::take`] takes one place's save whole.
    #[error(
        "the installation `{installation}` was copied, and both copies were played on, so what the places have in common cannot be told; take the save of one place"
    )]
    TwoLines {
        /// The id of the installation.
        installation: InstallationId,
    },
}

/// One player in two places: `here`, on this device, and `there`, which other devices sync with, too.
///
/// Sync before a session of the player is launched and after it has quit: a session that runs does not know of what a sync
/// writes, and its next save is refused as a [conflict](StoreError::Conflict). What belongs to the device is never synced.
///
/// # Example
///
/// ```
/// use vestigum::sync::{PlayerSync, SyncDid};
/// use vestigum::{MemoryStore, Session, Spec};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [merge]
///     [field.pence]
///     type = "int"
///     lasts = "profile"
///     after_failure = "keep"
///     merge = "sum"
/// "#)?;
/// let pence = spec.int("pence")?;
/// let cloud = MemoryStore::default();
/// let devices = [MemoryStore::default(), MemoryStore::default()];
/// // Both devices are played on, and synced in turn.
/// for (store, earned) in devices.iter().zip([10, 10]) {
///     let mut game = Session::launch(&spec, store.clone(), "ada")?;
///     game.add(pence, earned)?;
///     game.quit()?;
/// }
/// for store in [&devices[0], &devices[1], &devices[0]] {
///     PlayerSync::new(&spec, store, &cloud, "ada").run()?;
/// }
/// for store in &devices {
///     assert_eq!(Session::launch(&spec, store.clone(), "ada")?.get(pence), 20);
///     assert_eq!(PlayerSync::new(&spec, store, &cloud, "ada").run()?.did, SyncDid::InSync);
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct PlayerSync<'a> {
    spec: &'a Spec,
    here: &'a dyn Store,
    there: &'a dyn Store,
    owner: Owner,
}

/// Describes what one place has.
struct Found {
    image: Option<Image>,
    /// The highest generation: what the next commit follows.
    newest: u64,
    /// The newer generations that are damaged, and why.
    damaged: Vec<(u64, String)>,
}

/// Lists the damaged newest saves of both places.
fn damaged(found: &[Found; 2]) -> Vec<(Side, u64, String)> {
    let sides = [Side::Here, Side::There].into_iter().zip(found);
    sides.flat_map(|(side, found)| found.damaged.iter().map(move |(at, why)| (side, *at, why.clone()))).collect()
}

/// Limits how often a sync begins anew where somebody else wrote meanwhile: 3 times after the first.
const TRIES: usize = 4;

impl<'a> PlayerSync<'a> {
    /// Returns the sync of one player.
    pub fn new(spec: &'a Spec, here: &'a dyn Store, there: &'a dyn Store, player: impl Into<String>) -> PlayerSync<'a> {
        PlayerSync { spec, here, there, owner: Owner::Profile(player.into()) }
    }

    /// Brings both places to the same progress.
    ///
    /// # Errors
    /// If a place fails or holds a save that this game cannot load, the saves differ and the spec has no `[merge]`, or an installation
    /// was copied and both copies were played on. Nothing is lost then, and a sync that was cut short is just done again.
    pub fn run(&self) -> Result<Synced, SyncError> {
        for _ in 1..TRIES {
            match self.try_once() {
                Err(SyncError::Store { why: StoreError::Conflict { .. }, side }) => {
                    tracing::info!(%side, owner = %self.owner, "somebody else wrote meanwhile; the sync begins anew");
                }
                done => return done,
            }
        }
        self.try_once()
    }

    /// Looks what [`PlayerSync::run`] would do now. Nothing is written.
    ///
    /// # Errors
    /// As [`PlayerSync::run`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Spec, sync::PlayerSync};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let (laptop, handheld) = (MemoryStore::default(), MemoryStore::default());
    /// let preview = PlayerSync::new(&spec, &laptop, &handheld, "ada").preview()?;
    /// println!("{:?}", preview.meeting);           // nothing is written
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn preview(&self) -> Result<SyncPreview, SyncError> {
        let found = [self.find(Side::Here)?, self.find(Side::There)?];
        let meeting = self.meeting([&found[0], &found[1]])?;
        let damaged = damaged(&found);
        let [here, there] = found.map(|found| found.image);
        Ok(SyncPreview { meeting, here, there, damaged })
    }

    /// Says what two places have to do, if each installation was used in one place only.
    fn meeting(&self, found: [&Found; 2]) -> Result<Meeting, SyncError> {
        self.only_damaged(found)?;
        self.one_line_each(found)?;
        let [here, there] = found.map(|found| found.image.as_ref());
        meet(self.spec, here, there).map_err(|error| match error {
            MergeError::TwoLines { installation } => SyncError::TwoLines { installation },
            error => SyncError::Diverged(error),
        })
    }

    fn try_once(&self) -> Result<Synced, SyncError> {
        let found = [self.find(Side::Here)?, self.find(Side::There)?];
        let [here, there] = &found;
        let meeting = self.meeting([here, there])?;
        // What is found may be a name that a process before never made durable: it is, before anybody relies on it.
        for (side, found) in [(Side::Here, here), (Side::There, there)] {
            if let Some(image) = found.image.as_ref().filter(|_| found.damaged.is_empty()) {
                self.commit(side, found.newest, image)?;
            }
        }
        let did = match meeting {
            Meeting::Nothing => SyncDid::Nothing,
            Meeting::InSync => self.in_sync(here, there)?,
            Meeting::Takes(Side::Here) => {
                let generation = self.take_over(Side::Here, here, Side::There, there)?;
                generation.map_or(SyncDid::Nothing, |generation| SyncDid::Pushed { generation })
            }
            Meeting::Takes(Side::There) => {
                let generation = self.take_over(Side::There, there, Side::Here, here)?;
                generation.map_or(SyncDid::Nothing, |generation| SyncDid::Pulled { generation })
            }
            Meeting::Merged(merged) => {
                for (side, found) in [(Side::Here, here), (Side::There, there)] {
                    self.give(side, found.image.as_ref())?;
                    self.renew(side, found)?;
                }
                let of_here = self.commit(Side::Here, here.newest, &merged.image)?;
                let of_there = self.commit(Side::There, there.newest, &merged.image)?;
                SyncDid::Merged { report: Box::new(merged.report), here: of_here, there: of_there }
            }
        };
        Ok(Synced { did, damaged: damaged(&found) })
    }

    /// Writes the save of one side to the other, and returns its generation there.
    fn take_over(&self, from: Side, found: &Found, to: Side, other: &Found) -> Result<Option<u64>, SyncError> {
        let Some(image) = &found.image else { return Ok(None) };
        self.loadable(from, image)?;
        self.give(from, Some(image))?;
        self.renew(to, other)?;
        self.commit(to, other.newest, image).map(Some)
    }

    /// Both places have the same. Where a newer save of one of them is damaged, the whole one comes behind it.
    fn in_sync(&self, here: &Found, there: &Found) -> Result<SyncDid, SyncError> {
        for (side, found) in [(Side::Here, here), (Side::There, there)] {
            self.give(side, found.image.as_ref())?;
            if let Some(image) = found.image.as_ref().filter(|_| !found.damaged.is_empty()) {
                self.renew(side, found)?;
                self.commit(side, found.newest, image)?;
            }
        }
        Ok(SyncDid::InSync)
    }

    /// Takes the save of one place whole, and writes it to the other: what the player chose where saves cannot be joined. It is one more
    /// save by play that has seen both, so every other place takes it over, too. The saves that it follows stay older generations, which
    /// can be restored.
    ///
    /// # Errors
    /// If the place has no save that this game can load, or a place fails.
    pub fn take(&self, side: Side) -> Result<Synced, SyncError> {
        let found = [self.find(Side::Here)?, self.find(Side::There)?];
        let (at, other) = match side {
            Side::Here => (0, 1),
            Side::There => (1, 0),
        };
        let damaged = damaged(&found);
        let Some(image) = &found[at].image else { return Ok(Synced { did: SyncDid::Nothing, damaged }) };
        self.loadable(side, image)?;
        let image = match &found[other].image {
            Some(seen) if self.spec.merges() => self.having_seen(image, seen)?,
            Some(_) | None => image.clone(),
        };
        // The other place is given it, though it was made just now.
        self.give(Side::Here, Some(&image))?;
        self.give(Side::There, Some(&image))?;
        let here = self.commit(Side::Here, found[0].newest, &image)?;
        let there = self.commit(Side::There, found[1].newest, &image)?;
        let did = match side {
            Side::Here => SyncDid::Pushed { generation: there },
            Side::There => SyncDid::Pulled { generation: here },
        };
        Ok(Synced { did, damaged })
    }

    /// A save as one more by play here, which includes what another one does.
    fn having_seen(&self, image: &Image, seen: &Image) -> Result<Image, SyncError> {
        let failed = |error: FollowError| match error {
            FollowError::Load(why) => SyncError::Load { side: Side::Here, why },
            FollowError::Store(why) => SyncError::Store { side: Side::Here, why },
        };
        let taken = as_play(self.spec, self.here, Some(seen), false, Image { origin: None, ..image.clone() });
        let mut taken = taken.map_err(failed)?;
        if let (Some(origin), Some(other)) = (&mut taken.origin, &image.origin) {
            origin.settle_with(other);
        }
        Ok(taken)
    }

    fn find(&self, side: Side) -> Result<Found, SyncError> {
        let patience = Patience::with(self.store(side));
        let found = match newest_image(&patience, &self.owner, &[]) {
            // The other place may have what is lost here.
            Err(SessionError::AllDamaged { damaged, .. }) => {
                let newest = damaged.iter().map(|(generation, _)| *generation).max().unwrap_or(0);
                return Ok(Found { image: None, newest, damaged });
            }
            found => found.map_err(|why| SyncError::Saves { side, why })?,
        };
        let damaged = match found.origin {
            Origin::Fresh | Origin::Loaded { .. } => Vec::new(),
            Origin::Recovered { passed_over, .. } => passed_over,
        };
        Ok(Found { image: found.image, newest: found.newest, damaged })
    }

    /// Refuses where there are saves and none is whole in either place.
    fn only_damaged(&self, found: [&Found; 2]) -> Result<(), SyncError> {
        for (side, of) in [Side::Here, Side::There].into_iter().zip(found) {
            if !of.damaged.is_empty() && found.iter().all(|found| found.image.is_none()) {
                let why = SessionError::AllDamaged { owner: self.owner.clone(), damaged: of.damaged.clone() };
                return Err(SyncError::Saves { side, why });
            }
        }
        Ok(())
    }

    /// Neither place's save may include a save of the other's installation that was never made there.
    fn one_line_each(&self, [here, there]: [&Found; 2]) -> Result<(), SyncError> {
        for (side, own, other) in [(Side::Here, here, there), (Side::There, there, here)] {
            let Some(origin) = other.image.as_ref().and_then(|image| image.origin.as_deref()) else { continue };
            let own = own.image.as_ref();
            let parted = lines::parted(self.store(side), &self.owner, own, origin);
            if let Some(installation) = parted.map_err(|why| SyncError::Store { side, why })? {
                return Err(SyncError::TwoLines { installation });
            }
        }
        Ok(())
    }

    /// Remembers that the other place is given the newest own save that an image includes: before it is.
    fn give(&self, side: Side, image: Option<&Image>) -> Result<(), SyncError> {
        let failed = |why| SyncError::Store { side, why };
        let store = self.store(side);
        let Some(image) = image else { return Ok(()) };
        let Some(line) = Patience::with(store).line(&self.owner).map_err(failed)? else { return Ok(()) };
        match own_save(image, &line.installation) {
            Some(save) if !line.given.contains(&save) => self.store(side).give(&self.owner, &save).map_err(failed),
            Some(GivenSave { .. }) | None => Ok(()),
        }
    }

    /// Begins another line where newer saves were lost: their numbers are not given again.
    fn renew(&self, side: Side, found: &Found) -> Result<(), SyncError> {
        let failed = |why| SyncError::Store { side, why };
        let store = self.store(side);
        if !found.damaged.is_empty() && Patience::with(store).line(&self.owner).map_err(failed)?.is_some() {
            store.begin_line(&self.owner).map_err(failed)?;
        }
        Ok(())
    }

    fn store(&self, side: Side) -> &'a dyn Store {
        match side {
            Side::Here => self.here,
            Side::There => self.there,
        }
    }

    fn loadable(&self, side: Side, image: &Image) -> Result<(), SyncError> {
        Progress::load(self.spec, Some(image), None).map(drop).map_err(|why| SyncError::Load { side, why })
    }

    fn commit(&self, side: Side, follows: u64, image: &Image) -> Result<u64, SyncError> {
        let committed = self.store(side).commit(follows, image).map_err(|why| SyncError::Store { side, why })?;
        Ok(committed.generation)
    }
}
