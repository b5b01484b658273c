//! The real program on real files.

use std::fs;
use std::path::Path;

use crate::program::*;
use assert_cmd::Command;

#[test]
fn the_demo_spec_is_fine() {
    let (code, out, err) = here(&["check", demo("fellpost.toml").to_str().unwrap()]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("nothing else to find") && out.contains("allowed V115"), "{out}");
}

#[test]
fn a_spec_with_a_mistake_fails_the_check_and_stops_the_others() {
    let folder = tempfile::tempdir().unwrap();
    let broken = fs::read_to_string(demo("fellpost.toml")).unwrap().replace("max = \"letters\"", "max = \"leters\"");
    fs::write(folder.path().join("broken.toml"), broken).unwrap();
    let (code, out, _) = vestigum(folder.path(), &["check", "broken.toml"]);
    assert_eq!(code, 1);
    assert!(out.contains("broken.toml:111:24") && out.contains("did you mean `letters`?"), "{out}");
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
    let laws = |line: &&str| line.starts_with("| field |") && line.ends_with("| merged |");
    assert!(markdown.lines().any(|line| laws(&line)) && markdown.contains("| sum |"), "{markdown}");
    let (_, html, _) = here(&["fate", spec, "--format", "html"]);
    assert!(html.contains("<td class=\"merge\">with the run</td>"), "{html}");
    assert!(html.contains("<span class=\"sign\">◔</span><span class=\"word\">entry</span>"), "{html}");
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
fn a_playthrough_leaves_its_saves_for_the_game_to_go_on_with() {
    let folder = tempfile::tempdir().unwrap();
    let spec = demo("fellpost.toml");
    let play = |more: &[&str]| vestigum(folder.path(), &[&["play", spec.to_str().unwrap()], more].concat());
    let (code, _, err) = play(&["--saves", "begun"]);
    assert_eq!(code, 2);
    assert!(err.contains("leaves the saves of one playthrough") && err.contains("--only"), "{err}");
    let one = ["--only", "an evening on the fells", "--saves", "begun"];
    assert_eq!(play(&one).0, 0);
    let (code, out, _) = vestigum(folder.path(), &["saves", "show", spec.to_str().unwrap(), "begun"]);
    assert!(code == 0 && out.contains("tarn_steps"), "{out}");
    // Never into a folder in which something may be lost.
    let (code, _, err) = play(&one);
    assert!(code == 2 && err.contains("begun has something in it"), "{err}");
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
          fails  score == 60
                        before  now  last changed by
                 score      60    0  line 5: death


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
        "ways.play:6  enter cloud_pass\n      refused: `cloud_pass` is locked: complete Scree Gate",
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
        assert_eq!(board[1]["why_locked"], "complete Mill Lane");
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

#[test]
fn a_code_is_laid_out_and_read() {
    let spec = |name: &str| demo(&format!("../patterns/{name}/{name}.toml")).to_str().unwrap().to_owned();
    let (code, out, _) = here(&["code", &spec("crossing")]);
    assert_eq!(code, 0);
    assert!(
        out.contains("160  lamp_lit[gate]") && out.contains("used: 32 of 100,001; room for 11 more bools"),
        "{out}"
    );
    let (code, out, _) = here(&["code", &spec("crossing"), "crossing", "--read", "260"]);
    assert!(code == 0 && out.contains("lamp_lit[stile]  true") && out.contains("lamp_lit[ford]   false"), "{out}");
    let (code, out, _) = here(&["code", &spec("crossing"), "crossing", "--read", "265"]);
    assert_eq!((code, out.trim()), (1, "the code counts in steps of 10, so it is never 265"));
    let (_, out, _) = here(&["code", &spec("postcard"), "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((&json["codes"][0]["form"]["signs"], &json["codes"][0]["once"]), (&6.into(), &"codes_used".into()));
    let (code, _, err) = here(&["code", &spec("crossing"), "crosing"]);
    assert!(code == 2 && err.contains("did you mean `crossing`?"), "{err}");
    let (code, _, err) = here(&["code", &spec("records")]);
    assert!(code == 2 && err.contains("declares no code"), "{err}");
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

#[test]
fn faults_are_tried_under_a_playthrough() {
    let spec = demo("fellpost.toml");
    let play = ["faults", spec.to_str().unwrap(), "--only", "a replay does not lower a record"];
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
    let (code, out, _) = vestigum(folder.path(), &["play", &spec, "found/a_replay_does_not_lower_a_record.play"]);
    assert!(code == 1 && out.contains("best_letters[mill_lane]      10    0  line "), "{out}");
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
fn a_promise_that_is_proved_tells_why() {
    let spec = demo("fellpost.toml");
    let spec = spec.to_str().unwrap();
    let (code, out, _) = here(&["explore", spec, "--explain", "a fall takes"]);
    assert!(code == 0 && out.contains("proved by the rules alone, from any state whatever"), "{out}");
    let text = fs::read_to_string(spec).unwrap();
    let mut lines = text.lines().enumerate().skip_while(|(_, line)| !line.starts_with("[field.score]"));
    let (line, _) = lines.find(|(_, line)| line.starts_with("after_failure")).unwrap();
    assert!(out.contains(&format!("after_failure = \"entry\"  line {}", line + 1)), "{out}");
    let (_, out, _) = here(&["explore", spec, "--explain", "record: stars"]);
    assert!(
        out.contains("complete     is raised or stays: { max = \"grade(letters, stars)\", when = \"not made\" }"),
        "{out}"
    );
    assert!(out.contains("at all else  stays as it is"), "{out}");
    let (_, out, _) = here(&["explore", spec, "--explain", "every level"]);
    assert!(out.contains("a play does it") && out.contains("expect count(completed) == 6"), "{out}");
    let (_, out, _) = here(&["explore", spec, "--explain", "failing gains nothing for `stars`"]);
    assert!(out.contains("all that can be played was seen:\n  1,553 states"), "{out}");
    assert_eq!(here(&["explore", spec, "--explain", "breakfast"]).0, 2);
    let (code, answers) = json(Path::new("."), &["explore", spec, "--only", "lantern"]);
    let answer = &answers["questions"][0];
    assert_eq!((code, &answer["by"], &answer["proof"][0]["field"]), (0, &"rules".into(), &"lanterns".into()));
}

#[test]
fn a_rule_that_nobody_pins_is_probed() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        fs::write(&path, text).unwrap();
        path
    };
    let spec = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
        [field.score]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
        [field.best_score]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"score\" }\n\
        [field.lanterns]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
    let falls = "playthrough \"a fall\"\nlaunch\nenter mill_lane\nscore = 40\nlanterns = 2\ndeath\nexpect lanterns == 2\n\
        score = 30\ncomplete\nexpect best_score[mill_lane] == 30\n";
    let (spec, one) = (file("progress.toml", spec), file("falls.play", falls));
    let missing = folder.path().join("missing.play");
    let arguments = ["probe", spec.to_str().unwrap(), one.to_str().unwrap(), "--time", "0"];
    let (code, out, _) = here(&[&arguments[..], &["--all", "--out", missing.to_str().unwrap()]].concat());
    assert_eq!(code, 1);
    println!("{out}");
    assert!(out.contains("best_score: `set` in `on.complete = { max = \"score\" }`"), "{out}");
    assert!(out.contains("nobody notices; this would:") && out.contains("expect best_score"), "{out}");
    assert!(out.contains("✓ lanterns: after_failure = \"entry\" instead of \"keep\""), "{out}");
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

/// Mistakes in the call are JSON, too, for a program that reads JSON; help is asked for by people.
#[test]
fn a_call_that_makes_no_sense_is_told_as_json() {
    let (code, told) = json(Path::new("."), &["fate"]);
    assert_eq!(code, 2);
    assert!(
        told["error"].as_str().unwrap().starts_with("the following required arguments were not provided"),
        "{told}"
    );
    let (code, out, err) = here(&["fate"]);
    assert!(code == 2 && out.is_empty() && err.starts_with("error: the following"), "{out}{err}");
    let (code, out, _) = here(&["fate", "--json", "--help"]);
    assert!(code == 0 && out.contains("Examples:\n  vestigum fate progress.toml\n"), "{out}");
    assert!(out.find("Output options:") > out.find("--only"), "{out}");
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

/// The guide's code stands in the files it names, word for word, and every file and picture it links is there.
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
