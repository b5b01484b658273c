//! `vestigum saves copy`: all saves of one place in another, which may be of another kind.

use std::path::PathBuf;

use serde_json::json;

use vestigum::{Image, Owner, Store, StoreError};

use super::Key;
use super::any_store::AnyStore;
use crate::Verdict;
use crate::show::{BACK, BAD, GOOD, Output, STRONG, counted, paint, table_with_numbers};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// Where the saves are: a save folder, or sqlite:FILE
    from: PathBuf,
    /// Where they come to: a save folder, or sqlite:FILE; made if it is not there
    to: PathBuf,
    #[command(flatten)]
    key: Key,
    /// Do it
    #[arg(long)]
    yes: bool,
}

/// The saves of one owner.
struct Copied {
    owner: Owner,
    /// Those that are whole, the oldest first.
    images: Vec<Image>,
    /// Those that cannot be read, and why.
    left: Vec<(u64, String)>,
    /// The generation of the newest one in the other place.
    newest: Option<u64>,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let failed = |error: StoreError| out.unusable(&error.to_string());
    let from = arguments.key.open(out, &arguments.from, false)?;
    let mut copied = Vec::new();
    for owner in from.owners().map_err(failed)? {
        copied.push(read(&from, owner).map_err(failed)?);
    }
    if arguments.yes || AnyStore::is_there(&arguments.to) {
        // What is only told makes nothing.
        let to = match arguments.yes {
            true => AnyStore::make(&arguments.to).map_err(|why| out.unusable(&why))?,
            false => AnyStore::open(&arguments.to, false).map_err(|why| out.unusable(&why))?,
        };
        let to = arguments.key.seal(out, to)?;
        for Copied { owner, .. } in &copied {
            if !to.generations(owner).map_err(failed)?.is_empty() {
                let place = arguments.to.display();
                return Err(out.unusable(&format!("{owner} has saves in {place} already; nothing was copied")));
            }
        }
        if arguments.yes {
            for one in &mut copied {
                one.newest = write(&to, one).map_err(|why| out.unusable(&why))?;
            }
        }
    }
    let (saves, left) =
        copied.iter().fold((0, 0), |(saves, left), one| (saves + one.images.len(), left + one.left.len()));
    let verdict = if left == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let owners = copied.iter().map(|one| {
            json!({
                "profile": match &one.owner { Owner::Profile(name) => Some(name), Owner::Device => None },
                "saves": one.images.len(), "newest": one.newest,
                "left": one.left.iter().map(|(generation, why)| json!({ "generation": generation, "why": why })).collect::<Vec<_>>(),
            })
        });
        out.json(&json!({ "done": arguments.yes, "saves": saves, "owners": owners.collect::<Vec<_>>() }));
        return Ok(verdict);
    }
    let heading = ["whose", "saves", "newest here", "newest there"].map(str::to_owned);
    let rows = copied.iter().map(|one| {
        let here = one.images.last().map_or_else(|| "·".into(), |image| image.generation.to_string());
        let there = one.newest.map_or_else(|| "·".into(), |newest| newest.to_string());
        vec![paint(STRONG, &one.owner), one.images.len().to_string(), here, there]
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

/// What there is of an owner.
fn read(from: &AnyStore, owner: Owner) -> Result<Copied, StoreError> {
    let (mut images, mut left) = (Vec::new(), Vec::new());
    for generation in from.generations(&owner)? {
        match from.read(&owner, generation) {
            Ok(image) => images.push(image),
            Err(StoreError::NoGeneration { .. }) => {}
            Err(error) => left.push((generation, error.to_string())),
        }
    }
    Ok(Copied { owner, images, left, newest: None })
}

/// Writes all of them, and reads each back.
fn write(to: &AnyStore, copied: &Copied) -> Result<Option<u64>, String> {
    let mut newest = 0;
    for image in &copied.images {
        let committed = to.commit(newest, image).map_err(|error| error.to_string())?;
        newest = committed.generation;
        let read = to.read(&copied.owner, newest).map_err(|error| error.to_string())?;
        if read.digest() != image.digest() || read.blobs != image.blobs {
            return Err(format!("generation {newest} of {} is not what was written", copied.owner));
        }
    }
    Ok((newest > 0).then_some(newest))
}
