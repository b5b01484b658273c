//! Which values an expression can have at all, if each field can have any value in its bounds.
//!
//! This looks at every operand on its own, so the bounds are never too narrow: what lies outside them cannot happen.

use std::cell::RefCell;

use rustc_hash::FxHashMap;

use crate::spec::{Field, FieldId, SpecData};
use crate::types::Type;
use crate::value::Value;

use super::eval::{Entry, From, Node, Over, Steps};
use super::syntax::Operator;

/// The values that something can have.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Bounds {
    /// A condition: whether it can hold, and whether it can fail.
    Truth { holds: bool, fails: bool },
    /// A number from the lowest to the highest.
    Number(f64, f64),
    /// Anything.
    Any,
}

impl Bounds {
    const OPEN: Bounds = Bounds::Truth { holds: true, fails: true };

    pub fn can_hold(self) -> bool {
        !matches!(self, Bounds::Truth { holds: false, .. })
    }

    /// Whether it can be a number above this one.
    pub fn can_be_above(self, number: f64) -> bool {
        self.number().1 > number
    }

    /// Whether it can be a number below this one.
    pub fn can_be_below(self, number: f64) -> bool {
        self.number().0 < number
    }

    fn can_fail(self) -> bool {
        !matches!(self, Bounds::Truth { fails: false, .. })
    }

    pub(super) fn number(self) -> (f64, f64) {
        match self {
            Bounds::Number(low, high) => (low, high),
            _ => (f64::NEG_INFINITY, f64::INFINITY),
        }
    }

    pub fn of(value: &Value) -> Bounds {
        match value {
            Value::Bool(bool) => Bounds::Truth { holds: *bool, fails: !bool },
            Value::Int(_) | Value::Float(_) => Bounds::Number(value.as_float(), value.as_float()),
            _ => Bounds::Any,
        }
    }

    /// What an entry of a field can be, whoever writes it.
    pub fn of_range(field: &Field) -> Bounds {
        let declared = match (&field.ty, &field.limits.range) {
            (Type::Bool, _) => Bounds::OPEN,
            (_, Some((low, high))) => Bounds::Number(low.as_float(), high.as_float()),
            _ => Bounds::Any,
        };
        // Without a value it reads as zero.
        declared.or(Bounds::of(if field.optional { &Value::Int(0) } else { &field.default }))
    }

    /// What either of two can be.
    pub fn or(self, other: Bounds) -> Bounds {
        match (self, other) {
            (Bounds::Truth { holds, fails }, Bounds::Truth { holds: h, fails: f }) => {
                Bounds::Truth { holds: holds || h, fails: fails || f }
            }
            (Bounds::Number(a, b), Bounds::Number(c, d)) => Bounds::Number(a.min(c), b.max(d)),
            _ => Bounds::Any,
        }
    }
}

/// What fields can be, and what was worked out from that: many conditions ask for the sum of the same entries.
pub(crate) struct FieldBounds<'a> {
    of: &'a dyn Fn(FieldId, Option<usize>) -> Bounds,
    over: RefCell<FxHashMap<(Over, FieldId), Bounds>>,
}

impl<'a> FieldBounds<'a> {
    pub fn new(of: &'a dyn Fn(FieldId, Option<usize>) -> Bounds) -> FieldBounds<'a> {
        FieldBounds { of, over: RefCell::default() }
    }

    fn over(&self, spec: &SpecData, over: Over, id: FieldId) -> Bounds {
        if let Some(known) = self.over.borrow().get(&(over, id)) {
            return *known;
        }
        let bounds = self.work_out(spec, over, id);
        self.over.borrow_mut().insert((over, id), bounds);
        bounds
    }

    fn work_out(&self, spec: &SpecData, over: Over, id: FieldId) -> Bounds {
        let field = spec.field(id);
        let slots = field.slots().map(|slot| (self.of)(id, Some(slot)));
        // Of keys that are made at run time there may be none yet.
        let open = field.axes().iter().any(|axis| spec.is_open(*axis));
        match over {
            Over::Count => Bounds::Number(0.0, slots.filter(|bounds| bounds.can_hold()).count() as f64),
            Over::Sum => {
                let of_entry = |bounds: Bounds| match bounds.number() {
                    (low, high) if open => (low.min(0.0), high.max(0.0)),
                    both => both,
                };
                let (low, high) = slots.map(of_entry).fold((0.0, 0.0), |(low, high), (a, b)| (low + a, high + b));
                Bounds::Number(low, high)
            }
            Over::Highest | Over::Lowest if open => slots.fold(Bounds::Number(0.0, 0.0), Bounds::or),
            Over::Highest | Over::Lowest => slots.reduce(Bounds::or).unwrap_or(Bounds::Any),
            Over::Size => Bounds::Number(0.0, f64::INFINITY),
        }
    }
}

/// The bounds of a node. `derived` are those of the derived values that it reads.
pub(super) fn bounds(node: &Node, spec: &SpecData, fields: &FieldBounds<'_>, derived: &[(u32, Bounds)]) -> Bounds {
    let inner = |node: &Node| bounds(node, spec, fields, derived);
    let of = fields.of;
    match node {
        Node::Const(value) => Bounds::of(value),
        Node::Read(From::Now, field, Entry::Slot(slot)) => of(*field, Some(*slot)),
        Node::Read(_, field, _) => of(*field, None),
        Node::Over(over, field) => fields.over(spec, *over, *field),
        Node::Derived(index) => match derived.binary_search_by_key(index, |(known, _)| *known) {
            Ok(at) => derived[at].1,
            Err(_) => Bounds::Any,
        },
        Node::Chain(first, rest) => {
            rest.iter().fold(inner(first), |left, (operator, node)| binary(*operator, left, inner(node)))
        }
        Node::Wide(wide) => inner(wide),
        Node::Whole(whole, number) => {
            let (low, high) = inner(number).number();
            Bounds::Number(whole.of(low), whole.of(high))
        }
        Node::Not(not) => {
            let of = inner(not);
            Bounds::Truth { holds: of.can_fail(), fails: of.can_hold() }
        }
        Node::Negative(negative) => {
            let (low, high) = inner(negative).number();
            Bounds::Number(-high, -low)
        }
        Node::If(branches) => {
            let [condition, yes, no] = &**branches;
            match inner(condition) {
                of if !of.can_hold() => inner(no),
                of if !of.can_fail() => inner(yes),
                _ => inner(yes).or(inner(no)),
            }
        }
        Node::Highest(nodes) | Node::Lowest(nodes) => {
            let each = nodes.iter().map(|node| inner(node).number());
            let best: fn(f64, f64) -> f64 = if matches!(node, Node::Highest(_)) { f64::max } else { f64::min };
            match each.reduce(|(a, b), (c, d)| (best(a, c), best(b, d))) {
                Some((low, high)) => Bounds::Number(low, high),
                None => Bounds::Any,
            }
        }
        Node::Binary(operator, left, right) => binary(*operator, inner(left), inner(right)),
        Node::Steps(Steps::Grade, _, table) => Bounds::Number(0.0, spec.tables[*table as usize].most_steps() as f64),
        Node::Open(Some(level)) => of(spec.opened, Some(spec.opened_slot(*level))),
        Node::Len(_) | Node::LevelIndex | Node::CheckpointIndex => Bounds::Number(0.0, f64::INFINITY),
        Node::Filled(..) | Node::Has(..) | Node::Open(None) => Bounds::OPEN,
        Node::Steps(..) | Node::MapEntry(..) | Node::Member(..) | Node::Make(..) | Node::Level | Node::Checkpoint => {
            Bounds::Any
        }
    }
}

fn binary(operator: Operator, left: Bounds, right: Bounds) -> Bounds {
    let ((a, b), (c, d)) = (left.number(), right.number());
    let truth = |holds, fails| Bounds::Truth { holds, fails };
    match operator {
        Operator::And => truth(left.can_hold() && right.can_hold(), left.can_fail() || right.can_fail()),
        Operator::Or => truth(left.can_hold() || right.can_hold(), left.can_fail() && right.can_fail()),
        Operator::Below => truth(a < d, b >= c),
        Operator::AtMost => truth(a <= d, b > c),
        Operator::Above => truth(b > c, a <= d),
        Operator::AtLeast => truth(b >= c, a < d),
        Operator::Equal | Operator::Unequal => match (left, right) {
            (Bounds::Number(..), Bounds::Number(..)) => {
                let (same, other) = (a <= d && c <= b, !(a == b && c == d && a == c));
                if operator == Operator::Equal { truth(same, other) } else { truth(other, same) }
            }
            _ => Bounds::OPEN,
        },
        Operator::Plus => Bounds::Number(a + c, b + d),
        Operator::Minus => Bounds::Number(a - d, b - c),
        // What is infinite times zero is not worth the trouble.
        Operator::Times | Operator::Over => Bounds::Any,
    }
}
