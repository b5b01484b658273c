//! The words for what happens to a value.

use std::fmt;

use crate::value::Value;
use crate::value::below;
use crate::value::limits::Limits;
use crate::value::sum;

/// A fate without a price: it needs no operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PlainFate {
    /// The value stays.
    Keep,
    /// Back to the default.
    Reset,
    /// Back to what it was when the level was entered.
    Entry,
    /// Back to what it was at the last checkpoint; at the entry, until one was reached.
    Checkpoint,
}

impl PlainFate {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            PlainFate::Keep => "keep",
            PlainFate::Reset => "reset",
            PlainFate::Entry => "entry",
            PlainFate::Checkpoint => "checkpoint",
        }
    }

    /// The fate that `word` names.
    pub fn from_word(word: &str) -> Option<PlainFate> {
        [PlainFate::Keep, PlainFate::Reset, PlainFate::Entry, PlainFate::Checkpoint]
            .into_iter()
            .find(|s| s.word() == word)
    }

    /// Whether it brings back a mark.
    pub fn rewinds(self) -> bool {
        matches!(self, PlainFate::Entry | PlainFate::Checkpoint)
    }
}

/// How an operand changes a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operation {
    /// The operand replaces the value.
    Set,
    /// The operand is added.
    Add,
    /// The operand replaces the value if it is higher.
    Max,
    /// The operand replaces the value if it is lower.
    Min,
    /// The operand's values or entries are added to a set or map; its entries win.
    Union,
}

impl Operation {
    pub(crate) const ALL: [Operation; 5] =
        [Operation::Set, Operation::Add, Operation::Max, Operation::Min, Operation::Union];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Operation::Set => "set",
            Operation::Add => "add",
            Operation::Max => "max",
            Operation::Min => "min",
            Operation::Union => "union",
        }
    }

    /// The new value, and whether a sum was cut at the end of what a number can be. `zero` is what an unfilled value
    /// counts as, where it must count as something.
    pub(crate) fn apply(self, old: &Value, operand: &Value, zero: &Value, limits: &Limits) -> (Value, bool) {
        let new = match self {
            Operation::Set => operand.clone(),
            Operation::Add => return sum(if old.is_filled() { old } else { zero }, operand),
            Operation::Max if !old.is_filled() || below(old, operand) => operand.clone(),
            Operation::Min if !old.is_filled() || below(operand, old) => operand.clone(),
            Operation::Max | Operation::Min => old.clone(),
            Operation::Union => return limits.united(if old.is_filled() { old } else { zero }, operand),
        };
        (new, false)
    }
}

/// The fate that a change in an outcome came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// A fate without an operand: the end of a span, `after_failure`, or a plain rule.
    Plain(PlainFate),
    /// A rule with an operand.
    Operation(Operation),
    /// A level opened.
    Opened,
}

impl Fate {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Fate::Plain(simple) => simple.word(),
            Fate::Operation(change) => change.word(),
            Fate::Opened => "opened",
        }
    }
}

impl fmt::Display for Fate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}
