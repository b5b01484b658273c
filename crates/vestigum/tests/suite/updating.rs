//! Saves of the demo's shipped versions under the spec of today, on real files.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use vestigum::update::HookError;
use vestigum::{Committed, DirStore, Image, Line, Owner, Pruned, Session, Spec, Store, StoreError, Value};

const FELLPOST: &str = include_str!("../../../../demo/fellpost/fellpost.toml");
const HISTORY: &str = include_str!("../../../../demo/fellpost/fellpost.history.json");

fn spec() -> Spec {
    Spec::from_toml_with_history(FELLPOST, HISTORY).unwrap_or_else(|errors| panic!("{errors}"))
}

fn files(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        match path.is_dir() {
            true => found.extend(files(&path)),
            false if path.extension().is_some_and(|ending| ending == "json") => {
                found.insert(path.clone(), fs::read(&path).unwrap());
            }
            false => {}
        }
    }
    found
}

/// A copy of the saves that players of a version have.
fn shipped(version: &str) -> tempfile::TempDir {
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost/shipped").join(version).join("saves");
    let folder = tempfile::tempdir().unwrap();
    for (path, bytes) in files(&from) {
        let to = folder.path().join(path.strip_prefix(&from).unwrap());
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        fs::write(to, bytes).unwrap();
    }
    folder
}

fn launch(spec: &Spec, folder: &Path, profile: &str) -> Result<Session, String> {
    let store = DirStore::open(folder).map_err(|error| error.to_string())?;
    Session::launch(spec, store, profile).map_err(|error| error.to_string())
}

#[test]
fn old_saves_are_untouched_until_the_migrated_one_is_durable_and_stay_behind_it() {
    let folder = shipped("v1");
    let before = files(folder.path());
    let game = launch(&spec(), folder.path(), "ada").unwrap();
    assert_eq!(game.value("stamps", &[]).unwrap().as_int(), 12);
    let steps: Vec<i64> = game.load_report().migrated.iter().map(|step| step.to).collect();
    assert_eq!(steps, [2, 3, 4]);
    assert_eq!(files(folder.path()), before, "loading writes nothing");
    drop(game);
    assert_eq!(files(folder.path()), before, "and a crash neither");
    let game = launch(&spec(), folder.path(), "ada").unwrap();
    game.quit().unwrap();
    let after = files(folder.path());
    let kept = |name: &str| before.iter().find(|(path, _)| path.ends_with(name)).unwrap();
    for generation in ["ada/2.json", "ada/3.json"] {
        let (path, bytes) = kept(generation);
        assert_eq!(after.get(path), Some(bytes), "older generations stay as they were");
    }
    let game = launch(&spec(), folder.path(), "ada").unwrap();
    assert!(game.load_report().is_clean(), "{}", game.load_report());
    assert_eq!(game.value("volume", &[]).unwrap().as_int(), 35);
    game.quit().unwrap();
    // What was written after the update is damaged: the save from before it is taken.
    for path in after.keys().filter(|path| !before.contains_key(*path)) {
        fs::write(path, b"{").unwrap();
    }
    let error = launch(&spec(), folder.path(), "ada").unwrap_err();
    assert!(error.contains("no save of the device can be read"), "{error}");
    fs::remove_dir_all(folder.path().join("device")).unwrap();
    let game = launch(&spec(), folder.path(), "ada").unwrap();
    assert_eq!((game.value("volume", &[]).unwrap().as_int(), game.load_report().migrated.len()), (35, 3));
}

#[test]
fn a_migration_that_fails_leaves_everything_as_it_was() {
    let folder = shipped("v2");
    let before = files(folder.path());
    let failing = spec().with_hook(3, |old, _| match old.values.get("falls") {
        Some(falls) if *falls == vestigum::image::Tree::Int(3) => Err(HookError::new("falls", "three is one too many")),
        _ => Ok(()),
    });
    let error = launch(&failing, folder.path(), "dan").unwrap_err();
    let said = "the migration to version 3 failed in the game's code, at `falls`, which is 3: three is one too many";
    assert!(error.contains(said), "{error}");
    assert_eq!(files(folder.path()), before);
    launch(&failing, folder.path(), "cora").unwrap().quit().unwrap();
    assert_eq!(launch(&spec(), folder.path(), "dan").unwrap().value("falls", &[]).unwrap().as_int(), 3);
}

#[test]
fn a_game_without_its_history_refuses_older_saves_and_keeps_them() {
    let folder = shipped("v1");
    let before = files(folder.path());
    let told = Spec::from_toml(FELLPOST).unwrap_err().to_string();
    assert!(told.contains("`Spec::from_toml_with_history`"), "{told}");
    let alone = FELLPOST.split("[[migration]]").next().unwrap();
    let error = launch(&Spec::from_toml(alone).unwrap(), folder.path(), "ada").unwrap_err();
    assert!(error.contains("`Spec::from_toml_with_history`") && error.contains("nothing was overwritten"), "{error}");
    assert_eq!(files(folder.path()), before);
}

#[test]
fn every_player_of_every_version_comes_to_this_one() {
    for version in ["v1", "v2", "v3"] {
        let folder = shipped(version);
        let store = DirStore::open(folder.path()).unwrap();
        for owner in store.owners().unwrap() {
            let Owner::Profile(name) = owner else { continue };
            let game = Session::launch(&spec(), store.clone(), &name).unwrap();
            // The device takes the volume of the first player who comes, and the others hear of it.
            let lost = game.load_report().dropped.iter().find(|dropped| dropped.what.to_string() != "volume");
            assert_eq!(lost, None, "{}", game.load_report());
            assert_eq!(game.load_report().migrated.last().map(|step| step.to), Some(4));
            game.quit().unwrap();
        }
    }
}

/// A store that refuses the device's saves on demand.
#[derive(Clone)]
struct NoDevice {
    store: DirStore,
    refuses: Arc<AtomicBool>,
}

impl Store for NoDevice {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        self.store.owners()
    }
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        self.store.generations(owner)
    }
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        self.store.read(owner, generation)
    }
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        if image.owner == Owner::Device && self.refuses.load(Ordering::SeqCst) {
            let cause = std::io::Error::other("the disk says no");
            return Err(StoreError::Io { action: "write", path: "device".into(), cause });
        }
        self.store.commit(follows, image)
    }
    fn line(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        self.store.line(owner)
    }
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.store.begin_line(owner)
    }
    fn insert(&self, image: &Image) -> Result<Committed, StoreError> {
        self.store.insert(image)
    }
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError> {
        self.store.remove_before(owner, generation)
    }
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError> {
        self.store.prune(owner, keep)
    }
}

#[test]
fn what_moves_to_the_device_is_never_gone_from_both() {
    let folder = shipped("v1");
    let before = files(folder.path());
    let open = || NoDevice { store: DirStore::open(folder.path()).unwrap(), refuses: Arc::new(AtomicBool::new(true)) };
    {
        let store = open();
        let mut game = Session::launch(&spec(), store, "ada").unwrap();
        game.write("stamps", &[], Value::Int(99)).unwrap();
        let ticket = game.save();
        let error = ticket.wait_timeout(Duration::from_secs(10)).expect("told soon").unwrap_err();
        assert!(error.to_string().contains("the disk says no"), "{error}");
        assert!(game.quit_within(Duration::from_millis(100)).is_err());
    }
    assert_eq!(files(folder.path()), before, "the player's save waits for the device's");
    let store = open();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert_eq!(game.value("volume", &[]).unwrap().as_int(), 35);
    game.write("stamps", &[], Value::Int(99)).unwrap();
    let ticket = game.save();
    store.refuses.store(false, Ordering::SeqCst);
    ticket.wait().unwrap();
    // From now on the two are on their own again.
    store.refuses.store(true, Ordering::SeqCst);
    game.write("stamps", &[], Value::Int(100)).unwrap();
    game.write("volume", &[], Value::Int(10)).unwrap();
    drop(game.save());
    let newest = || store.generations(&Owner::Profile("ada".into())).unwrap().last().copied().unwrap();
    while newest() < 5 {
        std::thread::sleep(Duration::from_millis(5));
    }
    drop((game, store));
    let game = launch(&spec(), folder.path(), "ada").unwrap();
    assert_eq!((game.value("stamps", &[]).unwrap().as_int(), game.value("volume", &[]).unwrap().as_int()), (100, 35));
}

/// The device's image is brought to a version in which the device has nothing, once: what it keeps for players who have not
/// come there yet stays in it, and no later launch migrates it again.
#[test]
fn a_device_that_nothing_is_left_of_is_migrated_once() {
    let volume = |lasts: &str| format!("[field.volume]\ntype = \"int\"\nlasts = \"{lasts}\"\ndefault = 70\n");
    let first = format!("[game]\nid = \"fellpost\"\n{}", volume("device"));
    let first = Spec::from_toml(&first).unwrap();
    let second = format!(
        "[game]\nid = \"fellpost\"\nversion = 2\n{}after_failure = \"keep\"\n[[migration]]\nto = 2\nsteps = [{{ move = \"volume\", to = \"profile\" }}]\n",
        volume("profile")
    );
    let history = vestigum::History::default().freeze(&first).unwrap().history;
    let second =
        Spec::from_named_toml_with_history("spec.toml", &second, history).unwrap_or_else(|errors| panic!("{errors}"));
    let folder = tempfile::tempdir().unwrap();
    for player in ["ada", "ben", "cleo"] {
        let mut game = launch(&first, folder.path(), player).unwrap();
        game.write("volume", &[], Value::Int(35)).unwrap();
        game.quit().unwrap();
    }
    for (player, steps) in [("ada", 1), ("ada", 0), ("ben", 1), ("ada", 0), ("cleo", 1)] {
        let game = launch(&second, folder.path(), player).unwrap();
        assert_eq!(game.load_report().migrated.len(), steps, "{player}");
        assert_eq!(game.value("volume", &[]).unwrap().as_int(), 35, "{player}");
        game.quit().unwrap();
    }
}
