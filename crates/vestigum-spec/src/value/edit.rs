//! What a write makes of a value.

use std::sync::Arc;

use crate::value::containers::Map;
use crate::value::limits::Limits;
use crate::value::ranking::Ranked;
use crate::value::types::Type;
use crate::value::{Value, sum};

/// Describes what a write does to a value, or to a part of one.
#[derive(Clone, Debug, PartialEq)]
pub enum Edit {
    /// Writes it.
    Set(Value),
    /// Adds to a number. The sum saturates.
    Add(Value),
    /// Writes a number or a choice if it is higher.
    Raise(Value),
    /// Writes a number or a choice if it is lower.
    Lower(Value),
    /// Puts a value into a list, at its end, into a set, or into a ranking, in its place if it is good enough.
    Insert(Value),
    /// Puts a value under a key of a map.
    InsertAt(Arc<str>, Value),
    /// Takes a value out of a set, the first equal one out of a list, or the entry under a text out of a map.
    Remove(Value),
    /// Takes the item of a list out at a position that counts from 1.
    RemoveAt(usize),
}

/// Describes what an edit makes of a value.
pub struct Edited {
    /// The new value.
    pub value: Value,
    /// Whether something was cut.
    pub clamped: bool,
    /// Says where an entry came in a ranking.
    pub ranked: Option<Ranked>,
}

/// Describes why an edit cannot be made to values of a type.
pub enum Unfit {
    /// The type has no such operation.
    Operation(&'static str),
    /// The value is of another type than this one.
    Value(Value, Type),
}

impl Edit {
    /// Returns whether it writes only what beats the old value.
    #[doc(hidden)]
    pub fn raises(&self) -> bool {
        match self {
            Edit::Raise(_) | Edit::Lower(_) => true,
            Edit::Set(_)
            | Edit::Add(_)
            | Edit::Insert(_)
            | Edit::InsertAt(..)
            | Edit::Remove(_)
            | Edit::RemoveAt(_) => false,
        }
    }

    /// The edit with its value brought to the type that it needs.
    ///
    /// # Errors
    /// If what is written does not have the type.
    #[doc(hidden)]
    pub fn fitted(self, ty: &Type) -> Result<Edit, Unfit> {
        let fit = |value: Value, ty: &Type| value.clone().fitted(ty).ok_or_else(|| Unfit::Value(value, ty.clone()));
        Ok(match (self, ty) {
            (Edit::Set(value), ty) => Edit::Set(fit(value, ty)?),
            (Edit::Add(value), ty) if ty.is_number() => Edit::Add(fit(value, ty)?),
            (Edit::Raise(value), ty) if ty.is_ordered() => Edit::Raise(fit(value, ty)?),
            (Edit::Lower(value), ty) if ty.is_ordered() => Edit::Lower(fit(value, ty)?),
            (Edit::Insert(item), Type::List(inner) | Type::Set(inner)) => Edit::Insert(fit(item, inner)?),
            (Edit::InsertAt(key, item), Type::Map(inner)) => Edit::InsertAt(key, fit(item, inner)?),
            (Edit::Remove(item), Type::List(inner) | Type::Set(inner)) => Edit::Remove(fit(item, inner)?),
            (Edit::Remove(key), Type::Map(_)) => Edit::Remove(fit(key, &Type::Text)?),
            (Edit::Add(_), _) => return Err(Unfit::Operation("added to")),
            (Edit::Raise(_), _) => return Err(Unfit::Operation("raised")),
            (Edit::Lower(_), _) => return Err(Unfit::Operation("lowered")),
            (Edit::Insert(_), _) => return Err(Unfit::Operation("inserted into without a key")),
            (Edit::InsertAt(..), _) => return Err(Unfit::Operation("inserted into with a key")),
            (Edit::RemoveAt(position), Type::List(_)) => Edit::RemoveAt(position),
            (Edit::RemoveAt(_), _) => return Err(Unfit::Operation("asked for a position")),
            (Edit::Remove(_), _) => return Err(Unfit::Operation("removed from")),
        })
    }

    /// Makes the edit to a value of the type, inside its limits. Says whether something was cut.
    #[doc(hidden)]
    pub fn made(self, old: Value, ty: &Type, limits: &Limits) -> Edited {
        let (value, clamped) = match self {
            Edit::Insert(item) if limits.ranking.is_some() => {
                let (value, clamped, ranked) = limits.ranked(&old, item);
                return Edited { value, clamped, ranked };
            }
            Edit::Set(value) => limits.clamp(value),
            Edit::Add(by) => {
                let (sum, cut) = if old.is_filled() { sum(&old, &by) } else { (by, false) };
                let (value, clamped) = limits.clamp(sum);
                (value, clamped || cut)
            }
            Edit::Raise(value) => beaten(old, value, limits, crate::value::below),
            Edit::Lower(value) => beaten(old, value, limits, |old, value| crate::value::below(value, old)),
            Edit::Insert(item) => inserted(old, item, matches!(ty, Type::Set(_)), limits),
            Edit::InsertAt(key, item) => {
                let at = limits.shortened_key(&key);
                let (item, cut) = limits.clamp_item(item);
                let cut = cut || at != key;
                let room = limits.has_room(&old);
                match old {
                    Value::Map(map) if !room && !map.contains_key(&at) => (Value::Map(map), true),
                    old => {
                        let mut map = if let Value::Map(map) = old { map } else { Map::default() };
                        map.insert(at, item);
                        (Value::Map(map), cut)
                    }
                }
            }
            Edit::Remove(item) => (without(old, &item), false),
            Edit::RemoveAt(position) => match (old, position.checked_sub(1)) {
                (Value::List(mut list), Some(index)) => {
                    list.remove(index);
                    (Value::List(list), false)
                }
                (old, _) => (old, false),
            },
        };
        Edited { value, clamped, ranked: None }
    }
}

/// The new value if it beats the old one, or if there is none.
fn beaten(old: Value, value: Value, limits: &Limits, beats: impl Fn(&Value, &Value) -> bool) -> (Value, bool) {
    let (value, clamped) = limits.clamp(value);
    if !old.is_filled() || beats(&old, &value) { (value, clamped) } else { (old, false) }
}

/// Inserts an item. Of a full container all items stay: the new one finds no room.
fn inserted(old: Value, item: Value, is_set: bool, limits: &Limits) -> (Value, bool) {
    let (item, cut) = limits.clamp_item(item);
    let room = limits.has_room(&old);
    let container = match old {
        Value::Set(set) if !room && !set.contains(&item) => return (Value::Set(set), true),
        Value::List(list) if !room => return (Value::List(list), true),
        Value::Set(mut set) => {
            set.insert(item);
            Value::Set(set)
        }
        Value::List(mut list) => {
            list.push(item);
            Value::List(list)
        }
        // An optional list or set that is not filled yet.
        _ if is_set => Value::Set([item].into_iter().collect()),
        _ => Value::List([item].into_iter().collect()),
    };
    (container, cut)
}

fn without(old: Value, item: &Value) -> Value {
    match old {
        Value::Set(mut set) => {
            set.remove(item);
            Value::Set(set)
        }
        Value::List(mut list) => {
            if let Some(at) = list.iter().position(|known| known == item) {
                list.remove(at);
            }
            Value::List(list)
        }
        Value::Map(mut map) => {
            map.remove(item.as_text());
            Value::Map(map)
        }
        other => other,
    }
}
