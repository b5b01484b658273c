//! `vestigum freeze`, `check` and `migrate` on a game that ships updates.

use std::fs;

use crate::program::*;

#[test]
fn the_demos_history_is_what_freezing_its_versions_gives() {
    let folder = tempfile::tempdir().unwrap();
    let history = folder.path().join("fellpost.history.json");
    for (spec, said) in [
        ("shipped/v1/fellpost.toml", "version 1 is frozen  (the history has version 1)"),
        ("shipped/v2/fellpost.toml", "version 2 is frozen  (the history has versions 1 and 2)"),
        ("shipped/v3/fellpost.toml", "version 3 is frozen  (the history has versions 1, 2 and 3)"),
        ("fellpost.toml", "version 4 is frozen  (the history has versions 1, 2, 3 and 4)"),
        ("fellpost.toml", "version 4 is frozen already, just as it is"),
    ] {
        fs::copy(demo(spec), folder.path().join("fellpost.toml")).unwrap();
        let (code, out, err) = vestigum(folder.path(), &["freeze", "fellpost.toml"]);
        assert_eq!((code, err.as_str()), (0, ""));
        assert!(out.contains(said), "{out}");
    }
    let frozen = fs::read_to_string(&history).unwrap();
    assert_eq!(frozen, fs::read_to_string(demo("fellpost.history.json")).unwrap());
    // A field more is frozen with the same version; a field less is refused, and the history stays.
    let spec = fs::read_to_string(demo("fellpost.toml")).unwrap();
    let more = spec.replace(
        "[derived]",
        "[field.hats]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nmerge = \"sum\"\n[derived]",
    );
    fs::write(folder.path().join("fellpost.toml"), &more).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["freeze", "fellpost.toml"]);
    assert!(code == 0 && out.contains("has grown since"), "{out}");
    let grown = fs::read_to_string(&history).unwrap();
    fs::write(folder.path().join("fellpost.toml"), &spec).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["freeze", "fellpost.toml"]);
    assert!(code == 2 && err.contains("version 4 was frozen with the field `hats`"), "{err}");
    assert_eq!(fs::read_to_string(&history).unwrap(), grown);
}

#[test]
fn an_incompatible_change_fails_the_check_and_is_ready_to_paste() {
    let folder = shipped("v1");
    let path = folder.path().join("fellpost.toml");
    let spec = fs::read_to_string(&path).unwrap();
    let changed = spec.replace("[field.stamps]", "[field.coins]").replace("version = 4 ", "version = 5 ");
    fs::write(&path, &changed).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert_eq!(code, 1);
    let block = "    [[migration]]\n    to = 5\n    steps = [\n      { rename = \"field\", from = \"stamps\", to = \"coins\" },\n    ]\n";
    assert!(out.contains("error[V304]: version 4 has the field `stamps`") && out.contains(block), "{out}");
    let (code, _, err) = vestigum(folder.path(), &["fate", "fellpost.toml"]);
    assert!(code == 2 && err.contains("V304"), "{err}");
    fs::write(&path, format!("{changed}\n{block}")).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert!(code == 0 && out.contains("version 5 is not frozen yet"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(code == 0 && out.contains("of 4 older versions: all come through"), "{out}");
    fs::write(folder.path().join("fellpost.history.json"), "{").unwrap();
    let (code, _, err) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert!(code == 2 && err.contains("error[V301]: this is not a history"), "{err}");
}

#[test]
fn the_proof_tells_what_becomes_of_every_field() {
    let spec = demo("fellpost.toml");
    let spec = spec.to_str().unwrap();
    let (code, out, err) = here(&["migrate", spec, "--prove"]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 127), "the proof fits 127 columns");
    for row in [
        "best best_letters[mill_lane] filled in 2 best 78 → best_letters[mill_lane] 78",
        "debug_seed — dropped in 2",
        "best_time best_time converted in 3 123 → 123000",
        "score score carried, clamped in 65 saves 18",
        "places old_mill → mill_lane, heather_rise at hut → heather_rise at bothy, 5 places as before",
    ] {
        let told = out.lines().any(|line| line.split_whitespace().collect::<Vec<_>>().join(" ").starts_with(row));
        assert!(told, "{row}\n{out}");
    }
    let (_, other, _) = here(&["migrate", spec, "--prove", "--seed", "5", "--random", "10"]);
    assert!(other.contains("84 saves of 3 older versions"), "{other}");
    let (_, steps, _) = here(&["migrate", spec]);
    assert!(steps.contains("version 1 → 2\n   the level old_mill is mill_lane now"), "{steps}");

    // A fill that makes the same of everything passes the check, and not the proof.
    let folder = shipped("v2");
    let path = folder.path().join("fellpost.toml");
    let lossy =
        fs::read_to_string(demo("shipped/v3/fellpost.toml")).unwrap().replace("\"time * 1000\"", "\"time * 0\"");
    fs::write(&path, lossy).unwrap();
    let history = folder.path().join("fellpost.history.json");
    let mut frozen: serde_json::Value = serde_json::from_str(&fs::read_to_string(&history).unwrap()).unwrap();
    let mut forget_newest = || {
        frozen["shapes"].as_array_mut().unwrap().pop();
        fs::write(&history, frozen.to_string()).unwrap();
    };
    forget_newest();
    let (code, _, told) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(code == 2 && told.contains("error[V306]: the migration to version 3 has shipped"), "{told}");
    // As long as the version has not shipped, it can still be changed.
    forget_newest();
    let (code, out, _) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(code == 1 && out.contains("LOST") && out.contains("232 saves of 2 older versions: 2 fields lost"), "{out}");
    let (code, json) = json(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    let time = &json["versions"][0]["fields"][3];
    assert_eq!((code, &time["field"], &time["verdict"]), (1, &"time".into(), &"lost".into()));
}

/// Whatever an update takes from players is told, where they stood as well.
#[test]
fn the_proof_tells_of_places_and_of_what_is_lost_in_part() {
    let folder = tempfile::tempdir().unwrap();
    let spec = folder.path().join("fellpost.toml");
    let version = |version: u32, paths: &str, rest: &str| {
        let text = format!(
            "[game]\nid = \"fellpost\"\nversion = {version}\n[levels]\norder = [{paths}]\n[field.best]\ntype = \"int\"\n\
             per = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n[field.seed]\ntype = \"int\"\n\
             lasts = \"profile\"\nafter_failure = \"keep\"\n[save]\nresume = \"entry\"\n{rest}"
        );
        fs::write(&spec, text).unwrap();
        let run = |arguments: &[&str]| vestigum(folder.path(), arguments);
        (
            run(&["migrate", "fellpost.toml"]),
            run(&["migrate", "fellpost.toml", "--prove"]),
            run(&["freeze", "fellpost.toml"]),
        )
    };
    let (_, proof, (code, ..)) = version(1, "\"mill_lane\", \"heather_rise\", \"tarn_steps\"", "");
    assert_eq!((proof.0, code), (2, 0), "without a history nothing is to be proved");
    let (way, (code, out, _), _) = version(1, "\"mill_lane\", \"heather_rise\", \"tarn_steps\", \"attic\"", "");
    assert_eq!((way.1.as_str(), code), ("There is no older version to come from.\n", 0));
    assert_eq!(out, way.1);
    let steps = "[[migration]]\nto = 2\nsteps = [\n{ drop = \"level\", name = \"tarn_steps\" },\n\
        { fill = \"best\", with = \"best[mill_lane]\" },\n{ hook = \"seed\" },\n]\n";
    let (_, (code, out, _), _) = version(2, "\"mill_lane\", \"heather_rise\", \"attic\"", steps);
    assert_eq!(code, 1);
    for told in [
        "best best lost in part",
        "lost: best[heather_rise], best[attic]",
        "seed made by code in 2",
        "places tarn_steps → menu: there is no level `tarn_steps` of version 1 any more",
        "2 fields lost",
    ] {
        let told_in = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ").contains(told);
        assert!(out.lines().any(told_in), "{told}\n{out}");
    }
}

/// Without `--yes` the same is told as with it, also what one player leaves to the device before the next.
#[test]
fn a_dry_run_of_migrating_tells_what_is_done_with_yes() {
    use vestigum::{DirStore, Session, Spec};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("progress.toml");
    let text = |version: u8, lasts: &str, rest: &str| {
        format!("[game]\nid = \"fellpost\"\nversion = {version}\n[field.volume]\ntype = \"int\"\n{lasts}\n{rest}")
    };
    let of_player = "lasts = \"profile\"\nafter_failure = \"keep\"";
    fs::write(&path, text(1, of_player, "")).unwrap();
    assert_eq!(vestigum(folder.path(), &["freeze", "progress.toml"]).0, 0);
    let spec = Spec::from_toml(&text(1, of_player, "")).unwrap();
    for (name, volume) in [("ada", 30), ("bo", 50)] {
        let mut game = Session::launch(&spec, DirStore::open(folder.path().join("saves")).unwrap(), name).unwrap();
        game.write("volume", &[], volume.into()).unwrap();
        game.quit().unwrap();
    }
    let step = "[[migration]]\nto = 2\nsteps = [{ move = \"volume\", to = \"device\" }]\n";
    fs::write(&path, text(2, "lasts = \"device\"", step)).unwrap();
    let lines = |arguments: &[&str]| {
        let (code, out, err) = vestigum(folder.path(), arguments);
        assert_eq!((code, err.as_str()), (0, ""), "{out}");
        let told = out.lines().filter(|line| line.contains("dropped volume")).map(str::to_owned);
        told.collect::<Vec<_>>()
    };
    let tried = lines(&["saves", "migrate", "progress.toml", "saves"]);
    assert_eq!(tried.len(), 1, "{tried:?}");
    assert_eq!(lines(&["saves", "migrate", "progress.toml", "saves", "--yes"]), tried);
}

/// An old save with values of the device leaves them in a file of their own, and a second player's are told.
#[test]
fn values_of_the_device_are_never_left_out_in_silence() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    write("progress.toml", "[game]\nid = \"fellpost\"\n[field.volume]\ntype = \"int\"\nlasts = \"device\"\n");
    write("map.toml", "[take]\nvolume = \"volume\"\n");
    write("old.json", "{\"volume\": 30}");
    write("other.json", "{\"volume\": 50}");
    let run = |arguments: &[&str]| {
        vestigum(folder.path(), &[&["import-json", "progress.toml", "map.toml"], arguments].concat())
    };
    let (code, out, _) = run(&["old.json", "--out", "ada.json"]);
    assert!(code == 0 && out.contains("ada.device.json has the image of the device"), "{out}");
    assert!(fs::read_to_string(folder.path().join("ada.device.json")).unwrap().contains("\"volume\":30"));
    assert_eq!(run(&["old.json", "--saves", "saves", "--profile", "ada"]).0, 0);
    let (code, out, _) = run(&["other.json", "--saves", "saves", "--profile", "bo", "--deny", "left"]);
    assert!(code == 1 && out.contains("volume: the device has another value already"), "{out}");
}
