//! A server with its players on PostgreSQL: joining, saving everyone against bare inserts in turn, the server's own thread, memory,
//! shutting down. `-- PLAYERS` takes another number than 10,000; `-- --test` takes 200 and prints nothing.

use std::time::{Duration, Instant};

use postgres::{Client, NoTls};

use vestigum::image::Tree;
use vestigum::roster::{Roster, RosterOptions};
use vestigum::{Commit, EncodedImage, Image, Lease, Owner, Store};
use vestigum_postgres::{PostgresOptions, PostgresStore};
use vestigum_testing::fellpost::{self as game, Level};
use vestigum_testing::postgres_server::PostgresServer;

const ROUNDS: usize = 5;
const LIMIT: Duration = Duration::from_secs(30);
/// Counts the rows that a statement of the bare loop holds, as those of the store do.
const BATCH: usize = 256;
const CONNECTIONS: usize = 4;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let is_test = arguments.iter().any(|argument| argument == "--test");
    let players = arguments.iter().find_map(|argument| argument.parse().ok()).unwrap_or(10_000);
    let players: usize = if is_test { 200 } else { players };
    let Some(server) = PostgresServer::start() else { return };
    let schema = server.new_schema();
    let store = PostgresOptions::new(&server.url())
        .and_then(|options| options.schema(&schema).prepare())
        .expect("a new server can be prepared");
    let names: Vec<String> = (0..players).map(|number| format!("carrier {number}")).collect();
    let told = measure(&server, &schema, &store, &names);
    if !is_test {
        println!("{told}");
    }
}

fn begin(store: &PostgresStore) -> Roster {
    let options = RosterOptions::new("server 1").autosave(Duration::from_secs(600)).loaders(8);
    Roster::new(game::spec(), store.clone(), options)
}

/// Everyone comes in; how many did in a second.
fn join(roster: &mut Roster, names: &[String]) -> f64 {
    let began = Instant::now();
    names.iter().for_each(|name| drop(roster.join(name)));
    while roster.len() < names.len() {
        roster.tick();
        std::thread::sleep(Duration::from_millis(1));
    }
    names.len() as f64 / began.elapsed().as_secs_f64()
}

/// Everyone does something, and is saved if asked to be; how long that took for each, on the server's thread.
fn play(roster: &mut Roster, names: &[String], saves: bool) -> Vec<Duration> {
    let step = |name: &String| {
        let began = Instant::now();
        let player = roster.get_mut(name).expect("everyone is here");
        player.add(game::XP, 7).expect("play writes it");
        player.add(game::LETTERS, 1).expect("play writes it");
        if saves {
            player.save();
        }
        began.elapsed()
    };
    names.iter().map(step).collect()
}

fn p99(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times.get(times.len() * 99 / 100).copied().unwrap_or_default()
}

/// The memory of this process, in bytes.
fn memory() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<f64>().ok()).map_or(0.0, |kb| kb * 1024.0)
}

fn measure(server: &PostgresServer, schema: &str, store: &PostgresStore, names: &[String]) -> String {
    let before = memory();
    let mut roster = begin(store);
    let new = join(&mut roster, names);
    let each = (memory() - before) / names.len() as f64;
    for name in names {
        roster.get_mut(name).expect("everyone is here").enter(Level::MillLane).expect("it is open");
    }
    assert!(roster.save_all().wait(LIMIT).all_durable(), "everyone is saved within {LIMIT:?}");
    let mut bare = Bare::new(server, schema, store, names);
    let [mut ours, mut one, mut four] = [const { Vec::new() }; 3];
    let mut steps = Vec::new();
    let a_second = |took: Duration| names.len() as f64 / took.as_secs_f64();
    for _ in 0..ROUNDS {
        play(&mut roster, names, false);
        let began = Instant::now();
        assert!(roster.save_all().wait(LIMIT).all_durable(), "everyone is saved within {LIMIT:?}");
        ours.push(a_second(began.elapsed()));
        one.push(a_second(bare.insert_all(1)));
        four.push(a_second(bare.insert_all(CONNECTIONS)));
        steps.append(&mut play(&mut roster, names, true));
        assert!(roster.save_all().wait(LIMIT).all_durable(), "everyone is saved within {LIMIT:?}");
    }
    let frames: Vec<Duration> = (0..300)
        .map(|frame| {
            let began = Instant::now();
            roster.tick();
            if let Some(player) = roster.get_mut(&names[frame % names.len()]) {
                player.add(game::XP, 1).expect("play writes it");
            }
            began.elapsed()
        })
        .collect();
    let began = Instant::now();
    let told = roster.shutdown(LIMIT);
    let down = began.elapsed();
    let (durable, all) = (told.durable.len(), names.len());
    assert_eq!(durable, all, "{:?}", told.not_durable.first());
    let size = "SELECT pg_total_relation_size('images')::float8 / count(*) FROM images";
    let size: f64 = bare.clients[0].0.query_one(size, &[]).expect("it is SQL").get(0);
    let alone = alone(store, names, &mut bare);
    let mut again = begin(store);
    let back = join(&mut again, names);
    server.stop();
    let mut away = play(&mut again, names, true);
    std::thread::sleep(Duration::from_millis(if names.len() > 1_000 { 2_000 } else { 10 }));
    away.append(&mut play(&mut again, names, true));
    server.restart();
    assert!(again.shutdown(LIMIT).all_durable(), "the database is back");
    let [ours, one, four] = [ours, one, four].map(median);
    let bytes = bare.bytes / names.len();
    format!(
        "{all} players, saves of {bytes} bytes, with row and index {size:.0}\n\
         joins a second: {new:.0} new, {back:.0} with a save\n\
         memory: {:.1} kB a player\n\
         commits a second: {ours:.0}; bare inserts in one loop {one:.0}, ratio {:.2}; in {CONNECTIONS} at once {four:.0}, ratio {:.2}\n\
         the store alone, encoded images in one loop: ratio {alone:.2}\n\
         the server's thread, two writes and a save: p99 {:.1} µs; a frame with one write: p99 {:.1} µs\n\
         the same while the database is away, two writes and a save: p99 {:.1} µs\n\
         shutdown: {durable} of {all} durable after {:.2} s",
        each / 1024.0,
        ours / one,
        ours / four,
        p99(steps).as_secs_f64() * 1e6,
        p99(frames).as_secs_f64() * 1e6,
        p99(away).as_secs_f64() * 1e6,
        down.as_secs_f64(),
    )
}

/// The store without a roster: images that are encoded already, in one loop, each with its lease; against the bare loop in turn.
fn alone(store: &PostgresStore, names: &[String], bare: &mut Bare) -> f64 {
    let lasts = Duration::from_secs(600);
    let lease = |name: &String| store.lease(&Owner::Profile(name.clone()), "alone", lasts).expect("it is free");
    let leases: Vec<Lease> = names.iter().map(lease).collect();
    let newest = |lease: &Lease| store.newest(lease.owner()).expect("it can be read").expect("everyone is saved");
    let mut follows: Vec<(u64, Image)> =
        leases.iter().map(newest).map(|newest| (newest.generation, newest.image.expect("it is whole"))).collect();
    let mut ratios = Vec::new();
    for round in 0..ROUNDS {
        let changed = |(_, image): &mut (u64, Image)| {
            image.values.insert("xp".into(), Tree::Int(i64::try_from(round).unwrap_or_default() - 9));
            image.encoded()
        };
        let images: Vec<EncodedImage> = follows.iter_mut().map(changed).collect();
        let mut took = Duration::ZERO;
        for at in (0..images.len()).step_by(BATCH) {
            let batch = at..images.len().min(at + BATCH);
            let commits: Vec<Commit<'_>> = batch
                .clone()
                .map(|at| Commit { follows: follows[at].0, image: &images[at], lease: Some(&leases[at]) })
                .collect();
            let began = Instant::now();
            let done = store.commit_all(&commits);
            took += began.elapsed();
            for (at, done) in batch.zip(done) {
                follows[at].0 = done.expect("nobody else writes").generation;
            }
        }
        ratios.push(bare.insert_all(1).as_secs_f64() / took.as_secs_f64());
    }
    store.release(&leases).expect("the database is there");
    median(ratios)
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or_default()
}

/// Inserts the texts in batches into a table like that of the store, from as many connections as the store uses.
struct Bare {
    clients: Vec<(Client, postgres::Statement)>,
    rows: Vec<(String, String, String, String)>,
    generation: i64,
    bytes: usize,
}

impl Bare {
    fn new(server: &PostgresServer, schema: &str, store: &PostgresStore, names: &[String]) -> Bare {
        let mut clients = Vec::new();
        for number in 0..CONNECTIONS {
            let mut client = Client::connect(&server.url(), NoTls).expect("the server is there");
            client.batch_execute(&format!("SET search_path TO {schema}")).expect("the schema is there");
            if number == 0 {
                client.batch_execute("CREATE TABLE bare (LIKE images INCLUDING ALL)").expect("a table can be made");
            }
            let sql =
                "INSERT INTO bare SELECT * FROM unnest($1::text[], $2::bigint[], $3::text[], $4::text[], $5::text[])";
            let statement = client.prepare(sql).expect("it is SQL");
            clients.push((client, statement));
        }
        let row = |name: &String| {
            let owner = Owner::Profile(name.clone());
            let newest = store.newest(&owner).expect("it can be read").expect("everyone is saved");
            let bytes = store.bytes(&owner, newest.generation).expect("it is there");
            let image = newest.image.expect("it is whole");
            (name.clone(), image.digest(), image.saved_at, String::from_utf8(bytes).expect("it is JSON"))
        };
        let rows: Vec<_> = names.iter().map(row).collect();
        let bytes = rows.iter().map(|(.., text)| text.len()).sum();
        Bare { clients, rows, generation: 0, bytes }
    }

    fn insert_all(&mut self, loops: usize) -> Duration {
        self.generation += 1;
        let (generation, rows) = (self.generation, &self.rows);
        let began = Instant::now();
        let next = std::sync::atomic::AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for (client, statement) in self.clients.iter_mut().take(loops) {
                let next = &next;
                scope.spawn(move || {
                    loop {
                        let batch = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                        let Some(batch) = rows.chunks(BATCH).nth(batch) else { return };
                        let column = |of: fn(&(String, String, String, String)) -> &str| -> Vec<&str> {
                            batch.iter().map(of).collect()
                        };
                        let (names, digests) = (column(|row| &row.0), column(|row| &row.1));
                        let (times, texts) = (column(|row| &row.2), column(|row| &row.3));
                        let generations = vec![generation; batch.len()];
                        client
                            .execute(statement, &[&names, &generations, &digests, &times, &texts])
                            .expect("there is room");
                    }
                });
            }
        });
        began.elapsed()
    }
}
