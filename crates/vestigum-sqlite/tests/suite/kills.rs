//! Processes that are killed while they save, several at once, and a disk that is full.
//!
//! `VESTIGUM_KILLS=1000 cargo test --release -p vestigum-sqlite --test suite kills` kills as often as that; left out, 15 times.
#![cfg(unix)]

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use vestigum::{Session, Spec, Store, Value};
use vestigum_sqlite::SqliteStore;

const SPEC: &str = "[game]\nid = \"fellpost\"\n[save]\nkeep = 3\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.picture]\ntype = \"blob\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";

const FILE: &str = "VESTIGUM_CARRIER_FILE";
const NAME: &str = "VESTIGUM_CARRIER_NAME";
const ONCE: &str = "VESTIGUM_CARRIER_ONCE";

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

/// The picture that belongs to a number.
fn picture(xp: i64) -> Vec<u8> {
    xp.to_le_bytes().repeat(100)
}

/// Plays the other processes of these tests: this program calls itself.
#[test]
#[ignore = "the tests of this file start it as a process of its own"]
fn carrier() {
    let file = std::env::var(FILE).expect("the tests name a file");
    let name = std::env::var(NAME).expect("the tests name a player");
    let store = SqliteStore::open(&file).expect("it can be opened");
    let mut game = Session::launch(&spec(), store, &name).expect("what was killed can be launched again");
    let xp = game.value("xp", &[]).expect("the spec has it").as_int();
    let same = game.value("picture", &[]).expect("the spec has it").as_bytes() == picture(xp) || xp == 0;
    println!("launched {xp} {}", same && game.load_report().is_clean());
    if std::env::var(ONCE).is_ok() {
        game.write("picture", &[], Value::bytes(vec![7; 400_000])).expect("play writes it");
        println!("told {}", game.save().wait().expect_err("there is no room"));
        game.write("picture", &[], Value::bytes(picture(xp + 1))).expect("play writes it");
        game.write("xp", &[], Value::Int(xp + 1)).expect("play writes it");
        game.quit_within(Duration::from_secs(5)).expect("there is room for this one");
        return println!("quit");
    }
    for xp in xp + 1.. {
        game.write("xp", &[], Value::Int(xp)).expect("play writes it");
        game.write("picture", &[], Value::bytes(picture(xp))).expect("play writes it");
        let ticket = game.save();
        if xp % 3 > 0 {
            ticket.wait().expect("the disk is sound");
            println!("durable {xp}");
        }
    }
}

fn itself() -> Command {
    Command::new(std::env::current_exe().expect("this program has a path"))
}

fn start(mut program: Command, file: &Path, name: &str) -> (Child, impl Iterator<Item = String> + use<>) {
    program.args(["--exact", "kills::carrier", "--ignored", "--nocapture", "--test-threads=1", "-q"]);
    program.env(FILE, file).env(NAME, name).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = program.spawn().expect("this program runs");
    let lines = BufReader::new(child.stdout.take().expect("it is piped")).lines().map_while(Result::ok);
    (child, lines.filter(|line| ["launched", "durable", "told", "quit"].iter().any(|word| line.starts_with(word))))
}

fn number(line: &str) -> i64 {
    line.split(' ').nth(1).and_then(|number| number.parse().ok()).unwrap_or_else(|| panic!("no number in `{line}`"))
}

/// Two players on one file, each in a process that is killed again and again. What a process said is durable must be there.
#[test]
fn no_acknowledged_save_is_lost_to_a_kill() {
    let kills: u64 = std::env::var("VESTIGUM_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(15);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("fellpost.db");
    std::thread::scope(|scope| {
        for name in ["ada", "bo"] {
            let file = &file;
            scope.spawn(move || {
                let mut durable = 0;
                for kill in 0..kills {
                    let (mut child, mut lines) = start(itself(), file, name);
                    let launched = lines.next().expect("it launches");
                    assert!(launched.ends_with("true"), "{name}, kill {kill}: {launched}");
                    assert!(number(&launched) >= durable, "{name}, kill {kill}: {launched}, and {durable} was durable");
                    durable = lines.next().map_or(durable, |line| number(&line));
                    std::thread::sleep(Duration::from_millis(kill * 7 % 60));
                    child.kill().expect("it runs");
                    child.wait().expect("it was killed");
                    durable = lines.map(|line| number(&line)).max().unwrap_or(durable);
                }
            });
        }
    });
    let store = SqliteStore::open(&file).unwrap();
    assert_eq!(store.owners().unwrap().len(), 2);
}

#[test]
fn a_full_disk_stops_no_play_and_loses_no_save() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("fellpost.db");
    let mut limited = Command::new("bash");
    // No file may have more than 200 KiB, and nobody is killed for trying.
    limited.args(["-c", "trap '' XFSZ; ulimit -f 200; exec \"$0\" \"$@\""]);
    limited.arg(std::env::current_exe().unwrap()).env(ONCE, "1");
    let (mut child, mut lines) = start(limited, &file, "ada");
    assert_eq!(lines.next().as_deref(), Some("launched 0 true"));
    let told = lines.next().unwrap();
    assert!(told.contains("cannot write") || told.contains("was not durable"), "{told}");
    assert_eq!(lines.next().as_deref(), Some("quit"));
    assert!(child.wait().unwrap().success());
    let game = Session::peek(&spec(), &SqliteStore::open(&file).unwrap(), "ada").unwrap();
    assert_eq!(game.value("xp", &[]).unwrap(), Value::Int(1));
    assert_eq!(game.value("picture", &[]).unwrap().as_bytes(), picture(1));
}
