//! Two servers, one store, and a carrier who walks from one to the other. `cargo run --example two_servers`
//!
//! The store is memory here, and both servers are in one process; with `PostgresStore` they are wherever you like.

use std::process::ExitCode;
use std::time::{Duration, Instant};

use vestigum::roster::{Roster, RosterEvent, RosterOptions};
use vestigum::{MemoryStore, Session, Spec};

const SPEC: &str = r#"
[game]
id = "fellpost"

[field.letters]                    # what a carrier has delivered
type = "int"
lasts = "profile"
after_failure = "keep"
"#;

/// A frame now and then, until something is told.
fn told(server: &mut Roster) -> Vec<RosterEvent> {
    let began = Instant::now();
    loop {
        let events = server.tick();
        if !events.is_empty() || began.elapsed() > Duration::from_secs(10) {
            return events;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn run() -> Result<(), Box<dyn std::error::Error>> {
    let spec = Spec::from_toml(SPEC)?;
    let letters = spec.int("letters")?;
    let store = MemoryStore::default();
    let mut north = Roster::new(&spec, store.clone(), RosterOptions::new("north"));
    let mut south = Roster::new(&spec, store.clone(), RosterOptions::new("south"));

    north.join("ada");
    println!("north: {:?}", told(&mut north));
    if let Some(ada) = north.get_mut("ada") {
        ada.add(letters, 30)?;
    }

    // She is on one server at a time.
    south.join("ada");
    for event in told(&mut south) {
        if let RosterEvent::Refused { why, .. } = event {
            println!("south: {why}");
        }
    }

    // South waits for her; north saves her, and lets her go.
    let comes = south.join_within("ada", Duration::from_secs(10));
    north.leave("ada");
    comes.wait()?;
    println!("south: {:?}", told(&mut south));
    if let Some(ada) = south.get_mut("ada") {
        println!("south: ada comes with {} letters", ada.get(letters));
        ada.add(letters, 12)?;
    }

    for (name, server) in [("north", north), ("south", south)] {
        let told = server.shutdown(Duration::from_secs(10));
        println!("{name}: durable {:?}, not durable {:?}", told.durable, told.not_durable);
    }
    println!("in the store: {} letters", Session::peek(&spec, &store, "ada")?.get(letters));
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
