//! Why an answer is what it is: the proof, or how far the search has seen.

use std::path::Path;

use vestigum_verify::explore::{Ending, Proof};

use super::Answer;
use crate::input;
use crate::show::{BACK, GOOD, Output, QUIET, STRONG, grouped, paint, table};

/// Tells why one answer is what it is. `spec` is the file that the proof's places are in.
pub(super) fn explain(out: &Output, spec: &Path, answer: &Answer) {
    let name = paint(STRONG, answer.question.name());
    let seen = answer.seen();
    let much = format!(
        "{} states with {} steps between them, up to {} steps from a fresh profile",
        grouped(seen.states),
        grouped(seen.transitions),
        seen.depth
    );
    match &answer.ending {
        Ending::Proved(proof) => {
            out.line(format_args!("{} {name}", paint(GOOD, "✓")));
            out.line("  proved for every play, by the rules alone: from any state whatever\n");
            tell(out, spec, proof);
        }
        Ending::Played(_, plays) => {
            out.line(format_args!("{} {name}", paint(GOOD, "✓")));
            let s = if plays.len() == 1 { "a play does it" } else { "these plays do it" };
            out.line(format_args!("  {s}:\n"));
            for line in plays.iter().flat_map(|play| play.play().lines()) {
                out.line(format_args!("    {line}"));
            }
            out.line("");
        }
        Ending::Holds(_) if seen.all => {
            out.line(format_args!("{} {name}", paint(GOOD, "✓")));
            out.line(format_args!("  the rules alone do not say so, and all that can be played was seen: {much}\n"));
        }
        Ending::Holds(_) => {
            out.line(format_args!("{} {name}", paint(BACK, "~")));
            out.line(format_args!("  not proved, and not broken in what was seen: {much}\n"));
        }
        // How it is broken, and what is not known, is told with the answers.
        Ending::Broken(_) | Ending::Unknown(..) => {}
    }
}

fn tell(out: &Output, spec: &Path, proof: &Proof) {
    if proof.grounds.is_empty() {
        out.line("  the ranges of the fields say so\n");
        return;
    }
    let text = input::text(spec).unwrap_or_default();
    let line = |offset: usize| text.as_bytes().iter().take(offset).filter(|byte| **byte == b'\n').count() + 1;
    let rows = proof.grounds.iter().map(|ground| {
        let rule = ground.rule.as_ref().map(|rule| match ground.offset {
            Some(offset) => format!("{rule}  {}", paint(QUIET, format_args!("line {}", line(offset)))),
            None => rule.clone(),
        });
        vec![ground.when.join(", "), format!("`{}`", ground.field), ground.what.clone(), rule.unwrap_or_default()]
    });
    let heading = ["when", "field", "what becomes of it", "rule"].map(str::to_owned);
    out.line(indented(&table(&heading, rows.collect(), 2)));
}

fn indented(table: &str) -> String {
    table.lines().map(|line| format!("  {line}\n")).collect()
}
