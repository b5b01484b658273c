//! The names that a spec declares, as members of a JSON object begin: a comma, the name in quotes, a colon.
//!
//! An image names nearly every field, and under most fields nearly every level, so each name is quoted once a model and copied from then on.

use std::sync::Arc;

use indexmap::IndexSet;

use crate::model::Model;
use crate::model::axis::KeySet;

/// The names of the fields, levels and declared keys of a model.
#[derive(Debug)]
pub struct MemberNames {
    /// The fields in the order of their names, each with its place in that order.
    pub fields: Names,
    /// The levels in the order of their names, each with its number.
    pub levels: Names,
    /// For each key set its declared names in their order, each with its number.
    pub sets: Vec<Names>,
}

impl MemberNames {
    pub(super) fn of(model: &Model) -> MemberNames {
        let fields = model.fields_by_name.iter().map(|id| &*model.field(*id).name).zip(0..);
        let levels = model.levels_by_name.iter().map(|level| (&*model.level(*level).id, *level));
        let sets = model.key_sets.iter().map(|set| Names::of_set(set, &IndexSet::default()));
        MemberNames { fields: Names::of(fields), levels: Names::of(levels), sets: sets.collect() }
    }
}

/// Names in an order, in one text.
#[derive(Debug)]
pub struct Names {
    text: Vec<u8>,
    /// For each name its number and where its text ends.
    ends: Vec<(u32, usize)>,
}

impl Names {
    /// Quotes names, each with its number, in the order in which they are given.
    pub fn of<'n>(names: impl Iterator<Item = (&'n str, u32)>) -> Names {
        let mut written = Names { text: Vec::new(), ends: Vec::with_capacity(names.size_hint().0) };
        for (name, number) in names {
            written.text.push(b',');
            quote(&mut written.text, name);
            written.text.push(b':');
            written.ends.push((number, written.text.len()));
        }
        written
    }

    /// Quotes the names of a key set, those that play made among them, in the order of the names.
    pub fn of_set(set: &KeySet, made: &IndexSet<Arc<str>>) -> Names {
        let mut names: Vec<(&str, u32)> = set.all_names(made).iter().map(|name| &**name).zip(0..).collect();
        names.sort_unstable();
        Names::of(names.into_iter())
    }

    /// Lists the numbers, each with the text that begins its member: a comma, the name, a colon.
    pub fn iter(&self) -> impl Iterator<Item = (u32, &[u8])> {
        let mut from = 0;
        self.ends.iter().map(move |(number, end)| {
            let begin = std::mem::replace(&mut from, *end);
            (*number, &self.text[begin..*end])
        })
    }
}

/// Writes a text in quotes, with its characters escaped as JSON wants it.
pub fn quote(json: &mut Vec<u8>, text: &str) {
    // Without an early end, so that many bytes are looked at at once.
    let escapes = |byte: u8| (byte < b' ') | (byte == b'"') | (byte == b'\\');
    if !text.bytes().fold(false, |any, byte| any | escapes(byte)) {
        json.push(b'"');
        json.extend_from_slice(text.as_bytes());
        json.push(b'"');
    } else {
        // Writing into memory does not fail.
        let _ = serde_json::to_writer(json, text);
    }
}
