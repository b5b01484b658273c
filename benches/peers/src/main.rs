//! The same progress, saved durably and loaded again in several ways, side by side in one run:
//!
//! ```text
//! cargo run --release --manifest-path benches/peers/Cargo.toml
//! ```
//!
//! Every way writes one changed number and the rest as it was, and is durable when the clock stops. The bare loop is what a durable
//! save on a file system costs at least without further promises: temporary file, sync, new name, sync of the folder.

use std::collections::BTreeMap;
use std::error::Error;
use std::fs::{self, File};
use std::hint::black_box;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rusqlite::Connection;
use vestigum::{DirStore, Session, Spec, Value};

type Result<T> = std::result::Result<T, Box<dyn Error>>;

/// Holds what the other ways save: field, level, number.
type Plain = BTreeMap<String, BTreeMap<String, i64>>;

const ROUNDS: usize = 120;
const LOADS: usize = 60;

fn main() -> Result<()> {
    let place = std::env::args().nth(1).map_or_else(std::env::temp_dir, PathBuf::from);
    for (name, fields, levels) in [("small", 2, 24), ("large", 8, 1000)] {
        let folder = tempfile::tempdir_in(&place)?;
        compare(name, fields, levels, folder.path())?;
    }
    Ok(())
}

/// One way to save and to load.
struct Way {
    name: &'static str,
    save: Box<dyn FnMut(i64) -> Result<Duration>>,
    load: Box<dyn Fn() -> Result<()>>,
    size: Box<dyn Fn() -> u64>,
}

fn compare(name: &str, fields: usize, levels: usize, folder: &Path) -> Result<()> {
    let plain = plain(fields, levels);
    let mut ways = vec![
        bare(folder, &plain)?,
        ours(folder, &plain)?,
        sqlite(folder, &plain)?,
        redb(folder, &plain)?,
        replace(folder, &plain)?,
        slots(folder, &plain)?,
    ];
    let mut saves: Vec<Vec<Duration>> = ways.iter().map(|_| Vec::new()).collect();
    let mut thread: Vec<Vec<Duration>> = ways.iter().map(|_| Vec::new()).collect();
    for round in 0..ROUNDS as i64 {
        for (at, way) in ways.iter_mut().enumerate() {
            let begun = Instant::now();
            thread[at].push((way.save)(round)?);
            saves[at].push(begun.elapsed());
        }
    }
    let mut loads: Vec<Vec<Duration>> = ways.iter().map(|_| Vec::new()).collect();
    let sizes: Vec<u64> = ways.iter().map(|way| (way.size)()).collect();
    let names: Vec<&str> = ways.iter().map(|way| way.name).collect();
    // What holds a file open is closed before the loads open it.
    let loaders: Vec<Box<dyn Fn() -> Result<()>>> = ways.into_iter().map(|way| way.load).collect();
    for _ in 0..LOADS {
        for (at, load) in loaders.iter().enumerate() {
            let begun = Instant::now();
            load()?;
            loads[at].push(begun.elapsed());
        }
    }
    let bytes = serde_json::to_vec(&plain)?.len();
    println!("\n{name}: {} numbers, {bytes} bytes as JSON, medians of {ROUNDS} saves and {LOADS} loads", fields * levels);
    println!("{:22} {:>12} {:>8} {:>14} {:>12} {:>12}", "", "save", "/ bare", "game's thread", "load", "on disk");
    let base = median(&mut saves[0]);
    for (at, name) in names.iter().enumerate() {
        let save = median(&mut saves[at]);
        println!(
            "{name:22} {:>9.0} µs {:>8.2} {:>11.1} µs {:>9.0} µs {:>9} kB",
            micros(save),
            micros(save) / micros(base),
            micros(median(&mut thread[at])),
            micros(median(&mut loads[at])),
            sizes[at] / 1000,
        );
    }
    Ok(())
}

fn median(times: &mut [Duration]) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn micros(time: Duration) -> f64 {
    time.as_secs_f64() * 1e6
}

fn plain(fields: usize, levels: usize) -> Plain {
    let entries = |field: usize| (0..levels).map(|level| (format!("path_{level}"), (field * level + 1) as i64)).collect();
    (0..fields).map(|field| (format!("best_{field}"), entries(field))).collect()
}

/// The bytes of one save: one number is another.
fn changed(plain: &mut Plain, round: i64) -> Result<Vec<u8>> {
    if let Some(number) = plain.get_mut("best_0").and_then(|field| field.get_mut("path_0")) {
        *number = round + 1000;
    }
    Ok(serde_json::to_vec(plain)?)
}

fn timed(work: impl FnOnce() -> Result<()>) -> Result<Duration> {
    let begun = Instant::now();
    work().map(|()| begun.elapsed())
}

fn read(bytes: &[u8]) -> Result<()> {
    black_box(serde_json::from_slice::<Plain>(bytes)?);
    Ok(())
}

/// A new name for each save.
fn bare(folder: &Path, plain: &Plain) -> Result<Way> {
    let (folder, mut plain) = (folder.join("bare"), plain.clone());
    fs::create_dir(&folder)?;
    let (reads, sizes) = (folder.clone(), folder.clone());
    Ok(Way {
        name: "bare loop, new names",
        save: Box::new(move |round| {
            let bytes = changed(&mut plain, round)?;
            timed(|| {
                let temporary = folder.join("temporary");
                let mut file = File::create(&temporary)?;
                file.write_all(&bytes)?;
                file.sync_all()?;
                fs::rename(&temporary, folder.join(format!("{round}.json")))?;
                Ok(File::open(&folder)?.sync_all()?)
            })
        }),
        load: Box::new(move || read(&fs::read(reads.join("0.json"))?)),
        size: Box::new(move || size(&sizes) / ROUNDS as u64),
    })
}

fn spec(plain: &Plain) -> Result<Spec> {
    let levels: Vec<String> = plain["best_0"].keys().map(|level| format!("\"{level}\"")).collect();
    let fields = plain.keys().map(|field| {
        format!("[field.{field}]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n")
    });
    let levels = levels.join(", ");
    let text = format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [{levels}]\nopening = \"all\"\n{}",
        fields.collect::<String>()
    );
    Spec::from_toml(&text).map_err(|errors| errors.to_string().into())
}

fn ours(folder: &Path, plain: &Plain) -> Result<Way> {
    let folder = folder.join("ours");
    let spec = spec(plain)?;
    let mut game = Session::launch(&spec, DirStore::open(&folder)?, "ada")?;
    for (field, entries) in plain {
        for (level, number) in entries {
            game.write(field, &[level], Value::Int(*number))?;
        }
    }
    game.save().wait()?;
    let (loads, sizes) = (folder.clone(), folder);
    Ok(Way {
        name: "Session on DirStore",
        save: Box::new(move |round| {
            game.write("best_0", &["path_0"], Value::Int(round + 1000))?;
            let begun = Instant::now();
            let ticket = game.save();
            let thread = begun.elapsed();
            ticket.wait()?;
            Ok(thread)
        }),
        load: Box::new(move || {
            let game = Session::launch(&spec, DirStore::open(&loads)?, "ada")?;
            black_box(game.value("best_0", &["path_0"])?);
            // Nothing has changed: dropped without a save.
            Ok(())
        }),
        size: Box::new(move || size(&sizes)),
    })
}

fn sqlite(folder: &Path, plain: &Plain) -> Result<Way> {
    let (folder, mut plain) = (folder.join("sqlite"), plain.clone());
    fs::create_dir(&folder)?;
    let file = folder.join("saves.db");
    let open = |file: &Path| -> Result<Connection> {
        let connection = Connection::open(file)?;
        connection.execute_batch("pragma journal_mode = wal; pragma synchronous = full;")?;
        Ok(connection)
    };
    let connection = open(&file)?;
    connection.execute_batch("create table saves (profile text primary key, progress blob)")?;
    Ok(Way {
        name: "rusqlite, WAL, FULL",
        save: Box::new(move |round| {
            let bytes = changed(&mut plain, round)?;
            timed(|| {
                connection.execute("insert or replace into saves values ('ada', ?1)", [&bytes])?;
                Ok(())
            })
        }),
        load: Box::new(move || {
            let bytes: Vec<u8> =
                open(&file)?.query_row("select progress from saves where profile = 'ada'", [], |row| row.get(0))?;
            read(&bytes)
        }),
        size: Box::new(move || size(&folder)),
    })
}

const SAVES: redb::TableDefinition<'_, &str, &[u8]> = redb::TableDefinition::new("saves");

fn redb(folder: &Path, plain: &Plain) -> Result<Way> {
    use redb::ReadableDatabase as _;
    let (folder, mut plain) = (folder.join("redb"), plain.clone());
    fs::create_dir(&folder)?;
    let file = folder.join("saves.redb");
    let database = redb::Database::create(&file)?;
    Ok(Way {
        name: "redb",
        save: Box::new(move |round| {
            let bytes = changed(&mut plain, round)?;
            timed(|| {
                let transaction = database.begin_write()?;
                transaction.open_table(SAVES)?.insert("ada", &bytes[..])?;
                Ok(transaction.commit()?)
            })
        }),
        load: Box::new(move || {
            let database = redb::Database::open(&file)?;
            let transaction = database.begin_read()?;
            let table = transaction.open_table(SAVES)?;
            read(table.get("ada")?.ok_or("nothing saved")?.value())
        }),
        size: Box::new(move || size(&folder)),
    })
}

/// One name for all saves.
fn replace(folder: &Path, plain: &Plain) -> Result<Way> {
    let (folder, mut plain) = (folder.join("replace"), plain.clone());
    fs::create_dir(&folder)?;
    let (reads, sizes) = (folder.clone(), folder.clone());
    Ok(Way {
        name: "serde_json, replace",
        save: Box::new(move |round| {
            timed(|| {
                let bytes = changed(&mut plain, round)?;
                let temporary = folder.join("temporary");
                let mut file = File::create(&temporary)?;
                file.write_all(&bytes)?;
                file.sync_all()?;
                fs::rename(&temporary, folder.join("save.json"))?;
                Ok(File::open(&folder)?.sync_all()?)
            })
        }),
        load: Box::new(move || read(&fs::read(reads.join("save.json"))?)),
        size: Box::new(move || size(&sizes)),
    })
}

/// Four files of a fixed size, each written over in its turn: the least that a durable save costs here. It is no way to keep
/// saves: one that was cut off looks like one that was damaged later.
fn slots(folder: &Path, plain: &Plain) -> Result<Way> {
    use std::os::unix::fs::FileExt as _;
    let (folder, mut plain) = (folder.join("slots"), plain.clone());
    fs::create_dir(&folder)?;
    let room = serde_json::to_vec(&plain)?.len() * 5 / 4;
    let mut files = Vec::new();
    for slot in 0..4 {
        let mut file = File::create(folder.join(slot.to_string()))?;
        file.write_all(&vec![b' '; room.next_multiple_of(4096)])?;
        file.sync_all()?;
        files.push(file);
    }
    File::open(&folder)?.sync_all()?;
    let (reads, sizes) = (folder.clone(), folder);
    Ok(Way {
        name: "slots written over",
        save: Box::new(move |round| {
            let bytes = changed(&mut plain, round)?;
            timed(|| {
                let file = &files[round as usize % files.len()];
                file.write_all_at(&bytes, 0)?;
                Ok(file.sync_data()?)
            })
        }),
        load: Box::new(move || read(fs::read(reads.join("0"))?.trim_ascii_end())),
        size: Box::new(move || size(&sizes)),
    })
}

/// Counts the bytes of the files below a folder.
fn size(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let sizes = entries.map(|entry| {
        let path = entry.path();
        if path.is_dir() { size(&path) } else { entry.metadata().map_or(0, |metadata| metadata.len()) }
    });
    sizes.sum()
}
