//! The functions of the language.

use crate::words;

words! {
    /// Describes what is made of all entries of a keyed field, or of all items of a container.
    pub enum Aggregate {
        /// Their sum.
        Sum = "sum",
        /// The highest of them.
        Highest = "highest",
        /// The lowest of them.
        Lowest = "lowest",
        /// The number of items that have a value, and are not `false`.
        Count = "count",
        /// The number of items.
        Size = "size",
    }
}

words! {
    /// Describes what is asked of all items of a container, or of all entries.
    pub enum Quantifier {
        /// Whether it holds for one of them.
        Any = "any",
        /// Whether it holds for each of them; so it does where there are none.
        All = "all",
    }
}

words! {
    /// Describes what is asked of a table.
    pub enum TableFunction {
        /// The number of steps that were reached.
        Grade = "grade",
        /// The distance past the last step.
        Into = "into",
        /// The distance to the next step.
        Needed = "needed",
    }
}

words! {
    /// Describes how a float becomes an int.
    pub enum Rounding {
        /// The nearest; halfway, the one further from zero.
        Round = "round",
        /// The nearest that is not above it.
        Floor = "floor",
    }
}

impl Rounding {
    /// Rounds a number; one that lies outside the ints becomes the nearest of them.
    pub fn of(self, number: f64) -> f64 {
        match self {
            Rounding::Round => number.round(),
            Rounding::Floor => number.floor(),
        }
    }
}

words! {
    /// The functions that belong to no family.
    pub enum General {
        /// The highest of its arguments.
        Max = "max",
        /// The lowest of its arguments.
        Min = "min",
        /// One of two values, by a condition.
        If = "if",
        /// Whether a level is open.
        Open = "open",
        /// Whether a container has a value.
        Has = "has",
        /// The rank that an item would take in a ranking.
        PlaceIn = "place_in",
        /// The length of a text or a container.
        Len = "len",
        /// Whether an optional field has a value.
        Filled = "filled",
        /// The value before the moment.
        Was = "was",
        /// The value when the level was entered.
        Entry = "entry",
        /// The value at the last checkpoint.
        Checkpoint = "checkpoint",
    }
}

/// A function of the language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Function {
    /// Something of all entries of a keyed field.
    Aggregate(Aggregate),
    /// Whether something holds for the items of a container.
    Quantified(Quantifier),
    /// Something of a table.
    Table(TableFunction),
    /// An int of a float.
    Rounded(Rounding),
    /// Any other.
    General(General),
}

impl Function {
    /// All of them.
    pub fn all() -> impl Iterator<Item = Function> {
        let aggregates = Aggregate::ALL.iter().copied().map(Function::Aggregate);
        let quantified = Quantifier::ALL.iter().copied().map(Function::Quantified);
        let tables = TableFunction::ALL.iter().copied().map(Function::Table);
        let rounded = Rounding::ALL.iter().copied().map(Function::Rounded);
        aggregates
            .chain(quantified)
            .chain(tables)
            .chain(rounded)
            .chain(General::ALL.iter().copied().map(Function::General))
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Function::Aggregate(aggregate) => aggregate.word(),
            Function::Quantified(quantifier) => quantifier.word(),
            Function::Table(table) => table.word(),
            Function::Rounded(rounding) => rounding.word(),
            Function::General(general) => general.word(),
        }
    }

    /// The function that a word names.
    pub fn named(word: &str) -> Option<Function> {
        Function::all().find(|function| function.word() == word)
    }

    /// Returns how many arguments it takes, where that number is given.
    pub fn takes(self, given: usize) -> usize {
        match self {
            Function::Aggregate(_) | Function::Quantified(_) | Function::Rounded(_) => 1,
            Function::Table(_) => 2,
            Function::General(general) => match general {
                General::If => 3,
                General::Has | General::PlaceIn => 2,
                General::Max | General::Min => given.max(2),
                General::Open | General::Len | General::Filled => 1,
                General::Was | General::Entry | General::Checkpoint => 1,
            },
        }
    }
}
