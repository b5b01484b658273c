//! Carries what a save holds and the spec has no place for along until the next save.

use std::sync::Arc;

use vestigum_spec::value::tree::{Tree, Values};

/// Holds what is carried along, unread.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Kept {
    /// Values and entries.
    pub values: Vec<KeptValue>,
    /// Fields that only a save made in this level has, with the marks of the visit.
    pub marks: Option<KeptMarks>,
    /// Names made at run time, by key set.
    pub made: Vec<(Arc<str>, Arc<str>)>,
}

/// A value as the save says it.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptValue {
    pub field: Arc<str>,
    /// The names on the way to the entry.
    pub keys: Vec<Arc<str>>,
    pub said: Tree,
    /// Holds what the spec made of it, as a save would say it: nothing where it has no place. Play that has changed it since counts, and what was
    /// said does not.
    pub read: Option<Tree>,
}

/// The marks of unknown fields, by field.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptMarks {
    pub level: String,
    pub entry: Values,
    pub checkpoint: Values,
}
