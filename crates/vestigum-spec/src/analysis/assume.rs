//! Whether a condition can hold at all, with its parts considered together.
//!
//! `bounds` looks at every operand alone. Here each part of a condition restricts the values that the other parts can have:
//! `stars >= 3 and stars < 2` cannot hold, though each part can. The restrictions are never too narrow, so a condition that
//! is reported as impossible never holds.

use std::cell::Cell;

use crate::analysis::bounds::{Bounds, FieldBounds, bounds};
use crate::model::Readable;
use crate::model::expression::Expression;
use crate::model::fates::Rule;
use crate::model::node::Node;
use crate::syntax::parse::Operator;
use crate::value::types::Type;
use crate::vocabulary::function::{Aggregate, TableFunction};

impl Expression {
    /// Returns whether it can hold if each field can have any value in its bounds.
    pub fn can_hold(&self, spec: &Readable, fields: &FieldBounds<'_>) -> bool {
        let before = fields.assumptions();
        let can = self.can_be(true, spec, fields);
        fields.take_back(before);
        can
    }

    /// Returns whether it can have this outcome under the assumptions made so far; if so, the outcome is assumed from then on.
    fn can_be(&self, holds: bool, spec: &Readable, fields: &FieldBounds<'_>) -> bool {
        let derived = self.derived_bounds(spec, fields);
        let assuming = Assuming { spec, fields, derived: &derived, budget: Cell::new(PARTS) };
        assuming.can(&self.node, holds)
    }
}

/// Returns whether the rule at a place in a list can be the first whose guard holds.
pub fn can_decide(rules: &[Rule], index: usize, spec: &Readable, fields: &FieldBounds<'_>) -> bool {
    let before = fields.assumptions();
    let can = assume_decided(rules, index, spec, fields);
    fields.take_back(before);
    can
}

/// Returns whether the rule at `index` can decide, as its guard and those before it read; what holds where it decides is assumed from then on.
pub fn assume_decided(rules: &[Rule], index: usize, spec: &Readable, fields: &FieldBounds<'_>) -> bool {
    // After a rule without a guard, no later rule can decide.
    let mut earlier = rules[..index].iter();
    let passed = earlier.all(|rule| rule.when.as_ref().is_some_and(|when| when.can_be(false, spec, fields)));
    passed && rules[index].when.as_ref().is_none_or(|when| when.can_be(true, spec, fields))
}

/// Returns whether a condition can have this outcome under the assumptions made so far; if so, the outcome is assumed from then on.
/// The node reads no derived values.
pub fn assume(node: &Node, holds: bool, spec: &Readable, fields: &FieldBounds<'_>) -> bool {
    Assuming { spec, fields, derived: &[], budget: Cell::new(PARTS) }.can(node, holds)
}

struct Assuming<'a> {
    spec: &'a Readable,
    fields: &'a FieldBounds<'a>,
    derived: &'a [(u32, Bounds)],
    /// Says how many parts may still be examined: a deeply nested condition would take too long.
    budget: Cell<usize>,
}

/// Up to here a float tells every int from its neighbours.
const EXACT: f64 = (1_u64 << 53) as f64;

/// The most parts of a condition that are examined.
const PARTS: usize = 20_000;

/// The parts of a row of `and`, or of a row of `or` that does not hold.
fn gather<'n>(node: &'n Node, holds: bool, parts: &mut Vec<&'n Node>) {
    match (node, holds) {
        (Node::Binary(Operator::And, left, right), true) | (Node::Binary(Operator::Or, left, right), false) => {
            gather(left, holds, parts);
            gather(right, holds, parts);
        }
        _ => parts.push(node),
    }
}

impl Assuming<'_> {
    fn bounds(&self, node: &Node) -> Bounds {
        bounds(node, self.spec, self.fields, self.derived)
    }

    /// Returns whether a condition can have this outcome under the assumptions made so far; if so, the outcome is assumed from then on.
    fn can(&self, node: &Node, holds: bool) -> bool {
        // A part that was not examined counts as possible.
        if self.budget.get() == 0 {
            return true;
        }
        self.budget.set(self.budget.get() - 1);
        let bounds = self.bounds(node);
        if !(if holds { bounds.can_hold() } else { bounds.can_fail() }) {
            return false;
        }
        match (node, holds) {
            (Node::Not(inner), _) => self.can(inner, !holds),
            (Node::Derived(index), _) => self.can(&self.spec.derived[*index as usize].expression.node, holds),
            (Node::Binary(Operator::And, ..), true) | (Node::Binary(Operator::Or, ..), false) => {
                let mut parts = Vec::new();
                gather(node, holds, &mut parts);
                // What a later part says may be more than an earlier one knew.
                (0..2).all(|_| parts.iter().all(|part| self.can(part, holds)))
            }
            (Node::Binary(Operator::And, left, right), false) | (Node::Binary(Operator::Or, left, right), true) => {
                let before = self.fields.assumptions();
                let can = |side: &Node| {
                    let can = self.can(side, holds);
                    self.fields.take_back(before);
                    can
                };
                match (can(left), can(right)) {
                    (true, true) => true,
                    // Where only one of them is left, it is assumed.
                    (true, false) => self.can(left, holds),
                    (false, true) => self.can(right, holds),
                    (false, false) => false,
                }
            }
            (Node::Binary(operator, left, right), _) => self.compared(*operator, holds, left, right),
            (Node::Read(..) | Node::Open(_) | Node::Filled(..) | Node::Has(..), _) => {
                self.fields.assume(node, Bounds::Truth { holds, fails: !holds });
                true
            }
            _ => true,
        }
    }

    /// Two sides whose comparison has this outcome.
    fn compared(&self, operator: Operator, holds: bool, left: &Node, right: &Node) -> bool {
        let Some(operator) = (if holds { Some(operator) } else { operator.opposite() }) else { return true };
        // Of texts and choices only what they are can be known, by the nodes of the comparison itself.
        if let (Bounds::Number(..) | Bounds::Any, Bounds::Number(..)) | (Bounds::Number(..), Bounds::Any) =
            (self.bounds(left), self.bounds(right))
        {
            return self.narrowed(operator, left, right);
        }
        self.told_apart(operator, left, right)
    }

    /// Numbers on both sides: each side is brought within what the other leaves it.
    fn narrowed(&self, operator: Operator, left: &Node, right: &Node) -> bool {
        let ((a, b), (c, d)) = (self.bounds(left).number(), self.bounds(right).number());
        // Bounds are floats, which do not tell ints apart that are as high: nothing is known of them.
        if [a, b, c, d].iter().any(|bound| bound.is_finite() && bound.abs() >= EXACT) {
            return true;
        }
        let whole = self.is_whole(left) && self.is_whole(right);
        let above = |x: f64| if whole { x.floor() + 1.0 } else { x.next_up() };
        let below = |x: f64| if whole { x.ceil() - 1.0 } else { x.next_down() };
        let ((a, b), (c, d)) = match operator {
            Operator::Above => ((a.max(above(c)), b), (c, d.min(below(b)))),
            Operator::AtLeast => ((a.max(c), b), (c, d.min(b))),
            Operator::Below => ((a, b.min(below(d))), (c.max(above(a)), d)),
            Operator::AtMost => ((a, b.min(d)), (c.max(a), d)),
            Operator::Equal => ((a.max(c), b.min(d)), (a.max(c), b.min(d))),
            // Where it is not the one number that is its lowest or highest, it is next to it.
            Operator::Unequal => {
                let beside = |(low, high): (f64, f64), (one, other): (f64, f64)| match one < other || other < one {
                    true => (low, high),
                    false => (
                        if low < one { low } else { low.max(above(one)) },
                        if high > one { high } else { high.min(below(one)) },
                    ),
                };
                (beside((a, b), (c, d)), beside((c, d), (a, b)))
            }
            Operator::And | Operator::Or | Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide => {
                return true;
            }
        };
        for (node, low, high) in [(left, a, b), (right, c, d)] {
            if low > high {
                return false;
            }
            if matches!(
                node,
                Node::Read(..)
                    | Node::Aggregate(..)
                    | Node::Derived(_)
                    | Node::Len(_)
                    | Node::Item(..)
                    | Node::Member(..)
            ) {
                self.fields.assume(node, Bounds::Number(low, high));
            }
        }
        true
    }

    /// A text or a choice and a literal: the same place cannot be two of them.
    fn told_apart(&self, operator: Operator, left: &Node, right: &Node) -> bool {
        let (place, literal) = match (left, right) {
            (Node::Const(_), place) => (place, left),
            (place, Node::Const(_)) => (place, right),
            _ => return true,
        };
        let equal = |literal: &Node| Node::Binary(Operator::Equal, Box::new(place.clone()), Box::new(literal.clone()));
        let key = equal(literal);
        let (is, known) = (operator == Operator::Equal, self.fields.assumed(&key));
        if !matches!(operator, Operator::Equal | Operator::Unequal) {
            return true;
        }
        if known.is_some_and(|known| !(if is { known.can_hold() } else { known.can_fail() })) {
            return false;
        }
        // That it is one of them says that it is not one of the others.
        if is && self.fields.is_assumed_other(place, literal) {
            return false;
        }
        self.fields.assume(&key, Bounds::Truth { holds: is, fails: !is });
        true
    }

    fn is_whole(&self, node: &Node) -> bool {
        is_whole(node, self.spec)
    }
}

/// Returns whether a node has only whole values.
pub fn is_whole(node: &Node, spec: &Readable) -> bool {
    let field = |id| spec.field(id).ty == Type::Int;
    match node {
        Node::Const(value) => matches!(value, crate::value::Value::Int(_)),
        Node::Read(_, id, _) => field(*id),
        Node::Aggregate(Aggregate::Count | Aggregate::Size, _) => true,
        Node::Aggregate(Aggregate::Sum | Aggregate::Highest | Aggregate::Lowest, id) => field(*id),
        Node::Derived(index) => spec.derived[*index as usize].expression.ty == Type::Int,
        Node::Table(TableFunction::Grade, ..) | Node::Len(_) | Node::LevelIndex | Node::CheckpointIndex => true,
        Node::Rounded(..) => true,
        Node::Negative(inner) => is_whole(inner, spec),
        _ => false,
    }
}
