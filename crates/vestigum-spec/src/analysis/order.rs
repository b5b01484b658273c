//! Whether an expression is never below, or never above, the entry that a rule writes with it.
//!
//! `max(best, letters)` is never below `best`, and so is `if(letters > best, letters, best)`: a rule that sets a record
//! to one of them never lowers it. `max(lives - 1, 0)` is never above `lives`, which are never negative. This looks at
//! the expression and not at what play can do. A "yes" is proved; a "no" may only mean that no proof was found.

use crate::analysis::assume::assume_decided;
use crate::analysis::bounds::{Bounds, FieldBounds, bounds};
use crate::model::Readable;
use crate::model::axis::Axis;
use crate::model::expression::Expression;
use crate::model::fates::Rule;
use crate::model::field::{Field, FieldId};
use crate::model::node::{EntryRef, Node, Pick, ReadAt};
use crate::syntax::parse::Operator;
use crate::value::Value;

/// The order that is asked for between a value and the entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Side {
    NeverBelow,
    NeverAbove,
}

impl Expression {
    /// Returns whether the value is never below the entry of a field that a rule writes with it, where that rule of a list decides.
    pub fn is_never_below(&self, spec: &Readable, field: &Field, rules: &[Rule], index: usize) -> bool {
        self.stands(spec, field, rules, index, Side::NeverBelow)
    }

    /// Returns whether the value is never above the entry of a field that a rule writes with it, where that rule of a list decides.
    pub fn is_never_above(&self, spec: &Readable, field: &Field, rules: &[Rule], index: usize) -> bool {
        self.stands(spec, field, rules, index, Side::NeverAbove)
    }

    /// Returns whether the value depends on the entry that a rule writes.
    pub fn is_made_of(&self, spec: &Readable, field: &Field) -> bool {
        Ordered { spec, field, side: Side::NeverBelow, when: None, fields: None }.contains_entry(&self.node)
    }

    /// Returns whether the value is the entry that a rule writes, plus or minus something.
    pub fn is_sum_with(&self, spec: &Readable, field: &Field) -> bool {
        Ordered { spec, field, side: Side::NeverBelow, when: None, fields: None }.sums(&self.node)
    }

    /// Says whether it is nothing but this value.
    pub fn is_literal(&self, value: &Value) -> bool {
        matches!(&self.node, Node::Const(literal) if literal == value)
    }

    /// Returns whether it is written with a minus before it.
    pub fn is_negated(&self) -> bool {
        matches!(narrow(&self.node), Node::Negative(_))
    }

    fn stands(&self, spec: &Readable, field: &Field, rules: &[Rule], index: usize, side: Side) -> bool {
        let of = |field: FieldId, _| Bounds::of_range(spec.field(field));
        let fields = FieldBounds::new(&of);
        assume_decided(rules, index, spec, &fields);
        let when = rules.get(index).and_then(|rule| rule.when.as_ref()).map(|when| &when.node);
        Ordered { spec, field, side, when, fields: Some(&fields) }.holds(&self.node)
    }

    /// Returns whether the entry that a rule writes goes into a sum or a product that the value is made of: what is written so
    /// twice is counted twice.
    pub fn adds_to(&self, spec: &Readable, field: &Field) -> bool {
        Ordered { spec, field, side: Side::NeverBelow, when: None, fields: None }.adds(&self.node)
    }
}

struct Ordered<'a> {
    spec: &'a Readable,
    field: &'a Field,
    side: Side,
    /// Says what holds where the value is worked out.
    when: Option<&'a Node>,
    /// Says what fields can be there.
    fields: Option<&'a FieldBounds<'a>>,
}

impl Ordered<'_> {
    /// Returns whether a node reads the entry that the rule writes.
    fn is_entry(&self, node: &Node) -> bool {
        let Node::Read(ReadAt::Now, field, entry) = node else { return false };
        let own = |(axis, pick): (&Axis, &Pick)| match axis {
            Axis::Level => *pick == Pick::Level,
            Axis::Checkpoint => *pick == Pick::Checkpoint,
            Axis::Keys(set) => *pick == Pick::Current(*set),
        };
        *field == self.field.id
            && match entry {
                EntryRef::Slot(_) => self.field.axes.is_empty(),
                EntryRef::Picked(picks) => self.field.axes.iter().zip(picks.iter()).all(own),
            }
    }

    fn holds(&self, node: &Node) -> bool {
        let best = |nodes: &[Node], any: Side| match any == self.side {
            true => nodes.iter().any(|node| self.holds(node)),
            false => !nodes.is_empty() && nodes.iter().all(|node| self.holds(node)),
        };
        self.beyond_range(node)
            || self.when.is_some_and(|when| self.implied(when, true, node))
            || match node {
                Node::Read(..) => self.is_entry(node),
                Node::Wide(inner) => self.holds(inner),
                Node::Derived(index) => self.holds(&self.spec.derived[*index as usize].expression.node),
                Node::Highest(nodes) => best(nodes, Side::NeverBelow),
                Node::Lowest(nodes) => best(nodes, Side::NeverAbove),
                Node::If(branches) => {
                    let [condition, yes, no] = &**branches;
                    let can = self.bounds(condition);
                    (!can.can_hold() || self.holds(yes) || self.implied(condition, true, yes))
                        && (!can.can_fail() || self.holds(no) || self.implied(condition, false, no))
                }
                Node::Binary(operator, left, right) => self.sum(&[(Operator::Plus, left), (*operator, right)]),
                Node::Chain(first, rest) => {
                    let mut terms = vec![(Operator::Plus, &**first)];
                    terms.extend(rest.iter().map(|(operator, node)| (*operator, node)));
                    self.sum(&terms)
                }
                _ => false,
            }
    }

    /// A sum that contains the entry, where every other term has the same sign.
    fn sum(&self, terms: &[(Operator, &Node)]) -> bool {
        let one_way = |(operator, node): &(Operator, &Node)| {
            let (low, high) = self.bounds(node).number();
            match (operator, self.side) {
                (Operator::Plus, Side::NeverBelow) | (Operator::Minus, Side::NeverAbove) => low >= 0.0,
                (Operator::Plus, Side::NeverAbove) | (Operator::Minus, Side::NeverBelow) => high <= 0.0,
                _ => false,
            }
        };
        let entry = |(operator, node): &(Operator, &Node)| *operator == Operator::Plus && self.holds(node);
        (0..terms.len())
            .any(|at| entry(&terms[at]) && (0..terms.len()).all(|other| other == at || one_way(&terms[other])))
    }

    /// Returns whether a condition whose outcome is known orders the node and the entry.
    fn implied(&self, condition: &Node, holds: bool, node: &Node) -> bool {
        match (condition, holds) {
            (Node::Not(inner), _) => self.implied(inner, !holds, node),
            (Node::Binary(Operator::And, left, right), true) | (Node::Binary(Operator::Or, left, right), false) => {
                self.implied(left, holds, node) || self.implied(right, holds, node)
            }
            // A value that was compared may stand as a float beside one.
            (Node::Binary(operator, left, right), _) => {
                let said = if holds { Some(*operator) } else { operator.opposite() };
                let Some(said) = said else { return false };
                let (above, below) = match said {
                    Operator::Above | Operator::AtLeast => (true, false),
                    Operator::Below | Operator::AtMost => (false, true),
                    Operator::Equal => (true, true),
                    Operator::Unequal
                    | Operator::And
                    | Operator::Or
                    | Operator::Plus
                    | Operator::Minus
                    | Operator::Times
                    | Operator::Divide => (false, false),
                };
                let (left, right) = (narrow(left), narrow(right));
                let first = *left == *narrow(node) && self.is_entry(right);
                let second = *right == *narrow(node) && self.is_entry(left);
                match self.side {
                    Side::NeverBelow => (first && above) || (second && below),
                    Side::NeverAbove => (first && below) || (second && above),
                }
            }
            _ => false,
        }
    }

    fn sums(&self, node: &Node) -> bool {
        let term = |node: &Node| self.is_entry(node) || self.sums(node);
        match node {
            Node::Wide(inner) => term(inner),
            Node::Derived(index) => term(&self.spec.derived[*index as usize].expression.node),
            Node::Binary(Operator::Plus, left, right) => term(left) || term(right),
            Node::Binary(Operator::Minus, left, _) => term(left),
            Node::Chain(first, rest) => {
                let sum = rest.iter().all(|(operator, _)| matches!(operator, Operator::Plus | Operator::Minus));
                let plus = rest.iter().filter(|(operator, _)| *operator == Operator::Plus);
                sum && (term(first) || plus.map(|(_, node)| node).any(term))
            }
            _ => false,
        }
    }

    fn adds(&self, node: &Node) -> bool {
        let sums = |node: &Node| {
            let arithmetic = match node {
                Node::Binary(operator, ..) => {
                    matches!(operator, Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide)
                }
                Node::Chain(..) | Node::Negative(_) => true,
                _ => false,
            };
            arithmetic && self.contains_entry(node)
        };
        if let Node::Derived(index) = node {
            return self.adds(&self.spec.derived[*index as usize].expression.node);
        }
        // What a condition asks does not go into the value.
        if let Node::If(branches) = node {
            let [_, yes, no] = &**branches;
            return self.adds(yes) || self.adds(no);
        }
        sums(node) || node.any_part(&mut |part| self.adds(part))
    }

    fn contains_entry(&self, node: &Node) -> bool {
        match node {
            Node::Derived(index) => self.contains_entry(&self.spec.derived[*index as usize].expression.node),
            _ => self.is_entry(node) || node.any_part(&mut |part| self.contains_entry(part)),
        }
    }

    /// Returns whether no value of the field is on the other side, because of its range.
    fn beyond_range(&self, node: &Node) -> bool {
        let Some((lowest, highest)) = &self.field.limits.range else { return false };
        if self.field.optional {
            return false;
        }
        let (low, high) = self.bounds(node).number();
        // At the ends of what floats tell apart, two neighbouring ints are one number.
        let exact = |end: f64| end.abs() < (1_u64 << 53) as f64;
        match self.side {
            Side::NeverBelow => low >= highest.as_float() && exact(highest.as_float()),
            Side::NeverAbove => high <= lowest.as_float() && exact(lowest.as_float()),
        }
    }

    /// Returns what a node can be where the rule decides.
    fn bounds(&self, node: &Node) -> Bounds {
        self.fields.map_or(Bounds::Any, |fields| bounds(node, self.spec, fields, &[]))
    }
}

/// The node without a change of its type.
fn narrow(node: &Node) -> &Node {
    if let Node::Wide(inner) = node { inner } else { node }
}
