//! Compiled expressions.

use std::sync::Arc;

use crate::model::Readable;
use crate::model::axis::MadeKeys;
use crate::model::field::{Field, FieldId};
use crate::model::node::Node;
use crate::value::Value;
use crate::value::types::Type;
use crate::vocabulary::names::key_text;

/// A checked expression.
#[derive(Clone, Debug)]
pub struct Expression {
    pub(crate) source: Arc<str>,
    /// Says what it is made of.
    pub node: Node,
    pub(crate) ty: Type,
    /// The first name that means the level's entry.
    pub(crate) needs_level: Option<Arc<str>>,
    pub(crate) reads: Vec<FieldId>,
    /// The derived values that it reads, directly or through others, in the order of the spec.
    pub derived: Arc<[u32]>,
    /// The parts of a condition; one, for any other expression.
    pub parts: Arc<Parts>,
}

/// A condition in parts, for messages that tell which of them failed.
#[derive(Clone, Debug)]
pub struct Parts {
    /// The parts, in the order of the text.
    pub all: Vec<Part>,
    /// Says how they hang together.
    pub clause: Clause,
}

/// Describes how the parts of a condition hang together.
#[derive(Clone, Debug)]
pub enum Clause {
    /// One part.
    Part(usize),
    /// All of them must hold: `and`.
    All(Vec<Clause>),
    /// One of them must hold: `or`.
    Any(Vec<Clause>),
}

/// A part of a condition that `and` or `or` joins to the others.
#[derive(Clone, Debug)]
pub struct Part {
    /// As it was written.
    pub source: Arc<str>,
    /// Says what it is made of.
    pub node: Node,
    /// The names in it, each with what it reads.
    pub leaves: Vec<(Arc<str>, Node)>,
    /// The fields that it reads.
    pub reads: Vec<FieldId>,
}

impl Expression {
    /// The expression as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Returns what it is made of.
    pub fn node(&self) -> &Node {
        &self.node
    }

    /// The type of its value.
    pub fn ty(&self) -> &Type {
        &self.ty
    }

    /// Returns whether it reads a per-level name without a key, so that it means something only where there is a level.
    pub fn needs_level(&self) -> bool {
        self.needs_level.is_some()
    }

    /// The name in it that means nothing outside a level, if there is one.
    pub fn name_that_needs_level(&self) -> Option<&str> {
        self.needs_level.as_deref()
    }

    /// The derived values that it reads, directly or through others.
    pub fn derived(&self) -> &[u32] {
        &self.derived
    }

    /// The fields that it reads, each once.
    pub fn reads(&self) -> &[FieldId] {
        &self.reads
    }

    /// Its literals.
    pub(crate) fn literals(&self) -> Vec<Value> {
        let mut literals = Vec::new();
        self.node.each_literal(&mut |value| literals.push(value.clone()));
        literals
    }

    /// Returns whether it depends on the level or the checkpoint that is meant.
    pub fn speaks_of_place(&self, spec: &Readable) -> bool {
        let derived = self.derived.iter().map(|index| &spec.derived[*index as usize].expression.node);
        derived.chain([&self.node]).any(|node| node.speaks_of_place(spec))
    }
}

/// An entry as expressions name it: `best_letters[mill_lane]`, or the field alone.
pub fn entry_text(spec: &Readable, field: &Field, slot: usize, made: &MadeKeys) -> String {
    let keys: Vec<String> =
        spec.entry_names(field, slot, made).iter().map(|name| key_text(name).into_owned()).collect();
    if keys.is_empty() { field.name.to_string() } else { format!("{}[{}]", field.name, keys.join(", ")) }
}
