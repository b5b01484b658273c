//! One carrier on two devices: each has its saves, and both sync with a third place.
//!
//! ```text
//! cargo run --example two_places                     # in a temporary folder
//! cargo run --example two_places -- FOLDER           # leaves the saves there
//! cargo run --example two_places -- FOLDER apart     # and stops before they come together
//! ```
//!
//! `vestigum saves merge demo/fellpost/fellpost.toml FOLDER/laptop FOLDER/hand_held` then shows what a sync would do.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use vestigum::sync::{PlayerSync, SyncDid};
use vestigum::{DirStore, Session, Spec};

const SPEC: &str = include_str!("../../../demo/fellpost/fellpost.toml");
const HISTORY: &str = include_str!("../../../demo/fellpost/fellpost.history.json");

/// A device and its saves.
struct Device {
    name: &'static str,
    store: DirStore,
}

impl Device {
    fn new(folder: &Path, name: &'static str) -> Result<Device, Box<dyn Error>> {
        let store = DirStore::open(folder.join(name))?;
        Ok(Device { name, store })
    }

    /// Walks a path.
    fn walk(&self, spec: &Spec, path: &str, letters: i64, xp: i64) -> Result<(), Box<dyn Error>> {
        let mut game = Session::launch(spec, self.store.clone(), "ada")?;
        game.enter(path)?;
        game.add(spec.int("letters")?, letters)?;
        game.add(spec.int("score")?, letters)?;
        game.add(spec.int("xp")?, xp)?;
        game.tick(Duration::from_secs(letters.unsigned_abs()))?;
        game.complete()?;
        game.quit()?;
        println!("{:<10} walks {path}: {letters} letters, {xp} XP", self.name);
        Ok(())
    }

    /// Syncs as a game does before a player is launched, and after the session has quit.
    fn sync(&self, spec: &Spec, shared: &DirStore) -> Result<(), Box<dyn Error>> {
        let told = match PlayerSync::new(spec, &self.store, shared, "ada").run()?.did {
            SyncDid::Nothing => "nobody has played yet".to_owned(),
            SyncDid::InSync => "both have the same".to_owned(),
            SyncDid::Pushed { generation } => format!("the shared saves have it as generation {generation}"),
            SyncDid::Pulled { generation } => format!("it is generation {generation} here"),
            SyncDid::Merged { report, here, .. } => {
                let changed = report.entries.iter().map(|entry| {
                    format!(
                        "\n             {}: {} here, {} there, {} in both ({})",
                        entry.name,
                        entry.here.brief(),
                        entry.there.brief(),
                        entry.merged.brief(),
                        entry.merge.words()
                    )
                });
                format!("merged as generation {here}; {}{}", report.run, changed.collect::<String>())
            }
            other => format!("{other:?}"),
        };
        println!("{:<10} syncs: {told}", self.name);
        Ok(())
    }
}

fn run() -> Result<(), Box<dyn Error>> {
    let mut arguments = std::env::args().skip(1);
    let temporary = std::env::temp_dir().join(format!("vestigum-two-places-{}", std::process::id()));
    let named = arguments.next().map(PathBuf::from);
    let folder = named.clone().unwrap_or_else(|| temporary.clone());
    std::fs::create_dir_all(&folder)?;
    let spec = Spec::from_toml_with_history(SPEC, HISTORY)?;
    let shared = DirStore::open(folder.join("shared"))?;
    let (laptop, hand_held) = (Device::new(&folder, "laptop")?, Device::new(&folder, "hand_held")?);

    laptop.walk(&spec, "mill_lane", 60, 100)?;
    laptop.sync(&spec, &shared)?;
    hand_held.sync(&spec, &shared)?;
    // The hand-held is on a train; the laptop stays at home.
    hand_held.walk(&spec, "mill_lane", 90, 40)?;
    laptop.walk(&spec, "heather_rise", 40, 25)?;
    if arguments.next().as_deref() != Some("apart") {
        laptop.sync(&spec, &shared)?;
        hand_held.sync(&spec, &shared)?;
        laptop.sync(&spec, &shared)?;
    }
    if named.is_none() {
        drop((laptop, hand_held, shared));
        std::fs::remove_dir_all(&temporary)?;
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
