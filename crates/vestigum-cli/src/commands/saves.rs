//! `vestigum saves`: repairing a save folder.

use std::path::{Path, PathBuf};

use clap::{Subcommand, ValueEnum};
use serde_json::json;
use vestigum::{Change, DirStore, Owner, Reset, Session, Store, restore};

use crate::Verdict;
use crate::input;
use crate::show::{BACK, GOOD, Output, QUIET, STRONG, counted, paint, table};

#[derive(clap::Args)]
pub struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Reset a player's saved progress: first what would change, with --yes for real
    Reset(ResetArguments),
    /// Make an older generation the newest again: first what would happen, with --yes for real
    Restore(RestoreArguments),
}

#[derive(clap::Args)]
struct ResetArguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder
    folder: PathBuf,
    /// What is reset
    #[arg(value_enum)]
    scope: Scope,
    /// The level, or the field and the keys of one entry
    names: Vec<String>,
    /// The player
    #[arg(long, value_name = "NAME")]
    profile: String,
    /// Do it
    #[arg(long)]
    yes: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Scope {
    /// Everything that belongs to a level
    Level,
    /// Everything that lasts a run
    Run,
    /// One field, or one entry of it
    Field,
    /// Everything of the player
    Profile,
    /// Everything of the device
    Device,
    /// The player and the device
    Everything,
}

#[derive(clap::Args)]
struct RestoreArguments {
    /// The save folder
    folder: PathBuf,
    /// The generation to go back to
    generation: u64,
    /// The player; left out, the device
    #[arg(long, value_name = "NAME")]
    profile: Option<String>,
    /// Do it
    #[arg(long)]
    yes: bool,
}

pub fn run(out: &Output, arguments: &Arguments) -> Verdict {
    let done = match &arguments.command {
        Command::Reset(arguments) => reset(out, arguments),
        Command::Restore(arguments) => go_back(out, arguments),
    };
    done.unwrap_or_else(|verdict| verdict)
}

/// Opens a folder that is there; a misspelt one is not made.
fn open(out: &Output, folder: &Path) -> Result<DirStore, Verdict> {
    if !folder.is_dir() {
        return Err(out.unusable(&format!("there is no save folder {}", folder.display())));
    }
    DirStore::open(folder).map_err(|error| out.unusable(&error.to_string()))
}

/// The saves of an owner that has some.
fn known(out: &Output, store: &DirStore, owner: &Owner) -> Result<Vec<u64>, Verdict> {
    let failed = |error: vestigum::StoreError| out.unusable(&error.to_string());
    let generations = store.generations(owner).map_err(failed)?;
    if generations.is_empty() {
        let there: Vec<String> = store.owners().map_err(failed)?.iter().map(Owner::to_string).collect();
        let there = if there.is_empty() { "no saves at all".into() } else { there.join(", ") };
        return Err(out.unusable(&format!("there are no saves of {owner}; there are: {there}")));
    }
    Ok(generations)
}

fn scope(out: &Output, arguments: &ResetArguments) -> Result<Reset, Verdict> {
    let names = &arguments.names[..];
    let wrong = |wanted: &str| Err(out.unusable(&format!("{wanted}; here are {} names", names.len())));
    match (arguments.scope, names) {
        (Scope::Level, [level]) => Ok(Reset::Level(level.clone())),
        (Scope::Level, _) => wrong("`level` takes the name of one level"),
        (Scope::Field, [name, keys @ ..]) => Ok(Reset::Field { name: name.clone(), keys: keys.to_vec() }),
        (Scope::Field, []) => wrong("`field` takes the name of a field, and the keys of one entry"),
        (Scope::Run, []) => Ok(Reset::Run),
        (Scope::Profile, []) => Ok(Reset::Profile),
        (Scope::Device, []) => Ok(Reset::Device),
        (Scope::Everything, []) => Ok(Reset::Everything),
        _ => wrong("this takes no name"),
    }
}

fn reset(out: &Output, arguments: &ResetArguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let scope = scope(out, arguments)?;
    let store = open(out, &arguments.folder)?;
    let before = known(out, &store, &Owner::Profile(arguments.profile.clone()))?;
    let session = Session::inspect(&spec, store, &arguments.profile);
    let mut session = session.map_err(|error| out.unusable(&error.to_string()))?;
    let place = session.place();
    let changes = if arguments.yes {
        session.reset(&scope).map_err(|error| out.unusable(&error.to_string()))?
    } else {
        session.preview_reset(&scope).map_err(|error| out.unusable(&error.to_string()))?
    };
    let left = session.place();
    let saved = session.quit().map_err(|error| out.unusable(&error.to_string()))?;
    let generation = saved.generation;
    let newest = before.last().copied().unwrap_or(0);
    if out.json {
        let list = changes.iter().map(|change| {
            let (before, after) = (change.before.to_string(), change.after.to_string());
            json!({ "field": &*change.field, "key": change.key.as_deref(), "before": before, "after": after })
        });
        let list: Vec<_> = list.collect();
        out.json(
            &json!({ "done": arguments.yes, "reset": scope.to_string(), "changes": list, "generation": generation }),
        );
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("reset {} of {}", paint(STRONG, &scope), arguments.profile));
    out.line(shown(&changes));
    if arguments.yes {
        if place != left {
            out.line(format_args!("the player was at {place} and is at {left} now"));
        }
        out.line(format_args!("{} as generation {generation}", paint(GOOD, "done")));
        out.line(paint(
            QUIET,
            format_args!("generation {newest} is as it was: `vestigum saves restore` goes back to it"),
        ));
    } else {
        out.line(format_args!("{}: add --yes to do it", paint(BACK, "nothing was changed")));
    }
    Ok(Verdict::Fine)
}

fn shown(changes: &[Change]) -> String {
    if changes.is_empty() {
        return paint(QUIET, "everything is at its beginning already");
    }
    let heading = ["field", "before", "after"].map(str::to_owned);
    let rows = changes.iter().map(|change| {
        let key = change.key.as_ref().map(|key| format!("[{key}]")).unwrap_or_default();
        vec![format!("{}{key}", change.field), change.before.to_string(), change.after.to_string()]
    });
    format!("{}{}", table(&heading, rows.collect(), 3), counted(changes.len(), "value"))
}

fn go_back(out: &Output, arguments: &RestoreArguments) -> Result<Verdict, Verdict> {
    let store = open(out, &arguments.folder)?;
    let owner = arguments.profile.clone().map_or(Owner::Device, Owner::Profile);
    let generations = known(out, &store, &owner)?;
    let newest = generations.last().copied().unwrap_or(0);
    let wanted = arguments.generation;
    if !generations.contains(&wanted) {
        let there: Vec<String> = generations.iter().map(u64::to_string).collect();
        return Err(out.unusable(&format!("{owner} has no generation {wanted}; there are: {}", there.join(", "))));
    }
    if wanted == newest {
        return Err(out.unusable(&format!("generation {wanted} is the newest of {owner} already")));
    }
    let image = store.read(&owner, wanted).map_err(|error| out.unusable(&error.to_string()))?;
    let place = image.place.to_string();
    let generation = if arguments.yes {
        Some(restore(&store, &owner, wanted).map_err(|error| out.unusable(&error.to_string()))?.generation)
    } else {
        None
    };
    if out.json {
        out.json(&json!({
            "done": arguments.yes, "restored": wanted, "generation": generation, "saved_at": image.saved_at, "place": place,
        }));
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("generation {} of {owner}", paint(STRONG, wanted)));
    out.line(format_args!("   saved {}", image.saved_at));
    out.line(format_args!("   the player is at {place}"));
    match generation {
        Some(generation) => {
            out.line(format_args!(
                "{}: it is generation {generation} now, generation {newest} stays behind it",
                paint(GOOD, "done")
            ));
        }
        None => out.line(format_args!(
            "{}: add --yes to put it before generation {newest}",
            paint(BACK, "nothing was changed")
        )),
    }
    Ok(Verdict::Fine)
}
