//! Random lives of processes on one disk: saves, prunes, failing operations, kills between any two operations, and power
//! losses, in any order. What was acknowledged is there, or something newer, whole.

#[path = "../../vestigum-core/tests/support/hunting.rs"]
mod hunting;

use hunting::config;
use std::collections::{BTreeMap, BTreeSet};

use proptest::collection::vec;
use proptest::prelude::*;
use vestigum::image::Tree;
use vestigum::{DirStore, Fault, Image, Owner, Progress, SimDisk, Spec, Store, prune_all};

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

/// What happens; `cut` says after which of its operations a process is killed, as a share of all.
#[derive(Clone, Debug)]
enum Act {
    Save { owner: usize, new: bool },
    Prune { owner: usize },
    Fail { ahead: usize, fault: Fault },
    Kill,
    PowerLoss { outcome: usize },
}

fn act() -> impl Strategy<Value = (Act, Option<u8>)> {
    let fault = prop_oneof![Just(Fault::Broken), Just(Fault::Full)];
    let act = prop_oneof![
        6 => (0..3usize, any::<bool>()).prop_map(|(owner, new)| Act::Save { owner, new }),
        3 => (0..3usize).prop_map(|owner| Act::Prune { owner }),
        2 => (0..9usize, fault).prop_map(|(ahead, fault)| Act::Fail { ahead, fault }),
        1 => Just(Act::Kill),
        2 => any::<usize>().prop_map(|outcome| Act::PowerLoss { outcome }),
    ];
    (act, proptest::option::weighted(0.25, any::<u8>()))
}

/// What may be loaded of an owner: what was acknowledged last, and what was on its way since.
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
    #![proptest_config(config(1_500, kept_in!("disk_lives")))]

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
                    Act::Save { owner, new } => {
                        let owner = &images[*owner].owner;
                        let loaded = newest_or_none(store, owner);
                        let mut image = loaded.unwrap_or_else(|| {
                            images.iter().find(|image| image.owner == *owner).expect("it is one of them").clone()
                        });
                        if *new {
                            image.values.insert("xp".into(), Tree::Int(number as i64 + 1));
                        }
                        let follows = store.generations(owner).ok().and_then(|all| all.last().copied()).unwrap_or(0);
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

/// Looks as a launch does; a disk that fails gives nothing, and the save begins with what it has.
fn newest_or_none(store: &DirStore, owner: &Owner) -> Option<Image> {
    let generations = store.generations(owner).ok()?;
    generations.into_iter().rev().find_map(|generation| store.read(owner, generation).ok())
}
