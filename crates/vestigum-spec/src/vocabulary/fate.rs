//! The words for what happens to a value.

use std::fmt;

use crate::value::limits::Limits;
use crate::value::{Value, below, sum};
use crate::words;

words! {
    /// A plain fate: it needs no operand.
    pub enum PlainFate {
        /// The value stays.
        Keep = "keep",
        /// Back to the default.
        Reset = "reset",
        /// Back to what it was when the level was entered.
        Entry = "entry",
        /// Back to what it was at the last checkpoint; at the entry, until one was reached.
        Checkpoint = "checkpoint",
    }
}

impl PlainFate {
    /// Returns whether it brings back a mark.
    pub fn rewinds(self) -> bool {
        match self {
            PlainFate::Entry | PlainFate::Checkpoint => true,
            PlainFate::Keep | PlainFate::Reset => false,
        }
    }

    /// Returns what `after_failure` can say.
    #[doc(hidden)]
    pub fn after_failures() -> impl Iterator<Item = PlainFate> {
        PlainFate::ALL.iter().copied().filter(|fate| fate.follows_failure())
    }

    /// Returns whether `after_failure` can say it.
    pub(crate) fn follows_failure(self) -> bool {
        match self {
            PlainFate::Keep | PlainFate::Entry | PlainFate::Checkpoint => true,
            PlainFate::Reset => false,
        }
    }
}

words! {
    /// Describes how an operand changes a value.
    pub enum Operation {
        /// The operand replaces the value.
        Set = "set",
        /// The operand is added.
        Add = "add",
        /// The operand replaces the value if it is higher.
        Max = "max",
        /// The operand replaces the value if it is lower.
        Min = "min",
        /// The operand's values or entries are added to a set or map; its entries win.
        Union = "union",
        /// The operand comes into a ranking, in its place, if it is good enough.
        Rank = "rank",
    }
}

impl Operation {
    /// The new value, and whether a sum was cut at the end of what a number can be. `zero` is what an unfilled value
    /// counts as, where it must count as something.
    #[doc(hidden)]
    pub fn apply(self, old: &Value, operand: &Value, zero: &Value, limits: &Limits) -> (Value, bool) {
        let new = match self {
            Operation::Set => operand.clone(),
            Operation::Add => return sum(if old.is_filled() { old } else { zero }, operand),
            Operation::Max if !old.is_filled() || below(old, operand) => operand.clone(),
            Operation::Min if !old.is_filled() || below(operand, old) => operand.clone(),
            Operation::Max | Operation::Min => old.clone(),
            Operation::Rank => {
                let (value, cut, _) = limits.ranked(old, operand.clone());
                return (value, cut);
            }
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
