//! Typed handles: the name and the type of a field are checked once, and every later read and write is an index.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::sync::Arc;

use thiserror::Error;

use crate::model::Model;
use crate::model::axis::Axis;
use crate::model::field::{Field, FieldId};
use crate::nearest::did_you_mean;
use crate::value::limits::Limits;
use crate::value::types::Type;
use crate::value::{Value, sum_floats, sum_ints};
use crate::vocabulary::span::Span;

mod sealed {
    pub trait Sealed {}
    impl Sealed for bool {}
    impl Sealed for i64 {}
    impl Sealed for f64 {}
    impl Sealed for str {}
    impl Sealed for [u8] {}
}

/// Rust types that a field's value is read as.
pub trait Scalar: sealed::Sealed {
    /// What a read gives.
    type Read<'a>;
    /// What a write takes.
    type Write<'a>;
    #[doc(hidden)]
    const TYPE: Type;
    #[doc(hidden)]
    fn read(value: &Value) -> Self::Read<'_>;
    /// The written value, brought into the limits, and whether it was outside.
    #[doc(hidden)]
    fn fit(written: Self::Write<'_>, limits: &Limits) -> (Value, bool);
    /// Writes in place if that is all there is to do: the old value is of the same kind, and the new one inside the range.
    #[doc(hidden)]
    #[inline(always)]
    fn put(_: &mut Value, _: &Self::Write<'_>, _: i64, _: i64) -> bool {
        false
    }
}

impl Scalar for bool {
    type Read<'a> = bool;
    type Write<'a> = bool;
    const TYPE: Type = Type::Bool;
    #[inline]
    fn read(value: &Value) -> bool {
        value.as_bool()
    }
    #[inline]
    fn fit(written: bool, _: &Limits) -> (Value, bool) {
        (Value::Bool(written), false)
    }
    #[inline(always)]
    fn put(value: &mut Value, written: &bool, _: i64, _: i64) -> bool {
        let Value::Bool(bool) = value else { return false };
        *bool = *written;
        true
    }
}

impl Scalar for i64 {
    type Read<'a> = i64;
    type Write<'a> = i64;
    const TYPE: Type = Type::Int;
    #[inline]
    fn read(value: &Value) -> i64 {
        value.as_int()
    }
    #[inline]
    fn fit(written: i64, limits: &Limits) -> (Value, bool) {
        let inside = limits.clamp_int(written);
        (Value::Int(inside), inside != written)
    }
    #[inline(always)]
    fn put(value: &mut Value, written: &i64, lowest: i64, highest: i64) -> bool {
        let Value::Int(int) = value else { return false };
        let inside = lowest <= *written && *written <= highest;
        if inside {
            *int = *written;
        }
        inside
    }
}

impl Scalar for f64 {
    type Read<'a> = f64;
    type Write<'a> = f64;
    const TYPE: Type = Type::Float;
    #[inline]
    fn read(value: &Value) -> f64 {
        value.as_float()
    }
    #[inline]
    fn fit(written: f64, limits: &Limits) -> (Value, bool) {
        let (value, clamped) = limits.clamp(Value::float(written));
        (value, clamped || !written.is_finite())
    }
}

impl Scalar for str {
    type Read<'a> = &'a str;
    type Write<'a> = &'a str;
    const TYPE: Type = Type::Text;
    #[inline]
    fn read(value: &Value) -> &str {
        value.as_text()
    }
    #[inline]
    fn fit(written: &str, limits: &Limits) -> (Value, bool) {
        limits.clamp(Value::text(written))
    }
}

impl Scalar for [u8] {
    type Read<'a> = &'a [u8];
    type Write<'a> = &'a [u8];
    const TYPE: Type = Type::Bytes;
    #[inline]
    fn read(value: &Value) -> &[u8] {
        value.as_bytes()
    }
    #[inline]
    fn fit(written: &[u8], limits: &Limits) -> (Value, bool) {
        limits.clamp(Value::bytes(written))
    }
}

/// Rust types of numbers, which can be added to.
pub trait Number: Scalar + for<'a> Scalar<Write<'a> = Self> + Copy {
    #[doc(hidden)]
    fn plus(value: &Value, by: Self) -> (Self, bool);
    /// Adds in place, as [`Scalar::put`] writes.
    #[doc(hidden)]
    #[inline(always)]
    fn add_to(_: &mut Value, _: Self, _: i64, _: i64) -> bool {
        false
    }
}

impl Number for i64 {
    #[inline]
    fn plus(value: &Value, by: i64) -> (i64, bool) {
        sum_ints(value.as_int(), by)
    }
    #[inline(always)]
    fn add_to(value: &mut Value, by: i64, lowest: i64, highest: i64) -> bool {
        let Value::Int(int) = value else { return false };
        match int.checked_add(by) {
            Some(sum) if lowest <= sum && sum <= highest => {
                *int = sum;
                true
            }
            _ => false,
        }
    }
}

impl Number for f64 {
    #[inline]
    fn plus(value: &Value, by: f64) -> (f64, bool) {
        sum_floats(value.as_float(), by)
    }
}

/// A handle on one value: a field, or the entry of a per-level field that [`PerLevel::at`] gave.
///
/// A handle belongs to the spec it was made from. Used with progress of another spec, reads and writes panic: that is
/// a mistake in the program, not in its input.
#[derive(Debug)]
pub struct Handle<T: ?Sized> {
    pub(crate) slot: u32,
    pub(crate) field: FieldId,
    pub(crate) fingerprint: u32,
    pub(crate) gate: Gate,
    pub(crate) of_device: bool,
    /// The range of an int.
    pub(crate) lowest: i64,
    pub(crate) highest: i64,
    ty: PhantomData<fn() -> Box<T>>,
}

/// Where a write through a handle has nothing to ask but this: play may write the field, and no opening depends on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Gate(u8);

impl Gate {
    const CLOSED: Gate = Gate(0);
    const ANYWHERE: Gate = Gate(1);
    const IN_LEVEL: Gate = Gate(2);

    fn of(model: &Model, field: &Field) -> Gate {
        if !field.played || model.opens_levels(field.id) {
            Gate::CLOSED
        } else if field.in_level {
            Gate::IN_LEVEL
        } else {
            Gate::ANYWHERE
        }
    }

    /// Whether it is open for a player who is in a level or not.
    #[inline(always)]
    pub(crate) fn lets(self, in_level: bool) -> bool {
        self == Gate::ANYWHERE || (in_level && self == Gate::IN_LEVEL)
    }
}

impl<T: ?Sized> Handle<T> {
    fn at(model: &Model, field: &Field, slot: usize) -> Handle<T> {
        let (lowest, highest) = field.limits.int_range();
        Handle {
            slot: slot as u32,
            field: field.id,
            fingerprint: model.fingerprint,
            gate: Gate::of(model, field),
            of_device: field.lasts == Span::Device,
            lowest,
            highest,
            ty: PhantomData,
        }
    }
}

impl<T: ?Sized> Handle<T> {
    /// Whether it is on a value of the device.
    #[doc(hidden)]
    #[inline(always)]
    pub fn is_of_device(self) -> bool {
        self.of_device
    }
}

impl<T: ?Sized> Clone for Handle<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T: ?Sized> Copy for Handle<T> {}

impl<T: ?Sized> PartialEq for Handle<T> {
    fn eq(&self, other: &Self) -> bool {
        (self.fingerprint, self.slot) == (other.fingerprint, other.slot)
    }
}

impl<T: ?Sized> Eq for Handle<T> {}

impl<T: ?Sized> Hash for Handle<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (self.fingerprint, self.slot).hash(state);
    }
}

/// A handle on a field that has a value for each level.
pub struct PerLevel<T: ?Sized> {
    model: Arc<Model>,
    field: FieldId,
    ty: PhantomData<fn() -> Box<T>>,
}

impl<T: ?Sized> Clone for PerLevel<T> {
    fn clone(&self) -> Self {
        PerLevel { model: self.model.clone(), field: self.field, ty: PhantomData }
    }
}

impl<T: ?Sized> fmt::Debug for PerLevel<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PerLevel").field("field", &self.model.field(self.field).name).finish_non_exhaustive()
    }
}

/// Why there is no such handle.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum HandleError {
    /// No field has that name.
    #[error("no field is called `{name}`{}", did_you_mean(.nearest))]
    UnknownField {
        /// The name asked for.
        name: String,
        /// The field that was probably meant.
        nearest: Option<String>,
    },
    /// The field has another type.
    #[error("`{name}` is of type {found}; a handle of type {wanted} cannot read it")]
    WrongType {
        /// The field.
        name: String,
        /// Its type.
        found: Type,
        /// The type asked for.
        wanted: Type,
    },
    /// The field has other axes than the handle.
    #[error("`{name}` {}", other_axes(.name, .axes))]
    WrongKey {
        /// The field.
        name: String,
        /// What the field has a value for each of; nothing if it has one value.
        axes: Vec<String>,
    },
    /// It is a derived value.
    #[error("`{name}` is a derived value, computed from fields: read it with `derived(\"{name}\")`")]
    Derived {
        /// The name asked for.
        name: String,
    },
    /// No level has that name.
    #[error("no level is called `{name}`{}", did_you_mean(.nearest))]
    UnknownLevel {
        /// The name asked for.
        name: String,
        /// The level that was probably meant.
        nearest: Option<String>,
    },
}

/// Which call reads a field with these axes.
fn other_axes(name: &str, axes: &[String]) -> String {
    match axes {
        [] => "has one value: ask for it without a level".into(),
        [level] if level == "level" => "has a value for each level: ask for it per level".into(),
        axes => format!(
            "has a value for each {}: no handle reads it, but `value(\"{name}\", &[…])` and `write` do, with the keys",
            axes.join(" and each ")
        ),
    }
}

fn checked<'s, T: Scalar + ?Sized>(model: &'s Model, name: &str, per_level: bool) -> Result<&'s Field, HandleError> {
    let Some(field) = model.find_field(name) else {
        if model.derived_ids.contains_key(name) {
            return Err(HandleError::Derived { name: name.to_owned() });
        }
        let nearest = model.suggested_field(name);
        return Err(HandleError::UnknownField { name: name.to_owned(), nearest });
    };
    if *field.ty() != T::TYPE {
        return Err(HandleError::WrongType { name: name.to_owned(), found: field.ty().clone(), wanted: T::TYPE });
    }
    let found = field.axes();
    if found != if per_level { &[Axis::Level][..] } else { &[] } {
        let axes = found.iter().map(|axis| model.axis_word(*axis).to_owned()).collect();
        return Err(HandleError::WrongKey { name: name.to_owned(), axes });
    }
    Ok(field)
}

impl<T: Scalar + ?Sized> Handle<T> {
    pub(crate) fn new(model: &Model, name: &str) -> Result<Handle<T>, HandleError> {
        let field = checked::<T>(model, name, false)?;
        Ok(Handle::at(model, field, field.first_slot))
    }
}

impl<T: Scalar + ?Sized> PerLevel<T> {
    pub(crate) fn new(model: &Arc<Model>, name: &str) -> Result<PerLevel<T>, HandleError> {
        let field = checked::<T>(model, name, true)?;
        Ok(PerLevel { model: model.clone(), field: field.id, ty: PhantomData })
    }

    /// The entry of one level.
    ///
    /// # Errors
    /// If there is no such level.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let best = spec.int_per_level("best_letters")?;    // the name and the type are checked here
    /// let here = best.at("mill_lane")?;                  // and the level here
    /// assert_eq!(game.get(here), 0);
    /// assert!(best.at("mil_lane").is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn at(&self, level: &str) -> Result<Handle<T>, HandleError> {
        let model = &*self.model;
        let unknown = |nearest| HandleError::UnknownLevel { name: level.to_owned(), nearest };
        let index = model.find_level(level).map_err(unknown)?;
        let field = model.field(self.field);
        Ok(Handle::at(model, field, field.slot_at(&[index])))
    }
}
