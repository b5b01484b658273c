//! Steps as words: in reports, and as they are written into a spec.

use crate::diagnostic::{SourceSpan, Spanned};
use crate::spec::document::{StepEntry, Word};
use crate::spec::write::step as written;

/// A step in words.
pub(super) fn told(step: &StepEntry) -> String {
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

/// A step as it is written into a spec.
pub(super) fn rename(what: &str, of: Option<&str>, from: &str, to: &str) -> String {
    written(&StepEntry::Rename { what: word(what), of: of.map(word), from: word(from), to: word(to) })
}

pub(super) fn drop(what: &str, of: Option<&str>, name: &str) -> String {
    written(&StepEntry::Drop { what: word(what), of: of.map(word), name: word(name) })
}

pub(super) fn fill(target: &str, with: &str) -> String {
    written(&StepEntry::Fill { target: word(target), with: word(with) })
}

pub(super) fn moved(field: &str, to: &str) -> String {
    written(&StepEntry::Move { field: word(field), to: word(to) })
}

fn word(text: &str) -> Word {
    Spanned::new(text.to_owned(), SourceSpan::default())
}
