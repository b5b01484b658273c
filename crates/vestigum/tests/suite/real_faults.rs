//! Faults that are real: processes killed while they save, a full disk, folders that cannot be written or are gone,
//! a second process, a clock that goes back.
//!
//! `VESTIGUM_KILLS=1000 cargo test --release -p vestigum --test suite real_faults` kills as often as the release asks for; left
//! out, 25 times.
#![cfg(unix)]

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::Duration;

use vestigum::{DirStore, MemoryStore, Owner, Session, SessionError, Spec, Store, StoreError, Value, prune_all};

const WORLD: &str = r#"
[game]
id = "fellpost"
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.notes]
type = "text"
lasts = "profile"
after_failure = "keep"
[field.starts]
type = "int"
lasts = "device"
[save]
keep = 3
"#;

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

const FOLDER: &str = "VESTIGUM_CARRIER_FOLDER";
const JOB: &str = "VESTIGUM_CARRIER_JOB";

/// Plays the other processes of these tests: this program calls itself.
#[test]
#[ignore = "the tests of this file start it as a process of its own"]
fn carrier() {
    let folder = std::env::var(FOLDER).expect("the tests name a folder");
    let job = std::env::var(JOB).expect("the tests name a job");
    let spec = spec();
    let store = match DirStore::open(&folder) {
        Ok(store) => store,
        Err(error) => return println!("told {error}"),
    };
    let mut game = Session::launch(&spec, store, "ada").expect("what was killed can be launched again");
    let xp = game.value("xp", &[]).expect("the spec has it").as_int();
    println!("launched {xp} {}", game.load_report().is_clean());
    if job == "save once" {
        game.write("xp", &[], Value::Int(xp + 1)).expect("play writes it");
        // More than any file may have in these tests.
        game.write("notes", &[], Value::Text("a long walk ".repeat(300).into())).expect("play writes it");
        let kept = game.save().wait().expect_err("there is no room");
        println!("told {kept}");
        // Play goes on, and a small save finds its room again.
        game.write("notes", &[], Value::Text("".into())).expect("play writes it");
        game.quit_within(Duration::from_secs(5)).expect("there is room for this one");
        return println!("quit");
    }
    for xp in xp + 1.. {
        game.write("xp", &[], Value::Int(xp)).expect("play writes it");
        game.write("starts", &[], Value::Int(xp)).expect("play writes it");
        let ticket = game.save();
        if xp % 3 > 0 {
            ticket.wait().expect("the disk is sound");
            println!("durable {xp}");
        }
    }
}

fn start(folder: &Path, job: &str, program: Command) -> (Child, impl Iterator<Item = String>) {
    let mut program = program;
    program.args(["--exact", "real_faults::carrier", "--ignored", "--nocapture", "--test-threads=1", "-q"]);
    program.env(FOLDER, folder).env(JOB, job).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = program.spawn().expect("this program runs");
    let lines = BufReader::new(child.stdout.take().expect("it is piped")).lines().map_while(Result::ok);
    (child, lines.filter(|line| ["launched", "durable", "told", "quit"].iter().any(|word| line.starts_with(word))))
}

fn itself() -> Command {
    Command::new(std::env::current_exe().expect("this program has a path"))
}

fn number(line: &str) -> i64 {
    line.split(' ').nth(1).and_then(|number| number.parse().ok()).unwrap_or_else(|| panic!("no number in `{line}`"))
}

fn killed(mut child: Child) -> ExitStatus {
    child.kill().expect("it runs");
    child.wait().expect("it was killed")
}

/// Kills a process that saves as fast as it can, at times that differ from kill to kill. What it said is durable must
/// be there, and nothing may be damaged.
#[test]
fn no_acknowledged_save_is_lost_to_a_kill() {
    let kills: u32 = std::env::var("VESTIGUM_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(25);
    let folder = tempfile::tempdir().unwrap();
    let mut durable = 0;
    for kill in 0..kills {
        let (child, mut lines) = start(folder.path(), "save for ever", itself());
        let launched = lines.next().expect("it launches");
        assert!(launched.ends_with(" true"), "kill {kill}: the launch had to recover: {launched}");
        assert!(number(&launched) >= durable, "kill {kill}: {durable} was durable, and it came back with {launched}");
        // The first kills come while the launch is still pruning, later ones anywhere in a commit.
        for line in lines.by_ref().take((kill % 7) as usize) {
            durable = number(&line);
        }
        std::thread::sleep(Duration::from_micros(u64::from(kill * 7919 % 1500)));
        killed(child);
        durable = lines.last().map_or(durable, |line| number(&line));
    }
    let store = DirStore::open(folder.path()).unwrap();
    let game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert!(game.value("xp", &[]).unwrap().as_int() >= durable);
    assert!(durable > i64::from(kills), "it hardly saved at all: {durable}");
    game.quit().unwrap();
    // A session that ends leaves the rest of the pruning to the next one; here it is done to the end.
    prune_all(&store, &Owner::Profile("ada".into()), 3).unwrap();
    let names = fs::read_dir(folder.path().join("profiles/ada")).unwrap().flatten();
    let names: Vec<String> = names.map(|entry| entry.file_name().into_string().unwrap()).collect();
    assert!(names.len() <= 3 && names.iter().all(|name| name.ends_with(".json")), "something was left: {names:?}");
}

#[test]
fn a_second_process_is_told_which_one_has_the_saves() {
    let folder = tempfile::tempdir().unwrap();
    let (child, mut lines) = start(folder.path(), "save for ever", itself());
    lines.next().expect("it launches");
    let error = DirStore::open(folder.path()).unwrap_err();
    let pid = child.id();
    assert!(matches!(error, StoreError::InUse { holder: Some(holder), .. } if holder == pid), "{error}");
    assert!(error.to_string().contains(&format!("is in use by process {pid}; close the other game first")));
    // Looking is no use of it.
    let looking = DirStore::open_to_read(folder.path()).unwrap();
    assert!(Session::peek(&spec(), &looking, "ada").is_ok());
    killed(child);
    DirStore::open(folder.path()).unwrap();
}

/// A limit on the size of files stands for the full disk: the system refuses the rest of a write, as it does there.
#[test]
fn a_full_disk_stops_no_play_and_loses_no_save() {
    let folder = tempfile::tempdir().unwrap();
    let mut shell = Command::new("bash");
    shell.args(["-c", "trap '' XFSZ; ulimit -f 2; exec \"$0\" \"$@\""]).arg(std::env::current_exe().unwrap());
    let (mut child, lines) = start(folder.path(), "save once", shell);
    let lines: Vec<String> = lines.collect();
    assert!(child.wait().unwrap().success(), "{lines:?}");
    assert!(lines[1].starts_with("told cannot write") && lines[1].contains(".saving-1: File too large"), "{lines:?}");
    assert_eq!(lines[2], "quit");
    let store = DirStore::open(folder.path()).unwrap();
    assert_eq!(Session::peek(&spec(), &store, "ada").unwrap().value("xp", &[]), Ok(Value::Int(1)));
}

/// Whoever runs the tests may be one whom no permission stops; then nobody in particular tries it.
#[test]
fn a_folder_that_cannot_be_written_is_an_error_in_words() {
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path().join("saves");
    fs::create_dir(&saves).unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    fs::set_permissions(&saves, fs::Permissions::from_mode(0o555)).unwrap();
    let told = if fs::write(saves.join("probe"), b"").is_ok() {
        fs::remove_file(saves.join("probe")).unwrap();
        // The program is where others may not look: a copy is not.
        let copy = folder.path().join("carrier");
        fs::copy(std::env::current_exe().unwrap(), &copy).unwrap();
        let mut nobody = Command::new(copy);
        nobody.uid(65534).gid(65534);
        let (mut child, mut lines) = start(&saves, "save once", nobody);
        let told = lines.next().expect("it says why");
        child.wait().unwrap();
        told
    } else {
        DirStore::open(&saves).unwrap_err().to_string()
    };
    assert!(told.contains("cannot lock the save folder with") && told.contains("Permission denied"), "{told}");
    assert_eq!(fs::read_dir(&saves).unwrap().count(), 0);
    fs::set_permissions(&saves, fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn a_folder_that_is_removed_while_the_game_runs_is_made_again() {
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path().join("saves");
    let mut game = Session::launch(&spec(), DirStore::open(&saves).unwrap(), "ada").unwrap();
    game.write("xp", &[], Value::Int(1)).unwrap();
    game.save().wait().unwrap();
    fs::remove_dir_all(&saves).unwrap();
    game.write("xp", &[], Value::Int(2)).unwrap();
    game.quit().unwrap();
    let again = Session::launch(&spec(), DirStore::open(&saves).unwrap(), "ada").unwrap();
    assert_eq!(again.value("xp", &[]), Ok(Value::Int(2)));
    again.quit().unwrap();
}

/// The newest image is found by its number, never by its time.
#[test]
fn a_clock_that_goes_back_changes_nothing() {
    let store = MemoryStore::default();
    let game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    let mut image = game.suspend().profile_image("ada");
    game.quit().unwrap();
    for (generation, (xp, year)) in (1..).zip([(10, 2031), (20, 1970), (30, 2026)]) {
        image.values.insert("xp".into(), vestigum::image::Tree::Int(xp));
        image.saved_at = format!("{year}-01-01T00:00:00Z");
        store.commit(generation, &image).unwrap();
    }
    let game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert_eq!((game.value("xp", &[]), game.generation()), (Ok(Value::Int(30)), 4));
    game.quit().unwrap();
}

/// A file that is not an image of this game's player, under the name of one.
#[test]
fn a_copied_save_is_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let mut game = Session::launch(&spec(), DirStore::open(folder.path()).unwrap(), "ada").unwrap();
    game.write("xp", &[], Value::Int(1)).unwrap();
    game.quit().unwrap();
    let of_ada = folder.path().join("profiles/ada");
    fs::create_dir(folder.path().join("profiles/ben")).unwrap();
    fs::copy(of_ada.join("1.json"), folder.path().join("profiles/ben/1.json")).unwrap();
    fs::copy(of_ada.join("1.json"), of_ada.join("7.json")).unwrap();
    let store = DirStore::open(folder.path()).unwrap();
    let told = |name: &str, generation| store.read(&Owner::Profile(name.into()), generation).unwrap_err().to_string();
    assert!(told("ben", 1).ends_with("it is generation 1 of profile `ada`, under a name that is not its own"));
    assert!(told("ada", 7).ends_with("it is generation 1 of profile `ada`, under a name that is not its own"));
    let refused = Session::launch(&spec(), store.clone(), "ben").unwrap_err();
    assert!(matches!(refused, SessionError::AllDamaged { .. }), "{refused}");
    let game = Session::launch(&spec(), store, "ada").unwrap();
    assert_eq!(game.value("xp", &[]), Ok(Value::Int(1)));
    game.quit().unwrap();
}
