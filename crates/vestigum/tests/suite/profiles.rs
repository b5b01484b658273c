//! Players: listed, made, copied, renamed, deleted, brought back and purged.

use std::time::Duration;

use vestigum::image::SavedPlace;
use vestigum::{
    DirStore, Image, MemoryStore, Owner, ProfileError, ProfileState, Profiles, Saver, Session, SessionError, Spec,
    Store, Value, prune_all,
};

const SPEC: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[level.mill_lane]\ntitle = \"Mill Lane\"\n\
    checkpoints = [\"ford\"]\n[save]\nat = [\"checkpoint\"]\n\
    [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.played]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\ncounts = \"ms\"\n";

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

/// A player of that name with that number of points, who stands at the ford.
fn plays(spec: &Spec, saver: &Saver, name: &str, xp: i64) {
    let mut game = Session::launch(spec, saver, name).unwrap();
    game.tick(Duration::from_secs(90)).unwrap();
    // Where a save was made in the level, play goes on there.
    let _ = game.travel();
    game.enter("mill_lane").unwrap();
    game.write("xp", &[], Value::Int(xp)).unwrap();
    game.checkpoint("ford").unwrap();
    game.quit().unwrap();
}

fn xp(spec: &Spec, saver: &Saver, name: &str) -> i64 {
    let game = Session::launch(spec, saver, name).unwrap();
    let xp = game.value("xp", &[]).unwrap().as_int();
    game.quit().unwrap();
    xp
}

fn states(profiles: &Profiles) -> Vec<(String, ProfileState)> {
    profiles.list().unwrap().into_iter().map(|profile| (profile.name, profile.state)).collect()
}

fn on_every_store(test: impl Fn(Spec, Saver)) {
    test(spec(), Saver::new(MemoryStore::default()));
    let folder = tempfile::tempdir().unwrap();
    test(spec(), Saver::new(DirStore::open(folder.path()).unwrap()));
}

#[test]
fn a_list_tells_what_a_title_screen_shows() {
    on_every_store(|spec, saver| {
        plays(&spec, &saver, "ada", 5);
        let profiles = Profiles::new(&spec, &saver);
        profiles.create("Bo").unwrap();
        let listed = profiles.list().unwrap();
        assert_eq!(listed.iter().map(|profile| profile.name.as_str()).collect::<Vec<_>>(), ["Bo", "ada"]);
        let ada = &listed[1];
        assert_eq!((ada.level.as_deref(), ada.played), (Some("Mill Lane"), Some(Duration::from_secs(90))));
        assert_eq!(ada.place.as_ref().map(ToString::to_string).as_deref(), Some("mill_lane at ford"));
        assert!(ada.saved_at.starts_with("20") && ada.state == ProfileState::Saved);
        assert_eq!(listed[0].place.as_ref().map(ToString::to_string).as_deref(), Some("menu"));
    });
}

#[test]
fn a_player_is_copied_renamed_deleted_brought_back_and_purged() {
    on_every_store(|spec, saver| {
        plays(&spec, &saver, "ada", 5);
        let profiles = Profiles::new(&spec, &saver);
        profiles.copy("ada", "bo").unwrap();
        profiles.rename("ada", "cara").unwrap();
        assert_eq!(states(&profiles).iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>(), ["bo", "cara"]);
        plays(&spec, &saver, "bo", 7);
        assert_eq!([xp(&spec, &saver, "bo"), xp(&spec, &saver, "cara")], [7, 5]);
        profiles.delete("bo").unwrap();
        assert_eq!(states(&profiles)[0], ("bo".into(), ProfileState::Deleted));
        assert_eq!(profiles.list().unwrap()[0].level.as_deref(), Some("Mill Lane"), "it tells what would come back");
        let refused = Session::launch(&spec, &saver, "bo").unwrap_err();
        assert!(matches!(refused, SessionError::Deleted { .. }), "{refused}");
        assert!(matches!(profiles.create("bo"), Err(ProfileError::Taken { deleted: true, .. })));
        profiles.restore("bo").unwrap();
        assert_eq!(xp(&spec, &saver, "bo"), 7);
        profiles.delete("bo").unwrap();
        profiles.purge("bo").unwrap();
        assert_eq!(states(&profiles).len(), 1);
        assert!(matches!(profiles.restore("bo"), Err(ProfileError::Unknown { .. })));
        // Nothing of the player is left, and the name begins anew.
        let owner = Owner::Profile("bo".into());
        let left: Vec<Image> = saver
            .store()
            .generations(&owner)
            .unwrap()
            .iter()
            .map(|generation| saver.store().read(&owner, *generation).unwrap())
            .collect();
        assert!(left.len() == 1 && left[0].place == SavedPlace::Deleted && left[0].values.is_empty());
        assert_eq!(xp(&spec, &saver, "bo"), 0);
        profiles.delete("bo").unwrap();
    });
}

#[test]
fn what_cannot_be_done_changes_nothing() {
    on_every_store(|spec, saver| {
        plays(&spec, &saver, "ada", 5);
        plays(&spec, &saver, "bo", 7);
        let profiles = Profiles::new(&spec, &saver);
        let before = profiles.list().unwrap();
        let told = [
            (profiles.copy("ada", "bo"), "there is a player `bo` already"),
            (profiles.copy("ada", "ada"), "there is a player `ada` already"),
            (profiles.copy("nobody", "cara"), "there is no player `nobody`"),
            (profiles.rename("ada", ""), "`` cannot be the name of a profile"),
            (profiles.delete("nobody"), "there is no player `nobody`"),
            (profiles.restore("ada"), "the player `ada` is not deleted"),
            (profiles.purge("ada"), "the player `ada` is not deleted"),
            (profiles.create("ada"), "there is a player `ada` already"),
            (profiles.create(&"x".repeat(61)), "cannot be the name of a profile"),
        ];
        for (result, wanted) in told {
            let error = result.expect_err(wanted).to_string();
            assert!(error.contains(wanted), "{error}");
        }
        assert_eq!(profiles.list().unwrap(), before);
        // Nothing is done to a player who plays, and others are not in the way.
        let game = Session::launch(&spec, &saver, "ada").unwrap();
        for result in [profiles.delete("ada"), profiles.copy("ada", "cara"), profiles.rename("ada", "cara")] {
            assert!(matches!(result, Err(ProfileError::Session(SessionError::AlreadyRunning { .. }))));
        }
        profiles.delete("bo").unwrap();
        game.quit().unwrap();
    });
}

/// Pruning keeps the newest generations, so a deleted player can be brought back until it is purged.
#[test]
fn a_deleted_player_outlives_the_pruning_of_others_and_damage_brings_it_back() {
    let folder = tempfile::tempdir().unwrap();
    let (spec, store) = (spec(), DirStore::open(folder.path()).unwrap());
    let saver = Saver::new(store.clone());
    (1..=5).for_each(|xp| plays(&spec, &saver, "ada", xp));
    let profiles = Profiles::new(&spec, &saver);
    profiles.delete("ada").unwrap();
    let owner = Owner::Profile("ada".into());
    prune_all(&store, &owner, spec.keep()).unwrap();
    profiles.restore("ada").unwrap();
    assert_eq!(xp(&spec, &saver, "ada"), 5);
    profiles.delete("ada").unwrap();
    let newest = store.generations(&owner).unwrap().pop().unwrap();
    std::fs::write(store.file(&owner, newest).unwrap(), "cut").unwrap();
    assert_eq!(xp(&spec, &saver, "ada"), 5, "what says that it is gone is damaged");
}

/// The deletion was counted as the one save to keep, and the save was pruned.
#[test]
fn with_one_generation_kept_a_deleted_player_can_be_brought_back() {
    on_every_store(|spec, saver| {
        plays(&spec, &saver, "ada", 5);
        let profiles = Profiles::new(&spec, &saver);
        profiles.delete("ada").unwrap();
        prune_all(saver.store(), &Owner::Profile("ada".into()), 1).unwrap();
        profiles.restore("ada").unwrap();
        assert_eq!(xp(&spec, &saver, "ada"), 5);
    });
}

/// A damaged generation is never pruned; a purge that left it kept the player listed, and the name from being used again.
#[test]
fn a_purge_leaves_nothing_of_damaged_generations() {
    let folder = tempfile::tempdir().unwrap();
    let (spec, store) = (spec(), DirStore::open(folder.path()).unwrap());
    let saver = Saver::new(store.clone());
    plays(&spec, &saver, "ada", 5);
    let owner = Owner::Profile("ada".into());
    std::fs::write(store.file(&owner, 1).unwrap(), "cut").unwrap();
    let profiles = Profiles::new(&spec, &saver);
    // Also the only one: a player whose saves are all damaged can be given up.
    profiles.delete("ada").unwrap();
    assert!(matches!(profiles.restore("ada"), Err(ProfileError::Unknown { .. })));
    profiles.purge("ada").unwrap();
    assert!(profiles.list().unwrap().is_empty());
    assert_eq!(store.generations(&owner).unwrap().len(), 1);
    profiles.create("ada").unwrap();
}
