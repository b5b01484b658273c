//! What cannot be read now is not damaged and not gone: a scanner holds a file for a second, the system has no more file numbers, a share
//! does not answer. Nothing is loaded, begun, pruned or called whole past it.

use std::path::PathBuf;

use vestigum::image::{BlobError, Origin};
use vestigum::{
    DirStore, Launch, Owner, ProfileError, ProfileState, Profiles, Saver, Session, SessionError, Spec, Store,
    StoreError, Value, prune_all,
};
use vestigum_verify::{Fault, SimDisk};

const WORLD: &str = r#"
[game]
id = "fellpost"
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.sketch]
type = "blob"
lasts = "profile"
after_failure = "keep"
[save]
keep = 3
"#;

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

fn ada() -> Owner {
    Owner::Profile("ada".into())
}

fn store(disk: &SimDisk) -> DirStore {
    DirStore::open_on(disk.clone(), "saves").unwrap()
}

fn plays(disk: &SimDisk, xp: i64) {
    let mut game = Session::launch(&spec(), store(disk), "ada").unwrap();
    game.write("xp", &[], Value::Int(xp)).unwrap();
    game.quit().unwrap();
}

fn newest_file(disk: &SimDisk) -> PathBuf {
    let store = store(disk);
    let newest = store.generations(&ada()).unwrap().pop().unwrap();
    store.file(&ada(), newest).unwrap()
}

fn xp_of(game: &Session) -> i64 {
    game.value("xp", &[]).unwrap().as_int()
}

/// A disk with generations 1 and 2, of 2 and 1,001 points.
fn played() -> SimDisk {
    let disk = SimDisk::default();
    plays(&disk, 2);
    plays(&disk, 1_001);
    disk
}

#[test]
fn a_read_that_fails_once_is_read_again() {
    let disk = played();
    // Whichever operation of the launch it is.
    for ahead in 0.. {
        let disk = disk.sound();
        disk.fail(disk.count() + ahead, Fault::Unavailable);
        let before = disk.count();
        let Ok(store) = DirStore::open_on(disk.clone(), "saves") else { continue };
        let game = Session::launch(&spec(), store, "ada").unwrap();
        assert_eq!(xp_of(&game), 1_001, "operation {ahead} failed");
        assert!(!matches!(game.load_report().origin, Origin::Recovered { .. }));
        if before + ahead >= disk.count() {
            break;
        }
    }
}

#[test]
fn a_read_that_fails_for_good_refuses_the_launch_and_a_person_decides() {
    let disk = played();
    let file = newest_file(&disk);
    disk.fail_always(&file, Fault::Unavailable);
    let refused = Session::launch(&spec(), store(&disk), "ada").unwrap_err();
    let told = refused.to_string();
    let SessionError::Store(StoreError::Unavailable { generation: 2, .. }) = refused else { panic!("{told}") };
    assert!(told.contains("generation 2 of profile `ada` cannot be read now"), "{told}");
    assert!(told.contains("2.json") && told.contains("another program holds it"), "{told}");
    assert!(Session::launch_anew(&spec(), store(&disk), "ada").is_err(), "it is no damage");
    // Pruning takes nothing that may be the newest.
    assert!(prune_all(&store(&disk), &ada(), 1).is_err());
    assert_eq!(store(&disk).generations(&ada()).unwrap(), [1, 2]);
    // The disk will never read it again, and the player knows.
    let game = Launch::new(&spec(), store(&disk), "ada").passing_over(2).begin().unwrap();
    assert_eq!(xp_of(&game), 2);
    let report = game.load_report().to_string();
    assert!(report.contains("passed over generation 2: it could not be read, and was to be passed over"), "{report}");
    game.quit().unwrap();
    // What can be read is not passed over, whatever was decided.
    let disk = played();
    let game = Launch::new(&spec(), store(&disk), "ada").passing_over(2).begin().unwrap();
    assert_eq!(xp_of(&game), 1_001);
}

#[test]
fn a_folder_that_cannot_be_read_begins_no_new_game() {
    for folder in ["saves/profiles", "saves/profiles/ada"] {
        let disk = played();
        disk.fail_always(folder.as_ref(), Fault::Unavailable);
        let refused = Session::launch(&spec(), store(&disk), "ada").unwrap_err();
        assert!(matches!(refused, SessionError::Store(_)), "{folder}: {refused}");
    }
}

#[test]
fn a_blob_that_cannot_be_read_is_not_lost() {
    let disk = SimDisk::default();
    let mut game = Session::launch(&spec(), store(&disk), "ada").unwrap();
    game.write("sketch", &[], Value::Bytes(b"over the ford".as_slice().into())).unwrap();
    game.quit().unwrap();
    let blob = disk.files().into_iter().find(|(path, _)| path.starts_with("saves/blobs")).unwrap().0;
    disk.fail_always(&blob, Fault::Unavailable);
    let refused = Session::launch(&spec(), store(&disk), "ada").unwrap_err();
    assert!(matches!(refused, SessionError::Store(StoreError::Unavailable { generation: 1, .. })), "{refused}");
    assert!(refused.to_string().contains("its blob"), "{refused}");
    let game = Launch::new(&spec(), store(&disk), "ada").passing_over(1).begin().unwrap();
    let lost = &game.load_report().lost_blobs;
    assert!(lost.len() == 1 && matches!(lost[0].why, BlobError::NotRead(_)), "{lost:?}");
}

#[test]
fn after_a_purge_what_cannot_be_read_or_is_damaged_begins_no_new_game() {
    let disk = SimDisk::default();
    let saver = Saver::new(store(&disk));
    let profiles = Profiles::new(&spec(), &saver);
    profiles.create("ada").unwrap();
    profiles.delete("ada").unwrap();
    profiles.purge("ada").unwrap();
    drop((profiles, saver));
    plays(&disk, 7);
    let file = newest_file(&disk);
    let damaged = disk.with_content(&file, b"cut".to_vec());
    let refused = Session::launch(&spec(), store(&damaged), "ada").unwrap_err();
    assert!(matches!(refused, SessionError::AllDamaged { .. }), "{refused}");
    disk.fail_always(&file, Fault::Unavailable);
    let refused = Session::launch(&spec(), store(&disk), "ada").unwrap_err();
    assert!(matches!(refused, SessionError::Store(StoreError::Unavailable { .. })), "{refused}");
}

#[test]
fn a_player_is_not_brought_back_past_a_save_that_cannot_be_read() {
    let disk = played();
    let file = newest_file(&disk);
    Profiles::new(&spec(), store(&disk)).delete("ada").unwrap();
    disk.fail_always(&file, Fault::Unavailable);
    let profiles = Profiles::new(&spec(), store(&disk));
    let refused = profiles.restore("ada").unwrap_err();
    assert!(matches!(refused, ProfileError::Store(StoreError::Unavailable { generation: 2, .. })), "{refused}");
    let listed = profiles.list().unwrap();
    assert!(matches!(&listed[0].state, ProfileState::Unavailable(why) if why.contains("2.json")), "{listed:?}");
}

#[test]
fn a_player_whose_saves_cannot_be_read_keeps_nobody_else_from_being_listed() {
    let disk = played();
    Profiles::new(&spec(), store(&disk)).create("bo").unwrap();
    disk.fail_always("saves/profiles/ada".as_ref(), Fault::Unavailable);
    let listed = Profiles::new(&spec(), store(&disk)).list().unwrap();
    let names: Vec<&str> = listed.iter().map(|profile| profile.name.as_str()).collect();
    assert_eq!(names, ["ada", "bo"]);
    assert!(matches!(listed[0].state, ProfileState::Unavailable(_)), "{listed:?}");
    assert_eq!(listed[1].state, ProfileState::Saved);
}

#[test]
fn a_read_that_comes_out_short_is_no_damage() {
    let disk = played();
    let file = newest_file(&disk);
    disk.fail_always(&file, Fault::ShortRead);
    let refused = Session::launch(&spec(), store(&disk), "ada").unwrap_err();
    assert!(refused.to_string().contains("bytes, found"), "{refused}");
}
