//! The real program on real files.

use std::fs;
use std::path::{Path, PathBuf};

use assert_cmd::Command;

fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost").join(name)
}

/// Exit code, standard output, standard error.
fn vestigum(folder: &Path, arguments: &[&str]) -> (i32, String, String) {
    let output = Command::cargo_bin("vestigum").unwrap().current_dir(folder).args(arguments).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

fn here(arguments: &[&str]) -> (i32, String, String) {
    vestigum(Path::new("."), arguments)
}

#[test]
fn the_demo_spec_is_fine() {
    let (code, out, err) = here(&["check", demo("fellpost.toml").to_str().unwrap()]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("no errors"), "{out}");
}

#[test]
fn a_spec_with_a_mistake_fails_the_check_and_stops_the_others() {
    let folder = tempfile::tempdir().unwrap();
    let broken = fs::read_to_string(demo("fellpost.toml")).unwrap().replace("max = \"letters\"", "max = \"leters\"");
    fs::write(folder.path().join("broken.toml"), broken).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "broken.toml"]);
    assert_eq!(code, 1);
    assert!(out.contains("broken.toml:98:24") && out.contains("did you mean `letters`?"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["check", "broken.toml", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &json["findings"][0]["code"]), (1, &"V004".into()));
    for command in ["fate", "play"] {
        let (code, out, err) = vestigum(folder.path(), &[command, "broken.toml"]);
        assert_eq!((code, out.as_str()), (2, ""), "{err}");
        assert!(err.contains("error[V004]"), "{err}");
    }
}

#[test]
fn unreadable_input_has_exit_code_2_and_a_sentence() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("latin.toml"), b"[game]\nid = \"\xe9\"\n").unwrap();
    fs::write(folder.path().join("alone.toml"), "[game]\nid = \"fellpost\"\n").unwrap();
    let cases: [(&[&str], &str); 6] = [
        (&["check", "nowhere.toml"], "cannot read nowhere.toml"),
        (&["fate", "."], "it is a folder"),
        (&["check", "latin.toml"], "line 2 is not UTF-8 text"),
        (&["play", "alone.toml"], "there are no .play files beside alone.toml"),
        (&["check", "--explain", "V999"], "there is no code `V999`"),
        (&["frobnicate"], "unrecognized subcommand"),
    ];
    for (arguments, expected) in cases {
        let (code, _, err) = vestigum(folder.path(), arguments);
        assert_eq!(code, 2, "{arguments:?}");
        assert!(err.contains(expected), "{arguments:?}: {err}");
    }
}

#[test]
fn the_fate_table_tells_the_same_in_every_form() {
    let spec = demo("fellpost.toml");
    let spec = spec.to_str().unwrap();
    let (code, text, _) = here(&["fate", spec]);
    assert_eq!(code, 0);
    assert!(text.lines().all(|line| line.chars().count() <= 127), "the demo's table fits 127 columns");
    assert!(!text.contains('\u{1b}'), "no colour outside a terminal");
    let score = text.lines().find(|line| line.trim_start().starts_with("score")).unwrap();
    let words: Vec<&str> = score.split_whitespace().collect();
    let expected = "score ● ● ◔ entry ◔ entry ● ● ◔ entry ◔ entry ○ reset ● ◔ entry ◷ saved";
    assert_eq!(words.join(" "), expected);
    let (_, markdown, _) = here(&["fate", spec, "--format", "md"]);
    assert!(markdown.contains("| score | run | ● | ● | ◔ entry | ◔ entry | ● |"), "{markdown}");
    let (_, html, _) = here(&["fate", spec, "--format", "html"]);
    assert!(html.contains("<td class=\"entry\">◔ entry</td>"), "{html}");
    let (_, json, _) = here(&["fate", spec, "--json"]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(json["fields"][0]["fates"]["death"]["fate"], "entry");
    let (_, colour, _) = here(&["fate", spec, "--color", "always"]);
    assert!(colour.contains("\u{1b}["));
}

#[test]
fn the_demo_playthroughs_pass_in_memory_and_on_disk() {
    let spec = demo("fellpost.toml");
    for more in [&[][..], &["--on-disk"], &["--trace"], &["--on-disk", "--json"]] {
        let (code, out, err) = here(&[&["play", spec.to_str().unwrap()], more].concat());
        assert_eq!((code, err.as_str()), (0, ""), "{out}");
    }
    let (code, out, _) = here(&["play", spec.to_str().unwrap(), "--only", "an evening", "--trace"]);
    assert_eq!(code, 0);
    assert!(out.lines().all(|line| line.chars().count() <= 127), "the timeline fits 127 columns");
    assert!(out.contains("65 → 30") && out.contains("opens tarn_steps and scree_gate"), "{out}");
}

#[test]
fn a_failing_playthrough_says_why_and_exits_with_1() {
    let folder = tempfile::tempdir().unwrap();
    let play = folder.path().join("wrong.play");
    fs::write(&play, "playthrough \"kept\"\nlaunch\nenter mill_lane\n  score += 60\n  death\n  expect score == 60\n")
        .unwrap();
    let spec = demo("fellpost.toml");
    let (code, out, _) = vestigum(folder.path(), &["play", spec.to_str().unwrap(), "wrong.play"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(out, @r"
    wrong.play
      ✗ kept  5 statements

        wrong.play:6  expect score == 60
          fails  score == 60   score is 0
          score was last changed at line 5 by death: 60 → 0


    1 playthrough, 1 failed
    ");
    let (code, out, _) = vestigum(folder.path(), &["play", spec.to_str().unwrap(), "wrong.play", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &json["playthroughs"][0]["failure"]["line"]), (1, &6.into()));
}

#[test]
fn statements_that_go_another_way_are_told_in_every_form() {
    let folder = tempfile::tempdir().unwrap();
    let play = "playthrough \"taken\"\nlaunch\nrefuse enter mill_lane\n\
        playthrough \"refused\"\nlaunch\nenter cloud_pass\n\
        playthrough \"damaged\"\nlaunch\nsave\nquit\ndamage all\nlaunch\n\
        playthrough \"the board\"\nlaunch\nboard\nquit\n";
    fs::write(folder.path().join("ways.play"), play).unwrap();
    let spec = demo("fellpost.toml");
    let arguments = ["play", spec.to_str().unwrap(), "ways.play", "--trace"];
    let (code, out, _) = vestigum(folder.path(), &arguments);
    assert_eq!(code, 1);
    for told in [
        "ways.play:3  refuse enter mill_lane\n      it was not refused",
        "ways.play:6  enter cloud_pass\n      refused: `cloud_pass` is locked: needs completed[scree_gate]",
        "ways.play:12  launch\n      refused: no save of profile `player` can be read",
        "4 playthroughs, 3 failed",
    ] {
        assert!(out.contains(told), "{told}\n{out}");
    }
    for on_disk in [&[][..], &["--on-disk"]] {
        let (code, told) = json(folder.path(), &[&arguments[..], on_disk].concat());
        let played = told["playthroughs"].as_array().unwrap();
        let why = |index: usize| &played[index]["failure"]["why"];
        assert_eq!((code, &why(0)["not_refused"]), (1, &true.into()));
        assert!(why(1)["refused"].as_str().unwrap().contains("is locked"), "{told}");
        assert!(why(2)["refused"].as_str().unwrap().starts_with("no save of profile `player` can be read"), "{told}");
        let board = &played[3]["timeline"][1]["board"];
        assert_eq!((&board[0]["open"], &board[0]["values"]["best_time"]), (&true.into(), &serde_json::Value::Null));
        assert_eq!(board[1]["why_locked"], "needs completed[mill_lane]");
    }
}

#[test]
fn the_demo_runs_and_leaves_its_files() {
    let folder = tempfile::tempdir().unwrap();
    let (code, out, err) = vestigum(folder.path(), &["demo"]);
    assert_eq!((code, err.as_str()), (0, ""), "{out}");
    for file in ["fellpost.toml", "plays/evening.play", "saves/profiles/ada"] {
        assert!(folder.path().join("vestigum-demo").join(file).exists(), "{file}");
    }
    let (code, json, _) = vestigum(folder.path(), &["demo", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!((code, &json["folder"], &json["ok"]), (0, &"vestigum-demo-2".into(), &true.into()));
    let (code, ..) = vestigum(folder.path(), &["play", "vestigum-demo/fellpost.toml"]);
    assert_eq!(code, 0, "the unpacked demo runs by itself");
}

#[test]
fn every_code_can_be_explained() {
    let (code, out, _) = here(&["check", "--explain", "v003"]);
    assert_eq!(code, 0);
    assert!(out.starts_with("V003: a field that play writes does not say what a failure does to it"), "{out}");
}

/// Every pattern is a spec of its own with a playthrough that passes, in memory and on disk.
#[test]
fn every_pattern_passes() {
    let patterns = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/patterns");
    let mut count = 0;
    for entry in fs::read_dir(&patterns).unwrap().flatten() {
        let name = entry.file_name().into_string().unwrap();
        let spec = entry.path().join(format!("{name}.toml"));
        let spec = spec.to_str().unwrap();
        for more in [&[][..], &["--on-disk", "--trace"]] {
            let (code, out, err) = here(&[&["play", spec], more].concat());
            assert_eq!((code, err.as_str()), (0, ""), "{name}: {out}");
        }
        let (code, table, _) = here(&["fate", spec]);
        assert_eq!(code, 0);
        assert!(table.lines().all(|line| line.chars().count() <= 127), "{name}: {table}");
        count += 1;
    }
    assert!(count >= 24, "{count} patterns");
}

#[test]
fn the_starter_is_a_spec_with_a_playthrough_and_overwrites_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let (code, out, _) = vestigum(folder.path(), &["new", "game"]);
    assert_eq!(code, 0, "{out}");
    assert_eq!(vestigum(folder.path(), &["check", "game/progress.toml"]).0, 0);
    assert_eq!(vestigum(folder.path(), &["play", "game/progress.toml"]).0, 0);
    fs::write(folder.path().join("game/first.play"), "mine").unwrap();
    fs::remove_file(folder.path().join("game/progress.toml")).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["new", "game"]);
    assert_eq!(code, 2);
    assert!(err.contains("first.play is there already; nothing was written"), "{err}");
    assert!(!folder.path().join("game/progress.toml").exists());
}

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
    assert!(out.contains("best_letters[mill_lane]   90       0") && out.contains("nothing was changed"), "{out}");
    assert_eq!(files(), before);
    let (code, out, _) = vestigum(folder.path(), &[&reset[..], &["--yes"]].concat());
    assert!(code == 0 && out.contains("done as generation 6"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &reset);
    assert!(out.contains("everything is at its beginning already"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["saves", "restore", saves, "5", "--profile", "ada", "--yes"]);
    assert!(code == 0 && out.contains("it is generation 7 now"), "{out}");
    let (_, out, _) = vestigum(folder.path(), &reset);
    assert!(out.contains("best_letters[mill_lane]   90       0"), "{out}");
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
        (
            &["saves", "reset", spec, saves, "level", "--profile", "ada"],
            "`level` takes the name of one level; here are 0",
        ),
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

fn json(folder: &Path, arguments: &[&str]) -> (i32, serde_json::Value) {
    let (code, out, err) = vestigum(folder, &[arguments, &["--json"]].concat());
    (code, serde_json::from_str(&out).unwrap_or_else(|error| panic!("{arguments:?}: {error}\n{out}\n{err}")))
}

#[test]
fn every_command_speaks_json() {
    let folder = tempfile::tempdir().unwrap();
    let (code, new) = json(folder.path(), &["new", "game"]);
    assert_eq!((code, &new["files"][0]), (0, &"game/progress.toml".into()));
    let spec = "game/progress.toml";
    let (code, check) = json(folder.path(), &["check", spec]);
    assert_eq!((code, &check["ok"]), (0, &true.into()));
    let (_, explained) = json(folder.path(), &["check", "--explain", "V010"]);
    assert_eq!(explained["code"], "V010");
    let (_, fate) = json(folder.path(), &["fate", spec]);
    let lives = fate["fields"].as_array().unwrap().iter().find(|field| field["field"] == "lives").unwrap();
    assert_eq!((&lives["fates"]["death"]["fate"], &lives["fates"]["death"]["operand"]), (&"add".into(), &"-1".into()));
    assert_eq!(lives["rules"][0]["rule"], "add -1");
    let (code, played) = json(folder.path(), &["play", spec, "--trace"]);
    let first = &played["playthroughs"][0];
    assert_eq!((code, &played["ok"], &first["passed"]), (0, &true.into(), &true.into()));
    let death = first["timeline"].as_array().unwrap().iter().find(|row| row["statement"] == "death").unwrap();
    assert_eq!(death["values"]["coins"], serde_json::json!({ "before": 17, "after": 12 }));
    json(folder.path(), &["demo"]);
    let (spec, saves) = ("vestigum-demo/fellpost.toml", "vestigum-demo/saves");
    let (_, preview) = json(folder.path(), &["saves", "reset", spec, saves, "run", "--profile", "ada"]);
    assert_eq!((&preview["done"], &preview["changes"][0]["field"]), (&false.into(), &"score".into()));
    let (_, restored) = json(folder.path(), &["saves", "restore", saves, "4", "--profile", "ada"]);
    assert_eq!((&restored["done"], &restored["restored"]), (&false.into(), &4.into()));
    for arguments in [&["check", "nowhere.toml"][..], &["play", "nowhere.toml"], &["saves", "restore", "nowhere", "1"]]
    {
        let (code, error) = json(folder.path(), arguments);
        assert_eq!(code, 2);
        assert!(error["error"].as_str().unwrap().contains("nowhere"), "{error}");
    }
}

#[test]
fn a_script_with_mistakes_stops_before_anything_runs() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("bad.play"), "playthrough \"bad\"\nlauch\nenter mil_lane\n").unwrap();
    let spec = demo("fellpost.toml");
    let (code, out, err) = vestigum(folder.path(), &["play", spec.to_str().unwrap(), "bad.play"]);
    assert_eq!((code, out.as_str()), (2, ""));
    assert!(err.contains("bad.play:2:1") && err.contains("did you mean `launch`?"), "{err}");
    assert!(err.contains("bad.play:3:7") && err.contains("did you mean `mill_lane`?"), "{err}");
    let (code, json) = json(folder.path(), &["play", spec.to_str().unwrap(), "bad.play"]);
    assert_eq!((code, json["findings"].as_array().unwrap().len()), (2, 2));
}

#[test]
fn colour_follows_the_flag_and_the_environment() {
    let spec = demo("fellpost.toml");
    let coloured = |arguments: &[&str], no_color: bool| {
        let mut command = Command::cargo_bin("vestigum").unwrap();
        command.arg("check").arg(&spec).args(arguments).env_remove("NO_COLOR");
        if no_color {
            command.env("NO_COLOR", "1");
        }
        command.output().unwrap().stdout.contains(&0x1b)
    };
    assert!(!coloured(&[], false), "a pipe is no terminal");
    assert!(coloured(&["--color", "always"], false));
    assert!(coloured(&["--color", "always"], true), "who asks for colour gets it");
    assert!(!coloured(&["--color", "never"], false));
}

/// The demo's saves, of which generation 5 is cut in half and generation 4 edited.
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
    for line in ["4 files of fellpost, 2 of them not whole", "damaged", "changed after it was saved", "heather_rise"] {
        assert!(out.contains(line), "{out}");
    }
    let (code, out, _) = vestigum(folder.path(), &["saves", "verify", SAVES]);
    assert_eq!(code, 1);
    assert!(out.contains("saves/profiles/ada/5.json: it is not whole") && out.contains("2 not whole"), "{out}");
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
    assert_eq!(code, 0);
    assert!(out.contains("profile `ada`, generation 3") && out.contains("stands at: menu"), "{out}");
    assert!(out.contains("mill_lane      90") && out.contains("needs total_stars >= 4, has 2"), "{out}");
    assert!(out.contains("rank           1     derived"), "{out}");
    // What nobody can vouch for is shown too, when it is asked for, and says so.
    let (_, out, _) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES, "4"]);
    assert!(out.contains("changed after it was saved") && out.contains("9000"), "{out}");
    assert!(out.contains("at the entry"), "the player stands in a level: {out}");
    let (code, _, err) = vestigum(folder.path(), &["saves", "show", SPEC, SAVES, "5"]);
    assert!(code == 2 && err.contains("generation 5 of profile `ada` cannot be shown: it is not whole"), "{err}");
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
    // With a key of the game, what was saved without one is refused, and sealed when it is taken up.
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
fn faults_are_tried_under_a_playthrough() {
    let spec = demo("fellpost.toml");
    let play = ["faults", spec.to_str().unwrap(), "--only", "a replay lowers no record"];
    let (code, out, _) = here(&play);
    assert_eq!(code, 0, "{out}");
    for line in ["power loss", "bit rot", "each acknowledged save was there, or a newer one, whole"] {
        assert!(out.contains(line), "{out}");
    }
    let (_, tried) = json(Path::new("."), &play);
    assert_eq!((&tried["ok"], &tried["tried"]["disk error"]["violations"]), (&true.into(), &0.into()));
    assert!(tried["tried"]["power loss"]["outcomes"].as_u64().unwrap() > 100, "{tried}");
    assert_eq!(here(&["faults", spec.to_str().unwrap(), "--only", "no such thing"]).0, 2);
}

/// A spec of demo/mistakes.
fn mistake(name: &str) -> String {
    demo("").join("../mistakes").join(name).join("mistake.toml").display().to_string()
}

#[test]
fn warnings_pass_unless_they_are_denied_or_allowed() {
    let folder = tempfile::tempdir().unwrap();
    let spec = mistake("record_by_set");
    let (code, out, _) = here(&["check", &spec]);
    assert_eq!(code, 0);
    assert!(out.contains("warning[V102]: a replay can lower this record") && out.contains("1 warning"), "{out}");
    assert_eq!(here(&["check", &spec, "--deny", "warnings"]).0, 1);
    let allow = "\n[[allow]]\ncode = \"V102\"\nof = \"best_letters\"\nbecause = \"it shows the last visit\"\n";
    let text = fs::read_to_string(&spec).unwrap();
    fs::write(folder.path().join("allowed.toml"), text.clone() + allow).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "allowed.toml", "--deny", "warnings"]);
    assert!(code == 0 && out.contains("allowed V102") && out.contains("because it shows the last visit"), "{out}");
    fs::write(folder.path().join("idle.toml"), text.replace("{ set =", "{ max =") + allow).unwrap();
    let (_, out, _) = vestigum(folder.path(), &["check", "idle.toml"]);
    assert!(out.contains("warning[V108]: nothing has the finding V102 of `best_letters`"), "{out}");
    let (_, checked) = json(folder.path(), &["check", "allowed.toml"]);
    assert_eq!((&checked["ok"], &checked["allowed"][0]["code"]), (&true.into(), &"V102".into()));
}

#[test]
fn a_broken_promise_is_explored_told_and_written() {
    let folder = tempfile::tempdir().unwrap();
    let spec = mistake("record_by_set");
    let (code, out, _) = vestigum(folder.path(), &["explore", &spec, "--out", "found"]);
    assert_eq!(code, 1);
    assert!(out.contains("`best_letters[mill_lane]` fell from 10 to 0 at `complete`; the shortest way:"), "{out}");
    assert!(out.contains("expect best_letters[mill_lane] >= 10") && out.contains("1 broken"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["play", &spec, "found/a_replay_lowers_no_record.play"]);
    assert!(code == 1 && out.contains("best_letters[mill_lane] was last changed at line"), "{out}");
    let (code, answers) = json(folder.path(), &["explore", &spec, "--only", "every level"]);
    assert_eq!((code, &answers["questions"][0]["all"]), (0, &true.into()));
    assert_eq!(here(&["explore", &spec, "--without", "breakfast"]).0, 2);
    // What is asked of every game can be allowed, with a reason.
    let spec = mistake("giving_up_keeps_what_dying_takes");
    assert_eq!(here(&["explore", &spec]).0, 1);
    let allow = "\n[[allow]]\ncode = \"V203\"\nof = \"score\"\nbecause = \"giving up is meant to be kind\"\n";
    fs::write(folder.path().join("kind.toml"), fs::read_to_string(&spec).unwrap() + allow).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["explore", "kind.toml"]);
    assert!(code == 0 && out.contains("because giving up is meant to be kind"), "{out}");
    assert_eq!(vestigum(folder.path(), &["check", "kind.toml", "--deny", "warnings"]).0, 0);
}

#[test]
fn a_rule_that_nobody_pins_is_probed() {
    let spec = demo("fellpost.toml");
    let one = demo("plays/falls.play");
    let folder = tempfile::tempdir().unwrap();
    let missing = folder.path().join("missing.play");
    let arguments = ["probe", spec.to_str().unwrap(), one.to_str().unwrap()];
    let (code, out, _) = here(&[&arguments[..], &["--all", "--out", missing.to_str().unwrap()]].concat());
    assert_eq!(code, 1);
    assert!(out.contains("best_score: `set` in `on.complete = { max = \"score\" }`"), "{out}");
    assert!(out.contains("nobody notices; this would:") && out.contains("expect best_score == 40"), "{out}");
    assert!(out.contains("✓ lanterns: after_failure = \"entry\" instead of \"keep\""), "{out}");
    assert!(out.contains("no play that was tried tells them apart"), "{out}");
    // With what was missing, nothing goes unnoticed.
    let (code, probed) = json(Path::new("."), &[&arguments[..], &[missing.to_str().unwrap()]].concat());
    assert_eq!((code, &probed["ok"]), (0, &true.into()));
    assert!(probed["changes"].as_array().unwrap().iter().any(|change| change["noticed_by"].is_string()), "{probed}");

    // What fails already would notice everything.
    let wrong = folder.path().join("wrong.play");
    fs::write(&wrong, "playthrough \"wrong\"\nlaunch\nexpect score == 1\n").unwrap();
    let arguments = ["probe", spec.to_str().unwrap(), wrong.to_str().unwrap()];
    let (code, out, _) = here(&arguments);
    assert!(code == 1 && out.contains("wrong.play: wrong\n  fails on the spec as it is"), "{out}");
    let (code, probed) = json(Path::new("."), &arguments);
    assert!(code == 1 && probed["failing"].as_str().unwrap().ends_with("wrong.play: wrong"), "{probed}");
}

/// docs/lints.md says what `--explain` says. `VESTIGUM_WRITE_DOCS=1` writes it anew.
#[test]
fn the_reference_of_codes_is_current() {
    let path = demo("").join("../../docs/lints.md");
    let text = vestigum::codes::as_markdown();
    if std::env::var_os("VESTIGUM_WRITE_DOCS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    assert_eq!(fs::read_to_string(&path).unwrap_or_default(), text, "write it anew with VESTIGUM_WRITE_DOCS=1");
}

/// A folder with the demo's spec under another name, its history and the saves of a shipped version.
fn shipped(version: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for file in ["fellpost.toml", "fellpost.history.json"] {
        fs::copy(demo(file), folder.path().join(file)).unwrap();
    }
    let from = demo("shipped").join(version).join("saves");
    let mut open = vec![from.clone()];
    while let Some(next) = open.pop() {
        let to = folder.path().join("saves").join(next.strip_prefix(&from).unwrap());
        if next.is_dir() {
            fs::create_dir_all(to).unwrap();
            open.extend(fs::read_dir(&next).unwrap().flatten().map(|entry| entry.path()));
        } else {
            fs::copy(&next, to).unwrap();
        }
    }
    folder
}

#[test]
fn the_demos_history_is_what_freezing_its_versions_gives() {
    let folder = tempfile::tempdir().unwrap();
    let history = folder.path().join("fellpost.history.json");
    for (spec, said) in [
        ("shipped/v1/fellpost.toml", "version 1 is frozen  (the history has version 1)"),
        ("shipped/v2/fellpost.toml", "version 2 is frozen  (the history has versions 1 and 2)"),
        ("fellpost.toml", "version 3 is frozen  (the history has versions 1, 2 and 3)"),
        ("fellpost.toml", "version 3 is frozen already, just as it is"),
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
    let more = spec
        .replace("[derived]", "[field.hats]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n[derived]");
    fs::write(folder.path().join("fellpost.toml"), &more).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["freeze", "fellpost.toml"]);
    assert!(code == 0 && out.contains("has grown since"), "{out}");
    let grown = fs::read_to_string(&history).unwrap();
    fs::write(folder.path().join("fellpost.toml"), &spec).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["freeze", "fellpost.toml"]);
    assert!(code == 2 && err.contains("version 3 was frozen with the field `hats`"), "{err}");
    assert_eq!(fs::read_to_string(&history).unwrap(), grown);
}

#[test]
fn an_incompatible_change_fails_the_check_and_is_ready_to_paste() {
    let folder = shipped("v1");
    let path = folder.path().join("fellpost.toml");
    let spec = fs::read_to_string(&path).unwrap();
    let changed = spec.replace("[field.stamps]", "[field.coins]").replace("version = 3 ", "version = 4 ");
    fs::write(&path, &changed).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert_eq!(code, 1);
    let block = "    [[migration]]\n    to = 4\n    steps = [\n      { rename = \"field\", from = \"stamps\", to = \"coins\" },\n    ]\n";
    assert!(out.contains("error[V304]: version 3 has the field `stamps`") && out.contains(block), "{out}");
    let (code, _, err) = vestigum(folder.path(), &["fate", "fellpost.toml"]);
    assert!(code == 2 && err.contains("V304"), "{err}");
    fs::write(&path, format!("{changed}\n{block}")).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert!(code == 0 && out.contains("version 4 is not frozen yet"), "{out}");
    let (code, out, _) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(code == 0 && out.contains("of 3 older versions: all come through"), "{out}");
    fs::write(folder.path().join("fellpost.history.json"), "{").unwrap();
    let (code, _, err) = vestigum(folder.path(), &["check", "fellpost.toml"]);
    assert!(code == 2 && err.contains("error[V301]: this is no history"), "{err}");
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
        "score score carried, clamped in 47 saves 18",
        "places old_mill → mill_lane, heather_rise at hut → heather_rise at bothy, 5 places as before",
    ] {
        let told = out.lines().any(|line| line.split_whitespace().collect::<Vec<_>>().join(" ").starts_with(row));
        assert!(told, "{row}\n{out}");
    }
    let (_, other, _) = here(&["migrate", spec, "--prove", "--seed", "5", "--random", "10"]);
    assert!(other.contains("50 saves of 2 older versions"), "{other}");
    let (_, steps, _) = here(&["migrate", spec]);
    assert!(steps.contains("version 1 → 2\n   the level old_mill is mill_lane now"), "{steps}");

    // A fill that makes the same of everything passes the check, and not the proof.
    let folder = shipped("v2");
    let path = folder.path().join("fellpost.toml");
    let lossy = fs::read_to_string(&path).unwrap().replace("\"time * 1000\"", "\"time * 0\"");
    fs::write(&path, lossy).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(code == 1 && out.contains("LOST") && out.contains("230 saves of 2 older versions: 2 fields lost"), "{out}");
    let (code, json) = json(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    let time = &json["versions"][0]["fields"][3];
    assert_eq!((code, &time["field"], &time["verdict"]), (1, &"time".into(), &"lost".into()));
}

#[test]
fn a_save_folder_is_migrated_only_with_yes() {
    let folder = shipped("v1");
    let migrate =
        |more: &[&str]| vestigum(folder.path(), &[&["saves", "migrate", "fellpost.toml", "saves"], more].concat());
    let (code, out, err) = migrate(&[]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("score was 8001050, outside its limits; it is 999999 now"), "{out}");
    assert!(out.contains("nothing was changed: add --yes to bring 2 players to version 3"), "{out}");
    assert!(out.contains("   new, at the default: best_time, falls, best_streak, gate_open\n"), "{out}");
    assert!(!folder.path().join("saves/device").exists());
    let (code, out, _) = migrate(&["--yes"]);
    assert!(code == 0 && out.contains("ada   generation 3, version 1 → 3, written as generation 4"), "{out}");
    // Bert played last, so the device has his volume.
    let device = fs::read_to_string(folder.path().join("saves/device/1.json")).unwrap();
    assert!(device.contains("\"volume\":90"), "{device}");
    let (code, out, _) = migrate(&[]);
    assert!(code == 0 && out.contains("all are of version 3 already"), "{out}");
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
    assert!(code == 1 && out.contains("add --yes to bring 1 player to version 3\n1 player could not"), "{out}");
    let (code, told) = json(folder.path(), &["saves", "migrate", "fellpost.toml", "saves", "--yes"]);
    assert_eq!((code, &told["ok"], &told["done"]), (1, &false.into(), &true.into()));
    let players = told["players"].as_array().unwrap();
    let of = |name: &str| players.iter().find(|player| player["profile"] == name).unwrap();
    assert_eq!((&of("ada")["version"], &of("ada")["written"]), (&1.into(), &4.into()));
    assert!(of("bert")["error"].as_str().unwrap().contains("generation 4: it is not whole"), "{told}");
    assert_eq!(saves(), before);
    let (code, out, _) = vestigum(folder.path(), &["saves", "migrate", "fellpost.toml", "saves", "--yes"]);
    assert!(code == 1 && out.contains("ada   version 3 already\nbert   no save of profile `bert`"), "{out}");
    assert!(!out.contains("done"), "{out}");

    fs::create_dir(folder.path().join("empty")).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["saves", "migrate", "fellpost.toml", "empty"]);
    assert!(code == 2 && err.contains("there are no saves of any player"), "{err}");
    let (code, told) = json(folder.path(), &["migrate", "fellpost.toml"]);
    assert_eq!((code, told["migrations"].as_array().unwrap().len()), (0, 2));
    fs::remove_file(folder.path().join("fellpost.history.json")).unwrap();
    let (code, _, err) = vestigum(folder.path(), &["migrate", "fellpost.toml", "--prove"]);
    assert!(
        code == 2 && err.contains("there is no history fellpost.history.json; `vestigum freeze` begins one"),
        "{err}"
    );
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
        "1 field lost",
    ] {
        let told_in = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ").contains(told);
        assert!(out.lines().any(told_in), "{told}\n{out}");
    }
}

/// What the guide shows stands in the files it names, word for word, and every file and picture it links is there.
#[test]
fn the_guide_shows_what_is_there() {
    let docs = demo("../../docs");
    let guide = fs::read_to_string(docs.join("guide.md")).unwrap();
    let mut shown = 0;
    for block in guide.split("\n```").skip(1).step_by(2) {
        let (head, text) = block.split_once('\n').unwrap();
        let Some((_, path)) = head.split_once(' ') else { continue };
        let file = fs::read_to_string(demo("../..").join(path)).unwrap_or_else(|error| panic!("{path}: {error}"));
        assert!(file.contains(text), "this is not in {path}:\n{text}");
        shown += 1;
    }
    assert!(shown > 12, "only {shown} excerpts");
    for link in guide.split("](").skip(1).filter_map(|rest| rest.split_once(')')).map(|(link, _)| link) {
        let file = link.split('#').next().unwrap_or_default();
        assert!(file.is_empty() || docs.join(file).exists(), "{link}");
    }
}
