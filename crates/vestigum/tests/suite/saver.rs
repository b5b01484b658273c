//! Saving off the game loop: tickets, newer saves that overtake, retries, two players, the end.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

use vestigum::{
    Committed, Image, MemoryStore, Owner, Pruned, Saver, Session, SessionError, Spec, Store, StoreError, Value,
};
use vestigum_testing::watched_store::WatchedStore;
use vestigum_verify::FlakyStore;

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
[field.starts]
type = "int"
lasts = "device"
on.launch = { add = 1 }
"#;

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

/// A store that waits at a gate before each commit, and fails the number of times that it was asked to.
#[derive(Clone, Default)]
struct Gated {
    store: MemoryStore,
    gate: Arc<(Mutex<bool>, Condvar)>,
    failures: Arc<AtomicU32>,
    commits: Arc<AtomicU32>,
}

impl Gated {
    fn set_open(&self, open: bool) {
        *self.gate.0.lock().unwrap() = open;
        self.gate.1.notify_all();
    }
}

impl Store for Gated {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.store.owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.store.generations(owner)
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.store.read(owner, generation)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        drop(self.gate.1.wait_while(self.gate.0.lock().unwrap(), |open| !*open).unwrap());
        if self.failures.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1)).is_ok() {
            let cause = std::io::Error::other("the disk is full");
            return Err(StoreError::Io { action: "write", path: "ada".into(), cause });
        }
        self.commits.fetch_add(1, Ordering::SeqCst);
        self.store.commit(follows, image)
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.store.insert(image)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.store.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.store.prune(owner, keep)
    }
}

#[test]
fn a_newer_save_overtakes_a_waiting_one_and_both_tickets_resolve() {
    let store = Gated::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert!(game.settled(), "nothing was handed over yet");
    let tickets: Vec<_> = (1..=50)
        .map(|xp| {
            game.write("xp", &[], Value::Int(xp)).unwrap();
            game.save()
        })
        .collect();
    assert!(tickets.iter().all(|ticket| ticket.poll().is_none()) && !game.settled(), "the gate is closed");
    assert!(tickets[0].wait_timeout(Duration::from_millis(5)).is_none());
    store.set_open(true);
    let newest = tickets.last().unwrap().wait().unwrap();
    assert!(tickets.iter().all(|ticket| ticket.wait().is_ok()));
    assert!(game.settled());
    assert!(store.commits.load(Ordering::SeqCst) <= 4, "one that was being written, and the newest, of each owner");
    assert_eq!(store.read(&ada(), newest.generation).unwrap().values["xp"], vestigum::image::Tree::Int(50));
    game.quit().unwrap();
}

#[test]
fn a_save_that_fails_is_tried_again_and_never_stops_play() {
    let store = Gated::default();
    store.set_open(true);
    let saver = Saver::new(store.clone());
    let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
    store.failures.store(9, Ordering::SeqCst);
    game.write("xp", &[], Value::Int(1)).unwrap();
    let ticket = game.save();
    let error = ticket.wait().unwrap_err().to_string();
    assert_eq!(error, "cannot write ada: the disk is full");
    assert_eq!(game.save_failure().unwrap().to_string(), error);
    assert!(!game.settled());
    saver.flush(Duration::from_secs(30)).unwrap();
    assert!(matches!(ticket.poll(), Some(Ok(_))), "an error is not the last word");
    assert!(game.save_failure().is_none());
    game.quit().unwrap();
}

#[test]
fn a_quit_that_takes_too_long_says_why_and_gives_the_session_back() {
    let store = Gated::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    game.write("xp", &[], Value::Int(7)).unwrap();
    let kept = game.quit_within(Duration::from_millis(20)).unwrap_err();
    assert_eq!(kept.to_string(), "the save was not durable after 20 ms");
    store.set_open(true);
    let mut game = *kept.session;
    game.write_add("xp", &[], Value::Int(1)).unwrap();
    game.quit().unwrap();
    assert_eq!(Session::peek(&spec(), &store, "ada").unwrap().value("xp", &[]), Ok(Value::Int(8)));
}

#[test]
fn two_players_of_one_process_share_the_device() {
    let store = MemoryStore::default();
    let saver = Saver::new(store.clone());
    let mut ada = Session::launch(&spec(), &saver, "ada").unwrap();
    ada.write("volume", &[], Value::Int(3)).unwrap();
    let mut ben = Session::launch(&spec(), &saver, "ben").unwrap();
    assert_eq!(ben.value("volume", &[]), Ok(Value::Int(3)), "not saved yet, and there all the same");
    ben.write("volume", &[], Value::Int(8)).unwrap();
    ada.sync_device();
    assert_eq!(ada.value("volume", &[]), Ok(Value::Int(8)));
    assert_eq!(ada.value("starts", &[]), Ok(Value::Int(2)), "each launch counts once");
    ada.write_add("volume", &[], Value::Int(1)).unwrap();
    ben.quit().unwrap();
    ada.quit().unwrap();
    assert_eq!(store.generations(&Owner::Device).unwrap(), [1], "ben's save had it all, ada's changed nothing");
    assert_eq!(Session::peek(&spec(), &store, "ben").unwrap().value("volume", &[]), Ok(Value::Int(9)));
}

#[test]
fn a_player_has_one_session_at_a_time() {
    let saver = Saver::new(MemoryStore::default());
    let game = Session::launch(&spec(), &saver, "ada").unwrap();
    let error = Session::launch(&spec(), &saver, "ada").unwrap_err();
    assert!(matches!(error, SessionError::AlreadyRunning { .. }), "{error}");
    let other = Spec::from_toml(&WORLD.replace("volume", "loudness")).unwrap();
    let error = Session::launch(&other, &saver, "ben").unwrap_err();
    assert!(matches!(error, SessionError::OtherSpec), "{error}");
    game.quit().unwrap();
    Session::launch(&other, &saver, "ben").unwrap().quit().unwrap();
    Session::launch(&spec(), &saver, "ada").unwrap().quit().unwrap();
}

/// Opens the store as another process has it: nobody can tell that both are the same.
fn elsewhere(store: &MemoryStore) -> WatchedStore<MemoryStore> {
    WatchedStore::new(store.clone(), 1)
}

/// The tickets of one of them failed for good.
#[test]
fn two_launches_on_clones_of_a_store_share_it_and_no_player_plays_twice() {
    let store = MemoryStore::default();
    let mut ada = Session::launch(&spec(), store.clone(), "ada").unwrap();
    let refused = Session::launch(&spec(), store.clone(), "ada").unwrap_err();
    assert!(matches!(refused, SessionError::AlreadyRunning { .. }), "{refused}");
    let mut ben = Session::launch(&spec(), store.clone(), "ben").unwrap();
    ada.write("volume", &[], Value::Int(3)).unwrap();
    ben.write("xp", &[], Value::Int(9)).unwrap();
    assert_eq!(ben.value("volume", &[]), Ok(Value::Int(3)), "they share the device");
    ada.save().wait().unwrap();
    ben.save().wait().unwrap();
    ada.quit().unwrap();
    ben.quit().unwrap();
}

/// Sessions that do not share a saver do not know of each other: the later one to save is told, and nothing is lost.
#[test]
fn two_savers_on_one_place_never_write_over_each_other() {
    let store = MemoryStore::default();
    let mut one = Session::launch(&spec(), store.clone(), "ada").unwrap();
    let mut other = Session::launch(&spec(), elsewhere(&store), "ada").unwrap();
    one.write("xp", &[], Value::Int(5)).unwrap();
    one.save().wait().unwrap();
    other.write("xp", &[], Value::Int(9)).unwrap();
    let error = other.save().wait().unwrap_err();
    assert!(matches!(*error, StoreError::Conflict { .. }), "{error}");
    one.quit().unwrap();
    assert_eq!(Session::peek(&spec(), &store, "ada").unwrap().value("xp", &[]), Ok(Value::Int(5)));
}

/// The error says "launch again", so the same process can.
#[test]
fn after_a_conflict_the_player_is_launched_again_on_what_is_there() {
    let store = MemoryStore::default();
    let saver = Saver::new(store.clone());
    let mut here = Session::launch(&spec(), &saver, "ada").unwrap();
    let mut there = Session::launch(&spec(), elsewhere(&store), "ada").unwrap();
    there.write("xp", &[], Value::Int(9)).unwrap();
    there.quit().unwrap();
    here.write("xp", &[], Value::Int(5)).unwrap();
    let refused = here.save();
    assert!(matches!(*refused.wait().unwrap_err(), StoreError::Conflict { .. }));
    drop(here);
    let mut again = Session::launch(&spec(), &saver, "ada").unwrap();
    assert_eq!(again.value("xp", &[]), Ok(Value::Int(9)));
    again.write("xp", &[], Value::Int(10)).unwrap();
    again.quit().unwrap();
    // What was refused stays refused, though newer saves are durable.
    assert!(matches!(refused.poll(), Some(Err(error)) if matches!(*error, StoreError::Conflict { .. })));
    assert!(saver.settled());
}

#[test]
fn what_was_handed_over_is_written_though_the_session_is_dropped() {
    let store = Gated::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    game.write("xp", &[], Value::Int(5)).unwrap();
    game.save();
    store.set_open(true);
    drop(game);
    let again = Session::launch(&spec(), store, "ada").unwrap();
    assert_eq!(again.value("xp", &[]), Ok(Value::Int(5)));
    again.quit().unwrap();
}

/// A long session leaves no long tail of files, and the thread that prunes never takes the newest.
#[test]
fn a_long_session_is_pruned_while_it_runs() {
    let store = MemoryStore::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    for xp in 1..=200 {
        game.write("xp", &[], Value::Int(xp)).unwrap();
        game.save().wait().unwrap();
    }
    let there = store.generations(&ada()).unwrap();
    assert!(there.len() < 60 && there.last() == Some(&200), "{there:?}");
    game.quit().unwrap();
}

/// A store that panics takes its thread along; whoever waits is told.
#[test]
fn a_store_that_panics_fails_the_saves_and_nothing_else() {
    struct Panics;
    impl Store for Panics {
        fn owners(&self) -> Result<Vec<Owner>, StoreError> {
            Ok(Vec::new())
        }
        fn generations(&self, _: &Owner) -> Result<Vec<u64>, StoreError> {
            Ok(Vec::new())
        }
        fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
            Err(StoreError::NoGeneration { owner: owner.clone(), generation })
        }
        fn commit(&self, _: u64, _: &Image) -> Result<Committed, StoreError> {
            panic!("a mistake in the store")
        }
        fn insert(&self, _: &Image) -> Result<Committed, StoreError> {
            panic!("a mistake in the store")
        }
        fn remove_before(&self, _: &Owner, _: u64) -> Result<usize, StoreError> {
            Ok(0)
        }
        fn prune(&self, _: &Owner, _: u32) -> Result<Pruned, StoreError> {
            Ok(Pruned::default())
        }
    }
    let mut game = Session::launch(&spec(), Panics, "ada").unwrap();
    assert!(matches!(*game.save().wait().unwrap_err(), StoreError::Closed));
    game.write("xp", &[], Value::Int(5)).unwrap();
    let kept = game.quit().unwrap_err();
    assert_eq!(kept.session.value("xp", &[]), Ok(Value::Int(5)));
}

/// Whoever reports an error with all its sources tells each thing once.
#[test]
fn an_error_and_its_sources_say_nothing_twice() {
    fn chain(error: &dyn std::error::Error) -> String {
        let mut text = error.to_string();
        let mut source = error.source();
        while let Some(error) = source {
            text.push_str(&format!("; {error}"));
            source = error.source();
        }
        text
    }
    let store = Gated::default();
    store.set_open(true);
    store.failures.store(u32::MAX, Ordering::SeqCst);
    let mut game = Session::launch(&spec(), store, "ada").unwrap();
    game.write("xp", &[], Value::Int(1)).unwrap();
    let error = game.save().wait().unwrap_err();
    assert_eq!(chain(&error).matches("the disk is full").count(), 1, "{}", chain(&error));
    let kept = game.quit_within(Duration::from_millis(20)).unwrap_err();
    assert_eq!(chain(&kept).matches("the disk is full").count(), 1, "{}", chain(&kept));
    let wrapped = SessionError::from(StoreError::Io {
        action: "read",
        path: "saves".into(),
        cause: std::io::Error::other("the disk is gone"),
    });
    assert_eq!(chain(&wrapped), "cannot read saves: the disk is gone");
}

/// A game with one number, and a store in memory.
fn counted() -> (Spec, MemoryStore) {
    let text = "[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
    (Spec::from_toml(text).unwrap(), MemoryStore::default())
}

#[test]
fn a_save_whose_answer_was_lost_is_followed_by_the_next() {
    let (spec, saves) = counted();
    let xp = spec.int("xp").unwrap();
    let flaky = FlakyStore::new(saves.clone(), 1).lose_one_answer_in(1);
    let mut game = Session::launch(&spec, flaky.clone(), "ada").unwrap();
    game.add(xp, 1).unwrap();
    let lost = game.save();
    while flaky.counts().lost_answers == 0 {
        std::thread::yield_now();
    }
    // The save is there, and nobody knows; the game plays on.
    game.add(xp, 1).unwrap();
    game.save();
    flaky.calm();
    game.settle(Duration::from_secs(20)).unwrap();
    assert!(matches!(lost.poll(), Some(Ok(_))));
    game.quit().unwrap();
    assert_eq!(Session::launch(&spec, saves.clone(), "ada").unwrap().get(xp), 2);
    // What somebody else wrote is a conflict as before.
    let mut game = Session::launch(&spec, saves.clone(), "ada").unwrap();
    let mut other = Session::launch(&spec, elsewhere(&saves), "ada").unwrap();
    other.add(xp, 5).unwrap();
    other.quit().unwrap();
    game.add(xp, 1).unwrap();
    let refused = game.save().wait().unwrap_err();
    assert!(matches!(*refused, StoreError::Conflict { .. }), "{refused}");
}

#[test]
fn a_launch_takes_no_older_save_because_the_store_fails() {
    let (spec, saves) = counted();
    let xp = spec.int("xp").unwrap();
    for _ in 0..3 {
        let mut game = Session::launch(&spec, saves.clone(), "ada").unwrap();
        game.add(xp, 1).unwrap();
        game.quit().unwrap();
    }
    let flaky = FlakyStore::new(saves.clone(), 3).fail_one_in(2);
    let mut refused = 0;
    for _ in 0..60 {
        match Session::launch(&spec, flaky.clone(), "ada") {
            Ok(game) => assert_eq!(game.get(xp), 3),
            Err(_) => refused += 1,
        }
    }
    // Each is asked for five times.
    assert!(refused > 3 && refused < 60, "{refused} of 60 launches were refused");
}
