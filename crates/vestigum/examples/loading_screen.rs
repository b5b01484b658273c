//! Saving as a game loop wants it: hand over, draw on, look whether it is durable, and never leave before it is.
//!
//! Run it with `cargo run -p vestigum --example loading_screen`.

use std::process::ExitCode;
use std::thread::sleep;
use std::time::{Duration, Instant};

use vestigum::{DirStore, Session, Spec, Store};

const PROGRESS: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "entry"
[field.best_letters]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[field.volume]                  # shared by all carriers of this machine
type = "int"
default = 70
lasts = "device"
[save]
at = ["complete"]
"#;

/// One frame of the game.
fn draw(what: &str) {
    println!("   … {what}");
    sleep(Duration::from_millis(1));
}

/// Draws until everything is durable, but not for ever.
fn loading_screen(game: &Session, limit: Duration) -> Result<(), String> {
    let begun = Instant::now();
    while !game.settled() {
        if begun.elapsed() >= limit {
            let why = game.save_failure().map(|failure| failure.to_string());
            return Err(why.unwrap_or_else(|| format!("the disk has not answered for {} ms", limit.as_millis())));
        }
        draw("loading screen");
    }
    Ok(())
}

fn run() -> Result<(), Box<dyn std::error::Error>> {
    let spec = Spec::from_toml(PROGRESS)?;
    let letters = spec.int("letters")?;
    let folder = tempfile::tempdir()?;
    let store = DirStore::open(folder.path())?;

    let mut ada = Session::launch(&spec, store.clone(), "ada")?;
    ada.enter("mill_lane")?;
    ada.add(letters, 60)?;
    // `[save] at` names this moment: what it leaves is handed over, and the call returns at once.
    let done = ada.complete()?;
    println!("completed; the next path is {}", done.next_level().unwrap_or("none"));
    // A loading screen has a limit: on a disk that takes nothing, it ends with the reason.
    match loading_screen(&ada, Duration::from_secs(5)) {
        Ok(()) => println!("durable as generation {}", ada.generation()),
        Err(why) => println!("not saved yet: {why}; the game says so and goes on, and it is tried again"),
    }

    // A save that the player asked for: the ticket tells when it is durable.
    ada.set(spec.int("volume")?, 40)?;
    let ticket = ada.save();
    let saved = loop {
        match ticket.poll() {
            None => draw("a small wheel in the corner"),
            Some(result) => break result?,
        }
    };
    println!("saved as generation {}; the store wrote: {}", saved.generation, saved.written);

    // A second carrier on the same machine hears the same volume, also before it is saved.
    let ben = Session::launch(&spec, store.clone(), "ben")?;
    println!("ben's volume is {}", ben.get(spec.int("volume")?));

    // A quit that cannot save gives the session back, so that nothing is lost with it.
    for game in [ada, ben] {
        if let Err(failed) = game.quit_within(Duration::from_secs(2)) {
            println!("not saved: {failed}; play goes on");
            return Ok(failed.session.quit().map(drop)?);
        }
    }

    // The title screen looks at everyone without launching anything.
    for owner in store.owners()? {
        if let vestigum::Owner::Profile(name) = owner {
            let carrier = Session::peek(&spec, &store, &name)?;
            println!("{name}: {} of {} paths done", carrier.board().iter().filter(|row| row.completed).count(), 2);
        }
    }
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
