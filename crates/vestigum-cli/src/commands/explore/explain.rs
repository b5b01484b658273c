//! Why an answer is what it is: the proof, or how far the search has seen.

use std::path::Path;

use vestigum_verify::explore::{Ending, RuleGround, RuleProof};

use super::Answer;
use crate::input;
use crate::show::{BACK, GOOD, Output, QUIET, STRONG, grouped, paint, seen};

/// Tells why one answer is what it is. `spec` is the file that the proof's places are in.
pub(super) fn explain(out: &Output, spec: &Path, answer: &Answer) {
    let name = paint(STRONG, answer.question.name());
    let searched = answer.seen();
    let much = format!(
        "{} states with {} steps between them, up to {} steps from a fresh profile",
        grouped(searched.states),
        grouped(searched.transitions),
        searched.depth
    );
    match &answer.ending {
        Ending::Proved(proof) => {
            out.line(format_args!("{} {name}", paint(GOOD, "✓")));
            out.line(if proof.from_default {
                "  proved by the rules alone: it holds at first, and every step keeps it\n"
            } else {
                "  proved by the rules alone, from any state whatever\n"
            });
            if !proof.promises.is_empty() {
                let promises: Vec<String> = proof.promises.iter().map(|name| format!("\"{name}\"")).collect();
                out.line(format_args!("  it takes as known what is proved by itself: {}\n", promises.join(", ")));
            }
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
        Ending::Holds(..) => {
            out.line(format_args!("{} {name}", paint(GOOD, "✓")));
            let what = if searched.unlocked {
                "all that could be played if no level were locked was seen, which is more than can be played"
            } else {
                "all that can be played was seen"
            };
            out.line(format_args!("  the rules alone do not say so; {what}:\n  {much}\n"));
        }
        Ending::Open(..) => {
            out.line(format_args!("{} {name}", paint(BACK, "?")));
            out.line(format_args!("  not proved, and not broken in what was seen: {much}\n"));
        }
        // How it is broken, and what is not known, is told with the answers.
        Ending::Broken(_) | Ending::NeverHappened(_) | Ending::Unknown(..) => {}
    }
}

fn tell(out: &Output, spec: &Path, proof: &RuleProof) {
    if proof.grounds.is_empty() {
        out.line("  the ranges of the fields say so\n");
        return;
    }
    let text = input::text(spec).unwrap_or_default();
    let line = |offset: usize| text.as_bytes().iter().take(offset).filter(|byte| **byte == b'\n').count() + 1;
    for field in fields(proof) {
        out.line(format_args!("  {}", paint(STRONG, format_args!("`{field}`"))));
        let mut grounds: Vec<&RuleGround> = proof.grounds.iter().filter(|ground| *ground.field == *field).collect();
        // What happens at many moments is told last, as what happens otherwise.
        grounds.sort_by_key(|ground| ground.when.len() > FEW);
        let rows = grounds.iter().map(|ground| {
            let when = match ground.when.len() {
                0..=FEW => ground.when.join(", "),
                _ if grounds.len() == 1 => "whatever happens".to_owned(),
                _ => "at all else".to_owned(),
            };
            let what = ground.what.clone();
            vec![when, ground.rule.as_ref().map_or_else(|| what.clone(), |rule| format!("{what}: {rule}")), {
                let place = ground.offset.map(|offset| format!("line {}", line(offset)));
                paint(QUIET, place.unwrap_or_default())
            }]
        });
        out.line(plain_table(rows.collect()));
    }
}

/// At most 4 moments are named.
const FEW: usize = 4;

/// The fields of a proof in the order in which it is shown.
fn fields(proof: &RuleProof) -> Vec<&str> {
    let mut fields: Vec<&str> = Vec::new();
    for ground in &proof.grounds {
        if !fields.contains(&&*ground.field) {
            fields.push(&ground.field);
        }
    }
    fields
}

/// Rows below each other, without a heading.
fn plain_table(rows: Vec<Vec<String>>) -> String {
    let width = rows.iter().map(|row| seen(&row[0])).max().unwrap_or_default();
    let lines = rows.iter().map(|row| {
        let rest = row[1..].iter().filter(|cell| seen(cell) > 0).cloned().collect::<Vec<_>>().join("  ");
        format!("    {}{}  {rest}\n", row[0], " ".repeat(width - seen(&row[0])))
    });
    lines.collect()
}
