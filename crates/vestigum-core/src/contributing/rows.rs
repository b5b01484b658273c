//! The changes of items in a short form.
//!
//! Rows of rankings and items of sets each have a change, and naming every row again would make a save twice as large. So a save lists the
//! changes of an entry in the order of its items, which the value beside it has; reading puts the names back.

use std::collections::BTreeMap;

use crate::contributing::entries::entry_path;
use crate::origin::paths::item_path;
use crate::origin::{EntryPath, SavedOrigin};
use crate::state::State;
use vestigum_spec::model::Model;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::merging::MergeLaw;

impl SavedOrigin {
    /// Lists the changes of items in their order, as a save has them. `banked` is what the player has for good.
    pub(crate) fn list_rows(&mut self, model: &Model, banked: &State) {
        each_container(model, banked, |path, items| {
            let mut rows = Vec::with_capacity(items.len());
            for equal in items.chunk_by(|one, other| one == other) {
                let Some(changes) = self.changed.get(&item_path(&path, &equal[0])) else {
                    rows.extend(equal.iter().map(|_| BTreeMap::new()));
                    continue;
                };
                if changes.taken.is_some() || changes.by.values().any(|change| change.at != 0 || change.value.is_some())
                {
                    return;
                }
                // Each of several equal rows has one of their changes, where there are as many.
                let one_each = changes.by.len() == equal.len() && changes.by.values().all(|change| change.times == 1);
                if one_each {
                    rows.extend(changes.by.iter().map(|(dot, change)| BTreeMap::from([(dot.clone(), change.clone())])));
                } else {
                    rows.push(changes.by.clone());
                    rows.extend(equal[1..].iter().map(|_| BTreeMap::new()));
                }
            }
            if rows.iter().all(BTreeMap::is_empty) {
                return;
            }
            for item in &items {
                self.changed.remove(&item_path(&path, item));
            }
            self.rows.insert(path, rows);
        });
    }

    /// Puts the names of items back.
    pub(crate) fn name_rows(&mut self, model: &Model, banked: &State) {
        let mut listed = std::mem::take(&mut self.rows);
        each_container(model, banked, |path, items| {
            // A value that was changed since has its items without a word: they were there before.
            let Some(rows) = listed.remove(&path).filter(|rows| rows.len() == items.len()) else { return };
            for (item, by) in items.iter().zip(rows) {
                if !by.is_empty() {
                    self.changed.entry(item_path(&path, item)).or_default().by.extend(by);
                }
            }
        });
    }
}

fn each_container(model: &Model, state: &State, mut visit: impl FnMut(EntryPath, Vec<Value>)) {
    let merges = model.merging.iter().flat_map(|merging| &merging.fields);
    let united = |merge: &FieldMerge| *merge == FieldMerge::By(MergeLaw::Union);
    for (field, _) in model.fields.iter().zip(merges).filter(|(_, merge)| united(merge)) {
        for slot in field.slots().filter(|slot| model.is_made(field, *slot, &state.made)) {
            let items: Vec<Value> = state.value(slot).items().into_iter().flatten().cloned().collect();
            if !items.is_empty() {
                visit(entry_path(model, field, slot, &state.made), items);
            }
        }
    }
}
