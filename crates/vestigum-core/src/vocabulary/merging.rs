//! How what two places changed becomes one value.

use crate::words::words;

words! {
    /// What becomes of a value that two installations changed: `merge` of a field.
    pub enum MergeLaw {
        /// The higher of both.
        Max = "max",
        /// The lower of both.
        Min = "min",
        /// What either has: values of a set, entries of a map or a ranking, but what one of both took out.
        Union = "union",
        /// What both had before and the gains of both.
        Sum = "sum",
        /// That of the save that is newer.
        Newer = "newer",
    }
}
