//! What must hold when a store is opened after a fault.

pub(super) use vestigum::Store;

use std::panic::{AssertUnwindSafe, catch_unwind};

use vestigum::tools::{Patience, newest_image};
use vestigum::{SessionError, prune_all};
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner, Progress, Spec};
use vestigum_spec::model::field::Field;

use super::recorder::{Expectations, Expected, Open, changed};
use crate::sim_disk::SimDisk;

/// Describes what was loaded, and what should have been.
#[derive(Clone, Debug)]
pub(super) struct FaultFinding {
    pub loaded: String,
    pub expected: String,
}

/// Describes what damage did.
pub(super) enum Rotten {
    /// The newest image loads all the same.
    Harmless,
    /// The damage was passed over, or the launch refused, and said why.
    Reported,
}

/// After a power loss: of each owner the last acknowledged image or a newer one, whole; and the next save works. Answers
/// whether a launch had to pass something over.
pub(super) fn judge<S: Store>(
    spec: &Spec,
    open: Open<'_, S>,
    disk: &SimDisk,
    expectations: &Expectations,
    save_again: bool,
) -> Result<bool, FaultFinding> {
    let has_blobs = spec.fields().any(Field::is_blob);
    caught(expectations, || {
        let store = opened(open, disk, expectations)?;
        let mut recovered = false;
        for (owner, expected) in expectations {
            let found = newest_image(&Patience::with(&store), owner, &[]).map_err(|error| expected.failed(error))?;
            let digest = found.image.as_ref().map(Image::digest);
            if !digest.as_ref().map_or(expected.may_be_missing, |digest| expected.digests.contains(digest)) {
                return Err(expected.finding(found.image.as_ref()));
            }
            expected.has_blobs(found.image.as_ref())?;
            if has_blobs {
                // Also what nobody launches from now can be gone back to.
                let older = store.generations(owner).map_err(|error| expected.failed(error))?;
                let older = older.into_iter().filter_map(|generation| store.read(owner, generation).ok());
                older.into_iter().try_for_each(|image| expected.has_blobs(Some(&image)))?;
            }
            recovered |= matches!(found.origin, Origin::Recovered { .. });
            if save_again {
                launches(spec, owner, found.image.as_ref(), expected)?;
                next_save(&store, found.newest, found.image.as_ref().unwrap_or(&expected.sample), expected)?;
            }
        }
        Ok(recovered)
    })
}

/// After damage to one file: what loads is an image that was saved, and if it is not the newest, that is said.
pub(super) fn judge_rot<S: Store>(
    open: Open<'_, S>,
    disk: &SimDisk,
    expectations: &Expectations,
) -> Result<Rotten, FaultFinding> {
    caught(expectations, || {
        let store = opened(open, disk, expectations)?;
        let mut reported = false;
        for (owner, expected) in expectations {
            match newest_image(&Patience::with(&store), owner, &[]) {
                Ok(found) => {
                    let said = matches!(found.origin, Origin::Recovered { .. });
                    let digest = found.image.as_ref().map(Image::digest);
                    let right = digest.as_ref().is_some_and(|digest| expected.digests.contains(digest));
                    let older = digest.as_ref().is_some_and(|digest| expected.known.contains_key(digest));
                    if !(right || older && said) {
                        return Err(expected.finding(found.image.as_ref()));
                    }
                    // What the launch makes of a blob that is damaged, its report says.
                    reported |= said || found.image.is_some_and(|image| !image.lost_blobs().is_empty());
                }
                // With other images to fall back on, one that is damaged is no reason to refuse.
                Err(SessionError::AllDamaged { damaged, .. }) if damaged.len() == 1 => reported = true,
                Err(error) => return Err(expected.failed(error)),
            }
        }
        Ok(if reported { Rotten::Reported } else { Rotten::Harmless })
    })
}

/// Judges a load where something whole cannot be read now: what loads is what was acknowledged, with its blobs, or nothing loads and the
/// launch is refused; and what a launch then saves, it saves behind that.
pub(super) fn judge_unavailable<S: Store>(
    open: Open<'_, S>,
    disk: &SimDisk,
    expectations: &Expectations,
) -> Result<(), FaultFinding> {
    caught(expectations, || {
        // A store that cannot be opened refuses.
        let Ok(store) = open(disk.clone()) else { return Ok(()) };
        for (owner, expected) in expectations {
            let refused = match newest_image(&Patience::with(&store), owner, &[]) {
                Ok(found) => {
                    let digest = found.image.as_ref().map(Image::digest);
                    let right =
                        digest.as_ref().map_or(expected.may_be_missing, |digest| expected.digests.contains(digest));
                    if !right || matches!(found.origin, Origin::Recovered { .. }) {
                        return Err(expected.finding(found.image.as_ref()));
                    }
                    expected.has_blobs(found.image.as_ref())?;
                    false
                }
                // Only what was read in full is damaged.
                Err(error @ SessionError::AllDamaged { .. }) => return Err(expected.failed(error)),
                Err(_) => true,
            };
            // Pruning goes on all the same, and must take nothing that may be the newest.
            let _ = prune_all(&store, owner, 1);
            if refused {
                let sound = SimDisk::sound(disk);
                drop(store);
                let store = opened(open, &sound, expectations)?;
                let found =
                    newest_image(&Patience::with(&store), owner, &[]).map_err(|error| expected.failed(error))?;
                let digest = found.image.as_ref().map(Image::digest);
                if !digest.as_ref().map_or(expected.may_be_missing, |digest| expected.digests.contains(digest)) {
                    return Err(expected.finding(found.image.as_ref()));
                }
                return Ok(());
            }
        }
        Ok(())
    })
}

fn opened<S: Store>(open: Open<'_, S>, disk: &SimDisk, expectations: &Expectations) -> Result<S, FaultFinding> {
    open(disk.clone()).map_err(|error| FaultFinding {
        loaded: format!("nothing: the store cannot be opened: {error}"),
        expected: expectations.values().map(Expected::told).next().unwrap_or_default(),
    })
}

fn caught<T>(expectations: &Expectations, judge: impl FnOnce() -> Result<T, FaultFinding>) -> Result<T, FaultFinding> {
    catch_unwind(AssertUnwindSafe(judge)).unwrap_or_else(|_| {
        let expected = expectations.values().map(Expected::told).next().unwrap_or_default();
        Err(FaultFinding { loaded: "nothing: the store panicked".into(), expected })
    })
}

/// Checks that what was found can be loaded under the spec that saved it.
fn launches(spec: &Spec, owner: &Owner, image: Option<&Image>, expected: &Expected) -> Result<(), FaultFinding> {
    let (profile, device) = match owner {
        Owner::Profile(_) => (image, None),
        Owner::Device => (None, image),
    };
    Progress::load(spec, profile, device).map(drop).map_err(|error| expected.failed(error))
}

/// A save of something new is there when it was acknowledged.
fn next_save(store: &dyn Store, newest: u64, image: &Image, expected: &Expected) -> Result<(), FaultFinding> {
    let next = changed(image);
    let failed = |error: &dyn std::fmt::Display| FaultFinding {
        loaded: format!("the right image, but the next save fails: {error}"),
        expected: expected.told(),
    };
    store.commit(newest, &next).map_err(|error| failed(&error))?;
    let found = newest_image(&Patience::with(store), &next.owner, &[]).map_err(|error| failed(&error))?;
    if found.image.is_some_and(|found| found.digest() == next.digest()) {
        return Ok(());
    }
    Err(failed(&"it was acknowledged, and something else is loaded"))
}

impl Expected {
    fn told(&self) -> String {
        let newest = self.known.iter().filter(|(digest, _)| self.digests.contains(*digest));
        match newest.map(|(_, generation)| generation).max() {
            Some(generation) => format!("generation {generation} of {}, or a newer one", self.sample.owner),
            None => format!("nothing of {}, or the image that was being saved, whole", self.sample.owner),
        }
    }

    /// Returns what is wrong with an image that should not have been loaded.
    pub(super) fn finding(&self, image: Option<&Image>) -> FaultFinding {
        let owner = &self.sample.owner;
        let loaded = match image {
            None => format!("nothing: {owner} begins anew, and nobody is told"),
            Some(image) => match self.known.get(&image.digest()) {
                Some(generation) => format!("generation {generation} of {owner}, which is older"),
                None => format!("an image of {owner} whose save was never acknowledged"),
            },
        };
        FaultFinding { loaded, expected: self.told() }
    }

    /// Every blob that an image means is there.
    fn has_blobs(&self, image: Option<&Image>) -> Result<(), FaultFinding> {
        let lost = image.map(Image::lost_blobs).unwrap_or_default();
        let Some((blob, why)) = lost.first() else { return Ok(()) };
        let digest = blob.digest.to_string();
        let (owner, generation) = (&self.sample.owner, image.map_or(0, |image| image.generation));
        let loaded = format!("generation {generation} of {owner} without its blob: {}… {why}", &digest[..16]);
        Err(FaultFinding { loaded, expected: "every generation that is there, with its blobs".into() })
    }

    fn failed(&self, error: impl std::fmt::Display) -> FaultFinding {
        let error = error.to_string();
        let first = error.lines().next().unwrap_or_default().trim_end_matches(':');
        FaultFinding { loaded: format!("nothing: {first}"), expected: self.told() }
    }
}
