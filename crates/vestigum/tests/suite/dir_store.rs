//! Saves as files: what is on disk, what survives damage, and what is refused.

use std::fs;
use std::path::Path;
use std::time::Duration;

use vestigum::image::Tree;
use vestigum::{DirStore, MemoryStore, Owner, Place, Saver, Session, SessionError, Spec, Store, StoreError, Value};

const FELLPOST: &str = include_str!("../../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

fn spec() -> Spec {
    Spec::from_toml(fellpost()).unwrap()
}

fn launch(folder: &Path) -> Session {
    Session::launch(&spec(), DirStore::open(folder).unwrap(), "ada").unwrap()
}

/// Completes Mill Lane `times` times, with a better record each time.
fn evenings(folder: &Path, times: i64) {
    for n in 1..=times {
        let mut game = launch(folder);
        game.enter("mill_lane").unwrap();
        game.write("letters", &[], Value::Int(n * 10)).unwrap();
        game.complete().unwrap();
        game.quit().unwrap();
    }
}

fn generations(folder: &Path) -> Vec<u64> {
    let store = DirStore::open(folder).unwrap();
    store.generations(&Owner::Profile("ada".into())).unwrap()
}

fn file(folder: &Path, generation: u64) -> std::path::PathBuf {
    folder.join("profiles/ada").join(format!("{generation}.json"))
}

fn all_files(folder: &Path) -> Vec<(std::path::PathBuf, Vec<u8>)> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files.extend(all_files(&path));
        } else if path.file_name().is_some_and(|name| name != ".lock") {
            files.push((path.clone(), fs::read(&path).unwrap()));
        }
    }
    files.sort();
    files
}

#[test]
fn quitting_and_coming_back_gives_the_same_and_writes_nothing_new() {
    let folder = tempfile::tempdir().unwrap();
    evenings(folder.path(), 1);
    let files = all_files(folder.path());
    let names: Vec<_> = files.iter().map(|(path, _)| path.strip_prefix(folder.path()).unwrap().to_owned()).collect();
    assert_eq!(
        names,
        ["device/1.json", "profiles/ada/.installation", "profiles/ada/1.json"].map(std::path::PathBuf::from)
    );
    for _ in 0..5 {
        let game = launch(folder.path());
        assert_eq!(game.value("best_letters", &["mill_lane"]), Ok(Value::Int(10)));
        assert!(game.load_report().is_clean());
        game.quit().unwrap();
    }
    assert_eq!(all_files(folder.path()), files, "loading any number of times changes no byte");
}

#[test]
fn quitting_is_saving_and_crashing() {
    let play = |game: &mut Session| {
        game.enter("mill_lane").unwrap();
        game.write("letters", &[], Value::Int(30)).unwrap();
        game.checkpoint("ford").unwrap();
        game.write("score", &[], Value::Int(9)).unwrap();
    };
    let (one, other) = (MemoryStore::default(), MemoryStore::default());
    let mut game = Session::launch(&spec(), one.clone(), "ada").unwrap();
    play(&mut game);
    game.quit().unwrap();
    let mut game = Session::launch(&spec(), other.clone(), "ada").unwrap();
    play(&mut game);
    game.save().wait().unwrap();
    drop(game);
    let digest = |store: &MemoryStore| {
        let owner = Owner::Profile("ada".into());
        let image = store.read(&owner, *store.generations(&owner).unwrap().last().unwrap()).unwrap();
        // Two stores are two installations.
        vestigum::Image { origin: None, ..image }.digest()
    };
    assert_eq!(digest(&one), digest(&other));
}

#[test]
fn only_the_newest_generations_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    evenings(folder.path(), 8);
    // A session that ends leaves what takes longer to the next one.
    let left = generations(folder.path());
    assert!(left.len() < 8 && left.ends_with(&[6, 7, 8]), "{left:?}");
    let store = DirStore::open(folder.path()).unwrap();
    vestigum::prune_all(&store, &Owner::Profile("ada".into()), 3).unwrap();
    drop(store);
    assert_eq!(generations(folder.path()), [6, 7, 8]);
}

#[test]
fn a_damaged_save_is_passed_over_reported_and_left_where_it_is() {
    let folder = tempfile::tempdir().unwrap();
    evenings(folder.path(), 3);
    let bytes = fs::read(file(folder.path(), 3)).unwrap();
    fs::write(file(folder.path(), 3), &bytes[..bytes.len() / 2]).unwrap();
    let mut game = launch(folder.path());
    let report = game.load_report().to_string();
    assert!(
        report.starts_with("recovered from generation 2\n  passed over generation 3: it is truncated or malformed"),
        "{report}"
    );
    assert_eq!(game.value("best_letters", &["mill_lane"]), Ok(Value::Int(20)));
    game.write("xp", &[], Value::Int(1)).unwrap();
    game.quit().unwrap();
    assert!(generations(folder.path()).contains(&3), "damaged files stay");
    assert_eq!(fs::read(file(folder.path(), 3)).unwrap().len(), bytes.len() / 2);
    assert_eq!(launch(folder.path()).value("xp", &[]), Ok(Value::Int(1)));
}

#[test]
fn if_nothing_can_be_read_nothing_is_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    evenings(folder.path(), 2);
    for generation in [1, 2] {
        fs::write(file(folder.path(), generation), b"").unwrap();
    }
    let files = all_files(folder.path());
    let error = Session::launch(&spec(), DirStore::open(folder.path()).unwrap(), "ada").unwrap_err();
    assert!(matches!(&error, SessionError::AllDamaged { damaged, .. } if damaged.len() == 2), "{error}");
    assert_eq!(all_files(folder.path()), files);
    // Asked to, a new game begins behind the damage.
    let mut game = Session::launch_anew(&spec(), DirStore::open(folder.path()).unwrap(), "ada").unwrap();
    game.write("xp", &[], Value::Int(7)).unwrap();
    game.quit().unwrap();
    assert_eq!(generations(folder.path()), [1, 2, 3], "damaged files stay");
    assert_eq!(launch(folder.path()).value("xp", &[]), Ok(Value::Int(7)));
}

#[test]
fn saves_of_other_games_and_newer_versions_are_refused_and_kept() {
    let folder = tempfile::tempdir().unwrap();
    evenings(folder.path(), 2);
    let files = all_files(folder.path());
    let changed = |from: &str, to: &str| {
        let spec = Spec::from_toml(&fellpost().replace(from, to)).unwrap();
        Session::launch(&spec, DirStore::open(folder.path()).unwrap(), "ada")
            .map(drop)
            .map_err(|error| error.to_string())
    };
    let other = changed("id = \"fellpost\"", "id = \"hillpost\"").unwrap_err();
    assert!(other.contains("of the game `fellpost`, and this is `hillpost`"), "{other}");
    const HISTORY: &str = include_str!("../../../../demo/fellpost/fellpost.history.json");
    let newer = Spec::from_toml_with_history(&FELLPOST.replace("version = 4", "version = 5"), HISTORY).unwrap();
    let mut game = Session::launch(&newer, DirStore::open(folder.path()).unwrap(), "ada").unwrap();
    game.write("xp", &[], Value::Int(5)).unwrap();
    game.quit().unwrap();
    let refused = changed("version = 4", "version = 4").unwrap_err();
    assert!(refused.contains("of version 5, and this game knows versions up to 4"), "{refused}");
    assert!(all_files(folder.path()).len() > files.len(), "nothing was overwritten");
}

#[test]
fn a_second_store_of_the_same_process_is_told_that_it_is_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let game = launch(folder.path());
    let error = DirStore::open(folder.path()).unwrap_err();
    assert!(matches!(error, StoreError::OpenAlready { .. }), "{error}");
    assert!(error.to_string().starts_with("a store of this process has the save folder"), "{error}");
    drop(game);
    DirStore::open(folder.path()).unwrap();
}

#[test]
fn a_file_in_the_place_of_the_folder_is_an_error_in_words() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("saves");
    fs::write(&path, b"not a folder").unwrap();
    let message = DirStore::open(&path).unwrap_err().to_string();
    assert!(message.contains("cannot make the save folder"), "{message}");
    assert_eq!(fs::read(&path).unwrap(), b"not a folder");
}

/// The folder of the profile is gone and cannot be made again: a file stands in its place.
#[test]
fn a_failed_save_never_stops_play_and_a_failed_quit_keeps_the_session() {
    let folder = tempfile::tempdir().unwrap();
    let store = DirStore::open(folder.path()).unwrap();
    let saver = Saver::new(store.clone());
    let mut game = Session::launch(&spec(), &saver, "ada").unwrap();
    fs::write(folder.path().join("profiles"), b"in the way").unwrap();
    game.enter("mill_lane").unwrap();
    game.write("letters", &[], Value::Int(90)).unwrap();
    let done = game.complete().unwrap();
    assert!(done.save_due && game.save().wait().is_err() && game.save_failure().is_some() && !game.settled());
    let kept = game.quit_within(Duration::from_millis(50)).unwrap_err();
    assert!(kept.to_string().contains("cannot"), "{kept}");
    let game = *kept.session;
    assert_eq!(game.value("best_letters", &["mill_lane"]), Ok(Value::Int(90)));
    fs::remove_file(folder.path().join("profiles")).unwrap();
    // It is tried again, and nothing needs to be said.
    saver.flush(Duration::from_secs(30)).unwrap();
    assert!(game.save_failure().is_none() && game.settled());
    game.quit().unwrap();
    drop((saver, store));
    assert_eq!(launch(folder.path()).value("best_letters", &["mill_lane"]), Ok(Value::Int(90)));
}

#[test]
fn a_newer_generation_of_someone_else_is_a_conflict() {
    let store = MemoryStore::default();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    let mut other = game.suspend().profile_image("ada");
    other.values.insert("xp".into(), Tree::Int(1));
    store.commit(0, &other).unwrap();
    game.write("xp", &[], Value::Int(2)).unwrap();
    let error = game.save().wait().unwrap_err();
    assert!(matches!(*error, StoreError::Conflict { newest: 1, follows: 0, .. }), "{error}");
    let kept = game.quit().unwrap_err();
    assert_eq!(kept.session.value("xp", &[]), Ok(Value::Int(2)), "{kept}");
}

#[test]
fn a_crash_in_a_level_comes_back_to_the_last_save() {
    let folder = tempfile::tempdir().unwrap();
    let mut game = launch(folder.path());
    game.enter("mill_lane").unwrap();
    game.write("letters", &[], Value::Int(40)).unwrap();
    game.checkpoint("ford").unwrap();
    game.write("letters", &[], Value::Int(70)).unwrap();
    drop(game);
    let game = launch(folder.path());
    assert_eq!(game.value("letters", &[]), Ok(Value::Int(40)));
    assert_eq!(game.place(), Place::InLevel { level: "mill_lane".into(), checkpoint: Some("ford".into()) });
    assert_eq!(game.launch_outcome().respawn.as_ref().unwrap().checkpoint.as_deref(), Some("ford"));
}

#[test]
fn strange_profile_names_stay_inside_the_folder() {
    let folder = tempfile::tempdir().unwrap();
    let saves = folder.path().join("saves");
    for name in ["../../etc", "Ada", "ada", "con", "a/b", "ü", ".", "%41da"] {
        let mut game = Session::launch(&spec(), DirStore::open(&saves).unwrap(), name).unwrap();
        assert_eq!(game.value("xp", &[]), Ok(Value::Int(0)), "{name} meets another profile");
        game.write("xp", &[], Value::Int(1)).unwrap();
        game.quit().unwrap();
    }
    assert_eq!(fs::read_dir(saves.join("profiles")).unwrap().count(), 8);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    let long = Session::launch(&spec(), DirStore::open(&saves).unwrap(), &"x".repeat(61)).unwrap_err();
    assert!(long.to_string().contains("1 to 60 characters"), "{long}");
}
