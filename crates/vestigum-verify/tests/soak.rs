//! Many players on a store that fails, stalls and loses answers: what was acknowledged is there, and nothing else is claimed.
//!
//! `VESTIGUM_SOAK_SECONDS` says for how long; `scripts/hunt` takes ten minutes.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use vestigum::roster::{Roster, RosterEvent, RosterOptions};
use vestigum::{Handle, MemoryStore, Owner, Progress, SaveTicket, Saver, Session, Spec, Store, StoreError};
use vestigum_testing::watched_store::WatchedStore;
use vestigum_verify::FlakyStore;
use xxhash_rust::xxh3::xxh3_64_with_seed;

const PLAYERS: usize = 12;

fn spec() -> Spec {
    let text = "[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
        [save]\nkeep = 1000\n";
    Spec::from_toml(text).unwrap()
}

/// Numbers that are the same every time.
struct Draw(u64);

impl Draw {
    fn below(&mut self, end: u64) -> u64 {
        self.0 += 1;
        xxh3_64_with_seed(&self.0.to_le_bytes(), 2) % end
    }
}

/// Holds what is known of one player.
#[derive(Default)]
struct Account {
    /// The most that was acknowledged.
    acknowledged: i64,
    /// Everything that was handed over.
    handed: BTreeSet<i64>,
    waiting: Vec<(i64, SaveTicket)>,
}

impl Account {
    /// Looks which saves are acknowledged.
    fn look(&mut self) {
        self.waiting.retain(|(xp, ticket)| match ticket.poll() {
            Some(Ok(_)) => {
                self.acknowledged = self.acknowledged.max(*xp);
                false
            }
            Some(Err(error)) => {
                assert!(error.may_pass(), "nobody else writes, so all that goes wrong may pass: {error}");
                true
            }
            None => true,
        });
    }
}

/// Lists what the saves of a player say, the oldest first.
fn saved(spec: &Spec, store: &dyn Store, player: &str) -> Vec<i64> {
    let owner = Owner::Profile(player.to_owned());
    let generations = store.generations(&owner).unwrap();
    let xp = |generation: &u64| {
        let image = store.read(&owner, *generation).unwrap();
        Progress::launch(spec, Some(&image), None).unwrap().progress.get(spec.int("xp").unwrap())
    };
    generations.iter().map(xp).collect()
}

/// One life of a process: sessions of all players, which end by quitting or with the process.
fn one_process(
    spec: &Spec,
    store: &FlakyStore<MemoryStore>,
    accounts: &mut BTreeMap<String, Account>,
    draw: &mut Draw,
) {
    let xp: Handle<i64> = spec.int("xp").unwrap();
    let saver = Saver::new(store.clone());
    let mut sessions = Vec::new();
    for (name, account) in accounts.iter_mut() {
        let session = loop {
            match Session::launch(spec, &saver, name) {
                Ok(session) => break session,
                Err(error) => assert!(!error.to_string().contains("changed by someone"), "{error}"),
            }
        };
        let loaded = session.get(xp);
        assert!(loaded >= account.acknowledged, "{name} has {loaded} of {}", account.acknowledged);
        assert!(loaded == 0 || account.handed.contains(&loaded), "{name} was never at {loaded}");
        sessions.push((name.clone(), session));
    }
    for _ in 0..200 {
        let (name, session) = &mut sessions[draw.below(PLAYERS as u64) as usize];
        let account = accounts.get_mut(name).unwrap();
        session.add(xp, 1 + draw.below(9) as i64).unwrap();
        if draw.below(3) == 0 {
            let now = session.get(xp);
            account.handed.insert(now);
            account.waiting.push((now, session.save()));
        }
        account.look();
        if draw.below(20) == 0 {
            std::thread::sleep(Duration::from_millis(draw.below(4)));
        }
    }
    for (name, session) in sessions {
        let account = accounts.get_mut(&name).unwrap();
        let now = session.get(xp);
        if draw.below(2) == 0 {
            account.handed.insert(now);
            if session.quit_within(Duration::from_secs(20)).is_ok() {
                account.acknowledged = account.acknowledged.max(now);
            }
        }
        account.look();
    }
    drop(saver);
    for account in accounts.values_mut() {
        account.look();
        account.waiting.clear();
    }
}

#[test]
fn what_was_acknowledged_is_there_and_nothing_else_is_claimed() {
    let seconds = std::env::var("VESTIGUM_SOAK_SECONDS").ok().and_then(|seconds| seconds.parse().ok()).unwrap_or(3);
    let (spec, began) = (spec(), Instant::now());
    let mut seed = 0;
    while began.elapsed() < Duration::from_secs(seconds) || seed < 2 {
        seed += 1;
        let saves = MemoryStore::default();
        let flaky = FlakyStore::new(saves.clone(), seed)
            .fail_one_in(6)
            .lose_one_answer_in(5)
            .outages(150, 12)
            .limit_a_minute(3000)
            .latency(Duration::from_millis(1));
        let names = (0..PLAYERS).map(|player| format!("carrier {player}"));
        let mut accounts: BTreeMap<String, Account> = names.map(|name| (name, Account::default())).collect();
        let mut draw = Draw(seed << 32);
        for _ in 0..4 {
            one_process(&spec, &flaky, &mut accounts, &mut draw);
            for (name, account) in &accounts {
                let saved = saved(&spec, &saves, name);
                assert!(saved.last().copied().unwrap_or(0) >= account.acknowledged, "{name}: {saved:?}");
                assert!(saved.iter().all(|xp| *xp == 0 || account.handed.contains(xp)), "{name}: {saved:?}");
                assert!(saved.is_sorted(), "{name}: {saved:?}");
            }
        }
        let counts = flaky.counts();
        assert!(counts.failed > 20 && counts.lost_answers > 20, "there was trouble: {counts:?}");
    }
}

/// Two servers whose leases run out while the store is away: players go from one to the other, by leaving, by being thrown out, and by
/// being taken.
fn two_servers(
    spec: &Spec,
    store: &FlakyStore<MemoryStore>,
    accounts: &mut BTreeMap<String, Account>,
    draw: &mut Draw,
) -> u64 {
    let xp: Handle<i64> = spec.int("xp").unwrap();
    let ways = [(), ()].map(|()| WatchedStore::new(store.clone(), 8));
    let begin = |name: &str, at: usize| {
        let options = RosterOptions::new(name).lease(Duration::from_millis(40)).autosave(Duration::from_millis(15));
        Roster::new(spec, ways[at].clone(), options)
    };
    let names: Vec<String> = accounts.keys().cloned().collect();
    let mut servers = [begin("server 1", 0), begin("server 2", 1)];
    // A server that is cut off for longer than its leases run.
    let mut cut_off: Option<(usize, Instant)> = None;
    let mut lost = 0;
    for _ in 0..2_000 {
        match cut_off {
            Some((server, since)) if since.elapsed() > Duration::from_millis(120) => {
                ways[server].cut_off(false);
                cut_off = None;
            }
            None if draw.below(200) == 0 => {
                let server = draw.below(2) as usize;
                ways[server].cut_off(true);
                cut_off = Some((server, Instant::now()));
            }
            Some(_) | None => {}
        }
        let (server, name) = (draw.below(2) as usize, &names[draw.below(names.len() as u64) as usize]);
        for server in &mut servers {
            for event in server.tick() {
                match event {
                    RosterEvent::Joined { player } => {
                        let (loaded, account) = (server.get(&player).unwrap().get(xp), &accounts[&player]);
                        assert!(loaded >= account.acknowledged, "{player} has {loaded} of {}", account.acknowledged);
                        assert!(loaded == 0 || account.handed.contains(&loaded), "{player} was never at {loaded}");
                    }
                    RosterEvent::Lost { .. } => lost += 1,
                    RosterEvent::Refused { .. } => {}
                }
            }
        }
        let server = &mut servers[server];
        let account = accounts.get_mut(name).unwrap();
        match server.get_mut(name) {
            Some(player) => {
                player.add(xp, 1 + draw.below(9) as i64).unwrap();
                let now = player.get(xp);
                // An autosave may hand it over as well.
                account.handed.insert(now);
                if draw.below(3) == 0 {
                    account.waiting.push((now, player.save()));
                }
                if draw.below(30) == 0
                    && let Some(ticket) = server.leave(name)
                {
                    account.waiting.push((now, ticket));
                }
            }
            None => drop(server.join(name)),
        }
        account.waiting.retain(|(xp, ticket)| match ticket.poll() {
            Some(Ok(_)) => {
                account.acknowledged = account.acknowledged.max(*xp);
                false
            }
            // Who was taken by the other server has lost what was not saved.
            Some(Err(error)) => error.may_pass(),
            None => true,
        });
        if draw.below(20) == 0 {
            std::thread::sleep(Duration::from_millis(draw.below(30)));
        }
    }
    store.calm();
    ways.iter().for_each(|way| way.cut_off(false));
    for server in servers {
        // What waits is tried at once, and only who was taken by the other server is not durable.
        let (began, told) = (Instant::now(), server.shutdown(Duration::from_secs(20)));
        for (name, why) in told.not_durable {
            let why = why.unwrap();
            assert!(matches!(*why, StoreError::LeaseLost { .. }), "{name}: {why}");
        }
        assert!(began.elapsed() < Duration::from_secs(10), "the shutdown took {:?}", began.elapsed());
    }
    for account in accounts.values_mut() {
        account.waiting.clear();
    }
    lost
}

#[test]
fn players_who_change_servers_keep_what_was_acknowledged() {
    let seconds = std::env::var("VESTIGUM_SOAK_SECONDS").ok().and_then(|seconds| seconds.parse().ok()).unwrap_or(3);
    let (spec, began) = (spec(), Instant::now());
    let (mut seed, mut lost) = (100, 0);
    while began.elapsed() < Duration::from_secs(seconds) || seed < 102 {
        seed += 1;
        let saves = MemoryStore::default();
        let names = (0..PLAYERS).map(|player| format!("carrier {player}"));
        let mut accounts: BTreeMap<String, Account> = names.map(|name| (name, Account::default())).collect();
        let mut draw = Draw(seed << 32);
        let flaky = FlakyStore::new(saves.clone(), seed)
            .fail_one_in(8)
            .lose_one_answer_in(6)
            .outages(200, 30)
            .latency(Duration::from_millis(1));
        lost += two_servers(&spec, &flaky, &mut accounts, &mut draw);
        for (name, account) in &accounts {
            let saved = saved(&spec, &saves, name);
            assert!(saved.last().copied().unwrap_or(0) >= account.acknowledged, "{name}: {saved:?}");
            assert!(saved.iter().all(|xp| *xp == 0 || account.handed.contains(xp)), "{name}: {saved:?}");
        }
        assert!(accounts.values().any(|account| account.acknowledged > 50), "nobody was saved");
    }
    assert!(lost > 0, "no lease was lost, so this tried nothing");
}
