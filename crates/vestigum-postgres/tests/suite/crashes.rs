//! Databases and servers that are killed while players are saved, and servers that stand still.
//!
//! `VESTIGUM_KILLS=100 cargo test --release -p vestigum-postgres --test suite crashes` kills as often as that; left out, a few times.
#![cfg(unix)]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use vestigum::roster::{JoinError, Roster, RosterEvent, RosterOptions};
use vestigum::{Handle, Owner, Progress, SaveTicket, Spec, Store, StoreError};
use vestigum_postgres::{PostgresOptions, PostgresStore};
use vestigum_testing::postgres_server::PostgresServer;

const SPEC: &str = "[game]\nid = \"fellpost\"\n[save]\nkeep = 3\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

const URL: &str = "VESTIGUM_CARRIER_URL";
const SCHEMA: &str = "VESTIGUM_CARRIER_SCHEMA";

/// Time that the lease runs of the server that is a process of its own.
const LEASE: Duration = Duration::from_millis(500);
const LONG: Duration = Duration::from_secs(60);

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn xp() -> Handle<i64> {
    spec().int("xp").unwrap()
}

fn kills(otherwise: u64) -> u64 {
    std::env::var("VESTIGUM_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(otherwise)
}

fn options(url: &str, schema: &str) -> PostgresOptions {
    PostgresOptions::new(url).unwrap().schema(schema).patience(Duration::from_secs(1))
}

/// Lists what the saves of a player say, the oldest first.
fn saved(store: &dyn Store, player: &str) -> Vec<i64> {
    let owner = Owner::Profile(player.to_owned());
    let mut saved = Vec::new();
    for generation in store.generations(&owner).unwrap() {
        match store.read(&owner, generation) {
            Ok(image) => saved.push(Progress::launch(&spec(), Some(&image), None).unwrap().progress.get(xp())),
            // A server that runs prunes.
            Err(StoreError::NoGeneration { .. }) => {}
            Err(error) => panic!("{player}, generation {generation}: {error}"),
        }
    }
    saved
}

/// The database is killed, or stopped as an administrator does, and started again, while forty players are saved all the time. What was
/// acknowledged must be there, and what is there must have been handed over.
#[test]
fn no_acknowledged_save_is_lost_when_the_database_is_killed() {
    let Some(server) = PostgresServer::start() else { return };
    let schema = server.new_schema();
    let store = options(&server.url(), &schema).prepare().unwrap();
    let mut roster = Roster::new(&spec(), store.clone(), RosterOptions::new("server 1"));
    let names: Vec<String> = (0..40).map(|number| format!("carrier {number}")).collect();
    for ticket in names.iter().map(|name| roster.join(name)).collect::<Vec<_>>() {
        ticket.wait().unwrap();
    }
    let mut acknowledged: BTreeMap<&str, i64> = names.iter().map(|name| (name.as_str(), 0)).collect();
    let mut waiting: Vec<(&str, i64, SaveTicket)> = Vec::new();
    for kill in 0..kills(3) {
        std::thread::scope(|scope| {
            let database = scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(150 + kill * 37 % 100));
                if kill % 3 == 2 {
                    server.stop();
                } else {
                    server.kill();
                }
                std::thread::sleep(Duration::from_millis(100));
                server.restart();
                std::thread::sleep(Duration::from_millis(200));
            });
            while !database.is_finished() {
                for name in &names {
                    let player = roster.get_mut(name).unwrap();
                    player.add(xp(), 1).unwrap();
                    let now = player.get(xp());
                    waiting.push((name, now, player.save()));
                }
                for event in roster.tick() {
                    assert!(matches!(event, RosterEvent::Joined { .. }), "{event:?}");
                }
                waiting.retain(|(name, value, ticket)| match ticket.poll() {
                    Some(Ok(_)) => {
                        let most = acknowledged.get_mut(name).unwrap();
                        *most = (*most).max(*value);
                        false
                    }
                    Some(Err(error)) => {
                        // It stays with the saver, which tries it again.
                        assert!(error.may_pass(), "nobody else writes: {error}");
                        true
                    }
                    None => true,
                });
                std::thread::sleep(Duration::from_millis(2));
            }
        });
        // Everything that was acknowledged by now is there, whatever the roster has in memory.
        for (name, most) in &acknowledged {
            let saved = saved(&store, name);
            assert!(
                saved.is_sorted() && saved.last().is_some_and(|xp| xp >= most),
                "{name}: {saved:?}, {most} was told"
            );
        }
    }
    assert!(acknowledged.values().all(|most| *most > 10), "{acknowledged:?}");
    let last: BTreeMap<&String, i64> = names.iter().map(|name| (name, roster.get(name).unwrap().get(xp()))).collect();
    let told = roster.shutdown(LONG);
    assert!(told.all_durable(), "{told:?}");
    for (name, xp) in last {
        assert_eq!(saved(&store, name).last(), Some(&xp), "{name}");
    }
}

/// Plays the other servers of these tests: this program calls itself.
#[test]
#[ignore = "the tests of this file start it as a process of its own"]
fn carrier() {
    let (url, schema) = (std::env::var(URL).expect("a URL"), std::env::var(SCHEMA).expect("a schema"));
    let store = options(&url, &schema).connect().expect("the database is there");
    let mut roster = Roster::new(&spec(), store, RosterOptions::new("server 1").lease(LEASE));
    roster.join("ada").wait().expect("the server takes its players back");
    println!("joined {}", roster.get_mut("ada").expect("she is here").get(xp()));
    loop {
        for event in roster.tick() {
            if let RosterEvent::Lost { why, .. } = event {
                println!("lost {why}");
                return;
            }
        }
        let Some(ada) = roster.get_mut("ada") else { continue };
        ada.add(xp(), 1).expect("play writes it");
        let (now, ticket) = (ada.get(xp()), ada.save());
        match ticket.wait() {
            Ok(_) => println!("durable {now}"),
            Err(error) => println!("failed {error}"),
        }
    }
}

fn start(url: &str, schema: &str) -> (Child, impl Iterator<Item = String> + use<>) {
    let mut program = Command::new(std::env::current_exe().expect("this program has a path"));
    program.args(["--exact", "crashes::carrier", "--ignored", "--nocapture", "--test-threads=1", "-q"]);
    program.env(URL, url).env(SCHEMA, schema).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = program.spawn().expect("this program runs");
    let lines = BufReader::new(child.stdout.take().expect("it is piped")).lines().map_while(Result::ok);
    (child, lines.filter(|line| ["joined", "durable", "lost", "failed"].iter().any(|word| line.starts_with(word))))
}

fn number(line: &str) -> i64 {
    line.split(' ').nth(1).and_then(|number| number.parse().ok()).unwrap_or_else(|| panic!("no number in `{line}`"))
}

fn signal(child: &Child, signal: &str) {
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
}

fn on_a_shared_server() -> Option<(String, String, PostgresStore)> {
    let server = PostgresServer::shared()?;
    let schema = server.new_schema();
    let store = options(&server.url(), &schema).prepare().unwrap();
    Some((server.url(), schema, store))
}

#[test]
fn no_acknowledged_save_is_lost_when_a_server_is_killed() {
    let Some((url, schema, store)) = on_a_shared_server() else { return };
    let mut durable = 0;
    for kill in 0..kills(6) {
        let (mut child, mut lines) = start(&url, &schema);
        let joined = lines.next().expect("it joins");
        assert!(number(&joined) >= durable, "kill {kill}: {joined}, and {durable} was durable");
        durable = lines.next().map_or(durable, |line| number(&line));
        std::thread::sleep(Duration::from_millis(kill * 7 % 40));
        child.kill().expect("it runs");
        child.wait().expect("it was killed");
        durable = lines.filter(|line| line.starts_with("durable")).map(|line| number(&line)).max().unwrap_or(durable);
    }
    assert!(saved(&store, "ada").last().is_some_and(|xp| *xp >= durable));
}

/// A server that stands still for longer than its lease, and then goes on as if nothing had been.
#[test]
fn a_server_that_stood_still_for_longer_than_its_lease_cannot_overwrite() {
    let Some((url, schema, store)) = on_a_shared_server() else { return };
    let (mut child, mut lines) = start(&url, &schema);
    for _ in 0..20 {
        lines.next().expect("it plays");
    }
    let mut second = Roster::new(&spec(), store.clone(), RosterOptions::new("server 2"));
    let told = second.join("ada").wait().unwrap_err();
    assert!(matches!(&*told, JoinError::Held { holder, .. } if holder == "server 1"), "{told}");
    signal(&child, "-STOP");
    let stopped = Instant::now();
    second.join_within("ada", LONG).wait().unwrap();
    assert!(stopped.elapsed() >= LEASE / 3, "the lease was taken while it ran: {:?}", stopped.elapsed());
    let ada = second.get_mut("ada").unwrap();
    let taken = ada.get(xp());
    ada.add(xp(), 1_000).unwrap();
    ada.save().wait().unwrap();
    signal(&child, "-CONT");
    let mut durable = 0;
    let mut lost = None;
    for line in lines {
        match line.split(' ').next() {
            Some("durable") => durable = number(&line),
            Some("lost") => lost = Some(line),
            _ => assert!(line.contains("lease on profile ada") || line.contains("lost"), "{line}"),
        }
    }
    assert!(child.wait().unwrap().success());
    assert!(lost.is_some_and(|lost| lost.contains("server 2") || lost.contains("ran out")), "the server was not told");
    assert!(durable <= taken, "{durable} was told as durable, and {taken} was taken over");
    let ada = second.get_mut("ada").unwrap();
    ada.add(xp(), 1).unwrap();
    assert!(second.shutdown(LONG).all_durable());
    assert_eq!(saved(&store, "ada").last(), Some(&(taken + 1_001)));
}
