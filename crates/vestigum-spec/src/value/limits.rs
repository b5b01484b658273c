//! What values may be: ranges and lengths.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::value::containers::List;
use crate::value::ranking::{Ranked, Ranking};
use crate::value::types::Member;
use crate::value::{Value, below};

/// Describes what values of a field may be. Values outside are brought inside, and the outcome says so.
#[derive(Clone, Debug, PartialEq)]
pub struct Limits {
    /// Lowest and highest value, for numbers.
    pub range: Option<(Value, Value)>,
    /// The most characters of a text.
    pub max_len: usize,
    /// For a ranking: the order of its entries.
    pub ranking: Option<Arc<Ranking>>,
    /// Whether it is a blob: bytes that are kept beside the image.
    pub blob: bool,
    // The range of an int field once more, for the writes of play.
    lowest_int: i64,
    highest_int: i64,
}

impl Limits {
    /// Limits of a range, where there is one, and of a length.
    #[doc(hidden)]
    pub fn new(range: Option<(Value, Value)>, max_len: usize) -> Limits {
        let (lowest_int, highest_int) = match &range {
            Some((Value::Int(lowest), Value::Int(highest))) => (*lowest, *highest),
            _ => (i64::MIN, i64::MAX),
        };
        Limits { range, max_len, ranking: None, blob: false, lowest_int, highest_int }
    }

    /// The limits of a ranking.
    #[doc(hidden)]
    pub fn of_ranking(ranking: Arc<Ranking>) -> Limits {
        let max_len = ranking.max;
        Limits { ranking: Some(ranking), ..Limits::new(None, max_len) }
    }

    /// The limits of a blob.
    pub(crate) fn of_blob(max_len: usize) -> Limits {
        Limits { blob: true, ..Limits::new(None, max_len) }
    }

    /// The most bytes a blob has if the field does not say it: 1 MiB.
    pub const DEFAULT_BLOB_LEN: usize = 1 << 20;

    /// The most characters a text has if the field does not ask for more.
    pub const DEFAULT_MAX_LEN: usize = 4096;

    /// The range of an int.
    #[doc(hidden)]
    pub fn int_range(&self) -> (i64, i64) {
        (self.lowest_int, self.highest_int)
    }

    /// The nearest number inside the range.
    #[doc(hidden)]
    #[inline]
    pub fn clamp_int(&self, int: i64) -> i64 {
        int.clamp(self.lowest_int, self.highest_int)
    }

    /// Returns whether it is a blob of more bytes than it may have.
    #[doc(hidden)]
    pub fn is_too_long(&self, value: &Value) -> bool {
        self.blob && value.len() > self.max_len
    }

    /// Brings `value` inside. Says whether it was outside. Of a blob that is too long nothing is left: half of one is worth
    /// nothing, and writes refuse it.
    #[doc(hidden)]
    pub fn clamp(&self, value: Value) -> (Value, bool) {
        // What nobody has written is in no range, and stays unwritten.
        if !value.is_filled() {
            return (value, false);
        }
        if let Some((lowest, highest)) = &self.range {
            if below(&value, lowest) {
                return (lowest.clone(), true);
            }
            if below(highest, &value) {
                return (highest.clone(), true);
            }
            return (value, false);
        }
        if self.is_too_long(&value) {
            return (Value::bytes([]), true);
        }
        let (value, cut) = self.shortened(value);
        match (&self.ranking, value) {
            (Some(ranking), Value::List(list)) if !ranking.fits(&list) => (Value::List(ranking.sorted(&list)), true),
            (_, value) => (value, cut),
        }
    }

    /// Returns which place an entry would take in a ranking, counted from 1: that of the entry as it would be kept, inside its limits.
    #[doc(hidden)]
    pub fn place_in(&self, ranking: &Value, entry: Value) -> Option<usize> {
        let (_, _, ranked) = self.ranked(ranking, entry);
        ranked?.place()
    }

    /// A ranking with one more entry, if it comes in, and where it does. Says whether the entry was cut.
    #[doc(hidden)]
    pub fn ranked(&self, old: &Value, item: Value) -> (Value, bool, Option<Ranked>) {
        let (item, cut) = self.clamp_item(item);
        let empty = List::default();
        match (&self.ranking, old) {
            (Some(ranking), Value::List(_) | Value::Unfilled) => {
                let list = if let Value::List(list) = old { list } else { &empty };
                let (list, place) = ranking.with(list, item);
                let ranked = Ranked::new(place, list.len());
                (Value::List(list), cut && place.is_some(), Some(ranked))
            }
            _ => (old.clone(), false, None),
        }
    }

    /// Brings an item that is put into a container inside.
    pub(crate) fn clamp_item(&self, item: Value) -> (Value, bool) {
        self.of_items().shortened(item)
    }

    /// The limits of what is inside a container.
    #[doc(hidden)]
    #[must_use]
    pub fn of_items(&self) -> Limits {
        Limits::new(None, self.max_inside())
    }

    /// The most characters of a text inside a container. The length of a ranking is that of its entries alone.
    fn max_inside(&self) -> usize {
        if self.ranking.is_some() { Limits::DEFAULT_MAX_LEN } else { self.max_len }
    }

    /// The limits of a member of a struct: its own, and the length of the field where it says none.
    #[doc(hidden)]
    #[must_use]
    pub fn of_member(&self, member: &Member) -> Limits {
        Limits::new(member.range.clone(), member.max_len.unwrap_or(self.max_len))
    }

    /// Both sets or maps in one, as far as there is room: what `a` has stays, the entries of `b` win over those of the same
    /// key. Says whether something was cut or found no room.
    pub(crate) fn united(&self, a: &Value, b: &Value) -> (Value, bool) {
        // What is inside is shortened by itself; what of `b` finds room is decided entry by entry: one that replaces another needs none.
        let items = self.of_items();
        let mut cut = false;
        let united = match (a, b) {
            (Value::Set(a), Value::Set(b)) => {
                let mut set = a.clone();
                for item in b {
                    let (item, shortened) = items.shortened(item.clone());
                    let fits = set.len() < self.max_len || set.contains(&item);
                    cut |= !fits || shortened;
                    if fits {
                        set.insert(item);
                    }
                }
                Value::Set(set)
            }
            (Value::Map(a), Value::Map(b)) => {
                let mut map = a.clone();
                for (key, value) in b.iter() {
                    let (value, shortened) = items.shortened(value.clone());
                    let short = self.shortened_key(key);
                    let fits = map.len() < self.max_len || map.contains_key(&short);
                    cut |= !fits || shortened || short != *key;
                    if fits {
                        map.insert(short, value);
                    }
                }
                Value::Map(map)
            }
            (_, b) => {
                let (b, shortened) = self.shortened(b.clone());
                cut = shortened;
                b
            }
        };
        (united, cut)
    }

    /// Returns whether a container has room for one more.
    pub(crate) fn has_room(&self, container: &Value) -> bool {
        container.len() < self.max_len
    }

    /// Cuts text, bytes and containers at `max_len`, those inside others too.
    fn shortened(&self, value: Value) -> (Value, bool) {
        let max = self.max_len;
        let whole = match &value {
            Value::Text(text) => text.len() <= max,
            Value::Bytes(bytes) => bytes.len() <= max,
            Value::Struct(..) | Value::List(_) | Value::Set(_) | Value::Map(_) => {
                !is_outside(&value, max, self.max_inside())
            }
            _ => true,
        };
        if whole {
            return (value, false);
        }
        let items = self.of_items();
        let inner = |value: &Value| items.shortened(value.clone()).0;
        let short = match &value {
            Value::Text(text) => match text.char_indices().nth(max) {
                Some((end, _)) => Value::text(&text[..end]),
                None => return (value, false),
            },
            Value::Bytes(bytes) => Value::bytes(&bytes[..max]),
            Value::Struct(ty, members) => {
                let typed = ty.members.iter().zip(members.iter());
                let inside = typed.map(|(member, value)| self.of_member(member).clamp(value.clone()).0);
                Value::Struct(ty.clone(), Arc::new(inside.collect()))
            }
            // A ranking is cut when it is in order.
            Value::List(list) if self.ranking.is_some() => Value::List(list.iter().map(inner).collect()),
            Value::List(list) => Value::List(list.iter().take(max).map(inner).collect()),
            Value::Set(set) => Value::Set(set.iter().take(max).map(inner).collect()),
            Value::Map(map) => {
                let mut short = BTreeMap::new();
                for (key, value) in map.iter() {
                    // Where two keys become one when they are cut, the first one stays.
                    if short.len() < max {
                        short.entry(self.shortened_key(key)).or_insert_with(|| inner(value));
                    }
                }
                Value::Map(short.into())
            }
            _ => return (value, false),
        };
        (short, true)
    }

    /// The key of a map, cut as a text is.
    pub(crate) fn shortened_key(&self, key: &Arc<str>) -> Arc<str> {
        match key.char_indices().nth(self.max_len) {
            Some((end, _)) if is_long_key(key, self.max_len) => key[..end].into(),
            _ => key.clone(),
        }
    }
}

fn is_long_key(key: &str, max: usize) -> bool {
    key.len() > max && key.chars().count() > max
}

/// Returns whether a value is longer than `max` or something in it longer than `inside`, or a member of a struct outside its own limits.
fn is_outside(value: &Value, max: usize, max_inside: usize) -> bool {
    let is_outside = |value: &Value, max: usize| is_outside(value, max, max);
    let inside = match value {
        Value::Struct(ty, members) => {
            let mut typed = ty.members.iter().zip(members.iter());
            typed.any(|(member, value)| {
                let out_of_range = |(lowest, highest): &(Value, Value)| below(value, lowest) || below(highest, value);
                member.range.as_ref().is_some_and(out_of_range) || is_outside(value, member.max_len.unwrap_or(max))
            })
        }
        Value::List(list) => list.iter().any(|item| is_outside(item, max_inside)),
        Value::Set(set) => set.iter().any(|item| is_outside(item, max)),
        Value::Map(map) => map.iter().any(|(key, item)| is_long_key(key, max) || is_outside(item, max)),
        Value::Text(text) => return text.len() > max && text.chars().count() > max,
        _ => false,
    };
    inside || value.len() > max
}
