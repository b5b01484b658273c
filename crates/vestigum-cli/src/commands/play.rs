//! `vestigum play`: runs playthroughs.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use serde_json::{Value as Json, json};

use vestigum::{BoardRow, DirStore, Spec, Value};
use vestigum_report::junit;
use vestigum_report::page::PlayedRun;
use vestigum_verify::StoreSaves;
use vestigum_verify::playthrough::{
    Failure, LastChange, MemorySaves, Playthrough, Row, Run, Saves, Timeline, Tone, Why, run as run_one,
};

use crate::show::{self, BAD, GOOD, Output, QUIET, RULE, STRONG, as_json, board_row, counted, in_short, paint, table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The playthroughs; left out, all `.play` files in the spec's folder and the folders in it
    plays: Vec<PathBuf>,
    /// Show the timeline: a row for each statement, a column for each watched value
    #[arg(long)]
    trace: bool,
    /// Save into real files, in a folder that is removed afterwards
    #[arg(long)]
    on_disk: bool,
    /// Leave the saves of one playthrough in this new folder, so that the game can go on from where it ends
    #[arg(long, value_name = "FOLDER", conflicts_with = "on_disk")]
    saves: Option<PathBuf>,
    /// Run only playthroughs whose name contains this
    #[arg(long, value_name = "TEXT")]
    only: Option<String>,
    /// Write the results into this file as JUnit XML, too
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| report_unusable(out, arguments.junit.as_deref(), verdict))
}

/// Writes a report also where the input cannot be used: a build server would take the one of the last run.
pub(crate) fn report_unusable(out: &Output, junit: Option<&Path>, verdict: Verdict) -> Verdict {
    let Some(path) = junit else { return verdict };
    write_report(out, path, junit::unusable(&out.all_unusable())).map_or_else(|failed| failed, |()| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let scripts = input::scripts(out, &arguments.spec, &arguments.plays, &spec)?;
    let (mut runs, mut times) = (Vec::new(), Vec::new());
    let chosen = input::chosen(out, &scripts, arguments.only.as_deref())?;
    let kept = match (&arguments.saves, arguments.on_disk) {
        (Some(_), _) if chosen.len() != 1 => {
            let message = format!("--saves leaves the saves of one playthrough, and here are {}", chosen.len());
            return Err(out.unusable(&format!("{message}\nchoose one with --only")));
        }
        (Some(folder), _) => Kept::In(folder),
        (None, true) => Kept::OnDisk,
        (None, false) => Kept::InMemory,
    };
    for playthrough in chosen {
        let start = Instant::now();
        let run = run_on(&spec, playthrough, kept).map_err(|message| out.unusable(&message))?;
        times.push(start.elapsed());
        runs.push((playthrough, run));
    }
    if let Some(path) = &arguments.junit {
        let played = runs.iter().map(|(playthrough, run)| PlayedRun { file: playthrough.file(), run });
        let played: Vec<_> = played.zip(times).collect();
        if let Err(verdict) = write_report(out, path, junit::played(&played)) {
            // Not as an error: it would be tried once more.
            return Ok(verdict);
        }
    }
    Ok(show(out, &runs, arguments.trace))
}

/// Writes a report for a build server.
pub(crate) fn write_report(
    out: &Output,
    path: &Path,
    report: Result<String, impl std::fmt::Display>,
) -> Result<(), Verdict> {
    let failed = |why: String| out.unusable(&format!("cannot write {}: {why}", path.display()));
    let report = report.map_err(|error| failed(error.to_string()))?;
    fs::write(path, report).map_err(|error| failed(error.to_string()))
}

/// Describes where the saves of a playthrough are.
#[derive(Clone, Copy)]
pub(crate) enum Kept<'a> {
    InMemory,
    /// In files that are removed afterwards.
    OnDisk,
    /// In a folder that stays.
    In(&'a Path),
}

/// Runs one playthrough, in memory or on real files.
pub(crate) fn run_on(spec: &Spec, playthrough: &Playthrough, kept: Kept<'_>) -> Result<Run, String> {
    let removed;
    let folder = match kept {
        Kept::InMemory => return Ok(run_one(spec, playthrough, &mut MemorySaves::default())),
        Kept::OnDisk => {
            removed = tempfile::tempdir().map_err(|error| format!("cannot make a folder for the saves: {error}"))?;
            removed.path()
        }
        Kept::In(folder) => {
            if fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some()) {
                return Err(format!("{} has something in it; the saves need a folder of their own", folder.display()));
            }
            folder
        }
    };
    let store = DirStore::open(folder).map_err(|error| error.to_string())?;
    let mut shelf: Box<dyn Saves> = Box::new(StoreSaves::new(store, spec.keep()));
    Ok(run_one(spec, playthrough, &mut *shelf))
}

/// Shows the results and says whether all passed.
pub(crate) fn show(out: &Output, runs: &[(&Playthrough, Run)], trace: bool) -> Verdict {
    let failed = runs.iter().filter(|(_, run)| !run.passed()).count();
    if out.json {
        let list: Vec<Json> = runs.iter().map(|(playthrough, run)| run_as_json(playthrough, run, trace)).collect();
        out.json(&json!({ "ok": failed == 0, "playthroughs": list }));
    } else {
        let mut file = "";
        for (playthrough, run) in runs {
            if playthrough.file() != file {
                file = playthrough.file();
                out.line(paint(QUIET, file));
            }
            let (sign, style) = if run.passed() { ("✓", GOOD) } else { ("✗", BAD) };
            let ran = paint(QUIET, counted(run.statements, "statement"));
            out.line(format_args!("  {} {}  {ran}", paint(style, sign), run.name));
            if trace {
                out.line("");
                out.line(timeline(&run.timeline, show::width()));
            }
            if let Some(failure) = &run.failure {
                out.line(explained(playthrough.file(), failure));
            }
        }
        let total = counted(runs.len(), "playthrough");
        out.line("");
        out.line(match failed {
            0 => format!("{total}, {}", paint(GOOD, "all as they should be")),
            failed => format!("{total}, {}", paint(BAD, format_args!("{failed} failed"))),
        });
    }
    if failed == 0 { Verdict::Fine } else { Verdict::Failed }
}

/// Returns why a playthrough failed, for people.
pub(crate) fn explained(file: &str, failure: &Failure) -> String {
    let place = paint(QUIET, format_args!("{file}:{}", failure.line));
    let mut lines = vec![String::new(), format!("    {place}  {}", paint(STRONG, &failure.statement))];
    let told = failure.told(&|tone, text| match tone {
        Tone::Good => paint(GOOD, text),
        Tone::Bad => paint(BAD, text),
        Tone::Strong => paint(STRONG, text),
        Tone::Statement => paint(RULE, text),
    });
    lines.extend(told.iter().map(|line| format!("      {line}")));
    lines.push(String::new());
    lines.join("\n")
}

/// The timeline of one playthrough, for people. Columns that do not fit are left out from the right, and named.
fn timeline(timeline: &Timeline, width: usize) -> String {
    for shown in (1..=timeline.columns.len()).rev() {
        let text = laid_out(timeline, shown, width);
        if shown == 1 || text.lines().take(2).all(|line| show::seen(line) <= width) {
            let left_out = &timeline.columns[shown..];
            let more =
                if left_out.is_empty() { String::new() } else { format!("    not shown: {}\n", left_out.join(", ")) };
            return text + &paint(QUIET, more);
        }
    }
    laid_out(timeline, 0, width)
}

/// A row for each statement, a column for each of the first `shown` watched values. An expectation changes nothing, so
/// it stands across the columns; so does a note that is too long for its place.
fn laid_out(timeline: &Timeline, shown: usize, width: usize) -> String {
    const INDENT: &str = "    ";
    let several = timeline.rows.iter().any(|row| row.profile != timeline.rows[0].profile);
    let devices = timeline.rows.iter().any(|row| row.device.is_some());
    let mut heading: Vec<String> = ["line", "statement"].map(str::to_owned).into();
    if several {
        heading.insert(1, "player".into());
    }
    if devices {
        heading.insert(1, "device".into());
    }
    heading.extend(timeline.columns[..shown].iter().cloned());
    heading.push("what happened".into());
    let rows = timeline.rows.iter().filter(|row| !is_expectation(row)).map(|row| {
        let mut cells = vec![paint(QUIET, row.line), format!("{}{}", "  ".repeat(row.depth), row.statement)];
        if several {
            cells.insert(1, row.profile.to_string());
        }
        if devices {
            cells.insert(1, row.device.as_deref().unwrap_or_default().to_owned());
        }
        cells.extend(row.cells[..shown].iter().map(|cell| match (&cell.before, &cell.after) {
            (Some(before), Some(after)) => change(before, after),
            _ => paint(QUIET, cell.brief().as_deref().unwrap_or("·")),
        }));
        cells.push(String::new());
        cells
    });
    let grid = table(&heading, rows.collect(), 2);
    let mut lines = grid.lines();
    let mut text = String::new();
    for line in lines.by_ref().take(2) {
        text.push_str(&format!("{INDENT}{line}\n"));
    }
    let note_at = show::seen(text.lines().next().unwrap_or_default()) - "what happened".len();
    for row in &timeline.rows {
        if is_expectation(row) {
            let statement = format!("{}{}", "  ".repeat(row.depth), row.statement);
            text.push_str(&format!(
                "{INDENT}{}  {}\n",
                paint(QUIET, format_args!("{:<4}", row.line)),
                paint(QUIET, statement)
            ));
            continue;
        }
        let line = format!("{INDENT}{}", lines.next().unwrap_or_default());
        if !row.board.is_empty() {
            text.push_str(&format!("{line}\n"));
            row.board.iter().for_each(|level| text.push_str(&format!("{INDENT}        {}\n", board_line(level))));
            continue;
        }
        if row.note.is_empty() {
            text.push_str(&format!("{line}\n"));
        } else if note_at + row.note.chars().count() <= width {
            let gap = note_at.saturating_sub(show::seen(&line));
            text.push_str(&format!("{line}{:gap$}{}\n", "", row.note));
        } else {
            text.push_str(&format!("{line}\n{INDENT}        {}\n", row.note));
        }
    }
    text
}

/// One level of the board: open or locked and why, and its values.
fn board_line(row: &BoardRow) -> String {
    let state = match (&row.lock, row.completed) {
        (Some(lock), _) => paint(BAD, format_args!("locked  {lock}")),
        (None, true) => paint(GOOD, "done"),
        (None, false) => paint(RULE, "open"),
    };
    let state = if row.hidden { format!("{}, {state}", paint(QUIET, "hidden")) } else { state };
    let filled = row.values.iter().filter(|(_, value)| value.is_filled());
    let values: Vec<String> =
        filled.map(|(name, value)| format!("{name} {}", paint(STRONG, in_short(value)))).collect();
    let values = if row.open { values.join("  ") } else { String::new() };
    format!("{:16}{state}  {values}", row.level).trim_end().to_owned()
}

fn is_expectation(row: &Row) -> bool {
    row.statement.starts_with("expect ")
}

/// Returns what changed: what went up or came is green, what went down or went is red.
fn change(before: &Value, after: &Value) -> String {
    let difference = before.difference(after);
    let fewer = difference.starts_with('−') || (difference.contains(" → ") && after < before);
    let style = if fewer { BAD } else { GOOD }.bold();
    match difference.split_once(" → ") {
        Some((old, new)) if !new.contains('→') => format!("{} → {}", paint(QUIET, old), paint(style, new)),
        _ => paint(style, difference),
    }
}

fn run_as_json(playthrough: &Playthrough, run: &Run, trace: bool) -> Json {
    let failure = run.failure.as_ref().map(|failure| {
        let why = match &failure.why {
            Why::Expectation { parts, changes } => {
                let parts = parts.iter().map(|part| {
                    let values = part.values.iter().map(|(name, found)| (name.clone(), as_json(found)));
                    json!({ "part": part.part, "holds": part.holds, "values": Json::Object(values.collect()) })
                });
                let changes = changes.iter().map(last_change);
                json!({ "expected": parts.collect::<Vec<_>>(), "last_changes": changes.collect::<Vec<_>>() })
            }
            Why::Promise(broken) => json!({
                "promise": broken.name, "what": broken.what, "beyond_sources": broken.beyond,
                "last_changes": broken.changes.iter().map(last_change).collect::<Vec<_>>(),
            }),
            Why::NotRefused => json!({ "not_refused": true }),
            Why::Refused(why) => json!({ "refused": why }),
            Why::Unjudged(why) => json!({ "unjudged": why }),
            Why::Storage(why) => json!({ "storage": why }),
            _ => Json::Null,
        };
        json!({ "line": failure.line, "statement": failure.statement, "why": why })
    });
    let mut object = json!({
        "name": run.name,
        "file": playthrough.file(),
        "line": playthrough.line(),
        "passed": run.passed(),
        "statements": run.statements,
        "failure": failure,
    });
    if trace {
        let rows = run.timeline.rows.iter().map(|row| {
            let cells = run.timeline.columns.iter().zip(&row.cells).map(|(name, cell)| {
                let (before, after) = (cell.before.as_ref().map(as_json), cell.after.as_ref().map(as_json));
                let told = match cell.len {
                    // Of a container what went and what came: a row for each statement has no room for all of it.
                    Some(len) => json!({ "len": len, "went": before, "came": cell.changed().then_some(after) }),
                    None => json!({ "before": before, "after": after }),
                };
                (name.clone(), told)
            });
            let board = row.board.iter().map(|level| {
                let values = level.values.iter().map(|(name, found)| (name.to_string(), as_json(found)));
                let mut row = board_row(level);
                row["values"] = Json::Object(values.collect());
                row
            });
            json!({
                "board": board.collect::<Vec<_>>(),
                "line": row.line, "profile": &*row.profile, "device": row.device.as_deref(), "statement": &*row.statement, "place": row.place,
                "values": Json::Object(cells.collect()), "note": row.note,
            })
        });
        object["timeline"] = Json::Array(rows.collect());
    }
    object
}

fn last_change(change: &LastChange) -> Json {
    json!({
        "field": change.name, "line": change.line, "statement": change.statement,
        "before": as_json(&change.before), "after": as_json(&change.after),
    })
}
