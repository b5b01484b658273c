//! Tables of thresholds: stars for letters, ranks for experience, medals for times.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::value::{Value, below};

/// A table of thresholds.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Table {
    #[doc(hidden)]
    pub name: Arc<str>,
    /// The steps of every level that has none of its own, and where no level is meant. They ascend.
    #[doc(hidden)]
    pub steps: Vec<Value>,
    /// The steps of levels that have their own.
    #[doc(hidden)]
    pub of_levels: FxHashMap<u32, Vec<Value>>,
    /// Whether low is good, as with times.
    #[doc(hidden)]
    pub falling: bool,
    /// Whether the steps are floats.
    #[doc(hidden)]
    pub float: bool,
}

/// More steps than this are a mistake.
pub const MAX_STEPS: usize = 10_000;

impl Table {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The steps that count in a level.
    pub fn steps(&self, level: Option<u32>) -> &[Value] {
        level.and_then(|level| self.of_levels.get(&level)).unwrap_or(&self.steps)
    }

    /// Returns how many steps `x` has reached; in a falling table how many it stays at or under.
    #[doc(hidden)]
    pub fn grade(&self, x: &Value, level: Option<u32>) -> i64 {
        let steps = self.steps(level);
        let reached = if self.falling {
            steps.len() - steps.partition_point(|step| below(step, x))
        } else {
            steps.partition_point(|step| !below(x, step))
        };
        reached as i64
    }

    /// Returns how far `x` is past the last step it reached.
    #[doc(hidden)]
    pub fn past_step(&self, x: &Value, level: Option<u32>) -> Value {
        minus(x, &self.last(x, level))
    }

    /// Returns how far the next step is from the last one reached; 0 past the last step.
    #[doc(hidden)]
    pub fn needed(&self, x: &Value, level: Option<u32>) -> Value {
        match self.steps(level).get(self.grade(x, level) as usize) {
            Some(next) => minus(next, &self.last(x, level)),
            None => self.zero(),
        }
    }

    fn last(&self, x: &Value, level: Option<u32>) -> Value {
        let reached = self.grade(x, level) as usize;
        reached.checked_sub(1).map_or_else(|| self.zero(), |last| self.steps(level)[last].clone())
    }

    /// Returns whether some level has steps of its own.
    pub fn has_own_steps(&self) -> bool {
        !self.of_levels.is_empty()
    }

    fn zero(&self) -> Value {
        if self.float { Value::float(0.0) } else { Value::Int(0) }
    }

    /// Makes all steps floats if one of them is.
    pub(crate) fn widen(&mut self) {
        let float = |steps: &Vec<Value>| steps.iter().any(|step| matches!(step, Value::Float(_)));
        self.float = float(&self.steps) || self.of_levels.values().any(float);
        if self.float {
            let widen = |steps: &mut Vec<Value>| steps.iter_mut().for_each(|step| *step = step.clone().widened());
            widen(&mut self.steps);
            self.of_levels.values_mut().for_each(widen);
        }
    }

    /// The steps of a formula: the n-th step needs `first * times^(n-1) + add * (n-1)` more than the one before, rounded
    /// down.
    pub(crate) fn formula(first: f64, times: f64, add: f64, count: usize) -> Vec<Value> {
        let (mut total, mut factor) = (0i64, 1.0);
        let mut steps = Vec::with_capacity(count);
        for n in 0..count {
            let more = (first * factor + add * n as f64).floor();
            // A float beyond the range of an int is brought to its end.
            total = total.saturating_add(more as i64);
            steps.push(Value::Int(total));
            factor *= times;
        }
        steps
    }
}

fn minus(a: &Value, b: &Value) -> Value {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => Value::Int(a.saturating_sub(*b)),
        (a, b) => Value::float(a.as_float() - b.as_float()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ints(steps: &[i64]) -> Vec<Value> {
        steps.iter().copied().map(Value::Int).collect()
    }

    #[test]
    fn steps_are_counted_from_either_side() {
        let table = Table {
            name: "stars".into(),
            steps: ints(&[40, 80, 120]),
            of_levels: FxHashMap::default(),
            falling: false,
            float: false,
        };
        let ask = |x: i64| {
            let x = Value::Int(x);
            (table.grade(&x, None), table.past_step(&x, None).as_int(), table.needed(&x, None).as_int())
        };
        assert_eq!(
            [ask(0), ask(39), ask(40), ask(100), ask(120), ask(500)],
            [(0, 0, 40), (0, 39, 40), (1, 0, 40), (2, 20, 40), (3, 0, 0), (3, 380, 0)]
        );
        let times = Table { falling: true, ..table };
        let graded = [30, 40, 41, 120, 121].map(|x| times.grade(&Value::Int(x), None));
        assert_eq!(graded, [3, 3, 2, 1, 0]);
    }

    #[test]
    fn a_formula_adds_up() {
        assert_eq!(Table::formula(500.0, 1.0, 250.0, 4), ints(&[500, 1250, 2250, 3500]));
        assert_eq!(Table::formula(100.0, 1.5, 0.0, 3), ints(&[100, 250, 475]));
        assert_eq!(Table::formula(1e300, 2.0, 0.0, 2), ints(&[i64::MAX, i64::MAX]));
    }
}
