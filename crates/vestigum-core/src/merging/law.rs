//! The laws: what becomes of one value that two sides may have changed, and of what their origins say of it.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use crate::contributing::changes::{better, counted, decoded};
use crate::origin::amount::Amount;
use crate::origin::paths::{item_path, key_path};
use crate::origin::{Amounts, Change, Changes, Dot, EntryPath, InstallationId, SavedOrigin};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::containers::Map;
use vestigum_spec::value::decode::decode;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::Type;
use vestigum_spec::vocabulary::merging::MergeLaw;

/// One side of a join: its origin, and the value of an entry as if the level had been given up.
#[derive(Clone, Copy)]
pub(super) struct Given<'a> {
    pub origin: &'a SavedOrigin,
    pub value: &'a Value,
}

/// One entry that is not a sum, on both sides.
pub(super) struct Register<'a> {
    pub field: &'a Field,
    pub law: MergeLaw,
    pub grows: bool,
    pub path: &'a EntryPath,
    pub sides: [Given<'a>; 2],
}

/// The amounts of sums: those of an installation come from the side that includes more of its saves.
pub(super) fn amounts(sides: [&SavedOrigin; 2], of: [&Amounts; 2]) -> Amounts {
    let [one, other] = sides;
    let mut joined = Amounts::new();
    for path in of[0].keys().chain(of[1].keys()) {
        if joined.contains_key(path) {
            continue;
        }
        let [ours, theirs] = of.map(|amounts| amounts.get(path));
        let mut known: BTreeMap<InstallationId, Amount> = BTreeMap::new();
        for id in [ours, theirs].into_iter().flatten().flat_map(BTreeMap::keys) {
            let [here, there] = [ours, theirs].map(|of| of.and_then(|of| of.get(id)).copied());
            let nothing = Amount::Int(0);
            let amount = match one.count(id).cmp(&other.count(id)) {
                Ordering::Greater => here.unwrap_or(nothing),
                Ordering::Less => there.unwrap_or(nothing),
                // Both say the same, apart from what migrations wrote: that is nobody's save.
                Ordering::Equal => here.unwrap_or(nothing).stronger(there.unwrap_or(nothing)),
            };
            if !amount.is_zero() {
                known.insert(id.clone(), amount);
            }
        }
        joined.insert(path.clone(), known);
    }
    joined
}

/// Keeps what both have, and what one has that the other has not seen.
pub(super) fn alive<T: Clone>(
    sides: [&SavedOrigin; 2],
    of: [&BTreeMap<Dot, T>; 2],
    both: impl Fn(&T, &T) -> T,
) -> BTreeMap<Dot, T> {
    let mut joined = BTreeMap::new();
    for (this, (mine, yours)) in [(0, (of[0], of[1])), (1, (of[1], of[0]))] {
        for (dot, what) in mine {
            match yours.get(dot) {
                Some(too) => drop(joined.entry(dot.clone()).or_insert_with(|| both(what, too))),
                None if !sides[1 - this].includes(dot) => drop(joined.insert(dot.clone(), what.clone())),
                None => {}
            }
        }
    }
    joined
}

/// Joins what the ends of ranges have cut off.
pub(super) fn cut(
    sides: [&SavedOrigin; 2],
    of: [&BTreeMap<EntryPath, BTreeMap<Dot, Amount>>; 2],
) -> BTreeMap<EntryPath, BTreeMap<Dot, Amount>> {
    let none = BTreeMap::new();
    let mut joined = BTreeMap::new();
    for path in of[0].keys().chain(of[1].keys()) {
        let both = of.map(|cut| cut.get(path).unwrap_or(&none));
        let cut = alive(sides, both, |one, other| one.stronger(*other));
        if !cut.is_empty() {
            joined.insert(path.clone(), cut);
        }
    }
    joined
}

/// The claims on visits, and up to which visit they were added to amounts.
pub(super) fn claims(sides: [&SavedOrigin; 2], out: &mut SavedOrigin) {
    for origin in sides {
        for (id, count) in &origin.gone {
            let gone = out.gone.entry(id.clone()).or_default();
            *gone = (*gone).max(*count);
        }
    }
    for origin in sides {
        for (visit, amounts) in &origin.claims {
            if out.is_gone(visit) {
                continue;
            }
            out.claim(visit, amounts);
        }
    }
}

impl Register<'_> {
    /// Joins the value. What is to be known of its changes goes to `out`.
    pub(super) fn joined(&self, out: &mut SavedOrigin) -> Value {
        match self.law {
            MergeLaw::Union if matches!(self.field.ty, Type::Map(_)) => self.map(out),
            MergeLaw::Union => self.items(out),
            MergeLaw::Newer if !self.grows => self.newer(out),
            MergeLaw::Max | MergeLaw::Min | MergeLaw::Newer | MergeLaw::Sum => self.record(out),
        }
    }

    fn origins(&self) -> [&SavedOrigin; 2] {
        self.sides.map(|side| side.origin)
    }

    /// The changes on one side, each with its value.
    fn changes(&self, side: Given<'_>) -> BTreeMap<Dot, (Change, Value)> {
        let changes = side.origin.changed.get(self.path).into_iter().flat_map(|changes| &changes.by);
        let with_value = changes.filter_map(|(dot, change)| {
            let value = match &change.value {
                None => side.value.clone(),
                Some(tree) => decoded(self.field, tree)?,
            };
            Some((dot.clone(), (change.clone(), value)))
        });
        with_value.collect()
    }

    /// The newer change counts. Which of two is the newer one never changes, so the others are not kept.
    fn newer(&self, out: &mut SavedOrigin) -> Value {
        let [one, other] = self.sides.map(|side| self.changes(side));
        let alive = alive(self.origins(), [&one, &other], |one, _| one.clone());
        let newest = alive
            .into_iter()
            .max_by(|(one, (of_one, _)), (other, (of_other, _))| (of_one.at, one).cmp(&(of_other.at, other)));
        match newest {
            Some((dot, (change, value))) => {
                let change = Change { value: None, ..change };
                out.changed.insert(self.path.clone(), Changes { by: [(dot, change)].into(), taken: None });
                value
            }
            None if one.is_empty() && other.is_empty() => self.plain(),
            None => self.field.default.clone(),
        }
    }

    /// A value that no change tells of, on both sides: the one that is not as at first, and the higher one of two.
    fn plain(&self) -> Value {
        let [one, other] = self.sides.map(|side| side.value);
        let is_first = |value: &Value| *value == self.field.default;
        match (is_first(one), is_first(other)) {
            (true, _) => other.clone(),
            (_, true) => one.clone(),
            (false, false) => one.max(other).clone(),
        }
    }

    /// The best of the changes that nobody has covered.
    fn record(&self, out: &mut SavedOrigin) -> Value {
        let of = self.sides.map(|side| side.origin.changed.get(self.path));
        let best = |one: Value, other: Value| if better(self.law, &other, &one) { other } else { one };
        if of.iter().all(Option::is_none) {
            let [one, other] = self.sides.map(|side| side.value.clone());
            return if self.grows { best(one, other) } else { self.plain() };
        }
        let taken = of.into_iter().flatten().filter_map(|changes| decoded(self.field, changes.taken.as_ref()?));
        let taken = taken.reduce(best);
        let [one, other] = self.sides.map(|side| self.changes(side));
        let plain_dot = Dot::before_all();
        let mut plain: Vec<Value> =
            [&one, &other].into_iter().filter_map(|of| Some(of.get(&plain_dot)?.1.clone())).collect();
        for (side, known) in self.sides.iter().zip(of) {
            if self.grows && known.is_none() {
                plain.push(side.value.clone());
            }
        }
        let plain = plain.into_iter().reduce(best);
        let plain = plain.filter(|plain| taken.as_ref().is_none_or(|taken| better(self.law, plain, taken)));
        let mut alive = alive(self.origins(), [&one, &other], |one, _| one.clone());
        alive.remove(&plain_dot);
        let shown = alive.values().map(|(_, value)| value.clone()).chain(plain.clone()).reduce(best);
        let shown = shown.unwrap_or_else(|| self.field.default.clone());
        if let Some(plain) = plain.filter(|_| !alive.is_empty() && self.grows) {
            alive.insert(plain_dot, (Change { times: 1, ..Change::default() }, plain));
        }
        let by = alive.into_iter().map(|(dot, (change, value))| {
            let value = (value != shown).then(|| Tree::of(&value));
            (dot, Change { value, ..change })
        });
        let changes = Changes { by: by.collect(), taken: taken.as_ref().map(Tree::of) };
        if !changes.by.is_empty() || changes.taken.is_some() {
            out.changed.insert(self.path.clone(), changes);
        }
        shown
    }

    /// Items of a set and rows of a ranking.
    fn items(&self, out: &mut SavedOrigin) -> Value {
        let times = self.sides.map(|side| counted(side.value));
        let mut items: Vec<&Value> = times[0].keys().collect();
        items.extend(times[1].keys().filter(|item| !times[0].contains_key(*item)));
        let mut kept = Vec::new();
        for item in items {
            let path = item_path(self.path, item);
            let there = [0, 1].map(|side| times[side].get(item).copied().unwrap_or(0));
            // Whatever a save says, a value holds no more than it may.
            let times = (self.item(&path, there, out) as usize).min(self.field.limits.max_len);
            kept.extend((0..times).map(|_| item.clone()));
        }
        match self.sides.map(|side| side.value) {
            [Value::List(_), _] | [_, Value::List(_)] => {
                let list = Value::List(kept.into_iter().collect());
                let list = self.field.limits.clamp(list).0;
                self.forget_rest(&list, out);
                list
            }
            [Value::Unfilled, Value::Unfilled] => Value::Unfilled,
            _ => Value::Set(kept.into_iter().collect()),
        }
    }

    /// Joins the changes of one item, and returns how often it is there.
    fn item(&self, path: &EntryPath, there: [u32; 2], out: &mut SavedOrigin) -> u32 {
        let plain_dot = Dot::before_all();
        let of = self.origins().map(|origin| origin.changed.get(path));
        if of.iter().all(Option::is_none) {
            return there[0].max(there[1]);
        }
        let taken = of.into_iter().flatten().any(|changes| changes.taken.is_some());
        let none = BTreeMap::new();
        let by = of.map(|changes| changes.map_or(&none, |changes| &changes.by));
        let mut plain = by.iter().filter_map(|by| by.get(&plain_dot)).map(|change| change.times).max();
        for (known, times) in of.into_iter().zip(there) {
            if known.is_none() && times > 0 {
                plain = plain.max(Some(times));
            }
        }
        let mut alive =
            alive(self.origins(), by, |one, other| Change { times: one.times.min(other.times), ..one.clone() });
        alive.remove(&plain_dot);
        if let Some(times) = plain.filter(|_| !taken) {
            alive.insert(plain_dot, Change { at: 0, times, value: None });
        }
        let times = alive.values().fold(0u32, |times, change| times.saturating_add(change.times));
        let taken = taken.then_some(Tree::Null);
        if !alive.is_empty() || taken.is_some() {
            out.changed.insert(path.clone(), Changes { by: alive, taken });
        }
        times
    }

    /// Rows that did not come into a ranking are gone: their changes are covered.
    fn forget_rest(&self, list: &Value, out: &mut SavedOrigin) {
        let kept = counted(list);
        for item in self.sides.iter().flat_map(|side| counted(side.value).into_keys()) {
            let mut over = {
                let path = item_path(self.path, &item);
                let Some(changes) = out.changed.get(&path) else { continue };
                let all = changes.by.values().fold(0u32, |all, change| all.saturating_add(change.times));
                all.saturating_sub(kept.get(&item).copied().unwrap_or(0))
            };
            let path = item_path(self.path, &item);
            let Some(changes) = out.changed.get_mut(&path) else { continue };
            while let Some(mut last) = changes.by.last_entry().filter(|_| over > 0) {
                let covered = last.get().times.min(over);
                over -= covered;
                last.get_mut().times -= covered;
                if last.get().times == 0 {
                    last.remove();
                }
            }
            if changes.by.is_empty() && changes.taken.is_none() {
                out.changed.remove(&path);
            }
        }
    }

    /// Merges the keys of a map: each is a value of its own, and the newer change counts. A key that one side took out stays if the other
    /// has written it since.
    fn map(&self, out: &mut SavedOrigin) -> Value {
        let empty = Map::default();
        let maps = self.sides.map(|side| if let Value::Map(map) = side.value { map } else { &empty });
        let mut joined = Map::default();
        let mut seen = BTreeSet::new();
        for key in maps[0].keys().chain(maps[1].keys()) {
            if !seen.insert(key.clone()) {
                continue;
            }
            let path = key_path(self.path, key);
            if let Some(value) = self.key(&path, maps.map(|map| map.get(key)), out) {
                joined.insert(key.clone(), value);
            }
        }
        if joined.is_empty() && self.sides.iter().all(|side| !side.value.is_filled()) {
            return Value::Unfilled;
        }
        Value::Map(joined)
    }

    fn key(&self, path: &EntryPath, there: [Option<&Value>; 2], out: &mut SavedOrigin) -> Option<Value> {
        let of = self.origins().map(|origin| origin.changed.get(path));
        let Type::Map(item) = &self.field.ty else { return None };
        if of.iter().all(Option::is_none) {
            return there.into_iter().flatten().max().cloned();
        }
        let with_values = |side: usize| -> BTreeMap<Dot, (Change, Value)> {
            let changes = of[side].into_iter().flat_map(|changes| &changes.by);
            let with_value = changes.filter_map(|(dot, change)| {
                let value = match &change.value {
                    None => there[side]?.clone(),
                    Some(tree) => decode(tree, item, "", &mut |_, _| {})?,
                };
                Some((dot.clone(), (change.clone(), value)))
            });
            with_value.collect()
        };
        let plain_dot = Dot::before_all();
        let [mut one, mut other] = [with_values(0), with_values(1)];
        for (side, changes) in [&mut one, &mut other].into_iter().enumerate() {
            if let (None, Some(value)) = (of[side], there[side]) {
                changes.insert(plain_dot.clone(), (Change { times: 1, ..Change::default() }, value.clone()));
            }
        }
        let taken = of.into_iter().flatten().any(|changes| changes.taken.is_some());
        let plain =
            [&one, &other].into_iter().filter_map(|of| of.get(&plain_dot).cloned()).max_by(|a, b| a.1.cmp(&b.1));
        let mut alive = alive(self.origins(), [&one, &other], |one, _| one.clone());
        alive.remove(&plain_dot);
        if let Some(plain) = plain.filter(|_| !taken) {
            alive.insert(plain_dot, plain);
        }
        let newest = alive
            .iter()
            .max_by(|(one, (of_one, _)), (other, (of_other, _))| (of_one.at, *one).cmp(&(of_other.at, *other)));
        let shown = newest.map(|(_, (_, value))| value.clone());
        let by = alive.into_iter().map(|(dot, (change, value))| {
            let value = (Some(&value) != shown.as_ref()).then(|| Tree::of(&value));
            (dot, Change { value, ..change })
        });
        let changes = Changes { by: by.collect(), taken: taken.then_some(Tree::Null) };
        if !changes.by.is_empty() || changes.taken.is_some() {
            out.changed.insert(path.clone(), changes);
        }
        shown
    }
}
