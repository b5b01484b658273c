//! Values in few words: what a container holds in a word, and what changed in it instead of all of it.

use crate::value::Value;

impl Value {
    /// The value as an expression writes it: a choice in quotes.
    pub(crate) fn literal(&self) -> String {
        match self {
            Value::Choice(chosen) => format!("'{}'", chosen.name),
            other => other.to_string(),
        }
    }

    /// The value in a few characters: scalars as they are, of containers how much is in them.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use vestigum_core::Value;
    /// assert_eq!(Value::Int(7).brief(), "7");
    /// assert_eq!(Value::List(Arc::new(vec![Value::Int(1), Value::Int(2)])).brief(), "2 values");
    /// ```
    pub fn brief(&self) -> String {
        let counted = |len: usize, what: &str| match len {
            0 => "empty".to_owned(),
            1 => format!("1 {what}"),
            len => format!("{len} {what}s"),
        };
        match self {
            Value::List(list) => counted(list.len(), "value"),
            Value::Set(set) => counted(set.len(), "value"),
            Value::Map(map) if map.len() == 1 => "1 entry".into(),
            Value::Map(map) => counted(map.len(), "entrie"),
            Value::Struct(ty, _) => format!("a {}", ty.name()),
            Value::Text(text) if text.chars().count() > 24 => {
                format!("'{}…'", text.chars().take(20).collect::<String>())
            }
            other => other.to_string(),
        }
    }

    /// What became of this value when it turned into `after`: `0 → 60` for scalars; for containers what came (`+`) and
    /// what went (`−`); for structs the members that changed.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use vestigum_core::Value;
    /// let list = |items: &[i64]| Value::List(Arc::new(items.iter().copied().map(Value::Int).collect()));
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
                b.keys().filter(|key| !a.contains_key(*key)).map(|key| key.to_string()).collect(),
                a.keys().filter(|key| !b.contains_key(*key)).map(|key| key.to_string()).collect(),
                changed(a.iter().filter_map(|(key, before)| Some((&**key, before, b.get(key)?)))),
            ),
            (Value::Struct(ty, a), Value::Struct(_, b)) => {
                let members = ty.members().map(|(name, _)| name).zip(a.iter().zip(b.iter()));
                changed(members.map(|(name, (before, after))| (name, before, after))).join(", ")
            }
            (Value::List(a), Value::List(b)) => {
                let missing = |from: &[Value], other: &[Value]| {
                    let mut rest = other.to_vec();
                    let mut out = Vec::new();
                    for value in from {
                        match rest.iter().position(|known| known == value) {
                            Some(at) => drop(rest.swap_remove(at)),
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

fn changed<'a>(pairs: impl Iterator<Item = (&'a str, &'a Value, &'a Value)>) -> Vec<String> {
    let changed = pairs.filter(|(_, before, after)| before != after);
    changed.map(|(name, before, after)| format!("{name} {}", before.difference(after))).collect()
}

/// How many changes of a container are named.
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
