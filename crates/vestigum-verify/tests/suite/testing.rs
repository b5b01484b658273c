//! What a game's own tests call.

use std::fs;
use std::panic;
use std::path::{Path, PathBuf};

use vestigum_verify::testing::{assert_migrates, assert_plays, assert_promises, assert_sound, spec_in};

fn demo(file: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost").join(file)
}

#[test]
fn the_demo_is_sound() {
    assert_sound(demo("fellpost.toml"));
}

#[test]
fn the_playthroughs_of_the_demo_pass() {
    assert_plays(demo("fellpost.toml"));
}

#[test]
fn the_promises_of_the_demo_are_kept() {
    assert_promises(demo("fellpost.toml"));
}

#[test]
fn no_update_of_the_demo_loses_a_save() {
    assert_migrates(demo("fellpost.toml"));
}

/// Returns what a test prints when it fails.
fn failure(test: impl FnOnce() + panic::UnwindSafe) -> String {
    let failed = panic::catch_unwind(test).expect_err("it passes");
    let text = failed.downcast_ref::<String>().cloned();
    text.or_else(|| failed.downcast_ref::<&str>().map(ToString::to_string)).unwrap_or_default()
}

#[test]
fn a_failure_says_what_the_program_says() {
    let folder = tempfile::tempdir().unwrap();
    let spec = folder.path().join("progress.toml");
    let text = "[game]\nid = \"fellpost\"\nversion = 2\n[levels]\norder = [\"mill_lane\"]\n[field.best]\ntype = \"int\"\nlasts = \"profile\"\n\
        on.complete = { set = \"letters\" }\n[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
        [[source]]\nname = \"letter\"\ngives = { letters = 1 }\ntimes = 1\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
        [[promise]]\nname = \"no record falls\"\nnever_falls = [\"best\"]\n";
    fs::write(&spec, text).unwrap();
    let said = failure(|| assert_sound(&spec));
    assert!(said.contains("warning[V102]") && said.contains("on.complete = { set = \"letters\" }"), "{said}");
    assert!(failure(|| assert_plays(&spec)).contains("there are no playthroughs beside"));
    fs::create_dir(folder.path().join("plays")).unwrap();
    fs::write(
        folder.path().join("plays/one.play"),
        "playthrough \"a letter\"\nlaunch\nenter mill_lane\n  letters += 1\ncomplete\nexpect best == 2\n",
    )
    .unwrap();
    let said = failure(|| assert_plays(&spec));
    assert!(
        said.contains("1 of 1 playthroughs failed") && said.contains("one.play: a letter\nline 6: expect best == 2"),
        "{said}"
    );
    assert!(said.contains("fails  best == 2\n") && said.contains("best       0    1  line 5: complete"), "{said}");
    let said = failure(|| assert_promises(&spec));
    assert!(
        said.contains("no record falls: `best` fell from 1 to 0 at `complete`") && said.contains("expect best >= 1"),
        "{said}"
    );
    assert!(failure(|| assert_migrates(&spec)).contains("there is no history beside"));
    // A version shipped with another name for the record, and no step says where it went.
    let shipped = text.replace("version = 2", "version = 1").replace("best", "most");
    let shipped = vestigum::Spec::from_toml(&shipped).unwrap();
    let history = vestigum::History::default().freeze(&shipped).unwrap().history;
    fs::write(folder.path().join("progress.history.json"), history.to_json()).unwrap();
    let said = failure(|| assert_migrates(&spec));
    assert!(said.contains("error[V304]") && said.contains("from = \"most\", to = \"best\""), "{said}");
    // A step that reads the record, and makes nothing of it.
    let steps = "{ fill = \"best\", with = \"most * 0\" }";
    fs::write(&spec, format!("{text}[[migration]]\nto = 2\nsteps = [{steps}]\n")).unwrap();
    let said = failure(|| assert_migrates(&spec));
    assert!(said.contains("version 1: `most` is lost, and no step drops it"), "{said}");
    fs::write(&spec, text.replace("lasts = \"visit\"", "lasts = \"vist\"")).unwrap();
    let said = failure(|| drop(spec_in(&spec)));
    assert!(said.contains("did you mean `visit`?"), "{said}");
    assert!(failure(|| drop(spec_in("missing.toml"))).contains("cannot read missing.toml"));
}
