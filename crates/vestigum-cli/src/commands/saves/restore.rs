//! `vestigum saves restore`: making an older generation the newest again.

use std::path::PathBuf;

use serde_json::json;

use vestigum::{SessionError, Store, restore};

use super::places::Place;
use super::{Key, Whose, moment_of};
use crate::show::{BACK, GOOD, Output, STRONG, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// The generation to go back to
    generation: u64,
    #[command(flatten)]
    whose: Whose,
    #[command(flatten)]
    key: Key,
    /// The spec, where the game merges the saves of several places: the restored save is one more by play, which the others take over
    #[arg(long, value_name = "FILE")]
    spec: Option<PathBuf>,
    /// Do it
    #[arg(long)]
    yes: bool,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = arguments.spec.as_ref().map(|spec| input::spec(out, spec)).transpose()?;
    let store = arguments.key.open(out, &arguments.folder, arguments.yes)?;
    let owner = arguments.whose.owner(out, &store)?;
    let generations = super::generations(out, &store, &owner)?;
    let wanted = super::known(out, &owner, &generations, arguments.generation)?;
    let newest = generations.last().copied().unwrap_or(0);
    if wanted == newest {
        return Err(out.unusable(&format!("generation {wanted} is the newest of {owner} already")));
    }
    let image = store.read(&owner, wanted).map_err(|error| out.unusable(&error.to_string()))?;
    let place = image.place.to_string();
    let generation = if arguments.yes {
        let restored = restore(&store, spec.as_ref(), &owner, wanted).map_err(|error| match error {
            SessionError::NeedsSpec { .. } => out.unusable(&format!("{error}: `--spec FILE`")),
            error => out.unusable(&error.to_string()),
        });
        Some(restored?.generation)
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
    out.line(format_args!("   saved {}", moment_of(&image.saved_at)));
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
