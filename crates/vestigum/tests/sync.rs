//! One player in two places, and syncs that are cut short.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;

use vestigum::merging::{MergeError, RunFrom, Side};
use vestigum::sync::{MemoryRecords, PlayerSync, SyncError, SyncFolder, SyncRecords, Synced};
use vestigum::{
    Committed, DirStore, Disk, Image, MemoryStore, Owner, Profiles, Pruned, Saver, Session, Spec, Store, StoreError,
    Value,
};
use vestigum_testing::hunting::config;
use vestigum_verify::{DiskOperation, Fault, FlakyStore, SimDisk};

const SPEC: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n[merge]\n\
    [field.pence]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"sum\"\n\
    [field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }\n\
    [field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
    [field.met]\ntype = \"set of text\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.day]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n\
    [save]\nat = [\"complete\"]\nkeep = 3\n";

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap()
}

/// A device: its saves and its records.
#[derive(Default)]
struct Device {
    store: MemoryStore,
    records: MemoryRecords,
}

impl Device {
    fn play(&self, pence: i64, letters: i64) {
        self.play_and_meet(pence, letters, &format!("{pence} {letters}"));
    }

    /// Someone new is met, so that no two plays come to the same progress: equal saves are in sync.
    fn play_and_meet(&self, pence: i64, letters: i64, met: &str) {
        let spec = spec();
        let mut game = Session::launch(&spec, self.store.clone(), "ada").unwrap();
        game.insert("met", &[], met.into()).unwrap();
        game.add(spec.int("pence").unwrap(), pence).unwrap();
        if letters > 0 {
            game.enter("mill_lane").unwrap();
            game.set(spec.int("letters").unwrap(), letters).unwrap();
            game.complete().unwrap();
        }
        game.quit().unwrap();
    }

    fn sync(&self, cloud: &dyn Store) -> Result<Synced, SyncError> {
        PlayerSync::new(&spec(), &self.store, cloud, &self.records, "ada").run()
    }

    fn has(&self) -> (i64, i64) {
        let spec = spec();
        let game = Session::launch(&spec, self.store.clone(), "ada").unwrap();
        let best = spec.int_per_level("best").unwrap().at("mill_lane").unwrap();
        let has = (game.get(spec.int("pence").unwrap()), game.get(best));
        game.quit().unwrap();
        has
    }
}

/// How many writes still work, and whether the one that fails is done all the same.
#[derive(Clone)]
struct Cut {
    left: Arc<AtomicUsize>,
    done: bool,
}

impl Cut {
    fn after(writes: usize, done: bool) -> Cut {
        Cut { left: Arc::new(AtomicUsize::new(writes)), done }
    }

    /// Does a write, unless the sync is cut short before it; then says so, also where it was done.
    fn write<T>(&self, write: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
        let left = self.left.load(Ordering::Relaxed);
        if left > 0 {
            self.left.store(left - 1, Ordering::Relaxed);
            return write();
        }
        if self.done {
            write()?;
        }
        let cause = std::io::Error::from(std::io::ErrorKind::ConnectionReset);
        Err(StoreError::Io { action: "write", path: "the cloud".into(), cause })
    }
}

struct Flaky<'a, T>(&'a T, Cut);

impl<T: Store> Store for Flaky<'_, T> {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.0.owners()
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.0.generations(owner)
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.0.read(owner, generation)
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        self.1.write(|| self.0.commit(follows, image))
    }

    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.0.insert(image)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.0.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.0.prune(owner, keep)
    }
}

impl<T: SyncRecords> SyncRecords for Flaky<'_, T> {
    fn read(&self, player: &str) -> Result<Option<Vec<u8>>, StoreError> {
        self.0.read(player)
    }

    fn write(&self, player: &str, record: &[u8]) -> Result<(), StoreError> {
        self.1.write(|| self.0.write(player, record))
    }
}

#[derive(Clone, Debug)]
enum Happens {
    Play { device: usize, pence: i64, letters: i64 },
    Sync { device: usize },
    Cut { device: usize, writes: usize, done: bool },
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        3 => (0usize..2, 1i64..50, 0i64..30).prop_map(|(device, pence, letters)| Happens::Play { device, pence, letters }),
        2 => (0usize..2).prop_map(|device| Happens::Sync { device }),
        2 => (0usize..2, 0usize..4, any::<bool>())
            .prop_map(|(device, writes, done)| Happens::Cut { device, writes, done }),
    ]
}

proptest! {
    #![proptest_config(config(400, vestigum_testing::kept_in!("sync")))]

    #[test]
    fn nothing_is_lost_or_counted_twice_wherever_a_sync_is_cut_short(story in proptest::collection::vec(happens(), 1..14)) {
        let devices = [Device::default(), Device::default()];
        let cloud = MemoryStore::default();
        let (mut pence, mut best) = (0, 0);
        for (at, happens) in story.iter().enumerate() {
            let result = match happens {
                Happens::Play { device, pence: earned, letters } => {
                    devices[*device].play_and_meet(*earned, *letters, &at.to_string());
                    (pence, best) = (pence + earned, best.max(*letters));
                    continue;
                }
                Happens::Sync { device } => devices[*device].sync(&cloud).map(drop),
                Happens::Cut { device, writes, done } => {
                    let cut = Cut::after(*writes, *done);
                    let Device { store, records } = &devices[*device];
                    let places = (Flaky(store, cut.clone()), Flaky(&cloud, cut.clone()), Flaky(records, cut));
                    let cut = PlayerSync::new(&spec(), &places.0, &places.1, &places.2, "ada").run();
                    cut.map(drop).or_else(|error| match error {
                        SyncError::Store { .. } | SyncError::Record(_) => Ok(()),
                        other => Err(other),
                    })
                }
            };
            match result {
                // Three older saves are kept: after more play than that, a sync that was cut short can not tell how far it came.
                Err(SyncError::Unknown { .. }) => return Ok(()),
                other => prop_assert!(other.is_ok(), "{}", other.unwrap_err()),
            }
        }
        for device in [0, 1, 0] {
            match devices[device].sync(&cloud) {
                Err(SyncError::Unknown { .. }) => return Ok(()),
                other => prop_assert!(other.is_ok(), "{}", other.unwrap_err()),
            }
        }
        for device in &devices {
            prop_assert_eq!(device.sync(&cloud).unwrap() == Synced::Nothing, pence == 0);
            prop_assert_eq!(device.has(), (pence, best));
        }
    }
}

#[test]
fn each_place_takes_what_the_other_has_and_both_merge() {
    let (laptop, hand_held, cloud) = (Device::default(), Device::default(), MemoryStore::default());
    assert_eq!(laptop.sync(&cloud).unwrap(), Synced::Nothing);
    laptop.play(100, 20);
    assert_eq!(laptop.sync(&cloud).unwrap(), Synced::Pushed { generation: 1 });
    assert_eq!(hand_held.sync(&cloud).unwrap(), Synced::Pulled { generation: 1 });
    assert_eq!(hand_held.sync(&cloud).unwrap(), Synced::InSync);
    laptop.play(5, 30);
    hand_held.play(7, 25);
    assert!(matches!(laptop.sync(&cloud).unwrap(), Synced::Pushed { .. }));
    let merged = hand_held.sync(&cloud).unwrap();
    let Synced::Merged { report, here, there } = merged else { panic!("{merged:?}") };
    assert_eq!((here, there), (3, 3));
    assert_eq!(report.run, RunFrom::Both, "{}", report.run);
    let told: Vec<String> = report.entries.iter().map(|entry| format!("{} {}", entry.name, entry.merged)).collect();
    assert_eq!(told[..2], ["pence 112", "best[mill_lane] 30"]);
    assert!(matches!(laptop.sync(&cloud).unwrap(), Synced::Pulled { .. }));
    assert_eq!([laptop.has(), hand_held.has()], [(112, 30); 2]);
}

#[test]
fn what_cannot_be_merged_is_chosen() {
    let without = SPEC.replace("[merge]\n", "").replace("merge = \"sum\"\n", "");
    let without = Spec::from_toml(&without).unwrap();
    let (here, there, records) = (Device::default(), Device::default(), MemoryRecords::default());
    here.play(10, 0);
    there.play(3, 0);
    let sync = PlayerSync::new(&without, &here.store, &there.store, &records, "ada");
    assert!(matches!(sync.run(), Err(SyncError::Diverged(MergeError::NotSaid))));
    assert_eq!([here.has().0, there.has().0], [10, 3], "nothing was written");
    assert!(matches!(sync.take(Side::There).unwrap(), Synced::Pulled { .. }));
    assert_eq!([here.has().0, there.has().0], [3, 3]);
    assert_eq!(sync.run().unwrap(), Synced::InSync);
    // What was replaced is an older generation.
    assert!(here.store.generations(&Owner::Profile("ada".into())).unwrap().len() > 1);
}

#[test]
fn a_deletion_is_synced_unless_the_other_place_was_played_on() {
    for played_on in [false, true] {
        let (laptop, hand_held, cloud) = (Device::default(), Device::default(), MemoryStore::default());
        laptop.play(10, 0);
        for device in [&laptop, &hand_held] {
            device.sync(&cloud).unwrap();
        }
        if played_on {
            hand_held.play(1, 0);
            hand_held.sync(&cloud).unwrap();
        }
        let spec = spec();
        Profiles::new(&spec, Saver::new(laptop.store.clone())).delete("ada").unwrap();
        laptop.sync(&cloud).unwrap();
        hand_held.sync(&cloud).unwrap();
        let states = [&laptop, &hand_held].map(|device| Session::launch(&spec, device.store.clone(), "ada").is_ok());
        assert_eq!(states, [played_on; 2]);
    }
}

#[test]
fn a_save_of_a_newer_game_is_not_spread() {
    let (laptop, cloud) = (Device::default(), Device::default());
    laptop.play(1, 0);
    let newer = Spec::from_toml(&SPEC.replace("id =", "version = 2\nid =")).unwrap();
    let mut game = Session::launch(&newer, cloud.store.clone(), "ada").unwrap();
    game.add(newer.int("pence").unwrap(), 5).unwrap();
    game.quit().unwrap();
    let error = laptop.sync(&cloud.store).unwrap_err().to_string();
    assert!(error.contains("version 2"), "{error}");
    assert_eq!(laptop.has().0, 1);
}

#[test]
fn records_in_a_folder_outlive_the_process_and_damage_is_told() {
    let dir = tempfile::tempdir().unwrap();
    let spec = spec();
    let cloud = MemoryStore::default();
    let device = Device::default();
    let store = DirStore::open(dir.path().join("saves")).unwrap();
    let sync = |records: &SyncFolder| PlayerSync::new(&spec, &store, &cloud, records, "ada").run();
    device.play(10, 0);
    device.sync(&cloud).unwrap();
    let folder = dir.path().join("syncs");
    assert_eq!(sync(&SyncFolder::new(&folder)).unwrap(), Synced::Pulled { generation: 1 });
    assert_eq!(sync(&SyncFolder::new(&folder)).unwrap(), Synced::InSync);
    let file = folder.join("ada.sync");
    let whole = std::fs::read_to_string(&file).unwrap();
    for (damaged, why) in [
        (whole.replace("\"pence\":10", "\"pence\":90"), "its check does not fit"),
        (whole[..whole.len() / 2].to_owned(), "its check does not fit"),
        (String::new(), "it has no first line"),
        (whole.replace("sync 1", "sync 2"), "a newer version of the game wrote it"),
        ("ada\n".into(), "it is no record of a sync"),
    ] {
        std::fs::write(&file, damaged).unwrap();
        match sync(&SyncFolder::new(&folder)) {
            Err(SyncError::RecordDamaged { why: told }) => assert_eq!(told, why),
            other => panic!("{other:?}"),
        }
    }
    let records = SyncFolder::new(&folder);
    PlayerSync::new(&spec, &store, &cloud, &records, "ada").take(Side::There).unwrap();
    assert_eq!(sync(&records).unwrap(), Synced::InSync);
}

#[test]
fn a_sync_that_was_cut_short_after_its_last_write_is_settled_by_the_next() {
    let (other, device, cloud) = (Device::default(), Device::default(), MemoryStore::default());
    other.play(10, 0);
    other.sync(&cloud).unwrap();
    // The intention and the save are written; that both have it is not.
    let cut = Flaky(&device.records, Cut::after(1, false));
    let cut = PlayerSync::new(&spec(), &device.store, &cloud, &cut, "ada").run();
    assert!(matches!(cut, Err(SyncError::Record(_))), "{cut:?}");
    assert_eq!(device.sync(&cloud).unwrap(), Synced::InSync);
    // Then so much is played that the saves of that time are gone.
    for pence in 0..8 {
        device.play(pence + 1, pence);
    }
    vestigum::prune_all(&device.store, &Owner::Profile("ada".into()), 1).unwrap();
    assert!(matches!(device.sync(&cloud).unwrap(), Synced::Pushed { .. }));
    assert_eq!(device.has().0, 46);
}

#[test]
fn a_place_that_does_not_answer_is_no_reason_to_choose() {
    let (device, cloud) = (Device::default(), MemoryStore::default());
    device.play(10, 0);
    let cut = Flaky(&device.records, Cut::after(1, false));
    PlayerSync::new(&spec(), &device.store, &cloud, &cut, "ada").run().unwrap_err();
    device.play(5, 5);
    cloud_moves_on(&cloud);
    // The saves that tell how far it came cannot be read just now.
    let flaky = FlakyStore::new(cloud.clone(), 5).fail_one_in(2);
    let mut refused = 0;
    for _ in 0..200 {
        match PlayerSync::new(&spec(), &device.store, &flaky, &device.records, "ada").run() {
            Ok(_) => break,
            Err(SyncError::Unknown { side }) => panic!("{side} is not gone"),
            Err(_) => refused += 1,
        }
    }
    assert!(refused > 0, "there was trouble");
    assert_eq!(device.has().0, 22, "10 and 5 here, and 7 there");
}

/// Another device took the save that was pushed, and played on.
fn cloud_moves_on(cloud: &MemoryStore) {
    let other = Device { store: cloud.clone(), records: MemoryRecords::default() };
    other.play(7, 3);
}

/// A device's own save is damaged: the one before it was said to be pushed, and every other device took it.
#[test]
fn an_older_save_is_not_spread_because_the_newest_is_damaged() {
    let spec = spec();
    let (disk, cloud) = (SimDisk::default(), MemoryStore::default());
    let records = MemoryRecords::default();
    let play = |disk: &SimDisk, amount: i64| {
        let mut game = Session::launch(&spec, DirStore::open_on(disk.clone(), "saves").unwrap(), "ada").unwrap();
        game.write_add("pence", &[], Value::Int(amount)).unwrap();
        game.quit().unwrap();
    };
    let sync = |disk: &SimDisk| {
        let here = DirStore::open_on(disk.clone(), "saves").unwrap();
        PlayerSync::new(&spec, &here, &cloud, &records, "ada").run()
    };
    let pence = |store: &dyn Store| Session::peek(&spec, store, "ada").unwrap().value("pence", &[]).unwrap();
    play(&disk, 5);
    play(&disk, 10);
    sync(&disk).unwrap();
    let owner = Owner::Profile("ada".into());
    let newest = |disk: &SimDisk| {
        let store = DirStore::open_on(disk.clone(), "saves").unwrap();
        let generation = store.generations(&owner).unwrap().pop().unwrap();
        store.file(&owner, generation).unwrap()
    };
    // Both had 15. What is damaged is there whole.
    let damaged = disk.with_content(&newest(&disk), b"cut".to_vec());
    assert!(matches!(sync(&damaged).unwrap(), Synced::Pulled { .. }));
    assert_eq!(pence(&cloud), Value::Int(15));
    assert_eq!(pence(&DirStore::open_on(damaged, "saves").unwrap()), Value::Int(15));
    // One that cannot be read now refuses.
    let held = disk.sound();
    held.fail_always(&newest(&disk), Fault::Unavailable);
    assert!(matches!(sync(&held).unwrap_err(), SyncError::Saves { .. }));
    // Played twice since, and the newest is damaged: the one before it holds what nobody else has.
    play(&disk, 1);
    play(&disk, 1);
    let damaged = disk.with_content(&newest(&disk), b"cut".to_vec());
    assert!(matches!(sync(&damaged).unwrap(), Synced::Pushed { .. }));
    assert_eq!(pence(&cloud), Value::Int(16));
    // Nothing is known of what was there before: a person decides.
    let unknown = DirStore::open_on(disk.with_content(&newest(&disk), b"cut".to_vec()), "saves").unwrap();
    let records = MemoryRecords::default();
    let refused = PlayerSync::new(&spec, &unknown, &cloud, &records, "ada").run().unwrap_err();
    assert!(matches!(refused, SyncError::Damaged { .. }), "{refused}");
}

/// Killed between the link and the sync of the folder, and said again: the name was there, and not durable.
#[test]
fn what_a_sync_finds_is_durable_before_it_says_so() {
    let spec = spec();
    let (here, cloud) = (MemoryStore::default(), SimDisk::default());
    let records = MemoryRecords::default();
    let mut game = Session::launch(&spec, here.clone(), "ada").unwrap();
    game.write_add("pence", &[], Value::Int(5)).unwrap();
    game.quit().unwrap();
    // Up to the rename of the save in the other place, and no further.
    let there = DirStore::open_on(cloud.clone(), "saves").unwrap();
    PlayerSync::new(&spec, &here, &there, &records, "ada").run().unwrap();
    let log = cloud.operations();
    let named = log.iter().position(|operation| matches!(operation, DiskOperation::Rename(..))).unwrap() + 1;
    for records in [records, MemoryRecords::default()] {
        let killed = cloud.killed_after(named);
        let there = DirStore::open_on(killed.clone(), "saves").unwrap();
        assert_eq!(PlayerSync::new(&spec, &here, &there, &records, "ada").run().unwrap(), Synced::InSync);
        drop(there);
        for loss in killed.power_loss() {
            let there = DirStore::open_on(loss.disk(), "saves").unwrap();
            let peek = Session::peek(&spec, &there, "ada").unwrap();
            assert_eq!(peek.value("pence", &[]), Ok(Value::Int(5)), "{:?}", loss.told());
        }
    }
}

/// The folder of the records was made durable only by the process that made it.
#[test]
fn the_folder_of_records_is_made_durable_by_whoever_writes_into_it() {
    let disk = SimDisk::default();
    disk.make_folder("saves".as_ref()).unwrap();
    disk.sync_folder("".as_ref()).unwrap();
    // A process that was killed when it had made the folder.
    disk.make_folder("saves/syncs".as_ref()).unwrap();
    let next = disk.killed_after(disk.count());
    SyncFolder::on(Arc::new(next.clone()), "saves/syncs").write("ada", b"a record").unwrap();
    for loss in next.power_loss() {
        let records = SyncFolder::on(Arc::new(loss.disk()), "saves/syncs");
        assert_eq!(records.read("ada").unwrap().as_deref(), Some(&b"a record"[..]), "{:?}", loss.told());
    }
}
