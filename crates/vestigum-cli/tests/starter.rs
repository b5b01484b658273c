//! What `vestigum new` writes into a crate. The spec lies at the root of this crate, too, so that the example finds it as it will in the
//! other one.

/// The example, which is a program of its own.
#[expect(dead_code, reason = "its `main` is for the program")]
mod example {
    include!("../starter/example.rs");

    pub(crate) fn evening() -> Result<(), Box<dyn std::error::Error>> {
        run()
    }
}

#[path = "suite/program/mod.rs"]
mod program;

use std::fs;

use program::*;

#[test]
fn the_example_of_a_new_crate_runs_and_goes_on_the_next_time() {
    let folder = tempfile::tempdir().unwrap();
    std::env::set_current_dir(folder.path()).unwrap();
    for evening in 1..=2 {
        example::evening().unwrap();
        let game = vestigum::Session::peek(
            example::progress::spec(),
            &vestigum::DirStore::open_to_read("saves").unwrap(),
            "ada",
        );
        let game = game.unwrap();
        assert_eq!(game.get(example::progress::LIVES), 3 - evening);
        assert_eq!(game.get(example::progress::BEST_COINS.at(example::progress::Level::FirstHill)), 20);
    }
}

#[test]
fn a_crate_gets_tests_and_an_example_and_nothing_of_it_is_written_over() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("Cargo.toml"), "[package]\nname = \"fell-runner\"\n").unwrap();
    let (code, out, _) = vestigum(folder.path(), &["new"]);
    assert!(code == 0 && out.contains("cargo add --dev vestigum-verify"), "{out}");
    let test = fs::read_to_string(folder.path().join("tests/progress.rs")).unwrap();
    assert!(test.contains("vestigum_verify::tests!(\"progress.toml\");"), "{test}");
    let spec = fs::read_to_string(folder.path().join("progress.toml")).unwrap();
    assert!(spec.contains("id = \"fell_runner\"") && spec.contains("title = \"Fell Runner\""), "{spec}");
    ["progress.toml", "first.play", "vestigum.schema.json", "tests/progress.rs"]
        .iter()
        .for_each(|name| fs::remove_file(folder.path().join(name)).unwrap());
    let (code, _, err) = vestigum(folder.path(), &["new"]);
    assert!(code == 2 && err.contains("examples/progress.rs is there already"), "{err}");
    assert!(!folder.path().join("progress.toml").exists());
}

#[test]
fn a_new_game_is_named_after_its_folder() {
    let folder = tempfile::tempdir().unwrap();
    let named = |name: &str| {
        let (code, _, err) = vestigum(folder.path(), &["new", name]);
        assert_eq!(code, 0, "{err}");
        let spec = format!("{name}/progress.toml");
        let (code, out, err) = vestigum(folder.path(), &["check", &spec]);
        assert_eq!(code, 0, "{out}{err}");
        let spec = fs::read_to_string(folder.path().join(spec)).unwrap();
        spec.lines().find_map(|line| Some(line.strip_prefix("id = \"")?.split('"').next()?.to_owned())).unwrap()
    };
    // The folder is made.
    assert_eq!(named("Fell Runner"), "fell_runner");
    assert_eq!(named("deep/er/night-round.2"), "night_round_2");
    // What cannot be an id leaves the id of the starter.
    assert_eq!(named("42"), "my_game");
    assert_eq!(named("郵便"), "my_game");
    assert_eq!(named("level"), "level");
}
