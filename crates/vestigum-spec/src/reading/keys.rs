//! Key sets, and the axes that fields are kept on.

use indexmap::IndexSet;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{FieldEntry, KeysEntry, Word};
use crate::model::axis::{Axis, KeySet};
use crate::model::{Names, Types};
use crate::reading::Resolver;

/// The most names an open key set can have.
pub const MAX_KEYS: u32 = 100_000;

impl Resolver<'_> {
    /// Key sets; their `current` is found when the fields are known.
    pub(super) fn key_sets(&mut self, spec: &mut Names) {
        for (name, entry) in &self.document.keys {
            if matches!(name.value.as_str(), "level" | "checkpoint") {
                self.error(codes::BAD_NAME, name.span, format!("the axis `{}` is built in", name.value));
                continue;
            }
            if !self.name("key set", name) {
                continue;
            }
            let mut names = IndexSet::new();
            for key in &entry.names {
                if self.name("key", key) && !names.insert(key.value.as_str().into()) {
                    self.error(codes::BAD_NAME, key.span, format!("`{}` stands in `names` twice", key.value));
                }
            }
            let max = self.max_keys(name, entry);
            spec.key_sets.push(KeySet { name: name.value.as_str().into(), names, max, current: None });
        }
    }

    fn max_keys(&mut self, name: &Word, entry: &KeysEntry) -> Option<u32> {
        match (entry.open, &entry.max) {
            (false, None) => {
                if entry.names.is_empty() {
                    self.error(codes::SHAPE, name.span, format!("`{}` has no keys", name.value)).help =
                        Some("add `names`, or `open = true` with a `max` for names made at run time".into());
                }
                None
            }
            (false, Some(max)) => {
                self.error(codes::SHAPE, max.span, "only an open key set has a `max`");
                None
            }
            (true, max) => {
                if !entry.names.is_empty() {
                    self.error(codes::SHAPE, name.span, "an open key set is made at run time, so it has no `names`");
                }
                let found = max.as_ref().and_then(|max| u32::try_from(max.value).ok());
                let found = found.filter(|max| (1..=MAX_KEYS).contains(max));
                if found.is_none() {
                    let span = max.as_ref().map_or(name.span, |max| max.span);
                    self.error(codes::OUT_OF_RANGE, span, format!("an open key set has a `max` from 1 to {MAX_KEYS}"));
                }
                Some(found.unwrap_or(1))
            }
        }
    }

    /// The choice fields that say which key is meant.
    pub(super) fn currents(&mut self, spec: &mut Types) {
        for (name, entry) in &self.document.keys {
            let Some(word) = &entry.current else { continue };
            let Some(set) = spec.key_sets.iter().position(|keys| *keys.name == *name.value) else { continue };
            let Some(field) = spec.find_field(&word.value) else {
                let message = format!("no field is called `{}`", word.value);
                let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
                self.errors.push(error.suggest(&word.value, spec.fields.iter().map(|field| &*field.name)));
                continue;
            };
            let names = field.ty.as_choice().filter(|_| !field.is_keyed() && !field.optional);
            let keys = names.and_then(|names| {
                let found = names.iter().map(|chosen| spec.key_sets[set].names.get_index_of(chosen.name()));
                found.map(|key| key.map(|key| key as u32)).collect::<Option<Vec<u32>>>()
            });
            let id = field.id;
            match keys {
                Some(keys) => spec.names.key_sets[set].current = Some((id, keys)),
                None => {
                    let message = format!("`{}` cannot say which {} is meant", word.value, name.value);
                    self.error(codes::WRONG_TYPE, word.span, message).help = Some(format!(
                        "it must be a choice field with one value, whose choices are names of `[keys.{}]`",
                        name.value
                    ));
                }
            }
        }
    }

    pub(super) fn axes(&mut self, spec: &Names, entry: &FieldEntry) -> Vec<Axis> {
        let mut axes: Vec<Axis> = Vec::new();
        for word in &entry.per {
            let set = || spec.key_sets.iter().position(|keys| *keys.name == *word.value);
            let axis = match word.value.as_str() {
                "level" => Some(Axis::Level),
                "checkpoint" => Some(Axis::Checkpoint),
                _ => set().map(|set| Axis::Keys(set as u32)),
            };
            let Some(axis) = axis else {
                let known = ["level", "checkpoint"].into_iter().chain(spec.key_sets.iter().map(|keys| &*keys.name));
                let known: Vec<&str> = known.collect();
                let help = format!("the axes are: {}; more are declared under [keys.NAME]", known.join(", "));
                let message = format!("there is no axis `{}`", word.value.escape_debug());
                let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message).help(help);
                self.errors.push(error.suggest(&word.value, known));
                continue;
            };
            let both = |a: Axis, b: Axis| axis == a && axes.contains(&b);
            if axes.contains(&axis) {
                self.error(codes::SHAPE, word.span, format!("`{}` stands in `per` twice", word.value));
            } else if both(Axis::Checkpoint, Axis::Level) || both(Axis::Level, Axis::Checkpoint) {
                let message = "a checkpoint belongs to its level, so `checkpoint` alone is enough";
                self.error(codes::SHAPE, word.span, message).help = Some("write `per = \"checkpoint\"`".into());
            } else if axes.len() == 3 {
                self.error(codes::OUT_OF_RANGE, word.span, "a field has three axes at the most");
            } else {
                axes.push(axis);
            }
        }
        axes
    }
}
