//! `vestigum saves` on the folders that the demo and its shipped versions leave.

use std::fs;
use std::path::PathBuf;

use crate::program::*;

#[test]
fn saves_are_reset_and_restored_only_with_yes() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let (spec, saves) = ("vestigum-demo/fellpost.toml", "vestigum-demo/saves");
    let reset = ["saves", "reset", spec, saves, "level", "mill_lane", "--profile", "ada"];
    let files = || {
        let entries = fs::read_dir(folder.path().join(saves).join("profiles/ada")).unwrap();
        let mut names: Vec<String> = entries.flatten().map(|entry| entry.file_name().into_string().unwrap()).collect();
        names.sort();
        names
    };
    let before = files();
    let (code, out, _) = vestigum(folder.path(), &reset);
    assert_eq!(code, 0);
    assert!(out.contains("best_letters[mill_lane]   90        0") && out.contains("nothing was changed"), "{out}");
    assert_eq!(files(), before);
    let (code, out, _) = vestigum(folder.path(), &[&reset[..], &["--yes"]].concat());
    assert!(code == 0 && out.contains("done as generation 6"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &reset);
    assert!(out.contains("everything is at its beginning already"), "{out}");
    let (code, out, _) =
        vestigum(folder.path(), &["saves", "restore", saves, "5", "--profile", "ada", "--yes", "--spec", spec]);
    assert!(code == 0 && out.contains("it is generation 7 now"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &reset);
    assert!(out.contains("best_letters[mill_lane]   90        0"), "{out}");
    for (scope, told) in [
        (&["run"][..], "lanterns   2        3"),
        (&["field", "best_letters", "mill_lane"], "1 value"),
        (&["profile"], "xp "),
        (&["device"], "everything is at its beginning already"),
        (&["everything"], "xp "),
    ] {
        let (code, out, _) = vestigum(folder.path(), &[&reset[..4], scope, &["--profile", "ada"]].concat());
        assert!(code == 0 && out.contains(told), "{scope:?}\n{out}");
    }
    let cases: [(&[&str], &str); 8] = [
        (&["saves", "reset", spec, saves, "level", "--profile", "ada"], "`level` takes the name of one level, found 0"),
        (&["saves", "reset", spec, saves, "field", "--profile", "ada"], "`field` takes the name of a field"),
        (&["saves", "restore", saves, "99", "--profile", "ada"], "has no generation 99; there are: "),
        (&["saves", "restore", saves, "7", "--profile", "ada"], "is the newest of profile `ada` already"),
        (&["saves", "restore", saves, "1", "--profile", "ben"], "there are: profile `ada`, the device"),
        (&["saves", "restore", "nowhere", "1", "--profile", "ada"], "there is no save folder nowhere"),
        (&["saves", "reset", spec, saves, "level", "attic", "--profile", "ada"], "no level is called `attic`"),
        (&["saves", "reset", spec, saves, "run", "now", "--profile", "ada"], "this takes no name"),
    ];
    for (arguments, expected) in cases {
        let (code, _, err) = vestigum(folder.path(), arguments);
        assert_eq!(code, 2, "{arguments:?}");
        assert!(err.contains(expected), "{arguments:?}: {err}");
    }
}

/// Copies the demo's saves, with generation 5 cut in half and generation 4 edited.
fn damaged() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let ada = folder.path().join("vestigum-demo/saves/profiles/ada");
    let (newest, edited) = (ada.join("5.json"), ada.join("4.json"));
    let bytes = fs::read(&newest).unwrap();
    fs::write(newest, &bytes[..bytes.len() / 2]).unwrap();
    fs::write(&edited, fs::read_to_string(&edited).unwrap().replace("\"xp\":15", "\"xp\":9000")).unwrap();
    folder
}

const SPEC: &str = "vestigum-demo/fellpost.toml";
const SAVES: &str = "vestigum-demo/saves";

#[test]
fn saves_are_listed_and_verified_with_what_is_wrong() {
    let folder = damaged();
    let (code, out, _) = vestigum(folder.path(), &["saves", "list", SAVES]);
    assert_eq!(code, 0);
    for line in ["4 files of fellpost, 2 of them damaged", "damaged", "changed after it was saved", "heather_rise"] {
        assert!(out.contains(line), "{out}");
    }
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", SAVES]);
    assert_eq!(code, 1);
    assert!(
        out.contains("saves/profiles/ada/5.json: it is truncated or malformed") && out.contains("2 not whole"),
        "{out}"
    );
    let (code, verified) = json(folder.path(), &["saves", "verify", SAVES]);
    assert_eq!((code, &verified["files"], &verified["damaged"][0]["generation"]), (1, &4.into(), &5.into()));
    let (_, listed) = json(folder.path(), &["saves", "list", SAVES]);
    assert_eq!((&listed["saves"][1]["generation"], &listed["saves"][1]["game"]), (&4.into(), &"fellpost".into()));
    assert_eq!(vestigum(folder.path(), &["saves", "list", "nowhere"]).0, 2);
}

#[test]
fn a_save_is_shown_as_a_players_progress() {
    let folder = damaged();
    let (code, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES]);
    // It is not the newest, and that is said.
    assert_eq!(code, 1);
    assert!(out.contains("generation 5 is newer, and damaged") && out.contains("generation 4 is newer"), "{out}");
    assert!(out.contains("profile `ada`, generation 3") && out.contains("stands at: menu"), "{out}");
    assert!(out.contains("mill_lane      90") && out.contains("4 stars, 2 so far"), "{out}");
    assert!(out.contains("rank           1          derived"), "{out}");
    // What nobody can vouch for is shown too, when it is asked for, and says so.
    let (_, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES, "4"]);
    assert!(out.contains("changed after it was saved") && out.contains("9000"), "{out}");
    assert!(out.contains("at the entry"), "the player stands in a level: {out}");
    let (code, _, err) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES, "5"]);
    assert!(
        code == 2 && err.contains("generation 5 of profile `ada` cannot be shown: it is truncated or malformed"),
        "{err}"
    );
    let (_, shown) = json(folder.path(), &["saves", "show", SPEC, SAVES, "3"]);
    assert_eq!((&shown["place"], &shown["board"][0]["completed"]), (&"menu".into(), &true.into()));
    let (_, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES, "--device"]);
    assert!(out.contains("volume   70"), "{out}");
}

#[test]
fn an_edited_save_is_compared_and_taken_up() {
    let folder = damaged();
    let (_, out, _) = vestigum(folder.path(), &["saves", "diff", SPEC, SAVES, "3", "4"]);
    assert!(
        out.contains("xp         15       9000") && out.contains("stood at menu, and stands at heather_rise"),
        "{out}"
    );
    let seal = ["saves", "seal", SPEC, SAVES, "4"];
    let (_, out, _) = vestigum(folder.path(), &seal);
    assert!(out.contains("against generation 3") && out.contains("nothing was changed: add --yes"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &[&seal[..], &["--yes"]].concat());
    assert!(out.contains("it is generation 6 now"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES]);
    assert!(out.contains("generation 6") && out.contains("xp             9000"), "{out}");
    let (_, compared) = json(folder.path(), &["saves", "diff", SPEC, SAVES, "3", "6"]);
    assert_eq!(compared["values"].as_array().unwrap().len(), 3);
    // With a key of the game, what was saved without one is refused, and sealed when it is accepted.
    fs::write(folder.path().join("key"), "the lanterns of Cloud Pass\n").unwrap();
    let with_key = ["--key-file", "key"];
    let (code, out, _) = vestigum(folder.path(), &[&["saves", "verify", SAVES], &with_key[..]].concat());
    assert!(code == 1 && out.contains("it is not sealed, and this game seals its saves"), "{out}");
    vestigum(folder.path(), &[&["saves", "seal", SPEC, SAVES, "6", "--yes"], &with_key[..]].concat());
    let (_, out, _) = vestigum(folder.path(), &[&["saves", "show", SPEC, SAVES], &with_key[..]].concat());
    assert!(out.contains("generation 7") && out.contains("whole"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &["saves", "list", SAVES]);
    assert!(out.contains("sealed") && out.contains("say --key-file FILE"), "{out}");
}

#[test]
fn a_save_folder_is_migrated_only_with_yes() {
    let folder = shipped("v1");
    let migrate =
        |more: &[&str]| vestigum(folder.path(), &[&["saves", "migrate", "fellpost.toml", "saves"], more].concat());
    let (code, out, err) = migrate(&[]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("score was 8001050, outside its limits; it is 999999 now"), "{out}");
    assert!(out.contains("nothing was changed: add --yes to bring 2 players to version 4"), "{out}");
    assert!(out.contains("   new, at the default: best_time, falls, best_streak, gate_open, played, "), "{out}");
    assert!(!folder.path().join("saves/device").exists());
    let (code, out, _) = migrate(&["--yes"]);
    assert!(code == 0 && out.contains("ada   generation 3, version 1 → 4, written as generation 4"), "{out}");
    // Bert played last, so the device has his volume.
    let device = fs::read_to_string(folder.path().join("saves/device/1.json")).unwrap();
    assert!(device.contains("\"volume\":90"), "{device}");
    let (code, out, _) = migrate(&[]);
    assert!(code == 0 && out.contains("all are of version 4 already"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", "saves"]);
    assert_eq!(code, 0, "{out}");
}

#[test]
fn a_player_who_cannot_be_migrated_stays_as_he_is() {
    let folder = shipped("v1");
    let bert = folder.path().join("saves/profiles/bert");
    let saves = || -> Vec<(PathBuf, Vec<u8>)> {
        let files = fs::read_dir(&bert).unwrap().map(|file| file.unwrap().path());
        let mut files: Vec<_> = files.filter(|file| file.extension().is_some_and(|end| end == "json")).collect();
        files.sort();
        files.into_iter().map(|file| (file.clone(), fs::read(file).unwrap())).collect()
    };
    for (file, bytes) in saves() {
        fs::write(file, &bytes[..100]).unwrap();
    }
    let before = saves();
    let (code, out, _) = vestigum(folder.path(), &["saves", "migrate", "fellpost.toml", "saves"]);
    assert!(code == 1 && out.contains("add --yes to bring 1 player to version 4\n1 player could not"), "{out}");
    let (code, told) = json(folder.path(), &["saves", "migrate", "fellpost.toml", "saves", "--yes"]);
    assert_eq!((code, &told["ok"], &told["done"]), (1, &false.into(), &true.into()));
    let players = told["players"].as_array().unwrap();
    let of = |name: &str| players.iter().find(|player| player["profile"] == name).unwrap();
    assert_eq!((&of("ada")["version"], &of("ada")["written"]), (&1.into(), &4.into()));
    assert!(of("bert")["error"].as_str().unwrap().contains("generation 4: it is truncated or malformed"), "{told}");
    assert_eq!(saves(), before);
    let (code, out, _) = vestigum(folder.path(), &["saves", "migrate", "fellpost.toml", "saves", "--yes"]);
    assert!(code == 1 && out.contains("ada   version 4 already\nbert   no save of profile `bert`"), "{out}");
    assert!(!out.contains("done"), "{out}");

    fs::create_dir(folder.path().join("empty")).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["saves", "migrate", "fellpost.toml", "empty"]);
    assert!(code == 2 && err.contains("there are no saves of any player"), "{err}");
    let (code, told) = json(folder.path(), &["migrate", "fellpost.toml"]);
    assert_eq!((code, told["migrations"].as_array().unwrap().len()), (0, 3));
    fs::remove_file(folder.path().join("fellpost.history.json")).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(
        code == 2 && err.contains("there are migrations, and no history that tells what saves they come from"),
        "{err}"
    );
}

#[test]
fn players_of_a_folder_are_listed_and_changed_only_with_yes() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let profile = |rest: &[&str]| {
        let begin = ["saves", "profile", "vestigum-demo/fellpost.toml", "vestigum-demo/saves"];
        vestigum(folder.path(), &[&begin[..], rest].concat())
    };
    let listed = || profile(&[]).1;
    let before = listed();
    assert!(before.contains("ada") && before.contains("goes on") && !before.contains("deleted"), "{before}");
    let (code, out, _) = profile(&["delete", "ada"]);
    assert!(code == 0 && out.contains("nothing was changed: add --yes, and ada is deleted"), "{out}");
    assert_eq!(listed(), before);
    for (action, told) in [
        (&["copy", "ada", "bo"][..], "bo has what ada has"),
        (&["rename", "bo", "cara"], "bo is called cara"),
        (&["delete", "ada"], "ada is deleted"),
        (&["restore", "ada"], "ada is back"),
        (&["delete", "cara"], "cara is deleted"),
        (&["purge", "cara"], "nothing is left of cara"),
        (&["create", "dot"], "dot is a player who has played nothing"),
    ] {
        let (code, out, err) = profile(&[action, &["--yes"]].concat());
        assert!(code == 0 && out.contains(told) && out.contains("done"), "{action:?}\n{out}{err}");
    }
    profile(&["delete", "dot", "--yes"]);
    let saves = |command: &[&str]| vestigum(folder.path(), &[&["saves"], command].concat());
    let (spec, there) = ("vestigum-demo/fellpost.toml", "vestigum-demo/saves");
    let (code, out, _) = saves(&["show", spec, there, "--profile", "dot"]);
    assert!(code == 0 && out.contains("the player was deleted") && !out.contains("mill_lane"), "{out}");
    let (code, out, _) = saves(&["migrate", spec, there]);
    assert!(code == 0 && out.contains("all are of version 4 already") && !out.contains("dot"), "{out}");
    profile(&["restore", "dot", "--yes"]);
    let (_, out, _) = profile(&["list", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    let names: Vec<&str> =
        json["profiles"].as_array().unwrap().iter().filter_map(|row| row["profile"].as_str()).collect();
    assert_eq!(names, ["ada", "dot"]);
    for (action, told) in [
        (&["create", "ada"][..], "there is a player `ada` already"),
        (&["copy", "eve", "bo"], "there is no player `eve`"),
        (&["restore", "ada"], "the player `ada` is not deleted"),
    ] {
        let (code, _, err) = profile(&[action, &["--yes"]].concat());
        assert!(code == 2 && err.contains(told), "{err}");
    }
}

#[test]
fn a_blob_that_is_lost_is_named_and_the_rest_is_shown() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", SAVES]);
    assert!(code == 0 && out.contains("4 files and 1 blob, all whole"), "{out}");
    let blobs = folder.path().join(SAVES).join("blobs");
    let blob = fs::read_dir(&blobs).unwrap().flatten().next().unwrap();
    fs::write(blob.path(), "somebody else's view").unwrap();
    let told = format!("its blob {} of 24 bytes was changed after it was saved", blob.file_name().display());
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", SAVES]);
    assert!(code == 1 && out.contains(&told) && !out.contains("no whole save left"), "{out}");
    let (code, verified) = json(folder.path(), &["saves", "verify", SAVES]);
    assert_eq!(
        (code, &verified["blobs"], &verified["damaged"][0]["lost_blobs"][0]),
        (1, &1.into(), &told.clone().into())
    );
    let (_, out, _) = vestigum(folder.path(), &["saves", "list", SAVES]);
    assert!(out.contains("blob lost") && out.contains(&told), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES]);
    assert!(code == 0 && out.contains(&format!("picture is at its default: {told}")), "{out}");
    assert!(out.contains("mill_lane      90"), "{out}");
    fs::write(blobs.join("notes.txt"), "").unwrap();
    let (_, out, _) = vestigum(folder.path(), &["saves", "list", SAVES, "--keep", "1"]);
    assert!(out.contains("passed over: vestigum-demo/saves/blobs/notes.txt: it is not a blob"), "{out}");
}

#[test]
fn saves_are_copied_between_kinds_of_stores_and_read_back() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let (there, back) = ("sqlite:fellpost.db", "back");
    let (code, out, _) = vestigum(folder.path(), &["saves", "copy", SAVES, there]);
    assert!(code == 0 && out.contains("4 saves of 2 owners would be copied; add --yes"), "{out}");
    assert!(!folder.path().join("fellpost.db").exists());
    let (code, out, _) = vestigum(folder.path(), &["saves", "copy", SAVES, there, "--yes"]);
    assert!(code == 0 && out.contains("each read back with the digest and the blobs that it had"), "{out}");
    // One that was cut short goes on, and a whole one has nothing to do.
    let (code, out, _) = vestigum(folder.path(), &["saves", "copy", SAVES, there, "--yes"]);
    assert!(code == 0 && out.contains("4 saves of 2 owners"), "{out}");
    // What is shown of a file is what is shown of the folder.
    let shown = |place: &str| vestigum(folder.path(), &["saves", "show", SPEC, place, "--profile", "ada"]).1;
    let values = |shown: String| shown.split_once("stands at").map(|(_, rest)| rest.to_owned());
    assert!(values(shown(SAVES)).is_some_and(|values| values.contains("picture        24 bytes")));
    assert_eq!(values(shown(SAVES)), values(shown(there)));
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", there]);
    assert!(code == 0 && out.contains("4 files and 1 blob, all whole"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &["saves", "list", there, "--keep", "1"]);
    assert!(out.contains("heather_rise") && out.contains("2 files of"), "{out}");
    let (code, out, _) =
        vestigum(folder.path(), &["saves", "reset", SPEC, there, "level", "mill_lane", "--profile", "ada", "--yes"]);
    assert!(code == 0 && out.contains("done as generation 6"), "{out}");
    // What was changed there since is not written over.
    let (code, _, err) = vestigum(folder.path(), &["saves", "copy", SAVES, there, "--yes"]);
    assert!(code == 2 && err.contains("other saves in sqlite:fellpost.db already; nothing was copied"), "{err}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "diff", SPEC, there, "--profile", "ada"]);
    assert!(code == 0 && out.contains("best_letters[mill_lane]"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "profile", SPEC, there, "copy", "ada", "bo", "--yes"]);
    assert!(code == 0, "{out}");
    let (code, copied) = json(folder.path(), &["saves", "copy", there, back, "--yes"]);
    assert_eq!((code, &copied["saves"], &copied["owners"].as_array().unwrap().len()), (0, &5.into(), &3));
    assert_eq!(values(shown(there)), values(shown(back)));
    // A damaged one is left, and told.
    let ada = folder.path().join(back).join("profiles/ada");
    fs::write(ada.join("4.json"), "half").unwrap();
    let (code, out, _) = vestigum(folder.path(), &["saves", "copy", back, "sqlite:again.db", "--yes"]);
    assert!(code == 1 && out.contains("generation 4 of profile `ada` is left:"), "{out}");
    for place in ["nowhere", "sqlite:nowhere.db"] {
        let (code, _, err) = vestigum(folder.path(), &["saves", "copy", place, "sqlite:new.db", "--yes"]);
        assert!(code == 2 && err.contains("there is no"), "{err}");
    }
    fs::write(folder.path().join("notes.db"), "a long letter ".repeat(100)).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["saves", "list", "sqlite:notes.db"]);
    assert!(code == 2 && err.contains("file is not a database"), "{err}");
}

/// Saves of one player in two places, who had the same save once.
fn parted(folder: &std::path::Path) {
    let [spec, history] =
        ["fellpost.toml", "fellpost.history.json"].map(|file| fs::read_to_string(demo(file)).unwrap());
    let spec = vestigum::Spec::from_toml_with_history(&spec, &history).unwrap();
    let walk = |place: &str, path: &str, letters: i64, xp: i64| {
        let store = vestigum::DirStore::open(folder.join(place)).unwrap();
        let mut game = vestigum::Session::launch(&spec, store, "ada").unwrap();
        game.enter(path).unwrap();
        game.add(spec.int("letters").unwrap(), letters).unwrap();
        game.add(spec.int("xp").unwrap(), xp).unwrap();
        game.complete().unwrap();
        game.quit().unwrap();
    };
    walk("laptop", "mill_lane", 60, 100);
    let (code, _, err) = vestigum(folder, &["saves", "copy", "laptop", "hand_held", "--yes"]);
    assert_eq!(code, 0, "{err}");
    walk("laptop", "heather_rise", 40, 25);
    walk("hand_held", "mill_lane", 90, 40);
}

#[test]
fn saves_of_two_places_are_merged_only_with_yes() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    for file in ["fellpost.toml", "fellpost.history.json"] {
        fs::copy(demo(file), folder.join(file)).unwrap();
    }
    parted(folder);
    let merge = ["saves", "merge", "fellpost.toml", "laptop", "hand_held"];
    let (code, out, err) = vestigum(folder, &merge);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("xp                           125       140        165        sum"), "{out}");
    assert!(out.contains("best_letters[mill_lane]      60        90         90         max"), "{out}");
    assert!(out.contains("nothing was changed"), "{out}");
    let (_, again) = json(folder, &merge);
    assert_eq!(again["done"], serde_json::Value::from(false));
    assert_eq!(again["written"], serde_json::json!({ "here": null, "there": null }));
    let (code, out, _) = vestigum(folder, &[&merge[..], &["--yes"]].concat());
    assert!(code == 0 && out.contains("done: generation 3 here and generation 3 there"), "{out}");
    for place in ["laptop", "hand_held"] {
        let (_, shown, _) = vestigum(folder, &["saves", "show", "fellpost.toml", place]);
        assert!(shown.contains("165"), "{shown}");
    }
    // Said twice, it changes nothing.
    for _ in 0..2 {
        let (code, out, _) = vestigum(folder, &[&merge[..], &["--yes"]].concat());
        assert!(code == 0 && out.contains("in sync: both places have the same"), "{out}");
    }
    // A place without saves takes what the other has.
    let empty = ["saves", "merge", "fellpost.toml", "laptop", "shared"];
    fs::create_dir(folder.join("shared")).unwrap();
    let (code, out, err) = vestigum(folder, &[&empty[..], &["--yes"]].concat());
    assert!(code == 0 && out.contains("the other place has it as generation 1"), "{out}{err}");
    let cases: [(&[&str], &str); 4] = [
        (&["nowhere", "hand_held"], "there is no save folder nowhere"),
        (&["laptop", "hand_held", "--device"], "unexpected argument '--device'"),
        (&["laptop", "hand_held", "--profile", "ben"], "there are no saves of profile `ben`"),
        (&["laptop", "hand_held", "--take", "both"], "expected `here` or `there`"),
    ];
    for (places, expected) in cases {
        let (code, _, err) = vestigum(folder, &[&merge[..3], places].concat());
        assert!(code == 2 && err.contains(expected), "{places:?}: {err}");
    }
    // A damaged newest save is passed over, and told.
    let newest = folder.join("hand_held/profiles/ada/3.json");
    let whole = fs::read(&newest).unwrap();
    fs::write(&newest, &whole[..whole.len() / 2]).unwrap();
    let (code, out, _) = vestigum(folder, &merge);
    assert!(code == 1 && out.contains("generation 3 there is damaged, and passed over"), "{out}");
    let (code, told) = json(folder, &merge);
    assert_eq!((code, &told["damaged"][0]["generation"]), (1, &3.into()));
    fs::write(&newest, &whole).unwrap();
    // Older saves that are restored count as play, and somebody who changes them by hand does, too.
    let restore = ["saves", "restore", "laptop", "1", "--profile", "ada", "--yes"];
    let (code, _, err) = vestigum(folder, &restore);
    assert!(code == 2 && err.contains("--spec"), "{err}");
    let (code, _, err) = vestigum(folder, &[&restore[..], &["--spec", "fellpost.toml"]].concat());
    assert_eq!(code, 0, "{err}");
    let (_, out, _) = vestigum(folder, &[&merge[..], &["--yes"]].concat());
    assert!(out.contains("the save here includes all that the other one does"), "{out}");
    let newest = folder.join("laptop/profiles/ada/4.json");
    let edited = fs::read_to_string(&newest).unwrap().replace("\"xp\":100", "\"xp\":900");
    fs::write(&newest, edited).unwrap();
    let (code, _, err) =
        vestigum(folder, &["saves", "seal", "fellpost.toml", "laptop", "4", "--profile", "ada", "--yes"]);
    assert_eq!(code, 0, "{err}");
    let (code, _, err) = vestigum(folder, &[&merge[..], &["--yes"]].concat());
    assert_eq!(code, 0, "{err}");
    let (_, shown, _) = vestigum(folder, &["saves", "show", "fellpost.toml", "hand_held"]);
    assert!(shown.contains("900"), "{shown}");
    let plain = fs::read_to_string(demo("fellpost.toml")).unwrap();
    let plain: String = plain
        .lines()
        .filter(|line| !line.starts_with("merge = ") && !line.starts_with("run = "))
        .map(|line| format!("{line}\n"))
        .collect();
    let plain = plain.replace("[merge]", "# [merge]");
    fs::write(folder.join("plain.toml"), plain).unwrap();
    fs::copy(demo("fellpost.history.json"), folder.join("plain.history.json")).unwrap();
    vestigum(folder, &["saves", "restore", "laptop", "1", "--profile", "ada", "--yes", "--spec", "fellpost.toml"]);
    let (code, _, err) = vestigum(folder, &["saves", "merge", "plain.toml", "laptop", "hand_held"]);
    assert!(code == 2 && err.contains("the spec has no `[merge]`") && err.contains("--take here"), "{err}");
    let (code, out, _) = vestigum(folder, &[&merge[..], &["--take", "there", "--yes"]].concat());
    assert!(code == 0 && out.contains("both places have what was there, as one more save"), "{out}");
    let (_, out, _) = vestigum(folder, &merge);
    assert!(out.contains("in sync"), "{out}");
}

#[test]
fn a_save_from_before_there_was_a_spec_is_taken_over() {
    let (spec, adopted) = (demo("fellpost.toml"), demo("../adopted"));
    let folder = tempfile::tempdir().unwrap();
    let import = |name: &str, more: &[&str]| {
        let (map, old) = (adopted.join(format!("{name}.toml")), adopted.join(format!("{name}.json")));
        let files = [spec.to_str().unwrap(), map.to_str().unwrap(), old.to_str().unwrap()];
        vestigum(folder.path(), &[&["import-json"], &files[..], more].concat())
    };
    for name in ["nested", "flat", "lists"] {
        let (code, out, err) = import(name, &["--deny", "left"]);
        assert_eq!((code, err.as_str()), (0, ""), "{out}");
        assert!(out.contains("everything of it is taken"), "{out}");
        // The device keeps the volume of the first of them, and that is told.
        let (code, out, err) = import(name, &["--saves", "saves", "--profile", name]);
        assert_eq!((code, err.as_str()), (0, ""), "{out}");
        assert_eq!(out.contains("volume: the device has another value already"), name == "flat", "{out}");
    }
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", "saves"]);
    assert!(code == 0 && out.contains("all whole"), "{out}");
    // A player who has saves keeps them.
    let (code, _, err) = import("flat", &["--saves", "saves", "--profile", "flat"]);
    assert!(code == 2 && err.contains("has saves in saves already; nothing was written"), "{err}");
    // The image is what a playthrough imports.
    assert_eq!(import("nested", &["--out", "old.json"]).0, 0);
    assert_eq!(import("nested", &["--out", "old.json"]).0, 2, "a file is not written over");
    let play = "playthrough \"old\"\nimport \"old.json\"\nlaunch\nexpect xp == 620 and open(tarn_steps)\n";
    fs::write(folder.path().join("old.play"), play).unwrap();
    let (code, out, err) = vestigum(folder.path(), &["play", spec.to_str().unwrap(), "old.play"]);
    assert_eq!((code, err.as_str()), (0, ""), "{out}");

    // A map that takes one thing only: the rest is told, and with --deny it is an error and nothing is written.
    fs::write(folder.path().join("small.toml"), "[take]\nxp = \"player.exp\"\nfalls = \"player.falls\"").unwrap();
    let old = adopted.join("nested.json");
    let files = ["import-json", spec.to_str().unwrap(), "small.toml", old.to_str().unwrap()];
    let (code, out, _) = vestigum(folder.path(), &[&files[..], &["--deny", "left", "--out", "no.json"]].concat());
    assert_eq!(code, 1);
    assert!(out.contains("there is no player.falls for falls") && out.contains("levels.Bonus.best"), "{out}");
    assert!(!folder.path().join("no.json").exists());
    let (code, told) = json(folder.path(), &files);
    assert!(code == 0 && told["ok"] == true && told["whole"] == false && told["taken"][0]["value"] == 620, "{told}");
    fs::write(folder.path().join("wrong.toml"), "[take]\nxpp = \"a\"").unwrap();
    let (code, _, err) =
        vestigum(folder.path(), &["import-json", spec.to_str().unwrap(), "wrong.toml", old.to_str().unwrap()]);
    assert!(code == 2 && err.contains("did you mean `xp`?"), "{err}");
}

/// A copy writes the newest save of a player first: cut short anywhere, a launch there finds nothing or the newest.
#[test]
fn a_copy_that_was_cut_short_is_gone_on_with() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let (code, ..) = vestigum(folder.path(), &["saves", "copy", SAVES, "whole", "--yes"]);
    assert_eq!(code, 0);
    let ada = folder.path().join("whole/profiles/ada");
    let mut names: Vec<String> =
        fs::read_dir(&ada).unwrap().flatten().map(|entry| entry.file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(names, ["3.json", "4.json", "5.json"], "they keep their numbers");
    // As it is after the first of them.
    fs::remove_file(ada.join("3.json")).unwrap();
    fs::remove_file(ada.join("4.json")).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, "whole", "--profile", "ada"]);
    assert!(code == 0 && out.contains("generation 5"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "copy", SAVES, "whole", "--yes"]);
    assert!(code == 0 && out.contains("4 saves of 2 owners"), "{out}");
    assert!(ada.join("3.json").is_file() && ada.join("4.json").is_file());
}

/// Owners that could not be read were left out without a word: "1 file, all whole".
#[cfg(unix)]
#[test]
fn what_cannot_be_read_is_named_and_nothing_is_called_whole() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["demo"]);
    let saves = folder.path().join(SAVES);
    let mode = |path: &std::path::Path, mode: u32| {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    };
    mode(folder.path(), 0o755);
    let spec = folder.path().join(SPEC);
    let (spec, place) = (spec.to_str().unwrap(), saves.to_str().unwrap());
    let file = saves.join("profiles/ada/5.json");
    mode(&file, 0o000);
    let Some((code, out, _)) = as_a_stranger(&["saves", "verify", place]) else { return };
    assert!(code == 1 && out.contains("5.json: it cannot be read now") && out.contains("1 could not be read"), "{out}");
    assert!(!out.contains("all whole"), "{out}");
    let (code, out, _) = as_a_stranger(&["saves", "list", place]).unwrap();
    assert!(code == 1 && out.contains("not read"), "{out}");
    let (code, _, err) = as_a_stranger(&["saves", "show", spec, place, "--profile", "ada"]).unwrap();
    assert!(code == 2 && err.contains("generation 5 of profile `ada` is the newest and cannot be read now"), "{err}");
    let (code, out, _) = as_a_stranger(&["saves", "show", spec, place, "4", "--profile", "ada"]).unwrap();
    assert!(code == 0 && out.contains("generation 4"), "{out}");
    mode(&file, 0o644);
    let player = saves.join("profiles/ada");
    mode(&player, 0o000);
    let (code, out, _) = as_a_stranger(&["saves", "verify", place]).unwrap();
    assert!(code == 1 && out.contains("the saves of profile `ada` could not be listed"), "{out}");
    mode(&player, 0o755);
    let (code, out, _) = as_a_stranger(&["saves", "verify", place]).unwrap();
    assert!(code == 0 && out.contains("all whole"), "{out}");
}

#[test]
fn a_place_is_named_by_its_scheme_and_a_password_is_never_shown() {
    let folder = tempfile::tempdir().unwrap();
    let (code, _, err) = vestigum(folder.path(), &["saves", "list", "mysql://db.example/fellpost"]);
    assert!(code == 2 && err.contains("expected a folder, sqlite:FILE or postgres://"), "{err}");
    for scheme in ["postgres", "Postgres", "POSTGRESQL"] {
        let place = format!("{scheme}://fellpost:S3@cret@127.0.0.1:1/fellpost");
        for arguments in [&["saves", "list", &place][..], &["saves", "prepare", &place, "--json"]] {
            let (code, out, err) = vestigum(folder.path(), arguments);
            let told = out + &err;
            assert!(code == 2 && told.contains("write one of the password as `%40`"), "{told}");
            assert!(!told.contains("S3") && !told.contains("cret"), "{told}");
        }
    }
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "no folder of that name is made");
}
