// The spec in a game: `cargo run --example progress`, twice.

use std::process::ExitCode;

use vestigum::{DirStore, Session};

vestigum::spec! {
    pub mod progress = "progress.toml";                 // a mistake in the spec is an error of the compiler
}
use progress::{self as p, Level};

fn run() -> Result<(), Box<dyn std::error::Error>> {
    let mut game = Session::launch(p::spec(), DirStore::open("saves")?, "ada")?;
    println!("{}", game.load_report());
    for row in game.board() {
        println!("   {row}");
    }

    game.enter(Level::FirstHill)?; // say each moment where the game has it …
    game.add(p::COINS, 12)?;
    let fell = game.death()?; // … and draw what it came to
    for change in &fell.changes {
        println!("the fall: {change}");
    }
    if fell.game_over {
        game.new_run()?;
        game.enter(Level::FirstHill)?;
    }
    game.add(p::COINS, 20)?;
    let done = game.complete()?;
    for record in done.records() {
        println!("a record: {record}");
    }
    println!("best: {}", game.get(p::BEST_COINS.at(Level::FirstHill)));
    game.quit()?; // durable when it returns
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
