//! `vestigum saves verify`: reading every file to its end.

use serde_json::json;
use std::collections::BTreeSet;

use vestigum::{Image, Owner};

use super::places::Place;
use super::{Key, list};
use crate::Verdict;
use crate::show::{BAD, GOOD, Output, STRONG, counted, paint};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    #[command(flatten)]
    key: Key,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let store = arguments.key.open(out, &arguments.folder, false)?;
    let files = list::files(&store).map_err(|error| out.unusable(&error.to_string()))?;
    let strays = store.strays().map_err(|error| out.unusable(&error.to_string()))?;
    let not_whole = |file: &&list::File| file.state.is_bad() || !file.state.lost_blobs().is_empty();
    let bad: Vec<_> = files.iter().filter(not_whole).collect();
    let images = files.iter().filter_map(|file| file.state.image.as_ref());
    let blobs: BTreeSet<_> = images.flat_map(Image::blob_refs).collect();
    // A launch needs one whole image of each owner that has any.
    let mut lost: Vec<&Owner> = bad.iter().map(|file| &file.owner).collect();
    lost.dedup();
    lost.retain(|owner| files.iter().filter(|file| file.owner == **owner).all(|file| file.state.is_bad()));
    let verdict = if bad.is_empty() { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = bad.iter().map(|file| {
            json!({
                "profile": match &file.owner { Owner::Profile(name) => Some(name), Owner::Device => None },
                "generation": file.generation, "damaged": file.state.damaged.as_ref().map(ToString::to_string),
                "lost_blobs": file.state.lost_blobs(),
            })
        });
        out.json(&json!({
            "ok": bad.is_empty(), "files": files.len(), "blobs": blobs.len(), "damaged": list.collect::<Vec<_>>(),
            "strays": list::strays_json(&strays),
        }));
        return Ok(verdict);
    }
    for file in &bad {
        let path = store.file(&file.owner, file.generation);
        out.line(format_args!("{} {}: {}", paint(BAD, "✗"), paint(STRONG, path), file.state.told()));
    }
    for owner in &lost {
        out.line(format_args!("  {owner} has no whole save left: a launch is refused until the files are moved away"));
    }
    list::show_strays(out, &strays);
    let all = match blobs.len() {
        0 => counted(files.len(), "file"),
        blobs => format!("{} and {}", counted(files.len(), "file"), counted(blobs, "blob")),
    };
    out.line(if bad.is_empty() {
        format!("{} {all}, all whole", paint(GOOD, "✓"))
    } else {
        format!("{all}, {}", paint(BAD, format_args!("{} not whole", bad.len())))
    });
    Ok(verdict)
}
