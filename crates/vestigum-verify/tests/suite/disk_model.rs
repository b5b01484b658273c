//! The disk in memory: what it lets be found after a power loss is what is promised of disks, and while the power is on it
//! does what the real one does.

use std::collections::BTreeSet;
use std::io::ErrorKind;
use std::path::Path;

use proptest::collection::vec;
use proptest::prelude::*;

use vestigum::{Disk, Lock, RealDisk};
use vestigum_testing::hunting::config;
use vestigum_verify::{DiskOperation, Fault, SimDisk};

fn path(name: &str) -> &Path {
    Path::new(name)
}

fn write(disk: &dyn Disk, name: &str, text: &str, sync: bool) {
    let mut file = disk.create(path(name)).unwrap();
    file.write(text.as_bytes()).unwrap();
    if sync {
        file.sync().unwrap();
    }
}

/// Everything that a file can be found to hold if the power fails now; none where it is not there.
fn found(disk: &SimDisk, name: &str) -> BTreeSet<Option<String>> {
    let read = |disk: SimDisk| disk.read(path(name), 100).ok().map(|bytes| String::from_utf8(bytes).unwrap());
    disk.power_loss().map(|loss| read(loss.disk())).collect()
}

fn set(found: &[Option<&str>]) -> BTreeSet<Option<String>> {
    found.iter().map(|text| text.map(str::to_owned)).collect()
}

#[test]
fn what_was_not_synced_can_be_gone_torn_or_zeros() {
    let disk = SimDisk::default();
    write(&disk, "a", "abc", false);
    let torn = [None, Some("abc"), Some(""), Some("a"), Some("ab"), Some("\0\0\0"), Some("a\0\0"), Some("ab\0")];
    assert_eq!(found(&disk, "a"), set(&torn));
    let disk = SimDisk::default();
    write(&disk, "a", "abc", true);
    assert_eq!(found(&disk, "a"), set(&[None, Some("abc")]), "the content is durable, the name is not");
    disk.sync_folder(path("")).unwrap();
    assert_eq!(found(&disk, "a"), set(&[Some("abc")]));
}

#[test]
fn a_name_without_its_content_is_possible_and_content_without_its_name_too() {
    let disk = SimDisk::default();
    write(&disk, "a", "ab", false);
    disk.sync_folder(path("")).unwrap();
    assert_eq!(found(&disk, "a"), set(&[Some("ab"), Some(""), Some("a"), Some("\0\0"), Some("a\0")]));
}

#[test]
fn a_rename_is_whole_or_not_there() {
    let disk = SimDisk::default();
    write(&disk, "old", "1", true);
    disk.sync_folder(path("")).unwrap();
    write(&disk, "new", "2", true);
    disk.sync_folder(path("")).unwrap();
    disk.rename(path("new"), path("old")).unwrap();
    assert_eq!(found(&disk, "old"), set(&[Some("1"), Some("2")]));
    assert_eq!(found(&disk, "new"), set(&[None, Some("2")]));
    disk.sync_folder(path("")).unwrap();
    assert_eq!((found(&disk, "old"), found(&disk, "new")), (set(&[Some("2")]), set(&[None])));
}

#[test]
fn an_overwritten_file_can_be_a_mixture() {
    let disk = SimDisk::default();
    write(&disk, "a", "old", true);
    disk.sync_folder(path("")).unwrap();
    write(&disk, "a", "new", false);
    let found = found(&disk, "a");
    for possible in ["old", "new", "", "ne", "nld", "new", "n\0\0"] {
        assert!(found.contains(&Some(possible.to_owned())), "{possible:?} is possible: {found:?}");
    }
    assert!(!found.contains(&None), "the name was durable");
}

#[test]
fn later_changes_of_names_can_be_there_without_earlier_ones() {
    let disk = SimDisk::default();
    write(&disk, "a", "1", true);
    write(&disk, "b", "2", true);
    disk.remove(path("a")).unwrap();
    let names = |disk: SimDisk| disk.list(path("")).unwrap().into_iter().collect::<BTreeSet<_>>();
    let all: BTreeSet<BTreeSet<String>> = disk.power_loss().map(|loss| names(loss.disk())).collect();
    let expected = [vec![], vec!["a"], vec!["b"], vec!["a", "b"]];
    let expected = expected.into_iter().map(|names| names.into_iter().map(str::to_owned).collect());
    assert_eq!(all, expected.collect());
    // A folder whose own name is lost takes everything in it along.
    let disk = SimDisk::default();
    disk.make_folder(path("saves")).unwrap();
    write(&disk, "saves/a", "1", true);
    disk.sync_folder(path("saves")).unwrap();
    assert_eq!(found(&disk, "saves/a"), set(&[None, Some("1")]));
}

#[test]
fn a_failed_sync_loses_what_was_written_for_good() {
    let disk = SimDisk::default();
    let mut file = disk.create(path("a")).unwrap();
    file.write(b"ab").unwrap();
    disk.fail(disk.count(), Fault::Broken);
    assert!(file.sync().is_err());
    file.sync().unwrap();
    disk.sync_folder(path("")).unwrap();
    assert!(found(&disk, "a").contains(&Some("a".into())), "the second sync has nothing left to write");
    assert_eq!(disk.read(path("a"), 10).unwrap(), b"ab", "it is still seen");
}

#[test]
fn faults_strike_one_operation() {
    let disk = SimDisk::default();
    let mut file = disk.create(path("a")).unwrap();
    disk.fail(disk.count(), Fault::Full);
    assert_eq!(file.write(b"abcd").unwrap_err().kind(), ErrorKind::StorageFull);
    assert_eq!(disk.read(path("a"), 10).unwrap(), b"ab", "half of it was written");
    disk.fail(disk.count(), Fault::ShortRead);
    assert_eq!(disk.read(path("a"), 10).unwrap(), b"a");
    assert_eq!(disk.read(path("a"), 10).unwrap(), b"ab", "only once");
    disk.fail(disk.count(), Fault::Broken);
    assert!(disk.list(path("")).is_err());
    let told: Vec<String> = disk.operations().iter().map(DiskOperation::to_string).collect();
    assert_eq!(told[..2], ["create       a", "write        a, 4 bytes"]);
}

#[test]
fn a_lock_is_held_until_it_is_dropped_or_the_power_fails() {
    let disk = SimDisk::default();
    let Lock::Held(held) = disk.lock(path(".lock")).unwrap() else { panic!("nobody has it") };
    assert!(matches!(disk.lock(path(".lock")).unwrap(), Lock::Taken(None)));
    let after = disk.power_loss().next().unwrap().disk();
    assert!(matches!(after.lock(path(".lock")).unwrap(), Lock::Held(_)));
    drop(held);
    assert!(matches!(disk.lock(path(".lock")).unwrap(), Lock::Held(_)));
}

#[derive(Clone, Debug)]
enum FaultStep {
    MakeFolder(usize),
    Write(usize, String),
    Rename(usize, usize),
    RenameNew(usize, usize),
    Remove(usize),
    Read(usize),
    List(usize),
    Sync(usize),
}

const NAMES: [&str; 6] = ["a", "b", "f", "f/a", "f/b", "f/g"];

fn step() -> impl Strategy<Value = FaultStep> {
    let name = || 0..NAMES.len();
    prop_oneof![
        name().prop_map(FaultStep::MakeFolder),
        (name(), "[a-z]{0,5}").prop_map(|(name, text)| FaultStep::Write(name, text)),
        (name(), name()).prop_map(|(from, to)| FaultStep::Rename(from, to)),
        (name(), name()).prop_map(|(from, to)| FaultStep::RenameNew(from, to)),
        name().prop_map(FaultStep::Remove),
        name().prop_map(FaultStep::Read),
        name().prop_map(FaultStep::List),
        name().prop_map(FaultStep::Sync),
    ]
}

/// Holds what a step answers: whether it worked, and what was read.
fn act(disk: &dyn Disk, root: &Path, step: &FaultStep) -> Option<String> {
    let at = |name: &usize| root.join(NAMES[*name]);
    match step {
        FaultStep::MakeFolder(name) => disk.make_folder(&at(name)).ok().map(|()| String::new()),
        FaultStep::Write(name, text) => {
            let mut file = disk.create(&at(name)).ok()?;
            file.write(text.as_bytes()).ok()?;
            file.sync().ok().map(|()| String::new())
        }
        // What the systems say of renaming folders differs; no store does it.
        FaultStep::Rename(from, to) | FaultStep::RenameNew(from, to)
            if from == to || disk.is_folder(&at(from)).ok()? || disk.is_folder(&at(to)).ok()? =>
        {
            None
        }
        FaultStep::Rename(from, to) => disk.rename(&at(from), &at(to)).ok().map(|()| String::new()),
        FaultStep::RenameNew(from, to) => disk.rename_new(&at(from), &at(to)).ok().map(|()| String::new()),
        FaultStep::Remove(name) => disk.remove(&at(name)).ok().map(|()| String::new()),
        FaultStep::Read(name) => disk.read(&at(name), 3).ok().and_then(|bytes| String::from_utf8(bytes).ok()),
        FaultStep::List(name) => {
            let mut names = disk.list(&at(name)).ok()?;
            names.sort();
            Some(names.join(" "))
        }
        FaultStep::Sync(name) => {
            disk.is_folder(&at(name)).ok()?.then(|| disk.sync_folder(&at(name)).ok().map(|()| String::new()))?
        }
    }
}

proptest! {
    #![proptest_config(config(150, vestigum_testing::kept_in!("disk_model")))]

    #[test]
    fn while_the_power_is_on_both_disks_do_the_same(steps in vec(step(), 1..25)) {
        let folder = tempfile::tempdir().expect("a folder for the test");
        let (real, sim) = (RealDisk, SimDisk::default());
        for step in &steps {
            prop_assert_eq!(act(&real, folder.path(), step), act(&sim, Path::new(""), step), "{:?}", step);
        }
        // Without a power loss everything that was seen is there.
        let kept = sim.power_loss().next().expect("there is always one").disk();
        prop_assert_eq!(kept.files(), sim.files());
    }
}
