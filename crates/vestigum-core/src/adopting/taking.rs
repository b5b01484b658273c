//! Taking values of an old save into the fields of a spec.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use indexmap::IndexSet;

use crate::adopting::convert::{Key, Made};
use crate::adopting::map::{From, Take, key_names};
use crate::adopting::number::{Number, with_large_numbers_as_texts};
use crate::adopting::path::{Found, children};
use crate::adopting::{AdoptReport, Adoption, Taken};
use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use crate::image::report::SavedName;
use crate::image::write::place_entry;
use crate::state::State;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::{Tree, Values};
use vestigum_spec::value::types::Type;

/// Limits the memory that an old save is estimated to take: what a game of its own wrote has many small objects.
const MOST_MEMORY: usize = 256 << 20;

/// Reads an old save. What begins with a byte order mark is JSON as well.
pub(super) fn old_tree(json: &[u8]) -> Result<Tree, serde_json::Error> {
    let json = json.strip_prefix(b"\xef\xbb\xbf").unwrap_or(json);
    // What is no text is told by who reads it.
    let text = std::str::from_utf8(json).map(with_large_numbers_as_texts);
    Tree::from_foreign_json(text.as_ref().map_or(json, |text| text.as_bytes()), MOST_MEMORY)
}

/// A save that is being taken over.
pub(super) struct Taking<'a> {
    pub(super) adoption: &'a Adoption,
    pub(super) report: AdoptReport,
    /// The places of what was taken.
    pub(super) used: BTreeSet<Vec<String>>,
    /// The places in these that nothing was made from.
    pub(super) unused: BTreeSet<Vec<String>>,
    /// Items of lists that something is asked of: one question may name what another does not.
    pub(super) named: BTreeSet<Vec<String>>,
    /// The places that the map leaves to nobody.
    pub(super) unwanted: BTreeSet<Vec<String>>,
    /// Remembers what went where, by the name of the entry, so that no value is written over another.
    pub(super) filled: BTreeMap<String, (String, Tree)>,
    /// The keys that are made at run time, by set.
    pub(super) made: BTreeMap<Arc<str>, IndexSet<Arc<str>>>,
}

impl Taking<'_> {
    pub(super) fn take(&mut self, take: &Take, field: &Field, old: &Tree, values: &mut Values) {
        let (found, others) = match take.from.paths() {
            [] => return,
            [first, others @ ..] => (first.find(old), others),
        };
        let keys: Vec<&str> = take.keys.iter().map(|key| key.as_deref().unwrap_or("*")).collect();
        let keys = if keys.is_empty() { String::new() } else { format!("[{}]", keys.join(", ")) };
        let named = || format!("{}{keys}", field.name());
        if found.is_empty() {
            self.report.missing.push((named(), take.from.paths()[0].to_string()));
            return;
        }
        let starred: Vec<usize> = (0..take.keys.len()).filter(|at| take.keys[*at].is_none()).collect();
        for first in found {
            let mut all = vec![first.clone()];
            for path in others {
                match path.find(old).into_iter().find(|found| found.stars == first.stars) {
                    Some(found) => all.push(found),
                    None => self.report.missing.push((named(), path.to_string())),
                }
            }
            if all.len() <= others.len() {
                continue;
            }
            self.used.extend(all.iter().map(|found| found.at.clone()));
            self.unmatched_items(take, field, &first, &starred);
            if starred.is_empty() {
                self.put(take, field, &take.keys, None, &all, values);
                continue;
            }
            let by_key = first.stars.is_empty();
            let rows: Vec<Vec<String>> = match by_key {
                // One value for all keys, each with something that is asked.
                true => {
                    let axis = self.axis_word(field, starred[0]);
                    let names = self.old_names(&axis).into_iter();
                    names.filter_map(|names| Some(vec![self.one_name(take, &axis, names, &first)?])).collect()
                }
                false => vec![first.stars.clone()],
            };
            for row in rows {
                self.put_row(take, field, (&starred, &row), &all, values);
            }
        }
    }

    fn axis_word(&self, field: &Field, axis: usize) -> String {
        self.adoption.spec.model().axis_word(field.axes()[axis]).to_owned()
    }

    /// Puts a value where its stars say.
    fn put_row(
        &mut self,
        take: &Take,
        field: &Field,
        (starred, row): (&[usize], &[String]),
        all: &[Found<'_>],
        values: &mut Values,
    ) {
        let mut keys = take.keys.clone();
        let mut last = None;
        for (at, old) in starred.iter().zip(row) {
            let axis = self.axis_word(field, *at);
            match self.key(&axis, old) {
                // A level that stands outside the order has no position.
                Some((_, key)) if key.position == 0 && take.conversion.asks_position() => return,
                Some((name, key)) => {
                    keys[*at] = Some(name);
                    last = Some(key);
                }
                None => {
                    let at = &all[0].at;
                    let unwanted = (1..=at.len()).any(|parts| self.unwanted.contains(&at[..parts]));
                    if !unwanted {
                        let why = format!("no {axis} is called `{old}`; `[names.{axis}]` can say which one is meant");
                        self.report.refused.push((at.join("."), why));
                    }
                    return;
                }
            }
        }
        self.put(take, field, &keys, last.as_ref(), all, values);
    }

    /// Notes items of a list that no question is about, whatever key is looked for.
    fn unmatched_items(&mut self, take: &Take, field: &Field, found: &Found<'_>, starred: &[usize]) {
        let Tree::List(items) = found.tree else { return };
        if !take.conversion.asks_items() {
            return;
        }
        let keys: Vec<Option<Key>> = match starred {
            [] => vec![None],
            [axis, ..] => {
                let axis = self.axis_word(field, *axis);
                let olds = self.old_names(&axis);
                olds.iter().flatten().map(|old| self.key(&axis, old).map(|(_, key)| key)).collect()
            }
        };
        for (index, item) in items.iter().enumerate() {
            let is_named = keys.iter().any(|key| take.conversion.names_item(item, key.as_ref()));
            let places = if is_named { &mut self.named } else { &mut self.unused };
            places.insert(found.at.iter().cloned().chain([index.to_string()]).collect());
        }
    }

    /// The value that is put: as it stands there, or worked out of several.
    fn made(&self, take: &Take, ty: &Type, key: Option<&Key>, all: &[Found<'_>]) -> Result<Made, String> {
        let From::Several { item, expression, .. } = &take.from else {
            return take.conversion.of(all[0].tree, ty, key);
        };
        let number = |found: &Found<'_>| {
            let number = Number::of(found.tree);
            let number =
                number.ok_or_else(|| format!("{} is {}, expected a number", found.at.join("."), found.tree.kind()))?;
            Ok(Value::float(number.finite()?))
        };
        let numbers = all.iter().map(number).collect::<Result<Vec<Value>, String>>()?;
        let Type::Struct(structure) = item else { return Err("expected numbers".into()) };
        let each = Value::Struct(structure.clone(), Arc::new(numbers));
        let model = self.adoption.spec.model();
        let state = State::fresh(model);
        let value = expression.value(&Env { each: Some(&each), ..Env::new(model, &state, None, None) });
        take.conversion.of(&Tree::of(&value), ty, key)
    }

    fn put(
        &mut self,
        take: &Take,
        field: &Field,
        keys: &[Option<String>],
        key: Option<&Key>,
        all: &[Found<'_>],
        values: &mut Values,
    ) {
        let path = all.iter().map(|found| found.at.join(".")).collect::<Vec<_>>().join(", ");
        let keys: Vec<Arc<str>> = keys.iter().flatten().map(|key| key.as_str().into()).collect();
        let Made { tree: value, unused } = match self.made(take, take.ty(field), key, all) {
            Ok(made) => made,
            Err(why) => return self.report.refused.push((path, why)),
        };
        let mut name = SavedName::of(&field.name().into(), keys.iter().cloned());
        name.inside = take.members.iter().map(|member| format!(".{member}")).collect();
        // Two old names for one entry: nobody can say which value is meant.
        if let Some((other, was)) = self.filled.get(&name.to_string()) {
            if *was != value {
                let why = format!("{name} has the value of {other} already, and it is another one");
                self.report.refused.push((path, why));
            }
            return;
        }
        self.filled.insert(name.to_string(), (path.clone(), value.clone()));
        self.make(field, &keys);
        self.unused
            .extend(unused.into_iter().map(|inside| all[0].at.iter().cloned().chain(inside).collect::<Vec<_>>()));
        self.report.taken.push(Taken { path, name, value: value.clone() });
        let names = [field.name().into()].into_iter().chain(keys).chain(take.members.iter().cloned());
        place_entry(values, &names.collect::<Vec<Arc<str>>>(), value);
    }

    /// Makes the keys of open sets that have to be made.
    fn make(&mut self, field: &Field, keys: &[Arc<str>]) {
        let model = self.adoption.spec.model();
        for (axis, key) in field.axes().iter().zip(keys).filter(|(axis, _)| model.is_open(**axis)) {
            self.made.entry(model.axis_word(*axis).into()).or_default().insert(key.clone());
        }
    }

    /// Lists what the old saves call each key of an axis: one may have several names, in several places of the save.
    fn old_names(&self, axis: &str) -> Vec<Vec<String>> {
        let known = key_names(self.adoption.spec.model(), axis).map(|known| known.names).unwrap_or_default();
        let named = self.adoption.map.names.get(axis);
        let old = |now: &str| -> Vec<String> {
            let olds = named.into_iter().flatten().filter(|(_, name)| **name == now);
            olds.map(|(old, _)| old.clone()).collect()
        };
        let names = |now: &str| Some(old(now)).filter(|olds| !olds.is_empty()).unwrap_or_else(|| vec![now.to_owned()]);
        known.into_iter().map(names).collect()
    }

    /// Of the names of a key the one that the list has, or the first.
    fn one_name(&self, take: &Take, axis: &str, names: Vec<String>, found: &Found<'_>) -> Option<String> {
        let items: &[Tree] = if let Tree::List(items) = found.tree { items } else { &[] };
        let has = |name: &&String| {
            let key = self.key(axis, name).map(|(_, key)| key);
            take.conversion.asks_items() && items.iter().any(|item| take.conversion.names_item(item, key.as_ref()))
        };
        names.iter().find(has).or(names.first()).cloned()
    }

    /// The key that an old name means.
    fn key(&self, axis: &str, old: &str) -> Option<(String, Key)> {
        let known = key_names(self.adoption.spec.model(), axis)?;
        let named = self.adoption.map.names.get(axis).and_then(|named| named.get(old));
        let name = named.map_or(old, String::as_str);
        let position = match (known.names.iter().position(|known| *known == name), known.closed) {
            (Some(position), _) if position < known.in_order => position + 1,
            (Some(_), _) | (None, false) => 0,
            (None, true) => return None,
        };
        Some((name.to_owned(), Key { old: old.to_owned(), position }))
    }
}

/// Every value of a tree that has nothing in it, by its place. An empty list or map is one.
pub(super) fn leaves(tree: &Tree, at: &mut Vec<String>, each: &mut impl FnMut(&[String])) {
    let inside = children(tree);
    if inside.is_empty() {
        if !at.is_empty() {
            each(at);
        }
        return;
    }
    for (name, tree) in inside {
        at.push(name);
        leaves(tree, at, each);
        at.pop();
    }
}
