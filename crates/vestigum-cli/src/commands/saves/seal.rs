//! `vestigum saves seal`: accepting an image that was edited by hand.

use std::path::PathBuf;

use serde_json::json;

use vestigum::tools::as_play;
use vestigum::{Image, Store};

use super::diff::{differences, shown};
use super::places::Place;
use super::show::load;
use super::{Key, Whose};
use crate::show::{BACK, GOOD, Output, QUIET, STRONG, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// The generation that was edited
    generation: u64,
    #[command(flatten)]
    whose: Whose,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long)]
    yes: bool,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let store = arguments.key.open(out, &arguments.folder, arguments.yes)?;
    let owner = arguments.whose.owner(out, &store)?;
    let generations = super::generations(out, &store, &owner)?;
    let wanted = super::known(out, &owner, &generations, arguments.generation)?;
    let failed = |error: &dyn std::fmt::Display| out.unusable(&error.to_string());
    let bytes = store.bytes(&owner, wanted).map_err(|error| failed(&error))?;
    let mut edited = Image::decode_unverified(&bytes)
        .map_err(|damaged| failed(&format!("generation {wanted} of {owner} cannot be accepted: {damaged}")))?;
    store.find_blobs(&mut edited);
    if edited.owner != owner {
        return Err(failed(&format!(
            "generation {wanted} says that it is of {}, and it lies with {owner}",
            edited.owner
        )));
    }
    // What it is compared with: the newest generation that is whole and is not this one.
    let whole = generations.iter().rev().filter(|generation| **generation != wanted);
    let whole = whole.filter_map(|generation| store.read(&owner, *generation).ok()).next();
    let taken = load(out, &spec, &store, edited)?;
    let base = whole.map(|image| load(out, &spec, &store, image)).transpose()?;
    let generation = if arguments.yes {
        let newest = generations.last().copied().unwrap_or(0);
        // In a game that merges saves the edit is one more save by play, on top of the newest whole one.
        let lost = base.as_ref().is_none_or(|base| base.image.generation < newest && wanted != newest);
        let before = base.as_ref().map(|base| &base.image);
        let image = as_play(&spec, &store, before, lost, taken.image.clone()).map_err(|error| failed(&error))?;
        Some(store.commit(newest, &image).map_err(|error| failed(&error))?.generation)
    } else {
        None
    };
    if out.json {
        out.json(&json!({ "done": arguments.yes, "sealed": wanted, "generation": generation }));
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("generation {} of {}, as it was edited", paint(STRONG, wanted), owner));
    taken.report.to_string().lines().skip(1).for_each(|line| out.line(paint(BACK, line)));
    if let Some(base) = &base {
        out.line(format_args!("against generation {}:\n", base.image.generation));
        out.line(shown(&differences(&spec, base, &taken)));
    }
    match generation {
        Some(generation) => {
            out.line(format_args!("{}: it is generation {generation} now, with a fresh check", paint(GOOD, "done")));
            out.line(paint(QUIET, format_args!("the edited file stays where it was, as generation {wanted}")));
        }
        None => out.line(format_args!("{}: add --yes to make it the newest", paint(BACK, "nothing was changed"))),
    }
    Ok(Verdict::Fine)
}
