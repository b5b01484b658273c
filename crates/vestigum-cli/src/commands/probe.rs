//! `vestigum probe`: which rules no playthrough and no promise pins.

use std::fs;
use std::path::PathBuf;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;

use vestigum_verify::imported_file;
use vestigum_verify::probe::{Probe, ProbeVerdict as Noticed, Weakened, probe_all};

use crate::show::{BACK, BAD, GOOD, Output, QUIET, STRONG, counted, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The playthroughs; left out, all `.play` files in the spec's folder and the folders in it
    plays: Vec<PathBuf>,
    /// Write the playthroughs that are missing into this file
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Seconds for all of it; 0 means as long as it takes
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    time: u64,
    /// Show every change, also those that are noticed, and what notices them
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let scripts = input::scripts(out, &arguments.spec, &arguments.plays, &spec)?;
    let texts = input::texts_of(out, &scripts)?;
    let probe = Probe::with_files(&spec, texts, Box::new(imported_file)).map_err(|errors| out.unreadable(&errors))?;
    if let Some(by) = probe.failing() {
        if out.json {
            out.json(&json!({ "ok": false, "failing": by }));
        } else {
            out.line(format_args!("{} {}", paint(BAD, "✗"), paint(STRONG, &by)));
            out.line(
                "  fails on the spec as it is, so it would notice everything; `vestigum play` and `explore` tell why",
            );
        }
        return Ok(Verdict::Failed);
    }
    let bar = ProgressBar::new(0).with_style(style());
    let budget = (arguments.time > 0).then(|| Duration::from_secs(arguments.time));
    let verdicts = probe_all(&probe, budget, &|done, of| {
        bar.set_length(of as u64);
        bar.set_position(done as u64);
    });
    bar.finish_and_clear();
    let missing: Vec<(&Weakened, &str)> = verdicts
        .iter()
        .filter_map(|(weakened, verdict)| match verdict {
            Noticed::Unnoticed(play) => Some((weakened, play.as_str())),
            _ => None,
        })
        .collect();
    if let Some(path) = &arguments.out {
        let plays: Vec<&str> = missing.iter().map(|(_, play)| *play).collect();
        fs::write(path, plays.join("\n"))
            .map_err(|error| out.unusable(&format!("cannot write {}: {error}", path.display())))?;
    }
    let not_tried = verdicts.iter().filter(|(_, verdict)| matches!(verdict, Noticed::NotTried)).count();
    // What was not tried is no yes.
    let verdict = if missing.is_empty() && not_tried == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = verdicts.iter().map(|(weakened, verdict)| match verdict {
            Noticed::Noticed(by) => json!({ "change": weakened.what(), "noticed_by": by }),
            Noticed::Unnoticed(play) => json!({ "change": weakened.what(), "unnoticed": true, "playthrough": play }),
            Noticed::Alike => json!({ "change": weakened.what(), "alike": true }),
            Noticed::NotTried => json!({ "change": weakened.what(), "not_tried": true }),
        });
        out.json(
            &json!({ "ok": verdict == Verdict::Fine, "not_tried": not_tried, "changes": list.collect::<Vec<_>>() }),
        );
        return Ok(verdict);
    }
    for (weakened, verdict) in &verdicts {
        match verdict {
            Noticed::Noticed(by) if arguments.all => {
                out.line(format_args!("{} {}  {}", paint(GOOD, "✓"), weakened.what(), paint(QUIET, by)));
            }
            Noticed::Alike if arguments.all => {
                out.line(format_args!(
                    "{} {}  {}",
                    paint(BACK, "="),
                    weakened.what(),
                    paint(QUIET, "no play that was tried tells them apart")
                ));
            }
            _ => {}
        }
    }
    for (weakened, play) in &missing {
        out.line(format_args!("{} {}", paint(BAD, "✗"), paint(STRONG, weakened.what())));
        out.line(paint(QUIET, "  nobody notices; this would:\n"));
        play.lines().for_each(|line| out.line(format_args!("    {line}")));
        out.line("");
    }
    let count = |wanted: fn(&Noticed) -> bool| verdicts.iter().filter(|(_, verdict)| wanted(verdict)).count();
    let alike = count(|verdict| matches!(verdict, Noticed::Alike));
    let noticed = count(|verdict| matches!(verdict, Noticed::Noticed(_)));
    out.line(format_args!(
        "{}: {}, {}, {}",
        format_args!("{} to weaken the spec", counted(verdicts.len(), "way")),
        paint(GOOD, format_args!("{noticed} noticed")),
        match missing.len() {
            0 => paint(GOOD, "none unnoticed"),
            unnoticed => paint(BAD, format_args!("{unnoticed} unnoticed")),
        },
        paint(
            QUIET,
            format_args!(
                "{alike} that no play tells apart{}",
                if arguments.all || alike == 0 { "" } else { " (--all)" }
            )
        ),
    ));
    if not_tried > 0 {
        let s = if arguments.time == 1 { "" } else { "s" };
        out.line(paint(
            BACK,
            format_args!(
                "{not_tried} of them were not tried to the end in {} second{s} (--time 0 takes as long as it takes)",
                arguments.time
            ),
        ));
    }
    if let Some(path) = arguments.out.as_ref().filter(|_| !missing.is_empty()) {
        out.line(format_args!("written: {}", paint(STRONG, path.display())));
    }
    Ok(verdict)
}

fn style() -> ProgressStyle {
    let style = ProgressStyle::with_template("  {bar:30} {pos:>4}/{len:4} ways to weaken the spec");
    style.unwrap_or_else(|_| ProgressStyle::default_bar())
}
