//! An update: a player comes back with saves of version 1. `cargo run -p vestigum --example update`
//!
//! A game builds its spec and the history in, and loads; the rest happens by itself.

use std::error::Error;
use std::fs;
use std::process::ExitCode;

use vestigum::{DirStore, Session, Spec};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");
const HISTORY: &str = include_str!("../../../demo/fellpost/fellpost.history.json");
/// Holds what the player has on disk: saved by version 1, in the middle of Heather Rise.
const ADA: &[u8] = include_bytes!("../../../demo/fellpost/shipped/v1/saves/profiles/ada/3.json");

fn run() -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    fs::create_dir_all(folder.path().join("profiles/ada"))?;
    fs::write(folder.path().join("profiles/ada/3.json"), ADA)?;

    let spec = Spec::from_toml_with_history(FELLPOST, HISTORY)?;
    let mut game = Session::launch(&spec, DirStore::open(folder.path())?, "ada")?;
    println!("{}\n", game.load_report());
    println!("Ada stands at: {}", game.place());
    for row in game.board() {
        println!("  {row}");
    }

    // Nothing was written so far: if this version does not please her, the old one still finds its saves.
    let stamps = spec.int("stamps")?;
    game.add(stamps, 3)?;
    game.complete()?;
    game.quit()?;

    let game = Session::launch(&spec, DirStore::open(folder.path())?, "ada")?;
    println!("\nand the next evening: {}, {} stamps", game.load_report(), game.get(stamps));
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
