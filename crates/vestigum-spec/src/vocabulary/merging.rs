//! How what two places changed becomes one value.

use crate::words;

words! {
    /// Describes what becomes of a value that two installations changed: `merge` of a field.
    pub enum MergeLaw {
        /// The higher of both.
        Max = "max",
        /// The lower of both.
        Min = "min",
        /// Keeps what either has: items of a set, keys of a map or rows of a ranking, but what one of both took out.
        Union = "union",
        /// The sum of what all installations gave to it.
        Sum = "sum",
        /// That of the newer change.
        Newer = "newer",
    }
}
