//! `vestigum saves verify`: reading every file to its end.

use serde_json::json;
use std::collections::BTreeSet;

use vestigum::{Image, Owner};

use super::list::{Listing, name_of};
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
    let listing = Listing::of(&store).map_err(|error| out.unusable(&error.to_string()))?;
    let Listing { files, strays, .. } = &listing;
    let unread = listing.unread();
    let bad: Vec<_> =
        files.iter().filter(|file| file.state.damaged().is_some() || !file.state.lost_blobs().is_empty()).collect();
    let images = files.iter().filter_map(|file| file.state.image.as_ref());
    let blobs: BTreeSet<_> = images.flat_map(Image::blob_refs).collect();
    // A launch needs one whole image of each owner that has any.
    let mut lost: Vec<&Owner> = bad.iter().map(|file| &file.owner).collect();
    lost.dedup();
    lost.retain(|owner| files.iter().filter(|file| file.owner == **owner).all(|file| file.state.damaged().is_some()));
    let all_whole = bad.is_empty() && unread == 0;
    let verdict = if all_whole { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = bad.iter().map(|file| {
            json!({
                "profile": name_of(&file.owner),
                "generation": file.generation, "damaged": file.state.damaged().map(ToString::to_string),
                "lost_blobs": file.state.lost_blobs(),
            })
        });
        let not_read = files.iter().filter_map(|file| Some((file, file.state.unavailable()?)));
        let not_read = not_read
            .map(|(file, why)| json!({ "profile": name_of(&file.owner), "generation": file.generation, "why": why }));
        out.json(&json!({
            "ok": all_whole, "files": files.len(), "blobs": blobs.len(), "damaged": list.collect::<Vec<_>>(),
            "unread": not_read.chain(listing.unread_json()).collect::<Vec<_>>(), "strays": list::strays_json(strays),
        }));
        return Ok(verdict);
    }
    for file in files.iter().filter(|file| !file.state.is_whole() || !file.state.lost_blobs().is_empty()) {
        let path = store.file(&file.owner, file.generation);
        out.line(format_args!("{} {}: {}", paint(BAD, "✗"), paint(STRONG, path), file.state.told()));
    }
    for owner in &lost {
        out.line(format_args!("  {owner} has no whole save left: a launch is refused until the files are moved away"));
    }
    listing.show_unread(out);
    list::show_strays(out, strays);
    let all = match blobs.len() {
        0 => counted(files.len(), "file"),
        blobs => format!("{} and {}", counted(files.len(), "file"), counted(blobs, "blob")),
    };
    out.line(if all_whole {
        format!("{} {all}, all whole", paint(GOOD, "✓"))
    } else {
        let mut not = Vec::new();
        if !bad.is_empty() {
            not.push(format!("{} not whole", bad.len()));
        }
        if unread > 0 {
            not.push(format!("{unread} could not be read"));
        }
        format!("{all}, {}", paint(BAD, not.join(", ")))
    });
    Ok(verdict)
}
