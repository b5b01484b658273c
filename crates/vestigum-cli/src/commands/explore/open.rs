//! Shows why an answer is not known: one step that the rules do not exclude.

use serde_json::{Value as Json, json};
use vestigum_verify::explore::OpenStep;

use super::Answer;
use crate::show::{BACK, Output, QUIET, STRONG, paint};

/// Tells the step of an answer that bounds or time left open.
pub(super) fn tell(out: &Output, answer: &Answer) {
    let Some(step) = &answer.step else { return };
    out.line(format_args!("{} {}", paint(BACK, "?"), paint(STRONG, answer.question.name())));
    out.line("  not proved, because the rules do not exclude this step:\n");
    let place = step.level.as_ref().map_or_else(|| "in the menu".to_owned(), |level| format!("in {level}"));
    for (index, value) in step.before.iter().enumerate() {
        let note = if index == 0 { format!("  # {place}, before the step") } else { String::new() };
        out.line(format_args!("    expect {value}{}", paint(QUIET, note)));
    }
    step.step.iter().for_each(|line| out.line(format_args!("    {line}")));
    for value in &step.after {
        out.line(format_args!("    expect {value}"));
    }
    let hint =
        "Play may never reach that state. If so, add a promise that excludes it: proved promises help to prove others.";
    out.line(format_args!("\n  {}", step.what));
    out.line(format_args!("  {}\n", paint(QUIET, hint)));
}

/// The step for programs.
pub(super) fn json(step: &OpenStep) -> Json {
    json!({ "level": step.level, "before": step.before, "step": step.step, "after": step.after, "what": step.what })
}
