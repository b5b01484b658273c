//! Values.
//!
//! A [`Value`] is small and cheap to copy: text and containers are shared, never duplicated, so that a mark or a saved
//! state costs a counter and not a copy of the content. Of a container that is changed while it is shared, the part that
//! changes is copied.

mod chunks;
pub mod class;
pub mod containers;
pub mod decode;
pub mod difference;
pub mod edit;
pub mod limits;
pub mod literal;
pub mod measure;
pub mod parts;
pub mod ranking;
pub mod serial;
pub mod tree;
pub mod types;

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

use crate::value::containers::{List, Map, Set, ValueIter};
use crate::value::types::{StructType, Type};

/// One name of a choice and its place in the declared order.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub struct Chosen {
    #[doc(hidden)]
    pub index: u32,
    #[doc(hidden)]
    pub name: Arc<str>,
}

impl Chosen {
    /// The name.
    pub fn name(&self) -> &str {
        &self.name
    }
}

/// A finite float that is never negative zero: so equality is plain equality, every value has an order, and every
/// value can be saved.
///
/// ```
/// use vestigum_spec::Finite;
///
/// assert_eq!(Finite::new(0.5).get(), 0.5);
/// assert_eq!(Finite::new(f64::INFINITY).get(), f64::MAX);
/// assert_eq!(Finite::new(f64::NAN), Finite::new(-0.0));
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Finite(f64);

impl Finite {
    /// The nearest finite float; what is not a number becomes 0, and negative zero becomes zero.
    #[inline]
    pub const fn new(float: f64) -> Finite {
        Finite(if float.is_nan() { 0.0 } else { float.clamp(f64::MIN, f64::MAX) + 0.0 })
    }

    /// The float.
    #[inline]
    pub const fn get(self) -> f64 {
        self.0
    }
}

impl Eq for Finite {}

impl PartialOrd for Finite {
    fn partial_cmp(&self, other: &Finite) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Finite {
    fn cmp(&self, other: &Finite) -> Ordering {
        self.0.total_cmp(&other.0)
    }
}

impl From<f64> for Finite {
    fn from(float: f64) -> Self {
        Finite::new(float)
    }
}

impl From<Finite> for f64 {
    fn from(finite: Finite) -> Self {
        finite.0
    }
}

/// One value of a field.
///
/// Floats in a `Value` are [finite](Finite), so equality is plain equality and every value has an order.
// A tag as wide as the payload: with a smaller one the compiler copies a value in overlapping pieces, and copying a
// state takes four times as long.
#[repr(u64)]
#[derive(Clone, Debug, Default)]
pub enum Value {
    /// An optional field that has no value yet.
    #[default]
    Unfilled,
    /// A bool.
    Bool(bool),
    /// An int.
    Int(i64),
    /// A finite float.
    Float(Finite),
    /// Text.
    Text(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// Two finite numbers.
    Vec2([Finite; 2]),
    /// Three finite numbers.
    Vec3(Arc<[Finite; 3]>),
    /// One of a few names.
    Choice(Arc<Chosen>),
    /// The members of a struct, in the order of its type.
    Struct(Arc<StructType>, Arc<Vec<Value>>),
    /// Values in order.
    List(List),
    /// Values without order.
    Set(Set),
    /// Values by key.
    Map(Map),
}

impl Value {
    /// Returns the items of a list or a set; none for every other value.
    #[doc(hidden)]
    pub fn items(&self) -> Option<ValueIter<'_>> {
        match self {
            Value::List(list) => Some(list.iter()),
            Value::Set(set) => Some(set.iter()),
            Value::Unfilled
            | Value::Bool(_)
            | Value::Int(_)
            | Value::Float(_)
            | Value::Text(_)
            | Value::Bytes(_)
            | Value::Vec2(_)
            | Value::Vec3(_)
            | Value::Choice(_)
            | Value::Struct(..)
            | Value::Map(_) => None,
        }
    }

    /// Returns whether both are the same number or bool, or unfilled. Of other values it says no, which costs nothing to find out.
    #[doc(hidden)]
    #[inline]
    pub fn is_same_scalar(&self, other: &Value) -> bool {
        match (self, other) {
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Float(a), Value::Float(b)) => a == b,
            (Value::Unfilled, Value::Unfilled) => true,
            _ => false,
        }
    }

    /// Text, shared.
    pub fn text(text: impl Into<Arc<str>>) -> Value {
        Value::Text(text.into())
    }

    /// A float brought into the finite range; what is not a number becomes 0.
    pub fn float(float: f64) -> Value {
        Value::Float(Finite::new(float))
    }

    /// Two numbers, each brought into the finite range.
    pub fn vec2(x: f64, y: f64) -> Value {
        Value::Vec2([x, y].map(Finite::new))
    }

    /// Three numbers, each brought into the finite range.
    pub fn vec3(x: f64, y: f64, z: f64) -> Value {
        Value::Vec3(Arc::new([x, y, z].map(Finite::new)))
    }

    /// Bytes, shared.
    pub fn bytes(bytes: impl Into<Arc<[u8]>>) -> Value {
        Value::Bytes(bytes.into())
    }

    /// Returns whether the value is there; only optional fields can be unfilled.
    #[inline]
    pub fn is_filled(&self) -> bool {
        !matches!(self, Value::Unfilled)
    }

    /// The bool, or `false`.
    #[inline]
    pub fn as_bool(&self) -> bool {
        matches!(self, Value::Bool(true))
    }

    /// The int, or 0.
    #[inline]
    pub fn as_int(&self) -> i64 {
        match self {
            Value::Int(int) => *int,
            _ => 0,
        }
    }

    /// The number as a float, or 0.
    #[inline]
    pub fn as_float(&self) -> f64 {
        match self {
            Value::Int(int) => *int as f64,
            Value::Float(float) => float.get(),
            _ => 0.0,
        }
    }

    /// The text or the name of a choice, or the empty text.
    #[inline]
    pub fn as_text(&self) -> &str {
        match self {
            Value::Text(text) => text,
            Value::Choice(chosen) => &chosen.name,
            _ => "",
        }
    }

    /// The bytes, or none.
    #[inline]
    pub fn as_bytes(&self) -> &[u8] {
        match self {
            Value::Bytes(bytes) => bytes,
            _ => &[],
        }
    }

    /// The numbers of a vector, or none.
    pub fn as_vector(&self) -> &[Finite] {
        match self {
            Value::Vec2(vector) => vector,
            Value::Vec3(vector) => &**vector,
            _ => &[],
        }
    }

    /// Returns how many characters, bytes or values it has.
    pub fn len(&self) -> usize {
        match self {
            Value::Text(text) => text.chars().count(),
            Value::Bytes(bytes) => bytes.len(),
            Value::List(list) => list.len(),
            Value::Set(set) => set.len(),
            Value::Map(map) => map.len(),
            Value::Unfilled | Value::Bool(_) | Value::Int(_) | Value::Float(_) => 0,
            Value::Vec2(_) | Value::Vec3(_) | Value::Choice(_) | Value::Struct(..) => 0,
        }
    }

    /// Returns whether it has no characters, bytes or values.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The value under a key of a map, if it is there.
    pub fn entry(&self, key: &str) -> Option<&Value> {
        match self {
            Value::Map(map) => map.get(key),
            _ => None,
        }
    }

    /// The value under a text key of a map, or at a position of a list; positions count from 1.
    pub fn item(&self, key: &Value) -> Option<&Value> {
        match (self, key) {
            (Value::Map(map), Value::Text(key)) => map.get(key),
            (Value::List(list), Value::Int(position)) => list.get(usize::try_from(position.checked_sub(1)?).ok()?),
            _ => None,
        }
    }

    /// A member of a struct, or a component of a vector.
    pub fn member(&self, name: &str) -> Option<Value> {
        match self {
            Value::Struct(ty, members) => members.get(ty.position(name)?).cloned(),
            vector => {
                let index = ["x", "y", "z"].iter().position(|component| *component == name)?;
                vector.as_vector().get(index).copied().map(Value::Float)
            }
        }
    }

    /// Turns an int into the float of the same number; other values stay.
    #[doc(hidden)]
    #[must_use]
    pub fn widened(self) -> Value {
        match self {
            Value::Int(int) => Value::float(int as f64),
            other => other,
        }
    }

    /// Returns where the kind stands among the kinds.
    fn rank(&self) -> u8 {
        match self {
            Value::Unfilled => 0,
            Value::Bool(_) => 1,
            Value::Int(_) => 2,
            Value::Float(_) => 3,
            Value::Text(_) => 4,
            Value::Bytes(_) => 5,
            Value::Vec2(_) => 6,
            Value::Vec3(_) => 7,
            Value::Choice(_) => 8,
            Value::Struct(..) => 9,
            Value::List(_) => 10,
            Value::Set(_) => 11,
            Value::Map(_) => 12,
        }
    }

    /// The value of `ty` that this one means, if it means one: an int where a float is wanted, a text where a choice
    /// is, a text or numbers where bytes are, a list where a set or a vector is, a map where a struct is.
    pub fn fitted(self, ty: &Type) -> Option<Value> {
        Some(match (ty, self) {
            (Type::Bool, value @ Value::Bool(_)) => value,
            (Type::Int, value @ Value::Int(_)) => value,
            (Type::Float, value @ (Value::Int(_) | Value::Float(_))) => value.widened(),
            (Type::Text, value @ Value::Text(_)) => value,
            (Type::Bytes, value @ Value::Bytes(_)) => value,
            (Type::Bytes, Value::Text(text)) => Value::bytes(text.as_bytes()),
            (Type::Bytes, Value::List(list)) => {
                let byte = |item: &Value| u8::try_from(item.as_int()).ok().filter(|_| matches!(item, Value::Int(_)));
                Value::bytes(list.iter().map(byte).collect::<Option<Vec<u8>>>()?)
            }
            (Type::Vec2, value @ Value::Vec2(_)) => value,
            (Type::Vec3, value @ Value::Vec3(_)) => value,
            (Type::Vec2 | Type::Vec3, Value::List(list)) => {
                let numbers: Option<Vec<f64>> =
                    list.iter().map(|item| item.clone().fitted(&Type::Float).map(|item| item.as_float())).collect();
                match (ty, &numbers?[..]) {
                    (Type::Vec2, [x, y]) => Value::vec2(*x, *y),
                    (Type::Vec3, [x, y, z]) => Value::vec3(*x, *y, *z),
                    _ => return None,
                }
            }
            (Type::Choice(names), value @ (Value::Text(_) | Value::Choice(_))) => Type::chosen(names, value.as_text())?,
            (Type::Struct(wanted), Value::Struct(found, members)) if *wanted == found => {
                if members.len() != wanted.members.len() {
                    return None;
                }
                let typed = members.iter().zip(&wanted.members);
                let fitted =
                    typed.map(|(value, member)| value.clone().fitted(&member.ty)).collect::<Option<Vec<_>>>()?;
                Value::Struct(found, Arc::new(fitted))
            }
            // A struct is written whole: a member that is left out, or one more, is a mistake and no zero.
            (Type::Struct(ty), Value::Map(map)) => {
                if map.len() != ty.members.len() {
                    return None;
                }
                let members = ty.members.iter().map(|member| map.get(&member.name)?.clone().fitted(&member.ty));
                Value::Struct(ty.clone(), Arc::new(members.collect::<Option<Vec<_>>>()?))
            }
            (Type::List(inner), Value::List(list)) => Value::List(fitted_all(&list, inner)?),
            (Type::Set(inner), Value::List(list)) => Value::Set(fitted_all(&list, inner)?),
            (Type::Set(inner), Value::Set(set)) => {
                let items = set.iter().map(|item| item.clone().fitted(inner));
                Value::Set(items.collect::<Option<_>>()?)
            }
            (Type::Map(inner), Value::Map(map)) => {
                let entries = map.iter().map(|(key, value)| Some((key.clone(), value.clone().fitted(inner)?)));
                Value::Map(entries.collect::<Option<_>>()?)
            }
            _ => return None,
        })
    }
}

impl Value {
    /// The value with the members that a document leaves out of structs, each at its default.
    pub(crate) fn completed(self, ty: &Type) -> Value {
        match (ty, self) {
            (Type::Struct(ty), Value::Map(map)) => {
                let mut map = map;
                for member in &ty.members {
                    let said = map.remove(&member.name).map(|value| value.completed(&member.ty));
                    map.insert(member.name.clone(), said.unwrap_or_else(|| member.default.clone()));
                }
                Value::Map(map)
            }
            (Type::List(inner) | Type::Set(inner), Value::List(list)) => {
                Value::List(list.iter().map(|item| item.clone().completed(inner)).collect())
            }
            (Type::Map(inner), Value::Map(map)) => {
                let entries = map.iter().map(|(key, value)| (key.clone(), value.clone().completed(inner)));
                Value::Map(entries.collect())
            }
            (_, value) => value,
        }
    }
}

fn fitted_all<C: FromIterator<Value>>(list: &List, ty: &Type) -> Option<C> {
    list.iter().map(|item| item.clone().fitted(ty)).collect()
}

impl PartialEq for Value {
    #[inline]
    fn eq(&self, other: &Value) -> bool {
        match (self, other) {
            (Value::Unfilled, Value::Unfilled) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Float(a), Value::Float(b)) => a == b,
            _ => self.rank() == other.rank() && self.cmp(other) == Ordering::Equal,
        }
    }
}

impl Eq for Value {}

impl PartialOrd for Value {
    fn partial_cmp(&self, other: &Value) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// Values of one type in their natural order, choices in their declared order; kinds one after the other.
impl Ord for Value {
    fn cmp(&self, other: &Value) -> Ordering {
        // Two of a kind, each kind by itself: a kind without an order here does not compile.
        let of_a_kind = match self {
            Value::Unfilled => matches!(other, Value::Unfilled).then_some(Ordering::Equal),
            Value::Bool(a) => {
                if let Value::Bool(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Int(a) => {
                if let Value::Int(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Float(a) => {
                if let Value::Float(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Text(a) => {
                if let Value::Text(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Bytes(a) => {
                if let Value::Bytes(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Vec2(a) => {
                if let Value::Vec2(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Vec3(a) => {
                if let Value::Vec3(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Choice(a) => {
                if let Value::Choice(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Struct(_, a) => {
                if let Value::Struct(_, b) = other {
                    Some(shared_cmp(a, b))
                } else {
                    None
                }
            }
            Value::List(a) => {
                if let Value::List(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Set(a) => {
                if let Value::Set(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
            Value::Map(a) => {
                if let Value::Map(b) = other {
                    Some(a.cmp(b))
                } else {
                    None
                }
            }
        };
        of_a_kind.unwrap_or_else(|| self.rank().cmp(&other.rank()))
    }
}

/// Compares shared values. Those that share their content are equal, so comparing a value with its own mark costs nothing.
fn shared_cmp<T: Ord>(a: &Arc<T>, b: &Arc<T>) -> Ordering {
    if Arc::ptr_eq(a, b) { Ordering::Equal } else { a.cmp(b) }
}

/// Says how many values of a container are printed.
const PRINTED: usize = 6;

/// Values print as specs and playthroughs write them; an unfilled one prints as `none`, and of long containers and bytes
/// only the beginning.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.printed())
    }
}

impl Value {
    fn printed(&self) -> String {
        let few = |items: Vec<String>, len: usize, [open, close]: [&str; 2]| {
            let more = if len > items.len() { format!(", … {len} in all") } else { String::new() };
            format!("{open}{}{more}{close}", items.join(", "))
        };
        match self {
            Value::Unfilled => "none".into(),
            Value::Bool(bool) => bool.to_string(),
            Value::Int(int) => int.to_string(),
            Value::Float(float) => format!("{:?}", float.get()),
            Value::Text(text) if text.chars().count() > 60 => {
                format!("'{}…' ({} characters)", text.chars().take(40).collect::<String>(), text.chars().count())
            }
            Value::Text(text) => format!("'{}'", text.replace('\'', "''")),
            Value::Bytes(bytes) => format!("{} bytes", bytes.len()),
            Value::Vec2(_) | Value::Vec3(_) => {
                let numbers: Vec<String> = self.as_vector().iter().map(|number| number.get().to_string()).collect();
                format!("[{}]", numbers.join(", "))
            }
            Value::Choice(chosen) => chosen.name.to_string(),
            Value::Struct(ty, members) => {
                let members =
                    ty.members.iter().zip(&**members).map(|(member, value)| format!("{} = {value}", member.name));
                format!("{{ {} }}", members.collect::<Vec<_>>().join(", "))
            }
            Value::List(list) => few(list.iter().take(PRINTED).map(Value::to_string).collect(), list.len(), ["[", "]"]),
            Value::Set(set) => few(set.iter().take(PRINTED).map(Value::to_string).collect(), set.len(), ["{", "}"]),
            Value::Map(map) => {
                let entries = map.iter().take(PRINTED).map(|(key, value)| format!("{key}: {value}"));
                few(entries.collect(), map.len(), ["{", "}"])
            }
        }
    }
}

impl From<bool> for Value {
    fn from(bool: bool) -> Self {
        Value::Bool(bool)
    }
}

impl From<i64> for Value {
    fn from(int: i64) -> Self {
        Value::Int(int)
    }
}

impl From<f64> for Value {
    fn from(float: f64) -> Self {
        Value::float(float)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::text(text)
    }
}

/// The sum of two numbers of one type, saturating.
pub fn add(a: &Value, b: &Value) -> Value {
    sum(a, b).0
}

/// The sum of two numbers of one type, and whether it was cut at the end of what a number can be.
pub fn sum(a: &Value, b: &Value) -> (Value, bool) {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => {
            let (sum, cut) = sum_ints(*a, *b);
            (Value::Int(sum), cut)
        }
        (a, b) => {
            let (sum, cut) = sum_floats(a.as_float(), b.as_float());
            (Value::float(sum), cut)
        }
    }
}

/// The sum of many numbers of one type: exact, and brought into the range once, at the end.
pub fn total<'v>(values: impl Iterator<Item = &'v Value>, ty: &Type) -> Value {
    if *ty == Type::Int {
        let sum: i128 = values.map(|value| i128::from(value.as_int())).sum();
        return Value::Int(i64::try_from(sum).unwrap_or(if sum < 0 { i64::MIN } else { i64::MAX }));
    }
    // Shewchuk's partial sums: numbers that do not overlap and together are the exact sum. Numbers near the end of the
    // range are scaled down first, so that no partial sum leaves it.
    let floats: Vec<f64> = values.map(Value::as_float).collect();
    let scale = if floats.iter().any(|float| float.abs() > 1e250) { 2f64.powi(-80) } else { 1.0 };
    let mut partials: Vec<f64> = Vec::new();
    for float in floats {
        let mut x = float * scale;
        let mut kept = 0;
        for at in 0..partials.len() {
            let y = partials[at];
            let (large, small) = if x.abs() < y.abs() { (y, x) } else { (x, y) };
            let high = large + small;
            let low = small - (high - large);
            if low != 0.0 {
                partials[kept] = low;
                kept += 1;
            }
            x = high;
        }
        partials.truncate(kept);
        partials.push(x);
    }
    Value::float(partials.iter().sum::<f64>() / scale)
}

/// The sum of two ints, which saturates; says whether it did.
#[inline]
pub fn sum_ints(a: i64, b: i64) -> (i64, bool) {
    match a.checked_add(b) {
        Some(sum) => (sum, false),
        None => (a.saturating_add(b), true),
    }
}

/// The sum of two floats, kept finite; says whether it was cut.
#[inline]
pub fn sum_floats(a: f64, b: f64) -> (f64, bool) {
    (Finite::new(a + b).get(), !(a + b).is_finite())
}

/// Returns whether `a` is below `b`, for ordered values of one type.
pub fn below(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => a < b,
        (Value::Choice(a), Value::Choice(b)) => a.index < b.index,
        (a, b) => number(a) < number(b),
    }
}

/// The number by which a value is ordered. One that was never written counts as 0, and so do values without an order.
fn number(value: &Value) -> f64 {
    match value {
        Value::Int(int) => *int as f64,
        Value::Float(float) => float.get(),
        Value::Unfilled | Value::Bool(_) | Value::Text(_) | Value::Bytes(_) | Value::Choice(_) => 0.0,
        Value::Vec2(_) | Value::Vec3(_) | Value::Struct(..) => 0.0,
        Value::List(_) | Value::Set(_) | Value::Map(_) => 0.0,
    }
}

/// The number with the other sign, saturating.
pub fn negated(value: &Value) -> Value {
    match value {
        Value::Int(int) => Value::Int(int.saturating_neg()),
        other => Value::float(-other.as_float()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A merge of a record that one side never wrote once kept nothing: it was of another kind than the number beside it.
    #[test]
    fn a_number_that_was_never_written_counts_as_zero() {
        let number = |int| Value::Int(int);
        assert!(below(&Value::Unfilled, &number(5)) && !below(&number(5), &Value::Unfilled));
        assert!(below(&number(-5), &Value::Unfilled) && below(&Value::Unfilled, &Value::float(0.5)));
        assert!(!below(&Value::Bool(false), &Value::Bool(true)), "bools have no order here");
    }
}
