//! A database that does not answer, though the way to it stays up, and rows that somebody has locked: nobody plays for long without a save
//! that is durable, and without being told; and what is stuck holds up nobody else.

use std::time::{Duration, Instant};

use postgres::{Client, NoTls};

use vestigum::roster::{PlayerState, Roster, RosterEvent, RosterOptions};
use vestigum::{Handle, Owner, Progress, Session, Spec, Store, StoreError, Value};
use vestigum_postgres::{PostgresOptions, PostgresStore};
use vestigum_testing::postgres_server::PostgresServer;
use vestigum_testing::proxy::Proxy;

const SPEC: &str = "[game]\nid = \"fellpost\"\n[save]\nkeep = 3\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.sketch]\ntype = \"blob\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

const LEASE: Duration = Duration::from_secs(2);
/// No player is locked out for longer than that, whatever happens to a server.
const LONGEST: Duration = Duration::from_secs(7);
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

/// A store that is reached directly, one that is reached through a proxy, and the way between.
fn ways(server: &PostgresServer) -> (PostgresStore, PostgresStore, Proxy, String) {
    let schema = server.new_schema();
    let options = |url: &str| PostgresOptions::new(url).unwrap().schema(&schema);
    let direct = options(&server.url()).prepare().unwrap();
    let proxy = Proxy::to(server.port());
    let through = server.url().replace(&format!(":{}", server.port()), &format!(":{}", proxy.port()));
    (direct, options(&through).connect().unwrap(), proxy, schema)
}

fn joined(roster: &mut Roster, names: &[&str]) {
    for ticket in names.iter().map(|name| roster.join(name)).collect::<Vec<_>>() {
        ticket.wait().unwrap();
    }
    roster.tick();
}

/// Plays with everyone until something holds; collects who is lost.
fn play_until(
    roster: &mut Roster,
    lost: &mut Vec<String>,
    what: &str,
    mut holds: impl FnMut(&Roster, &[String]) -> bool,
) {
    let began = Instant::now();
    loop {
        for event in roster.tick() {
            if let RosterEvent::Lost { player, why } = event {
                assert!(matches!(*why, StoreError::LeaseRanOut { .. } | StoreError::LeaseLost { .. }), "{why}");
                lost.push(player);
            }
        }
        let names: Vec<String> = roster.players().map(str::to_owned).collect();
        for name in names {
            let player = roster.get_mut(&name).unwrap();
            player.add(xp(), 1).unwrap();
            player.save();
        }
        if holds(roster, lost) {
            return;
        }
        assert!(began.elapsed() < LONG, "{what} did not happen");
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[test]
fn answers_that_vanish_are_told_before_the_lease_has_run_out() {
    let Some(server) = PostgresServer::shared() else { return };
    let (direct, through, proxy, _) = ways(server);
    let mut roster = Roster::new(&spec(), through, RosterOptions::new("server 1").lease(LEASE));
    joined(&mut roster, &["ada", "bo"]);
    let mut lost = Vec::new();
    play_until(&mut roster, &mut lost, "a save", |_, _| saved(&direct, "ada") > 3);
    proxy.swallow(true);
    let began = Instant::now();
    play_until(&mut roster, &mut lost, "a failure", |roster, lost| {
        matches!(roster.state("ada"), Some(PlayerState::Unsaved(_))) || !lost.is_empty()
    });
    play_until(&mut roster, &mut lost, "both being lost", |_, lost| lost.len() == 2);
    assert!(began.elapsed() < LONGEST, "{:?}", began.elapsed());
    // Another server has them at once, and what the first one had is refused.
    let mut second = Roster::new(&spec(), direct.clone(), RosterOptions::new("server 2").lease(LEASE));
    second.join_within("ada", LONG).wait().unwrap();
    assert!(began.elapsed() < LONGEST, "{:?}", began.elapsed());
    let ada = second.get_mut("ada").unwrap();
    ada.add(xp(), 1_000_000).unwrap();
    assert!(second.save_all().wait(LONG).all_durable());
    proxy.swallow(false);
    proxy.cut();
    roster.join_within("bo", LONG).wait().unwrap();
    assert!(second.shutdown(LONG).all_durable());
    roster.join_within("ada", LONG).wait().unwrap();
    assert!(roster.get_mut("ada").unwrap().get(xp()) > 1_000_000);
    assert!(roster.shutdown(LONG).all_durable());
}

/// One row that is locked made the saves of all end, and all leases run out.
///
/// Its lease is long: a busy disk answers seconds late now and then, and a lease of two seconds ran out by that alone.
#[test]
fn a_lease_that_is_locked_holds_up_nobody_else() {
    const LEASE: Duration = Duration::from_secs(10);
    let Some(server) = PostgresServer::shared() else { return };
    let (direct, _, _, schema) = ways(server);
    let mut roster = Roster::new(&spec(), direct.clone(), RosterOptions::new("server 1").lease(LEASE));
    let names: Vec<String> = (0..20).map(|number| format!("carrier {number}")).chain(["ada".to_owned()]).collect();
    joined(&mut roster, &names.iter().map(String::as_str).collect::<Vec<_>>());
    let mut client = Client::connect(&server.url(), NoTls).unwrap();
    let mut held = client.transaction().unwrap();
    held.query(&format!("SELECT * FROM {schema}.leases WHERE profile = 'ada' FOR UPDATE"), &[]).unwrap();
    let mut lost = Vec::new();
    let began = Instant::now();
    let before = saved(&direct, "carrier 7");
    play_until(&mut roster, &mut lost, "her lease running out", |_, lost| lost.contains(&"ada".to_owned()));
    // All others go on being saved for as long as it lasts.
    play_until(&mut roster, &mut lost, "one more lease", |_, _| began.elapsed() > 2 * LEASE);
    assert_eq!(lost, ["ada"]);
    assert!(saved(&direct, "carrier 7") > before + 20, "{before}, {}", saved(&direct, "carrier 7"));
    held.rollback().unwrap();
    roster.join_within("ada", LONG).wait().unwrap();
    assert!(roster.shutdown(LONG).all_durable());
}

/// A server that is cut off in the middle of a transaction has the rows locked, and the database did not notice for minutes.
#[test]
fn a_server_that_is_cut_off_in_its_transaction_locks_nobody_out() {
    let Some(server) = PostgresServer::shared() else { return };
    let (direct, through, proxy, _) = ways(server);
    let mut first = Roster::new(&spec(), through, RosterOptions::new("server 1").lease(LEASE));
    joined(&mut first, &["ada"]);
    let ada = first.get_mut("ada").unwrap();
    ada.write("sketch", &[], Value::Bytes(b"over the ford".as_slice().into())).unwrap();
    // The image is written, its row of the lease is locked, and nothing more arrives.
    proxy.end_before("INSERT INTO means");
    ada.save();
    let began = Instant::now();
    while !proxy.has_ended() {
        assert!(began.elapsed() < LONG);
        std::thread::sleep(Duration::from_millis(1));
    }
    proxy.swallow(true);
    let stood = Instant::now();
    let mut second = Roster::new(&spec(), direct.clone(), RosterOptions::new("server 2").lease(LEASE));
    loop {
        match second.join_within("ada", LONG).wait() {
            Ok(()) => break,
            Err(why) => assert!(stood.elapsed() < LONG, "{why}"),
        }
    }
    assert!(stood.elapsed() < LONGEST, "{:?}", stood.elapsed());
    assert!(second.shutdown(LONG).all_durable());
    let owner = Owner::Profile("ada".into());
    for generation in direct.generations(&owner).unwrap() {
        let image = direct.read(&owner, generation).unwrap();
        assert!(image.lost_blobs().is_empty() && Progress::load(&spec(), Some(&image), None).is_ok());
    }
    drop(first);
    proxy.swallow(false);
    proxy.cut();
}
