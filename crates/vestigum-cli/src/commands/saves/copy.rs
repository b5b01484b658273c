//! `vestigum saves copy`: all saves of one place in another, which may be of another kind.

use serde_json::json;

use vestigum::tools::Patience;
use vestigum::{Image, Owner, Store, StoreError};

use super::Key;
use super::places::{AnyStore, Place};
use crate::Verdict;
use crate::show::{BACK, BAD, GOOD, Output, STRONG, counted, paint, table_with_numbers};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// Place of the saves: a save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    from: Place,
    /// Place to copy them to: a save folder, sqlite:FILE or postgres://…; made if it is not there
    #[arg(value_parser = Place::parser())]
    to: Place,
    /// Only the saves of one player
    #[arg(long, value_name = "NAME")]
    profile: Option<String>,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long)]
    yes: bool,
}

/// Describes what became of the saves of one owner.
struct Copied {
    owner: Owner,
    /// Says how many are whole, and the newest of them.
    images: usize,
    newest_here: Option<u64>,
    /// Those that are damaged, and why.
    left: Vec<(u64, String)>,
    /// The generation of the newest one in the other place.
    newest_there: Option<u64>,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let failed = |error: StoreError| out.unusable(&error.to_string());
    let from = arguments.key.open(out, &arguments.from, false)?;
    let owners = match &arguments.profile {
        Some(name) => {
            let owner = Owner::Profile(name.clone());
            super::generations(out, &from, &owner)?;
            vec![owner]
        }
        None => Patience::with(&from).owners().map_err(failed)?,
    };
    let mut to = None;
    if arguments.yes || arguments.to.is_there() {
        // What is only told makes nothing.
        let opened = if arguments.yes { arguments.to.make() } else { arguments.to.open(false) };
        let opened = arguments.key.seal(out, opened.map_err(|why| out.unusable(&why))?)?;
        for owner in &owners {
            let there = opened.generations(owner).map_err(failed)?;
            if there.is_empty() {
                continue;
            }
            // What a copy has left that was cut short is gone on with.
            if !is_part_of(&from, &opened, owner, &there).map_err(failed)? {
                let place = &arguments.to;
                return Err(out.unusable(&format!("{owner} has other saves in {place} already; nothing was copied")));
            }
        }
        to = Some(opened).filter(|_| arguments.yes);
    }
    // One owner after the other: a place may hold more than memory does.
    let copied = owners.into_iter().map(|owner| copy(&from, to.as_ref(), owner).map_err(|why| out.unusable(&why)));
    let copied = copied.collect::<Result<Vec<Copied>, Verdict>>()?;
    let (saves, left) = copied.iter().fold((0, 0), |(saves, left), one| (saves + one.images, left + one.left.len()));
    let verdict = if left == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let owners = copied.iter().map(|one| {
            json!({
                "profile": match &one.owner { Owner::Profile(name) => Some(name), Owner::Device => None },
                "saves": one.images, "newest": one.newest_there,
                "left": one.left.iter().map(|(generation, why)| json!({ "generation": generation, "why": why })).collect::<Vec<_>>(),
            })
        });
        out.json(&json!({ "done": arguments.yes, "saves": saves, "owners": owners.collect::<Vec<_>>() }));
        return Ok(verdict);
    }
    let heading = ["whose", "saves", "newest here", "newest there"].map(str::to_owned);
    let rows = copied.iter().map(|one| {
        let here = one.newest_here.map_or_else(|| "·".into(), |newest| newest.to_string());
        let there = one.newest_there.map_or_else(|| "·".into(), |newest| newest.to_string());
        vec![paint(STRONG, &one.owner), one.images.to_string(), here, there]
    });
    out.line(table_with_numbers(&heading, rows.collect(), 4, &[1, 2, 3]));
    for one in &copied {
        for (generation, why) in &one.left {
            out.line(format_args!("{} generation {generation} of {} is left: {why}", paint(BAD, "✗"), one.owner));
        }
    }
    let all = format!("{} of {}", counted(saves, "save"), counted(copied.len(), "owner"));
    out.line(match arguments.yes {
        true => format!("{}: {all}, each read back with the digest and the blobs that it had", paint(GOOD, "done")),
        false => format!("{}: {all} would be copied; add --yes to do it", paint(BACK, "nothing was changed")),
    });
    Ok(verdict)
}

/// Returns whether all that a place has of an owner are saves that the other has under the same numbers.
fn is_part_of(from: &AnyStore, to: &AnyStore, owner: &Owner, there: &[u64]) -> Result<bool, StoreError> {
    let (from, to) = (Patience::with(from), Patience::with(to));
    for generation in there {
        let copied = match (from.read(owner, *generation), to.read(owner, *generation)) {
            (Ok(one), Ok(other)) => one.digest() == other.digest(),
            (Err(StoreError::NoGeneration { .. } | StoreError::Damaged { .. }), _) => false,
            (_, Err(StoreError::NoGeneration { .. } | StoreError::Damaged { .. })) => false,
            (Err(error), _) | (_, Err(error)) => return Err(error),
        };
        if !copied {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Copies what there is of an owner under the numbers that it has, the newest first, and reads each back: cut short anywhere, the other
/// place has nothing of the owner or the newest. Without a place to copy to, tells what would be.
fn copy(from: &AnyStore, to: Option<&AnyStore>, owner: Owner) -> Result<Copied, String> {
    let told = |error: StoreError| error.to_string();
    let patience = Patience::with(from);
    let mut copied = Copied { owner, images: 0, newest_here: None, left: Vec::new(), newest_there: None };
    for generation in patience.generations(&copied.owner).map_err(told)?.into_iter().rev() {
        let image = match patience.read(&copied.owner, generation) {
            Ok(image) => image,
            Err(StoreError::NoGeneration { .. }) => continue,
            Err(error @ StoreError::Damaged { .. }) => {
                copied.left.push((generation, error.to_string()));
                continue;
            }
            Err(error) => return Err(error.to_string()),
        };
        copied.images += 1;
        copied.newest_here.get_or_insert(generation);
        if let Some(to) = to {
            let written = write(to, &image)?;
            copied.newest_there.get_or_insert(written);
        }
    }
    Ok(copied)
}

fn write(to: &AnyStore, image: &Image) -> Result<u64, String> {
    let written = to.insert(image).map_err(|error| error.to_string())?.generation;
    let read = Patience::with(to).read(&image.owner, written).map_err(|error| error.to_string())?;
    if read.digest() != image.digest() || read.blobs != image.blobs {
        return Err(format!("generation {written} of {} is not what was written", image.owner));
    }
    Ok(written)
}
