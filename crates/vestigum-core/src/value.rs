//! Values and their types.
//!
//! A [`Value`] is small and cheap to copy: text is shared, never duplicated, so that a mark or a saved state costs a
//! counter and not a copy of the content.

use std::fmt;
use std::sync::Arc;

/// The type of a field.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Type {
    /// `true` or `false`.
    Bool,
    /// A whole number, 64 bits, signed.
    Int,
    /// A finite number.
    Float,
    /// Text.
    Text,
}

impl Type {
    /// The words that specs may use.
    pub const WORDS: [&'static str; 4] = ["bool", "int", "float", "text"];

    /// The type that a spec's word names.
    pub fn from_word(word: &str) -> Option<Type> {
        Some(match word {
            "bool" => Type::Bool,
            "int" => Type::Int,
            "float" => Type::Float,
            "text" => Type::Text,
            _ => return None,
        })
    }

    /// The value of this type before anything was written.
    pub fn zero(&self) -> Value {
        match self {
            Type::Bool => Value::Bool(false),
            Type::Int => Value::Int(0),
            Type::Float => Value::Float(0.0),
            Type::Text => Value::text(""),
        }
    }

    /// Whether the type has numbers: `add`, `sum` and arithmetic work on it.
    pub fn is_number(&self) -> bool {
        matches!(self, Type::Int | Type::Float)
    }

    /// Whether `max`, `min`, `<` and `>` mean something for it.
    pub fn is_ordered(&self) -> bool {
        self.is_number()
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Type::Bool => "bool",
            Type::Int => "int",
            Type::Float => "float",
            Type::Text => "text",
        })
    }
}

/// One value of a field.
///
/// Floats in a `Value` are finite and never negative zero, so equality is plain equality.
// A tag as wide as the payload: with a smaller one the compiler copies a value in overlapping pieces, and copying a
// state takes four times as long.
#[repr(u64)]
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub enum Value {
    /// An optional field that has no value yet.
    #[default]
    Unfilled,
    /// A bool.
    Bool(bool),
    /// An int.
    Int(i64),
    /// A finite float.
    Float(f64),
    /// Text.
    Text(Arc<str>),
}

impl Value {
    /// Text, shared.
    pub fn text(text: impl Into<Arc<str>>) -> Value {
        Value::Text(text.into())
    }

    /// A float brought into the finite range; what is not a number becomes 0.
    pub fn float(float: f64) -> Value {
        Value::Float(finite(float))
    }

    /// Whether the value is there; only optional fields can be unfilled.
    #[inline]
    pub fn is_filled(&self) -> bool {
        !matches!(self, Value::Unfilled)
    }

    /// The type, if the value is filled.
    pub fn ty(&self) -> Option<Type> {
        Some(match self {
            Value::Unfilled => return None,
            Value::Bool(_) => Type::Bool,
            Value::Int(_) => Type::Int,
            Value::Float(_) => Type::Float,
            Value::Text(_) => Type::Text,
        })
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
            Value::Float(float) => *float,
            _ => 0.0,
        }
    }

    /// The text, or the empty text.
    #[inline]
    pub fn as_text(&self) -> &str {
        match self {
            Value::Text(text) => text,
            _ => "",
        }
    }

    /// The same number as a float where the value is an int.
    pub(crate) fn widened(self) -> Value {
        match self {
            Value::Int(int) => Value::Float(int as f64),
            other => other,
        }
    }
}

/// Values print as specs and playthroughs write them; an unfilled one prints as `none`.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Unfilled => f.pad("none"),
            Value::Bool(true) => f.pad("true"),
            Value::Bool(false) => f.pad("false"),
            Value::Int(int) => f.pad(&int.to_string()),
            Value::Float(float) => f.pad(&format!("{float:?}")),
            Value::Text(text) => f.pad(&format!("'{text}'")),
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

/// The nearest finite float; what is not a number becomes 0, and negative zero becomes zero.
pub(crate) fn finite(float: f64) -> f64 {
    if float.is_nan() { 0.0 } else { float.clamp(f64::MIN, f64::MAX) + 0.0 }
}

/// The sum of two numbers of one type, saturating.
pub(crate) fn add(a: &Value, b: &Value) -> Value {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => Value::Int(a.saturating_add(*b)),
        (a, b) => Value::float(a.as_float() + b.as_float()),
    }
}

/// Whether `a` is below `b`, for ordered values of one type.
pub(crate) fn below(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => a < b,
        (a, b) => a.as_float() < b.as_float(),
    }
}

/// The number with the other sign, saturating.
pub(crate) fn negated(value: &Value) -> Value {
    match value {
        Value::Int(int) => Value::Int(int.saturating_neg()),
        other => Value::float(-other.as_float()),
    }
}
