//! Whether a condition holds, whatever the state is, given what is known of it.
//!
//! A "yes" is proved; a "no" may only mean that no proof was found. Reads of the state are unknowns inside their ranges: two
//! reads of the same entry at the same time are the same unknown.

use std::cell::{Cell, RefCell};

use vestigum_core::{Type, Value};
use vestigum_spec::analysis::assume::assume;
use vestigum_spec::analysis::bounds::{Bounds, FieldBounds, bounds};
use vestigum_spec::model::Model;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::node::Node;
use vestigum_spec::syntax::Operator;

use super::parts::in_parts;

/// Describes how much is thought about one question: a hostile spec must not decide how long a proof is looked for. A part of a condition
/// that is looked at costs one.
pub(super) struct Budget(Cell<usize>);

impl Default for Budget {
    fn default() -> Budget {
        Budget(Cell::new(20_000))
    }
}

impl Budget {
    /// Returns whether nothing is left for something of this cost.
    pub(super) fn is_spent_on(&self, cost: usize) -> bool {
        let left = self.0.get();
        self.0.set(left.saturating_sub(cost));
        left < cost
    }
}

/// Says what it costs to suppose something: it is held against all that is known.
const SUPPOSED: usize = 40;

/// The most facts with alternatives that are split together.
const SPLITS: usize = 3;

/// Describes what is known of the state.
pub(super) struct Known<'a> {
    pub(super) spec: &'a Model,
    fields: FieldBounds<'a>,
    pub(super) facts: RefCell<Vec<(Node, bool)>>,
    budget: &'a Budget,
    /// Set while the alternatives of facts are resolved.
    resolving: Cell<bool>,
}

impl<'a> Known<'a> {
    /// `ranges` tells what an entry of a field can be.
    pub(super) fn new(spec: &'a Model, fields: FieldBounds<'a>, budget: &'a Budget) -> Known<'a> {
        Known { spec, fields, facts: RefCell::default(), budget, resolving: Cell::new(false) }
    }

    /// From now on the condition has this outcome. Answers whether it can, with what is known.
    pub(super) fn suppose(&self, node: &Node, holds: bool) -> bool {
        // Not to know a thing is always sound.
        if self.budget.is_spent_on(SUPPOSED) {
            return true;
        }
        if self.proves(node, !holds) {
            return false;
        }
        self.learn(node, holds) && self.alternatives()
    }

    /// Takes a fact in, and the parts that it consists of. Answers whether it can be so, with what is known.
    fn learn(&self, node: &Node, holds: bool) -> bool {
        match (node, holds) {
            (Node::Not(inner), _) => return self.learn(inner, !holds),
            (Node::Binary(Operator::And, left, right), true) | (Node::Binary(Operator::Or, left, right), false) => {
                return self.learn(left, holds) && self.learn(right, holds);
            }
            _ => {}
        }
        if self.is_spent() {
            return true;
        }
        self.facts.borrow_mut().push((node.clone(), holds));
        let parts = in_parts(self.spec, node, holds);
        assume(node, holds, self.spec, &self.fields) && parts.is_none_or(|parts| self.learn(&parts, true))
    }

    /// Of facts that say that one thing or another is so: where it is not the one, it is the other.
    fn alternatives(&self) -> bool {
        // What is supposed to find that out is not looked at in turn.
        if self.resolving.replace(true) {
            return true;
        }
        let known = self.facts.borrow().clone();
        let possible = known.iter().all(|(fact, holds)| match (fact, holds) {
            (Node::Binary(Operator::Or, left, right), true) | (Node::Binary(Operator::And, left, right), false) => {
                let (is, is_not) = (*holds, !*holds);
                if self.proves(left, is_not) {
                    self.learn(right, is)
                } else if self.proves(right, is_not) {
                    self.learn(left, is)
                } else {
                    true
                }
            }
            _ => true,
        });
        self.resolving.set(false);
        possible
    }

    /// Returns whether the answer is yes under one more condition, or the condition cannot have that outcome.
    pub(super) fn under(&self, node: &Node, holds: bool, answer: impl FnOnce() -> bool) -> bool {
        let (facts, assumptions) = (self.facts.borrow().len(), self.fields.assumptions());
        let proved = !self.suppose(node, holds) || answer();
        self.facts.borrow_mut().truncate(facts);
        self.fields.take_back(assumptions);
        proved
    }

    /// Says whether the condition certainly holds, also where that has to be shown for each of the alternatives that a fact leaves.
    pub(super) fn decides(&self, node: &Node) -> bool {
        match node {
            Node::Binary(Operator::And, left, right) => self.decides(left) && self.decides(right),
            Node::Binary(Operator::Or, left, right) => {
                self.proves(left, true) || self.under(left, false, || self.decides(right))
            }
            _ => self.proves(node, true) || self.in_each_case(node, SPLITS),
        }
    }

    /// Says whether the condition holds in both cases of a fact that says that one thing or another is so.
    fn in_each_case(&self, node: &Node, splits: usize) -> bool {
        if splits == 0 || self.is_spent() {
            return false;
        }
        let holds = || self.proves(node, true) || self.in_each_case(node, splits - 1);
        let known = self.facts.borrow().clone();
        known.iter().any(|(fact, is)| match (fact, is) {
            (Node::Binary(Operator::Or, left, right), true) | (Node::Binary(Operator::And, left, right), false) => {
                // Where it is known which of them is so, it was taken in.
                !self.proves(left, *is)
                    && !self.proves(right, *is)
                    && self.under(left, *is, holds)
                    && self.under(left, !*is, || self.under(right, *is, holds))
            }
            _ => false,
        })
    }

    pub(super) fn is_spent(&self) -> bool {
        self.budget.is_spent_on(1)
    }

    /// Returns whether the condition certainly has this outcome.
    pub(super) fn proves(&self, node: &Node, holds: bool) -> bool {
        if self.is_spent() {
            return false;
        }
        if self.facts.borrow().iter().any(|(fact, is)| *is == holds && fact == node) {
            return true;
        }
        match (node, holds) {
            (Node::Not(inner), _) => self.proves(inner, !holds),
            (Node::Binary(Operator::And, left, right), true) | (Node::Binary(Operator::Or, left, right), false) => {
                self.proves(left, holds) && self.proves(right, holds)
            }
            (Node::Binary(Operator::And, left, right), false) | (Node::Binary(Operator::Or, left, right), true) => {
                self.proves(left, holds) || self.under(left, !holds, || self.proves(right, holds))
            }
            (Node::Binary(operator, left, right), _) => {
                let said = if holds { Some(*operator) } else { operator.opposite() };
                said.is_some_and(|operator| self.compared(operator, left, right))
                    || in_parts(self.spec, node, holds).is_some_and(|parts| self.proves(&parts, true))
            }
            (Node::If(branches), _) => {
                let [condition, yes, no] = &**branches;
                self.under(condition, true, || self.proves(yes, holds))
                    && self.under(condition, false, || self.proves(no, holds))
            }
            _ => match self.bounds(node) {
                Bounds::Truth { holds: can_hold, fails } => !(if holds { fails } else { can_hold }),
                Bounds::Number(..) | Bounds::Any => false,
            },
        }
    }

    pub(super) fn bounds(&self, node: &Node) -> Bounds {
        bounds(node, self.spec, &self.fields, &[])
    }

    fn compared(&self, operator: Operator, left: &Node, right: &Node) -> bool {
        // A value that depends on a condition is looked at in both cases.
        if let Some(condition) = condition_in(left).or_else(|| condition_in(right)) {
            let condition = condition.clone();
            let in_case = |holds: bool| {
                let (left, right) = (decided(left, &condition, holds), decided(right, &condition, holds));
                self.under(&condition, holds, || self.compared(operator, &left, &right))
            };
            return !self.is_spent() && in_case(true) && in_case(false);
        }
        match operator {
            Operator::AtLeast => self.is_never_below(left, right),
            Operator::AtMost => self.is_never_below(right, left),
            Operator::Above => self.is_above(left, right),
            Operator::Below => self.is_above(right, left),
            Operator::Equal => {
                left == right
                    || self.is_said(Operator::Equal, left, right)
                    || self.are_equal_conditions(left, right)
                    || self.is_never_below(left, right) && self.is_never_below(right, left)
            }
            Operator::Unequal => {
                self.is_said(Operator::Unequal, left, right)
                    || are_other_constants(left, right)
                    || self.is_above(left, right)
                    || self.is_above(right, left)
            }
            Operator::And | Operator::Or | Operator::Plus | Operator::Minus | Operator::Times | Operator::Divide => {
                false
            }
        }
    }

    /// Returns whether a fact says so in as many words.
    fn is_said(&self, operator: Operator, left: &Node, right: &Node) -> bool {
        self.facts.borrow().iter().any(|(fact, holds)| {
            let Node::Binary(said, a, b) = fact else { return false };
            let said = if *holds { Some(*said) } else { said.opposite() };
            let same = **a == *left && **b == *right || **a == *right && **b == *left;
            said == Some(operator) && same
        })
    }

    /// Two conditions that are both known.
    fn are_equal_conditions(&self, left: &Node, right: &Node) -> bool {
        let truth = |node: &Node| match self.bounds(node) {
            Bounds::Truth { .. } if self.proves(node, true) => Some(true),
            Bounds::Truth { .. } if self.proves(node, false) => Some(false),
            Bounds::Truth { .. } | Bounds::Number(..) | Bounds::Any => None,
        };
        matches!((truth(left), truth(right)), (Some(a), Some(b)) if a == b)
    }

    /// Returns whether a fact says that the first is never below the second, or that it is always above it.
    fn is_ordered(&self, above: &Node, below: &Node, strictly: bool) -> bool {
        self.facts.borrow().iter().any(|(fact, holds)| {
            let Node::Binary(said, a, b) = fact else { return false };
            let said = if *holds { Some(*said) } else { said.opposite() };
            let (a, b) = (&**a, &**b);
            match said {
                Some(Operator::Above) => (a, b) == (above, below),
                Some(Operator::Below) => (b, a) == (above, below),
                Some(Operator::AtLeast) => !strictly && (a, b) == (above, below),
                Some(Operator::AtMost) => !strictly && (b, a) == (above, below),
                Some(Operator::Equal) => !strictly && ((a, b) == (above, below) || (b, a) == (above, below)),
                _ => false,
            }
        })
    }

    fn is_never_below(&self, a: &Node, b: &Node) -> bool {
        if self.is_spent() {
            return false;
        }
        let at_least = Bounds::of(&Value::Bool(true));
        let compared = Node::Binary(Operator::AtLeast, Box::new(a.clone()), Box::new(b.clone()));
        a == b
            || self.is_ordered(a, b, false)
            || self.are_numbers(a, b) && self.bounds(&compared) == at_least
            || self.is_apart(a, b, 0)
            || match (a, b) {
                (Node::Wide(a), Node::Wide(b)) => self.is_never_below(a, b),
                (Node::Highest(nodes), _) if nodes.iter().any(|node| self.is_never_below(node, b)) => true,
                (_, Node::Lowest(nodes)) if nodes.iter().any(|node| self.is_never_below(a, node)) => true,
                (Node::Lowest(nodes), _) if !nodes.is_empty() => nodes.iter().all(|node| self.is_never_below(node, b)),
                (_, Node::Highest(nodes)) if !nodes.is_empty() => nodes.iter().all(|node| self.is_never_below(a, node)),
                _ => self.moved(a, b),
            }
    }

    /// A sum beside one of its terms.
    fn moved(&self, a: &Node, b: &Node) -> bool {
        let rises = |node: &Node| self.is_number(node) && self.bounds(node).number().0 >= 0.0;
        let falls = |node: &Node| self.is_number(node) && self.bounds(node).number().1 <= 0.0;
        let above = match a {
            Node::Binary(Operator::Plus, x, y) => {
                rises(y) && self.is_never_below(x, b) || rises(x) && self.is_never_below(y, b)
            }
            Node::Binary(Operator::Minus, x, y) => {
                // What is taken away was there, so that something is left.
                falls(y) && self.is_never_below(x, b) || falls(b) && self.is_never_below(x, y)
            }
            _ => false,
        };
        above
            || match b {
                Node::Binary(Operator::Plus, x, y) => {
                    falls(y) && self.is_never_below(a, x) || falls(x) && self.is_never_below(a, y)
                }
                Node::Binary(Operator::Minus, x, y) => rises(y) && self.is_never_below(a, x),
                _ => false,
            }
    }

    fn is_above(&self, a: &Node, b: &Node) -> bool {
        let compared = Node::Binary(Operator::Above, Box::new(a.clone()), Box::new(b.clone()));
        self.is_ordered(a, b, true)
            || self.are_numbers(a, b) && self.bounds(&compared) == Bounds::of(&Value::Bool(true))
            || self.is_apart(a, b, 1)
    }

    fn is_number(&self, node: &Node) -> bool {
        match node {
            Node::Const(value) => matches!(value, Value::Int(_) | Value::Float(_)),
            Node::Read(_, field, _) => self.spec.field(*field).ty.is_number(),
            _ => matches!(self.bounds(node), Bounds::Number(..)),
        }
    }

    fn are_numbers(&self, a: &Node, b: &Node) -> bool {
        self.is_number(a) && self.is_number(b)
    }
}

/// The first condition on which the value of a node depends.
fn condition_in(node: &Node) -> Option<&Node> {
    match node {
        Node::If(branches) => {
            let [condition, ..] = &**branches;
            condition_in(condition).or(Some(condition))
        }
        Node::Wide(inner) | Node::Negative(inner) | Node::Rounded(_, inner) => condition_in(inner),
        Node::Binary(_, left, right) => condition_in(left).or_else(|| condition_in(right)),
        Node::Highest(nodes) | Node::Lowest(nodes) => nodes.iter().find_map(condition_in),
        Node::Chain(first, rest) => {
            condition_in(first).or_else(|| rest.iter().find_map(|(_, node)| condition_in(node)))
        }
        Node::Const(_)
        | Node::Read(..)
        | Node::Filled(..)
        | Node::Before(_)
        | Node::Aggregate(..)
        | Node::Derived(_)
        | Node::Not(_)
        | Node::Len(_)
        | Node::Has(..)
        | Node::Item(..)
        | Node::Items(..)
        | Node::Place(..)
        | Node::Each
        | Node::Member(..)
        | Node::Make(..)
        | Node::Table(..)
        | Node::Open(_)
        | Node::Level
        | Node::Checkpoint
        | Node::Exit
        | Node::LevelIndex
        | Node::CheckpointIndex => None,
    }
}

/// The node where a condition has this outcome.
fn decided(node: &Node, condition: &Node, holds: bool) -> Node {
    if let Node::If(branches) = node {
        let [of, yes, no] = &**branches;
        if of == condition {
            return decided(if holds { yes } else { no }, condition, holds);
        }
    }
    let other = node.with_parts(&mut |part| Some(decided(part, condition, holds)));
    other.unwrap_or_else(|| node.clone())
}

fn are_other_constants(left: &Node, right: &Node) -> bool {
    matches!((left, right), (Node::Const(a), Node::Const(b)) if a != b && a.is_filled() && b.is_filled())
}

/// Returns what an entry of a field can read as: without a value it reads as zero.
pub(super) fn range_of(spec: &Model, field: FieldId) -> Bounds {
    let field = spec.field(field);
    let range = Bounds::of_range(field);
    if field.optional { range.or(Bounds::of(&field.ty.zero())) } else { range }
}

/// Returns whether the type is one that the prover works with: its values are written as they are.
pub(super) fn is_plain(ty: &Type) -> bool {
    match ty {
        Type::Bool | Type::Int | Type::Float | Type::Choice(_) => true,
        Type::Text
        | Type::Bytes
        | Type::Vec2
        | Type::Vec3
        | Type::Struct(_)
        | Type::List(_)
        | Type::Set(_)
        | Type::Map(_) => false,
    }
}
