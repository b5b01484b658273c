//! `vestigum saves reset`: resetting a player's saved progress.

use std::path::PathBuf;

use clap::ValueEnum;
use serde_json::json;

use vestigum::{Change, Owner, Reset, Session, Store};

use super::places::Place;
use super::{Key, Player};
use crate::show::{BACK, GOOD, Output, QUIET, STRONG, counted, in_short, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// Part to reset
    #[arg(value_enum)]
    scope: ResetScope,
    /// The level, or the field and the keys of one entry
    names: Vec<String>,
    #[command(flatten)]
    player: Player,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long)]
    yes: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum ResetScope {
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

fn scope(out: &Output, arguments: &Arguments) -> Result<Reset, Verdict> {
    let names = &arguments.names[..];
    let wrong = |wanted: &str| Err(out.unusable(&format!("{wanted}, found {} names", names.len())));
    match (arguments.scope, names) {
        (ResetScope::Level, [level]) => Ok(Reset::Level(level.clone())),
        (ResetScope::Level, _) => wrong("`level` takes the name of one level"),
        (ResetScope::Field, [name, keys @ ..]) => Ok(Reset::Field { name: name.clone(), keys: keys.to_vec() }),
        (ResetScope::Field, []) => wrong("`field` takes the name of a field, and the keys of one entry"),
        (ResetScope::Run, []) => Ok(Reset::Run),
        (ResetScope::Profile, []) => Ok(Reset::Profile),
        (ResetScope::Device, []) => Ok(Reset::Device),
        (ResetScope::Everything, []) => Ok(Reset::Everything),
        _ => wrong("this takes no name"),
    }
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let scope = scope(out, arguments)?;
    // A preview quits a session too, and finds nothing to write.
    let store = arguments.key.open(out, &arguments.folder, true)?;
    let profile = arguments.player.name(out, &store)?;
    let before = super::generations(out, &store, &Owner::Profile(profile.clone()))?;
    let owner = Owner::Profile(profile.clone());
    let whole = before.iter().rev().copied().find(|generation| store.read(&owner, *generation).is_ok());
    let session = Session::repair(&spec, store, &profile);
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
    if out.json {
        let list = changes.iter().map(|change| {
            let (before, after) = (change.before.to_string(), change.after.to_string());
            json!({ "field": &*change.field, "key": (!change.keys.is_empty()).then(|| change.keys.to_string()), "before": before, "after": after })
        });
        let list: Vec<_> = list.collect();
        out.json(
            &json!({ "done": arguments.yes, "reset": scope.to_string(), "changes": list, "generation": generation }),
        );
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("reset {} of {}", paint(STRONG, &scope), profile));
    out.line(shown(&changes));
    if arguments.yes {
        if place != left {
            out.line(format_args!("the player was at {place} and is at {left} now"));
        }
        out.line(format_args!("{} as generation {generation}", paint(GOOD, "done")));
        // What was loaded is what can be gone back to: a newer one that is damaged cannot.
        out.line(paint(
            QUIET,
            match whole {
                Some(whole) => format!("generation {whole} is as it was: `vestigum saves restore` goes back to it"),
                None => "there is no whole save to go back to".to_owned(),
            },
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
        let key = if change.keys.is_empty() { String::new() } else { format!("[{}]", change.keys) };
        vec![format!("{}{key}", change.field), in_short(&change.before), in_short(&change.after)]
    });
    format!("{}{}", table(&heading, rows.collect(), 3), counted(changes.len(), "value"))
}
