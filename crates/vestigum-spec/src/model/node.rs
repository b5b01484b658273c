//! What an expression is made of, once its names have a meaning.

use std::sync::Arc;

use crate::model::Readable;
use crate::model::field::FieldId;
use crate::syntax::parse::Operator;
use crate::value::Value;
use crate::value::ranking::Ranking;
use crate::value::types::Type;
use crate::vocabulary::function::{Aggregate, Rounding, TableFunction};

/// Describes which version of a value is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadAt {
    /// As it is now.
    Now,
    /// As it was when the level was entered.
    Entry,
    /// As it was at the last checkpoint.
    Checkpoint,
    /// Before the moment.
    Was,
}

/// Describes which entry of a field is read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EntryRef {
    /// The slot is known.
    Slot(usize),
    /// Some key is known only when it is read.
    Picked(Arc<[Pick]>),
}

/// Describes how one key of an entry is found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Pick {
    /// The key of that number.
    Fixed(u32),
    /// The level that the moment is about.
    Level,
    /// The checkpoint that the moment is about.
    Checkpoint,
    /// The key that `current` names.
    Current(u32),
    /// The key of that set of the entry that a migration fills.
    Filled(u32),
    /// A key of an open set, which may not have been made yet.
    Made(u32, Arc<str>),
}

/// Describes what a literal of several parts makes.
#[derive(Clone, Debug, PartialEq)]
pub enum Made {
    /// A list, set or vector.
    Items(Type),
    /// A struct or map, with the names of its parts.
    Named(Type, Arc<[Arc<str>]>),
}

/// An expression, with every name resolved.
#[derive(Clone, Debug, PartialEq)]
pub enum Node {
    /// A value that stands in the text.
    Const(Value),
    /// A field, or an entry of it.
    Read(ReadAt, FieldId, EntryRef),
    /// `filled`: whether an entry was written.
    Filled(FieldId, EntryRef),
    /// The value as it was before the moment, of what is more than one entry of a field.
    Before(Box<Node>),
    /// A function over all entries of a field.
    Aggregate(Aggregate, FieldId),
    /// A derived value.
    Derived(u32),
    /// The int as a float.
    Wide(Box<Node>),
    /// The float as an int.
    Rounded(Rounding, Box<Node>),
    /// `not`.
    Not(Box<Node>),
    /// A minus before a number.
    Negative(Box<Node>),
    /// Two parts and what is between them.
    Binary(Operator, Box<Node>, Box<Node>),
    /// Many sums and products in a row, from left to right.
    Chain(Box<Node>, Box<[(Operator, Node)]>),
    /// `if`: the condition, and both values.
    If(Box<[Node; 3]>),
    /// `max` of several values.
    Highest(Vec<Node>),
    /// `min` of several values.
    Lowest(Vec<Node>),
    /// `len`: how many characters or items.
    Len(Box<Node>),
    /// `has`: whether a container has an item.
    Has(Box<Node>, Box<Node>),
    /// The value under a key of a map or at a position of a list, which counts from 1; the zero of its type where there is none.
    Item(Box<Node>, Box<Node>, Type),
    /// Something of all items of a container: the container, what is taken of each item, and the type of the result.
    Items(Aggregate, Box<Node>, Box<Node>, Type),
    /// Says which place an entry would take in a ranking, counted from 1; 0 if it would not come in.
    Place(Box<Node>, Box<Node>, Arc<Ranking>),
    /// The item that is looked at, inside [`Node::Items`].
    Each,
    /// A member of a struct or a vector, and its range where it has one.
    Member(Box<Node>, Arc<str>, Option<Arc<(Value, Value)>>),
    /// A value of several parts, made to fit the type.
    Make(Vec<Node>, Made),
    /// A function of a table; with the level whose steps count, where that is not the level that is meant.
    Table(TableFunction, Box<Node>, u32, Option<u32>),
    /// Whether a level is open: the one given, or the moment's.
    Open(Option<u32>),
    /// `level`: the id of the level.
    Level,
    /// `checkpoint`: the name of the checkpoint.
    Checkpoint,
    /// The exit by which the level was completed; the empty text where none was named.
    Exit,
    /// `level_index`: the place of the level in `order`, from 1.
    LevelIndex,
    /// `checkpoint_index`: the place of the checkpoint in its level, from 1.
    CheckpointIndex,
}

impl Node {
    /// Returns whether the value depends on the level or the checkpoint that the moment is about.
    pub fn speaks_of_place(&self, spec: &Readable) -> bool {
        let placed = |pick: &Pick| matches!(pick, Pick::Level | Pick::Checkpoint);
        match self {
            Node::Read(_, _, EntryRef::Picked(picks)) | Node::Filled(_, EntryRef::Picked(picks)) => {
                picks.iter().any(placed)
            }
            Node::Level | Node::Checkpoint | Node::Exit => true,
            Node::LevelIndex | Node::CheckpointIndex | Node::Open(None) => true,
            Node::Table(_, inner, table, None) => {
                spec.tables[*table as usize].has_own_steps() || inner.speaks_of_place(spec)
            }
            _ => self.any_part(&mut |part| part.speaks_of_place(spec)),
        }
    }

    /// Replaces the parts of the node, if there is another for each of them.
    pub fn with_parts(&self, other: &mut dyn FnMut(&Node) -> Option<Node>) -> Option<Node> {
        let mut boxed = |node: &Node| other(node).map(Box::new);
        Some(match self {
            Node::Const(_)
            | Node::Read(..)
            | Node::Filled(..)
            | Node::Aggregate(..)
            | Node::Derived(_)
            | Node::Each
            | Node::Open(_)
            | Node::Level
            | Node::Checkpoint
            | Node::Exit
            | Node::LevelIndex
            | Node::CheckpointIndex => self.clone(),
            Node::Before(inner) => Node::Before(boxed(inner)?),
            Node::Wide(inner) => Node::Wide(boxed(inner)?),
            Node::Rounded(how, inner) => Node::Rounded(*how, boxed(inner)?),
            Node::Not(inner) => Node::Not(boxed(inner)?),
            Node::Negative(inner) => Node::Negative(boxed(inner)?),
            Node::Len(inner) => Node::Len(boxed(inner)?),
            Node::Member(inner, name, range) => Node::Member(boxed(inner)?, name.clone(), range.clone()),
            Node::Table(function, inner, table, level) => Node::Table(*function, boxed(inner)?, *table, *level),
            Node::Binary(operator, left, right) => Node::Binary(*operator, boxed(left)?, boxed(right)?),
            Node::Has(left, right) => Node::Has(boxed(left)?, boxed(right)?),
            Node::Place(left, right, order) => Node::Place(boxed(left)?, boxed(right)?, order.clone()),
            Node::Item(left, right, ty) => Node::Item(boxed(left)?, boxed(right)?, ty.clone()),
            Node::Items(over, left, right, ty) => Node::Items(*over, boxed(left)?, boxed(right)?, ty.clone()),
            Node::Chain(first, rest) => {
                let first = boxed(first)?;
                let rest = rest.iter().map(|(operator, node)| Some((*operator, other(node)?)));
                Node::Chain(first, rest.collect::<Option<_>>()?)
            }
            Node::If(branches) => {
                let [condition, yes, no] = &**branches;
                Node::If(Box::new([other(condition)?, other(yes)?, other(no)?]))
            }
            Node::Highest(nodes) => Node::Highest(nodes.iter().map(other).collect::<Option<_>>()?),
            Node::Lowest(nodes) => Node::Lowest(nodes.iter().map(other).collect::<Option<_>>()?),
            Node::Make(nodes, made) => Node::Make(nodes.iter().map(other).collect::<Option<_>>()?, made.clone()),
        })
    }

    /// Calls a function with every literal of the expression.
    pub fn each_literal(&self, tell: &mut dyn FnMut(&Value)) {
        match self {
            Node::Const(value) => tell(value),
            _ => {
                self.any_part(&mut |part| {
                    part.each_literal(tell);
                    false
                });
            }
        }
    }

    /// Returns whether a predicate holds for this node or a node inside it.
    pub fn any_part(&self, is_so: &mut dyn FnMut(&Node) -> bool) -> bool {
        match self {
            Node::Before(inner) | Node::Wide(inner) | Node::Not(inner) | Node::Negative(inner) | Node::Len(inner) => {
                is_so(inner)
            }
            Node::Rounded(_, inner) => is_so(inner),
            Node::Member(inner, ..) | Node::Table(_, inner, ..) => is_so(inner),
            Node::Binary(_, left, right)
            | Node::Has(left, right)
            | Node::Item(left, right, _)
            | Node::Place(left, right, _) => is_so(left) || is_so(right),
            Node::Items(_, left, right, _) => is_so(left) || is_so(right),
            Node::Chain(first, rest) => is_so(first) || rest.iter().any(|(_, node)| is_so(node)),
            Node::If(branches) => branches.iter().any(is_so),
            Node::Highest(nodes) | Node::Lowest(nodes) | Node::Make(nodes, _) => nodes.iter().any(is_so),
            Node::Const(_) | Node::Read(..) | Node::Filled(..) | Node::Aggregate(..) | Node::Derived(_) => false,
            Node::Open(_) | Node::Level | Node::Checkpoint | Node::LevelIndex | Node::CheckpointIndex => false,
            Node::Exit | Node::Each => false,
        }
    }
}
