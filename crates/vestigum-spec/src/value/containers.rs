//! Lists, sets and maps of values.
//!
//! Copies share what they have in common: a copy costs a counter, and a change behind it copies a small part, however much
//! the container holds.
//!
//! ```
//! use vestigum_spec::{List, Map, Set, Value};
//!
//! let mut stamps: Set = ["owl", "stag"].map(Value::text).into_iter().collect();
//! let before = stamps.clone();
//! assert!(stamps.insert(Value::text("heron")));
//! assert_eq!((before.len(), stamps.len()), (2, 3));
//!
//! let days: List = [3, 4].map(Value::Int).into_iter().collect();
//! assert_eq!(days.get(1), Some(&Value::Int(4)));
//!
//! let mut found = Map::default();
//! found.insert("ring", Value::Int(2));
//! assert_eq!(found.get("ring"), Some(&Value::Int(2)));
//! ```

use std::collections::BTreeMap;
use std::iter::FusedIterator;
use std::sync::Arc;

use crate::value::Value;
use crate::value::chunks::{Chunks, Items};

/// Values in order.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct List {
    items: Chunks<Value>,
}

impl List {
    /// Returns how many values it has.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The values from the first to the last.
    pub fn iter(&self) -> ValueIter<'_> {
        ValueIter { items: self.items.iter() }
    }

    /// The value at a position that counts from 0.
    pub fn get(&self, index: usize) -> Option<&Value> {
        self.items.get(self.items.position(index)?)
    }

    /// The value at a position that counts from 0, to be changed where it is.
    pub fn get_mut(&mut self, index: usize) -> Option<&mut Value> {
        self.items.get_mut(self.items.position(index)?)
    }

    /// Returns whether a value is in it.
    pub fn contains(&self, value: &Value) -> bool {
        self.iter().any(|item| item == value)
    }

    /// Puts a value behind the last.
    pub fn push(&mut self, value: Value) {
        self.items.insert(self.items.end(), value);
    }

    /// Takes the value at a position out; none if there is no such position.
    pub fn remove(&mut self, index: usize) -> Option<Value> {
        self.items.remove(self.items.position(index)?)
    }
}

impl FromIterator<Value> for List {
    fn from_iter<I: IntoIterator<Item = Value>>(values: I) -> Self {
        List { items: values.into_iter().collect() }
    }
}

impl From<Vec<Value>> for List {
    fn from(values: Vec<Value>) -> Self {
        values.into_iter().collect()
    }
}

impl<'a> IntoIterator for &'a List {
    type Item = &'a Value;
    type IntoIter = ValueIter<'a>;

    fn into_iter(self) -> ValueIter<'a> {
        self.iter()
    }
}

/// Values in their natural order, each there once.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Set {
    items: Chunks<Value>,
}

impl Set {
    /// Returns how many values it has.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The values from the lowest to the highest.
    pub fn iter(&self) -> ValueIter<'_> {
        ValueIter { items: self.items.iter() }
    }

    /// Returns whether a value is in it.
    pub fn contains(&self, value: &Value) -> bool {
        self.items.search(|item| item.cmp(value)).is_ok()
    }

    /// Puts a value in; says whether it is new.
    pub fn insert(&mut self, value: Value) -> bool {
        match self.items.search(|item| item.cmp(&value)) {
            Ok(_) => false,
            Err(at) => {
                self.items.insert(at, value);
                true
            }
        }
    }

    /// Takes a value out; says whether it was there.
    pub fn remove(&mut self, value: &Value) -> bool {
        self.items.search(|item| item.cmp(value)).is_ok_and(|at| self.items.remove(at).is_some())
    }

    /// The values that the other one has not.
    pub fn difference<'a>(&'a self, other: &'a Set) -> impl Iterator<Item = &'a Value> {
        self.iter().filter(|value| !other.contains(value))
    }
}

impl FromIterator<Value> for Set {
    fn from_iter<I: IntoIterator<Item = Value>>(values: I) -> Self {
        let mut values: Vec<Value> = values.into_iter().collect();
        values.sort();
        values.dedup();
        Set { items: values.into_iter().collect() }
    }
}

impl<'a> IntoIterator for &'a Set {
    type Item = &'a Value;
    type IntoIter = ValueIter<'a>;

    fn into_iter(self) -> ValueIter<'a> {
        self.iter()
    }
}

/// The values of a [`List`] or a [`Set`].
#[derive(Clone)]
pub struct ValueIter<'a> {
    items: Items<'a, Value>,
}

impl<'a> Iterator for ValueIter<'a> {
    type Item = &'a Value;

    fn next(&mut self) -> Option<&'a Value> {
        self.items.next()
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        self.items.size_hint()
    }
}

impl DoubleEndedIterator for ValueIter<'_> {
    fn next_back(&mut self) -> Option<Self::Item> {
        self.items.next_back()
    }
}

impl ExactSizeIterator for ValueIter<'_> {}

impl FusedIterator for ValueIter<'_> {}

/// Values by text keys, in the order of their keys.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Map {
    entries: Chunks<(Arc<str>, Value)>,
}

impl Map {
    /// Returns how many entries it has.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The entries from the lowest key to the highest.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (&Arc<str>, &Value)> + ExactSizeIterator + Clone {
        self.entries.iter().map(|(key, value)| (key, value))
    }

    /// The keys from the lowest to the highest.
    pub fn keys(&self) -> impl DoubleEndedIterator<Item = &Arc<str>> + ExactSizeIterator + Clone {
        self.entries.iter().map(|(key, _)| key)
    }

    /// The value under a key.
    pub fn get(&self, key: &str) -> Option<&Value> {
        let at = self.entries.search(|(known, _)| (**known).cmp(key)).ok()?;
        self.entries.get(at).map(|(_, value)| value)
    }

    /// The value under a key, to be changed where it is.
    pub fn get_mut(&mut self, key: &str) -> Option<&mut Value> {
        let at = self.entries.search(|(known, _)| (**known).cmp(key)).ok()?;
        self.entries.get_mut(at).map(|(_, value)| value)
    }

    /// Returns whether there is a value under a key.
    pub fn contains_key(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    /// Puts a value under a key, and gives the one that was there back.
    pub fn insert(&mut self, key: impl Into<Arc<str>>, value: Value) -> Option<Value> {
        let key = key.into();
        match self.entries.search(|(known, _)| known.cmp(&key)) {
            Ok(at) => self.entries.replace(at, (key, value)).map(|(_, value)| value),
            Err(at) => {
                self.entries.insert(at, (key, value));
                None
            }
        }
    }

    /// Takes the entry under a key out, and gives its value back.
    pub fn remove(&mut self, key: &str) -> Option<Value> {
        let at = self.entries.search(|(known, _)| (**known).cmp(key)).ok()?;
        self.entries.remove(at).map(|(_, value)| value)
    }
}

/// Of several values under one key the last one stays.
impl FromIterator<(Arc<str>, Value)> for Map {
    fn from_iter<I: IntoIterator<Item = (Arc<str>, Value)>>(entries: I) -> Self {
        BTreeMap::from_iter(entries).into()
    }
}

impl From<BTreeMap<Arc<str>, Value>> for Map {
    fn from(entries: BTreeMap<Arc<str>, Value>) -> Self {
        Map { entries: entries.into_iter().collect() }
    }
}
