//! One player in several places, and syncs that are cut short.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;

use vestigum::merging::{MergeError, RunFrom, Side};
use vestigum::sync::{PlayerSync, SyncDid, SyncError, Synced};
use vestigum::{
    Committed, DirStore, GivenSave, Image, Line, MemoryStore, Owner, Profiles, Pruned, Saver, Session, Spec, Store,
    StoreError, Value, restore,
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

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

fn play(store: impl Into<Saver>, pence: i64, letters: i64) {
    let spec = spec();
    let mut game = Session::launch(&spec, store, "ada").unwrap();
    game.add(spec.int("pence").unwrap(), pence).unwrap();
    if letters > 0 {
        game.enter("mill_lane").unwrap();
        game.set(spec.int("letters").unwrap(), letters).unwrap();
        game.complete().unwrap();
    }
    game.quit().unwrap();
}

fn sync(here: &dyn Store, there: &dyn Store) -> Result<SyncDid, SyncError> {
    PlayerSync::new(&spec(), here, there, "ada").run().map(|synced| synced.did)
}

fn has(store: &dyn Store) -> (i64, i64) {
    let peek = Session::peek(&spec(), store, "ada").unwrap();
    let int = |name: &str, keys: &[&str]| peek.value(name, keys).unwrap().as_int();
    (int("pence", &[]), int("best", &["mill_lane"]))
}

/// Counts the writes that still work, and says whether the one that fails is done all the same.
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

/// A store whose writes are cut short.
struct Cutting<'a>(&'a MemoryStore, Cut);

impl Store for Cutting<'_> {
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
    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.0.line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.1.write(|| self.0.begin_line(owner))
    }
    fn give(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.1.write(|| self.0.give(owner, save))
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.0.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.0.prune(owner, keep)
    }
}

#[derive(Clone, Debug)]
enum Happens {
    Play {
        device: usize,
        pence: i64,
        letters: i64,
    },
    Sync {
        device: usize,
        place: usize,
    },
    Cut {
        device: usize,
        place: usize,
        writes: usize,
        done: bool,
    },
    /// A shared place goes back to what it was a number of syncs before.
    PutBack {
        place: usize,
        times: usize,
    },
}

fn happens() -> impl Strategy<Value = Happens> {
    let (device, place) = (0usize..4, 0usize..3);
    prop_oneof![
        // Equal gains are two gains.
        3 => (device.clone(), prop_oneof![Just(10i64), Just(10), 1i64..50], 0i64..30)
            .prop_map(|(device, pence, letters)| Happens::Play { device, pence, letters }),
        2 => (device.clone(), place.clone()).prop_map(|(device, place)| Happens::Sync { device, place }),
        2 => (device, place.clone(), 0usize..6, any::<bool>())
            .prop_map(|(device, place, writes, done)| Happens::Cut { device, place, writes, done }),
        1 => (place, 1usize..4).prop_map(|(place, times)| Happens::PutBack { place, times }),
    ]
}

fn copied(store: &MemoryStore) -> MemoryStore {
    let copy = MemoryStore::default();
    for generation in store.generations(&ada()).unwrap() {
        copy.insert(&store.read(&ada(), generation).unwrap()).unwrap();
    }
    copy
}

proptest! {
    #![proptest_config(config(300, vestigum_testing::kept_in!("sync")))]

    /// Up to four devices and three places, in any graph: nothing is lost, nothing is counted twice, and nobody is asked.
    #[test]
    fn nothing_is_lost_or_counted_twice_wherever_a_sync_is_cut_short(
        devices in 2usize..5,
        places in 1usize..4,
        story in proptest::collection::vec(happens(), 1..20),
    ) {
        let devices: Vec<MemoryStore> = (0..devices).map(|_| MemoryStore::default()).collect();
        let mut places: Vec<Vec<MemoryStore>> = (0..places).map(|_| vec![MemoryStore::default()]).collect();
        let (mut pence, mut best) = (0, 0);
        for happens in &story {
            match happens {
                Happens::Play { device, pence: earned, letters } => {
                    play(devices[*device % devices.len()].clone(), *earned, *letters);
                    (pence, best) = (pence + earned, best.max(*letters));
                }
                Happens::Sync { device, place } => {
                    let at = *place % places.len();
                    let was = places[at].last().unwrap().clone();
                    places[at].insert(0, copied(&was));
                    let done = sync(&devices[*device % devices.len()], &was);
                    prop_assert!(done.is_ok(), "{}", done.unwrap_err());
                }
                Happens::Cut { device, place, writes, done } => {
                    let cut = Cut::after(*writes, *done);
                    let place = places[*place % places.len()].last().unwrap();
                    let both = (Cutting(&devices[*device % devices.len()], cut.clone()), Cutting(place, cut));
                    let cut = PlayerSync::new(&spec(), &both.0, &both.1, "ada").run();
                    prop_assert!(matches!(cut, Ok(_) | Err(SyncError::Store { .. })), "{}", cut.unwrap_err());
                }
                Happens::PutBack { place, times } => {
                    let at = *place % places.len();
                    let old = places[at][times.min(&(places[at].len() - 1)).to_owned()..][0].clone();
                    // What only this place has is gone with it: what devices gave it, they have.
                    places[at].push(copied(&old));
                }
            }
        }
        for _ in 0..devices.len() + places.len() {
            for device in &devices {
                for place in &places {
                    let done = sync(device, place.last().unwrap());
                    prop_assert!(done.is_ok(), "{}", done.unwrap_err());
                }
            }
        }
        for device in &devices {
            prop_assert_eq!(sync(device, places[0].last().unwrap()).unwrap() == SyncDid::Nothing, pence == 0);
            prop_assert_eq!(has(device), (pence, best));
        }
    }
}

#[test]
fn each_place_takes_what_the_other_has_and_both_merge() {
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    assert_eq!(sync(&laptop, &cloud).unwrap(), SyncDid::Nothing);
    play(laptop.clone(), 100, 20);
    assert_eq!(sync(&laptop, &cloud).unwrap(), SyncDid::Pushed { generation: 1 });
    assert_eq!(sync(&hand_held, &cloud).unwrap(), SyncDid::Pulled { generation: 1 });
    assert_eq!(sync(&hand_held, &cloud).unwrap(), SyncDid::InSync);
    assert!(hand_held.line(&ada()).unwrap().is_none(), "a sync is no play");
    play(laptop.clone(), 7, 30);
    play(hand_held.clone(), 7, 25);
    assert!(matches!(sync(&laptop, &cloud).unwrap(), SyncDid::Pushed { .. }));
    let merged = sync(&hand_held, &cloud).unwrap();
    let SyncDid::Merged { report, here, there } = merged else { panic!("{merged:?}") };
    assert_eq!((here, there), (3, 3));
    assert_eq!(report.run, RunFrom::Both, "{}", report.run);
    let told: Vec<String> = report.entries.iter().map(|entry| format!("{} {}", entry.name, entry.merged)).collect();
    assert_eq!(told[..2], ["pence 114", "best[mill_lane] 30"]);
    assert!(matches!(sync(&laptop, &cloud).unwrap(), SyncDid::Pulled { .. }));
    assert_eq!([has(&laptop), has(&hand_held)], [(114, 30); 2]);
}

#[test]
fn what_cannot_be_merged_is_chosen() {
    let without = SPEC.replace("[merge]\n", "").replace("merge = \"sum\"\n", "");
    let without = Spec::from_toml(&without).unwrap();
    let [here, there] = [(10, MemoryStore::default()), (3, MemoryStore::default())].map(|(pence, store)| {
        let mut game = Session::launch(&without, store.clone(), "ada").unwrap();
        game.write_add("pence", &[], Value::Int(pence)).unwrap();
        game.quit().unwrap();
        store
    });
    let sync = PlayerSync::new(&without, &here, &there, "ada");
    assert!(matches!(sync.run(), Err(SyncError::Diverged(MergeError::NotSaid))));
    assert_eq!([has(&here).0, has(&there).0], [10, 3], "nothing was written");
    assert!(matches!(sync.take(Side::There).unwrap().did, SyncDid::Pulled { .. }));
    assert_eq!([has(&here).0, has(&there).0], [3, 3]);
    assert_eq!(sync.run().unwrap().did, SyncDid::InSync);
    // What was replaced is an older generation.
    assert!(here.generations(&ada()).unwrap().len() > 1);
}

#[test]
fn a_deletion_is_synced_unless_the_other_place_was_played_on() {
    for played_on in [false, true] {
        let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
        play(laptop.clone(), 10, 0);
        for device in [&laptop, &hand_held] {
            sync(device, &cloud).unwrap();
        }
        if played_on {
            play(hand_held.clone(), 1, 0);
            sync(&hand_held, &cloud).unwrap();
        }
        let profiles = Profiles::new(&spec(), Saver::new(laptop.clone()));
        profiles.delete("ada").unwrap();
        sync(&laptop, &cloud).unwrap();
        sync(&hand_held, &cloud).unwrap();
        let states = [&laptop, &hand_held].map(|device| Session::launch(&spec(), device.clone(), "ada").is_ok());
        assert_eq!(states, [played_on; 2]);
        if !played_on {
            // Brought back, it is brought back everywhere, and what was earned counts once.
            profiles.restore("ada").unwrap();
            sync(&laptop, &cloud).unwrap();
            sync(&hand_held, &cloud).unwrap();
            play(hand_held.clone(), 1, 0);
            sync(&hand_held, &cloud).unwrap();
            sync(&laptop, &cloud).unwrap();
            assert_eq!([has(&laptop).0, has(&hand_held).0], [11, 11]);
        }
    }
}

/// An older save that is restored is one more save by play: other places take it over, and the next gains come on top.
#[test]
fn a_restored_save_is_taken_over_by_other_places() {
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    play(laptop.clone(), 10, 0);
    play(laptop.clone(), 90, 0);
    sync(&laptop, &cloud).unwrap();
    sync(&hand_held, &cloud).unwrap();
    restore(&laptop, Some(&spec()), &ada(), 1).unwrap();
    play(hand_held.clone(), 5, 0);
    for device in [&laptop, &hand_held, &laptop] {
        sync(device, &cloud).unwrap();
    }
    assert_eq!([has(&laptop).0, has(&hand_held).0], [15, 15]);
    let refused = restore(&laptop, None, &ada(), 1).unwrap_err().to_string();
    assert!(refused.contains("name the spec"), "{refused}");
}

#[test]
fn a_save_of_a_newer_game_is_not_spread() {
    let [laptop, cloud] = [(); 2].map(|()| MemoryStore::default());
    play(laptop.clone(), 1, 0);
    let newer = Spec::from_toml(&SPEC.replace("id =", "version = 2\nid =")).unwrap();
    let mut game = Session::launch(&newer, cloud.clone(), "ada").unwrap();
    game.add(newer.int("pence").unwrap(), 5).unwrap();
    game.quit().unwrap();
    let error = sync(&laptop, &cloud).unwrap_err().to_string();
    assert!(error.contains("version 2"), "{error}");
    assert_eq!(has(&laptop).0, 1);
}

#[test]
fn a_place_that_does_not_answer_is_no_reason_to_choose() {
    let [device, cloud] = [(); 2].map(|()| MemoryStore::default());
    play(device.clone(), 10, 0);
    sync(&device, &cloud).unwrap();
    play(device.clone(), 5, 5);
    // Another device took what is there, and played on.
    let other = copied(&cloud);
    play(other.clone(), 7, 3);
    sync(&other, &cloud).unwrap();
    let flaky = FlakyStore::new(cloud.clone(), 5).fail_one_in(2);
    let mut refused = 0;
    while let Err(error) = sync(&device, &flaky) {
        assert!(matches!(error, SyncError::Store { .. } | SyncError::Saves { .. }), "{error}");
        refused += 1;
        assert!(refused < 2000, "{error}");
    }
    assert!(refused > 0, "there was trouble");
    assert_eq!(has(&device).0, 22, "10 and 5 here, and 7 there");
}

/// A device whose system does not let it be told that it is a copy: two of them have one id.
struct Twin(MemoryStore);

impl Store for Twin {
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
        self.0.commit(follows, image)
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
    fn line(&self, _: &Owner) -> Result<Option<Line>, StoreError> {
        Ok(Some(Line::new("twin".into())))
    }
}

#[test]
fn two_copies_of_one_installation_are_noticed_and_somebody_decides() {
    for side in [Side::Here, Side::There] {
        let [one, other, cloud] = [(); 3].map(|()| MemoryStore::default());
        let twins = [Twin(one.clone()), Twin(other.clone())];
        play(Twin(one.clone()), 10, 0);
        play(Twin(other.clone()), 3, 0);
        sync(&twins[0], &cloud).unwrap();
        let parted = sync(&twins[1], &cloud).unwrap_err();
        assert!(matches!(&parted, SyncError::TwoLines { installation } if **installation == *"twin"), "{parted}");
        assert_eq!([has(&other).0, has(&cloud).0], [3, 10], "nothing was written");
        PlayerSync::new(&spec(), &twins[1], &cloud, "ada").take(side).unwrap();
        let pence = if side == Side::Here { 3 } else { 10 };
        assert_eq!([has(&other).0, has(&cloud).0], [pence; 2]);
        assert_eq!(sync(&twins[1], &cloud).unwrap(), SyncDid::InSync);
        // The one that parted takes it over, and all goes on.
        sync(&one, &cloud).unwrap();
        assert_eq!(has(&one).0, pence);
    }
}

/// Whoever copies a save folder, or puts one back from a backup, has another installation: no number is given twice.
#[test]
fn a_copy_of_a_folder_is_another_installation() {
    let dir = tempfile::tempdir().unwrap();
    let folder = |name: &str| dir.path().join(name);
    let line = |name: &str| DirStore::open_to_read(folder(name)).unwrap().line(&ada()).unwrap().unwrap().installation;
    play(DirStore::open(folder("saves")).unwrap(), 10, 0);
    let first = line("saves");
    play(DirStore::open(folder("saves")).unwrap(), 10, 0);
    assert_eq!(line("saves"), first, "the folder is the same");
    std::fs::rename(folder("saves"), folder("moved")).unwrap();
    assert_eq!(line("moved"), first, "and is, under another name");
    let (from, to) = (folder("moved").join("profiles/ada"), folder("copy").join("profiles/ada"));
    std::fs::create_dir_all(&to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().map(|entry| entry.unwrap()) {
        std::fs::copy(entry.path(), to.join(entry.file_name())).unwrap();
    }
    assert_ne!(line("copy"), first);
    // Both play on, and meet: three gains of 10 and one of 5.
    play(DirStore::open(folder("moved")).unwrap(), 10, 0);
    play(DirStore::open(folder("copy")).unwrap(), 5, 0);
    let (moved, copy) = (DirStore::open(folder("moved")).unwrap(), DirStore::open(folder("copy")).unwrap());
    assert!(matches!(sync(&moved, &copy).unwrap(), SyncDid::Merged { .. }));
    assert_eq!([has(&moved).0, has(&copy).0], [35, 35]);
    assert!(moved.strays().unwrap().is_empty(), "{:?}", moved.strays());
}

/// A device's own save is damaged: the other place has it whole, or it is reported.
#[test]
fn a_damaged_save_is_fetched_from_the_other_place() {
    let spec = spec();
    let (disk, cloud) = (SimDisk::default(), MemoryStore::default());
    let open = |disk: &SimDisk| DirStore::open_on(disk.clone(), "saves").unwrap();
    let run =
        |disk: &SimDisk| -> Result<Synced, SyncError> { PlayerSync::new(&spec, &open(disk), &cloud, "ada").run() };
    play(open(&disk), 5, 0);
    play(open(&disk), 10, 0);
    run(&disk).unwrap();
    let newest = |disk: &SimDisk| {
        let store = open(disk);
        store.file(&ada(), *store.generations(&ada()).unwrap().last().unwrap()).unwrap()
    };
    // Both had 15. What is damaged is there whole.
    let damaged = disk.with_content(&newest(&disk), b"cut".to_vec());
    let before = open(&damaged).line(&ada()).unwrap().unwrap().installation;
    let synced = run(&damaged).unwrap();
    assert!(matches!(synced.did, SyncDid::Pulled { .. }), "{synced:?}");
    assert!(matches!(&synced.damaged[..], [(Side::Here, 2, _)]), "{synced:?}");
    assert_eq!([has(&cloud).0, has(&open(&damaged)).0], [15, 15]);
    assert_ne!(open(&damaged).line(&ada()).unwrap().unwrap().installation, before, "no number is given again");
    // One that cannot be read now refuses.
    let held = disk.sound();
    held.fail_always(&newest(&disk), Fault::Unavailable);
    assert!(matches!(run(&held).unwrap_err(), SyncError::Saves { .. }));
    // Played twice since, and the newest is damaged: what only it had is lost, and told. The rest goes on.
    play(open(&disk), 1, 0);
    play(open(&disk), 1, 0);
    let damaged = disk.with_content(&newest(&disk), b"cut".to_vec());
    let synced = run(&damaged).unwrap();
    assert!(matches!(synced.did, SyncDid::Pushed { .. }), "{synced:?}");
    assert_eq!((synced.damaged.len(), has(&cloud).0), (1, 16));
    // A launch that recovers begins another line, too, and its gains come on top.
    let damaged = disk.with_content(&newest(&disk), b"cut".to_vec());
    play(open(&damaged), 2, 0);
    run(&damaged).unwrap();
    assert_eq!([has(&cloud).0, has(&open(&damaged)).0], [18, 18]);
}

/// Killed between the link and the sync of the folder, and said again: the name was there, and not durable.
#[test]
fn what_a_sync_finds_is_durable_before_it_says_so() {
    let (here, cloud) = (MemoryStore::default(), SimDisk::default());
    play(here.clone(), 5, 0);
    // Up to the rename of the save in the other place, and no further.
    let there = DirStore::open_on(cloud.clone(), "saves").unwrap();
    sync(&here, &there).unwrap();
    let log = cloud.operations();
    let named = log.iter().position(|operation| matches!(operation, DiskOperation::Rename(..))).unwrap() + 1;
    let killed = cloud.killed_after(named);
    let there = DirStore::open_on(killed.clone(), "saves").unwrap();
    assert_eq!(sync(&here, &there).unwrap(), SyncDid::InSync);
    drop(there);
    for loss in killed.power_loss() {
        let there = DirStore::open_on(loss.disk(), "saves").unwrap();
        assert_eq!(has(&there).0, 5, "{:?}", loss.told());
    }
}

/// A save from before origins were kept is one installation's: two devices that have the same go on from it.
#[test]
fn saves_from_before_origins_were_kept_are_joined() {
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    play(laptop.clone(), 10, 20);
    let old = laptop.read(&ada(), 1).unwrap();
    let old = Image { origin: None, ..old };
    let [laptop, hand_held] = [&laptop, &hand_held].map(|_| {
        let store = MemoryStore::default();
        store.insert(&old).unwrap();
        store
    });
    play(laptop.clone(), 5, 0);
    play(hand_held.clone(), 5, 25);
    for device in [&laptop, &hand_held, &laptop] {
        sync(device, &cloud).unwrap();
    }
    assert_eq!([has(&laptop), has(&hand_held)], [(20, 25); 2]);
    // Two that differ cannot be told from two lines.
    let other = MemoryStore::default();
    let mut values = old.values.clone();
    values.insert("pence".into(), vestigum::image::Tree::Int(11));
    other.insert(&Image { values, ..old }).unwrap();
    play(other.clone(), 1, 0);
    assert!(matches!(sync(&other, &cloud), Err(SyncError::TwoLines { .. })));
}

/// An update maps amounts as it maps values: both devices take it by themselves, and meet afterwards.
#[test]
fn an_update_maps_what_each_installation_gave() {
    let first = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[merge]\n\
        [field.pence]\ntype = \"int\"\nrange = [0, 1000]\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"sum\"\n\
        [field.name]\ntype = \"text\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"newer\"\n\
        [field.letters]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"sum\"\n";
    let second = first
        .replace("id =", "version = 2\nid =")
        .replace("field.pence", "field.farthings")
        .replace("[0, 1000]", "[0, 9000]")
        .replace("field.name", "field.nickname")
        .replace("mill_lane", "mill_road")
        + "[[migration]]\nto = 2\nsteps = [\n{ fill = \"farthings\", with = \"pence * 4 + 1\" },\n           { rename = \"field\", from = \"name\", to = \"nickname\" },\n\
           { rename = \"level\", from = \"mill_lane\", to = \"mill_road\" },\n]\n";
    let first = Spec::from_toml(first).unwrap_or_else(|errors| panic!("{errors}"));
    let history = vestigum::History::default().freeze(&first).unwrap().history;
    let second = Spec::from_toml_with_history(&second, &history.to_json()).unwrap_or_else(|errors| panic!("{errors}"));
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    let play = |spec: &Spec, store: &MemoryStore, money: &str, name: &str, level: &str, amount: i64| {
        let mut game = Session::launch(spec, store.clone(), "ada").unwrap();
        game.write_add(money, &[], Value::Int(amount)).unwrap();
        game.write(name, &[], Value::text(format!("after {amount}"))).unwrap();
        game.write_add("letters", &[level], Value::Int(amount.abs())).unwrap();
        game.quit().unwrap();
    };
    play(&first, &laptop, "pence", "name", "mill_lane", 100);
    for device in [&laptop, &hand_held] {
        PlayerSync::new(&first, device, &cloud, "ada").run().unwrap();
    }
    play(&first, &laptop, "pence", "name", "mill_lane", -10);
    play(&first, &hand_held, "pence", "name", "mill_lane", 10);
    // Both are updated and play on before they meet.
    play(&second, &laptop, "farthings", "nickname", "mill_road", 7);
    play(&second, &hand_held, "farthings", "nickname", "mill_road", 7);
    for device in [&laptop, &hand_held, &laptop] {
        PlayerSync::new(&second, device, &cloud, "ada").run().unwrap();
    }
    for device in [&laptop, &hand_held] {
        let peek = Session::peek(&second, device, "ada").unwrap();
        assert_eq!(peek.value("farthings", &[]), Ok(Value::Int(100 * 4 + 1 + 14)));
        assert_eq!(peek.value("letters", &["mill_road"]), Ok(Value::Int(134)));
        assert_eq!(peek.value("nickname", &[]), Ok(Value::text("after 7")));
    }
}

/// Merging costs a save nothing without `[merge]`, and some hundred bytes on the demo.
#[test]
fn an_origin_of_four_installations_is_small() {
    let toml = include_str!("../../../../demo/fellpost/fellpost.toml");
    let history = include_str!("../../../../demo/fellpost/fellpost.history.json");
    let spec = Spec::from_toml_with_history(toml, history).unwrap();
    let devices: Vec<MemoryStore> = (0..4).map(|_| MemoryStore::default()).collect();
    let cloud = MemoryStore::default();
    let added = || {
        let newest = *cloud.generations(&ada()).unwrap().last().unwrap();
        let image = cloud.read(&ada(), newest).unwrap();
        assert_eq!(image.origin.as_ref().unwrap().from.len(), 4);
        image.to_json().len() - Image { origin: None, ..image }.to_json().len()
    };
    for round in 0..12 {
        if round == 1 {
            let bytes = added();
            assert!(bytes <= 350, "{bytes} bytes after one evening each");
        }
        for (at, device) in devices.iter().enumerate() {
            PlayerSync::new(&spec, device, &cloud, "ada").run().unwrap();
            let mut game = Session::launch(&spec, device.clone(), "ada").unwrap();
            for level in ["mill_lane", "heather_rise"] {
                game.enter(level).unwrap();
                game.write_add("letters", &[], Value::Int(40 + round)).unwrap();
                game.write_add("xp", &[], Value::Int(30)).unwrap();
                game.write_add("stamps", &[], Value::Int(2)).unwrap();
                if round == 0 && at == 1 && level == "heather_rise" {
                    game.death().unwrap();
                }
                game.tick(std::time::Duration::from_secs(70)).unwrap();
                game.complete().unwrap();
            }
            game.write("gate_open", &["mill_gate"], Value::Bool(true)).unwrap();
            game.quit().unwrap();
            PlayerSync::new(&spec, device, &cloud, "ada").run().unwrap();
        }
    }
    let bytes = added();
    assert!(bytes <= 400, "{bytes} bytes after twelve evenings each, with ten rows of rankings");
    let newest = *cloud.generations(&ada()).unwrap().last().unwrap();
    let image = cloud.read(&ada(), newest).unwrap();
    assert!(!String::from_utf8_lossy(&image.to_json()).contains("\"before\""));
}

/// Both devices deleted the player, each without knowing of the other: all places come to one deletion.
#[test]
fn two_deletions_come_to_one() {
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    play(laptop.clone(), 10, 0);
    for device in [&laptop, &hand_held] {
        sync(device, &cloud).unwrap();
        Profiles::new(&spec(), Saver::new(device.clone())).delete("ada").unwrap();
    }
    for device in [&laptop, &hand_held, &laptop] {
        sync(device, &cloud).unwrap();
    }
    for device in [&laptop, &hand_held] {
        assert_eq!(sync(device, &cloud).unwrap(), SyncDid::InSync);
        assert!(Session::launch(&spec(), device.clone(), "ada").is_err(), "the player is deleted");
    }
}

/// A line that a person took is given away: play goes on, older saves are pruned, and nobody is asked again.
#[test]
fn a_save_that_was_taken_is_known_later() {
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    play(laptop.clone(), 10, 0);
    play(hand_held.clone(), 3, 0);
    sync(&laptop, &cloud).unwrap();
    PlayerSync::new(&spec(), &hand_held, &cloud, "ada").take(Side::Here).unwrap();
    for pence in 1..=6 {
        play(hand_held.clone(), pence, 0);
    }
    vestigum::prune_all(&hand_held, &ada(), 1).unwrap();
    assert!(matches!(sync(&hand_held, &cloud).unwrap(), SyncDid::Pushed { .. }));
    sync(&laptop, &cloud).unwrap();
    assert_eq!([has(&laptop).0, has(&hand_held).0], [24, 24]);
}

/// A look says what a sync would do, and writes nothing: not even that a player came here.
#[test]
fn a_preview_writes_nothing() {
    let [laptop, hand_held] = [(); 2].map(|()| MemoryStore::default());
    play(laptop.clone(), 10, 0);
    play(hand_held.clone(), 10, 0);
    let generations = || [&laptop, &hand_held].map(|store| store.generations(&ada()).unwrap());
    let before = generations();
    let preview = PlayerSync::new(&spec(), &laptop, &hand_held, "ada").preview().unwrap();
    assert!(matches!(preview.meeting, vestigum::merging::Meeting::Merged(_)), "{preview:?}");
    assert_eq!(generations(), before);
    assert!(laptop.line(&ada()).unwrap().unwrap().given.is_empty());
}

/// Two devices end one visit, each by a game over that keeps what was earned in it: it counts once.
#[test]
fn a_visit_that_a_game_over_ends_counts_once() {
    let spec = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[checkpoints]\naccept = \"any\"\n\
        [save]\nresume = \"checkpoint\"\n[merge]\n[field.purse]\ntype = \"int\"\nlasts = \"profile\"\n\
        after_failure = \"checkpoint\"\nwritten_by = \"both\"\non.game_over = \"keep\"\nmerge = \"sum\"\n";
    let spec = Spec::from_toml(spec).unwrap_or_else(|errors| panic!("{errors}"));
    let [laptop, hand_held, cloud] = [(); 3].map(|()| MemoryStore::default());
    let sync = |device: &MemoryStore| PlayerSync::new(&spec, device, &cloud, "ada").run().unwrap();
    let mut game = Session::launch(&spec, laptop.clone(), "ada").unwrap();
    game.enter("mill_lane").unwrap();
    game.write("purse", &[], Value::Int(10)).unwrap();
    game.checkpoint("ford").unwrap();
    game.quit().unwrap();
    sync(&laptop);
    sync(&hand_held);
    for device in [&laptop, &hand_held] {
        let mut game = Session::launch(&spec, device.clone(), "ada").unwrap();
        game.game_over().unwrap();
        assert_eq!(game.value("purse", &[]), Ok(Value::Int(10)));
        game.quit().unwrap();
    }
    for device in [&laptop, &hand_held, &laptop] {
        sync(device);
    }
    for device in [&laptop, &hand_held] {
        assert_eq!(Session::peek(&spec, device, "ada").unwrap().value("purse", &[]), Ok(Value::Int(10)));
    }
}
