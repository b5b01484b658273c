//! `vestigum saves merge`: one player's saves in two places become one save in both.

use std::path::PathBuf;

use serde_json::json;

use vestigum::merging::{FieldMerge, Meeting, MergeLaw, MergeReport, Merged, MergedEntry, Side};
use vestigum::sync::{PlayerSync, SyncDid, SyncError};
use vestigum::{Image, Owner, Value};

use super::places::Place;
use super::{Key, Player};
use crate::show::{BACK, BAD, GOOD, Output, QUIET, RULE, STRONG, as_json, counted, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document with `[merge]`
    spec: PathBuf,
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
    /// Take the save of one place whole, where they cannot be joined
    #[arg(long, value_name = "SIDE", value_parser = side)]
    take: Option<Side>,
    /// Write what comes out to both places
    #[arg(long)]
    yes: bool,
}

fn side(text: &str) -> Result<Side, String> {
    Side::from_word(text).ok_or_else(|| "expected `here` or `there`".to_owned())
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let here = arguments.key.open(out, &arguments.here, arguments.yes)?;
    let name = arguments.player.name(out, &here)?;
    let owner = Owner::Profile(name.clone());
    let there = arguments.key.open(out, &arguments.there, arguments.yes)?;
    let sync = PlayerSync::new(&spec, &here, &there, name.clone());
    let failed = |error: &dyn std::fmt::Display| out.unusable(&error.to_string());
    if let Some(side) = arguments.take {
        return take(out, &sync, &name, side, arguments.yes).map_err(|error| failed(&error));
    }
    let preview = sync.preview().map_err(|error| match error {
        SyncError::Diverged(_) | SyncError::TwoLines { .. } => {
            out.unusable(&format!("{error}\n`--take here` or `--take there` takes the save of one place whole"))
        }
        error => failed(&error),
    })?;
    let did = match arguments.yes {
        true => Some(sync.run().map_err(|error| failed(&error))?.did),
        false => None,
    };
    let damaged = &preview.damaged;
    let place = |image: &Option<Image>| image.as_ref().map(|image| image.place.to_string());
    let at = [place(&preview.here), place(&preview.there)];
    match preview.meeting {
        Meeting::Nothing => return Err(out.unusable(&format!("there are no saves of {owner} in either place"))),
        Meeting::InSync => show_plain(out, &name, None, damaged, did.as_ref()),
        Meeting::Takes(side) => show_plain(out, &name, Some(side), damaged, did.as_ref()),
        Meeting::Merged(merged) => show_merged(out, &name, &merged, at, damaged, did.as_ref()),
    }
    // What was passed over is lost, as far as the other place has not got it.
    Ok(if damaged.is_empty() { Verdict::Fine } else { Verdict::Failed })
}

/// Takes the save of one place whole, or says what that would do.
fn take(out: &Output, sync: &PlayerSync<'_>, name: &str, side: Side, yes: bool) -> Result<Verdict, SyncError> {
    let written = match yes {
        true => written(Some(&sync.take(side)?.did)),
        false => [None, None],
    };
    let [here, there] = written;
    let done = here.or(there).is_some();
    if out.json {
        out.json(&json!({
            "done": done, "player": name, "takes": side.word(), "written": { "here": here, "there": there },
        }));
    } else if done {
        out.line(format_args!("{}: both places have what was {side}, as one more save", paint(GOOD, "done")));
    } else if yes {
        out.line(format_args!("{}: there is no save {side}", paint(BAD, "nothing was changed")));
    } else {
        out.line(format_args!("{}: add --yes to give both places what is {side}", paint(BACK, "nothing was changed")));
    }
    Ok(if done || !yes { Verdict::Fine } else { Verdict::Failed })
}

/// The damaged saves as JSON.
fn damaged_json(damaged: &[(Side, u64, String)]) -> serde_json::Value {
    damaged
        .iter()
        .map(|(side, generation, why)| json!({ "side": side.word(), "generation": generation, "why": why }))
        .collect()
}

/// Says which newest saves were passed over.
fn tell_damaged(out: &Output, damaged: &[(Side, u64, String)]) {
    for (side, generation, why) in damaged {
        out.line(format_args!("{} generation {generation} {side} is damaged, and passed over: {why}", paint(BAD, "✗")));
    }
}

/// The generations that were written, here and there.
fn written(did: Option<&SyncDid>) -> [Option<u64>; 2] {
    match did {
        Some(SyncDid::Pushed { generation }) => [None, Some(*generation)],
        Some(SyncDid::Pulled { generation }) => [Some(*generation), None],
        Some(SyncDid::Merged { here, there, .. }) => [Some(*here), Some(*there)],
        _ => [None, None],
    }
}

fn show_plain(out: &Output, name: &str, takes: Option<Side>, damaged: &[(Side, u64, String)], did: Option<&SyncDid>) {
    let [here, there] = written(did);
    if out.json {
        out.json(&json!({
            "done": did.is_some(), "player": name, "takes": takes.map(Side::word),
            "damaged": damaged_json(damaged), "written": { "here": here, "there": there },
        }));
        return;
    }
    tell_damaged(out, damaged);
    let Some(side) = takes else {
        out.line(format_args!("{}: both places have the same", paint(GOOD, "in sync")));
        return;
    };
    out.line(format_args!("the save {} includes all that the other one does", paint(STRONG, side)));
    out.line(match here.or(there) {
        Some(generation) => format!("{}: the other place has it as generation {generation}", paint(GOOD, "done")),
        None => format!("{}: add --yes to write it to the other place", paint(BACK, "nothing was changed")),
    });
}

fn show_merged(
    out: &Output,
    name: &str,
    merged: &Merged,
    at: [Option<String>; 2],
    damaged: &[(Side, u64, String)],
    did: Option<&SyncDid>,
) {
    let report = &merged.report;
    let now = merged.image.place.to_string();
    let [here, there] = written(did);
    if out.json {
        let values = report.entries.iter().map(|entry| {
            json!({
                "name": entry.name.to_string(), "merge": entry.merge.words(), "clamped": entry.clamped,
                "here": as_json(&entry.here), "there": as_json(&entry.there), "merged": as_json(&entry.merged),
            })
        });
        out.json(&json!({
            "done": did.is_some(), "player": name, "place": now,
            "run": { "from": report.run.side().map(Side::word), "why": report.run.to_string() },
            "newer": report.newer.word(),
            "values": values.collect::<Vec<_>>(),
            "opened": report.opened,
            "moved_levels": report.moved_levels.iter().map(|moved| json!({ "level": moved.level, "to": moved.to })).collect::<Vec<_>>(),
            "no_room": report.no_room.iter().map(|(set, name)| json!({ "set": &**set, "name": &**name })).collect::<Vec<_>>(),
            "left_level": report.left_level,
            "damaged": damaged_json(damaged),
            "written": { "here": here, "there": there },
        }));
        return;
    }
    tell_damaged(out, damaged);
    out.line(format_args!("{}: {}", paint(STRONG, name), report.run));
    if let [Some(at_here), Some(at_there)] = at
        && (at_here != now || at_there != now)
    {
        let now = paint(STRONG, now);
        out.line(format_args!("the player stood at {at_here} here and at {at_there} there, and stands at {now} now"));
    }
    out.line("");
    out.line(shown(&report.entries));
    told(out, report);
    out.line(match (here, there) {
        (Some(here), Some(there)) => {
            format!("{}: generation {here} here and generation {there} there", paint(GOOD, "done"))
        }
        _ => format!("{}: add --yes to write it to both places", paint(BACK, "nothing was changed")),
    });
}

/// Lists what a merge did beside the values.
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

/// A table of what is not the same everywhere.
fn shown(entries: &[MergedEntry]) -> String {
    if entries.is_empty() {
        return paint(QUIET, "no value differs");
    }
    let heading = ["value", "here", "there", "merged", "by"].map(str::to_owned);
    let rows = entries.iter().map(|entry| {
        let side = |value: &Value| match *value == entry.merged {
            true => value.brief(),
            false => paint(QUIET, value.brief()),
        };
        let style = match entry.merge {
            FieldMerge::By(MergeLaw::Newer) | FieldMerge::WithRun => BACK,
            FieldMerge::By(MergeLaw::Max | MergeLaw::Min | MergeLaw::Union | MergeLaw::Sum) => RULE,
            FieldMerge::Changed | FieldMerge::Apart => QUIET,
        };
        let clamped = if entry.clamped { ", at the end of its range" } else { "" };
        vec![
            paint(STRONG, &entry.name),
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
        paint(QUIET, format_args!("{same} differ; all others are the same in both places"))
    )
}
