//! The life of a connection, and which findings are there at each time.

use std::fs;
use std::path::PathBuf;

use serde_json::{Value as Json, json};
use vestigum_editor::server::Ended;

use crate::client::{Client, uri};

const SPEC: &str =
    "[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
const PLAY: &str = "playthrough \"xp\"\nlaunch\nxp += 5\nexpect xp == 5\nquit\n";

/// A folder with a spec and a playthrough on the disk.
fn world() -> (tempfile::TempDir, PathBuf, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let (spec, play) = (folder.path().join("progress.toml"), folder.path().join("xp.play"));
    fs::write(&spec, SPEC).unwrap();
    fs::write(&play, PLAY).unwrap();
    (folder, spec, play)
}

#[test]
fn requests_outside_of_the_life_of_the_server_are_errors_and_end_nothing() {
    let mut client = Client::connect();
    client.tell("initialized", json!({}));
    client.tell("textDocument/didOpen", json!({ "nonsense": true }));
    assert_eq!(client.answer("textDocument/hover", json!({}))["error"]["code"], -32002);
    assert_eq!(client.answer("initialize", json!({ "capabilities": 7 }))["error"]["code"], -32602);
    client.ask("initialize", json!({ "capabilities": {} }));
    assert_eq!(client.answer("initialize", json!({ "capabilities": {} }))["error"]["code"], -32600);
    client.ask("shutdown", Json::Null);
    for method in ["textDocument/hover", "shutdown", "unheard/of"] {
        assert_eq!(client.answer(method, json!({}))["error"]["code"], -32600, "{method}");
    }
    client.tell("textDocument/didOpen", json!({ "nonsense": true }));
    assert_eq!(client.exit(), Ok(Ended::Shutdown));
}

#[test]
fn an_exit_without_a_shutdown_is_told() {
    assert_eq!(Client::start().exit(), Ok(Ended::Exit));
    assert_eq!(Client::connect().exit(), Ok(Ended::Exit));
}

/// Findings stayed for a text that was gone.
#[test]
fn findings_go_with_what_they_are_about() {
    let (_folder, spec, play) = world();
    let mut client = Client::start();
    let wrong = SPEC.replace("profile", "for ever");
    client.open(&spec, &wrong);
    assert_eq!(client.findings(&spec).len(), 1);
    // No spec any more, and empty.
    for text in [wrong.replace("[game]", "# [game]"), String::new()] {
        client.change(&spec, &text);
        assert_eq!(client.findings(&spec), Vec::<Json>::new(), "{text}");
        client.change(&spec, &wrong);
        assert_eq!(client.findings(&spec).len(), 1);
    }
    // A playthrough follows the spec that is open, the one on the disk once that is closed, and none where it is deleted.
    client.open(&play, PLAY);
    client.findings(&play);
    client.change(&spec, &SPEC.replace("xp", "skill"));
    assert!(!client.findings(&play).is_empty());
    client.tell("textDocument/didClose", json!({ "textDocument": { "uri": uri(&spec) } }));
    assert_eq!(client.findings(&play), Vec::<Json>::new());
    fs::remove_file(&spec).unwrap();
    client.tell("workspace/didChangeWatchedFiles", json!({ "changes": [{ "uri": uri(&spec), "type": 3 }] }));
    let told = client.findings(&play);
    assert!(told[0]["message"].as_str().unwrap().contains("no spec"), "{told:?}");
    client.end();
}

/// Every change was answered by findings: the next completion waited for all of them.
#[test]
fn keystrokes_that_come_together_are_checked_once() {
    let (_folder, spec, play) = world();
    let mut client = Client::start();
    client.open(&spec, SPEC);
    client.open(&play, PLAY);
    client.findings(&spec);
    client.findings(&play);
    for count in 0..20 {
        client.change(&spec, &SPEC.replace("[field.xp]", &format!("[field.xp{count}]")));
    }
    client.change(&spec, SPEC);
    assert_eq!(client.findings(&spec), Vec::<Json>::new());
    assert_eq!(client.findings(&play), Vec::<Json>::new());
    assert!(client.published.len() <= 4, "{:?}", client.published);
    client.end();
}

#[test]
fn a_spec_is_one_however_it_is_written_and_a_text_with_a_table_in_it_is_not() {
    let (folder, ..) = world();
    let rest = SPEC.strip_prefix("[game]\nid = \"fellpost\"\n").unwrap();
    let mut client = Client::start();
    let wrong = rest.replace("profile", "for ever");
    for (index, head) in [
        "[ game ]\nid = \"x\"\n",
        "[\"game\"]\nid = \"x\"\n",
        "game = { id = \"x\" }\n",
        "game.id = \"x\"\n",
        "\u{feff}[game]\nid = \"x\"\n",
    ]
    .into_iter()
    .enumerate()
    {
        let path = folder.path().join(format!("spec{index}.toml"));
        client.open(&path, &format!("{head}{wrong}"));
        let found = client.findings(&path);
        assert!(found.len() == 1 && found[0]["code"] != Json::Null, "{head}: {found:?}");
    }
    let other = folder.path().join("other.toml");
    client.open(&other, "[package]\ndescription = \"\"\"\n[game]\nid = 5\n\"\"\"\n");
    assert_eq!(client.findings(&other), Vec::<Json>::new());
    client.end();
}

/// A playthrough was read by the first spec of its folder, whichever that was.
#[test]
fn of_two_specs_a_playthrough_belongs_to_the_one_that_it_can_be_read_by() {
    let (folder, _, play) = world();
    fs::write(folder.path().join("another.toml"), SPEC.replace("xp", "skill")).unwrap();
    let mut client = Client::start();
    client.open(&play, PLAY);
    assert_eq!(client.findings(&play), Vec::<Json>::new());
    // One with the name of the playthrough is the one that is meant.
    fs::write(folder.path().join("xp.toml"), SPEC.replace("xp", "skill")).unwrap();
    client.tell("workspace/didChangeWatchedFiles", json!({ "changes": [] }));
    assert!(!client.findings(&play).is_empty());
    client.end();
}

/// After a saved field of a version that shipped was renamed, every playthrough was red until the migration stood.
#[test]
fn playthroughs_follow_a_rename_before_its_migration_is_written() {
    let (_folder, spec, play) = world();
    let shipped = vestigum_core::Spec::from_toml(SPEC).unwrap();
    let frozen = vestigum_core::History::default().freeze(&shipped).unwrap().history;
    fs::write(spec.with_extension("history.json"), frozen.to_json()).unwrap();
    let mut client = Client::start();
    client.open(&spec, &SPEC.replace("xp", "skill"));
    client.open(&play, &PLAY.replace("xp ", "skill "));
    assert!(!client.findings(&spec).is_empty());
    assert_eq!(client.findings(&play), Vec::<Json>::new());
    client.end();
}
