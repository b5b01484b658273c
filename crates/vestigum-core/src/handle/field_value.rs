//! The Rust types that fields are read and written as.

use std::any::Any;

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::handle::shape;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::value::decode::exactly;
use vestigum_spec::value::serial::{Misfit, from_value, to_value};
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::Type;
use vestigum_spec::value::{Value, sum_floats, sum_ints};

mod sealed {
    pub trait Sealed {}
    impl Sealed for str {}
    impl Sealed for [u8] {}
    impl<T: serde::Serialize + serde::de::DeserializeOwned + 'static> Sealed for T {}
}

/// Rust types that a field's value is read and written as: every type that serde reads and writes, and `str` and `[u8]`,
/// which are borrowed.
///
/// The shape must fit the field: `i64`, or a smaller type that holds its range, for an int; a struct with the same members for
/// a struct; an enum without data for a choice; `Vec` for a list; a set or a `Vec` for a set; a map with text keys for a map;
/// `[f64; 2]` for a vec2; `Option` for an optional field. That is checked in both directions where the handle is made.
pub trait FieldValue: sealed::Sealed {
    /// Describes what a read gives.
    type Read<'a>;
    /// Describes what a write takes.
    type Write<'a>;
    #[doc(hidden)]
    fn read<'a>(value: &'a Value, model: &'a Model, id: FieldId) -> Self::Read<'a>;
    /// The written value, brought into the limits, and whether it was outside.
    #[doc(hidden)]
    fn fit(written: Self::Write<'_>, field: &Field) -> Result<(Value, bool), Misfit>;
    /// Writes in place if that is all there is to do: the old value is of the same kind, and the new one inside the range.
    #[doc(hidden)]
    #[inline(always)]
    fn put(_: &mut Value, _: &Self::Write<'_>, _: i64, _: i64) -> bool {
        false
    }
    /// Returns why values of the field and of this type do not fit; nothing if they do.
    #[doc(hidden)]
    fn misfit(field: &Field) -> Option<String>;
}

impl<T: Serialize + DeserializeOwned + 'static> FieldValue for T {
    type Read<'a> = T;
    type Write<'a> = T;

    #[inline(always)]
    fn read<'a>(value: &'a Value, model: &'a Model, id: FieldId) -> T {
        match scalar(value) {
            Some(read) => read,
            None => read_whole(value, model.field(id)),
        }
    }

    #[inline]
    fn fit(written: T, field: &Field) -> Result<(Value, bool), Misfit> {
        let any: &dyn Any = &written;
        if let Some(int) = any.downcast_ref::<i64>() {
            let inside = field.limits.clamp_int(*int);
            return Ok((Value::Int(inside), inside != *int));
        }
        if let Some(float) = any.downcast_ref::<f64>() {
            let (value, clamped) = field.limits.clamp(Value::float(*float));
            return Ok((value, clamped || !float.is_finite()));
        }
        let value = to_value(&written)?;
        if !value.is_filled() {
            let always = || Misfit("it always has a value, so it cannot be `None`".into());
            return if field.optional { Ok((value, false)) } else { Err(always()) };
        }
        let fitted = typed(value, &field.ty, &field.name)?;
        Ok(field.limits.clamp(fitted))
    }

    #[inline(always)]
    fn put(value: &mut Value, written: &T, lowest: i64, highest: i64) -> bool {
        put_scalar(value, written, lowest, highest)
    }

    fn misfit(field: &Field) -> Option<String> {
        shape::misfit::<T>(field)
    }
}

/// A number or a bool as itself; none for every other type.
#[inline(always)]
fn scalar<T: 'static>(value: &Value) -> Option<T> {
    let mut read: Option<T> = None;
    read_scalar(value, &mut read);
    read
}

// While a game is made, its own code is compiled without optimization, and so is what is inlined into it. What every read and
// write does is therefore no generic code, and stays in this crate there: two lines in the game's profile make it fast.

#[cfg_attr(not(debug_assertions), inline(always))]
fn read_scalar(value: &Value, place: &mut dyn Any) {
    if let Some(int) = place.downcast_mut::<Option<i64>>() {
        *int = Some(value.as_int());
    } else if let Some(bool) = place.downcast_mut::<Option<bool>>() {
        *bool = Some(value.as_bool());
    } else if let Some(float) = place.downcast_mut::<Option<f64>>() {
        *float = Some(value.as_float());
    }
}

#[cfg_attr(not(debug_assertions), inline(always))]
fn put_scalar(value: &mut Value, written: &dyn Any, lowest: i64, highest: i64) -> bool {
    match value {
        Value::Int(int) => match written.downcast_ref::<i64>() {
            Some(written) if lowest <= *written && *written <= highest => {
                *int = *written;
                true
            }
            _ => false,
        },
        Value::Bool(bool) => match written.downcast_ref::<bool>() {
            Some(written) => {
                *bool = *written;
                true
            }
            None => false,
        },
        _ => false,
    }
}

/// An unfilled value reads as `None`, or as the zero of its type where the Rust type has none.
#[cold]
#[inline(never)]
fn read_whole<T: DeserializeOwned>(value: &Value, field: &Field) -> T {
    let read = match from_value(value) {
        Err(_) if !value.is_filled() => from_value(&field.ty.zero()),
        read => read,
    };
    read.unwrap_or_else(|why| {
        let name = shape::short_name(std::any::type_name::<T>());
        panic!("`{}` is {value}, which `{name}` refuses: {why}", field.name)
    })
}

/// The value of the type that another one means, whole and with nothing left over.
pub(crate) fn typed(value: Value, ty: &Type, name: &str) -> Result<Value, Misfit> {
    value.clone().fitted(ty).ok_or_else(|| match exactly(&Tree::of(&value), ty, name) {
        Err(misfits) => Misfit(misfits.join("; ")),
        Ok(_) => Misfit(format!("{value} is of another type than {ty}")),
    })
}

impl FieldValue for str {
    type Read<'a> = &'a str;
    type Write<'a> = &'a str;

    #[inline]
    fn read<'a>(value: &'a Value, _: &'a Model, _: FieldId) -> &'a str {
        value.as_text()
    }

    fn fit(written: &str, field: &Field) -> Result<(Value, bool), Misfit> {
        Ok(field.limits.clamp(Value::text(written)))
    }

    fn misfit(field: &Field) -> Option<String> {
        (field.ty != Type::Text).then(|| "only text is borrowed as `str`".into())
    }
}

impl FieldValue for [u8] {
    type Read<'a> = &'a [u8];
    type Write<'a> = &'a [u8];

    #[inline]
    fn read<'a>(value: &'a Value, _: &'a Model, _: FieldId) -> &'a [u8] {
        value.as_bytes()
    }

    fn fit(written: &[u8], field: &Field) -> Result<(Value, bool), Misfit> {
        Ok(field.limits.clamp(Value::bytes(written)))
    }

    fn misfit(field: &Field) -> Option<String> {
        (field.ty != Type::Bytes).then(|| "only bytes are borrowed as `[u8]`".into())
    }
}

/// Rust types of numbers, which can be added to.
pub trait Number: FieldValue + for<'a> FieldValue<Write<'a> = Self> + Copy {
    #[doc(hidden)]
    fn plus(value: &Value, by: Self) -> (Self, bool);
    /// Adds in place, as [`FieldValue::put`] writes.
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

    #[cfg_attr(not(debug_assertions), inline(always))]
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
