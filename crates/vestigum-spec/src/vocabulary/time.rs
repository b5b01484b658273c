//! The words for time: in which unit a field counts it, and where.

use crate::words;

words! {
    /// A unit of time, as playthroughs say it behind a number.
    pub enum TimeUnit {
        /// Milliseconds.
        Ms = "ms",
        /// Seconds.
        Seconds = "s",
        /// Minutes.
        Minutes = "min",
        /// Hours.
        Hours = "h",
    }
}

impl TimeUnit {
    /// Returns how many milliseconds one of it has.
    pub fn ms(self) -> u64 {
        match self {
            TimeUnit::Ms => 1,
            TimeUnit::Seconds => 1_000,
            TimeUnit::Minutes => 60_000,
            TimeUnit::Hours => 3_600_000,
        }
    }

    /// Returns whether a field can count in it: a coarser one would leave the rest of every frame out.
    pub fn is_counted(self) -> bool {
        match self {
            TimeUnit::Ms => true,
            TimeUnit::Seconds | TimeUnit::Minutes | TimeUnit::Hours => false,
        }
    }
}

words! {
    /// Describes where a field counts time: `in`.
    pub enum CountsIn {
        /// Only inside a level.
        Level = "level",
    }
}
