//! Makes the saves that players of a shipped version have, by a playthrough of that version:
//! `cargo run --example shipped_saves -- SPEC PLAYTHROUGH FOLDER`. A team keeps such folders beside its spec, loads
//! them with every later version, and imports them into playthroughs.

use std::error::Error;
use std::fs;
use std::path::Path;

use vestigum::{DirStore, History, Spec};
use vestigum_verify::StoreSaves;
use vestigum_verify::playthrough::{Script, run};

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [spec_file, play_file, folder] = &arguments[..] else {
        // Without arguments, as the examples are run one after the other.
        println!("usage: shipped_saves SPEC PLAYTHROUGH FOLDER");
        return Ok(());
    };
    let text = fs::read_to_string(spec_file)?;
    // A version with migrations is read with the history that its program has frozen beside it.
    let history_file = Path::new(spec_file).with_extension("history.json");
    let spec = if history_file.exists() {
        let history = History::from_json("history", &fs::read_to_string(&history_file)?)?;
        Spec::from_named_toml_with_history(spec_file, &text, history)?
    } else {
        Spec::from_named_toml(spec_file, &text)?
    };
    let script = Script::from_text(play_file, &fs::read_to_string(play_file)?, &spec)?;
    for playthrough in script.playthroughs() {
        let mut saves = StoreSaves::new(DirStore::open(folder)?, spec.keep());
        let played = run(&spec, playthrough, &mut saves);
        if let Some(failure) = &played.failure {
            return Err(format!("{}: {failure:?}", playthrough.name()).into());
        }
        println!("{}: saved in {folder}", playthrough.name());
    }
    Ok(())
}
