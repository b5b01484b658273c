//! How an expression uses a number: whether all it does is to compare it with constants.

use crate::model::field::FieldId;
use crate::model::node::Node;
use crate::value::Value;

/// Describes what an expression asks of an int field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asks {
    /// Nothing.
    Nothing,
    /// It compares the field with constants; this one is the highest.
    Compares(i64),
    /// It needs the value itself.
    TheValue,
}

impl Asks {
    /// Returns what both ask.
    #[must_use]
    pub fn and(self, other: Asks) -> Asks {
        match (self, other) {
            (Asks::TheValue, _) | (_, Asks::TheValue) => Asks::TheValue,
            (Asks::Nothing, other) | (other, Asks::Nothing) => other,
            (Asks::Compares(one), Asks::Compares(other)) => Asks::Compares(one.max(other)),
        }
    }
}

/// Returns what a node asks of a field. Derived values in it are nodes of their own.
pub fn asks(node: &Node, field: FieldId) -> Asks {
    if let Node::Binary(operator, left, right) = node
        && operator.is_comparison()
    {
        match (&**left, &**right) {
            (Node::Read(_, read, _), Node::Const(Value::Int(constant)))
            | (Node::Const(Value::Int(constant)), Node::Read(_, read, _))
                if *read == field =>
            {
                return Asks::Compares(*constant);
            }
            _ => {}
        }
    }
    if let Node::Read(_, read, _) | Node::Filled(read, _) | Node::Aggregate(_, read) = node
        && *read == field
    {
        return Asks::TheValue;
    }
    let mut all = Asks::Nothing;
    node.any_part(&mut |part| {
        all = all.and(asks(part, field));
        false
    });
    all
}
