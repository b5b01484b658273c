//! Values in few words: what a container holds in a word, and what changed in it instead of all of it.

use crate::value::Value;
use crate::value::containers::{List, Map, Set};
use crate::value::types::Member;

impl Value {
    /// The value in a few characters: scalars as they are, of containers how much is in them.
    ///
    /// ```
    /// use vestigum_spec::Value;
    /// assert_eq!(Value::Int(7).brief(), "7");
    /// assert_eq!(Value::List([Value::Int(1), Value::Int(2)].into_iter().collect()).brief(), "2 values");
    /// ```
    pub fn brief(&self) -> String {
        match self {
            Value::List(_) | Value::Set(_) | Value::Map(_) => self.counted(self.len()),
            Value::Struct(ty, _) => format!("a {}", ty.name()),
            Value::Text(text) if text.chars().count() > 24 => {
                format!("'{}…'", text.chars().take(20).collect::<String>())
            }
            other => other.to_string(),
        }
    }

    /// Returns whether it is a list, a set or a map.
    #[doc(hidden)]
    pub fn is_container(&self) -> bool {
        matches!(self, Value::List(_) | Value::Set(_) | Value::Map(_))
    }

    /// Returns how much a container of this kind with that number of values holds, in words.
    #[doc(hidden)]
    pub fn counted(&self, len: usize) -> String {
        let what = if matches!(self, Value::Map(_)) { ["entry", "entries"] } else { ["value", "values"] };
        match len {
            0 => "empty".to_owned(),
            1 => format!("1 {}", what[0]),
            len => format!("{len} {}", what[1]),
        }
    }

    /// The container without what is in it; other values as they are.
    #[doc(hidden)]
    #[must_use]
    pub fn emptied(&self) -> Value {
        match self {
            Value::List(_) => Value::List(List::default()),
            Value::Set(_) => Value::Set(Set::default()),
            Value::Map(_) => Value::Map(Map::default()),
            other => other.clone(),
        }
    }

    /// Returns what differs between two containers: what went, and what came. Their [`Value::difference`] is that of the whole.
    #[doc(hidden)]
    pub fn apart(&self, after: &Value) -> (Value, Value) {
        match (self, after) {
            (Value::Set(a), Value::Set(b)) => {
                (Value::Set(a.difference(b).cloned().collect()), Value::Set(b.difference(a).cloned().collect()))
            }
            (Value::Map(a), Value::Map(b)) => {
                let other = |of: &Map, than: &Map| {
                    let differs = of.iter().filter(|(key, value)| than.get(key) != Some(*value));
                    Value::Map(differs.map(|(key, value)| (key.clone(), value.clone())).collect())
                };
                (other(a, b), other(b, a))
            }
            (Value::List(a), Value::List(b)) => {
                // Where the positions of items are named, those before them stay.
                let first = match has_positions(a, b) {
                    true => 0,
                    false => a.iter().zip(b).take_while(|(a, b)| a == b).count(),
                };
                let shorter = a.len().min(b.len()) - first;
                let last = a.iter().rev().zip(b.iter().rev()).take(shorter).take_while(|(a, b)| a == b).count();
                let between = |list: &List| list.iter().take(list.len() - last).skip(first).cloned().collect();
                (Value::List(between(a)), Value::List(between(b)))
            }
            (before, after) => (before.clone(), after.clone()),
        }
    }

    /// Returns what became of this value when it turned into `after`: `0 → 60` for scalars; for containers what came (`+`) and
    /// what went (`−`); for structs, and in lists of them, the members that changed.
    ///
    /// ```
    /// use vestigum_spec::Value;
    /// let list = |items: &[i64]| Value::List(items.iter().copied().map(Value::Int).collect());
    /// assert_eq!(Value::Int(0).difference(&Value::Int(60)), "0 → 60");
    /// assert_eq!(list(&[1, 2]).difference(&list(&[1, 2, 5])), "+5");
    /// assert_eq!(list(&[1, 2]).difference(&list(&[2])), "−1");
    /// ```
    pub fn difference(&self, after: &Value) -> String {
        match (self, after) {
            (Value::Set(a), Value::Set(b)) => came_and_went(
                b.difference(a).map(Value::brief).collect(),
                a.difference(b).map(Value::brief).collect(),
                Vec::new(),
            ),
            (Value::Map(a), Value::Map(b)) => came_and_went(
                b.keys().filter(|key| !a.contains_key(key)).map(ToString::to_string).collect(),
                a.keys().filter(|key| !b.contains_key(key)).map(ToString::to_string).collect(),
                changed(a.iter().filter_map(|(key, before)| Some((&**key, before, b.get(key)?)))),
            ),
            (Value::Struct(ty, a), Value::Struct(_, b)) => {
                let members = ty.members().map(Member::name).zip(a.iter().zip(b.iter()));
                changed(members.map(|(name, (before, after))| (name, before, after))).join(", ")
            }
            // Items that stay where they are and have members: what became of those.
            (Value::List(a), Value::List(b)) if has_positions(a, b) => {
                let positions: Vec<String> = (1..=a.len()).map(|position| format!("[{position}]")).collect();
                let pairs = positions.iter().map(String::as_str).zip(a.iter().zip(b));
                came_and_went(Vec::new(), Vec::new(), changed(pairs.map(|(at, (before, after))| (at, before, after))))
            }
            (Value::List(a), Value::List(b)) => {
                let missing = |from: &List, other: &List| {
                    let mut rest: Vec<&Value> = other.iter().collect();
                    let mut out = Vec::new();
                    for value in from {
                        match rest.iter().position(|known| *known == value) {
                            Some(at) => {
                                rest.swap_remove(at);
                            }
                            None => out.push(value.brief()),
                        }
                    }
                    out
                };
                came_and_went(missing(b, a), missing(a, b), Vec::new())
            }
            (before, after) => format!("{} → {}", before.brief(), after.brief()),
        }
    }
}

/// Returns whether what became of the items of a list is told by their positions.
fn has_positions(a: &List, b: &List) -> bool {
    a.len() == b.len() && a.iter().any(|value| matches!(value, Value::Struct(..)))
}

fn changed<'a>(pairs: impl Iterator<Item = (&'a str, &'a Value, &'a Value)>) -> Vec<String> {
    let changed = pairs.filter(|(_, before, after)| before != after);
    changed.map(|(name, before, after)| format!("{name} {}", before.difference(after))).collect()
}

/// Says how many changes of a container are named.
const NAMED: usize = 3;

fn came_and_went(came: Vec<String>, went: Vec<String>, changed: Vec<String>) -> String {
    let signed =
        |sign: &str, names: Vec<String>| names.into_iter().map(|name| format!("{sign}{name}")).collect::<Vec<_>>();
    let mut all = signed("+", came);
    all.extend(signed("−", went));
    all.extend(changed);
    if all.is_empty() {
        return "another order".into();
    }
    let more = all.len().saturating_sub(NAMED);
    all.truncate(NAMED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{more}", all.join(" "))
}
