//! `vestigum saves show`: a player's progress as the game would load it.

use std::path::PathBuf;
use std::sync::Arc;

use serde_json::{Value as Json, json};

use vestigum::image::SavedPlace;
use vestigum::spec::{Axis, KeySet};
use vestigum::tools::Patience;
use vestigum::{Entry, Image, LoadReport, Owner, Progress, Span, Spec, StoreError, Value};

use super::places::{AnyStore, Place};
use super::{Key, SaveState, Whose, Worth, moment_of};
use crate::show::{BACK, BAD, GOOD, Output, QUIET, RULE, STRONG, as_json, board_row, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// The generation; left out, the newest that is whole
    generation: Option<u64>,
    #[command(flatten)]
    whose: Whose,
    #[command(flatten)]
    key: Key,
}

/// An image under a spec.
pub(super) struct Loaded {
    pub image: Image,
    pub progress: Progress,
    pub report: LoadReport,
}

/// Loads an image as a launch would, without launching. A damaged one is loaded too, if it can be read at all: looking
/// at it may be what is wanted.
///
/// A player's save of an older version may have left values to the device, or take some from it, so it is loaded with the device's newest.
pub(super) fn load(out: &Output, spec: &Spec, store: &AnyStore, image: Image) -> Result<Loaded, Verdict> {
    let is_older = image.version < spec.version();
    let of_device = match &image.owner {
        Owner::Profile(_) if is_older => {
            super::newest(store, &Owner::Device).map_err(|error| out.unusable(&error.to_string()))?
        }
        Owner::Profile(_) | Owner::Device => None,
    };
    let (profile, device) = match image.owner {
        Owner::Profile(_) => (Some(&image), of_device.as_ref()),
        Owner::Device => (None, Some(&image)),
    };
    let launched = Progress::load(spec, profile, device).map_err(|error| out.unusable(&error.to_string()))?;
    Ok(Loaded { progress: launched.progress, report: launched.report, image })
}

/// The values that an image of that owner is about.
pub(super) fn entries(spec: &Spec, loaded: &Loaded) -> Vec<Entry> {
    let device = loaded.image.owner == Owner::Device;
    let saved = |entry: &Entry| {
        let field = spec.fields().find(|field| *field.name() == *entry.field);
        match field.map(vestigum::spec::Field::lasts) {
            Some(Span::Device) => device,
            Some(Span::Attempt | Span::Session) | None => false,
            Some(Span::Visit) => !device && matches!(loaded.image.place, SavedPlace::InLevel { .. }),
            Some(_) => !device,
        }
    };
    loaded.progress.entries().into_iter().filter(saved).collect()
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let store = arguments.key.open(out, &arguments.folder, false)?;
    let owner = arguments.whose.owner(out, &store)?;
    let generations = super::generations(out, &store, &owner)?;
    let generation = match arguments.generation {
        Some(wanted) => super::known(out, &owner, &generations, wanted)?,
        None => 0,
    };
    let (generation, state, over) = match generation {
        0 => newest_whole(out, &store, &owner, &generations)?,
        wanted => {
            let state = SaveState::of(&store, &Patience::with(&store), &owner, wanted);
            (wanted, state.map_err(|error| out.unusable(&error.to_string()))?, Vec::new())
        }
    };
    let verdict = if over.is_empty() { Verdict::Fine } else { Verdict::Failed };
    let told = state.told();
    let damaged = state.damaged().map(ToString::to_string);
    let Some(image) = state.image else {
        return Err(out.unusable(&format!("generation {generation} of {owner} cannot be shown: {told}")));
    };
    let loaded = load(out, &spec, &store, image)?;
    if out.json {
        let mut shown = save_as_json(&spec, &loaded, damaged);
        shown["passed_over"] =
            over.iter().map(|(generation, why)| json!({ "generation": generation, "why": why })).collect();
        out.json(&shown);
        return Ok(verdict);
    }
    for (generation, why) in &over {
        out.line(format_args!("{} generation {generation} is newer, and damaged: {why}", paint(BAD, "✗")));
    }
    out.line(format_args!(
        "{}, generation {generation}, saved {} UTC, {told}",
        paint(STRONG, &owner),
        moment_of(&loaded.image.saved_at)
    ));
    if loaded.image.place == SavedPlace::Deleted {
        out.line("the player was deleted: `saves profile` restores what was there, until it is purged");
        return Ok(verdict);
    }
    let report = loaded.report.to_string();
    report.lines().skip(1).for_each(|line| out.line(paint(BACK, line)));
    if owner != Owner::Device {
        out.line(format_args!("stands at: {}\n", paint(STRONG, loaded.progress.place())));
        let board = board(&loaded.progress);
        if !board.is_empty() {
            out.line(board);
        }
    }
    out.line(values(&spec, &loaded));
    Ok(verdict)
}

/// A generation that is shown: its number, what it is worth, and the damaged ones that are newer, each with the reason.
type Shown = (u64, SaveState, Vec<(u64, String)>);

/// The newest generation that is whole, as a launch finds it, and the damaged ones that a launch passes over. What cannot be read now
/// is not passed over.
fn newest_whole(out: &Output, store: &AnyStore, owner: &Owner, generations: &[u64]) -> Result<Shown, Verdict> {
    let patience = Patience::with(store);
    let mut over = Vec::new();
    for generation in generations.iter().rev().copied() {
        let state = match SaveState::of(store, &patience, owner, generation) {
            Err(StoreError::NoGeneration { .. }) => continue,
            state => state.map_err(|error| out.unusable(&error.to_string()))?,
        };
        match &state.worth {
            Worth::Whole => return Ok((generation, state, over)),
            Worth::Damaged(damaged) => over.push((generation, damaged.to_string())),
            Worth::Unavailable(why) => {
                return Err(out.unusable(&format!(
                    "generation {generation} of {owner} is the newest and cannot be read now: {why}; name an older one to look at it"
                )));
            }
        }
    }
    Err(out.unusable(&format!("no save of {owner} is whole; name a generation to look at it")))
}

/// The levels, one row each, with every per-level value in a column of its own.
fn board(progress: &Progress) -> String {
    let rows = progress.full_board();
    let mut names: Vec<Arc<str>> = Vec::new();
    for (name, _) in rows.iter().flat_map(|row| &row.values) {
        if !names.contains(name) {
            names.push(name.clone());
        }
    }
    let mut heading = vec!["level".to_owned()];
    heading.extend(names.iter().map(ToString::to_string));
    heading.push("state".into());
    let line = rows.iter().map(|row| {
        let state = match (&row.lock, row.completed) {
            (Some(lock), _) => paint(BAD, format_args!("locked: {lock}")),
            (None, true) => paint(GOOD, "completed"),
            (None, false) => paint(RULE, "open"),
        };
        let state = if row.hidden { format!("{}, {state}", paint(QUIET, "hidden")) } else { state };
        let mut cells = vec![row.level.to_string()];
        for name in &names {
            let value = row.values.iter().find(|(known, _)| known == name).map(|(_, value)| value);
            let shown = value.filter(|value| value.is_filled() && row.open);
            cells.push(shown.map_or_else(|| paint(QUIET, "·"), Value::brief));
        }
        cells.push(state);
        cells
    });
    let rows: Vec<_> = line.collect();
    if rows.is_empty() { String::new() } else { table(&heading, rows, 3) }
}

/// The values that are not on the board: of keyed fields those that are not at their default.
fn values(spec: &Spec, loaded: &Loaded) -> String {
    let in_level = matches!(loaded.image.place, SavedPlace::InLevel { .. });
    let mut heading = vec!["value".to_owned(), "is".into(), "lasts".into()];
    if in_level {
        heading.extend(["at the entry".to_owned(), "at the checkpoint".into()]);
    }
    let mut rows = Vec::new();
    for entry in entries(spec, loaded) {
        let Some(field) = spec.fields().find(|field| *field.name() == *entry.field) else { continue };
        if field.is_per_level() || (!entry.keys.is_empty() && entry.value == *field.default()) {
            continue;
        }
        let mut row = vec![entry.to_string(), in_full(&entry.value), paint(QUIET, field.lasts())];
        if in_level {
            let (at_entry, at_checkpoint) =
                entry.marks.as_ref().map(|(a, b)| (in_full(a), in_full(b))).unwrap_or_default();
            row.extend([at_entry, at_checkpoint]);
        }
        rows.push(row);
    }
    for derived in spec.derived_values().filter(|_| loaded.image.owner != Owner::Device) {
        let mut row = |name: String, value: &Value| rows.push(vec![name, value.brief(), paint(QUIET, "derived")]);
        match derived.axis() {
            None => {
                if let Ok(value) = loaded.progress.derived(derived.name()) {
                    row(derived.name().to_owned(), &value);
                }
            }
            // Those of a level are on the board.
            Some(Axis::Level | Axis::Checkpoint) => {}
            Some(Axis::Keys(set)) => {
                for key in spec.key_sets().nth(set as usize).into_iter().flat_map(KeySet::names) {
                    if let Ok(value) = loaded.progress.derived_of(derived.name(), key) {
                        row(format!("{}[{key}]", derived.name()), &value);
                    }
                }
            }
        }
    }
    table(&heading, rows, 3)
}

/// A container with what is in it, as far as there is room for it.
fn in_full(value: &Value) -> String {
    const ROOM: usize = 60;
    let (full, brief) = (value.to_string(), value.brief());
    if full.chars().count() <= ROOM || full == brief {
        return full;
    }
    let shown: String = full.chars().take(ROOM - 1).collect();
    format!("{shown}… ({brief})")
}

fn save_as_json(spec: &Spec, loaded: &Loaded, damaged: Option<String>) -> Json {
    let values = entries(spec, loaded).into_iter().map(|entry| {
        let marks = entry.marks.as_ref();
        json!({
            "field": &*entry.field, "key": (!entry.keys.is_empty()).then(|| entry.keys.to_string()), "value": as_json(&entry.value),
            "at_entry": marks.map(|(value, _)| as_json(value)),
            "at_checkpoint": marks.map(|(_, value)| as_json(value)),
        })
    });
    let board = loaded.progress.full_board();
    let board = board.iter().map(board_row);
    json!({
        "owner": loaded.image.owner.to_string(), "generation": loaded.image.generation,
        "saved_at": loaded.image.saved_at, "place": loaded.image.place.to_string(), "damaged": damaged,
        "report": loaded.report.to_string(), "board": board.collect::<Vec<_>>(), "values": values.collect::<Vec<_>>(),
    })
}
