//! What was found, on the page: by `check`, by exploring, by probing.

use serde::Serialize;
use vestigum_spec::codes;
use vestigum_verify::explore::{Ending, Question};
use vestigum_verify::lint::Checked;
use vestigum_verify::probe::{ProbeVerdict, Weakened};

#[derive(Serialize)]
pub(super) struct FindingsView {
    /// Says how many findings, broken answers and unnoticed rules there are.
    pub count: usize,
    checked: bool,
    findings: Vec<FindingView>,
    allowed: Vec<FindingView>,
    explored: bool,
    answers: Vec<AnswerView>,
    probed: Option<ProbeView>,
}

#[derive(Serialize)]
struct FindingView {
    severity: &'static str,
    code: &'static str,
    title: &'static str,
    message: String,
    line: usize,
    source: String,
    help: Option<String>,
    because: Option<String>,
}

#[derive(Serialize)]
struct AnswerView {
    class: &'static str,
    sign: &'static str,
    question: String,
    promise: bool,
    how: String,
    /// Says why the answer is open, or what it leaves out.
    open: Option<String>,
    states: usize,
    what: Option<String>,
    play: Option<String>,
}

#[derive(Serialize)]
struct ProbeView {
    noticed: usize,
    alike: usize,
    not_tried: usize,
    unnoticed: Vec<UnnoticedView>,
}

#[derive(Serialize)]
struct UnnoticedView {
    what: String,
    play: String,
}

pub(super) fn view(
    checked: Option<&Checked>,
    answers: Option<&[(&Question, &Ending)]>,
    probed: Option<&[(Weakened, ProbeVerdict)]>,
) -> FindingsView {
    let findings: Vec<FindingView> = checked.map(found).unwrap_or_default();
    let allowed = checked.map(allowed).unwrap_or_default();
    let explored = answers.is_some();
    let answers: Vec<AnswerView> =
        answers.unwrap_or_default().iter().map(|(question, ending)| answer(question, ending)).collect();
    let probed = probed.map(probe);
    let broken = answers.iter().filter(|answer| answer.play.is_some()).count();
    let unnoticed = probed.as_ref().map_or(0, |probe| probe.unnoticed.len());
    FindingsView {
        count: findings.len() + broken + unnoticed,
        checked: checked.is_some(),
        findings,
        allowed,
        explored,
        answers,
        probed,
    }
}

fn title(code: &str) -> &'static str {
    codes::explain(code).map_or("", |entry| entry.title)
}

fn found(checked: &Checked) -> Vec<FindingView> {
    let found = &checked.findings;
    let view = found.list().iter().map(|finding| {
        let (line, _) = found.position(finding);
        FindingView {
            severity: finding.severity.word(),
            code: finding.code,
            title: title(finding.code),
            message: finding.message.clone(),
            line,
            source: found.source().lines().nth(line - 1).unwrap_or_default().trim().to_owned(),
            help: finding.help.clone(),
            because: None,
        }
    });
    view.collect()
}

fn allowed(checked: &Checked) -> Vec<FindingView> {
    let view = checked.allowed.iter().map(|allowed| {
        let (line, _) = checked.findings.position(&allowed.finding);
        FindingView {
            severity: "allowed",
            code: allowed.finding.code,
            title: title(allowed.finding.code),
            message: allowed.finding.message.clone(),
            line,
            source: String::new(),
            help: None,
            because: Some(allowed.because.clone()),
        }
    });
    view.collect()
}

fn answer(question: &Question, ending: &Ending) -> AnswerView {
    let (class, sign) = match ending {
        Ending::Broken(_) => ("bad", "✗"),
        Ending::NeverHappened(_) | Ending::Open(..) | Ending::Unknown(..) => ("open", "?"),
        Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) => ("good", "✓"),
    };
    AnswerView {
        class,
        sign,
        question: question.name().to_owned(),
        promise: question.is_promise(),
        how: ending.how_known(),
        states: ending.seen().states,
        open: ending.why_open(),
        what: ending.broken().map(|broken| broken.what().to_owned()),
        play: ending.broken().map(|broken| broken.play().to_owned()),
    }
}

fn probe(verdicts: &[(Weakened, ProbeVerdict)]) -> ProbeView {
    let mut view = ProbeView { noticed: 0, alike: 0, not_tried: 0, unnoticed: Vec::new() };
    for (weakened, verdict) in verdicts {
        match verdict {
            ProbeVerdict::Noticed(_) => view.noticed += 1,
            ProbeVerdict::Alike => view.alike += 1,
            ProbeVerdict::NotTried => view.not_tried += 1,
            ProbeVerdict::Unnoticed(play) => {
                view.unnoticed.push(UnnoticedView { what: weakened.what().to_owned(), play: play.clone() });
            }
        }
    }
    view
}
