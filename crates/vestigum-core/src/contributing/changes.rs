//! Values that are no sum: which save changed them last.

use std::collections::BTreeMap;

use crate::contributing::Save;
use crate::origin::paths::{item_path, key_path, name_path};
use crate::origin::{Change, Changes, Dot, EntryPath};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::containers::Map;
use vestigum_spec::value::decode::decode;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::{Value, below};
use vestigum_spec::vocabulary::merging::MergeLaw;

impl Save<'_> {
    /// A value that is not a sum has another one.
    pub(super) fn changed(
        &mut self,
        field: &Field,
        law: MergeLaw,
        grows: bool,
        path: &EntryPath,
        was: &Value,
        now: &Value,
    ) {
        if law == MergeLaw::Union {
            return self.items(grows, path, was, now);
        }
        if grows {
            let known = self.origin.changed.get(path);
            let is_better = better(law, now, was);
            if known.is_none() && is_better {
                return;
            }
            let covers_plain =
                known.is_none_or(|known| known.by.is_empty() || known.by.contains_key(&Dot::before_all()));
            let changes = self.origin.changed.entry(path.clone()).or_default();
            if covers_plain {
                let taken = changes.taken.take().and_then(|known| decoded(field, &known));
                let taken = taken.filter(|taken| better(law, taken, was)).unwrap_or_else(|| was.clone());
                changes.taken = Some(Tree::of(&taken));
            }
            changes.by = [(self.dot.clone(), Change { at: 0, times: 1, value: None })].into();
            return;
        }
        let last = self.origin.changed.get(path);
        let last = last.into_iter().flat_map(|changes| changes.by.values()).map(|change| change.at).max();
        let at = match law {
            MergeLaw::Newer => self.at.max(last.unwrap_or(0).saturating_add(1)),
            MergeLaw::Max | MergeLaw::Min | MergeLaw::Sum | MergeLaw::Union => 0,
        };
        let by = [(self.dot.clone(), Change { at, times: 1, value: None })].into();
        self.origin.changed.insert(path.clone(), Changes { by, taken: None });
    }

    /// Items that came in and went out.
    fn items(&mut self, grows: bool, path: &EntryPath, was: &Value, now: &Value) {
        match (was, now) {
            (Value::Map(_) | Value::Unfilled, Value::Map(_)) | (Value::Map(_), Value::Unfilled) => {
                let empty = Map::default();
                let (Value::Map(was), Value::Map(now)) = (or_map(was, &empty), or_map(now, &empty)) else { return };
                for (key, value) in now.iter() {
                    if was.get(key) != Some(value) {
                        let item = key_path(path, key);
                        let last = self.origin.changed.get(&item).into_iter().flat_map(|changes| changes.by.values());
                        let at = self.at.max(last.map(|change| change.at).max().unwrap_or(0).saturating_add(1));
                        let changes = self.origin.changed.entry(item).or_default();
                        changes.by = [(self.dot.clone(), Change { at, times: 1, value: None })].into();
                    }
                }
                for key in was.keys().filter(|key| !now.contains_key(key)) {
                    self.take_out(&key_path(path, key), u32::MAX);
                }
            }
            _ => {
                // Two devices can have put the same item into a set; what is taken out of it is taken out whole.
                let is_set = matches!(was, Value::Set(_));
                let (was, now) = (counted(was), counted(now));
                for (item, times) in &now {
                    let before = was.get(item).copied().unwrap_or(0);
                    if *times > before {
                        self.put_in(grows, &item_path(path, item), times - before);
                    }
                }
                for (item, times) in &was {
                    let left = now.get(item).copied().unwrap_or(0);
                    if left < *times {
                        self.take_out(&item_path(path, item), if is_set { u32::MAX } else { times - left });
                    }
                }
            }
        }
    }

    fn put_in(&mut self, grows: bool, item: &EntryPath, times: u32) {
        if grows && !self.origin.changed.contains_key(item) {
            return;
        }
        let changes = self.origin.changed.entry(item.clone()).or_default();
        changes.by.insert(self.dot.clone(), Change { at: 0, times, value: None });
    }

    /// Takes an item out a number of times, those first that came last.
    fn take_out(&mut self, item: &EntryPath, times: u32) {
        let plain = Dot::before_all();
        let Some(changes) = self.origin.changed.get_mut(item) else {
            // It was there before changes were noted, or comes from a field that is only added to.
            self.origin.changed.entry(item.clone()).or_default().taken = Some(Tree::Null);
            return;
        };
        let mut rest = times;
        while let Some(mut last) = changes.by.last_entry().filter(|_| rest > 0) {
            let covered = last.get().times.min(rest);
            rest -= covered;
            last.get_mut().times -= covered;
            if last.get().times == 0 {
                let (dot, _) = last.remove_entry();
                if dot == plain {
                    changes.taken = Some(Tree::Null);
                }
            }
        }
        if changes.by.is_empty() && changes.taken.is_none() {
            self.origin.changed.remove(item);
        }
    }

    /// Names of open key sets that were made and removed, and levels that players made.
    pub(super) fn names(&mut self) {
        let model = self.model.clone();
        let (all_was, all_held) = (self.was.was.made.clone(), self.held.made.clone());
        for (set, (was, held)) in model.key_sets.iter().zip(all_was.iter().zip(&all_held)) {
            for name in held.iter().filter(|name| !was.contains(*name)) {
                self.put_in(false, &name_path(&set.name, name), 1);
            }
            for name in was.iter().filter(|name| !held.contains(*name)) {
                self.take_out(&name_path(&set.name, name), 1);
            }
        }
    }
}

fn or_map<'v>(value: &'v Value, empty: &'v Map) -> Value {
    if let Value::Map(map) = value { Value::Map(map.clone()) } else { Value::Map(empty.clone()) }
}

/// Counts how often each item is there.
pub(crate) fn counted(value: &Value) -> BTreeMap<Value, u32> {
    let mut times = BTreeMap::new();
    for item in value.items().into_iter().flatten() {
        *times.entry(item.clone()).or_insert(0) += 1;
    }
    times
}

/// Returns whether one value is better than another by the law of a record. A value is better than none.
pub(crate) fn better(law: MergeLaw, one: &Value, other: &Value) -> bool {
    match (one.is_filled(), other.is_filled()) {
        (true, true) => match law {
            MergeLaw::Min => below(one, other),
            // A bool that is only raised is one of these.
            MergeLaw::Max | MergeLaw::Newer | MergeLaw::Sum | MergeLaw::Union => is_above(one, other),
        },
        (filled, _) => filled && !other.is_filled(),
    }
}

fn is_above(one: &Value, other: &Value) -> bool {
    match (one, other) {
        (Value::Bool(one), Value::Bool(other)) => *one && !*other,
        _ => below(other, one),
    }
}

pub(crate) fn decoded(field: &Field, tree: &Tree) -> Option<Value> {
    if *tree == Tree::Null {
        return Some(Value::Unfilled);
    }
    decode(tree, &field.ty, "", &mut |_, _| {})
}
