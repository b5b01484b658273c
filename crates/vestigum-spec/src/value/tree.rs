//! The untyped tree of names and values that an image is made of.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fmt;
use std::sync::Arc;

use rustc_hash::FxHashMap;
use serde::de::{Deserialize, DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};

use crate::value::Finite;
use crate::value::measure::{Budget, POOLED};

/// A value of an image, before a spec gives it a type.
#[derive(Clone, Debug, PartialEq)]
pub enum Tree {
    /// No value: an optional field that is not filled.
    Null,
    /// A bool.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A number with a fraction.
    Float(Finite),
    /// Text.
    Text(Arc<str>),
    /// Values in order.
    List(Vec<Tree>),
    /// Values by name.
    Map(BTreeMap<Arc<str>, Tree>),
}

impl Tree {
    /// Returns what kind of value it is, in a word.
    pub fn kind(&self) -> &'static str {
        match self {
            Tree::Null => "nothing",
            Tree::Bool(_) => "a bool",
            Tree::Int(_) => "an int",
            Tree::Float(_) => "a float",
            Tree::Text(_) => "a text",
            Tree::List(_) => "a list",
            Tree::Map(_) => "a map",
        }
    }
}

impl Serialize for Tree {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Tree::Null => serializer.serialize_unit(),
            Tree::Bool(bool) => serializer.serialize_bool(*bool),
            Tree::Int(int) => serializer.serialize_i64(*int),
            Tree::Float(float) => serializer.serialize_f64(float.get()),
            Tree::Text(text) => serializer.serialize_str(text),
            Tree::List(items) => serializer.collect_seq(items),
            Tree::Map(entries) => {
                let mut map = serializer.serialize_map(Some(entries.len()))?;
                for (name, tree) in entries {
                    map.serialize_entry(&**name, tree)?;
                }
                map.end()
            }
        }
    }
}

impl Tree {
    /// Reads a tree from JSON. Small values that stand close together take many times the memory of their text, so what
    /// would take more than ten times as much as it has bytes, and more than 64 MiB, is an error.
    ///
    /// # Errors
    /// If the bytes are no JSON, or say something twice.
    #[doc(hidden)]
    pub fn from_json(bytes: &[u8]) -> Result<Tree, serde_json::Error> {
        Tree::within(bytes, &Budget::of(bytes.len()))
    }

    /// Reads a tree that another program wrote: its values may stand closer together, so it may use up to `memory` bytes.
    ///
    /// # Errors
    /// As [`Tree::from_json`].
    #[doc(hidden)]
    pub fn from_foreign_json(bytes: &[u8], memory: usize) -> Result<Tree, serde_json::Error> {
        Tree::within(bytes, &Budget::at_least(memory, bytes.len()))
    }

    fn within(bytes: &[u8], budget: &Budget) -> Result<Tree, serde_json::Error> {
        let mut json = serde_json::Deserializer::from_slice(bytes);
        let tree = Growing { budget, names: &RefCell::default() }.deserialize(&mut json)?;
        json.end().map(|()| tree)
    }
}

/// Without a limit: for what a developer wrote, such as a history.
impl<'de> Deserialize<'de> for Tree {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Tree, D::Error> {
        deserializer.deserialize_any(Growing { budget: &Budget::unlimited(), names: &RefCell::default() })
    }
}

/// Grows a tree within a budget of memory. A name that stands twice in one map is an error: which of the two was meant
/// cannot be known.
#[derive(Clone, Copy)]
struct Growing<'b> {
    budget: &'b Budget,
    names: &'b RefCell<NamePool>,
}

/// The names of one document, each kept once.
///
/// The maps of an image name the same levels in the same order, one field after the other. So the name that followed the last one
/// before is tried first, and is nearly always the one.
#[derive(Default)]
struct NamePool {
    names: Vec<Arc<str>>,
    /// The place after the name that was asked for last.
    next: usize,
    places: FxHashMap<Arc<str>, usize>,
}

impl NamePool {
    /// The name, and whether it was not known.
    fn get(&mut self, name: &str) -> (Arc<str>, bool) {
        let expected = self.names.get(self.next).filter(|expected| &***expected == name);
        if let Some(expected) = expected {
            self.next += 1;
            return (expected.clone(), false);
        }
        if let Some(place) = self.places.get(name) {
            self.next = place + 1;
            return (self.names[*place].clone(), false);
        }
        let shared: Arc<str> = name.into();
        if self.names.len() >= POOLED {
            return (shared, true);
        }
        self.places.insert(shared.clone(), self.names.len());
        self.names.push(shared.clone());
        self.next = self.names.len();
        (shared, true)
    }
}

/// A map of up to 4,096 entries is built of a list in one go; what a larger one has beyond them is put in one by one, so that no
/// list takes much memory.
const BULK: usize = 4096;

impl<'de> DeserializeSeed<'de> for Growing<'_> {
    type Value = Tree;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Tree, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Growing<'_> {
    type Value = Tree;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_unit<E: Error>(self) -> Result<Tree, E> {
        Ok(Tree::Null)
    }

    fn visit_bool<E: Error>(self, bool: bool) -> Result<Tree, E> {
        Ok(Tree::Bool(bool))
    }

    fn visit_i64<E: Error>(self, int: i64) -> Result<Tree, E> {
        Ok(Tree::Int(int))
    }

    fn visit_u64<E: Error>(self, int: u64) -> Result<Tree, E> {
        i64::try_from(int).map(Tree::Int).map_err(|_| E::custom(format!("the number {int} is too large")))
    }

    fn visit_f64<E: Error>(self, float: f64) -> Result<Tree, E> {
        if float.is_finite() { Ok(Tree::Float(Finite::new(float))) } else { Err(E::custom("a number is too large")) }
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Tree, E> {
        self.budget.text(text)?;
        Ok(Tree::Text(text.into()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Tree, A::Error> {
        let mut items = Vec::new();
        while let Some(item) = seq.next_element_seed(self)? {
            self.budget.value()?;
            items.push(item);
        }
        Ok(Tree::List(items))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Tree, A::Error> {
        let twice = |name: &str| A::Error::custom(format!("`{name}` stands twice"));
        // Images are written in the order of the names. As long as they are read so, a list becomes the map in one go.
        let mut bulk: Vec<(Arc<str>, Tree)> = Vec::new();
        let mut next = map.next_key_seed(Naming(self))?;
        while let Some(name) =
            next.take_if(|name| bulk.len() < BULK && bulk.last().is_none_or(|(last, _)| **last < **name))
        {
            self.budget.entry()?;
            let value = map.next_value_seed(self)?;
            bulk.push((name, value));
            next = map.next_key_seed(Naming(self))?;
        }
        let mut entries: BTreeMap<Arc<str>, Tree> = bulk.into_iter().collect();
        while let Some(name) = next {
            self.budget.entry()?;
            match entries.entry(name) {
                Entry::Vacant(vacant) => drop(vacant.insert(map.next_value_seed(self)?)),
                Entry::Occupied(known) => return Err(twice(known.key())),
            }
            next = map.next_key_seed(Naming(self))?;
        }
        Ok(Tree::Map(entries))
    }
}

/// Reads a name of a map, which the document may have had before.
struct Naming<'b>(Growing<'b>);

impl<'de> DeserializeSeed<'de> for Naming<'_> {
    type Value = Arc<str>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Arc<str>, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for Naming<'_> {
    type Value = Arc<str>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name")
    }

    fn visit_str<E: Error>(self, name: &str) -> Result<Arc<str>, E> {
        let Naming(growing) = self;
        let (name, is_new) = growing.names.borrow_mut().get(name);
        if is_new {
            growing.budget.name(&name)?;
        }
        Ok(name)
    }
}

/// Values by field name. Keyed fields hold a map of their entries.
pub type Values = BTreeMap<Arc<str>, Tree>;

/// Values by the version that moved them away, as the version before it wrote them.
pub type Moved = BTreeMap<i64, Values>;
