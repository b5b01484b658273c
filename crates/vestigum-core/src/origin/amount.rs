//! Amounts: what one installation gave to a sum.

use std::cmp::Ordering;

use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::Type;
use vestigum_spec::value::{Finite, Value};

/// Holds what one installation gave to a sum: an int or a float, below 0 where it took more than it gave.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Amount {
    /// For an int.
    Int(i64),
    /// For a float.
    Float(Finite),
}

impl Amount {
    /// Returns nothing, for values of that type.
    pub fn zero(ty: &Type) -> Amount {
        if *ty == Type::Float { Amount::Float(Finite::default()) } else { Amount::Int(0) }
    }

    /// Returns a number as an amount; what is not a number, such as an optional value that nobody wrote, is nothing.
    pub fn of(value: &Value, ty: &Type) -> Amount {
        match value {
            Value::Int(int) => Amount::Int(*int),
            Value::Float(float) => Amount::Float(*float),
            Value::Unfilled
            | Value::Bool(_)
            | Value::Text(_)
            | Value::Bytes(_)
            | Value::Vec2(_)
            | Value::Vec3(_)
            | Value::Choice(_)
            | Value::Struct(..)
            | Value::List(_)
            | Value::Set(_)
            | Value::Map(_) => Amount::zero(ty),
        }
    }

    /// Returns the amount as a value.
    pub fn value(self) -> Value {
        match self {
            Amount::Int(int) => Value::Int(int),
            Amount::Float(float) => Value::Float(float),
        }
    }

    pub(crate) fn tree(self) -> Tree {
        match self {
            Amount::Int(int) => Tree::Int(int),
            Amount::Float(float) => Tree::Float(float),
        }
    }

    pub(crate) fn of_tree(tree: &Tree) -> Option<Amount> {
        match tree {
            Tree::Int(int) => Some(Amount::Int(*int)),
            Tree::Float(float) => Some(Amount::Float(*float)),
            Tree::Null | Tree::Bool(_) | Tree::Text(_) | Tree::List(_) | Tree::Map(_) => None,
        }
    }

    /// Returns whether it is nothing.
    pub fn is_zero(self) -> bool {
        self.as_float() == 0.0
    }

    pub(crate) fn as_float(self) -> f64 {
        match self {
            Amount::Int(int) => int as f64,
            Amount::Float(float) => float.get(),
        }
    }

    /// Returns both together. Ints stop at the ends of what an int can be.
    #[must_use]
    pub fn plus(self, other: Amount) -> Amount {
        match (self, other) {
            (Amount::Int(one), Amount::Int(other)) => Amount::Int(one.saturating_add(other)),
            (one, other) => Amount::Float(Finite::new(one.as_float() + other.as_float())),
        }
    }

    /// Returns what is left without the other.
    #[must_use]
    pub fn minus(self, other: Amount) -> Amount {
        match (self, other) {
            (Amount::Int(one), Amount::Int(other)) => Amount::Int(one.saturating_sub(other)),
            (one, other) => Amount::Float(Finite::new(one.as_float() - other.as_float())),
        }
    }

    /// Compares two amounts.
    pub fn compared(self, other: Amount) -> Ordering {
        match (self, other) {
            (Amount::Int(one), Amount::Int(other)) => one.cmp(&other),
            (one, other) => one.as_float().total_cmp(&other.as_float()),
        }
    }

    /// Returns the larger of both, where nothing gives way to everything else.
    #[must_use]
    pub fn further(self, other: Amount) -> Amount {
        if self.is_zero() || !other.is_zero() && self.compared(other).is_lt() { other } else { self }
    }

    /// Returns the one that is further from nothing, and the positive one of two that are as far.
    #[must_use]
    pub fn stronger(self, other: Amount) -> Amount {
        let strength = |amount: Amount| (Finite::new(amount.as_float().abs()), Finite::new(amount.as_float()));
        if strength(self) < strength(other) { other } else { self }
    }
}
