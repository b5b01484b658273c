//! Evaluating a compiled expression, and judging the parts of a condition.

use crate::evaluation::restate::Restating;
use crate::evaluation::{Env, NodeValue};
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::value::Value;

/// Describes what became of one part of a condition.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// The part as it was written.
    pub part: String,
    /// Whether it holds.
    pub holds: bool,
    /// The names in it and their values.
    pub values: Vec<(String, Value)>,
    pub reads: Vec<FieldId>,
}

/// The value of a whole expression, and of the parts of a condition.
pub trait ExpressionValue {
    /// Works out the value.
    fn value(&self, env: &Env<'_>) -> Value;

    /// Returns whether the value is made of one that is not filled.
    fn reads_unfilled(&self, env: &Env<'_>) -> bool;

    /// Returns whether the value is made of the entry of a level, checkpoint or key that is meant and not there.
    fn lacks_entry(&self, env: &Env<'_>) -> bool;

    /// The condition said again, as a playthrough can expect it behind the step at which it was judged.
    fn restated(&self, restating: Restating<'_>) -> Option<String>;

    /// Every part of the condition with the values in it.
    fn judge(&self, env: &Env<'_>) -> Vec<Judged>;

    /// Returns whether the condition holds.
    fn holds(&self, env: &Env<'_>) -> bool {
        self.value(env).as_bool()
    }
}

impl ExpressionValue for Expression {
    fn value(&self, env: &Env<'_>) -> Value {
        with_derived(self, env, |env| self.node.value(env))
    }

    fn reads_unfilled(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.is_unfilled(env))
    }

    fn lacks_entry(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.has_no_entry(env))
    }

    fn restated(&self, restating: Restating<'_>) -> Option<String> {
        with_derived(self, &restating.env, |env| Restating { env: *env, ..restating }.condition(&self.node))
    }

    fn judge(&self, env: &Env<'_>) -> Vec<Judged> {
        with_derived(self, env, |env| {
            let judged = self.parts.all.iter().map(|part| Judged {
                part: part.source.to_string(),
                holds: part.node.value(env).as_bool(),
                values: part.leaves.iter().map(|(name, node)| (name.to_string(), node.value(env))).collect(),
                reads: part.reads.clone(),
            });
            judged.collect()
        })
    }
}

/// Evaluates with each derived value worked out once, in the order of the spec, in which every one stands behind those
/// that it reads.
fn with_derived<T>(expression: &Expression, env: &Env<'_>, evaluate: impl FnOnce(&Env<'_>) -> T) -> T {
    if expression.derived.len() < 2 || !env.derived.is_empty() {
        return evaluate(env);
    }
    let mut known: Vec<(u32, Value)> = Vec::with_capacity(expression.derived.len());
    for index in &*expression.derived {
        let node = &env.spec.derived[*index as usize].expression.node;
        let value = node.value(&Env { derived: &known, ..*env });
        known.push((*index, value));
    }
    evaluate(&Env { derived: &known, ..*env })
}
