//! `vestigum report`: one page with everything that is known of a spec.

use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;

use vestigum::Spec;
use vestigum_report::page::{PlayedRun, Report, ReportPlayer};
use vestigum_verify::explore::{Ending, Question, SearchBounds, explore_all, questions};
use vestigum_verify::playthrough::{Run, Script};
use vestigum_verify::probe::{Probe, ProbeVerdict, Weakened, probe_all};
use vestigum_verify::proof::{Options, prove};
use vestigum_verify::{asset_files, imported_file, lint};

use super::play::{Kept, run_on};
use super::saves::{Shown, moment_of};
use crate::show::{BACK, BAD, GOOD, Output, STRONG, counted, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The playthroughs; left out, all `.play` files in the spec's folder and the folders in it
    plays: Vec<PathBuf>,
    #[command(flatten)]
    shown: Shown,
    /// The page
    #[arg(long, value_name = "FILE", default_value = "report.html")]
    out: PathBuf,
    /// Leave out what takes longest: exploring and probing
    #[arg(long)]
    quick: bool,
    /// The most seconds for exploring; 0 for as long as it takes
    #[arg(long, value_name = "SECONDS", default_value_t = 20)]
    time: u64,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let text = input::text(&arguments.spec).map_err(|message| out.unusable(&message))?;
    let spec = input::spec(out, &arguments.spec)?;
    let name = arguments.spec.display().to_string();
    let history = input::history(out, &arguments.spec)?;
    let checked = lint::check_beside(&name, &text, history, &|folder| asset_files(&arguments.spec, folder));
    let scripts = input::scripts_or_none(out, &arguments.spec, &arguments.plays, &spec)?;
    let mut runs: Vec<(&str, Run)> = Vec::new();
    for playthrough in scripts.iter().flat_map(Script::playthroughs) {
        let run = run_on(&spec, playthrough, Kept::InMemory).map_err(|message| out.unusable(&message))?;
        runs.push((playthrough.file(), run));
    }
    let passed = runs.iter().all(|(_, run)| run.passed());
    let bar = ProgressBar::new_spinner().with_style(style());
    // The time is for both: what exploring leaves of it is for probing, and a third of it at least.
    let begun = Instant::now();
    let budget = (arguments.time > 0).then(|| Duration::from_secs(arguments.time));
    let explored = (!arguments.quick).then(|| explore(&spec, budget.map(|budget| budget / 3 * 2), &bar));
    let left = budget.map(|budget| budget.saturating_sub(begun.elapsed()));
    let probed = match arguments.quick || !passed || runs.is_empty() {
        // A playthrough that fails would notice everything.
        true => None,
        false => probe(out, &spec, &scripts, left, &bar)?,
    };
    bar.finish_and_clear();
    let proof = spec.history().filter(|history| !history.is_empty()).map(|_| prove(&spec, &Options::default()));
    let players = arguments.shown.all(out, &spec)?;
    let times: Vec<String> = players.iter().map(|player| moment_of(&player.saved_at)).collect();
    let mut report = Report::new(&spec)
        .with_source(&text)
        .with_findings(&checked)
        .with_runs(runs.iter().map(|(file, run)| PlayedRun { file, run }).collect())
        .with_players(
            players
                .iter()
                .zip(&times)
                .map(|(player, saved_at)| ReportPlayer {
                    name: &player.name,
                    saved_at,
                    place: &player.place,
                    progress: &player.progress,
                })
                .collect(),
        );
    if let Some(explored) = &explored {
        report = report.with_answers(explored.iter().map(|(question, ending)| (question, ending)).collect());
    }
    if let Some(probed) = &probed {
        report = report.with_probe(probed);
    }
    if let Some(proof) = &proof {
        report = report.with_proof(proof);
    }
    let page = report.html();
    let path = arguments.out.display();
    fs::write(&arguments.out, &page).map_err(|error| out.unusable(&format!("cannot write {path}: {error}")))?;
    let failed = runs.iter().filter(|(_, run)| !run.passed()).count();
    let findings = checked.findings.list().len();
    // What was not asked has no count.
    let broken = explored.as_ref().map(|all| all.iter().filter(|(_, ending)| ending.broken().is_some()).count());
    let is_unnoticed = |verdict: &ProbeVerdict| matches!(verdict, ProbeVerdict::Unnoticed(_));
    let not_tried = probed
        .as_ref()
        .map_or(0, |all| all.iter().filter(|(_, verdict)| matches!(verdict, ProbeVerdict::NotTried)).count());
    let unnoticed = probed.as_ref().map(|all| all.iter().filter(|(_, verdict)| is_unnoticed(verdict)).count());
    if out.json {
        out.json(&json!({
            "written": arguments.out, "bytes": page.len(), "playthroughs": runs.len(), "failed": failed, "findings": findings,
            "broken": broken, "unnoticed": unnoticed, "not_tried": not_tried, "players": players.len(),
        }));
        return Ok(Verdict::Fine);
    }
    let of = |count: usize, what: &str| match count {
        0 => paint(GOOD, format_args!("no {what}s")),
        count => paint(BAD, counted(count, what)),
    };
    let mut told = vec![counted(runs.len(), "playthrough"), of(failed, "failure"), of(findings, "finding")];
    told.extend(broken.map(|count| of(count, "broken promise")));
    told.extend(unnoticed.map(|count| of(count, "unnoticed rule")));
    if not_tried > 0 {
        told.push(paint(BACK, format_args!("no time to probe {}", counted(not_tried, "rule"))));
    }
    if !players.is_empty() {
        told.push(counted(players.len(), "player"));
    }
    out.line(told.join(", "));
    out.line(format_args!("written: {}", paint(STRONG, path)));
    Ok(Verdict::Fine)
}

fn explore(spec: &Spec, budget: Option<Duration>, bar: &ProgressBar) -> Vec<(Question, Ending)> {
    let asked: Vec<Question> =
        questions(spec).into_iter().filter(|question| question.allowed(spec).is_none()).collect();
    let explored = explore_all(spec, &asked, &SearchBounds::default(), budget, None, &mut |at, _| {
        bar.set_message(format!("exploring: {} of {}", at + 1, asked.len()));
        bar.tick();
    });
    asked.iter().cloned().zip(explored.into_iter().map(|explored| explored.ending)).collect()
}

fn probe(
    out: &Output,
    spec: &Spec,
    scripts: &[Script],
    budget: Option<Duration>,
    bar: &ProgressBar,
) -> Result<Option<Vec<(Weakened, ProbeVerdict)>>, Verdict> {
    let texts = input::texts_of(out, scripts)?;
    let probe = Probe::with_files(spec, texts, Box::new(imported_file)).map_err(|errors| out.unreadable(&errors))?;
    // What fails already, a promise that is broken, would notice everything.
    if probe.failing().is_some() {
        return Ok(None);
    }
    Ok(Some(probe_all(&probe, budget, &|done, of| {
        bar.set_message(format!("probing: {done} of {of}"));
        bar.tick();
    })))
}

fn style() -> ProgressStyle {
    let style = ProgressStyle::with_template("{spinner} {wide_msg}");
    style.unwrap_or_else(|_| ProgressStyle::default_spinner())
}
