//! Steps as words: in reports, and as they are written into a spec.

use crate::diagnostic::{SourceSpan, Spanned};
use crate::document::write::step as written;
use crate::document::{MigrationEntry, StepEntry, Word};
use crate::syntax::token::{Token, tokens};
use crate::vocabulary::span::Span;

/// A step in words.
pub(crate) fn told(step: &StepEntry) -> String {
    let part = |of: &Option<Word>| of.as_ref().map(|of| format!(" of {}", of.value)).unwrap_or_default();
    match step {
        StepEntry::Rename { what, of, from, to } => {
            format!("the {} {}{} is {} now", what.value, from.value, part(of), to.value)
        }
        StepEntry::Fill { target, with } => format!("{} is filled with {}", target.value, with.value),
        StepEntry::Drop { what, of, name } => format!("the {} {}{} is dropped", what.value, name.value, part(of)),
        StepEntry::Move { field, to } => format!("{} belongs to the {} now", field.value, to.value),
        StepEntry::Hook { field } => format!("{} is made by the game's code", field.value),
    }
}

/// The steps of a migration as a history records them: in one order and one spelling, so that only what they say counts.
pub(crate) fn recorded(entry: Option<&MigrationEntry>) -> Vec<String> {
    let mut steps: Vec<String> = entry.into_iter().flat_map(|entry| &entry.steps).map(recorded_step).collect();
    steps.sort_unstable();
    steps
}

/// One step as a history records it.
pub(crate) fn recorded_step(step: &Spanned<StepEntry>) -> String {
    match &step.value {
        StepEntry::Fill { target, with } => fill(&spaced(&target.value), &spaced(&with.value)),
        StepEntry::Rename { .. } | StepEntry::Drop { .. } | StepEntry::Move { .. } | StepEntry::Hook { .. } => {
            written(&step.value)
        }
    }
}

/// An expression with spaces where they are usually written, wherever they stand in the text.
fn spaced(text: &str) -> String {
    let Ok(tokens) = tokens(text) else { return text.trim().to_owned() };
    let mut out = String::new();
    let mut before: Option<&Token<'_>> = None;
    for (token, span) in &tokens {
        let opens = matches!(before, None | Some(Token::Symbol("(" | "[" | ".")));
        let closes = matches!(token, Token::Symbol(")" | "]" | "," | "."));
        let called = matches!((before, token), (Some(Token::Name(name)), Token::Symbol("(" | "[")) if !["and", "or", "not"].contains(name));
        if !(opens || closes || called) {
            out.push(' ');
        }
        out.push_str(text.get(span.start..span.end).unwrap_or_default());
        before = Some(token);
    }
    out
}

/// A step as it is written into a spec.
pub(crate) fn rename(what: &str, of: Option<&str>, from: &str, to: &str) -> String {
    written(&StepEntry::Rename { what: word(what), of: of.map(word), from: word(from), to: word(to) })
}

pub(crate) fn drop(what: &str, of: Option<&str>, name: &str) -> String {
    written(&StepEntry::Drop { what: word(what), of: of.map(word), name: word(name) })
}

pub(crate) fn fill(target: &str, with: &str) -> String {
    written(&StepEntry::Fill { target: word(target), with: word(with) })
}

pub(crate) fn moved(field: &str, to: &str) -> String {
    written(&StepEntry::Move { field: word(field), to: word(to) })
}

pub(crate) fn hook(field: &str) -> String {
    written(&StepEntry::Hook { field: word(field) })
}

/// Returns how long a field lives, behind its name: "lasts a run", "belongs to the device".
pub(crate) fn lasting(span: Span) -> String {
    match span {
        Span::Device => "belongs to the device".into(),
        Span::Attempt | Span::Visit | Span::Session | Span::Run | Span::Profile => {
            format!("lasts {} {span}", span.article())
        }
    }
}

fn word(text: &str) -> Word {
    Spanned::new(text.to_owned(), SourceSpan::default())
}
