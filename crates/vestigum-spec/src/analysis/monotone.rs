//! How a value moves when the values that it reads move: whether a condition can stop holding when more levels are open, and whether it
//! can once it holds where what it reads never falls.
//!
//! Openings are judged together: every level whose condition holds becomes opened, and conditions may ask which levels are
//! open. If more open levels can never make a condition fail, the result does not depend on the order in which levels are
//! looked at. This walks an expression and tells how its value moves when more levels open; it errs on the side of `Both`.

use crate::model::Readable;
use crate::model::field::FieldId;
use crate::model::node::Node;
use crate::syntax::parse::Operator;
use crate::value::Value;
use crate::vocabulary::function::{Aggregate, TableFunction};

/// Describes how a value moves when more levels are open: `false` is below `true`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moves {
    /// It stays.
    Not,
    /// It stays or rises.
    Up,
    /// It stays or falls.
    Down,
    /// It may do either.
    Both,
}

impl Moves {
    fn and(self, other: Moves) -> Moves {
        match (self, other) {
            (Moves::Not, moves) | (moves, Moves::Not) => moves,
            (a, b) if a == b => a,
            _ => Moves::Both,
        }
    }

    fn turned(self) -> Moves {
        match self {
            Moves::Not => Moves::Not,
            Moves::Up => Moves::Down,
            Moves::Down => Moves::Up,
            Moves::Both => Moves::Both,
        }
    }

    /// The direction of a value computed from it by an operation that is not monotone.
    fn blurred(self) -> Moves {
        if self == Moves::Not { Moves::Not } else { Moves::Both }
    }
}

/// Tells how each field moves.
pub type FieldMoves<'a> = dyn Fn(FieldId) -> Moves + 'a;

/// Returns how the value of a node moves. `derived` are the movements of the derived values before.
pub fn moves(node: &Node, spec: &Readable, fields: &FieldMoves<'_>, derived: &[(u32, Moves)]) -> Moves {
    let of = |node: &Node| moves(node, spec, fields, derived);
    let all = |nodes: &[Node]| nodes.iter().map(of).fold(Moves::Not, Moves::and);
    match node {
        Node::Const(_) => Moves::Not,
        // Only an optional value can come and go.
        Node::Filled(field, _) if spec.field(*field).optional => fields(*field).blurred(),
        Node::Filled(..) => Moves::Not,
        Node::Read(_, field, _) => fields(*field),
        Node::Aggregate(over, field) => match over {
            Aggregate::Count | Aggregate::Sum | Aggregate::Highest | Aggregate::Lowest => fields(*field),
            Aggregate::Size => Moves::Not,
        },
        Node::Open(_) => fields(spec.opened),
        Node::Derived(index) => match derived.iter().find(|(known, _)| known == index) {
            Some((_, moves)) => *moves,
            None => Moves::Both,
        },
        Node::Before(inner) => of(inner).blurred(),
        Node::Wide(inner) | Node::Rounded(_, inner) => of(inner),
        Node::Not(inner) | Node::Negative(inner) => of(inner).turned(),
        Node::Binary(operator, left, right) => binary(*operator, (left, of(left)), (right, of(right))),
        Node::Chain(first, rest) => rest.iter().fold(of(first), |moved, (operator, node)| match operator {
            Operator::Minus => moved.and(of(node).turned()),
            Operator::Plus => moved.and(of(node)),
            Operator::Times
            | Operator::Divide
            | Operator::Or
            | Operator::And
            | Operator::Equal
            | Operator::Unequal
            | Operator::Below
            | Operator::AtMost
            | Operator::Above
            | Operator::AtLeast => moved.and(of(node)).blurred(),
        }),
        Node::If(branches) => {
            let [condition, yes, no] = &**branches;
            // Between two values that stand, it moves with the condition.
            if let (Node::Const(yes), Node::Const(no)) = (yes, no) {
                return if no <= yes { of(condition) } else { of(condition).turned() };
            }
            of(condition).blurred().and(of(yes)).and(of(no))
        }
        Node::Highest(nodes) | Node::Lowest(nodes) => all(nodes),
        Node::Table(TableFunction::Grade, inner, table, _) if spec.tables[*table as usize].falling => {
            of(inner).turned()
        }
        Node::Table(TableFunction::Grade, inner, ..) => of(inner),
        Node::Table(TableFunction::Into | TableFunction::Needed, inner, ..) => of(inner).blurred(),
        Node::Len(inner) | Node::Member(inner, ..) => of(inner).blurred(),
        Node::Has(left, right)
        | Node::Item(left, right, _)
        | Node::Items(_, left, right, _)
        | Node::Place(left, right, _) => of(left).and(of(right)).blurred(),
        // It moves with its container, which is looked at on its own.
        Node::Each => Moves::Not,
        Node::Make(nodes, _) => all(nodes).blurred(),
        Node::Level | Node::Checkpoint | Node::Exit | Node::LevelIndex | Node::CheckpointIndex => Moves::Not,
    }
}

fn binary(operator: Operator, (left, a): (&Node, Moves), (right, b): (&Node, Moves)) -> Moves {
    let sign = |node: &Node, moves: Moves| match node {
        Node::Const(value @ (Value::Int(_) | Value::Float(_))) if value.as_float() < 0.0 => moves.turned(),
        Node::Const(_) => moves,
        _ => moves.blurred(),
    };
    match operator {
        Operator::And | Operator::Or | Operator::Plus => a.and(b),
        Operator::Minus | Operator::Above | Operator::AtLeast => a.and(b.turned()),
        Operator::Below | Operator::AtMost => a.turned().and(b),
        Operator::Equal | Operator::Unequal => a.and(b).blurred(),
        Operator::Times if a == Moves::Not => sign(left, b),
        Operator::Times | Operator::Divide if b == Moves::Not => sign(right, a),
        Operator::Times | Operator::Divide => a.and(b).blurred(),
    }
}
