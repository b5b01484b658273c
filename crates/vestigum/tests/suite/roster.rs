//! The players of servers: who may write, what is saved when, and what a server is told.

use std::time::{Duration, Instant};

use vestigum::roster::{JoinError, PlayerState, Roster, RosterEvent, RosterOptions};
use vestigum::{DirStore, Handle, MemoryStore, Owner, Session, SessionError, Spec, Store, StoreError, Value};
use vestigum_testing::watched_store::WatchedStore;

const SPEC: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[save]\nkeep = 2\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.volume]\ntype = \"int\"\ndefault = 70\nlasts = \"device\"\n";

const LONG: Duration = Duration::from_secs(60);

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn xp() -> Handle<i64> {
    spec().int("xp").unwrap()
}

fn saved(store: &dyn Store, player: &str) -> i64 {
    Session::peek(&spec(), store, player).unwrap().get(xp())
}

/// Ticks until something holds.
fn until(roster: &mut Roster, what: &str, mut holds: impl FnMut(&mut Roster, &[RosterEvent]) -> bool) {
    let began = Instant::now();
    loop {
        let events = roster.tick();
        if holds(roster, &events) {
            return;
        }
        assert!(began.elapsed() < Duration::from_secs(20), "{what} did not happen");
        std::thread::sleep(Duration::from_millis(1));
    }
}

fn earn(roster: &mut Roster, player: &str, amount: i64) {
    roster.get_mut(player).unwrap().add(xp(), amount).unwrap();
}

#[test]
fn players_join_play_leave_and_come_back() {
    let store = MemoryStore::default();
    let mut roster = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    for name in ["ada", "bo", "cy"] {
        roster.join(name);
    }
    let mut told = Vec::new();
    until(&mut roster, "all joining", |roster, events| {
        told.extend(events.iter().map(|event| format!("{event:?}")));
        roster.len() == 3
    });
    told.sort();
    assert_eq!(told[0], "Joined { player: \"ada\" }");
    assert_eq!(told.len(), 3);
    assert!(matches!(&*roster.join("ada").wait().unwrap_err(), JoinError::AlreadyHere { .. }));
    let names = roster.players().count();
    assert_eq!((names, roster.is_empty()), (3, false));
    earn(&mut roster, "ada", 5);
    let left = roster.leave("ada").unwrap();
    // Who comes back at once waits for that save.
    let back = roster.join("ada");
    back.wait().unwrap();
    left.wait().unwrap();
    assert_eq!(roster.get_mut("ada").unwrap().get(xp()), 5);
    earn(&mut roster, "ada", 2);
    earn(&mut roster, "bo", 1);
    let told = roster.shutdown(LONG);
    assert_eq!(told.durable, ["ada", "bo", "cy"]);
    assert!(told.all_durable());
    assert_eq!((saved(&store, "ada"), saved(&store, "bo"), saved(&store, "cy")), (7, 1, 0));
    // The leases are given back: anybody may write.
    Session::launch(&spec(), store, "ada").unwrap().quit().unwrap();
}

#[test]
fn a_player_is_on_one_server_at_a_time() {
    let store = MemoryStore::default();
    let mut first = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    let mut second = Roster::new(&spec(), store.clone(), RosterOptions::new("server 2"));
    first.join("ada").wait().unwrap();
    let told = second.join("ada").wait().unwrap_err();
    assert!(matches!(&*told, JoinError::Held { holder, .. } if holder == "server 1"), "{told}");
    assert!(told.to_string().starts_with("ada plays on `server 1`"), "{told}");
    // Tools that hold no lease do not write either.
    let tool = Session::launch(&spec(), store.clone(), "ada").unwrap().quit().map(drop);
    assert!(matches!(&*tool.unwrap_err().error, StoreError::Leased { .. }));
    let waits = second.join_within("ada", LONG);
    std::thread::sleep(Duration::from_millis(20));
    assert!(waits.poll().is_none());
    assert!(matches!(second.state("ada"), Some(PlayerState::Joining)));
    earn(&mut first, "ada", 5);
    first.leave("ada");
    waits.wait().unwrap();
    assert_eq!(second.get_mut("ada").unwrap().get(xp()), 5);
    assert!(first.state("ada").is_none());
    assert!(second.shutdown(LONG).all_durable());
    assert!(first.shutdown(LONG).durable.is_empty());
}

/// The first server is cut off for longer than its leases run. It is told so by its own clock, and can write nothing over what the second
/// one wrote; of a player whom nobody took it loses nothing.
#[test]
fn a_server_that_was_cut_off_overwrites_nothing() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let options = RosterOptions::new("server 1").lease(Duration::from_millis(300));
    let mut first = Roster::new(&spec(), way.clone(), options);
    let mut second = Roster::new(&spec(), store.clone(), RosterOptions::new("server 2"));
    first.join("ada").wait().unwrap();
    first.join("bo").wait().unwrap();
    earn(&mut first, "ada", 5);
    assert!(first.save_all().wait(LONG).all_durable());
    assert_eq!(first.tick().len(), 2);
    way.cut_off(true);
    earn(&mut first, "ada", 100);
    first.save_all();
    earn(&mut first, "bo", 3);
    let mut lost = Vec::new();
    until(&mut first, "both leases running out", |_, events| {
        lost.extend(events.to_vec());
        lost.len() == 2
    });
    for event in &lost {
        let RosterEvent::Lost { why, .. } = event else { panic!("{lost:?}") };
        assert!(matches!(**why, StoreError::LeaseRanOut { .. }), "{why}");
    }
    assert!(first.is_empty() && matches!(first.state("ada"), Some(PlayerState::Leaving)));
    second.join_within("ada", LONG).wait().unwrap();
    assert_eq!(second.get_mut("ada").unwrap().get(xp()), 5);
    earn(&mut second, "ada", 1);
    assert!(second.save_all().wait(LONG).all_durable());
    way.cut_off(false);
    until(&mut first, "the last save of bo", |_, _| saved(&store, "bo") == 3);
    assert!(second.shutdown(LONG).all_durable());
    // Both can come back.
    first.join_within("ada", LONG).wait().unwrap();
    first.join_within("bo", LONG).wait().unwrap();
    earn(&mut first, "ada", 10);
    let told = first.shutdown(LONG);
    assert_eq!(told.durable, ["ada", "bo"]);
    assert_eq!((saved(&store, "ada"), saved(&store, "bo")), (16, 3));
}

/// Somebody writes for a player around the leases: what is played from then on can never be saved, and the server is told.
#[test]
fn a_conflict_is_told_and_the_player_can_come_back() {
    let folder = tempfile::tempdir().unwrap();
    let store = DirStore::open(folder.path()).unwrap();
    let mut roster = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    roster.join("ada").wait().unwrap();
    earn(&mut roster, "ada", 5);
    assert!(roster.save_all().wait(LONG).all_durable());
    roster.tick();
    let ada = Owner::Profile("ada".into());
    let mut image = store.read(&ada, 1).unwrap();
    image.values.insert("xp".into(), vestigum::image::Tree::Int(50));
    store.commit(1, &image).unwrap();
    earn(&mut roster, "ada", 1);
    roster.save_all();
    let mut lost = Vec::new();
    until(&mut roster, "the conflict", |_, events| {
        lost.extend(events.to_vec());
        !lost.is_empty()
    });
    let [RosterEvent::Lost { player, why }] = &lost[..] else { panic!("{lost:?}") };
    assert!(player == "ada" && matches!(**why, StoreError::Conflict { .. }), "{why}");
    roster.join("ada").wait().unwrap();
    assert_eq!(roster.get_mut("ada").unwrap().get(xp()), 50);
    assert!(roster.shutdown(LONG).all_durable());
}

/// One lease that nobody gets an answer for ate the time in which everybody else was to be saved.
#[test]
fn a_shutdown_saves_before_it_waits_for_who_is_coming_in() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1"));
    for name in ["ada", "bo"] {
        roster.join(name).wait().unwrap();
        earn(&mut roster, name, 5);
    }
    way.hold_lease_of(Some("cy"));
    roster.join("cy");
    let told = roster.shutdown(Duration::from_millis(500));
    assert_eq!(told.durable, ["ada", "bo"]);
    assert_eq!((saved(&store, "ada"), saved(&store, "bo")), (5, 5));
    way.hold_lease_of(None);
}

/// Thousands who wait for another server do not stand before a player whom nobody has.
#[test]
fn who_waits_for_another_server_holds_up_nobody() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    for number in 0..200 {
        let player = Owner::Profile(format!("player {number}"));
        store.lease(&player, "server 2", LONG).unwrap();
    }
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1").loaders(1));
    for number in 0..200 {
        roster.join_within(&format!("player {number}"), LONG);
    }
    // All have been asked for once, and are asked for again and again.
    until(&mut roster, "everybody being asked for", |_, _| way.leases().len() > 400);
    // While the only loader is held up, nobody is asked for between the count and the join.
    way.hold_lease_of(Some("player 7"));
    until(&mut roster, "the loader being held up", |_, _| way.holds_up());
    let before = way.leases().len();
    let joined = roster.join("ada");
    way.hold_lease_of(None);
    joined.wait().unwrap();
    let leases = way.leases();
    let first = leases[before..].iter().position(|owner| *owner == Owner::Profile("ada".into())).unwrap();
    assert!(first <= 2, "{first} were asked for first");
    roster.shutdown(LONG);
}

/// A report about a lease that is long gone must not throw out a player who has come back.
#[test]
fn a_late_loss_throws_out_nobody_who_has_come_back() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let options = RosterOptions::new("server 1").lease(Duration::from_millis(200));
    let mut first = Roster::new(&spec(), way.clone(), options);
    first.join("ada").wait().unwrap();
    first.tick();
    earn(&mut first, "ada", 5);
    way.hold_commits(true);
    let left = first.leave("ada").unwrap();
    // Another server takes the player while that save is held up, and gives it back.
    let ada = Owner::Profile("ada".into());
    way.cut_off(true);
    let began = Instant::now();
    let lease = loop {
        match store.lease(&ada, "server 2", Duration::from_millis(1)) {
            Ok(lease) => break lease,
            Err(_) => assert!(began.elapsed() < LONG),
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    way.cut_off(false);
    store.release(&[lease]).unwrap();
    way.hold_commits(false);
    assert!(left.wait().is_err(), "the lease was lost");
    first.join_within("ada", LONG).wait().unwrap();
    let events = first.tick();
    assert!(matches!(&events[..], [RosterEvent::Joined { player }] if player == "ada"), "{events:?}");
    assert!(first.tick().is_empty() && first.get_mut("ada").is_some());
    first.shutdown(LONG);
}

/// A player who leaves keeps the lease until the last save is durable. The pause between its tries once grew to 10 seconds under a lease of
/// 2, which was renewed meanwhile: no other server could have the player, though the store had been well for a while.
#[test]
fn a_save_that_failed_often_does_not_hold_the_lease_back() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let options = RosterOptions::new("server 1").lease(Duration::from_millis(400));
    let mut first = Roster::new(&spec(), way.clone(), options);
    first.join("ada").wait().unwrap();
    earn(&mut first, "ada", 5);
    // With a pause that doubles without an end, these take 50 seconds.
    way.refuse_commits(10);
    first.leave("ada").unwrap();
    let mut second = Roster::new(&spec(), store.clone(), RosterOptions::new("server 2"));
    second.join_within("ada", Duration::from_secs(8)).wait().unwrap();
    assert_eq!(second.get_mut("ada").unwrap().get(xp()), 5);
    first.shutdown(LONG);
    second.shutdown(LONG);
}

/// A player who comes back at once is loaded with the last save, not with the one before.
#[test]
fn who_comes_back_waits_for_the_last_save() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1"));
    roster.join("ada").wait().unwrap();
    earn(&mut roster, "ada", 5);
    way.hold_commits(true);
    roster.leave("ada").unwrap();
    let back = roster.join("ada");
    std::thread::sleep(Duration::from_millis(50));
    assert!(back.poll().is_none(), "the last save is on its way");
    way.hold_commits(false);
    back.wait().unwrap();
    assert_eq!(roster.get_mut("ada").unwrap().get(xp()), 5);
    roster.shutdown(LONG);
}

#[test]
fn a_server_that_is_started_again_takes_its_players_back() {
    let store = MemoryStore::default();
    let mut died = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1").lease(LONG));
    died.join("ada").wait().unwrap();
    earn(&mut died, "ada", 5);
    assert!(died.save_all().wait(LONG).all_durable());
    let mut again = Roster::new(&spec(), store, RosterOptions::new("server 1"));
    again.join("ada").wait().unwrap();
    assert_eq!(again.get_mut("ada").unwrap().get(xp()), 5);
    // Were the first one alive still, it would hear of it.
    earn(&mut died, "ada", 1);
    died.save_all();
    until(&mut died, "the loss", |_, events| events.iter().any(|event| matches!(event, RosterEvent::Lost { .. })));
}

#[test]
fn only_those_who_did_something_are_saved_and_each_in_its_time() {
    let way = WatchedStore::new(MemoryStore::default(), 16);
    let options = RosterOptions::new("server 1").autosave(Duration::from_millis(200));
    let mut roster = Roster::new(&spec(), way.clone(), options);
    for number in 0..20 {
        roster.join(&format!("carrier {number}")).wait().unwrap();
    }
    assert_eq!(way.commits(), 0);
    earn(&mut roster, "carrier 3", 5);
    until(&mut roster, "the autosave", |_, _| saved(&way, "carrier 3") == 5);
    let began = Instant::now();
    until(&mut roster, "time", |_, _| began.elapsed() > Duration::from_millis(500));
    assert_eq!(way.commits(), 1);
    roster.shutdown(LONG);
    assert_eq!(way.commits(), 1);
}

#[test]
fn a_budget_holds_saves_back_and_puts_them_together() {
    let way = WatchedStore::new(MemoryStore::default(), 16);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1").commits_a_second(40));
    for number in 0..10 {
        roster.join(&format!("carrier {number}")).wait().unwrap();
    }
    let began = Instant::now();
    while began.elapsed() < Duration::from_millis(500) {
        for number in 0..10 {
            earn(&mut roster, &format!("carrier {number}"), 1);
        }
        roster.save_all();
        std::thread::sleep(Duration::from_millis(2));
    }
    let (commits, elapsed) = (way.commits(), began.elapsed());
    assert!(commits as f64 <= 12.0 + elapsed.as_secs_f64() * 40.0, "{commits} in {elapsed:?}");
    assert!(commits > 5, "{commits} in {elapsed:?}");
    // The end does not wait for it.
    let earned = roster.get_mut("carrier 9").unwrap().get(xp());
    assert!(roster.shutdown(LONG).all_durable());
    assert_eq!(saved(&way, "carrier 9"), earned);
}

#[test]
fn many_players_are_saved_in_batches() {
    let way = WatchedStore::new(MemoryStore::default(), 64);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1"));
    let tickets: Vec<_> = (0..1_000).map(|number| roster.join(&format!("carrier {number}"))).collect();
    tickets.iter().for_each(|ticket| ticket.wait().unwrap());
    assert!(roster.save_all().wait(LONG).all_durable());
    let (before, _) = way.batches();
    way.hold(true);
    for number in 1..1_000 {
        earn(&mut roster, &format!("carrier {number}"), number);
    }
    let saving = roster.save_all();
    assert_eq!(saving.poll().durable.len(), 1, "who earned nothing");
    way.hold(false);
    assert!(saving.wait(LONG).all_durable());
    let (after, largest) = way.batches();
    assert!(after - before < 60 && largest == 64, "{} batches, the largest of {largest}", after - before);
    let told = roster.shutdown(LONG);
    assert_eq!(told.durable.len(), 1_000);
    assert_eq!(saved(&way, "carrier 999"), 999);
}

#[test]
fn a_shutdown_takes_no_longer_than_it_may_and_names_who_is_not_durable() {
    let way = WatchedStore::new(MemoryStore::default(), 16);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1"));
    for name in ["ada", "bo", "cy"] {
        roster.join(name).wait().unwrap();
    }
    assert!(roster.save_all().wait(LONG).all_durable());
    way.hold(true);
    earn(&mut roster, "ada", 5);
    earn(&mut roster, "bo", 5);
    roster.leave("bo");
    let waits = roster.join("dee");
    let began = Instant::now();
    let told = roster.shutdown(Duration::from_millis(150));
    assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
    assert_eq!(told.durable, ["cy"]);
    let missing: Vec<&str> = told.not_durable.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(missing, ["ada", "bo"]);
    way.hold(false);
    // Who was on the way in is told something, sooner or later.
    assert!(waits.wait().is_ok() || matches!(&*waits.wait().unwrap_err(), JoinError::ShuttingDown));
}

#[test]
fn who_leaves_before_coming_in_is_let_go() {
    let store = MemoryStore::default();
    let way = WatchedStore::new(store.clone(), 16);
    let mut roster = Roster::new(&spec(), way.clone(), RosterOptions::new("server 1"));
    way.hold(true);
    let ticket = roster.join("ada");
    assert!(roster.leave("ada").is_none());
    way.hold(false);
    ticket.wait().unwrap();
    until(&mut roster, "the end", |roster, events| {
        assert!(events.is_empty(), "{events:?}");
        roster.state("ada").is_none()
    });
    assert!(store.lease(&Owner::Profile("ada".into()), "another", LONG).is_ok());
    roster.shutdown(LONG);
}

#[test]
fn what_cannot_be_loaded_is_told_and_held_by_nobody() {
    let store = MemoryStore::default();
    let other = Spec::from_toml(
        "[game]\nid = \"kennel\"\n[field.bones]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n",
    )
    .unwrap();
    Session::launch(&other, store.clone(), "ada").unwrap().quit().unwrap();
    let mut roster = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    let why = roster.join("ada").wait().unwrap_err();
    assert!(matches!(&*why, JoinError::Session(SessionError::Load(_))), "{why}");
    let long = "x".repeat(61);
    assert!(roster.join(&long).wait().is_err());
    until(&mut roster, "both refusals", |roster, events| {
        events.iter().all(|event| matches!(event, RosterEvent::Refused { .. })) && roster.state("ada").is_none()
    });
    assert!(store.lease(&Owner::Profile("ada".into()), "another", LONG).is_ok());
}

#[test]
fn a_server_has_no_device() {
    let store = MemoryStore::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    game.write("volume", &[], Value::Int(20)).unwrap();
    game.quit().unwrap();
    let mut roster = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    roster.join("ada").wait().unwrap();
    let ada = roster.get_mut("ada").unwrap();
    assert_eq!(ada.value("volume", &[]), Ok(Value::Int(70)));
    ada.write("volume", &[], Value::Int(1)).unwrap();
    assert!(roster.shutdown(LONG).all_durable());
    let game = Session::launch(&spec(), store, "ada").unwrap();
    assert_eq!(game.value("volume", &[]), Ok(Value::Int(20)));
    drop(game);
    // Values that an update would move to the device stay where they are.
    let field = |lasts: &str| format!("[field.volume]\ntype = \"int\"\nlasts = \"{lasts}\"\n");
    let before = format!("[game]\nid = \"fellpost\"\n{}after_failure = \"keep\"\n", field("profile"));
    let before = Spec::from_toml(&before).unwrap();
    let steps = "[[migration]]\nto = 2\nsteps = [{ move = \"volume\", to = \"device\" }]\n";
    let after = format!("[game]\nid = \"fellpost\"\nversion = 2\n{}{steps}", field("device"));
    let history = vestigum::History::default().freeze(&before).unwrap().history;
    let after =
        Spec::from_named_toml_with_history("spec.toml", &after, history).unwrap_or_else(|errors| panic!("{errors}"));
    let store = MemoryStore::default();
    let mut game = Session::launch(&before, store.clone(), "ada").unwrap();
    game.write("volume", &[], Value::Int(9)).unwrap();
    game.quit().unwrap();
    let mut roster = Roster::new(&after, store.clone(), RosterOptions::new("server 1"));
    let why = roster.join("ada").wait().unwrap_err();
    assert!(matches!(&*why, JoinError::Session(SessionError::MovesToDevice { .. })), "{why}");
    assert_eq!(Session::peek(&before, &store, "ada").unwrap().value("volume", &[]), Ok(Value::Int(9)));
}

/// Whoever waits for a player of another server hears of it when this one ends, however that comes.
#[test]
fn who_still_waits_when_a_server_ends_is_turned_away() {
    let store = MemoryStore::default();
    let mut first = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    first.join("ada").wait().unwrap();
    for ends in [|roster: Roster| drop(roster.shutdown(LONG)), |roster: Roster| drop(roster)] {
        for _ in 0..20 {
            let mut second = Roster::new(&spec(), store.clone(), RosterOptions::new("server 2"));
            let waits = second.join_within("ada", LONG);
            ends(second);
            assert!(matches!(&*waits.wait().unwrap_err(), JoinError::ShuttingDown));
        }
    }
}

/// "Never" and "for ever" are asked for with the longest time there is.
#[test]
fn the_longest_times_are_no_trouble() {
    let store = MemoryStore::default();
    let options = RosterOptions::new("server 1").lease(Duration::MAX).autosave(Duration::MAX);
    let mut roster = Roster::new(&spec(), store.clone(), options);
    roster.join_within("ada", Duration::MAX).wait().unwrap();
    earn(&mut roster, "ada", 5);
    roster.tick();
    assert_eq!(store.generations(&Owner::Profile("ada".into())).unwrap(), [0; 0]);
    let saving = roster.save_all();
    assert!(saving.wait(Duration::MAX).all_durable());
    assert!(roster.shutdown(Duration::MAX).all_durable());
    assert_eq!(saved(&store, "ada"), 5);
}
