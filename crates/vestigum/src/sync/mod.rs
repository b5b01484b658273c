//! One player in two places: a sync brings both stores to the same progress.
//!
//! A sync remembers the last save that both places had, the *agreed* one. A place that still has it takes the save of the
//! other; where both were played on, the saves are merged by the spec's `[merge]`. What a sync is about to do is written down
//! before it is done. So one that is cut short, between the write to one place and the write to the other, is not taken for
//! play: the next one knows what both have in common, and no gain is added twice.

mod record;
mod records;

pub use records::{MemoryRecords, SyncFolder, SyncRecords};

use std::time::SystemTime;

use thiserror::Error;

use vestigum_core::image::report::Origin;
use vestigum_core::merging::report::{MergeReport, Side};
use vestigum_core::merging::{Meeting, MergeError, meet, merge};
use vestigum_core::{Image, LoadError, Owner, Progress, Spec};

use crate::clock::rfc3339;
use crate::error::SessionError;
use crate::recovery::newest_image;
use crate::store::{Patience, Store, StoreError};
use record::{Pending, Record};

/// What a sync did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Synced {
    /// Neither place has a save of the player.
    Nothing,
    /// Both had the same.
    InSync,
    /// The save here was written there, where nothing had changed.
    Pushed {
        /// Its generation there.
        generation: u64,
    },
    /// The save there was written here, where nothing had changed.
    Pulled {
        /// Its generation here.
        generation: u64,
    },
    /// Both places had changed; what came of it is in both now.
    Merged {
        /// What came from where.
        report: Box<MergeReport>,
        /// Its generation here.
        here: u64,
        /// Its generation there.
        there: u64,
    },
}

/// Why a sync was not done, or not to the end. No save is lost: sync again.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SyncError {
    /// A store failed, or somebody else wrote meanwhile.
    #[error("{side}: {why}")]
    Store {
        /// Which one.
        side: Side,
        /// Why.
        why: StoreError,
    },
    /// The saves of one place cannot be read.
    #[error("{side}: {why}")]
    Saves {
        /// Which one.
        side: Side,
        /// Why not.
        why: SessionError,
    },
    /// The newest save of one place is damaged, and nothing tells how the one before it and the other place's belong together. A launch
    /// goes on with the one before it and says so; [`PlayerSync::take`] takes one place's save whole.
    #[error("{side}: the newest save is damaged, so it is not known what is newer:{}", listed(.damaged))]
    Damaged {
        /// Which one.
        side: Side,
        /// The damaged generations, and why.
        damaged: Vec<(u64, String)>,
    },
    /// The save of one place cannot be loaded by this game, so it is not spread.
    #[error("{side}: {why}")]
    Load {
        /// Which one.
        side: Side,
        /// Why not.
        why: LoadError,
    },
    /// Both places were played on, and the saves cannot be merged. [`PlayerSync::take`] takes one of them whole.
    #[error("both places were played on since they had the same save, and it is not merged: {0}")]
    Diverged(MergeError),
    /// The record of the last sync cannot be read or written.
    #[error("the record of the last sync: {0}")]
    Record(StoreError),
    /// The record of the last sync is damaged. [`PlayerSync::take`] takes one place's save whole and begins a new one.
    #[error("the record of the last sync is damaged: {why}; take the save of one place")]
    RecordDamaged {
        /// What is wrong with it.
        why: String,
    },
    /// A sync was cut short, and the saves that would tell how far it came are gone. [`PlayerSync::take`] takes one place's save whole.
    #[error(
        "{side}: a sync was cut short, and the save that would tell how far it came is gone; take the save of one place"
    )]
    Unknown {
        /// The place where the save is gone.
        side: Side,
    },
}

fn listed(damaged: &[(u64, String)]) -> String {
    damaged.iter().map(|(generation, why)| format!("\n  generation {generation}: {why}")).collect()
}

/// One player in two places: `here`, on this device, and `there`, which other devices sync with, too.
///
/// Sync before a session of the player is launched and after it has quit: a session that runs does not know of what a sync
/// writes, and its next save is refused as a [conflict](StoreError::Conflict). What belongs to the device is never synced.
///
/// # Example
///
/// ```
/// use vestigum::sync::{MemoryRecords, PlayerSync, Synced};
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
/// let places = [(MemoryStore::default(), MemoryRecords::default()), (MemoryStore::default(), MemoryRecords::default())];
/// // Both devices are played on, and synced in turn.
/// for ((store, _), earned) in places.iter().zip([10, 5]) {
///     let mut game = Session::launch(&spec, store.clone(), "ada")?;
///     game.add(pence, earned)?;
///     game.quit()?;
/// }
/// for (store, records) in [&places[0], &places[1], &places[0]] {
///     PlayerSync::new(&spec, store, &cloud, records, "ada").run()?;
/// }
/// for (store, records) in &places {
///     assert_eq!(Session::launch(&spec, store.clone(), "ada")?.get(pence), 15);
///     assert_eq!(PlayerSync::new(&spec, store, &cloud, records, "ada").run()?, Synced::InSync);
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct PlayerSync<'a> {
    spec: &'a Spec,
    here: &'a dyn Store,
    there: &'a dyn Store,
    records: &'a dyn SyncRecords,
    player: String,
    owner: Owner,
}

/// What one place has.
struct Found {
    image: Option<Image>,
    /// The highest generation: what the next commit follows.
    newest: u64,
    /// The number of the image.
    generation: u64,
    /// The newer generations that are damaged, and why.
    damaged: Vec<(u64, String)>,
}

impl Found {
    fn digest(&self) -> Option<String> {
        self.image.as_ref().map(Image::digest)
    }
}

impl<'a> PlayerSync<'a> {
    /// The sync of one player. `records` remembers what both places had last: it belongs to this device and this pair of
    /// places, and lies beside the saves of the device.
    pub fn new(
        spec: &'a Spec,
        here: &'a dyn Store,
        there: &'a dyn Store,
        records: &'a dyn SyncRecords,
        player: impl Into<String>,
    ) -> PlayerSync<'a> {
        let player = player.into();
        let owner = Owner::Profile(player.clone());
        PlayerSync { spec, here, there, records, player, owner }
    }

    /// Brings both places to the same progress.
    ///
    /// # Errors
    /// If a place fails or holds a save that this game cannot load, somebody else wrote meanwhile, or both were played on and
    /// the spec has no `[merge]`. Nothing is lost then, and a sync that was cut short is taken up by the next.
    pub fn run(&self) -> Result<Synced, SyncError> {
        let record = self.record()?;
        let was_cut_short = record.pending.is_some();
        let mut here = self.find(Side::Here)?;
        let mut there = self.find(Side::There)?;
        let base = self.agreed(record, &here, &there)?;
        self.give_up_damaged(Side::Here, &mut here, there.image.is_some(), base.as_ref())?;
        self.give_up_damaged(Side::There, &mut there, here.image.is_some(), base.as_ref())?;
        // What is found may be a name that a process before never made durable: it is, before anybody relies on it.
        for (side, found) in [(Side::Here, &here), (Side::There, &there)] {
            if let Some(image) = found.image.as_ref().filter(|_| found.damaged.is_empty()) {
                self.commit(side, found.newest, image)?;
            }
        }
        let of = (here.image.as_ref(), there.image.as_ref());
        match (meet(base.as_ref(), of.0, of.1), of) {
            (Meeting::InSync, (Some(image), _)) => {
                // What was about to be done is done, and is looked for no more.
                if was_cut_short || base.as_ref().map(Image::digest) != here.digest() {
                    self.agree(Some(image.clone()), None)?;
                }
                Ok(Synced::InSync)
            }
            (Meeting::Takes(Side::Here), (Some(image), _)) => self.push(base, image, &here, &there),
            (Meeting::Takes(Side::There), (_, Some(image))) => self.pull(base, image, &here, &there),
            (Meeting::Diverged, (Some(of_here), Some(of_there))) => {
                self.merge(base, of_here, of_there, [&here, &there])
            }
            (Meeting::Nothing | Meeting::InSync | Meeting::Takes(_) | Meeting::Diverged, _) => Ok(Synced::Nothing),
        }
    }

    /// Takes the save of one place whole, and writes it to the other: what the player chose where saves cannot be merged, or
    /// the record is lost. The save that it follows stays an older generation, which can be restored.
    ///
    /// # Errors
    /// If the place has no save that this game can load, or a place fails.
    pub fn take(&self, side: Side) -> Result<Synced, SyncError> {
        let found = self.find(side)?;
        let Some(image) = &found.image else { return Ok(Synced::Nothing) };
        self.loadable(side, image)?;
        let (other, store) = match side {
            Side::Here => (Side::There, self.there),
            Side::There => (Side::Here, self.here),
        };
        let generations = store.generations(&self.owner).map_err(|why| SyncError::Store { side: other, why })?;
        let generation = self.commit(other, generations.last().copied().unwrap_or(0), image)?;
        self.agree(Some(image.clone()), None)?;
        Ok(match side {
            Side::Here => Synced::Pushed { generation },
            Side::There => Synced::Pulled { generation },
        })
    }

    fn push(&self, base: Option<Image>, image: &Image, here: &Found, there: &Found) -> Result<Synced, SyncError> {
        self.loadable(Side::Here, image)?;
        self.intend(base, image, here, there)?;
        let generation = self.commit(Side::There, there.newest, image)?;
        self.agree(Some(image.clone()), None)?;
        Ok(Synced::Pushed { generation })
    }

    fn pull(&self, base: Option<Image>, image: &Image, here: &Found, there: &Found) -> Result<Synced, SyncError> {
        self.loadable(Side::There, image)?;
        self.intend(base, image, here, there)?;
        let generation = self.commit(Side::Here, here.newest, image)?;
        self.agree(Some(image.clone()), None)?;
        Ok(Synced::Pulled { generation })
    }

    fn merge(
        &self,
        mut base: Option<Image>,
        of_here: &Image,
        of_there: &Image,
        [here, there]: [&Found; 2],
    ) -> Result<Synced, SyncError> {
        if let Some(base) = &mut base {
            // The record keeps no bytes of blobs; what both sides still have is found there.
            base.find_blobs(|blob| {
                let known = of_here.blobs.get(&blob.digest).or_else(|_| of_there.blobs.get(&blob.digest));
                known.cloned()
            });
        }
        let merged = merge(self.spec, base.as_ref(), of_here, of_there).map_err(SyncError::Diverged)?;
        let saved_at = rfc3339(SystemTime::now());
        let image = Image { saved_at, ..merged.suspended.profile_image(&self.player) };
        self.intend(base, &image, here, there)?;
        // Here first: this place is ours alone, so the next sync can tell whether it was done.
        let generation = self.commit(Side::Here, here.newest, &image)?;
        let generation_there = self.commit(Side::There, there.newest, &image)?;
        self.agree(Some(image), None)?;
        Ok(Synced::Merged { report: Box::new(merged.report), here: generation, there: generation_there })
    }

    fn find(&self, side: Side) -> Result<Found, SyncError> {
        let patience = Patience::with(self.store(side));
        let found = newest_image(&patience, &self.owner, &[]).map_err(|why| SyncError::Saves { side, why })?;
        let (generation, damaged) = match found.origin {
            Origin::Fresh => (0, Vec::new()),
            Origin::Loaded { generation } => (generation, Vec::new()),
            Origin::Recovered { generation, passed_over } => (generation, passed_over),
        };
        Ok(Found { image: found.image, newest: found.newest, generation, damaged })
    }

    /// Where the newest save of a place is damaged, the one before it is not spread as if it were the newest: it may be older than what both
    /// had. If it is, the place counts as one that has nothing, and takes the save of the other.
    fn give_up_damaged(
        &self,
        side: Side,
        found: &mut Found,
        has_other: bool,
        base: Option<&Image>,
    ) -> Result<(), SyncError> {
        if found.damaged.is_empty() {
            return Ok(());
        }
        let damaged = || SyncError::Damaged { side, damaged: found.damaged.clone() };
        let base = base.filter(|_| has_other).ok_or_else(damaged)?.digest();
        // Play since the last save that both had: it is found before this one.
        let patience = Patience::with(self.store(side));
        let failed = |why| SyncError::Store { side, why };
        for generation in patience.generations(&self.owner).map_err(failed)?.into_iter().rev() {
            if generation > found.generation {
                continue;
            }
            match patience.read(&self.owner, generation) {
                Ok(image) if image.digest() == base && generation == found.generation => break,
                Ok(image) if image.digest() == base => return Ok(()),
                Ok(_) | Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
                Err(why) => return Err(failed(why)),
            }
        }
        tracing::warn!(%side, owner = %self.owner, "the newest save is damaged, and is fetched from the other place");
        (found.image, found.generation) = (None, 0);
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

    fn record(&self) -> Result<Record, SyncError> {
        match self.records.read(&self.player).map_err(SyncError::Record)? {
            None => Ok(Record::default()),
            Some(bytes) => Record::read(&bytes).map_err(|why| SyncError::RecordDamaged { why }),
        }
    }

    /// Writes down what both have now, or what is about to be done.
    fn agree(&self, agreed: Option<Image>, pending: Option<Pending>) -> Result<(), SyncError> {
        let bytes = Record { agreed, pending }.bytes();
        self.records.write(&self.player, &bytes).map_err(SyncError::Record)
    }

    fn intend(&self, base: Option<Image>, result: &Image, here: &Found, there: &Found) -> Result<(), SyncError> {
        let of_there = there.image.clone();
        let digest = Some(result.digest());
        let has = if here.digest() == digest {
            Some(Side::Here)
        } else if there.digest() == digest {
            Some(Side::There)
        } else {
            None
        };
        let pending = Pending { result: result.clone(), of_there, here: here.newest, there: there.newest, has };
        self.agree(base, Some(pending))
    }

    /// The last save that both had, also where a sync was cut short.
    fn agreed(&self, record: Record, here: &Found, there: &Found) -> Result<Option<Image>, SyncError> {
        let Some(pending) = record.pending else { return Ok(record.agreed) };
        let arrived = |side: Side, found: &Found, from: u64| match pending.has == Some(side) {
            true => Ok(true),
            false => self.arrived(side, found, from, &pending.result),
        };
        let is_here = arrived(Side::Here, here, pending.here)?;
        let is_there = arrived(Side::There, there, pending.there)?;
        Ok(match (is_here, is_there) {
            (true, true) => Some(pending.result),
            // What is here has taken up what was there; what was there has not heard of it.
            (true, false) => pending.of_there,
            (false, _) => record.agreed,
        })
    }

    /// Whether a save that was about to be written has been, as the one after `from`.
    fn arrived(&self, side: Side, found: &Found, from: u64, result: &Image) -> Result<bool, SyncError> {
        let digest = result.digest();
        if found.digest().as_deref() == Some(&digest) {
            return Ok(true);
        }
        if found.newest <= from {
            return Ok(false);
        }
        match self.store(side).read(&self.owner, from + 1) {
            Ok(written) => Ok(written.digest() == digest),
            Err(StoreError::NoGeneration { .. } | StoreError::Damaged { .. }) => Err(SyncError::Unknown { side }),
            Err(why) => Err(SyncError::Store { side, why }),
        }
    }
}
