//! The answers as a table, with the counterexamples below.

use std::path::PathBuf;

use serde_json::{Value as Json, json};

use vestigum::Spec;
use vestigum_verify::explore::{Counterexample, Ending, Question, RuleProof, Seen, Witness};

use super::explain::explain;
use super::{Answer, Arguments};
use crate::Verdict;
use crate::show::{BACK, BAD, GOOD, Output, QUIET, STRONG, counted, grouped, paint, table_with_numbers};

/// All answers, what was not asked because the spec allows it, and the files that were written.
pub(super) struct Answers<'a> {
    pub answers: &'a [Answer],
    pub allowed: &'a [Question],
    pub written: &'a [PathBuf],
}

pub(super) fn show(out: &Output, spec: &Spec, arguments: &Arguments, all: &Answers<'_>) -> Verdict {
    let Answers { answers, allowed, written } = *all;
    let broken = answers.iter().filter(|answer| answer.broken().is_some()).count();
    let verdict = if broken == 0 { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = answers.iter().map(|answer| {
            let seen = answer.seen();
            json!({
                "question": answer.question.name(), "code": answer.question.code(), "promise": answer.question.is_promise(),
                "holds": matches!(answer.ending, Ending::Proved(_) | Ending::Played(..) | Ending::Holds(_)), "by": by(answer), "states": seen.states, "transitions": seen.transitions,
                "depth": seen.depth, "all": seen.all, "stopped": seen.stopped,
                "proof": answer.ending.proof().map(proof),
                "plays": answer.ending.witnesses().iter().map(Witness::play).collect::<Vec<_>>(),
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
    let heading = ["", "asked", "states", "steps", "deepest", "how it is known", "per second"].map(str::to_owned);
    let rows = answers.iter().map(|answer| {
        let seen = answer.seen();
        let how = answer.ending.how_known();
        let (sign, all) = match &answer.ending {
            Ending::Broken(_) => (paint(BAD, "✗"), paint(BAD, how)),
            Ending::Unknown(..) => (paint(BACK, "?"), paint(BACK, how)),
            Ending::Holds(seen) if !seen.all => (paint(GOOD, "✓"), paint(BACK, how)),
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(_) => (paint(GOOD, "✓"), paint(GOOD, how)),
        };
        let speed = seen.transitions as f64 / answer.took.as_secs_f64().max(0.001);
        let name = answer.question.name();
        let name = if answer.question.is_promise() { paint(STRONG, name) } else { name.to_owned() };
        if answer.ending.proof().is_some() {
            return vec![sign, name, String::new(), String::new(), String::new(), all, String::new()];
        }
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
    if arguments.explain.is_some() {
        answers.iter().for_each(|answer| explain(out, &arguments.spec, answer));
    }
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
    let searched = answers.iter().any(|answer| answer.ending.proof().is_none());
    if searched && spec.sources().len() == 0 {
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

/// How the answer is known, in a word for programs.
fn by(answer: &Answer) -> &'static str {
    let seen = answer.seen();
    match &answer.ending {
        Ending::Proved(_) => "rules",
        Ending::Played(..) => "play",
        Ending::Holds(_) if seen.unlocked => "unlocked",
        Ending::Holds(_) if seen.all => "all",
        Ending::Holds(_) if seen.stopped => "time",
        Ending::Holds(_) => "bound",
        Ending::Broken(_) => "counterexample",
        Ending::Unknown(..) => "unknown",
    }
}

fn proof(proof: &RuleProof) -> Json {
    let grounds = proof.grounds.iter().map(|ground| {
        json!({
            "when": ground.when, "field": ground.field, "what": ground.what, "rule": ground.rule,
            "offset": ground.offset,
        })
    });
    grounds.collect()
}
