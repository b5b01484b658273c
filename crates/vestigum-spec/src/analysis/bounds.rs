//! Bounds of an expression: which values it can have if each field can have any value in its own bounds.
//!
//! Every operand is looked at alone, so the bounds may be too wide and are never too narrow: a value outside them cannot occur.

use std::cell::RefCell;

use rustc_hash::FxHashMap;

use crate::model::Readable;
use crate::model::field::{Field, FieldId};
use crate::model::node::{EntryRef, Node, Pick, ReadAt};
use crate::model::table::Table;
use crate::syntax::parse::Operator;
use crate::value::Value;
use crate::value::types::Type;
use crate::vocabulary::function::{Aggregate, TableFunction};

/// The values that something can have.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Bounds {
    /// A condition: whether it can hold, and whether it can fail.
    Truth {
        /// Whether it can be true.
        holds: bool,
        /// Whether it can be false.
        fails: bool,
    },
    /// A number from the lowest to the highest.
    Number(f64, f64),
    /// Anything.
    Any,
}

impl Bounds {
    /// A condition that may hold and may fail.
    pub const OPEN: Bounds = Bounds::Truth { holds: true, fails: true };

    /// Returns whether a condition with these bounds can be true.
    pub fn can_hold(self) -> bool {
        !matches!(self, Bounds::Truth { holds: false, .. })
    }

    /// Returns whether it can be a number above this one.
    pub fn can_be_above(self, number: f64) -> bool {
        self.number().1 > number
    }

    /// Returns whether it can be a number below this one.
    pub fn can_be_below(self, number: f64) -> bool {
        self.number().0 < number
    }

    /// Returns whether a condition with these bounds can be false.
    pub fn can_fail(self) -> bool {
        !matches!(self, Bounds::Truth { fails: false, .. })
    }

    /// The lowest and the highest number that it can be; without bounds the infinities.
    pub fn number(self) -> (f64, f64) {
        match self {
            Bounds::Number(low, high) => (low, high),
            _ => (f64::NEG_INFINITY, f64::INFINITY),
        }
    }

    /// The bounds of one value: what it is, and nothing else.
    pub fn of(value: &Value) -> Bounds {
        match value {
            Value::Bool(bool) => Bounds::Truth { holds: *bool, fails: !bool },
            Value::Int(_) | Value::Float(_) => Bounds::Number(value.as_float(), value.as_float()),
            _ => Bounds::Any,
        }
    }

    /// Returns what an entry of a field can be, whoever writes it.
    pub fn of_range(field: &Field) -> Bounds {
        let declared = match (&field.ty, &field.limits.range) {
            (Type::Bool, _) => Bounds::OPEN,
            (_, Some((low, high))) => Bounds::Number(low.as_float(), high.as_float()),
            _ => Bounds::Any,
        };
        declared.or(Bounds::of_default(field))
    }

    /// Returns what an entry of a field reads as before anything is written to it: without a value as zero.
    pub fn of_default(field: &Field) -> Bounds {
        if field.default.is_filled() { Bounds::of(&field.default) } else { Bounds::of(&field.ty.zero()) }
    }

    /// With something that lies between two numbers added.
    #[must_use]
    pub fn plus(self, low: f64, high: f64) -> Bounds {
        match self {
            Bounds::Number(a, b) => Bounds::Number(a + low, b + high),
            other => other,
        }
    }

    /// With another number added.
    #[must_use]
    pub fn with(self, other: Bounds) -> Bounds {
        let (low, high) = other.number();
        self.plus(low, high)
    }

    /// Returns what either of two can be.
    #[must_use]
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

/// Describes what fields can be, and what was worked out from that: many conditions ask for the sum of the same entries.
pub struct FieldBounds<'a> {
    of: &'a dyn Fn(FieldId, Option<usize>) -> Bounds,
    /// The level that the moment is about, where that is known.
    level: Option<u32>,
    /// Says what parts of a condition can be where others hold.
    assumed: RefCell<Vec<(Node, Bounds)>>,
    over: RefCell<FxHashMap<(Aggregate, FieldId), Bounds>>,
}

impl<'a> FieldBounds<'a> {
    /// Bounds by a function that says what each field, or one of its entries, can be.
    pub fn new(of: &'a dyn Fn(FieldId, Option<usize>) -> Bounds) -> FieldBounds<'a> {
        FieldBounds { of, level: None, assumed: RefCell::default(), over: RefCell::default() }
    }

    /// Returns the bounds at a moment that is about a level.
    #[must_use]
    pub fn at(self, level: u32) -> FieldBounds<'a> {
        FieldBounds { level: Some(level), ..self }
    }

    /// Returns what was assumed about a node.
    pub(super) fn assumed(&self, node: &Node) -> Option<Bounds> {
        let assumed = self.assumed.borrow();
        assumed.iter().rev().find(|(known, _)| known == node).map(|(_, bounds)| *bounds)
    }

    pub(super) fn assume(&self, node: &Node, bounds: Bounds) {
        self.assumed.borrow_mut().push((node.clone(), bounds));
    }

    /// Returns whether something is assumed to be another text or choice than this literal.
    pub(super) fn is_assumed_other(&self, place: &Node, literal: &Node) -> bool {
        let other = |(known, bounds): &(Node, Bounds)| match known {
            Node::Binary(Operator::Equal, of, to) => **of == *place && **to != *literal && !bounds.can_fail(),
            _ => false,
        };
        self.assumed.borrow().iter().any(other)
    }

    /// The number of assumptions so far: a point to go back to.
    pub fn assumptions(&self) -> usize {
        self.assumed.borrow().len()
    }

    /// Takes back what was assumed since that point.
    pub fn take_back(&self, to: usize) {
        self.assumed.borrow_mut().truncate(to);
    }

    /// Returns what an entry can be; some of its keys may not be known.
    fn entry(&self, spec: &Readable, id: FieldId, picks: &[Pick]) -> Bounds {
        let field = spec.field(id);
        let keys: Vec<Option<u32>> = picks
            .iter()
            .map(|pick| match pick {
                Pick::Fixed(key) => Some(*key),
                Pick::Level => self.level,
                Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_) | Pick::Made(..) => None,
            })
            .collect();
        let meant = |slot: &usize| {
            let at = field.keys_of(*slot);
            let level = field.level_of(spec, *slot).filter(|_| picks.contains(&Pick::Checkpoint));
            keys.iter().zip(&at).all(|(key, at)| key.is_none_or(|key| key == *at))
                && level.zip(self.level).is_none_or(|(of, level)| of == level)
        };
        let open = field.axes().iter().any(|axis| spec.is_open(*axis));
        // Without an entry the default is read.
        let none = (open || picks.contains(&Pick::Checkpoint)).then(|| Bounds::of_default(field));
        let entries = field.slots().filter(meant).map(|slot| (self.of)(id, Some(slot)));
        entries.chain(none).reduce(Bounds::or).unwrap_or_else(|| (self.of)(id, None))
    }

    fn over(&self, spec: &Readable, over: Aggregate, id: FieldId) -> Bounds {
        if let Some(known) = self.over.borrow().get(&(over, id)) {
            return *known;
        }
        let bounds = self.work_out(spec, over, id);
        self.over.borrow_mut().insert((over, id), bounds);
        bounds
    }

    fn work_out(&self, spec: &Readable, over: Aggregate, id: FieldId) -> Bounds {
        let field = spec.field(id);
        let slots = field.slots().map(|slot| (self.of)(id, Some(slot)));
        // Of keys that are made at run time there may be none yet.
        let open = field.axes().iter().any(|axis| spec.is_open(*axis));
        match over {
            Aggregate::Count => Bounds::Number(0.0, slots.filter(|bounds| bounds.can_hold()).count() as f64),
            Aggregate::Sum => {
                let of_entry = |bounds: Bounds| match bounds.number() {
                    (low, high) if open => (low.min(0.0), high.max(0.0)),
                    both => both,
                };
                let (low, high) = slots.map(of_entry).fold((0.0, 0.0), |(low, high), (a, b)| (low + a, high + b));
                Bounds::Number(low, high)
            }
            Aggregate::Highest | Aggregate::Lowest if open => slots.fold(Bounds::Number(0.0, 0.0), Bounds::or),
            Aggregate::Highest | Aggregate::Lowest => slots.reduce(Bounds::or).unwrap_or(Bounds::Any),
            Aggregate::Size => Bounds::Number(0.0, f64::INFINITY),
        }
    }
}

/// The bounds of a node. `derived` are those of the derived values that it reads.
pub fn bounds(node: &Node, spec: &Readable, fields: &FieldBounds<'_>, derived: &[(u32, Bounds)]) -> Bounds {
    if let Some(assumed) = fields.assumed(node) {
        return assumed;
    }
    let inner = |node: &Node| bounds(node, spec, fields, derived);
    let of = fields.of;
    match node {
        Node::Const(value) => Bounds::of(value),
        Node::Read(ReadAt::Now, field, EntryRef::Slot(slot)) => of(*field, Some(*slot)),
        Node::Read(ReadAt::Now, field, EntryRef::Picked(picks)) => fields.entry(spec, *field, picks),
        Node::Read(_, field, _) => of(*field, None),
        // What is assumed of values as they are says nothing of what they were.
        Node::Before(_) => Bounds::Any,
        Node::Aggregate(over, field) => fields.over(spec, *over, *field),
        Node::Derived(index) => match derived.binary_search_by_key(index, |(known, _)| *known) {
            Ok(at) => derived[at].1,
            Err(_) => Bounds::Any,
        },
        Node::Chain(first, rest) => {
            rest.iter().fold(inner(first), |left, (operator, node)| binary(*operator, left, inner(node)))
        }
        Node::Wide(wide) => inner(wide),
        Node::Rounded(whole, number) => {
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
        Node::Binary(operator, left, right) => text_compared(*operator, left, right, spec, fields)
            .unwrap_or_else(|| binary(*operator, inner(left), inner(right))),
        Node::Table(TableFunction::Grade, x, table, level) => {
            graded(&spec.tables[*table as usize], level.or(fields.level), inner(x))
        }
        Node::Member(_, _, Some(range)) => Bounds::Number(range.0.as_float(), range.1.as_float()),
        Node::Items(Aggregate::Count | Aggregate::Size, ..) => Bounds::Number(0.0, f64::INFINITY),
        Node::Place(_, _, order) => Bounds::Number(0.0, order.max as f64),
        Node::LevelIndex if fields.level.is_some() => {
            let listed = fields.level.filter(|level| (*level as usize) < spec.in_order);
            let index = listed.map_or(0.0, |level| f64::from(level) + 1.0);
            Bounds::Number(index, index)
        }
        Node::Open(Some(level)) => of(spec.opened, Some(spec.opened_slot(*level))),
        Node::Len(_) | Node::LevelIndex | Node::CheckpointIndex => Bounds::Number(0.0, f64::INFINITY),
        Node::Filled(..) | Node::Has(..) | Node::Open(None) => Bounds::OPEN,
        Node::Table(..) | Node::Item(..) | Node::Items(..) | Node::Each | Node::Member(..) | Node::Make(..) => {
            Bounds::Any
        }
        Node::Level | Node::Checkpoint | Node::Exit => Bounds::Any,
    }
}

#[allow(clippy::float_cmp, reason = "bounds that are one number are told apart exactly")]
fn binary(operator: Operator, left: Bounds, right: Bounds) -> Bounds {
    let ((a, b), (c, d)) = (left.number(), right.number());
    let ((a, b), (c, d)) = if operator.is_comparison() { (widened(a, b), widened(c, d)) } else { ((a, b), (c, d)) };
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
        Operator::Times => corners([a * c, a * d, b * c, b * d]),
        Operator::Divide => corners([a / c, a / d, b / c, b / d]),
    }
}

/// Above 2⁵³ a float does not tell two neighbouring ints apart, and a sum of ints may have been cut at the end of what an int
/// can be: the bounds are widened by as much.
fn widened(low: f64, high: f64) -> (f64, f64) {
    const EXACT: f64 = (1_u64 << 53) as f64;
    let low = if low <= -EXACT { f64::NEG_INFINITY } else { low.min(EXACT) };
    let high = if high >= EXACT { f64::INFINITY } else { high.max(-EXACT) };
    (low, high)
}

/// The bounds of a product or a quotient, by those of its sides. Infinite bounds give no bounds.
fn corners(corners: [f64; 4]) -> Bounds {
    if corners.iter().any(|corner| corner.is_nan()) {
        return Bounds::Any;
    }
    // Ints are divided towards zero.
    let both = corners.into_iter().flat_map(|corner| [corner, corner.trunc()]);
    let (low, high) = both.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), x| (low.min(x), high.max(x)));
    Bounds::Number(low, high)
}

/// The steps that a number in these bounds can have reached: those of a level, or of any.
fn graded(table: &Table, level: Option<u32>, x: Bounds) -> Bounds {
    let (low, high) = x.number();
    let grade = |x: f64, steps: &[Value]| match table.falling {
        true => steps.len() - steps.partition_point(|step| step.as_float() < x),
        false => steps.partition_point(|step| step.as_float() <= x),
    } as f64;
    let of = |steps: &[Value]| {
        let (a, b) = (grade(low, steps), grade(high, steps));
        Bounds::Number(a.min(b), a.max(b))
    };
    match level {
        Some(_) => of(table.steps(level)),
        None => table.of_levels.values().map(|steps| of(steps)).fold(of(&table.steps), Bounds::or),
    }
}

/// Returns whether the name of the moment's level is a text, where the level is known.
fn text_compared(
    operator: Operator,
    left: &Node,
    right: &Node,
    spec: &Readable,
    fields: &FieldBounds<'_>,
) -> Option<Bounds> {
    let (Node::Level, Node::Const(Value::Text(text))) = (left, right) else {
        let (Node::Const(_), Node::Level) = (left, right) else { return None };
        return text_compared(operator, right, left, spec, fields);
    };
    let same = *spec.level(fields.level?).id == **text;
    match operator {
        Operator::Equal => Some(Bounds::of(&Value::Bool(same))),
        Operator::Unequal => Some(Bounds::of(&Value::Bool(!same))),
        _ => None,
    }
}
