//! Expressions of a map: over values of the old save, and over what was taken.

use std::sync::Arc;

use toml::de::DeValue;

use crate::adopting::map::{From, MadeField, Reader, Spot};
use crate::adopting::path::TreePath;
use vestigum_spec::document::Word;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::entry::{EntrySlot, entry_of};
use vestigum_spec::reading::compile_of_item;
use vestigum_spec::reading::place_of;
use vestigum_spec::reading::{DerivedKey, Scope, compile};
use vestigum_spec::value::types::{StructType, Type};

impl Reader<'_> {
    /// `[make]`: what is worked out of the values that were taken.
    pub(super) fn makes(&mut self, value: &Spot<'_>) {
        for (target, with) in self.table("make", value) {
            let Some((field, keys, members)) = self.target(target.get_ref(), target.span().into()) else { continue };
            let DeValue::String(text) = with.get_ref() else {
                self.wants(target.get_ref(), "an expression, as \"grade(best_letters, stars)\"", with);
                continue;
            };
            let found = &self.model.fields[field];
            if !members.is_empty() || found.axes.len() > 1 || found.axes.iter().any(|axis| self.model.is_open(*axis)) {
                let message =
                    format!("`{}` is made as a whole, and for the declared keys of one axis at most", found.name);
                self.error(target.span().into(), message);
                continue;
            }
            let slots: Vec<usize> = match keys.first() {
                Some(Some(_)) | None => {
                    let names: Vec<&str> = keys.iter().flatten().map(String::as_str).collect();
                    match entry_of(self.model, found, &names, &vec![Default::default(); self.model.key_sets.len()]) {
                        Ok(EntrySlot::Slot(slot)) => vec![slot],
                        Ok(EntrySlot::NotMade) | Err(_) => continue,
                    }
                }
                Some(None) => found.slots().collect(),
            };
            let word = Word::new(text.to_string(), with.span().into());
            let place = place_of(self.text, &word);
            let mut made = Vec::new();
            for slot in slots {
                let key = found.keys_of(slot).first().copied();
                let scope = match found.axes.first().zip(key) {
                    None | Some((Axis::Checkpoint, _)) => Scope::Derived,
                    Some((Axis::Level, level)) if self.model.is_made_level(level) => continue,
                    Some((Axis::Level, level)) => Scope::DerivedOf(DerivedKey::Level(level)),
                    Some((Axis::Keys(set), key)) => Scope::DerivedOf(DerivedKey::Key(*set, key)),
                };
                let mut errors = Vec::new();
                match compile(self.model, scope, text, Some(&found.ty), &place, &mut errors) {
                    Some(expression) => made.push((slot, found.level_of(self.model, slot), expression)),
                    // What is wrong for one key is wrong for all.
                    None => {
                        self.errors.extend(errors);
                        break;
                    }
                }
            }
            self.map.makes.push(MadeField { field, slots: made });
        }
    }

    /// An expression over numbers of the old save: they are floats, and the result is rounded where the field wants a whole number.
    pub(super) fn expression(&mut self, named: Vec<(String, TreePath)>, with: &Word, ty: &Type) -> Option<From> {
        let (names, paths): (Vec<String>, Vec<TreePath>) = named.into_iter().unzip();
        let item = StructType::of_floats("old", names.iter().map(String::as_str));
        let item = Type::Struct(Arc::new(item));
        let wanted = match ty {
            ty if ty.is_number() => Type::Float,
            Type::Bool => Type::Bool,
            ty => {
                self.error(with.span, format!("an expression makes a number or a bool, and this is of type {ty}"));
                return None;
            }
        };
        let mut errors = Vec::new();
        let place = place_of(self.text, with);
        let found = compile_of_item(self.model, &item, &with.value, Some(&wanted), &place, &mut errors);
        if let Some(read) = found.as_ref().and_then(|found| found.reads().first()) {
            let message = format!(
                "`{}` is a field, and an expression of a map reads the old save: name the value under `from`",
                self.model.field(*read).name
            );
            self.error(with.span, message);
            return None;
        }
        self.errors.extend(errors);
        Some(From::Several { paths, item, expression: found? })
    }
}
