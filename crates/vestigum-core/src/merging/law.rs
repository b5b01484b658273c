//! The laws: what becomes of one value that two sides may have changed.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use crate::model::field::Field;
use crate::model::merging::FieldMerge;
use crate::value::containers::{List, Map, Set};
use crate::value::{Value, below};
use crate::vocabulary::merging::MergeLaw;

/// One value before, and on both sides.
pub(super) struct Changed<'a> {
    /// The base's, as if its level had been given up.
    pub banked: &'a Value,
    /// The base's.
    pub held: &'a Value,
    /// That of the side whose run stays.
    pub stays: &'a Value,
    /// That of the other side, as if its level had been given up.
    pub leaves: &'a Value,
    /// Whether the side whose run does not stay is the newer one.
    pub newer_leaves: bool,
}

impl Changed<'_> {
    fn newer(&self) -> &Value {
        if self.newer_leaves { self.leaves } else { self.stays }
    }

    /// Whether a value is one that the base had, in one of its forms.
    fn is_bases(&self, value: &Value) -> bool {
        value == self.banked || value == self.held
    }
}

/// What becomes of the value.
pub(super) fn merged(merge: FieldMerge, field: &Field, changed: &Changed<'_>) -> Value {
    let law = match merge {
        FieldMerge::Apart | FieldMerge::WithRun => return changed.stays.clone(),
        FieldMerge::Changed => MergeLaw::Newer,
        FieldMerge::By(law) => law,
    };
    if changed.leaves == changed.banked {
        return changed.stays.clone();
    }
    if changed.stays == changed.banked {
        return changed.leaves.clone();
    }
    match law {
        MergeLaw::Max => better(changed, |one, other| below(other, one)),
        MergeLaw::Min => better(changed, below),
        MergeLaw::Sum => gains(changed, &field.ty.zero()),
        MergeLaw::Union => united(field, changed),
        MergeLaw::Newer => newer(changed).clone(),
    }
}

/// The newer of two changed values; where one side only kept what the base held, the other one.
fn newer<'a>(changed: &'a Changed<'_>) -> &'a Value {
    match (changed.is_bases(changed.stays), changed.is_bases(changed.leaves)) {
        (true, false) => changed.leaves,
        (false, true) => changed.stays,
        (true, true) | (false, false) => changed.newer(),
    }
}

fn better(changed: &Changed<'_>, is_better: impl Fn(&Value, &Value) -> bool) -> Value {
    let Changed { stays, leaves, .. } = changed;
    match (stays.is_filled(), leaves.is_filled()) {
        (true, true) if is_better(leaves, stays) => (*leaves).clone(),
        (true, _) => (*stays).clone(),
        (false, _) => (*leaves).clone(),
    }
}

/// What the base had and the gains of both. What lies between the base's two forms is counted once: it was earned before
/// the sides parted.
fn gains(changed: &Changed<'_>, zero: &Value) -> Value {
    let Changed { stays, leaves, .. } = changed;
    match (stays.is_filled(), leaves.is_filled()) {
        (true, true) => {}
        (true, false) => return (*stays).clone(),
        (false, _) => return (*leaves).clone(),
    }
    let number = |value: &Value| if value.is_filled() { value.clone() } else { zero.clone() };
    match [number(changed.banked), number(changed.held), (*stays).clone(), (*leaves).clone()] {
        [Value::Int(banked), Value::Int(held), Value::Int(stays), Value::Int(leaves)] => {
            let (lowest, highest) = (banked.min(held), banked.max(held));
            let kept = |value: i64| value.clamp(lowest, highest);
            let further = if held < banked { kept(stays).min(kept(leaves)) } else { kept(stays).max(kept(leaves)) };
            let gain = |value: i64| i128::from(value) - i128::from(kept(value));
            let sum = i128::from(further) + gain(stays) + gain(leaves);
            Value::Int(i64::try_from(sum).unwrap_or(if sum < 0 { i64::MIN } else { i64::MAX }))
        }
        [banked, held, stays, leaves] => {
            let [banked, held, stays, leaves] = [banked, held, stays, leaves].map(|value| value.as_float());
            let (lowest, highest) = (banked.min(held), banked.max(held));
            let kept = |value: f64| value.clamp(lowest, highest);
            let further = if held < banked { kept(stays).min(kept(leaves)) } else { kept(stays).max(kept(leaves)) };
            Value::float(further + ((stays - kept(stays)) + (leaves - kept(leaves))))
        }
    }
}

fn united(field: &Field, changed: &Changed<'_>) -> Value {
    match (changed.banked, changed.stays, changed.leaves) {
        (base, Value::Set(stays), Value::Set(leaves)) => {
            let empty = Set::default();
            let base = if let Value::Set(base) = base { base } else { &empty };
            let kept = stays.iter().filter(|value| leaves.contains(value) || !base.contains(value));
            let came = leaves.iter().filter(|value| !base.contains(value));
            Value::Set(kept.chain(came).cloned().collect())
        }
        (base, Value::Map(stays), Value::Map(leaves)) => {
            let empty = Map::default();
            let base = if let Value::Map(base) = base { base } else { &empty };
            Value::Map(united_maps(base, stays, leaves, changed.newer_leaves))
        }
        (base, Value::List(stays), Value::List(leaves)) => {
            let empty = List::default();
            let base = if let Value::List(base) = base { base } else { &empty };
            let all = Value::List(united_lists(base, stays, leaves));
            field.limits.clamp(all).0
        }
        // A side that has no value any more.
        (_, Value::Unfilled, other) | (_, other, _) => other.clone(),
    }
}

/// Key by key: what one side left as it was is as on the other; what both changed as in the newer save, and what only one of
/// them took out stays.
fn united_maps(base: &Map, stays: &Map, leaves: &Map, newer_leaves: bool) -> Map {
    let keys = stays.keys().chain(leaves.keys().filter(|key| !stays.contains_key(key)));
    let merged = keys.filter_map(|key| {
        let (was, one, other) = (base.get(key), stays.get(key), leaves.get(key));
        let value = if one == was {
            other
        } else if other == was {
            one
        } else {
            match (one, other) {
                (Some(_), Some(other)) if newer_leaves => Some(other),
                (one, other) => one.or(other),
            }
        };
        Some((key.clone(), value?.clone()))
    });
    merged.collect()
}

/// How often each item is there: what either side added, and without what one of them took out.
fn united_lists(base: &List, stays: &List, leaves: &List) -> List {
    let mut counts: BTreeMap<&Value, [i64; 3]> = BTreeMap::new();
    for (at, list) in [base, stays, leaves].into_iter().enumerate() {
        for item in list {
            counts.entry(item).or_default()[at] += 1;
        }
    }
    let mut items = Vec::new();
    for (item, [was, stays, leaves]) in counts {
        let (one, other) = (stays - was, leaves - was);
        let change = match (one.cmp(&0), other.cmp(&0)) {
            (Ordering::Less, Ordering::Less) => one.min(other),
            (Ordering::Less, _) | (_, Ordering::Less) => one + other,
            (Ordering::Equal | Ordering::Greater, Ordering::Equal | Ordering::Greater) => one.max(other),
        };
        items.extend((0..was + change).map(|_| item.clone()));
    }
    items.into_iter().collect()
}
