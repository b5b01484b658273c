//! `vestigum saves merge`: what became of one save in two places, as one save again.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use serde_json::json;

use vestigum::merging::{FieldMerge, MergeLaw, MergeReport, MergedEntry, Side, merge};
use vestigum::tools::rfc3339;
use vestigum::{Image, Owner, Store, Value};

use super::places::{AnyStore, Place};
use super::{Key, Player};
use crate::show::{BACK, BAD, GOOD, Output, QUIET, RULE, STRONG, as_json, counted, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document with `[merge]`
    spec: PathBuf,
    /// The last save that both places had: a save folder, sqlite:FILE, postgres://…, or the file of one save; `none` where both began anew
    #[arg(value_parser = Place::parser())]
    base: Place,
    /// The saves here: a save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    here: Place,
    /// The saves there: a save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    there: Place,
    #[command(flatten)]
    player: Player,
    #[command(flatten)]
    key: Key,
    /// Write what comes out to both places
    #[arg(long)]
    yes: bool,
}

/// The word for a base that there is none of.
const NONE: &str = "none";

/// The most bytes that a save in a file of its own may have: as many as a save folder reads.
const LARGEST: u64 = 64 << 20;

/// The newest save of one place.
struct Newest {
    store: AnyStore,
    image: Image,
    generation: u64,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let here = arguments.key.open(out, &arguments.here, arguments.yes)?;
    let name = arguments.player.name(out, &here)?;
    let owner = Owner::Profile(name.clone());
    let there = arguments.key.open(out, &arguments.there, arguments.yes)?;
    let (here, there) = (newest(out, here, &owner)?, newest(out, there, &owner)?);
    let base = base(out, arguments, &owner)?;
    let merged = merge(&spec, base.as_ref(), &here.image, &there.image);
    let merged = merged.map_err(|error| out.unusable(&error.to_string()))?;
    let saved_at = rfc3339(SystemTime::now());
    let image = Image { saved_at, ..merged.suspended.profile_image(&name) };
    let mut written = None;
    if arguments.yes {
        let write = |side: Side, to: &Newest| {
            let done = to.store.commit(to.generation, &image);
            done.map(|done| done.generation).map_err(|error| format!("{side}: {error}"))
        };
        let of_here = write(Side::Here, &here).map_err(|why| out.unusable(&why))?;
        // What is here has taken up what is there, so that is what both have in common now.
        let of_there = write(Side::There, &there).map_err(|why| {
            out.unusable(&format!(
                "{why}; generation {of_here} here has the merge already: try again with THERE as BASE"
            ))
        })?;
        written = Some((of_here, of_there));
    }
    let report = &merged.report;
    if out.json {
        let values = report.entries.iter().map(|entry| {
            json!({
                "name": entry.name.to_string(), "merge": entry.merge.words(), "clamped": entry.clamped,
                "base": as_json(&entry.base), "here": as_json(&entry.here), "there": as_json(&entry.there),
                "merged": as_json(&entry.merged),
            })
        });
        out.json(&json!({
            "done": arguments.yes, "player": name, "place": image.place.to_string(),
            "run": { "from": report.run.side().map(Side::word), "why": report.run.to_string() },
            "newer": report.newer.word(),
            "values": values.collect::<Vec<_>>(),
            "opened": report.opened,
            "moved_levels": report.moved_levels.iter().map(|moved| json!({ "level": moved.level, "to": moved.to })).collect::<Vec<_>>(),
            "no_room": report.no_room.iter().map(|(set, name)| json!({ "set": &**set, "name": &**name })).collect::<Vec<_>>(),
            "left_level": report.left_level,
            "written": written.map(|(here, there)| json!({ "here": here, "there": there })),
        }));
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("{}: {}", paint(STRONG, &owner), report.run));
    let [at_here, at_there, now] = [&here.image, &there.image, &image].map(|image| image.place.to_string());
    if at_here != now || at_there != now {
        let now = paint(STRONG, now);
        out.line(format_args!("the player stood at {at_here} here and at {at_there} there, and stands at {now} now"));
    }
    out.line("");
    out.line(shown(&report.entries));
    told(out, report);
    out.line(match written {
        Some((here, there)) => format!("{}: generation {here} here and generation {there} there", paint(GOOD, "done")),
        None => format!("{}: add --yes to write it to both places", paint(BACK, "nothing was changed")),
    });
    Ok(Verdict::Fine)
}

/// What a merge did beside the values.
fn told(out: &Output, report: &MergeReport) {
    for level in &report.opened {
        out.line(format_args!("{} {level} opens", paint(GOOD, "→")));
    }
    for moved in &report.moved_levels {
        match &moved.to {
            Some(to) => out.line(format_args!("both sides made {}: one of them is {to} now", moved.level)),
            None => out.line(format_args!(
                "{} both sides made {}, and there was room for one",
                paint(BAD, "✗"),
                moved.level
            )),
        }
    }
    for (set, name) in &report.no_room {
        out.line(format_args!("{} there was no room for `{name}` in {set}", paint(BAD, "✗")));
    }
    if let Some(level) = &report.left_level {
        out.line(format_args!("{} the other side removed {level}, so it was left", paint(BACK, "!")));
    }
}

fn newest(out: &Output, store: AnyStore, owner: &Owner) -> Result<Newest, Verdict> {
    let generations = super::generations(out, &store, owner)?;
    let generation = generations.last().copied().unwrap_or(0);
    let image = store.read(owner, generation).map_err(|error| out.unusable(&error.to_string()))?;
    Ok(Newest { store, image, generation })
}

/// The save that both had.
fn base(out: &Output, arguments: &Arguments, owner: &Owner) -> Result<Option<Image>, Verdict> {
    let place = match &arguments.base {
        Place::Folder(path) if path == Path::new(NONE) => return Ok(None),
        Place::Folder(path) if path.is_file() => path,
        place => {
            let store = arguments.key.open(out, place, false)?;
            return newest(out, store, owner).map(|newest| Some(newest.image));
        }
    };
    let failed = |error: std::io::Error| out.unusable(&format!("{}: {error}", place.display()));
    let mut file = std::fs::File::open(place).map_err(failed)?.take(LARGEST + 1);
    let mut bytes = Vec::new();
    file.read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() as u64 > LARGEST {
        return Err(out.unusable(&format!("{} has more than {LARGEST} bytes, so it is no save", place.display())));
    }
    let key = arguments.key.read(out)?;
    let image = Image::decode(&bytes, key.as_ref());
    let image = image.map_err(|error| out.unusable(&format!("{}: {error}", place.display())))?;
    if image.owner != *owner {
        return Err(out.unusable(&format!("{} is a save of {}, and not of {owner}", place.display(), image.owner)));
    }
    Ok(Some(image))
}

/// A table of what is not the same everywhere.
fn shown(entries: &[MergedEntry]) -> String {
    if entries.is_empty() {
        return paint(QUIET, "no value differs");
    }
    let heading = ["value", "base", "here", "there", "merged", "by"].map(str::to_owned);
    let rows = entries.iter().map(|entry| {
        let side = |value: &Value| match *value == entry.base {
            true => paint(QUIET, value.brief()),
            false => value.brief(),
        };
        let style = match entry.merge {
            FieldMerge::By(MergeLaw::Newer) | FieldMerge::WithRun => BACK,
            FieldMerge::By(MergeLaw::Max | MergeLaw::Min | MergeLaw::Union | MergeLaw::Sum) => RULE,
            FieldMerge::Changed | FieldMerge::Apart => QUIET,
        };
        let clamped = if entry.clamped { ", at the end of its range" } else { "" };
        vec![
            paint(STRONG, &entry.name),
            entry.base.brief(),
            side(&entry.here),
            side(&entry.there),
            paint(STRONG, entry.merged.brief()),
            format!("{}{clamped}", paint(style, entry.merge.words())),
        ]
    });
    let same = counted(entries.len(), "value");
    format!(
        "{}\n{}",
        table(&heading, rows.collect(), 3),
        paint(QUIET, format_args!("{same} changed; all others are as in the base"))
    )
}
