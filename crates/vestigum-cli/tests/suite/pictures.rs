//! What people look at: the map, the report, one field in words, and lines that fit the terminal.

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use crate::program::*;

fn spec() -> String {
    demo("fellpost.toml").to_str().unwrap().to_owned()
}

#[test]
fn the_map_of_the_demo_is_drawn() {
    let (code, out, _) = in_columns(100, &["map", &spec()]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(out, @r"
    ╭────────────────────────╮                                         ╭────────────────────────╮
    │ Mill Lane              │────────┬─────────────────────────────┬─▸│ Heather Rise           │
    │ ford · stile           │        │                             ╎  │ bothy · cairn          │
    ╰────────────────────────╯        │                             ╎  │ → Tarn Steps           │
                                      │                             ╎  │ → Scree Gate           │
                                      │                             ╎  ╰────────────────────────╯
                                      │  ╭╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╮ ╎
                               cellar ╰─▸╎ The Millrace           ╎╌╯
                                         ╎ hidden at first        ╎
                                         ╰╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╯

    ╭────────────────────────╮   ╭────────────────────────╮   ╭────────────────────────╮
    │ Tarn Steps             │╌╌▸│ Scree Gate             │──▸│ Cloud Pass             │
    │ boathouse              │   │ needs 4 stars          │   │ ledge · summit         │
    │ ← Heather Rise         │   │ sheepfold · gate       │   ╰────────────────────────╯
    ╰────────────────────────╯   │ ← Heather Rise         │
                                 ╰────────────────────────╯

    scree_gate    opens when completed[heather_rise] and total_stars >= 4
    millrace      hidden while not opened[millrace]
    ── completing the one opens the other   ╌╌ leads on, and does not open it   ╭╌ hidden at first
    ");
}

#[test]
fn a_map_shows_a_player_and_every_form_says_the_same() {
    let folder = shipped("v3");
    let (code, out, err) = vestigum(folder.path(), &["map", "fellpost.toml", "--saves", "saves", "--profile", "finn"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("stands at:") && out.contains("✓ Mill Lane"), "{out}");
    let (_, map) = json(folder.path(), &["map", "fellpost.toml", "--saves", "saves", "--profile", "finn"]);
    assert_eq!(map["levels"][0]["player"]["standing"], "completed");
    let ways = map["ways"].as_array().unwrap().len();
    let (_, dot, _) = vestigum(folder.path(), &["map", "fellpost.toml", "--format", "dot"]);
    assert_eq!(dot.matches(" -> ").count(), ways);
    let (_, mermaid, _) = vestigum(folder.path(), &["map", "fellpost.toml", "--format", "mermaid"]);
    assert_eq!(mermaid.matches("-->").count() + mermaid.matches("-.->").count(), ways);
    let (code, _, err) = vestigum(folder.path(), &["map", "fellpost.toml", "--profile", "finn"]);
    assert!(code == 2 && err.contains("needs --saves"), "{err}");
    let (code, _, err) = vestigum(folder.path(), &["map", "fellpost.toml", "--saves", "nowhere"]);
    assert!(code == 2 && err.contains("nowhere"), "{err}");
}

#[test]
fn a_report_is_written_with_everything_in_it() {
    let folder = shipped("v3");
    let arguments = ["report", "fellpost.toml", "--saves", "saves", "--time", "2", "--out", "page.html"];
    let (code, out, err) = vestigum(folder.path(), &arguments);
    assert_eq!(code, 0, "{out}{err}");
    let page = fs::read_to_string(folder.path().join("page.html")).unwrap();
    for part in
        ["id=\"fates\"", "id=\"map\"", "id=\"findings\"", "id=\"versions\"", "id=\"players\"", "Asked of everything"]
    {
        assert!(page.contains(part), "{part}");
    }
    // What was not asked has no count.
    let (_, told) = json(folder.path(), &["report", "fellpost.toml", "--quick", "--out", "page.html"]);
    assert!(told["broken"].is_null() && told["unnoticed"].is_null() && told["findings"] == 0, "{told}");
    let (code, _, err) = vestigum(folder.path(), &["report", "fellpost.toml", "--quick", "--out", "no/such/page.html"]);
    assert!(code == 2 && err.contains("cannot write no/such/page.html"), "{err}");
}

#[test]
fn one_field_is_told_in_words_with_the_lines_that_decide() {
    let (code, out, _) = here(&["fate", &spec(), "--only", "falls"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(out, @r#"
    falls  int  lasts as long as the player's profile

    + death       stays as it is when `level == 'mill_lane' and not completed`; else goes up by `1`
                  `on.death`, the first rule that holds (lines 160, 161, 162)
    ● quit        stays as it is
                  `[save] resume` is "checkpoint", so quitting in a level leaves what death leaves, without its price
    ● crash       stays as it is
                  it changes only where the game saves
    ● stays as it is at enter, checkpoint, restart, complete, travel, abandon, game_over, new_run, launch: nothing speaks of it
      there
    "#);
    let (code, _, err) = here(&["fate", &spec(), "--only", "fals"]);
    assert!(code == 2 && err.contains("did you mean `falls`?"), "{err}");
    let (_, told) = json(std::path::Path::new("."), &["fate", &spec(), "--only", "score"]);
    let death = told["moments"].as_array().unwrap().iter().find(|moment| moment["moment"] == "death").unwrap();
    let text = fs::read_to_string(demo("fellpost.toml")).unwrap();
    let line = text.lines().position(|line| line.starts_with("[field.score]")).unwrap() + 5;
    assert_eq!(death["lines"][0], line);
}

#[test]
fn every_line_fits_the_terminal() {
    let folder = shipped("v3");
    let saves = folder.path().join("saves").display().to_string();
    let failing = folder.path().join("failing.play");
    fs::write(&failing, "playthrough \"a score survives a death, whatever anybody says of it in a very long name of a playthrough\"\nlaunch\nenter mill_lane\n  score += 60\n  death\n  expect score == 60 and letters == 0 and total_stars == 0\n").unwrap();
    let (spec, failing) = (spec(), failing.display().to_string());
    let commands: &[&[&str]] = &[
        &["fate", &spec],
        &["fate", &spec, "--only", "score"],
        &["map", &spec],
        &["map", &spec, "--saves", &saves, "--profile", "finn"],
        &["play", &spec, "--trace"],
        &["play", &spec, &failing],
        &["check", &spec],
        &["check", "--explain", "V115"],
        &["explore", &spec, "--states", "500"],
        &["migrate", &spec, "--prove", "--random", "3"],
        &["code", &spec],
        &["saves", "list", &saves],
        &["saves", "show", &spec, &saves, "--profile", "finn"],
        &["saves", "verify", &saves],
    ];
    for columns in [80, 100, 127] {
        for arguments in commands {
            let (_, out, err) = in_columns(columns, arguments);
            assert!(!out.is_empty(), "{arguments:?}: {err}");
            for line in out.lines() {
                assert!(line.chars().count() <= columns, "{columns}, {arguments:?}: {line}");
            }
        }
    }
}

#[test]
fn build_servers_get_their_files() {
    let folder = tempfile::tempdir().unwrap();
    let spec = spec();
    let (code, out, _) = here(&["check", &spec, "--format", "sarif"]);
    let log: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &log["runs"][0]["results"][0]["ruleId"]), (0, &"V115".into()));
    let (code, ..) = vestigum(folder.path(), &["play", &spec, "--junit", "plays.xml"]);
    assert_eq!(code, 0);
    let plays = fs::read_to_string(folder.path().join("plays.xml")).unwrap();
    let (_, told) = json(folder.path(), &["play", &spec]);
    assert_eq!(plays.matches("<testcase").count(), told["playthroughs"].as_array().unwrap().len());
    let (code, ..) = vestigum(folder.path(), &["explore", &mistake("record_by_set"), "--junit", "found.xml"]);
    assert_eq!(code, 1);
    assert!(fs::read_to_string(folder.path().join("found.xml")).unwrap().contains("<failure"));
}

/// There was no file, or that of the run before, where the input could not be read.
#[test]
fn build_servers_get_their_files_also_of_what_cannot_be_read() {
    let folder = tempfile::tempdir().unwrap();
    let (spec, broken) = (spec(), folder.path().join("broken.play"));
    fs::write(&broken, "playthrough \"x\"\nlaunhc\n").unwrap();
    let broken = broken.to_str().unwrap();
    for arguments in [
        &["play", &spec, broken, "--junit", "found.xml"][..],
        &["play", "missing.toml", "--junit", "found.xml"],
        &["explore", "missing.toml", "--junit", "found.xml"],
    ] {
        let (code, ..) = vestigum(folder.path(), arguments);
        let report = fs::read_to_string(folder.path().join("found.xml")).unwrap();
        assert_eq!((code, report.matches("<error").count()), (2, 1), "{arguments:?}: {report}");
        fs::remove_file(folder.path().join("found.xml")).unwrap();
    }
    let (code, _, err) = vestigum(folder.path(), &["play", &spec, "--junit", "no/such/folder.xml"]);
    assert_eq!((code, err.matches("cannot write").count()), (2, 1), "{err}");
    let (code, out, err) = vestigum(folder.path(), &["check", "missing.toml", "--format", "sarif"]);
    let log: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &log["runs"][0]["invocations"][0]["executionSuccessful"]), (2, &false.into()));
    assert!(err.contains("cannot read missing.toml"), "{err}");
}

fn mistake(name: &str) -> String {
    demo("../mistakes").join(name).join("mistake.toml").to_str().unwrap().to_owned()
}

#[test]
fn watching_says_what_a_change_broke_and_what_mended_it() {
    let folder = tempfile::tempdir().unwrap();
    vestigum(folder.path(), &["new"]);
    let spec = folder.path().join("progress.toml");
    let text = fs::read_to_string(&spec).unwrap();
    let program = assert_cmd::cargo::cargo_bin("vestigum");
    let mut process = Command::new(program)
        .args(["watch", "progress.toml", "--json"])
        .current_dir(folder.path())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(process.stdout.take().unwrap()).lines().map_while(Result::ok);
    let rounds =
        serde_json::Deserializer::from_reader(Joined { lines, rest: Vec::new() }).into_iter::<serde_json::Value>();
    let mut rounds = rounds.map(Result::unwrap);
    // A file may be told of twice: what counts is that the state is reached.
    let mut until = |findings: bool| {
        let reached = rounds.find(|round| round["findings"].as_array().unwrap().is_empty() != findings);
        reached.expect("another round")
    };
    assert_eq!(until(false)["played"]["failed"], 0);
    fs::write(&spec, format!("{text}\n[field.lost]\ntype = \"itn\"\nlasts = \"run\"\n")).unwrap();
    assert_eq!(until(true)["findings"][0]["severity"], "error");
    fs::write(&spec, &text).unwrap();
    assert_eq!(until(false)["played"]["failed"], 0);
    process.kill().unwrap();
    process.wait().unwrap();
}

/// Lines as they come: what reads JSON must not wait for more than a line.
struct Joined<I> {
    lines: I,
    rest: Vec<u8>,
}

impl<I: Iterator<Item = String>> std::io::Read for Joined<I> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.rest.is_empty() {
            let Some(line) = self.lines.next() else { return Ok(0) };
            self.rest = format!("{line}\n").into_bytes();
        }
        let len = self.rest.len().min(buffer.len());
        buffer[..len].copy_from_slice(&self.rest[..len]);
        self.rest.drain(..len);
        Ok(len)
    }
}
