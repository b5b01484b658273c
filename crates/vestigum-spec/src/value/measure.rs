//! Measures how much memory a tree takes that is read from JSON: one limit for what is read and for what is written.
//!
//! Small values that stand close together take many times the memory of their text. So reading has a budget, and what is written is
//! measured by the same numbers before it is: no save is acknowledged that cannot be read.

use std::cell::{Cell, RefCell};
use std::fmt;
use std::sync::Arc;

use rustc_hash::FxHashSet;
use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};

/// Counts for a value in a list that has grown by doubling, in bytes.
const VALUE_BYTES: usize = 48;
/// Counts for an entry of a map, besides its name, in bytes.
const ENTRY_BYTES: usize = 136;
/// Counts for a name, besides its characters, in bytes.
const NAME_BYTES: usize = 80;
/// Counts for a text, besides its characters, in bytes.
const TEXT_BYTES: usize = 32;
/// Limits how many names of one document are shared: a document with more has hardly one twice.
pub(super) const POOLED: usize = 1 << 16;

/// Bounds the saves that are always within the budget, in bytes: a value with its name takes at least six bytes of text.
const ALWAYS_FITS: usize = 1 << 20;

/// The memory that reading may take: ten times the bytes, and never less than 64 MiB.
#[derive(Debug)]
pub(super) struct Budget(Cell<usize>);

impl Budget {
    pub(super) fn of(bytes: usize) -> Budget {
        Budget::at_least(64 << 20, bytes)
    }

    /// Allows a number of bytes, and ten times what is read where that is more.
    pub(super) fn at_least(memory: usize, bytes: usize) -> Budget {
        Budget(Cell::new(bytes.saturating_mul(10).max(memory)))
    }

    /// For what a developer wrote, such as a history.
    pub(super) fn unlimited() -> Budget {
        Budget(Cell::new(usize::MAX))
    }

    fn spend<E: Error>(&self, bytes: usize) -> Result<(), E> {
        let left = self.0.get().checked_sub(bytes);
        let left = left.ok_or_else(|| E::custom(TOO_MANY))?;
        self.0.set(left);
        Ok(())
    }

    pub(super) fn value<E: Error>(&self) -> Result<(), E> {
        self.spend(VALUE_BYTES)
    }

    pub(super) fn entry<E: Error>(&self) -> Result<(), E> {
        self.spend(ENTRY_BYTES)
    }

    pub(super) fn name<E: Error>(&self, name: &str) -> Result<(), E> {
        self.spend(NAME_BYTES + name.len())
    }

    pub(super) fn text<E: Error>(&self, text: &str) -> Result<(), E> {
        self.spend(TEXT_BYTES + text.len())
    }
}

/// Covers what the members that a store adds to an image take, in bytes of memory.
const AROUND: usize = 4096;

const TOO_MANY: &str = "it has more values than a save of its size can have";

/// Checks that reading would take these bytes.
///
/// # Errors
/// If they are not JSON, or hold more than the budget.
#[cfg(test)]
fn measure(json: &[u8]) -> Result<(), serde_json::Error> {
    if json.len() < ALWAYS_FITS {
        return Ok(());
    }
    measure_with(json, 0)
}

fn measure_with(json: &[u8], around: usize) -> Result<(), serde_json::Error> {
    let budget = Budget::of(json.len());
    budget.spend(around)?;
    let measure = Measure { budget: &budget, names: &RefCell::default() };
    let mut json = serde_json::Deserializer::from_slice(json);
    measure.deserialize(&mut json)?;
    json.end()
}

/// Checks that reading would take an image with these members: the text of an object without its brackets, to which the store adds its
/// own members.
///
/// # Errors
/// If they are not JSON, or hold more than the budget.
pub fn measure_members(members: &[u8]) -> Result<(), serde_json::Error> {
    if members.len() < ALWAYS_FITS {
        return Ok(());
    }
    measure_with(&[b"{", members, b"}"].concat(), AROUND)
}

/// Spends what reading would, and keeps nothing but the names.
#[derive(Clone, Copy)]
struct Measure<'b> {
    budget: &'b Budget,
    names: &'b RefCell<FxHashSet<Arc<str>>>,
}

impl<'de> DeserializeSeed<'de> for Measure<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Measure<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_unit<E: Error>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E: Error>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E: Error>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E: Error>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E: Error>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<(), E> {
        self.budget.text(text)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<(), A::Error> {
        while seq.next_element_seed(self)?.is_some() {
            self.budget.value()?;
        }
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while map.next_key_seed(Named(self))?.is_some() {
            self.budget.entry()?;
            map.next_value_seed(self)?;
        }
        Ok(())
    }
}

/// Measures a name, which the document may have had before.
struct Named<'b>(Measure<'b>);

impl<'de> DeserializeSeed<'de> for Named<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for Named<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name")
    }

    fn visit_str<E: Error>(self, name: &str) -> Result<(), E> {
        let Measure { budget, names } = self.0;
        let mut names = names.borrow_mut();
        if names.contains(name) {
            return Ok(());
        }
        if names.len() < POOLED {
            names.insert(name.into());
        }
        budget.name(name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::tree::Tree;

    /// Measuring finds too much exactly where reading refuses.
    #[test]
    fn writing_and_reading_have_one_limit() {
        let list = |item: &str, count: usize| format!("[{}{item}]", format!("{item},").repeat(count - 1));
        let map = |count: usize| {
            let entries: Vec<String> = (0..count).map(|number| format!("\"{number:x}\":1")).collect();
            format!("{{{}}}", entries.join(","))
        };
        let texts = [
            list("1", 1_390_000),
            list("1", 1_400_000),
            list("\"\"", 830_000),
            list("\"\"", 845_000),
            map(300_000),
            map(330_000),
        ];
        let fits: Vec<bool> = texts
            .iter()
            .map(|text| {
                let measured = measure(text.as_bytes()).is_ok();
                assert_eq!(measured, Tree::from_json(text.as_bytes()).is_ok(), "{} bytes", text.len());
                measured
            })
            .collect();
        assert_eq!(fits, [true, false, true, false, true, false]);
    }

    /// Whatever stands in so few bytes: nothing is measured.
    #[test]
    fn what_is_small_always_fits() {
        for closest in ["\"\",", "1,", "{},", "{\"\":1},", "[],"] {
            let text = closest.repeat(ALWAYS_FITS / closest.len() - 4);
            let text = format!("[{text}1]");
            assert!(Tree::from_json(text.as_bytes()).is_ok(), "{closest}");
        }
        let mut text = String::from("{");
        for number in 0.. {
            let name = char::from_u32(0x20 + number)
                .filter(|name| !matches!(name, '"' | '\\'))
                .map(|name| format!("\"{name}\":1,"));
            text.extend(name);
            if text.len() > ALWAYS_FITS - 16 {
                break;
            }
        }
        text.push_str("\"\":1}");
        assert!(Tree::from_json(text.as_bytes()).is_ok());
    }
}
