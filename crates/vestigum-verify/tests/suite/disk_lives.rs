//! Random lives of processes on one disk: saves, prunes, failing operations, kills between any two operations, and power
//! losses, in any order. What was acknowledged is there, or something newer, whole.

use std::collections::{BTreeMap, BTreeSet};

use proptest::collection::vec;
use proptest::prelude::*;

use vestigum::image::Tree;
use vestigum::tools::{Patience, newest_image};
use vestigum::{DirStore, Image, Owner, Progress, Spec, Store, prune_all};
use vestigum_testing::hunting::config;
use vestigum_verify::{Fault, SimDisk};

const WORLD: &str = r#"
[game]
id = "fellpost"
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.volume]
type = "int"
lasts = "device"
"#;

/// Names what happens; `cut` says after which of its operations a process is killed, as a share of all.
#[derive(Clone, Debug)]
enum Act {
    /// `fail` is an operation of the commit, counted from its first.
    Save {
        owner: usize,
        what: What,
        fail: Option<(usize, Fault)>,
    },
    Prune {
        owner: usize,
    },
    Fail {
        ahead: usize,
        fault: Fault,
    },
    Kill,
    PowerLoss {
        outcome: usize,
    },
}

/// Holds the content of a save.
#[derive(Clone, Copy, Debug)]
enum What {
    /// Returns what a launch would load now.
    Loaded,
    New,
    /// One of a few values that come again and again: a game goes back to what it had, also after a save that failed.
    Again(i64),
}

/// Mostly the same one, so that saves of one owner follow each other.
fn owner() -> impl Strategy<Value = usize> {
    prop_oneof![3 => Just(0), 1 => 1..3usize]
}

fn act() -> impl Strategy<Value = (Act, Option<u8>)> {
    let fault = prop_oneof![Just(Fault::Broken), Just(Fault::Full), Just(Fault::Unavailable)];
    let what = prop_oneof![1 => Just(What::Loaded), 1 => Just(What::New), 2 => (0..2i64).prop_map(What::Again)];
    let fails = proptest::option::weighted(0.3, (0..16usize, fault.clone()));
    let act = prop_oneof![
        6 => (owner(), what, fails).prop_map(|(owner, what, fail)| Act::Save { owner, what, fail }),
        3 => owner().prop_map(|owner| Act::Prune { owner }),
        2 => (0..24usize, fault).prop_map(|(ahead, fault)| Act::Fail { ahead, fault }),
        1 => Just(Act::Kill),
        2 => any::<usize>().prop_map(|outcome| Act::PowerLoss { outcome }),
    ];
    (act, proptest::option::weighted(0.25, any::<u8>()))
}

/// Lists what may be loaded of an owner: the save that was acknowledged last, and those that were on their way since.
type Allowed = BTreeMap<Owner, BTreeSet<Option<String>>>;

fn newest(store: &DirStore, owner: &Owner) -> Option<Image> {
    let generations = store.generations(owner).expect("the disk is sound");
    generations.into_iter().rev().find_map(|generation| store.read(owner, generation).ok())
}

fn check(disk: &SimDisk, allowed: &mut Allowed, then: &str) -> Result<(), TestCaseError> {
    let store = DirStore::open_on(disk.clone(), "saves").expect("nobody has it");
    for (owner, allowed) in allowed {
        let found = newest(&store, owner).map(|image| image.digest());
        prop_assert!(allowed.contains(&found), "{owner} after {then}: {found:?} of {allowed:?}");
    }
    Ok(())
}

proptest! {
    #![proptest_config(config(1_500, vestigum_testing::kept_in!("disk_lives")))]

    #[test]
    fn what_was_acknowledged_outlives_processes_and_power_losses(keep in 1..4u32, acts in vec(act(), 1..25)) {
        let spec = Spec::from_toml(WORLD).expect("it is sound");
        let suspended = Progress::fresh(&spec).suspend();
        let images = [suspended.profile_image("ada"), suspended.profile_image("ben"), suspended.device_image()];
        let mut disk = SimDisk::default();
        let mut store = DirStore::open_on(disk.clone(), "saves").ok();
        let nothing = |image: &Image| (image.owner.clone(), BTreeSet::from([None]));
        let mut allowed: Allowed = images.iter().map(nothing).collect();
        for (number, (act, cut)) in acts.into_iter().enumerate() {
            let begins = disk.count();
            // Whoever saves: which save it is, and whether it was acknowledged.
            let mut saved = None;
            if let Some(store) = &store {
                match &act {
                    Act::Save { owner, what, fail } => {
                        let owner = &images[*owner].owner;
                        // A launch that is refused saves nothing.
                        let Ok(loaded) = newest_image(&Patience::with(store), owner, &[]) else { continue };
                        let mut image = loaded.image.unwrap_or_else(|| {
                            images.iter().find(|image| image.owner == *owner).expect("it is one of them").clone()
                        });
                        let xp = match what {
                            What::Loaded => None,
                            What::New => Some(number as i64 + 1),
                            What::Again(value) => Some(-value),
                        };
                        if let Some(xp) = xp {
                            image.values.insert("xp".into(), Tree::Int(xp));
                        }
                        let follows = store.generations(owner).ok().and_then(|all| all.last().copied()).unwrap_or(0);
                        if let Some((ahead, fault)) = fail {
                            disk.fail(disk.count() + ahead, *fault);
                        }
                        let acknowledged = store.commit(follows, &image).is_ok();
                        saved = Some((owner.clone(), image.digest(), acknowledged));
                    }
                    Act::Prune { owner } => drop(prune_all(store, &images[*owner].owner, keep)),
                    Act::Fail { ahead, fault } => disk.fail(disk.count() + ahead, *fault),
                    Act::Kill | Act::PowerLoss { .. } => {}
                }
            }
            let killed_at = cut.map(|share| begins + (disk.count() - begins) * usize::from(share) / 255);
            let killed_early = killed_at.is_some_and(|at| at < disk.count());
            if let Some((owner, digest, acknowledged)) = saved {
                let allowed = allowed.get_mut(&owner).expect("all are known");
                if acknowledged && !killed_early {
                    allowed.clear();
                }
                allowed.insert(Some(digest));
            }
            if let Some(at) = killed_at.or(matches!(act, Act::Kill).then(|| disk.count())) {
                store = None;
                disk = disk.killed_after(at);
                check(&disk.killed_after(at), &mut allowed, "a kill")?;
            }
            if let Act::PowerLoss { outcome } = act {
                let count = disk.power_loss().coarse().count();
                disk = disk.power_loss().coarse().nth(outcome % count).expect("it is one of them").disk();
                store = None;
                check(&disk.killed_after(disk.count()), &mut allowed, "a power loss")?;
                // What is there after it is durable.
                let look = DirStore::open_on(disk.killed_after(disk.count()), "saves").expect("nobody has it");
                for (owner, allowed) in &mut allowed {
                    *allowed = BTreeSet::from([newest(&look, owner).map(|image| image.digest())]);
                }
            }
            if store.is_none() {
                store = DirStore::open_on(disk.clone(), "saves").ok();
            }
        }
        for loss in disk.power_loss().coarse() {
            check(&loss.disk(), &mut allowed, "the last power loss")?;
        }
    }
}
