//! Expressions: one small language for openings, conditions, operands, derived values and expectations.
//!
//! An expression is read into a tree (`syntax`), checked against the spec (`compile`) and turned into nodes that are
//! evaluated against a state (`eval`). The language is total: an expression that was compiled has a value in every
//! state. Sums saturate, there is no division by anything but a literal, and an unfilled value reads as zero, `false` or
//! the empty text.

mod bounds;
mod calls;
mod compile;
mod entries;
mod eval;
mod syntax;
mod token;

use std::sync::Arc;

pub(crate) use bounds::Bounds;
pub(crate) use calls::FUNCTIONS;
pub(crate) use compile::{Scope, Target, compile, target};
pub(crate) use eval::Env;
use eval::Node;
pub(crate) use token::{Token, tokens};

use crate::spec::{FieldId, SpecData};
use crate::types::Type;
use crate::value::Value;

/// A checked expression.
#[derive(Clone, Debug)]
pub struct Expression {
    source: Arc<str>,
    node: Node,
    ty: Type,
    /// The first name that means the level's entry.
    needs_level: Option<Arc<str>>,
    reads: Vec<FieldId>,
    parts: Vec<Part>,
    clause: Clause,
}

/// How the parts of a condition hang together.
#[derive(Clone, Debug)]
enum Clause {
    Part(usize),
    All(Vec<Clause>),
    Any(Vec<Clause>),
}

/// A part of a condition that `and` or `or` joins to the others.
#[derive(Clone, Debug)]
struct Part {
    source: Arc<str>,
    node: Node,
    leaves: Vec<(Arc<str>, Node)>,
    reads: Vec<FieldId>,
}

/// What became of one part of a condition.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// The part as it was written.
    pub part: String,
    /// Whether it holds.
    pub holds: bool,
    /// The names in it and their values.
    pub values: Vec<(String, Value)>,
    pub(crate) reads: Vec<FieldId>,
}

impl Expression {
    /// The expression as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The type of its value.
    pub fn ty(&self) -> &Type {
        &self.ty
    }

    /// Whether it reads a per-level name without a key, so that it means something only where there is a level.
    pub fn needs_level(&self) -> bool {
        self.needs_level.is_some()
    }

    pub(crate) fn name_that_needs_level(&self) -> Option<&str> {
        self.needs_level.as_deref()
    }

    pub(crate) fn reads(&self) -> &[FieldId] {
        &self.reads
    }

    pub(crate) fn value(&self, env: &Env<'_>) -> Value {
        self.node.value(env)
    }

    /// The values that stand in it as such.
    pub(crate) fn literals(&self) -> Vec<Value> {
        let mut literals = Vec::new();
        self.node.each_literal(&mut |value| literals.push(value.clone()));
        literals
    }

    /// Whether the value is made of one that is not filled.
    pub(crate) fn reads_unfilled(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.is_unfilled(env))
    }

    /// Whether the value is made of the entry of a level, checkpoint or key that is meant and not there.
    pub(crate) fn lacks_entry(&self, env: &Env<'_>) -> bool {
        self.node.any_read(env, &|node| node.has_no_entry(env))
    }

    pub(crate) fn holds(&self, env: &Env<'_>) -> bool {
        self.node.value(env).as_bool()
    }

    /// Which values it can have, if fields have those that `of` says.
    pub(crate) fn bounds(&self, spec: &SpecData, of: &dyn Fn(FieldId, Option<usize>) -> Bounds) -> Bounds {
        bounds::bounds(&self.node, spec, of)
    }

    /// The parts that can never hold.
    pub(crate) fn impossible(&self, spec: &SpecData, of: &dyn Fn(FieldId, Option<usize>) -> Bounds) -> Vec<&str> {
        let never = self.parts.iter().filter(|part| !bounds::bounds(&part.node, spec, of).can_hold());
        never.map(|part| &*part.source).collect()
    }

    /// What is missing before the condition holds, in words; nothing if it holds.
    pub(crate) fn missing(&self, env: &Env<'_>) -> Option<String> {
        self.clause.missing(&self.judge(env))
    }

    /// Every part of the condition with the values in it.
    pub(crate) fn judge(&self, env: &Env<'_>) -> Vec<Judged> {
        let judged = self.parts.iter().map(|part| Judged {
            part: part.source.to_string(),
            holds: part.node.value(env).as_bool(),
            values: part.leaves.iter().map(|(name, node)| (name.to_string(), node.value(env))).collect(),
            reads: part.reads.clone(),
        });
        judged.collect()
    }
}

impl Clause {
    fn missing(&self, parts: &[Judged]) -> Option<String> {
        match self {
            Clause::Part(index) => {
                let part = parts.get(*index).filter(|part| !part.holds)?;
                // A name that is not true says so by being named.
                let has: Vec<String> = match &part.values[..] {
                    [(_, Value::Bool(_))] => Vec::new(),
                    [(_, value)] => vec![format!("has {value}")],
                    values => values.iter().map(|(name, value)| format!("{name} is {value}")).collect(),
                };
                let has = if has.is_empty() { String::new() } else { format!(", {}", has.join(", ")) };
                Some(format!("needs {}{has}", part.part))
            }
            Clause::All(clauses) => {
                let missing: Vec<String> = clauses.iter().filter_map(|clause| clause.missing(parts)).collect();
                (!missing.is_empty()).then(|| missing.join("; "))
            }
            Clause::Any(clauses) => {
                let missing: Option<Vec<String>> = clauses.iter().map(|clause| clause.missing(parts)).collect();
                missing.map(|missing| missing.join(", or "))
            }
        }
    }
}
