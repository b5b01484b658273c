//! What `vestigum new` writes into a crate. The spec lies at the root of this crate, too, so that the example finds it as it will in the
//! other one.

/// The example, which is a program of its own.
mod example {
    include!("../starter/example.rs");

    pub(crate) fn run() -> Result<(), Box<dyn std::error::Error>> {
        main()
    }
}

mod program;

use std::fs;

use program::*;

#[test]
fn the_example_of_a_new_crate_runs_and_goes_on_the_next_time() {
    let folder = tempfile::tempdir().unwrap();
    std::env::set_current_dir(folder.path()).unwrap();
    for evening in 1..=2 {
        example::run().unwrap();
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
    fs::write(folder.path().join("Cargo.toml"), "[package]\nname = \"my_game\"\n").unwrap();
    let (code, out, _) = vestigum(folder.path(), &["new"]);
    assert!(code == 0 && out.contains("cargo add --dev vestigum-verify"), "{out}");
    let test = fs::read_to_string(folder.path().join("tests/progress.rs")).unwrap();
    assert!(test.contains("vestigum_verify::tests!(\"progress.toml\");"), "{test}");
    ["progress.toml", "first.play", "vestigum.schema.json", "tests/progress.rs"]
        .iter()
        .for_each(|name| fs::remove_file(folder.path().join(name)).unwrap());
    let (code, _, err) = vestigum(folder.path(), &["new"]);
    assert!(code == 2 && err.contains("examples/progress.rs is there already"), "{err}");
    assert!(!folder.path().join("progress.toml").exists());
}
