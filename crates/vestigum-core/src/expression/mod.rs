//! Expressions: one small language for openings, conditions, operands, derived values and expectations.
//!
//! An expression is read into a tree (`syntax`), checked against the spec (`compile`) and turned into nodes that are
//! evaluated against a state (`eval`). The language is total: an expression that was compiled has a value in every
//! state. Sums saturate, there is no division by anything but a literal, and an unfilled value reads as zero, `false` or
//! the empty text.

mod assume;
mod bounds;
mod calls;
mod compile;
mod entries;
mod eval;
mod monotone;
mod order;
mod parts;
mod restate;
mod syntax;
mod token;

use std::sync::Arc;

pub(crate) use assume::can_decide;
pub(crate) use bounds::{Bounds, FieldBounds};
pub(crate) use calls::Function;
pub(crate) use compile::{Scope, Target, compile, target};
pub(crate) use eval::Env;
use eval::{Entry, From, Node};
pub(crate) use monotone::Moves;
pub(crate) use restate::Restating;
pub(crate) use token::{Token, tokens};

use crate::spec::{Field, FieldId, MadeKeys, SpecData, key_text};
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
    /// The derived values that it reads, directly or through others, in the order of the spec.
    derived: Arc<[u32]>,
    parts: Arc<Parts>,
}

/// A condition in parts, for messages that tell which of them failed.
#[derive(Clone, Debug)]
struct Parts {
    all: Vec<Part>,
    clause: Clause,
}

/// An entry as expressions name it: `best_letters[mill_lane]`, or the field alone.
pub(crate) fn entry_text(spec: &SpecData, field: &Field, slot: usize, made: &MadeKeys) -> String {
    let keys: Vec<String> =
        spec.entry_names(field, slot, made).iter().map(|name| key_text(name).into_owned()).collect();
    if keys.is_empty() { field.name.to_string() } else { format!("{}[{}]", field.name, keys.join(", ")) }
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
    /// What is to be done for it, in words, where there are better ones than the condition.
    asks: Option<String>,
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

    /// The derived values that it reads, directly or through others.
    pub(crate) fn derived(&self) -> &[u32] {
        &self.derived
    }

    pub(crate) fn reads(&self) -> &[FieldId] {
        &self.reads
    }

    pub(crate) fn value(&self, env: &Env<'_>) -> Value {
        self.with_derived(env, |env| self.node.value(env))
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
        self.value(env).as_bool()
    }

    /// Which values it can have, if fields have those that are given.
    pub(crate) fn bounds(&self, spec: &SpecData, fields: &FieldBounds<'_>) -> Bounds {
        bounds::bounds(&self.node, spec, fields, &self.derived_bounds(spec, fields))
    }

    /// What it can be if every field can be anything in its range.
    pub(crate) fn bounds_in_ranges(&self, spec: &SpecData) -> Bounds {
        self.bounds(spec, &FieldBounds::new(&|field, _| Bounds::of_range(spec.field(field))))
    }

    fn derived_bounds(&self, spec: &SpecData, fields: &FieldBounds<'_>) -> Vec<(u32, Bounds)> {
        let mut known = Vec::with_capacity(self.derived.len());
        for index in &*self.derived {
            let node = &spec.derived[*index as usize].expression.node;
            known.push((*index, bounds::bounds(node, spec, fields, &known)));
        }
        known
    }

    /// Whether it depends on the level or the checkpoint that is meant.
    pub(crate) fn speaks_of_place(&self, spec: &SpecData) -> bool {
        let derived = self.derived.iter().map(|index| &spec.derived[*index as usize].expression.node);
        derived.chain([&self.node]).any(|node| node.speaks_of_place(spec))
    }

    /// The condition said again, as a playthrough can expect it behind the step at which it was judged.
    pub(crate) fn restated(&self, restating: Restating<'_>) -> Option<String> {
        self.with_derived(&restating.env, |env| Restating { env: *env, ..restating }.condition(&self.node))
    }

    /// How its value moves when more levels are open.
    pub(crate) fn moves(&self, spec: &SpecData) -> Moves {
        let mut known = Vec::with_capacity(self.derived.len());
        for index in &*self.derived {
            known.push((*index, monotone::moves(&spec.derived[*index as usize].expression.node, spec, &known)));
        }
        monotone::moves(&self.node, spec, &known)
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

    /// The parts that can never hold.
    pub(crate) fn impossible(&self, spec: &SpecData, fields: &FieldBounds<'_>) -> Vec<&str> {
        let derived = self.derived_bounds(spec, fields);
        let never = self.parts.all.iter().filter(|part| !bounds::bounds(&part.node, spec, fields, &derived).can_hold());
        never.map(|part| &*part.source).collect()
    }

    /// What is missing before the condition holds, in words; nothing if it holds.
    pub(crate) fn missing(&self, env: &Env<'_>) -> Option<String> {
        let mut judged = self.judge(env);
        // What is to be completed is said with the title of the level.
        for (part, judged) in self.parts.all.iter().zip(&mut judged) {
            if let Node::Read(From::Now, field, Entry::Slot(slot)) = &part.node
                && *field == env.spec.completed
            {
                let level = (slot - env.spec.field(*field).first_slot) as u32;
                judged.asks = Some(format!("complete {} first", env.spec.level(level).title()));
            }
        }
        self.parts.clause.missing(&judged)
    }

    /// Every part of the condition with the values in it.
    pub(crate) fn judge(&self, env: &Env<'_>) -> Vec<Judged> {
        self.with_derived(env, |env| {
            let judged = self.parts.all.iter().map(|part| Judged {
                part: part.source.to_string(),
                holds: part.node.value(env).as_bool(),
                values: part.leaves.iter().map(|(name, node)| (name.to_string(), node.value(env))).collect(),
                reads: part.reads.clone(),
                asks: None,
            });
            judged.collect()
        })
    }
}

impl Clause {
    fn missing(&self, parts: &[Judged]) -> Option<String> {
        match self {
            Clause::Part(index) => {
                let part = parts.get(*index).filter(|part| !part.holds)?;
                if let Some(asks) = &part.asks {
                    return Some(asks.clone());
                }
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
