//! Faults under a sync of two places.
//!
//! The playthrough is played in two places, which do not know of one another, and then they are synced. The sync is cut short after each
//! of its disk operations, in both places, and done again: both come to the save that it would have come to, nothing is lost and nothing
//! counts twice. `vestigum saves merge` does the same sync.

use vestigum::sync::PlayerSync;
use vestigum::tools::{Patience, newest_image};
use vestigum::{Store, StoreError};
use vestigum_core::merging::report::Side;
use vestigum_core::merging::{Meeting, meet};
use vestigum_core::{Image, Owner, Spec};

use super::recorder::{Commits, Recorder};
use super::{FaultKind, FaultReport, FaultStep, Tried, Violation};
use crate::playthrough::{Playthrough, run};
use crate::sim_disk::{Fault, SimDisk};

/// The folders of both places on the disk.
const PLACES: [&str; 2] = ["here", "there"];

/// Explains a sync that fails where nothing was cut short.
const UNJOINED: &str = "a sync on a sound disk does not bring both places to one save";

/// Explains a sync that was cut short.
const CUT_SHORT: &str =
    "a sync that was cut short here, and done again, does not come to the save that it would have come to at once";

fn broken(steps: Vec<FaultStep>, found: String, expected: &str, why: &str) -> Violation {
    let (loaded, expected, explanation) = (found, expected.to_owned(), why.to_owned());
    Violation { kind: FaultKind::Sync, steps, disk: Vec::new(), loaded, expected, explanation }
}

/// Opens the store of a place on a disk.
pub type OpenPlace<'a, S> = &'a (dyn Fn(SimDisk, &str) -> Result<S, StoreError> + Sync);

/// Tries every fault at every operation of the syncs that come after a playthrough was played in two places: of each of its players.
/// Nothing is tried for a spec without `[merge]`. `open` opens the store under test in a folder of a disk.
///
/// # Errors
/// If a store cannot be opened even on a sound disk.
pub fn sync_faults<S: Store>(
    spec: &Spec,
    playthrough: &Playthrough,
    keep: u32,
    open: OpenPlace<'_, S>,
) -> Result<FaultReport, StoreError> {
    let mut report = FaultReport::default();
    if !spec.merges() {
        return Ok(report);
    }
    let disk = SimDisk::default();
    for place in PLACES {
        open(disk.clone(), place)?;
        let at_place = |disk: SimDisk| open(disk, place);
        let mut recorder = Recorder::new(&at_place, disk.clone(), keep, Commits::default()).at(place);
        run(spec, playthrough, &mut recorder);
    }
    let store = open(disk.sound(), PLACES[0])?;
    for owner in store.owners()? {
        if let Owner::Profile(player) = owner {
            SyncTrial { spec, open, played: &disk, player }.attempt(&mut report)?;
        }
    }
    Ok(report)
}

/// One player, who was played in both places.
struct SyncTrial<'a, S> {
    spec: &'a Spec,
    open: OpenPlace<'a, S>,
    /// The disk as both places left it.
    played: &'a SimDisk,
    player: String,
}

impl<S: Store> SyncTrial<'_, S> {
    fn attempt(&self, report: &mut FaultReport) -> Result<(), StoreError> {
        let [here, there] = self.newest(&self.played.sound())?;
        let wanted = match meet(self.spec, here.as_ref(), there.as_ref()) {
            Ok(Meeting::Merged(merged)) => Some(merged.image),
            Ok(Meeting::Takes(Side::Here) | Meeting::InSync) => here,
            Ok(Meeting::Takes(Side::There)) => there,
            Ok(Meeting::Nothing) => None,
            Err(error) => {
                report.note(broken(Vec::new(), error.to_string(), "the saves of both places are joined", UNJOINED));
                report.tried.entry(FaultKind::Sync).or_default().violations += 1;
                return Ok(());
            }
        };
        let Some(wanted) = wanted.map(|image| image.digest()) else { return Ok(()) };
        let expected = format!("both places have the save with the digest {}", &wanted[..12]);
        let begins = self.played.count();
        let synced = self.played.sound();
        if let Err(found) = self.sync(&synced).and_then(|()| self.comes_to(&synced.sound(), &wanted)) {
            report.note(broken(Vec::new(), found, &expected, UNJOINED));
            report.tried.entry(FaultKind::Sync).or_default().violations += 1;
            return Ok(());
        }
        let log = synced.operations();
        let mut tried = Tried::default();
        for (number, operation) in log.iter().enumerate().skip(begins) {
            let mut judge = |disk: &SimDisk, failed: Option<Fault>| {
                tried.outcomes += 1;
                if let Err(found) = self.comes_to(disk, &wanted) {
                    tried.violations += 1;
                    let mut steps: Vec<FaultStep> =
                        log[begins..=number].iter().cloned().map(FaultStep::DiskOperation).collect();
                    if let Some(fault) = failed {
                        steps.pop();
                        steps.push(FaultStep::Failed(operation.clone(), fault));
                    }
                    report.note(broken(steps, found, &expected, CUT_SHORT));
                }
            };
            if operation.changes() {
                tried.points += 1;
                // The power fails; or the process is killed, the sync is done again, and the power fails after that.
                for loss in synced.power_loss_after(number + 1).coarse() {
                    judge(&loss.disk(), None);
                }
                let killed = synced.killed_after(number + 1);
                let _ = self.sync(&killed);
                for loss in killed.power_loss().coarse() {
                    judge(&loss.disk(), None);
                }
            }
            for fault in
                [Fault::Full, Fault::Broken, Fault::Unavailable].into_iter().filter(|fault| fault.strikes(operation))
            {
                tried.points += 1;
                let failing = self.played.sound();
                failing.fail(number, fault);
                let _ = self.sync(&failing);
                for loss in failing.sound().power_loss().coarse() {
                    judge(&loss.disk(), Some(fault));
                }
            }
        }
        *report.tried.entry(FaultKind::Sync).or_default() += tried;
        Ok(())
    }

    fn sync(&self, disk: &SimDisk) -> Result<(), String> {
        let open = |place: &str| (self.open)(disk.clone(), place).map_err(|error| error.to_string());
        let (here, there) = (open(PLACES[0])?, open(PLACES[1])?);
        let sync = PlayerSync::new(self.spec, &here, &there, self.player.clone());
        sync.run().map(drop).map_err(|error| error.to_string())
    }

    /// The newest save of the player in each place.
    fn newest(&self, disk: &SimDisk) -> Result<[Option<Image>; 2], StoreError> {
        let owner = Owner::Profile(self.player.clone());
        let mut found = [None, None];
        for (found, place) in found.iter_mut().zip(PLACES) {
            let store = (self.open)(disk.clone(), place)?;
            *found = newest_image(&Patience::with(&store), &owner, &[]).ok().and_then(|newest| newest.image);
        }
        Ok(found)
    }

    /// Syncs once more, and checks that both places come to that save.
    fn comes_to(&self, disk: &SimDisk, wanted: &str) -> Result<(), String> {
        self.sync(disk)?;
        let found = self.newest(&disk.sound()).map_err(|error| error.to_string())?;
        for (image, place) in found.iter().zip(PLACES) {
            match image {
                None => return Err(format!("{place} has no save that can be read")),
                Some(image) if image.digest() != wanted => {
                    return Err(format!("{place} has the save with the digest {}", &image.digest()[..12]));
                }
                Some(_) => {}
            }
        }
        Ok(())
    }
}
