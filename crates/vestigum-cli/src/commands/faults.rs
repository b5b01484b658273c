//! `vestigum faults`: power cuts, full disks, errors and damage under the saves of playthroughs.

use std::path::PathBuf;

use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;

use vestigum::{DirStore, Spec, StoreError};
use vestigum_verify::faults::{FaultKind, FaultReport, FaultStep, FaultsDone, Tried, Violation, faults, sync_faults};
use vestigum_verify::playthrough::Playthrough;

use crate::show::{BAD, GOOD, Output, QUIET, RULE, STRONG, counted, grouped, harmless, paint, table_with_numbers};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The playthroughs; left out, all `.play` files in the spec's folder and the folders in it
    plays: Vec<PathBuf>,
    /// Only playthroughs whose name contains this
    #[arg(long, value_name = "TEXT")]
    only: Option<String>,
    /// Generations kept of each owner; left out, what the spec says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
    keep: Option<u32>,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let scripts = input::scripts(out, &arguments.spec, &arguments.plays, &spec)?;
    let chosen = input::chosen(out, &scripts, arguments.only.as_deref())?;
    let bar = ProgressBar::new(0).with_style(style());
    let mut reports = Vec::new();
    for (number, playthrough) in chosen.iter().enumerate() {
        bar.set_prefix(format!("{} of {}", number + 1, chosen.len()));
        bar.set_message(harmless(playthrough.name()));
        let watch = |done: FaultsDone| {
            bar.set_length(done.of as u64);
            bar.set_position(done.done as u64);
        };
        let report = on_one(&spec, playthrough, arguments.keep.unwrap_or_else(|| spec.keep()), &watch)
            .map_err(|error| out.unusable(&error))?;
        reports.push((*playthrough, report));
    }
    bar.finish_and_clear();
    Ok(show(out, &reports))
}

fn on_one(
    spec: &Spec,
    playthrough: &Playthrough,
    keep: u32,
    watch: &(dyn Fn(FaultsDone) + Sync),
) -> Result<FaultReport, String> {
    let failed = |error: StoreError| error.to_string();
    let mut report =
        faults(spec, playthrough, keep, &|disk| DirStore::open_on(disk, "saves"), watch).map_err(failed)?;
    let synced = sync_faults(spec, playthrough, keep, &|disk, place| DirStore::open_on(disk, place)).map_err(failed)?;
    report.take(synced);
    Ok(report)
}

fn style() -> ProgressStyle {
    let style = ProgressStyle::with_template("{prefix:>9}  {bar:30} {pos:>5}/{len:5}  {wide_msg}");
    style.unwrap_or_else(|_| ProgressStyle::default_bar())
}

fn show(out: &Output, reports: &[(&Playthrough, FaultReport)]) -> Verdict {
    let mut all = FaultReport::default();
    for (_, report) in reports {
        all.saves += report.saves;
        all.operations += report.operations;
        report.tried.iter().for_each(|(kind, tried)| *all.tried.entry(*kind).or_default() += *tried);
    }
    let tried = |kind| all.tried.get(&kind).copied().unwrap_or_default();
    let violations: usize = all.tried.values().map(|tried| tried.violations).sum();
    let verdict = if violations == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let kinds = FaultKind::ALL.map(|kind| (kind.to_string(), as_json(tried(kind))));
        let found = reports.iter().flat_map(|(playthrough, report)| {
            report.violations.iter().map(|violation| violation_json(playthrough, violation))
        });
        let ended = reports.iter().filter_map(|(playthrough, report)| {
            let (line, statement) = report.ended_at.as_ref()?;
            Some(json!({ "file": playthrough.file(), "line": line, "statement": statement }))
        });
        out.json(&json!({
            "ended_early": ended.collect::<Vec<_>>(), "ok": violations == 0, "playthroughs": reports.len(), "saves": all.saves, "operations": all.operations,
            "tried": serde_json::Map::from_iter(kinds), "violations": found.collect::<Vec<_>>(),
        }));
        return verdict;
    }
    out.line(format_args!(
        "{}, {} written in {} disk operations\n",
        counted(reports.len(), "playthrough"),
        paint(STRONG, counted(all.saves, "save")),
        grouped(all.operations),
    ));
    let heading = ["fault", "points", "disks found", "fell back", "broken", ""].map(str::to_owned);
    let rows = FaultKind::ALL.map(|kind| {
        let Tried { points, outcomes, recovered, violations, .. } = tried(kind);
        let broken = if violations == 0 { paint(GOOD, "0") } else { paint(BAD.bold(), grouped(violations)) };
        let fell_back = if recovered == 0 { paint(QUIET, "0") } else { grouped(recovered) };
        vec![kind.to_string(), grouped(points), grouped(outcomes), fell_back, broken, paint(QUIET, kind.told())]
    });
    out.line(table_with_numbers(&heading, rows.into(), 3, &[1, 2, 3, 4]));
    for (playthrough, report) in reports {
        report.violations.iter().for_each(|violation| out.line(explained(playthrough, violation)));
    }
    for (playthrough, report) in reports {
        if let Some((line, statement)) = &report.ended_at {
            let place = format!("{}:{line}", playthrough.file());
            out.line(paint(QUIET, format_args!("{place} ended at `{statement}`; what comes after it was not tried")));
        }
    }
    let synced = tried(FaultKind::Sync).outcomes;
    let launched: usize = all.tried.values().map(|tried| tried.outcomes).sum::<usize>() - synced;
    if violations == 0 {
        out.line(format_args!(
            "{} {} disks were launched from: each acknowledged save was there, or a newer one, whole;\n  damage was passed over and reported; and the next save worked.",
            paint(GOOD, "✓"),
            grouped(launched)
        ));
        if synced > 0 {
            out.line(format_args!(
                "  {} disks were synced again, and both places came to the same save.",
                grouped(synced)
            ));
        }
    } else {
        let disks = grouped(launched + synced);
        out.line(format_args!("{} {} of {disks} disks broke what is promised", paint(BAD, "✗"), grouped(violations)));
    }
    verdict
}

/// Shows 16 steps before the fault.
const STEPS: usize = 16;

fn explained(playthrough: &Playthrough, violation: &Violation) -> String {
    let mut lines = vec![format!(
        "{} {} in {}",
        paint(BAD, "✗"),
        paint(STRONG, violation.kind),
        paint(QUIET, format_args!("{}:{} {}", playthrough.file(), playthrough.line(), playthrough.name())),
    )];
    let hidden = violation.steps.len().saturating_sub(STEPS);
    if hidden > 0 {
        lines.push(paint(QUIET, format_args!("    … {} before", counted(hidden, "step"))));
    }
    for step in &violation.steps[hidden..] {
        lines.push(match step {
            FaultStep::Save(_) | FaultStep::Acknowledged(_) => format!("    {}", paint(RULE, step)),
            FaultStep::Failed(..) | FaultStep::NotSaved(_) | FaultStep::Killed => format!("    {}", paint(BAD, step)),
            _ => format!("      {step}"),
        });
    }
    violation.disk.iter().for_each(|line| lines.push(format!("    {} {line}", paint(BAD, "found:"))));
    lines.push(format!("    {}   {}", paint(STRONG, "loaded"), violation.loaded));
    lines.push(format!("    {} {}", paint(STRONG, "expected"), violation.expected));
    lines.push(format!("    {}      {}\n", paint(STRONG, "why"), violation.explanation));
    lines.join("\n")
}

fn as_json(tried: Tried) -> serde_json::Value {
    json!({
        "points": tried.points, "outcomes": tried.outcomes, "recovered": tried.recovered, "violations": tried.violations,
    })
}

fn violation_json(playthrough: &Playthrough, violation: &Violation) -> serde_json::Value {
    let steps: Vec<String> = violation.steps.iter().map(FaultStep::to_string).collect();
    json!({
        "playthrough": playthrough.name(), "file": playthrough.file(), "line": playthrough.line(),
        "kind": violation.kind.to_string(), "steps": steps, "disk": violation.disk,
        "loaded": violation.loaded, "expected": violation.expected, "explanation": violation.explanation,
    })
}
