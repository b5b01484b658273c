//! `vestigum saves profile`: the players of a save folder, as a title screen has them.

use std::path::PathBuf;

use clap::Subcommand;
use serde_json::{Value as Json, json};

use vestigum::{Profile, ProfileError, ProfileState, Profiles};

use super::places::Place;
use super::{Key, moment_of};
use crate::show::{BACK, BAD, GOOD, Output, QUIET, STRONG, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    #[command(subcommand)]
    action: Option<Action>,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long, global = true)]
    yes: bool,
}

#[derive(Subcommand)]
enum Action {
    /// List the players: where each goes on, when it was saved, how long it was played
    List,
    /// Make a player who has played nothing
    Create { name: String },
    /// Make a player who has what another has
    Copy { from: String, to: String },
    /// Give a player another name; older generations are not taken along
    Rename { from: String, to: String },
    /// Delete a player, who can be brought back until it is purged
    Delete { name: String },
    /// Bring a deleted player back
    Restore { name: String },
    /// Give up what is left of a deleted player
    Purge { name: String },
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let Some(action) = arguments.action.as_ref().filter(|action| !matches!(action, Action::List)) else {
        let store = arguments.key.open(out, &arguments.folder, false)?;
        let listed = Profiles::new(&spec, store).list().map_err(|error| out.unusable(&error.to_string()))?;
        show(out, &listed);
        return Ok(Verdict::Fine);
    };
    let store = arguments.key.open(out, &arguments.folder, arguments.yes)?;
    let profiles = Profiles::new(&spec, store);
    let listed = profiles.list().map_err(|error| out.unusable(&error.to_string()))?;
    let refused = |error: ProfileError| out.unusable(&error.to_string());
    allowed(action, &listed).map_err(refused)?;
    if arguments.yes {
        match action {
            Action::List => {}
            Action::Create { name } => profiles.create(name).map_err(refused)?,
            Action::Copy { from, to } => profiles.copy(from, to).map_err(refused)?,
            Action::Rename { from, to } => profiles.rename(from, to).map_err(refused)?,
            Action::Delete { name } => profiles.delete(name).map_err(refused)?,
            Action::Restore { name } => profiles.restore(name).map_err(refused)?,
            Action::Purge { name } => profiles.purge(name).map_err(refused)?,
        }
    }
    if out.json {
        out.json(&json!({ "done": arguments.yes, "what": told(action) }));
        return Ok(Verdict::Fine);
    }
    match arguments.yes {
        true => out.line(format_args!("{}: {}", paint(GOOD, "done"), told(action))),
        false => out.line(format_args!("{}: add --yes, and {}", paint(BACK, "nothing was changed"), told(action))),
    }
    Ok(Verdict::Fine)
}

/// Returns what an action does.
fn told(action: &Action) -> String {
    match action {
        Action::List => String::new(),
        Action::Create { name } => format!("{name} is a player who has played nothing"),
        Action::Copy { from, to } => format!("{to} has what {from} has"),
        Action::Rename { from, to } => format!("{from} is called {to}"),
        Action::Delete { name } => format!("{name} is deleted, and can be restored until it is purged"),
        Action::Restore { name } => format!("{name} is back"),
        Action::Purge { name } => format!("nothing is left of {name}"),
    }
}

/// Returns whether an action can be done to the players that there are.
fn allowed(action: &Action, listed: &[Profile]) -> Result<(), ProfileError> {
    let state = |name: &str| listed.iter().find(|profile| profile.name == name).map(|profile| &profile.state);
    let free = |name: &String| match state(name) {
        None => Ok(()),
        Some(state) => Err(ProfileError::Taken { name: name.clone(), deleted: *state == ProfileState::Deleted }),
    };
    let there = |name: &String| match state(name) {
        // Why it cannot be read now, the action tells.
        Some(ProfileState::Saved | ProfileState::Unreadable(_) | ProfileState::Unavailable(_)) => Ok(()),
        Some(ProfileState::Deleted) | None => Err(ProfileError::Unknown { name: name.clone() }),
    };
    let deleted = |name: &String| match state(name) {
        Some(ProfileState::Deleted | ProfileState::Unavailable(_)) => Ok(()),
        Some(ProfileState::Saved | ProfileState::Unreadable(_)) => Err(ProfileError::NotDeleted { name: name.clone() }),
        None => Err(ProfileError::Unknown { name: name.clone() }),
    };
    match action {
        Action::List => Ok(()),
        Action::Create { name } => free(name),
        Action::Copy { from, to } | Action::Rename { from, to } => there(from).and_then(|()| free(to)),
        Action::Delete { name } => there(name),
        Action::Restore { name } | Action::Purge { name } => deleted(name),
    }
}

fn show(out: &Output, listed: &[Profile]) {
    if out.json {
        let listed = listed.iter().map(as_json);
        return out.json(&json!({ "profiles": listed.collect::<Vec<_>>() }));
    }
    if listed.is_empty() {
        return out.line("there are no players");
    }
    let heading = ["player", "goes on", "saved", "played"].map(str::to_owned);
    let rows = listed.iter().map(|profile| {
        let place = match &profile.state {
            ProfileState::Saved => place(profile),
            ProfileState::Deleted => format!("{}, was {}", paint(BACK, "deleted"), place(profile)),
            ProfileState::Unreadable(why) | ProfileState::Unavailable(why) => {
                paint(BAD, why.lines().next().unwrap_or_default())
            }
        };
        let played = profile.played.map_or_else(|| paint(QUIET, "·"), |played| time(played.as_secs()));
        vec![paint(STRONG, &profile.name), place, moment_of(&profile.saved_at), played]
    });
    out.line(table(&heading, rows.collect(), 2).trim_end());
}

fn place(profile: &Profile) -> String {
    match (&profile.place, &profile.level) {
        (Some(vestigum::Place::InLevel { checkpoint: Some(checkpoint), .. }), Some(level)) => {
            format!("{level}, at {checkpoint}")
        }
        (_, Some(level)) => level.clone(),
        (Some(place), None) => place.to_string(),
        (None, None) => "·".into(),
    }
}

/// A time for people: hours and minutes, and seconds of the first hour.
fn time(seconds: u64) -> String {
    let (hours, minutes, seconds) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if hours > 0 { format!("{hours} h {minutes:02} min") } else { format!("{minutes} min {seconds:02} s") }
}

fn as_json(profile: &Profile) -> Json {
    let (state, why) = match &profile.state {
        ProfileState::Saved => ("saved", None),
        ProfileState::Deleted => ("deleted", None),
        ProfileState::Unreadable(why) => ("unreadable", Some(why)),
        ProfileState::Unavailable(why) => ("unavailable", Some(why)),
    };
    json!({
        "profile": profile.name, "state": state, "why": why, "saved_at": profile.saved_at, "level": profile.level,
        "place": profile.place.as_ref().map(ToString::to_string),
        "played_ms": profile.played.map(|played| played.as_millis() as u64),
        "thumbnail_bytes": profile.thumbnail.as_ref().map(|thumbnail| thumbnail.len()),
    })
}
