//! `vestigum explore`: the promises of a spec against everything that can be played.

use std::fs;
use std::num::NonZero;
use std::path::PathBuf;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;

use vestigum::{Moment, Spec};
use vestigum_verify::explore::{Counterexample, Ending, Question, SearchBounds, Seen, explore_all, questions};

use crate::show::{BACK, BAD, GOOD, Output, QUIET, STRONG, counted, grouped, harmless, paint, table_with_numbers};
use crate::{Verdict, input};

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
    /// Moments that this game never says, as `travel,abandon`
    #[arg(long, value_name = "MOMENTS", value_delimiter = ',')]
    without: Vec<String>,
    /// How many threads; left out, one for each core
    #[arg(long, value_name = "COUNT")]
    threads: Option<NonZero<usize>>,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

/// The answer to one question.
struct Answer {
    question: Question,
    ending: Ending,
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
    let asked = questions(&spec).into_iter();
    let asked: Vec<Question> =
        asked.filter(|question| arguments.only.as_ref().is_none_or(|text| question.name().contains(text))).collect();
    if asked.is_empty() {
        return Err(out.unusable("there is nothing to ask: no promise has that in its name"));
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
        .map(|(question, explored)| Answer { question, ending: explored.ending, took: explored.took })
        .collect();
    bar.finish_and_clear();
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

/// All answers, what was not asked because the spec allows it, and the files that were written.
struct Answers<'a> {
    answers: &'a [Answer],
    allowed: &'a [Question],
    written: &'a [PathBuf],
}

fn show(out: &Output, spec: &Spec, arguments: &Arguments, all: &Answers<'_>) -> Verdict {
    let Answers { answers, allowed, written } = *all;
    let broken = answers.iter().filter(|answer| answer.broken().is_some()).count();
    let verdict = if broken == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = answers.iter().map(|answer| {
            let seen = answer.seen();
            json!({
                "question": answer.question.name(), "code": answer.question.code(), "promise": answer.question.is_promise(),
                "holds": matches!(answer.ending, Ending::Holds(_)), "states": seen.states, "transitions": seen.transitions,
                "depth": seen.depth, "all": seen.all, "stopped": seen.stopped,
                "what": answer.broken().map(Counterexample::what),
                "steps": answer.broken().map(Counterexample::steps),
                "playthrough": answer.broken().map(Counterexample::play),
            })
        });
        let whole = allowed.iter().map(|question| {
            json!({ "question": question.name(), "code": question.code(), "because": question.allowed(spec) })
        });
        let levels = answers.iter().flat_map(|answer| {
            let Answer { question, .. } = answer;
            question.allowed_levels(spec).map(move |(level, because)| {
                json!({ "question": question.name(), "code": question.code(), "level": level, "because": because })
            })
        });
        let allowed = whole.chain(levels);
        out.json(&json!({
            "ok": broken == 0, "questions": list.collect::<Vec<_>>(), "allowed": allowed.collect::<Vec<_>>(),
            "written": written,
        }));
        return verdict;
    }
    let heading = ["", "asked", "states", "steps", "deepest", "seen", "per second"].map(str::to_owned);
    let rows = answers.iter().map(|answer| {
        let seen = answer.seen();
        let (sign, all) = match (&answer.ending, seen.all) {
            (Ending::Broken(_), _) => (paint(BAD, "✗"), paint(BAD, "broken")),
            (Ending::Unknown(..), _) => (paint(BACK, "?"), paint(BACK, "not known")),
            (Ending::Holds(_), true) => (paint(GOOD, "✓"), paint(GOOD, "all of it")),
            (Ending::Holds(_), false) if seen.stopped => (paint(GOOD, "✓"), paint(BACK, "until the time was up")),
            (Ending::Holds(_), false) => (paint(GOOD, "✓"), paint(BACK, "up to the bound")),
        };
        let speed = seen.transitions as f64 / answer.took.as_secs_f64().max(0.001);
        let name = answer.question.name();
        let name = if answer.question.is_promise() { paint(STRONG, name) } else { name.to_owned() };
        vec![
            sign,
            name,
            grouped(seen.states),
            grouped(seen.transitions),
            seen.depth.to_string(),
            all,
            paint(QUIET, grouped(speed as usize)),
        ]
    });
    out.line(table_with_numbers(&heading, rows.collect(), 2, &[2, 3, 4, 6]));
    for counterexample in answers.iter().filter_map(Answer::broken) {
        let asked = answers.iter().find(|answer| answer.question.name() == counterexample.name());
        let code = asked.and_then(|answer| answer.question.code()).map(|code| format!("  {code}")).unwrap_or_default();
        let name = paint(STRONG, counterexample.name());
        out.line(format_args!("{} {name}{}", paint(BAD, "✗"), paint(QUIET, code)));
        out.line(format_args!("  {}; the shortest way:\n", counterexample.what()));
        let body = counterexample.play().lines().skip_while(|line| !line.starts_with("playthrough"));
        for line in body.skip(1) {
            let line = match line.split_once(" #") {
                Some((statement, comment)) => format!("{statement}{}", paint(QUIET, format_args!(" #{comment}"))),
                None if line.starts_with("expect") => paint(BAD, line),
                None => line.to_owned(),
            };
            out.line(format_args!("    {line}"));
        }
        out.line("");
    }
    for answer in answers {
        if let Ending::Unknown(_, fields) = &answer.ending {
            let s = if fields.len() == 1 { "" } else { "s" };
            out.line(format_args!("{} {}", paint(BACK, "?"), paint(STRONG, answer.question.name())));
            out.line(format_args!(
                "  it depends on the field{s} {}, which play writes and no [[source]] gives\n",
                fields.join(", ")
            ));
        }
    }
    let tell_allowed = |question: &Question, what: &str, because: &str| {
        out.line(format_args!("{} {}: {what}", paint(QUIET, "allowed"), question.code().unwrap_or_default()));
        out.line(paint(QUIET, format_args!("        because {because}")));
    };
    for question in allowed {
        tell_allowed(question, question.name(), question.allowed(spec).unwrap_or_default());
    }
    for Answer { question, .. } in answers {
        for (level, because) in question.allowed_levels(spec) {
            tell_allowed(question, &format!("`{level}` is left out"), because);
        }
    }
    for path in written {
        out.line(format_args!("written: {}", paint(STRONG, path.display())));
    }
    if broken > 0 && written.is_empty() {
        out.line(paint(QUIET, "--out FOLDER writes them as playthroughs that fail until the spec is mended"));
    }
    if spec.sources().len() == 0 {
        out.line(paint(BACK, "the spec has no [[source]]: nothing is ever gained, so little can be found out"));
    }
    let holds = |cut: fn(Seen) -> bool| {
        answers.iter().filter(|answer| matches!(answer.ending, Ending::Holds(seen) if cut(seen))).count()
    };
    let (bounded, stopped) = (holds(|seen| !seen.all && !seen.stopped), holds(|seen| seen.stopped));
    let mut limit = String::new();
    if bounded > 0 {
        limit += &format!(", {bounded} only up to {} steps or {} states", arguments.depth, grouped(arguments.states));
    }
    if stopped > 0 {
        let s = if arguments.time == 1 { "" } else { "s" };
        limit += &format!(
            ", {stopped} cut short after {} second{s} in all (--time 0 takes as long as it takes)",
            arguments.time
        );
    }
    out.line(match broken {
        0 => format!("{}, {}{limit}", counted(answers.len(), "question"), paint(GOOD, "nothing is broken")),
        _ => format!("{}, {}{limit}", counted(answers.len(), "question"), paint(BAD, format_args!("{broken} broken"))),
    });
    verdict
}
