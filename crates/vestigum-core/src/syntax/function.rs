//! The functions of the language.

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Aggregate {
    Sum,
    Highest,
    Lowest,
    Count,
    Size,
}

impl Aggregate {
    pub const ALL: [Aggregate; 5] =
        [Aggregate::Sum, Aggregate::Highest, Aggregate::Lowest, Aggregate::Count, Aggregate::Size];

    /// The function of the language.
    pub fn word(self) -> &'static str {
        match self {
            Aggregate::Sum => "sum",
            Aggregate::Highest => "highest",
            Aggregate::Lowest => "lowest",
            Aggregate::Count => "count",
            Aggregate::Size => "size",
        }
    }
}

/// What is asked of a table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableFunction {
    Grade,
    Into,
    Needed,
}

impl TableFunction {
    pub const ALL: [TableFunction; 3] = [TableFunction::Grade, TableFunction::Into, TableFunction::Needed];

    /// The function of the language.
    pub fn word(self) -> &'static str {
        match self {
            TableFunction::Grade => "grade",
            TableFunction::Into => "into",
            TableFunction::Needed => "needed",
        }
    }
}

/// How a float becomes an int.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rounding {
    /// The nearest; halfway, the one further from zero.
    Round,
    /// The nearest that is not above it.
    Floor,
}

impl Rounding {
    pub const ALL: [Rounding; 2] = [Rounding::Round, Rounding::Floor];

    /// The function of the language.
    pub fn word(self) -> &'static str {
        match self {
            Rounding::Round => "round",
            Rounding::Floor => "floor",
        }
    }

    /// What lies outside the ints is the nearest of them.
    pub fn of(self, number: f64) -> f64 {
        match self {
            Rounding::Round => number.round(),
            Rounding::Floor => number.floor(),
        }
    }
}

/// A function of the language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Function {
    Aggregate(Aggregate),
    Table(TableFunction),
    Rounded(Rounding),
    Max,
    Min,
    If,
    Open,
    Has,
    Len,
    Filled,
    Was,
    Entry,
    Checkpoint,
}

impl Function {
    /// All of them.
    pub fn all() -> impl Iterator<Item = Function> {
        use Function::{Checkpoint, Entry, Filled, Has, If, Len, Max, Min, Open, Was};
        let of_families =
            Aggregate::ALL.map(Function::Aggregate).into_iter().chain(TableFunction::ALL.map(Function::Table));
        let of_families = of_families.chain(Rounding::ALL.map(Function::Rounded));
        of_families.chain([Max, Min, If, Open, Has, Len, Filled, Was, Entry, Checkpoint])
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Function::Aggregate(over) => over.word(),
            Function::Table(steps) => steps.word(),
            Function::Rounded(whole) => whole.word(),
            Function::Max => "max",
            Function::Min => "min",
            Function::If => "if",
            Function::Open => "open",
            Function::Has => "has",
            Function::Len => "len",
            Function::Filled => "filled",
            Function::Was => "was",
            Function::Entry => "entry",
            Function::Checkpoint => "checkpoint",
        }
    }

    /// The function that a word names.
    pub fn named(word: &str) -> Option<Function> {
        Function::all().find(|function| function.word() == word)
    }

    /// How many arguments it takes, where so many are given.
    pub fn takes(self, given: usize) -> usize {
        match self {
            Function::If => 3,
            Function::Table(_) | Function::Has => 2,
            Function::Max | Function::Min => given.max(2),
            Function::Aggregate(_) | Function::Rounded(_) | Function::Open | Function::Len | Function::Filled => 1,
            Function::Was | Function::Entry | Function::Checkpoint => 1,
        }
    }
}
