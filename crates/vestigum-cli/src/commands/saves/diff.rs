//! `vestigum saves diff`: what became of a player's progress between two generations.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde_json::json;

use vestigum::tools::Patience;
use vestigum::{Entry, Image, Spec, Value};

use super::places::Place;
use super::show::{Loaded, entries, load};
use super::{Key, SaveState, Whose, moment_of};
use crate::show::{BACK, Output, QUIET, STRONG, as_json, counted, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// The generation to compare; left out, the one before the newest
    from: Option<u64>,
    /// The generation to compare with; left out, the newest
    to: Option<u64>,
    #[command(flatten)]
    whose: Whose,
    #[command(flatten)]
    key: Key,
}

/// One thing that differs.
pub(super) struct Difference {
    pub name: String,
    pub what: &'static str,
    pub before: Value,
    pub after: Value,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let store = arguments.key.open(out, &arguments.folder, false)?;
    let owner = arguments.whose.owner(out, &store)?;
    let generations = super::generations(out, &store, &owner)?;
    let newest = generations.last().copied().unwrap_or(0);
    let read = |generation: u64| -> Result<Loaded, Verdict> {
        super::known(out, &owner, &generations, generation)?;
        let state = SaveState::of(&store, &Patience::with(&store), &owner, generation)
            .map_err(|error| out.unusable(&error.to_string()))?;
        let told = state.told();
        let unreadable = || out.unusable(&format!("generation {generation} of {owner} cannot be compared: {told}"));
        load(out, &spec, &store, state.image.ok_or_else(unreadable)?)
    };
    let before = generations.iter().rev().nth(1).copied();
    let one = || out.unusable(&format!("{owner} has one save, generation {newest}, so there is nothing to compare"));
    let from = arguments.from.or(before).ok_or_else(one)?;
    let (from, to) = (read(from)?, read(arguments.to.unwrap_or(newest))?);
    let found = differences(&spec, &from, &to);
    let place =
        (from.image.place != to.image.place).then(|| (from.image.place.to_string(), to.image.place.to_string()));
    if out.json {
        let list = found.iter().map(|difference| {
            json!({
                "name": difference.name, "of": difference.what,
                "before": as_json(&difference.before), "after": as_json(&difference.after),
            })
        });
        out.json(&json!({
            "from": from.image.generation, "to": to.image.generation,
            "place": place.map(|(before, after)| json!({ "before": before, "after": after })),
            "values": list.collect::<Vec<_>>(),
        }));
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("{}: from {} to {}\n", paint(STRONG, &owner), told(&from.image), told(&to.image)));
    if let Some((before, after)) = &place {
        out.line(format_args!("the player stood at {before}, and stands at {} now\n", paint(STRONG, after)));
    }
    out.line(shown(&found));
    Ok(Verdict::Fine)
}

fn told(image: &Image) -> String {
    format!("generation {} ({})", paint(STRONG, image.generation), moment_of(&image.saved_at))
}

/// Returns what differs between two images of one owner, by what they mean: a value that one of them leaves out is its default.
pub(super) fn differences(spec: &Spec, from: &Loaded, to: &Loaded) -> Vec<Difference> {
    let (before, after) = (entries(spec, from), entries(spec, to));
    let mut by_name: BTreeMap<String, (Option<&Entry>, Option<&Entry>)> = BTreeMap::new();
    before.iter().for_each(|entry| by_name.entry(entry.to_string()).or_default().0 = Some(entry));
    after.iter().for_each(|entry| by_name.entry(entry.to_string()).or_default().1 = Some(entry));
    let mut found = Vec::new();
    for (name, (was, is)) in by_name {
        let field = was.or(is).and_then(|entry| spec.fields().find(|field| *field.name() == *entry.field));
        let Some(default) = field.map(vestigum::spec::Field::default) else { continue };
        let value = |entry: Option<&Entry>| entry.map_or_else(|| default.clone(), |entry| entry.value.clone());
        let mut compare = |what, before: Value, after: Value| {
            if before != after {
                found.push(Difference { name: name.clone(), what, before, after });
            }
        };
        compare("", value(was), value(is));
        let marks = |entry: Option<&Entry>| entry.and_then(|entry| entry.marks.clone());
        if let (Some(was), Some(is)) = (marks(was), marks(is)) {
            compare("at the entry", was.0, is.0);
            compare("at the checkpoint", was.1, is.1);
        }
    }
    found
}

/// A table of what differs.
pub(super) fn shown(found: &[Difference]) -> String {
    if found.is_empty() {
        return paint(QUIET, "no value differs");
    }
    let heading = ["value", "before", "after", "what came and went"].map(str::to_owned);
    let rows = found.iter().map(|difference| {
        let Difference { name, what, before, after } = difference;
        let name = if what.is_empty() { name.clone() } else { format!("{name}, {what}") };
        // Scalars are told in full by the two columns before.
        let came = before.difference(after);
        let came = if came == format!("{} → {}", before.brief(), after.brief()) { String::new() } else { came };
        vec![name, paint(QUIET, before.brief()), paint(BACK, after.brief()), came]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    let with_containers = rows.iter().any(|row| !row[3].is_empty());
    let width = if with_containers { 4 } else { 3 };
    let rows = rows.into_iter().map(|row| row[..width].to_vec()).collect();
    format!("{}{}", table(&heading[..width], rows, 3), counted(found.len(), "difference"))
}
