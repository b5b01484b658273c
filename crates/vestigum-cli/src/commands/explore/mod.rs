//! `vestigum explore`: the promises of a spec against everything that can be played.

mod explain;
mod open;
mod show;

use std::fs;
use std::num::NonZero;
use std::path::PathBuf;
use std::time::Duration;

use clap::ValueEnum;
use indicatif::{ProgressBar, ProgressStyle};
use vestigum::Moment;
use vestigum_verify::explore::{
    Counterexample, Ending, Explored, OpenStep, Question, SearchBounds, Seen, explore_all, open_step, questions,
};

use crate::show::{Output, grouped, harmless};
use crate::{Verdict, input};
use show::{Answers, show};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The most steps from a fresh profile
    #[arg(long, value_name = "STEPS", default_value_t = 200)]
    depth: usize,
    /// The most states for each question
    #[arg(long, value_name = "COUNT", default_value_t = 1_000_000)]
    states: usize,
    /// The most seconds for all questions together; 0 for as long as it takes
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    time: u64,
    /// Write each counterexample into this folder, as a playthrough that fails
    #[arg(long, value_name = "FOLDER")]
    out: Option<PathBuf>,
    /// Only questions whose name contains this
    #[arg(long, value_name = "TEXT")]
    only: Option<String>,
    /// Tell why the answers hold to the questions whose name contains this
    #[arg(long, value_name = "TEXT", conflicts_with = "only")]
    explain: Option<String>,
    /// Moments that this game never says, as `travel,abandon`
    #[arg(long, value_name = "MOMENTS", value_delimiter = ',')]
    without: Vec<String>,
    /// Fail on these answers too
    #[arg(long, value_enum, value_name = "WHAT")]
    deny: Option<Deny>,
    /// Threads to search with; left out, one for each core
    #[arg(long, value_name = "COUNT")]
    threads: Option<NonZero<usize>>,
    /// Write the answers into this file as JUnit XML, too
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Deny {
    /// Answers that are not known, never happened or leave something out
    Open,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    let unusable = |verdict| super::play::report_unusable(out, arguments.junit.as_deref(), verdict);
    attempt(out, arguments).unwrap_or_else(unusable)
}

/// The answer to one question.
struct Answer {
    question: Question,
    ending: Ending,
    /// Shows why it is not proved, where that is not known otherwise.
    step: Option<OpenStep>,
    took: Duration,
}

impl Answer {
    fn seen(&self) -> Seen {
        self.ending.seen()
    }

    fn broken(&self) -> Option<&Counterexample> {
        self.ending.broken()
    }
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let without = arguments.without.iter().map(|name| {
        spec.moment(name).ok_or_else(|| out.unusable(&format!("there is no moment `{}`", name.escape_debug())))
    });
    let without: Vec<Moment> = without.collect::<Result<_, _>>()?;
    let bounds = SearchBounds { depth: arguments.depth, states: arguments.states, without, ..SearchBounds::default() };
    let part = arguments.only.as_ref().or(arguments.explain.as_ref());
    let asked = questions(&spec).into_iter();
    let asked: Vec<Question> =
        asked.filter(|question| part.is_none_or(|text| question.name().contains(text))).collect();
    if asked.is_empty() {
        return Err(out.unusable("there is nothing to ask: no question has that in its name"));
    }
    let (allowed, asked): (Vec<Question>, Vec<Question>) =
        asked.into_iter().partition(|question| question.allowed(&spec).is_some());
    let bar = ProgressBar::new_spinner().with_style(style());
    let budget = (arguments.time > 0).then(|| Duration::from_secs(arguments.time));
    let explored = explore_all(&spec, &asked, &bounds, budget, arguments.threads, &mut |at, seen| {
        bar.set_message(harmless(asked[at].name()));
        bar.set_prefix(format!("{:>9} states  {:>9} steps", grouped(seen.states), grouped(seen.transitions)));
        bar.tick();
    });
    let answered = asked.iter().cloned().zip(explored);
    let answers: Vec<Answer> = answered
        .map(|(question, Explored { ending, took, .. })| {
            let step = matches!(ending, Ending::Open(..)).then(|| open_step(&spec, &question, &bounds)).flatten();
            Answer { question, ending, step, took }
        })
        .collect();
    bar.finish_and_clear();
    if let Some(path) = &arguments.junit {
        let told: Vec<_> = answers.iter().map(|answer| (&answer.question, &answer.ending, answer.took)).collect();
        let report = vestigum_report::junit::explored(&arguments.spec.display().to_string(), &told);
        if let Err(verdict) = super::play::write_report(out, path, report) {
            // Not as an error: it would be tried once more.
            return Ok(verdict);
        }
    }
    let written = match &arguments.out {
        Some(folder) => write(out, folder, &answers)?,
        None => Vec::new(),
    };
    Ok(show(out, &spec, arguments, &Answers { answers: &answers, allowed: &allowed, written: &written }))
}

fn style() -> ProgressStyle {
    let style = ProgressStyle::with_template("{spinner} {prefix}  {wide_msg}");
    style.unwrap_or_else(|_| ProgressStyle::default_spinner())
}

fn write(out: &Output, folder: &PathBuf, answers: &[Answer]) -> Result<Vec<PathBuf>, Verdict> {
    let failed = |path: &PathBuf| {
        let path = path.display().to_string();
        move |error: std::io::Error| out.unusable(&format!("cannot write {path}: {error}"))
    };
    fs::create_dir_all(folder).map_err(failed(folder))?;
    let mut written: Vec<PathBuf> = Vec::new();
    for counterexample in answers.iter().filter_map(Answer::broken) {
        // Two promises can make one name: names are cut, and odd signs are left out.
        let name = counterexample.file_name();
        let stem = name.trim_end_matches(".play");
        let mut path = folder.join(&name);
        for number in 2.. {
            if !written.contains(&path) {
                break;
            }
            path = folder.join(format!("{stem}_{number}.play"));
        }
        fs::write(&path, counterexample.play()).map_err(failed(&path))?;
        written.push(path);
    }
    Ok(written)
}
