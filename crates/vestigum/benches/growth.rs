//! How things grow: each table has ten times as much from one row to the next.

use std::fs::{self, File};
use std::hint::black_box;
use std::io::Write;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use vestigum::merging::join;
use vestigum::origin::{Contribution, Contributor, Visits};
use vestigum::{DirStore, Image, MemoryStore, Owner, Progress, Saver, Session, Spec, Store, Value};

/// A game with that number of per-level entries: fields of 100 levels each, and 16 visit fields.
fn slots(count: usize) -> Spec {
    let mut text = String::from("[game]\nid = \"fellpost\"\n[levels]\nopening = \"all\"\norder = [");
    (0..100).for_each(|n| text.push_str(&format!("\"path_{n}\",")));
    text.push_str("]\n");
    for n in 0..16 {
        text.push_str(&format!(
            "[field.visit_{n}]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n"
        ));
    }
    for n in 0..count.div_ceil(100) {
        text.push_str(&format!(
            "[field.kept_{n}]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"entry\"\n"
        ));
    }
    sound(&text)
}

fn sound(text: &str) -> Spec {
    Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}"))
}

/// The median of some runs.
fn time<T>(runs: usize, mut work: impl FnMut() -> T) -> Duration {
    let mut times: Vec<Duration> = (0..runs)
        .map(|_| {
            let begun = Instant::now();
            black_box(work());
            begun.elapsed()
        })
        .collect();
    times.sort_unstable();
    times[times.len() / 2]
}

fn by_slots(most: usize) {
    println!(
        "\nentries    sixteen writes and a death    save() after 16 writes      board    encode    bytes to launched game"
    );
    let mut count = 100;
    while count <= most {
        let spec = slots(count);
        let mut game = Session::launch(&spec, MemoryStore::default(), "ada").expect("memory can be read");
        game.enter("path_7").expect("all are open");
        // This many values are written everywhere: the rest is what is measured.
        for n in 0..count.div_ceil(100).min(16) {
            game.write(&format!("kept_{n}"), &["path_7"], Value::Int(n as i64)).expect("play writes it");
        }
        game.save().wait().expect("memory takes it");
        let fields: Vec<_> = (0..16).map(|n| spec.int(&format!("visit_{n}")).expect("it is there")).collect();
        game.checkpoint("ford").expect("it is in a level");
        let death = time(200, || {
            fields.iter().for_each(|field| drop(game.add(*field, 1)));
            game.death().is_ok()
        });
        let mut saves: Vec<Duration> = (0..100)
            .map(|_| {
                fields.iter().for_each(|field| drop(game.add(*field, 1)));
                let begun = Instant::now();
                let ticket = game.save();
                let took = begun.elapsed();
                ticket.wait().expect("memory takes it");
                took
            })
            .collect();
        saves.sort_unstable();
        let runs = (1_000_000 / count).clamp(5, 200);
        let board = time(runs, || game.board());
        let suspended = game.suspend();
        let owner = Owner::Profile("ada".into());
        let encode = time(runs, || suspended.encoded(&owner, String::new()));
        let bytes = suspended.encoded(&owner, String::new()).bytes(1, None);
        let load = time(runs, || {
            let image = Image::from_json(&bytes).ok();
            Progress::launch(&spec, image.as_ref(), None).is_ok()
        });
        println!("{count:>7}    {death:>26.1?}    {:>22.1?} {board:>10.1?} {encode:>9.1?}    {load:>22.1?}", saves[50]);
        game.quit().expect("memory takes everything");
        count *= 10;
    }
}

/// A map, a set and a list of that number of values, changed right behind a mark, and by each step of a play that keeps every state.
fn by_values(most: usize) {
    println!("\nvalues    first insert behind a mark: map       set      list    a copy and an insert, each of 1,000");
    let spec = sound(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\nopening = \"all\"\n\
         [field.found]\ntype = \"map of int\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"\nmax_len = 2000000\n\
         [field.seen]\ntype = \"set of int\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"\nmax_len = 2000000\n\
         [field.days]\ntype = \"list of int\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"\nmax_len = 2000000\n",
    );
    let mut count = 100;
    while count <= most {
        let numbers = || (0..count as i64).map(|number| 2 * number);
        let mut game = Progress::fresh(&spec);
        let entries = numbers().map(|number| (format!("{number:08}").into(), Value::Int(number)));
        game.write("found", &[], Value::Map(entries.collect())).expect("it is a map");
        game.write("seen", &[], Value::Set(numbers().map(Value::Int).collect())).expect("it is a set");
        game.write("days", &[], Value::List(numbers().map(Value::Int).collect())).expect("it is a list");
        game.enter("lane").expect("it is open");
        let behind_marks = |insert: &dyn Fn(&mut Progress, i64)| {
            let mut game = game.clone();
            let mut times: Vec<Duration> = (0..41)
                .map(|run| {
                    game.checkpoint("ford").expect("it is in a level");
                    let begun = Instant::now();
                    insert(&mut game, (count as i64 * run / 41) * 2 + 1);
                    begun.elapsed()
                })
                .collect();
            times.sort_unstable();
            times[times.len() / 2]
        };
        let map = behind_marks(&|game, number| {
            game.insert_at("found", &[], &format!("{number:08}"), Value::Int(number)).expect("it is a map");
        });
        let set = behind_marks(&|game, number| {
            game.insert("seen", &[], Value::Int(number)).expect("it is a set");
        });
        let list = behind_marks(&|game, number| {
            game.insert("days", &[], Value::Int(number)).expect("it is a list");
        });
        let mut kept = vec![game.clone()];
        let begun = Instant::now();
        for step in 0..1000 {
            let mut next = kept.last().expect("one is there").clone();
            next.insert("seen", &[], Value::Int((count as i64 * step / 1000) * 2 + 1)).expect("it is a set");
            kept.push(next);
        }
        let each = begun.elapsed() / 1000;
        println!("{count:>6}    {map:>31.1?} {set:>9.1?} {list:>9.1?}    {each:>35.1?}");
        count *= 10;
    }
}

fn by_checkpoints(most: usize) {
    println!("\ncheckpoints    bytes to launched game");
    let mut count = 100;
    while count <= most {
        let names: Vec<String> = (0..count / 10).map(|n| format!("\"post_{n}\"")).collect();
        let levels: Vec<String> = (0..10).map(|n| format!("\"path_{n}\"")).collect();
        let mut text =
            format!("[game]\nid = \"fellpost\"\n[levels]\nopening = \"all\"\norder = [{}]\n", levels.join(", "));
        (0..10).for_each(|n| text.push_str(&format!("[level.path_{n}]\ncheckpoints = [{}]\n", names.join(", "))));
        text.push_str(
            "[field.seen]\ntype = \"int\"\nper = \"checkpoint\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n",
        );
        let spec = sound(&text);
        let mut game = Progress::fresh(&spec);
        for level in 0..10 {
            for name in 0..count / 10 {
                let keys = [&*format!("path_{level}"), &*format!("post_{name}")];
                game.write("seen", &keys, Value::Int(1)).expect("play writes it");
            }
        }
        let bytes = game.suspend().profile_image("ada").to_json();
        let load = time((100_000 / count).clamp(5, 100), || {
            let image = Image::from_json(&bytes).ok();
            Progress::launch(&spec, image.as_ref(), None).is_ok()
        });
        println!("{count:>11}    {load:>22.1?}");
        count *= 10;
    }
}

fn by_names(most: usize) {
    println!("\nmade names    save() after one write    save() after a new name    bytes to launched game");
    let mut count = 100;
    while count <= most {
        let spec = sound(&format!(
            "[game]\nid = \"fellpost\"\n[keys.huts]\nopen = true\nmax = {}\n[field.stamps]\ntype = \"int\"\nper = \"huts\"\n\
             lasts = \"profile\"\nafter_failure = \"keep\"\n",
            (count + 1000).min(100_000)
        ));
        let mut game = Session::launch(&spec, MemoryStore::default(), "ada").expect("memory can be read");
        for n in 0..count.min(99_000) {
            game.write("stamps", &[&format!("hut {n}")], Value::Int(1)).expect("there is room");
        }
        game.save().wait().expect("memory takes it");
        let mut one = |names: bool| {
            let mut times: Vec<Duration> = (0..20)
                .map(|n| {
                    let name = if names { format!("new hut {n}") } else { "hut 7".into() };
                    game.write("stamps", &[&name], Value::Int(n)).expect("there is room");
                    let begun = Instant::now();
                    let ticket = game.save();
                    let took = begun.elapsed();
                    ticket.wait().expect("memory takes it");
                    took
                })
                .collect();
            times.sort_unstable();
            times[10]
        };
        let (write, new) = (one(false), one(true));
        let bytes = game.suspend().profile_image("ada").to_json();
        let load = time(10, || {
            let image = Image::from_json(&bytes).ok();
            Progress::launch(&spec, image.as_ref(), None).is_ok()
        });
        println!("{count:>10}    {write:>22.1?}    {new:>23.1?}    {load:>22.1?}");
        game.quit().expect("memory takes everything");
        count *= 10;
    }
}

/// Temporary file, write, sync, rename to a new name, sync the folder; the file from ten saves ago goes.
fn bare(folder: &Path, number: usize, bytes: &[u8]) -> std::io::Result<()> {
    let temporary = folder.join("saving");
    let mut file = File::create(&temporary)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&temporary, folder.join(format!("{number}.json")))?;
    File::open(folder)?.sync_all()?;
    match number.checked_sub(10) {
        Some(old) => fs::remove_file(folder.join(format!("{old}.json"))),
        None => Ok(()),
    }
}

/// The bare saves a second of that number of players, each with a folder, by as many threads as a saver has at most.
fn bare_rate(players: usize, rounds: usize, bytes: &[u8]) -> f64 {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder for the bench");
    let folders: Vec<_> = (0..players).map(|n| folder.path().join(n.to_string())).collect();
    folders.iter().for_each(|folder| fs::create_dir(folder).expect("a folder for the bench"));
    let threads = players.min(8);
    let begun = Instant::now();
    thread::scope(|scope| {
        for first in 0..threads {
            let own = &folders;
            scope.spawn(move || {
                for number in 0..rounds {
                    for folder in own.iter().skip(first).step_by(threads) {
                        bare(folder, number, bytes).expect("the disk takes it");
                    }
                }
            });
        }
    });
    (rounds * players) as f64 / begun.elapsed().as_secs_f64()
}

/// Players who save all at once into one folder.
fn by_players(most: usize) {
    println!("\nplayers    commits a second    bare saves by as many threads    all quit in");
    let spec = slots(100);
    let mut count = 1;
    while count <= most {
        let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder for the bench");
        let saver = Saver::new(DirStore::open(folder.path()).expect("a store for the bench"));
        let mut players: Vec<Session> = (0..count)
            .map(|n| Session::launch(&spec, &saver, &format!("player {n}")).expect("the folder can be read"))
            .collect();
        let rounds = (200 / count).max(10);
        let mut save_all = |round: usize| {
            for game in &mut players {
                game.write("kept_0", &["path_7"], Value::Int(round as i64 + 1)).expect("play writes it");
                drop(game.save());
            }
            saver.flush(Duration::from_secs(60)).expect("the disk takes it");
        };
        // The first save of a player makes its folder.
        save_all(0);
        let begun = Instant::now();
        (1..=rounds).for_each(&mut save_all);
        let rate = (rounds * count) as f64 / begun.elapsed().as_secs_f64();
        let bytes = players[0].suspend().profile_image("ada").to_json();
        let begun = Instant::now();
        for mut game in players {
            game.write("kept_0", &["path_8"], Value::Int(1)).expect("play writes it");
            game.quit().expect("the disk takes it");
        }
        let quit = begun.elapsed();
        let bare = bare_rate(count, rounds, &bytes);
        println!("{count:>7}    {rate:>16.0}    {bare:>29.0}    {quit:>11.1?}");
        count *= 4;
    }
}

/// Generations that are kept: how long a launch and a prune that removes nothing take.
fn by_generations(most: usize) {
    println!("\ngenerations    launch    prune of nothing");
    let mut count = 10;
    while count <= most {
        // All of them are kept, so that a launch does not begin to remove any.
        let spec = sound(&format!(
            "[game]\nid = \"fellpost\"\n[save]\nkeep = {count}\n[field.visit]\ntype = \"int\"\nlasts = \"profile\"\n\
             after_failure = \"keep\"\n"
        ));
        let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder for the bench");
        let store = DirStore::open(folder.path()).expect("a store for the bench");
        let mut image = Progress::fresh(&spec).suspend().profile_image("ada");
        for generation in 0..count as u64 {
            image.saved_at = format!("{generation}");
            image.values.insert("visit".into(), vestigum::image::Tree::Int(generation as i64));
            store.commit(generation, &image).expect("the disk takes it");
        }
        let owner = Owner::Profile("ada".into());
        let prune = time(5, || store.prune(&owner, count as u32));
        drop(store);
        let launch = time(5, || {
            let store = DirStore::open(folder.path()).expect("a store for the bench");
            Session::launch(&spec, store, "ada").map(|game| game.generation())
        });
        println!("{count:>11} {launch:>9.1?}    {prune:>16.1?}");
        count *= 10;
    }
}

/// A save in which one number has changed, beside bytes that have not: in every save, and beside them.
fn by_blobs(most: usize) {
    println!("\n16 KiB each    a save with them as bytes    as blobs    bytes to launched game with blobs");
    let mut count = 1;
    while count <= most {
        let names: Vec<String> = (0..count).map(|n| format!("\"path_{n}\"")).collect();
        let saves = ["bytes", "blob"].map(|ty| {
            let spec = sound(&format!(
                "[game]\nid = \"fellpost\"\n[levels]\norder = [{}]\n[field.replay]\ntype = \"{ty}\"\nmax_len = 16384\n\
                 per = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n[field.visit]\ntype = \"int\"\n\
                 lasts = \"profile\"\nafter_failure = \"keep\"\n",
                names.join(", ")
            ));
            let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder for the bench");
            let store = DirStore::open(folder.path()).expect("a store for the bench");
            let mut game = Session::launch(&spec, store.clone(), "ada").expect("an empty folder can be read");
            for n in 0..count {
                let replay: Vec<u8> = (0..16384).map(|at| (at * (n + 3)) as u8).collect();
                game.write("replay", &[&format!("path_{n}")], Value::bytes(replay)).expect("play writes it");
            }
            game.save().wait().expect("the disk takes it");
            let visit = spec.int("visit").expect("it is there");
            let save = time(9, || {
                game.add(visit, 1).expect("play writes it");
                game.save().wait().expect("the disk takes it")
            });
            game.quit().expect("the disk takes it");
            (save, time(5, || Session::peek(&spec, &store, "ada").map(|ada| ada.generation())))
        });
        let [(bytes, _), (blobs, launch)] = saves;
        println!("{count:>11} {bytes:>27.1?} {blobs:>11.1?} {launch:>36.1?}");
        count *= 10;
    }
}

/// Measures a merge of what two places changed since they had the same save, entry by entry.
fn by_changes(most: usize) {
    println!("\nentries that both places changed    merge");
    let mut count = 100;
    while count <= most {
        let levels: Vec<String> = (0..count).map(|n| format!("\"path_{n}\"")).collect();
        let spec = sound(&format!(
            "[game]\nid = \"fellpost\"\n[levels]\nopening = \"all\"\norder = [{}]\n[merge]\n[field.letters]\ntype = \"int\"\n\
             per = \"level\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"\nmerge = \"sum\"\n",
            levels.join(", ")
        ));
        let played = |by: &str, from: Option<&Image>, letters: i64| {
            let contributor = Contributor::new(&spec, from).expect("its own image loads");
            let mut contributor = contributor.expect("the spec merges");
            let mut game = Progress::launch(&spec, from, None).expect("its own image loads").progress;
            for n in 0..count {
                game.write_add("letters", &[&format!("path_{n}")], Value::Int(letters)).expect("play writes it");
            }
            let (saved, by) = (game.suspend(), Contribution { by: by.into(), last: 0, tag: "t".into(), at: 0 });
            let origin = contributor.contribute(&saved, &Visits::default(), &by);
            Image { origin: Some(Box::new(origin)), ..saved.profile_image("ada") }
        };
        let base = played("a", None, 1);
        let (here, there) = (played("a", Some(&base), 2), played("b", Some(&base), 3));
        let merge = time(9, || join(&spec, &here, &there).map(|merged| merged.report.entries.len()));
        println!("{count:>34} {merge:>8.1?}");
        count *= 10;
    }
}

fn main() {
    // `cargo bench -- --test`, as CI runs it, only looks whether it works.
    let small = std::env::args().any(|argument| argument == "--test");
    by_slots(if small { 100 } else { 100_000 });
    by_values(if small { 100 } else { 1_000_000 });
    by_checkpoints(if small { 100 } else { 10_000 });
    by_names(if small { 100 } else { 100_000 });
    by_generations(if small { 10 } else { 1000 });
    by_blobs(if small { 1 } else { 100 });
    by_changes(if small { 100 } else { 10_000 });
    by_players(if small { 1 } else { 64 });
}
