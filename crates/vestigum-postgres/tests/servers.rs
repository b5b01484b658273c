//! Three servers and forty players on one database, while servers are killed and stand still, the ways to the database are cut, slowed
//! down, swallowed and half closed, and the database is killed.
//!
//! What was acknowledged is there at the end, nothing is there that was not played on what was there before, and nobody is locked out for
//! longer than a lease and five seconds. `VESTIGUM_SERVERS_SECONDS` says for how long; left out, 20; CI takes 60, `scripts/hunt` 600.
#![cfg(unix)]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use postgres::{Client, NoTls};

use vestigum::roster::{JoinTicket, Roster, RosterEvent, RosterOptions};
use vestigum::{Handle, Owner, Progress, SaveTicket, Spec, Store, StoreError};
use vestigum_postgres::{PostgresOptions, PostgresStore};
use vestigum_testing::postgres_server::PostgresServer;
use vestigum_testing::proxy::Proxy;

const SPEC: &str = "[game]\nid = \"fellpost\"\n[save]\nkeep = 1000\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

const URL: &str = "VESTIGUM_SERVER_URL";
const SCHEMA: &str = "VESTIGUM_SERVER_SCHEMA";
const NAME: &str = "VESTIGUM_SERVER_NAME";

const PLAYERS: u64 = 40;
const LEASE: Duration = Duration::from_secs(2);
/// For how long a player stays on a server.
const STAYS: Duration = Duration::from_secs(1);
/// No lease runs for longer, whatever happens: a server that is well lets go when the player has left, and that of one that is not runs out.
/// A lease and five seconds, for as long as a player stays, and while the database begins anew.
const LONGEST: Duration = Duration::from_secs(2 + 5 + 1 + 4);

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn xp() -> Handle<i64> {
    spec().int("xp").unwrap()
}

fn connect(url: &str, schema: &str) -> PostgresOptions {
    PostgresOptions::new(url).unwrap().schema(schema)
}

/// Numbers that are the same every time for one seed.
struct Draw(u64);

impl Draw {
    fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % end
    }
}

/// Prints at once what is reported: a process may be killed after every line.
fn say(line: &str) {
    let mut out = std::io::stdout().lock();
    writeln!(out, "{line}").and_then(|()| out.flush()).expect("somebody reads it");
}

/// A server: this program calls itself.
#[test]
#[ignore = "the test of this file starts it as a process of its own"]
fn server() {
    let of = |name: &str| std::env::var(name).unwrap_or_else(|_| panic!("{name} is said"));
    let (url, schema, name) = (of(URL), of(SCHEMA), of(NAME));
    let store: PostgresStore = loop {
        match connect(&url, &schema).connect() {
            Ok(store) => break store,
            Err(_) => std::thread::sleep(Duration::from_millis(100)),
        }
    };
    let mut draw = Draw(u64::from(std::process::id()));
    let mut roster = Roster::new(&spec(), store, RosterOptions::new(name).lease(LEASE));
    let mut joins: BTreeMap<String, JoinTicket> = BTreeMap::new();
    let mut here: BTreeMap<String, Instant> = BTreeMap::new();
    let mut saves: Vec<(String, i64, SaveTicket)> = Vec::new();
    // It is killed long before.
    let began = Instant::now();
    while began.elapsed() < Duration::from_secs(3600) {
        if here.len() + joins.len() < 12 {
            let player = format!("carrier {}", draw.below(PLAYERS));
            if !here.contains_key(&player) {
                joins.entry(player.clone()).or_insert_with(|| roster.join_within(&player, LONGEST));
            }
        }
        for event in roster.tick() {
            if let RosterEvent::Lost { player, .. } = event {
                here.remove(&player);
            }
        }
        joins.retain(|player, ticket| match ticket.poll() {
            None => true,
            Some(Ok(())) => {
                // The player may have come since the last tick, and `get` shows that only after the next.
                if let Some(session) = roster.get_mut(player) {
                    say(&format!("joined {} {player}", session.get(xp())));
                    here.insert(player.clone(), Instant::now());
                }
                false
            }
            Some(Err(_)) => false,
        });
        let gone: Vec<String> =
            here.iter().filter(|(_, since)| since.elapsed() > STAYS).map(|(player, _)| player.clone()).collect();
        for player in gone {
            here.remove(&player);
            let now = roster.get(&player).map(|session| session.get(xp()));
            if let (Some(now), Some(ticket)) = (now, roster.leave(&player)) {
                saves.push((player, now, ticket));
            }
        }
        for player in here.keys() {
            if let Some(session) = roster.get_mut(player) {
                session.add(xp(), 1).expect("play writes it");
                if draw.below(4) == 0 {
                    let now = session.get(xp());
                    saves.push((player.clone(), now, session.save()));
                }
            }
        }
        saves.retain(|(player, now, ticket)| match ticket.poll() {
            Some(Ok(_)) => {
                say(&format!("durable {now} {player}"));
                false
            }
            Some(Err(error)) => error.may_pass(),
            None => true,
        });
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Collects what all servers reported.
#[derive(Default)]
struct Ledger {
    durable: BTreeMap<String, i64>,
    joined: u64,
}

/// Says for how long each lease has run without a break, as the database says; notes those that ran for too long.
fn watch_leases(url: &str, schema: &str, ends: &AtomicBool) -> Vec<String> {
    let sql =
        format!("SELECT profile, token, holder FROM {schema}.leases WHERE holder IS NOT NULL AND ends_at > now()");
    let mut since: BTreeMap<(String, i64), Instant> = BTreeMap::new();
    let mut stuck = Vec::new();
    while !ends.load(Ordering::SeqCst) {
        std::thread::sleep(Duration::from_millis(200));
        // While the database begins anew, nobody can be asked.
        let Ok(mut client) = Client::connect(url, NoTls) else { continue };
        let Ok(rows) = client.query(&sql, &[]) else { continue };
        let mut now = BTreeMap::new();
        for row in &rows {
            let (player, token, holder): (String, i64, String) = (row.get(0), row.get(1), row.get(2));
            let key = (player, token);
            let first = since.get(&key).copied().unwrap_or_else(Instant::now);
            if first.elapsed() > LONGEST {
                stuck.push(format!("{} is held by {holder} for {:?}", key.0, first.elapsed()));
            }
            now.insert(key, first);
        }
        since = now;
    }
    stuck
}

fn start(number: usize, url: &str, schema: &str, ledger: &Arc<Mutex<Ledger>>) -> Child {
    let mut program = Command::new(std::env::current_exe().expect("this program has a path"));
    program.args(["--exact", "server", "--ignored", "--nocapture", "--test-threads=1", "-q"]);
    program.env(URL, url).env(SCHEMA, schema).env(NAME, format!("server {number}"));
    let mut child = program.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("this program runs");
    let lines = BufReader::new(child.stdout.take().expect("it is piped")).lines();
    let ledger = ledger.clone();
    std::thread::spawn(move || {
        for line in lines.map_while(Result::ok) {
            let mut words = line.splitn(3, ' ');
            let (what, number, player) = (words.next(), words.next(), words.next());
            let number = number.and_then(|number| number.parse::<i64>().ok());
            let (Some(what), Some(number), Some(player)) = (what, number, player) else { continue };
            let mut ledger = ledger.lock().unwrap();
            match what {
                "durable" => {
                    let most = ledger.durable.entry(player.to_owned()).or_default();
                    *most = (*most).max(number);
                }
                "joined" => ledger.joined += 1,
                _ => {}
            }
        }
    });
    child
}

fn signal(child: &Child, signal: &str) {
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
}

/// Lists what the saves of a player say, the oldest first.
fn saved(store: &dyn Store, player: &str) -> Vec<i64> {
    let owner = Owner::Profile(player.to_owned());
    let mut saved = Vec::new();
    for generation in store.generations(&owner).unwrap() {
        match store.read(&owner, generation) {
            Ok(image) => saved.push(Progress::load(&spec(), Some(&image), None).unwrap().progress.get(xp())),
            Err(StoreError::NoGeneration { .. }) => {}
            Err(error) => panic!("{player}, generation {generation}: {error}"),
        }
    }
    saved
}

#[test]
fn nothing_acknowledged_is_lost_and_nobody_is_locked_out() {
    let Some(database) = PostgresServer::start() else { return };
    let seconds = std::env::var("VESTIGUM_SERVERS_SECONDS").ok().and_then(|seconds| seconds.parse().ok()).unwrap_or(20);
    let schema = database.new_schema();
    let store = connect(&database.url(), &schema).prepare().unwrap();
    let ledger = Arc::<Mutex<Ledger>>::default();
    let ways: Vec<Proxy> = (0..3).map(|_| Proxy::to(database.port())).collect();
    let url = |number: usize| {
        let (port, way) = (format!(":{}", database.port()), format!(":{}", ways[number].port()));
        database.url().replace(&port, &way)
    };
    let mut servers: Vec<Child> = (0..3).map(|number| start(number, &url(number), &schema, &ledger)).collect();
    let ends = Arc::new(AtomicBool::new(false));
    let watching = {
        let (url, schema, ends) = (database.url(), schema.clone(), ends.clone());
        std::thread::spawn(move || watch_leases(&url, &schema, &ends))
    };
    let mut draw = Draw(seconds);
    let began = Instant::now();
    let mut troubles = BTreeMap::<&str, u32>::new();
    while began.elapsed() < Duration::from_secs(seconds) {
        std::thread::sleep(Duration::from_millis(500 + draw.below(1_000)));
        let number = draw.below(3) as usize;
        let (way, short) = (&ways[number], Duration::from_millis(200 + draw.below(3_000)));
        let trouble = match draw.below(8) {
            0 | 1 => {
                servers[number].kill().unwrap();
                servers[number].wait().unwrap();
                servers[number] = start(number, &url(number), &schema, &ledger);
                "killed"
            }
            2 => {
                signal(&servers[number], "-STOP");
                std::thread::sleep(LEASE + Duration::from_millis(500));
                signal(&servers[number], "-CONT");
                "stopped"
            }
            3 => {
                way.cut();
                "cut"
            }
            4 => {
                way.half_close();
                "half closed"
            }
            5 => {
                way.delay(Duration::from_millis(50));
                std::thread::sleep(short);
                way.delay(Duration::ZERO);
                "slowed down"
            }
            6 => {
                way.swallow(true);
                std::thread::sleep(short);
                way.swallow(false);
                way.cut();
                "swallowed"
            }
            _ => {
                database.kill();
                std::thread::sleep(Duration::from_millis(200));
                database.restart();
                "the database"
            }
        };
        *troubles.entry(trouble).or_default() += 1;
    }
    ends.store(true, Ordering::SeqCst);
    let stuck = watching.join().unwrap();
    for server in &mut servers {
        server.kill().unwrap();
        server.wait().unwrap();
    }
    // What they had said is read to its end.
    std::thread::sleep(Duration::from_millis(300));
    let ledger = ledger.lock().unwrap();
    println!("{} players joined; {troubles:?}", ledger.joined);
    assert!(ledger.joined > 20 && ledger.durable.len() > 10, "{} joined", ledger.joined);
    assert!(stuck.is_empty(), "{stuck:?}");
    for (player, most) in &ledger.durable {
        let saved = saved(&store, player);
        assert!(saved.is_sorted(), "{player}: {saved:?}");
        assert!(saved.last().is_some_and(|xp| xp >= most), "{player}: {saved:?}, {most} was acknowledged");
    }
}
