//! Taking an origin from one version to the next, beside the values of its save.
//!
//! Amounts go the way of the values: a save in which a sum is one amount higher is migrated like any other, and what it is higher by
//! afterwards is the amount in the new version. So a renamed field, level or key, and a number that is multiplied, need no rule of their
//! own. What a step makes in another way lies between what the amounts come to and the value, and is noted when the save is loaded.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::origin::amount::Amount;
use crate::origin::paths::{named, path_of};
use crate::origin::{Amounts, EntryPath, InstallationId, SavedOrigin};
use vestigum_spec::migration::MigrationPlan;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::tree::{Tree, Values};

/// A version step, as far as origins ask for it.
pub(crate) struct OriginStep<'a> {
    pub plan: &'a MigrationPlan,
    pub new: &'a Model,
    /// The values of the save in the old version.
    pub values: &'a Values,
    /// Migrates values, and gives those of the new version.
    pub migrate: &'a dyn Fn(Values) -> Values,
}

impl OriginStep<'_> {
    /// The origin of the save in the new version.
    pub(crate) fn taken(&self, origin: &SavedOrigin) -> SavedOrigin {
        // The sums themselves are looked at one amount at a time.
        let amounts = [&origin.sums, &origin.run.pending].into_iter().chain(origin.claims.values());
        let mut values = self.values.clone();
        for path in amounts.flat_map(Amounts::keys).chain(origin.cut.keys()) {
            self.put(&mut values, path, Amount::Int(0));
        }
        OriginStep { values: &values, ..*self }.taken_by_amounts(origin)
    }

    fn taken_by_amounts(&self, origin: &SavedOrigin) -> SavedOrigin {
        let mut taken = SavedOrigin { from: origin.from.clone(), gone: origin.gone.clone(), ..SavedOrigin::default() };
        let zero = self.migrated(std::iter::empty());
        let amounts = |of: &Amounts| self.amounts(of, &zero);
        taken.sums = amounts(&origin.sums);
        taken.run = origin.run.clone();
        taken.run.pending = amounts(&origin.run.pending);
        taken.claims = origin.claims.iter().map(|(visit, of)| (visit.clone(), amounts(of))).collect();
        for (path, cut) in &origin.cut {
            for (dot, amount) in cut {
                for (path, amount) in self.moved(&[(path.clone(), *amount)].into(), &zero) {
                    taken.cut.entry(path).or_default().insert(dot.clone(), amount);
                }
            }
        }
        for (path, rows) in &origin.rows {
            if let Some(path) = self.renamed(path) {
                taken.rows.insert(path, rows.clone());
            }
        }
        for (path, changes) in &origin.changed {
            if let Some(path) = self.renamed(path) {
                taken.changed.insert(path, changes.clone());
            }
        }
        taken
    }

    fn amounts(&self, of: &Amounts, zero: &BTreeMap<EntryPath, Amount>) -> Amounts {
        let mut ids: Vec<&InstallationId> = of.values().flat_map(BTreeMap::keys).collect();
        ids.sort_unstable();
        ids.dedup();
        let mut taken = Amounts::new();
        for id in ids {
            let given = of.iter().filter_map(|(path, of)| Some((path.clone(), *of.get(id)?))).collect();
            for (path, amount) in self.moved(&given, zero) {
                taken.entry(path).or_default().insert(id.clone(), amount);
            }
        }
        // A sum that has amounts, and be it none, has a value.
        for path in of.keys().filter_map(|path| self.renamed(path)) {
            taken.entry(path).or_default();
        }
        taken
    }

    /// Returns some amounts as they are in the new version.
    fn moved(
        &self,
        given: &BTreeMap<EntryPath, Amount>,
        zero: &BTreeMap<EntryPath, Amount>,
    ) -> BTreeMap<EntryPath, Amount> {
        let nothing = Amount::Int(0);
        let mut moved: BTreeMap<EntryPath, Amount> = BTreeMap::new();
        // What was taken is migrated as if it had been given: values below their range are brought inside on the way.
        for gave in [true, false] {
            let of_sign = given.iter().filter(|(_, amount)| amount.compared(nothing).is_gt() == gave);
            let of_sign =
                of_sign.map(|(path, amount)| (path.clone(), if gave { *amount } else { nothing.minus(*amount) }));
            let with = self.migrated(of_sign);
            let paths: BTreeSet<&EntryPath> = with.keys().chain(zero.keys()).collect();
            for path in paths {
                let [with, without] = [&with, zero].map(|of| of.get(path).copied().unwrap_or(nothing));
                let change = if gave { with.minus(without) } else { without.minus(with) };
                if !change.is_zero() {
                    let known = moved.get(path).copied().unwrap_or(nothing);
                    moved.insert(path.clone(), if known.is_zero() { change } else { known.plus(change) });
                }
            }
        }
        moved
    }

    /// The numbers of the save in the new version, if these entries are their defaults and that much.
    fn migrated(&self, amounts: impl Iterator<Item = (EntryPath, Amount)>) -> BTreeMap<EntryPath, Amount> {
        let mut values = self.values.clone();
        for (path, amount) in amounts {
            self.put(&mut values, &path, amount);
        }
        let mut numbers = BTreeMap::new();
        for (name, tree) in &(self.migrate)(values) {
            if let Some(field) = self.new.find_field(name) {
                let default = Amount::of(&field.default, &field.ty);
                collect(name, &mut Vec::new(), tree, default, &mut numbers);
            }
        }
        numbers
    }

    /// Makes an entry its default and that much.
    fn put(&self, values: &mut Values, path: &str, amount: Amount) {
        let names = named(path);
        if let Some(field) = names.first().and_then(|name| self.plan.old.find_field(name)) {
            put(values, &names, Amount::of(&field.default, &field.ty).plus(amount).tree());
        }
    }

    /// Returns the path of an entry, or of an item in it, in the new version.
    fn renamed(&self, path: &EntryPath) -> Option<EntryPath> {
        let names = named(path);
        let (first, rest) = names.split_first()?;
        let old = &*self.plan.old;
        if let Some(set) = first.strip_prefix(':') {
            let index = old.key_sets.iter().position(|known| *known.name == *set)?;
            let now = self.plan.names.sets[index]?;
            let key = self.plan.names.key(index as u32, rest.first()?)?;
            return Some(path_of(&format!(":{}", self.new.key_sets[now as usize].name), &[key]));
        }
        let was = old.find_field(first)?;
        let is = self.new.fields.iter().zip(&self.plan.fields).find(|(_, plan)| plan.carried == Some(was.id))?.0;
        let keys = self.keys(was, is, rest)?;
        Some(path_of(&is.name, &keys))
    }

    fn keys(&self, was: &Field, is: &Field, names: &[Arc<str>]) -> Option<Vec<Arc<str>>> {
        if was.axes.len() != is.axes.len() {
            return None;
        }
        let (old, map) = (&*self.plan.old, &self.plan.names);
        let mut names = names.iter();
        let mut keys = Vec::new();
        for axis in &was.axes {
            let name = names.next()?;
            match axis {
                Axis::Level => keys.push(self.level(name)?),
                Axis::Checkpoint => {
                    let level = old.find_level(name).ok()?;
                    keys.push(self.level(name)?);
                    keys.push(map.checkpoint(old, self.new, level, names.next()?)?);
                }
                Axis::Keys(set) => keys.push(map.key(*set, name)?),
            }
        }
        // What is left is an item inside the value.
        keys.extend(names.cloned());
        Some(keys)
    }

    fn level(&self, name: &str) -> Option<Arc<str>> {
        let level = self.plan.old.find_level(name).ok()?;
        let now = self.plan.names.levels[level as usize]?;
        Some(self.new.level(now).id.clone())
    }
}

fn put(values: &mut Values, names: &[Arc<str>], tree: Tree) {
    match names {
        [] => {}
        [last] => drop(values.insert(last.clone(), tree)),
        [first, rest @ ..] => {
            if let Tree::Map(inner) = values.entry(first.clone()).or_insert_with(|| Tree::Map(Values::new())) {
                put(inner, rest, tree);
            }
        }
    }
}

/// Collects all numbers below a value, without the default.
fn collect(
    field: &str,
    keys: &mut Vec<Arc<str>>,
    tree: &Tree,
    default: Amount,
    numbers: &mut BTreeMap<EntryPath, Amount>,
) {
    match tree {
        Tree::Map(entries) => {
            for (name, tree) in entries {
                keys.push(name.clone());
                collect(field, keys, tree, default, numbers);
                keys.pop();
            }
        }
        Tree::Int(_) | Tree::Float(_) => {
            let amount = Amount::of_tree(tree).unwrap_or(default).minus(default);
            numbers.insert(path_of(field, keys), amount);
        }
        Tree::Null | Tree::Bool(_) | Tree::Text(_) | Tree::List(_) => {}
    }
}
