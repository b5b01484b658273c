//! Evaluating a compiled expression, and judging the parts of a condition.

use crate::evaluation::Env;
use crate::evaluation::restate::Restating;
use crate::model::expression::Expression;
use crate::model::field::FieldId;
use crate::value::Value;

/// What became of one part of a condition.
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

impl Expression {
    pub(crate) fn value(&self, env: &Env<'_>) -> Value {
        self.with_derived(env, |env| self.node.value(env))
    }

    /// Whether the value is made of one that is not filled.
    pub(crate) fn reads_unfilled(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.is_unfilled(env))
    }

    /// Whether the value is made of the entry of a level, checkpoint or key that is meant and not there.
    pub(crate) fn lacks_entry(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.has_no_entry(env))
    }

    pub fn holds(&self, env: &Env<'_>) -> bool {
        self.value(env).as_bool()
    }

    /// The condition said again, as a playthrough can expect it behind the step at which it was judged.
    pub fn restated(&self, restating: Restating<'_>) -> Option<String> {
        self.with_derived(&restating.env, |env| Restating { env: *env, ..restating }.condition(&self.node))
    }

    /// Evaluates with each derived value worked out once, in the order of the spec, in which every one stands behind those
    /// that it reads.
    fn with_derived<T>(&self, env: &Env<'_>, evaluate: impl FnOnce(&Env<'_>) -> T) -> T {
        if self.derived.len() < 2 || !env.derived.is_empty() {
            return evaluate(env);
        }
        let mut known: Vec<(u32, Value)> = Vec::with_capacity(self.derived.len());
        for index in &*self.derived {
            let node = &env.spec.derived[*index as usize].expression.node;
            let value = node.value(&Env { derived: &known, ..*env });
            known.push((*index, value));
        }
        evaluate(&Env { derived: &known, ..*env })
    }

    /// Every part of the condition with the values in it.
    pub fn judge(&self, env: &Env<'_>) -> Vec<Judged> {
        self.with_derived(env, |env| {
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
