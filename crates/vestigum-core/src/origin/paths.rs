//! The names of entries and items in an origin.
//!
//! They are written as names and not as places in memory, so that an origin can be read without a spec, and joined where two saves
//! have their keys in another order.

use std::sync::Arc;

use crate::origin::EntryPath;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Tree;

/// Begins the path of an open key set: no field begins with it.
const SET: char = ':';

fn escaped(path: &mut String, name: &str) {
    path.push('/');
    for sign in name.chars() {
        match sign {
            '~' => path.push_str("~0"),
            '/' => path.push_str("~1"),
            other => path.push(other),
        }
    }
}

/// Returns the path of an entry by the names of its keys.
pub(crate) fn path_of(field: &str, keys: &[Arc<str>]) -> EntryPath {
    let mut path = field.to_owned();
    keys.iter().for_each(|name| escaped(&mut path, name));
    path.into()
}

/// Returns the path of an item of a set, a row of a ranking or a key of a map.
pub(crate) fn item_path(entry: &EntryPath, item: &Value) -> EntryPath {
    let mut path = entry.to_string();
    match item {
        Value::Text(text) => escaped(&mut path, text),
        other => escaped(&mut path, &serde_json::to_string(&Tree::of(other)).unwrap_or_default()),
    }
    path.into()
}

/// Returns the path of a key of a map.
pub(crate) fn key_path(entry: &EntryPath, key: &str) -> EntryPath {
    let mut path = entry.to_string();
    escaped(&mut path, key);
    path.into()
}

/// Returns the path of a name that was made in an open key set.
pub(crate) fn name_path(set: &str, name: &str) -> EntryPath {
    let mut path = format!("{SET}{set}");
    escaped(&mut path, name);
    path.into()
}

/// Returns the names that make a path: the field, its keys, and an item if it leads to one.
pub(crate) fn named(path: &str) -> Vec<Arc<str>> {
    path.split('/').map(|name| name.replace("~1", "/").replace("~0", "~").into()).collect()
}

/// Returns whether a path is an entry's or of an item inside it.
pub(crate) fn is_at(path: &str, entry: &str) -> bool {
    path.strip_prefix(entry).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
