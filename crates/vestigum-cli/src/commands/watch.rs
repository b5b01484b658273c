//! `vestigum watch`: checks and plays again whenever a file changes.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use notify_debouncer_full::notify::RecursiveMode;
use notify_debouncer_full::{DebounceEventResult, new_debouncer};
use serde_json::json;

use vestigum::Spec;
use vestigum_verify::playthrough::Script;
use vestigum_verify::{asset_files, imported_file, lint, render, scripts_beside};

use super::play::{Kept, explained, run_on};
use crate::show::{BAD, GOOD, Output, QUIET, STRONG, counted, findings, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The playthroughs; left out, all `.play` files in the spec's folder and the folders in it
    plays: Vec<PathBuf>,
}

/// Editors write a file in several steps; what comes within this time is one change.
const SETTLING: Duration = Duration::from_millis(40);

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let failed = |error: &dyn std::fmt::Display| out.unusable(&format!("cannot watch: {error}"));
    input::text(&arguments.spec).map_err(|message| out.unusable(&message))?;
    let (told, changes) = mpsc::channel::<DebounceEventResult>();
    let mut watcher = new_debouncer(SETTLING, None, told).map_err(|error| failed(&error))?;
    for folder in folders(arguments) {
        watcher.watch(&folder, RecursiveMode::NonRecursive).map_err(|error| failed(&error))?;
    }
    round(out, arguments, None);
    // It ends with the process.
    for change in changes {
        let concerned = change.map_err(|errors| match errors.first() {
            Some(error) => failed(error),
            None => failed(&"the system says nothing more"),
        })?;
        let first = concerned.iter().flat_map(|event| event.paths.iter()).find(|path| matters(path));
        if let Some(path) = first.filter(|_| concerned.iter().any(|event| !event.kind.is_access())) {
            round(out, arguments, Some(path));
        }
    }
    Ok(Verdict::Fine)
}

/// The folders of everything that is read, each once: where the spec is, the folders in it, where playthroughs are, if they are named.
/// What lies deeper is never read, and there may be a great deal of it.
fn folders(arguments: &Arguments) -> Vec<PathBuf> {
    let of = |path: &PathBuf| match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
        Some(_) | None => PathBuf::from("."),
    };
    let beside = of(&arguments.spec);
    let inside = fs::read_dir(&beside).into_iter().flatten().flatten().map(|entry| entry.path());
    let inside: Vec<PathBuf> = inside.filter(|path| path.is_dir()).collect();
    let mut folders: Vec<PathBuf> =
        std::iter::once(beside).chain(inside).chain(arguments.plays.iter().map(of)).collect();
    folders.sort();
    folders.dedup();
    folders
}

/// Returns whether a change of a file can change what is said.
fn matters(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ["toml", "play", "json"].iter().any(|known| ending == *known))
}

/// Reads, checks and plays everything once.
fn round(out: &Output, arguments: &Arguments, changed: Option<&PathBuf>) {
    let start = Instant::now();
    if let Some(path) = changed.filter(|_| !out.json) {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        out.line(format_args!("\n{}", paint(QUIET, format_args!("── {name} changed"))));
    }
    let Ok(text) = input::text(&arguments.spec).map_err(|message| out.unusable(&message)) else { return };
    let Ok(history) = input::history(out, &arguments.spec) else { return };
    let name = arguments.spec.display().to_string();
    let checked = lint::check_beside(&name, &text, history, &|folder| asset_files(&arguments.spec, folder));
    let found = &checked.findings;
    let played = checked.spec.as_ref().map(|spec| play(spec, arguments));
    let took = start.elapsed().as_millis();
    if out.json {
        let played = played.as_ref().map(|played| {
            json!({ "playthroughs": played.count, "failed": played.failures.len(), "unreadable": played.unreadable.len() })
        });
        out.json(&json!({ "findings": findings(found), "played": played, "ms": took }));
        return;
    }
    if !found.list().is_empty() {
        out.line(render(found, true));
    }
    let mut told = vec![match found.list().len() {
        0 => paint(GOOD, "no findings"),
        count => paint(BAD, counted(count, "finding")),
    }];
    if let Some(played) = &played {
        played.unreadable.iter().chain(&played.failures).for_each(|text| out.line(text));
        let count = counted(played.count, "playthrough");
        told.push(match (played.unreadable.len(), played.failures.len()) {
            (0, 0) => format!("{count}, {}", paint(GOOD, "all as they should be")),
            (0, failed) => format!("{count}, {}", paint(BAD, format_args!("{failed} failed"))),
            (files, _) => format!("{count}, {}", paint(BAD, format_args!("{} cannot be read", counted(files, "file")))),
        });
    }
    out.line(format_args!(
        "{}: {}  {}",
        paint(STRONG, &name),
        told.join("; "),
        paint(QUIET, format_args!("{took} ms"))
    ));
}

/// Describes what came of all playthroughs.
#[derive(Default)]
struct Played {
    count: usize,
    failures: Vec<String>,
    unreadable: Vec<String>,
}

fn play(spec: &Spec, arguments: &Arguments) -> Played {
    let mut played = Played::default();
    let paths = match &arguments.plays[..] {
        [] => scripts_beside(&arguments.spec).unwrap_or_default(),
        named => named.to_vec(),
    };
    for path in paths {
        let text = match input::text(&path) {
            Ok(text) => text,
            Err(message) => {
                played.unreadable.push(message);
                continue;
            }
        };
        let script = match Script::from_text_with(&path.display().to_string(), &text, spec, &imported_file) {
            Ok(script) => script,
            Err(errors) => {
                played.unreadable.push(render(&errors, true));
                continue;
            }
        };
        for playthrough in script.playthroughs() {
            played.count += 1;
            match run_on(spec, playthrough, Kept::InMemory) {
                Ok(run) => {
                    let failure = run.failure.as_ref();
                    played.failures.extend(failure.map(|failure| {
                        format!("{} {}{}", paint(BAD, "✗"), run.name, explained(playthrough.file(), failure))
                    }));
                }
                Err(message) => played.failures.push(message),
            }
        }
    }
    played
}
