//! The names of entries: a field with a value for each level, checkpoint or key has an entry for each.

use std::fmt;
use std::sync::Arc;

use crate::vocabulary::names::key_text;

/// Describes what a name in a key is the name of.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum KeyAxis {
    /// A level.
    Level,
    /// A checkpoint of the level before it.
    Checkpoint,
    /// A key of that key set.
    Set(Arc<str>),
}

impl fmt::Display for KeyAxis {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            KeyAxis::Level => "level",
            KeyAxis::Checkpoint => "checkpoint",
            KeyAxis::Set(name) => name,
        })
    }
}

/// One name in the key of an entry.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key {
    /// Says what it is the name of.
    pub axis: KeyAxis,
    /// The name.
    pub name: Arc<str>,
}

/// The key of an entry: a name for each level and key set that the field is keyed by, and two for a checkpoint, that of its
/// level and its own. A field that has one value has no names here.
///
/// It is written as expressions write it between brackets: names that are no plain words stand in quotes.
///
/// ```
/// use vestigum_spec::vocabulary::key::{Key, KeyAxis, Keys};
///
/// let level = Key { axis: KeyAxis::Level, name: "mill_lane".into() };
/// let keys = Keys::new(vec![level]);
/// assert_eq!(keys.level(), Some("mill_lane"));
/// assert_eq!(keys.to_string(), "mill_lane");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Keys(Vec<Key>);

impl Keys {
    /// The key with these names.
    pub fn new(names: Vec<Key>) -> Keys {
        Keys(names)
    }

    /// The names with what each is the name of.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &Key> + DoubleEndedIterator {
        self.0.iter()
    }

    /// The names.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> + DoubleEndedIterator {
        self.0.iter().map(|key| &*key.name)
    }

    /// Returns whether the field has one value.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The level that the entry belongs to, if it belongs to one.
    pub fn level(&self) -> Option<&str> {
        self.of(&KeyAxis::Level)
    }

    /// The checkpoint that the entry belongs to, if it belongs to one.
    pub fn checkpoint(&self) -> Option<&str> {
        self.of(&KeyAxis::Checkpoint)
    }

    /// The key of a key set.
    pub fn key(&self, set: &str) -> Option<&str> {
        self.of(&KeyAxis::Set(set.into()))
    }

    fn of(&self, axis: &KeyAxis) -> Option<&str> {
        self.0.iter().find(|key| key.axis == *axis).map(|key| &*key.name)
    }
}

impl fmt::Display for Keys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<_> = self.names().map(key_text).collect();
        f.pad(&names.join(", "))
    }
}

/// A field and the key of one of its entries: `best_letters[mill_lane]`, or the field alone.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EntryName {
    /// The field.
    pub field: Arc<str>,
    /// The key; empty for a field that has one value, or where all entries are meant.
    pub keys: Keys,
}

impl EntryName {
    /// A field that has one value, or all entries of one.
    pub fn field(name: impl Into<Arc<str>>) -> EntryName {
        EntryName { field: name.into(), keys: Keys::default() }
    }
}

impl fmt::Display for EntryName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.keys.is_empty() { f.pad(&self.field) } else { f.pad(&format!("{}[{}]", self.field, self.keys)) }
    }
}
