//! `vestigum saves migrate`: all players' saves come to the spec's version.

use std::path::PathBuf;

use serde_json::json;

use vestigum::image::{Clamped, Dropped, SavedPlace};
use vestigum::{LoadReport, MemoryStore, Owner, Session, Spec, Store, StoreError};

use super::Key;
use super::places::{AnyStore, Place};
use crate::show::{BACK, BAD, GOOD, Output, QUIET, STRONG, counted, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document with its history beside it
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long)]
    yes: bool,
}

/// Describes what becomes of one player's saves.
struct Player {
    name: String,
    done: Result<Done, String>,
}

struct Done {
    /// The newest generation and its version.
    generation: u64,
    version: i64,
    report: LoadReport,
    /// The generation that was written.
    written: Option<u64>,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let store = arguments.key.open(out, &arguments.folder, arguments.yes)?;
    let owners = store.owners().map_err(|error| out.unusable(&error.to_string()))?;
    let mut names: Vec<(String, String)> = Vec::new();
    for owner in owners {
        if let Owner::Profile(name) = &owner {
            let newest = store.generations(&owner).ok().and_then(|all| all.last().copied());
            let image = newest.and_then(|generation| store.read(&owner, generation).ok());
            // What a deleted player had is migrated if it is restored.
            if image.as_ref().is_some_and(|image| image.place == SavedPlace::Deleted) {
                continue;
            }
            names.push((image.map(|image| image.saved_at).unwrap_or_default(), name.clone()));
        }
    }
    if names.is_empty() {
        return Err(out.unusable("there are no saves of any player; the device comes along with the first"));
    }
    // What goes to the device is taken from the player who played last.
    names.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    let players: Vec<Player> = if arguments.yes {
        let migrate = |name: String| Player { done: migrated(&spec, &store, &store, &name), name };
        names.into_iter().map(|(_, name)| migrate(name)).collect()
    } else {
        // What a player leaves to the device decides what the next one finds there, so it is tried on copies.
        let trial = MemoryStore::default();
        copy_newest(&store, &Owner::Device, &trial).map_err(|error| out.unusable(&error.to_string()))?;
        let migrate = |name: String| {
            let copied = copy_newest(&store, &Owner::Profile(name.clone()), &trial);
            let done = copied.map_err(|error| error.to_string()).and_then(|()| migrated(&spec, &store, &trial, &name));
            let done = done.map(|done| Done { written: None, ..done });
            Player { done, name }
        };
        names.into_iter().map(|(_, name)| migrate(name)).collect()
    };
    let failed = players.iter().filter(|player| player.done.is_err()).count();
    let verdict = if failed > 0 { Verdict::Failed } else { Verdict::Fine };
    if out.json {
        let list = players.iter().map(|player| match &player.done {
            Ok(done) => json!({
                "profile": player.name, "generation": done.generation, "version": done.version,
                "written": done.written, "report": done.report.to_string(),
            }),
            Err(why) => json!({ "profile": player.name, "error": why }),
        });
        let list: Vec<_> = list.collect();
        out.json(&json!({ "ok": failed == 0, "done": arguments.yes, "version": spec.version(), "players": list }));
        return Ok(verdict);
    }
    // The steps are the same for all, so they are told once: from the oldest save on.
    let reports = players.iter().filter_map(|player| player.done.as_ref().ok().map(|done| &done.report));
    let longest = reports.map(|report| &report.migrated).max_by_key(|steps| steps.len());
    for step in longest.into_iter().flatten() {
        out.line(paint(STRONG, format_args!("to version {}", step.to)));
        step.told.iter().for_each(|told| out.line(format_args!("   {told}")));
        out.line("");
    }
    for player in &players {
        show(out, &spec, player);
    }
    out.line("");
    let older = players.iter().filter(|player| player.done.as_ref().is_ok_and(|done| done.version < spec.version()));
    match (older.count(), arguments.yes) {
        (0, _) if failed == 0 => out.line(paint(GOOD, format_args!("all are of version {} already", spec.version()))),
        (0, _) => {}
        (count, true) => out.line(format_args!(
            "{}: {} of version {}; the older saves stay behind the new ones",
            paint(GOOD, "done"),
            counted(count, "player"),
            spec.version()
        )),
        (count, false) => out.line(format_args!(
            "{}: add --yes to bring {} to version {}",
            paint(BACK, "nothing was changed"),
            counted(count, "player"),
            spec.version()
        )),
    }
    if failed > 0 {
        out.line(paint(BAD, format_args!("{} could not be migrated, and stay as they are", counted(failed, "player"))));
    }
    Ok(verdict)
}

/// Copies the save of an owner that a launch would load, if there is one.
fn copy_newest(store: &AnyStore, owner: &Owner, trial: &MemoryStore) -> Result<(), StoreError> {
    match super::newest(store, owner)? {
        Some(image) => trial.commit(0, &image).map(|_| ()),
        None => Ok(()),
    }
}

/// Loads a player's saves, and writes them into a store, if they are older than the spec.
fn migrated<S: Store + Clone + 'static>(spec: &Spec, found: &AnyStore, store: &S, name: &str) -> Result<Done, String> {
    let generation = Session::peek(spec, found, name).map_err(|error| error.to_string())?.generation();
    let peeked = Session::peek(spec, store, name).map_err(|error| error.to_string())?;
    let report = peeked.load_report().clone();
    let version = report.older_version.unwrap_or(spec.version());
    let mut done = Done { generation, version, report, written: None };
    if version < spec.version() {
        let session = Session::repair(spec, store.clone(), name).map_err(|error| error.to_string())?;
        done.written = Some(session.quit().map_err(|error| error.to_string())?.generation);
    }
    Ok(done)
}

fn show(out: &Output, spec: &Spec, player: &Player) {
    let name = paint(STRONG, &player.name);
    let done = match &player.done {
        Ok(done) => done,
        Err(why) => {
            out.line(format_args!("{name}   {}", paint(BAD, why.replace('\n', "\n   "))));
            return;
        }
    };
    let now = spec.version();
    if done.version == now {
        out.line(format_args!("{name}   {}", paint(QUIET, format_args!("version {now} already"))));
        return;
    }
    let written = match done.written {
        Some(generation) => paint(GOOD, format_args!(", written as generation {generation}")),
        None => String::new(),
    };
    out.line(format_args!("{name}   generation {}, version {} → {now}{written}", done.generation, done.version));
    for (from, to) in &done.report.moved_levels {
        out.line(paint(BACK, format_args!("   the level {from} is {to} now: there is room for fewer")));
    }
    for Dropped { what, why } in &done.report.dropped {
        out.line(paint(BACK, format_args!("   dropped {what}: {why}")));
    }
    for Clamped { name, was, is } in &done.report.clamped {
        out.line(paint(BACK, format_args!("   {name} was {was}, outside its limits; it is {is} now")));
    }
    if !done.report.filled.is_empty() {
        out.line(paint(QUIET, format_args!("   new, at the default: {}", done.report.filled.join(", "))));
    }
    if let Some(place) = &done.report.place {
        out.line(paint(BACK, format_args!("   the place was {} and is {} now: {}", place.from, place.to, place.why)));
    }
}
