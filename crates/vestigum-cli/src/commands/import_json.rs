//! `vestigum import-json`: what becomes of a save that a game wrote before it had a spec.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use clap::ValueEnum;
use serde_json::json;

use vestigum::adopting::{AdoptReport, Adopted, Adoption};
use vestigum::tools::rfc3339;
use vestigum::{DirStore, Image, Owner, Spec, Store, checked_profile};

use crate::show::{BAD, GOOD, Output, QUIET, STRONG, counted, harmless, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The map: what of the old save goes into which field
    map: PathBuf,
    /// The save that the game wrote before, as JSON
    old: PathBuf,
    /// Whose it becomes
    #[arg(long, value_name = "NAME", default_value = "player")]
    profile: String,
    /// Write the image into this new file, which a playthrough can `import`
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Save it in this save folder, as the first save of the player
    #[arg(long, value_name = "FOLDER")]
    saves: Option<PathBuf>,
    /// Fail where a value is not taken just as it was
    #[arg(long, value_enum, value_name = "WHAT")]
    deny: Option<Deny>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Deny {
    /// Name what nothing takes, what the map does not find, and what does not fit
    Left,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    checked_profile(&arguments.profile).map_err(|error| out.unusable(&error.to_string()))?;
    let map = input::text(&arguments.map).map_err(|message| out.unusable(&message))?;
    let map = Adoption::from_named_toml(&spec, &arguments.map.display().to_string(), &map);
    let map = map.map_err(|errors| out.unreadable(&errors))?;
    let old = input::text(&arguments.old).map_err(|message| out.unusable(&message))?;
    let adopted = map.adopt(old.as_bytes(), &arguments.profile);
    let mut adopted = adopted.map_err(|error| out.unusable(&format!("{}: {error}", arguments.old.display())))?;
    adopted.profile.saved_at = rfc3339(SystemTime::now());
    // Another player of this device was there before, and the device's values are theirs.
    let second = match (&arguments.saves, &adopted.device) {
        (Some(folder), Some(device)) => device_differs(folder, device).map_err(|why| out.unusable(&why))?,
        (None, _) | (_, None) => Vec::new(),
    };
    let denied = arguments.deny.is_some() && !(adopted.report.is_whole() && second.is_empty());
    let mut done = Vec::new();
    if !denied {
        if let Some(file) = &arguments.out {
            let of_device = file.with_extension("device.json");
            if let Some(device) = &adopted.device {
                write(&of_device, device).map_err(|why| out.unusable(&why))?;
            }
            write(file, &adopted.profile).map_err(|why| out.unusable(&why))?;
            done.push(format!("{} has the image", file.display()));
            if adopted.device.is_some() {
                done.push(format!("{} has the image of the device", of_device.display()));
            }
        }
        if let Some(folder) = &arguments.saves {
            done.extend(save(folder, &adopted).map_err(|why| out.unusable(&why))?);
        }
    }
    show(out, &spec, arguments, &adopted, &second, &done);
    Ok(if denied { Verdict::Failed } else { Verdict::Fine })
}

/// The device's values that are others in the save folder already, by field: those stay.
fn device_differs(folder: &Path, device: &Image) -> Result<Vec<String>, String> {
    if !folder.exists() {
        return Ok(Vec::new());
    }
    let store = DirStore::open(folder).map_err(|error| error.to_string())?;
    let newest = store.generations(&Owner::Device).map_err(|error| error.to_string())?.pop();
    let Some(newest) = newest else { return Ok(Vec::new()) };
    let there = store.read(&Owner::Device, newest).map_err(|error| error.to_string())?;
    let differs = device.values.iter().filter(|(name, value)| there.values.get(*name) != Some(value));
    Ok(differs.map(|(name, _)| name.to_string()).collect())
}

/// Writes the image into a file that is not there yet.
fn write(file: &Path, image: &Image) -> Result<(), String> {
    let failed = |error: std::io::Error| format!("cannot write {}: {error}", file.display());
    let bytes = image.encoded().bytes(1, None);
    File::create_new(file).and_then(|mut file| file.write_all(&bytes)).map_err(failed)
}

/// Saves it where the player has no save yet; what the device has stays as it is.
fn save(folder: &Path, adopted: &Adopted) -> Result<Vec<String>, String> {
    fs::create_dir_all(folder).map_err(|error| format!("cannot make {}: {error}", folder.display()))?;
    let store = DirStore::open(folder).map_err(|error| error.to_string())?;
    let is_free = |owner: &Owner| store.generations(owner).map(|of| of.is_empty()).map_err(|error| error.to_string());
    let owner = &adopted.profile.owner;
    if !is_free(owner)? {
        return Err(format!("{owner} has saves in {} already; nothing was written", folder.display()));
    }
    let mut done = Vec::new();
    if let Some(device) = &adopted.device {
        if is_free(&Owner::Device)? {
            store.commit(0, device).map_err(|error| error.to_string())?;
            done.push("the device's values are saved".to_owned());
        } else {
            done.push("the device has values already, which stay".to_owned());
        }
    }
    store.commit(0, &adopted.profile).map_err(|error| error.to_string())?;
    done.push(format!("{owner} is saved in {}", folder.display()));
    Ok(done)
}

fn show(out: &Output, spec: &Spec, arguments: &Arguments, adopted: &Adopted, second: &[String], done: &[String]) {
    let report = &adopted.report;
    let whole = report.is_whole() && second.is_empty();
    if out.json {
        let taken = report.taken.iter().map(|taken| {
            let value = serde_json::to_value(&taken.value).unwrap_or_default();
            json!({ "path": taken.path, "entry": taken.name.to_string(), "value": value })
        });
        let pairs = |pairs: &[(String, String)], first: &str, second: &str| -> Vec<serde_json::Value> {
            pairs.iter().map(|(one, other)| json!({ first: one, second: other })).collect()
        };
        out.json(&json!({
            "ok": arguments.deny.is_none() || whole,
            "whole": whole,
            "taken": taken.collect::<Vec<_>>(),
            "missing": pairs(&report.missing, "entry", "path"),
            "refused": pairs(&report.refused, "path", "why"),
            "left": report.left,
            "dropped": report.load.dropped.iter().map(|it| format!("{}: {}", it.what, it.why)).collect::<Vec<_>>(),
            "clamped": report.load.clamped.iter().map(|it| it.name.to_string()).collect::<Vec<_>>(),
            "left_to_rules": report.at_rules,
            "device_has_others": second,
            "as_for_a_newcomer": report.load.filled,
            "done": done,
        }));
        return;
    }
    let title = format!("{} as a save of {}", arguments.old.display(), spec.title());
    out.line(paint(STRONG, title));
    out.line("");
    if !report.taken.is_empty() {
        let rows = report.taken.iter().map(|taken| {
            let value = serde_json::to_string(&taken.value).unwrap_or_default();
            vec![paint(QUIET, harmless(&taken.path)), taken.name.to_string(), paint(GOOD, harmless(&short(value)))]
        });
        let heading = ["in the old save", "entry", "value"].map(str::to_owned);
        out.line(table(&heading, rows.collect(), 2));
    }
    for line in told(report, second) {
        out.line(line);
    }
    for line in done {
        out.line(format_args!("{}: {line}", paint(GOOD, "done")));
    }
    let verdict = match whole {
        true => paint(GOOD, "everything of it is taken"),
        false => paint(BAD, "not everything of it is taken"),
    };
    out.line(format_args!("{}; {verdict}", counted(report.taken.len(), "value")));
    if arguments.out.is_none() && arguments.saves.is_none() {
        out.line(paint(QUIET, "Nothing was written: --saves FOLDER saves it, --out FILE writes the image."));
    }
}

/// A value as a cell of a table has room for it.
fn short(value: String) -> String {
    const ROOM: usize = 60;
    match value.char_indices().nth(ROOM) {
        Some((at, _)) => format!("{}… ({} characters)", &value[..at], value.chars().count()),
        None => value,
    }
}

/// Returns what was not taken just as it was.
fn told(report: &AdoptReport, second: &[String]) -> Vec<String> {
    let mut lines = Vec::new();
    let mut tell = |word: &str, text: String| lines.push(format!("{}  {}", paint(BAD, word), harmless(&text)));
    report.missing.iter().for_each(|(entry, path)| tell("missing", format!("there is no {path} for {entry}")));
    report.refused.iter().for_each(|(path, why)| tell("refused", format!("{path}: {why}")));
    report.load.dropped.iter().for_each(|dropped| tell("dropped", format!("{}: {}", dropped.what, dropped.why)));
    for clamped in &report.load.clamped {
        tell("limited", format!("{} was {}, outside its limits; it is {}", clamped.name, clamped.was, clamped.is));
    }
    report.left.iter().for_each(|path| tell("left   ", path.clone()));
    second
        .iter()
        .for_each(|field| tell("left   ", format!("{field}: the device has another value already, which stays")));

    if !report.load.filled.is_empty() {
        let fields = report.load.filled.join(", ");
        lines.push(format!("{}  {fields}", paint(QUIET, "as for a newcomer")));
    }
    if !report.at_rules.is_empty() {
        let fields = report.at_rules.join(", ");
        lines.push(format!("{}  {fields}: `[make]` can work them out", paint(QUIET, "only rules at `complete` write")));
    }
    if !lines.is_empty() {
        lines.push(String::new());
    }
    lines
}
