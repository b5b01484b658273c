//! The answers as a table, with the counterexamples below.

use std::path::PathBuf;

use serde_json::{Value as Json, json};

use vestigum::Spec;
use vestigum_verify::explore::{Counterexample, Ending, Gap, Limit, Question, RuleProof, Witness};

use super::explain::explain;
use super::{Answer, Arguments, open};
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
    let open = answers.iter().filter(|answer| !answer.ending.is_known()).count();
    let partial =
        answers.iter().filter(|answer| answer.ending.is_known() && answer.ending.why_open().is_some()).count();
    let denied = arguments.deny.is_some() && open + partial > 0;
    let verdict = if broken == 0 && !denied { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let list = answers.iter().map(|answer| {
            let seen = answer.seen();
            json!({
                "question": answer.question.name(), "code": answer.question.code(), "promise": answer.question.is_promise(),
                "holds": answer.ending.holds(), "by": by(answer), "states": seen.states, "transitions": seen.transitions,
                "depth": seen.depth, "all": seen.all, "stopped": seen.stopped,
                "gaps": answer.ending.gaps().iter().map(gap).collect::<Vec<_>>(), "why_open": answer.ending.why_open(),
                "open_step": answer.step.as_ref().map(open::json),
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
            "ok": verdict == Verdict::Fine, "open": open, "partial": partial, "questions": list.collect::<Vec<_>>(), "allowed": allowed.collect::<Vec<_>>(),
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
            Ending::NeverHappened(_) | Ending::Open(..) | Ending::Unknown(..) => (paint(BACK, "?"), paint(BACK, how)),
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) => (paint(GOOD, "✓"), paint(GOOD, how)),
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
        let (sign, told) = match &answer.ending {
            Ending::Unknown(..) => (paint(BACK, "?"), "it is not known, because"),
            Ending::Proved(_) | Ending::Holds(..) => (paint(GOOD, "✓"), "left out:"),
            Ending::NeverHappened(_) => {
                out.line(format_args!("{} {}", paint(BACK, "?"), paint(STRONG, answer.question.name())));
                out.line("  it was never judged: no play that was tried comes to the moment that it is about\n");
                continue;
            }
            Ending::Open(..) => {
                open::tell(out, answer);
                continue;
            }
            Ending::Played(..) | Ending::Broken(_) => continue,
        };
        if answer.ending.gaps().is_empty() {
            continue;
        }
        out.line(format_args!("{sign} {}", paint(STRONG, answer.question.name())));
        for gap in answer.ending.gaps() {
            // Beside what makes an answer not known, what it leaves out is of no account.
            if answer.ending.holds() || gap.withholds() {
                out.line(format_args!("  {told} {gap}"));
            }
        }
        out.line("");
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
        out.line(paint(QUIET, "--out FOLDER writes them as playthroughs that fail until the spec is fixed"));
    }
    let searched = answers.iter().any(|answer| answer.ending.proof().is_none());
    if searched && spec.sources().len() == 0 {
        out.line(paint(BACK, "the spec has no [[source]]: nothing is ever gained, so little can be found out"));
    }
    let cut = |by: fn(Limit) -> bool| {
        answers.iter().filter(|answer| matches!(answer.ending, Ending::Open(_, limit) if by(limit))).count()
    };
    let (bounded, stopped) = (cut(|limit| limit != Limit::Time), cut(|limit| limit == Limit::Time));
    let mut limit = String::new();
    if bounded > 0 {
        limit += &format!(
            ", {bounded} of them only up to {} steps or {} states",
            arguments.depth,
            grouped(arguments.states)
        );
    }
    if stopped > 0 {
        let s = if arguments.time == 1 { "" } else { "s" };
        limit += &format!(
            ", {stopped} of them cut short after {} second{s} in all (--time 0 takes as long as it takes)",
            arguments.time
        );
    }
    let told = match (broken, open) {
        (0, 0) => paint(GOOD, "nothing is broken"),
        (0, open) => format!("{}, {}", paint(GOOD, "nothing is broken"), paint(BACK, format_args!("{open} not known"))),
        (broken, 0) => paint(BAD, format_args!("{broken} broken")),
        (broken, open) => format!(
            "{}, {}",
            paint(BAD, format_args!("{broken} broken")),
            paint(BACK, format_args!("{open} not known"))
        ),
    };
    if partial > 0 {
        let leave = if partial == 1 { "leaves" } else { "leave" };
        limit += &format!(", {partial} {leave} something out");
    }
    out.line(format_args!("{}, {told}{limit}", counted(answers.len(), "question")));
    verdict
}

/// Returns how the answer is known, in a word for programs.
fn by(answer: &Answer) -> &'static str {
    let seen = answer.seen();
    match &answer.ending {
        Ending::Proved(_) => "rules",
        Ending::Played(..) => "play",
        Ending::Holds(..) if seen.unlocked => "unlocked",
        Ending::Holds(..) => "all",
        Ending::NeverHappened(_) => "never",
        Ending::Open(_, Limit::Time) => "time",
        Ending::Open(_, Limit::States | Limit::Depth) => "bound",
        Ending::Broken(_) => "counterexample",
        Ending::Unknown(..) => "unknown",
    }
}

fn gap(gap: &Gap) -> Json {
    json!({ "left_out": gap.word(), "fields": gap.fields(), "what": gap.to_string() })
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
