//! The first steps: a spec, an evening of play, a fall, and the next evening.
//!
//! Run it with `cargo run -p vestigum --example first_steps`.

use std::process::ExitCode;

use vestigum::{DirStore, Session, Spec};

/// Says in one document what persists.
const PROGRESS: &str = r#"
[game]
id = "fellpost"

[levels]
order = ["mill_lane", "heather_rise"]

[level.mill_lane]
checkpoints = ["ford"]

[field.letters]                 # delivered on this visit: a fall takes what came after the checkpoint
type = "int"
lasts = "visit"
after_failure = "checkpoint"

[field.lanterns]                # lives
type = "int"
default = 3
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = { add = -1 }

[field.best_letters]            # a record for each path; a replay never lowers it
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }

[run]
over_when = "lanterns == 0"

[save]
at = ["checkpoint", "complete", "death"]
"#;

fn run() -> Result<(), Box<dyn std::error::Error>> {
    let spec = Spec::from_toml(PROGRESS)?;
    // Names and types are checked here, once. From now on a read is an index.
    let letters = spec.int("letters")?;
    let lanterns = spec.int("lanterns")?;
    let best = spec.int_per_level("best_letters")?;

    let saves = tempfile::tempdir()?;
    let mut game = Session::launch(&spec, DirStore::open(saves.path())?, "ada")?;
    println!("{}", game.load_report());

    game.enter("mill_lane")?;
    game.add(letters, 60)?;
    game.checkpoint("ford")?;
    game.add(letters, 25)?;

    let fell = game.death()?;
    for change in &fell.changes {
        println!("the fall: {change}");
    }
    assert_eq!((game.get(letters), game.get(lanterns)), (60, 2));

    game.add(letters, 40)?;
    let done = game.complete()?;
    for record in done.records() {
        println!("a record: {record}");
    }
    println!("next: {}", done.next_level().unwrap_or("the end of the road"));
    game.quit()?;

    // The next evening: everything is as it was.
    let game = Session::launch(&spec, DirStore::open(saves.path())?, "ada")?;
    println!("{}", game.load_report());
    assert_eq!(game.get(best.at("mill_lane")?), 100);
    assert_eq!(game.get(lanterns), 2);
    game.quit()?;
    Ok(())
}

fn main() -> ExitCode {
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        // In words: what `main` returns is printed as a programmer's value.
        Err(why) => {
            eprintln!("{why}");
            ExitCode::FAILURE
        }
    }
}
