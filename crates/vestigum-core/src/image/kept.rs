//! Carrying along what a spec has no place for: gathered when an image is loaded, written back into each image that is saved.

use std::sync::Arc;

use crate::image::report::{LoadError, LoadReport, SavedName, SavedThing};
use crate::image::write::values;
use crate::image::{Image, SavedPlace};
use crate::state::State;
use crate::state::kept::{Kept, KeptMarks, KeptValue};
use vestigum_spec::model::Model;
use vestigum_spec::value::tree::{Tree, Values};

impl Kept {
    /// Gathers what was dropped or brought inside when an image was read into the state. The place is not kept.
    pub(crate) fn of(model: &Model, image: &Image, state: &State, report: &LoadReport) -> Kept {
        let read = values(model, &state.made, |_| true, |slot| state.value(slot), &Default::default());
        let mut kept = Kept::default();
        let clamped = report.clamped.iter().map(|clamped| &clamped.name);
        let mut names: Vec<&SavedName> = clamped.collect();
        for dropped in &report.dropped {
            match &dropped.what {
                SavedThing::Value(name) => names.push(name),
                SavedThing::Key { set, name } => kept.made.push((set.clone(), name.clone())),
                SavedThing::KeySet(set) => {
                    let made = image.made.get(set).into_iter().flatten();
                    kept.made.extend(made.map(|name| (set.clone(), name.clone())));
                }
            }
        }
        // A mark is taken anew when the level is entered; those of fields that nothing here knows are kept below.
        for SavedName { field, keys, .. } in names.into_iter().filter(|name| name.mark.is_none()) {
            let Some(said) = at(&image.values, field, keys) else { continue };
            let value = KeptValue {
                field: field.clone(),
                keys: keys.clone(),
                said: said.clone(),
                read: at(&read, field, keys).cloned(),
            };
            if !kept.values.contains(&value) {
                kept.values.push(value);
            }
        }
        if let (SavedPlace::InLevel { level, .. }, Some(marks)) = (&image.place, &image.marks) {
            let unknown = |values: &Values| -> Values {
                let unknown = values.iter().filter(|(name, _)| model.find_field(name).is_none());
                unknown.map(|(name, tree)| (name.clone(), tree.clone())).collect()
            };
            let (entry, checkpoint) = (unknown(&marks.entry), unknown(&marks.checkpoint));
            kept.marks = (!entry.is_empty()).then(|| KeptMarks { level: level.clone(), entry, checkpoint });
        }
        kept
    }

    /// The refusal of an image that cannot be changed without knowing what is kept of it.
    pub(crate) fn refused(&self, model: &Model, image: &Image) -> LoadError {
        let name = |value: &KeptValue| SavedName::of(&value.field, value.keys.iter().cloned()).to_string();
        LoadError::newer_build(model.version, image, self.values.iter().map(name))
    }

    /// Writes it back into an image of later progress.
    pub(crate) fn write_back(&self, image: &mut Image) {
        for KeptValue { field, keys, said, read } in &self.values {
            if at(&image.values, field, keys) == read.as_ref() {
                put(&mut image.values, field, keys, said);
            }
        }
        for (set, name) in &self.made {
            let made = image.made.entry(set.clone()).or_default();
            if !made.contains(name) {
                made.push(name.clone());
            }
        }
        let in_level = match &image.place {
            SavedPlace::InLevel { level, .. } => Some(level),
            SavedPlace::Menu | SavedPlace::RunOver | SavedPlace::Deleted => None,
        };
        if let (Some(kept), Some(marks)) = (&self.marks, &mut image.marks)
            && in_level == Some(&kept.level)
        {
            for (to, from) in [(&mut marks.entry, &kept.entry), (&mut marks.checkpoint, &kept.checkpoint)] {
                from.iter().for_each(|(name, tree)| drop(to.insert(name.clone(), tree.clone())));
            }
        }
    }
}

fn at<'t>(values: &'t Values, field: &Arc<str>, keys: &[Arc<str>]) -> Option<&'t Tree> {
    keys.iter().try_fold(values.get(field)?, |tree, key| match tree {
        Tree::Map(entries) => entries.get(key),
        Tree::Null | Tree::Bool(_) | Tree::Int(_) | Tree::Float(_) | Tree::Text(_) | Tree::List(_) => None,
    })
}

fn put(values: &mut Values, field: &Arc<str>, keys: &[Arc<str>], tree: &Tree) {
    let Some((last, before)) = keys.split_last() else {
        values.insert(field.clone(), tree.clone());
        return;
    };
    let mut entries = values;
    for name in std::iter::once(field).chain(before) {
        let inner = entries.entry(name.clone()).or_insert_with(|| Tree::Map(Values::new()));
        let Tree::Map(inner) = inner else { return };
        entries = inner;
    }
    entries.insert(last.clone(), tree.clone());
}
