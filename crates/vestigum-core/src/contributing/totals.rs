//! What amounts come to: the value of a sum, and what of it is pending.

use std::collections::BTreeMap;

use crate::origin::amount::Amount;
use crate::origin::{Dot, SavedOrigin};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;

impl SavedOrigin {
    /// Returns what the amounts of a sum come to, before the field's range: the default and what everybody gave, without what ranges
    /// have cut off.
    pub(crate) fn total(&self, field: &Field, path: &str) -> Amount {
        let mut total = Amount::of(&field.default, &field.ty);
        // In the order of the ids, so that sums of floats are the same everywhere.
        for amount in self.sums.get(path).into_iter().flat_map(BTreeMap::values) {
            total = total.plus(*amount);
        }
        for claim in self.claims.values() {
            for amount in claim.get(path).into_iter().flat_map(BTreeMap::values) {
                total = total.plus(*amount);
            }
        }
        let [high, low] = self.cut_off(field, path);
        total.minus(high).minus(low)
    }

    /// Returns what the ends of the range have cut off: at the upper end, and below 0 at the lower one.
    pub(crate) fn cut_off(&self, field: &Field, path: &str) -> [Amount; 2] {
        let zero = Amount::zero(&field.ty);
        self.cut.get(path).into_iter().flat_map(BTreeMap::values).fold([zero; 2], |[high, low], amount| {
            let is_more = |one: Amount, other: Amount| one.compared(other).is_gt();
            [if is_more(*amount, high) { *amount } else { high }, if is_more(low, *amount) { *amount } else { low }]
        })
    }

    /// Returns the value of a sum that the origin tells of: inside its range, and without a value where nobody gave anything to an
    /// optional field.
    pub(crate) fn sum(&self, field: &Field, path: &str) -> Value {
        if field.optional && !self.is_filled(path) {
            return Value::Unfilled;
        }
        field.limits.clamp(self.total(field, path).value()).0
    }

    /// Returns whether an optional sum has a value: somebody gave to it, and nobody has taken the value away since.
    fn is_filled(&self, path: &str) -> bool {
        match self.changed.get(path).filter(|changes| !changes.by.is_empty()) {
            // Every change says whether there is a value from then on.
            Some(changes) => changes.by.values().any(|change| change.value.is_none()),
            None => self.sums.contains_key(path) || self.claims.values().any(|claim| claim.contains_key(path)),
        }
    }

    /// Returns whether the claim of a visit was added to amounts already.
    pub(crate) fn is_gone(&self, visit: &Dot) -> bool {
        self.gone.get(&visit.by).is_some_and(|gone| visit.count <= *gone)
    }

    /// Returns what a sum has more inside the level than if it was given up now: what is pending and was not banked by anybody.
    pub(crate) fn pending(&self, field: &Field, path: &str) -> Amount {
        let zero = Amount::zero(&field.ty);
        let (Some(visit), Some(pending)) = (&self.run.visit, self.run.pending.get(path)) else { return zero };
        if self.is_gone(visit) {
            return zero;
        }
        let claimed = self.claims.get(visit).and_then(|claim| claim.get(path));
        pending.iter().fold(zero, |left, (id, amount)| match claimed.and_then(|claimed| claimed.get(id)) {
            None => left.plus(*amount),
            Some(claimed) if amount.compared(*claimed).is_gt() => left.plus(amount.minus(*claimed)),
            Some(_) => left,
        })
    }
}
