//! Whether a Rust type and the type of a field have the same shape, tried on values of the field: each must be read as the Rust
//! type, and written back whole.

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::handle::field_value::typed;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::limits::Limits;
use vestigum_spec::value::serial::{from_value, to_value};
use vestigum_spec::value::types::Type;
use vestigum_spec::value::{Finite, Value};

/// Returns why values of the field are not values of the Rust type, or the other way round.
pub(crate) fn misfit<T: Serialize + DeserializeOwned>(field: &Field) -> Option<String> {
    if !field.optional && from_value::<T>(&Value::Unfilled).is_ok() {
        return Some("it always has a value, so it needs no `Option`".into());
    }
    samples(&field.ty, &field.limits).find_map(|sample| {
        let read = match from_value::<T>(&sample) {
            Ok(read) => read,
            Err(why) => return Some(format!("the field can be {sample}, and reading it fails: {why}")),
        };
        match to_value(&read).and_then(|value| typed(value, &field.ty, &field.name)) {
            Ok(again) if alike(&again, &sample) => None,
            Ok(again) => Some(format!("{sample} would be written back as {again}")),
            Err(why) => Some(format!("it would be written back with another shape: {why}")),
        }
    })
}

/// Returns why values of a type are not read as the Rust type.
pub(crate) fn unreadable<T: DeserializeOwned>(ty: &Type) -> Option<String> {
    let limits = Limits::new(None, Limits::DEFAULT_MAX_LEN);
    samples(ty, &limits).find_map(|sample| {
        let why = from_value::<T>(&sample).err()?;
        Some(format!("it can be {sample}, and reading it fails: {why}"))
    })
}

#[allow(clippy::float_cmp, reason = "both came from one value")]
/// Equal, but for what a smaller float cannot tell apart.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Float(a), Value::Float(b)) => a == b || a.get() as f32 == b.get() as f32,
        (Value::Struct(_, a), Value::Struct(_, b)) => a.iter().zip(b.iter()).all(|(a, b)| alike(a, b)),
        (Value::List(a), Value::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b)),
        (Value::Map(a), Value::Map(b)) => {
            a.len() == b.len() && a.iter().zip(b.iter()).all(|((x, a), (y, b))| x == y && alike(a, b))
        }
        (Value::Vec2(_) | Value::Vec3(_), Value::Vec2(_) | Value::Vec3(_)) => {
            let float = |finite: &Finite| Value::Float(*finite);
            a.as_vector().iter().zip(b.as_vector()).all(|(a, b)| alike(&float(a), &float(b)))
        }
        (a, b) => a == b,
    }
}

/// Values of a type that show what it can be: both ends of a range, each name of a choice, containers with something in them and
/// without.
fn samples(ty: &Type, limits: &Limits) -> impl Iterator<Item = Value> {
    (0..choices_in(ty).max(3)).map(move |index| sample(ty, limits, index))
}

fn sample(ty: &Type, limits: &Limits, index: usize) -> Value {
    let first = index.is_multiple_of(2);
    let end = |low: f64, high: f64| if first { low } else { high };
    match ty {
        Type::Bool => Value::Bool(first),
        Type::Int => {
            let (lowest, highest) = limits.int_range();
            Value::Int(if first { lowest } else { highest })
        }
        Type::Float => match &limits.range {
            Some((lowest, highest)) => Value::float(end(lowest.as_float(), highest.as_float())),
            None => Value::float(end(-1.5, 0.25)),
        },
        Type::Text => Value::text(if first { "" } else { "a text" }),
        Type::Bytes => Value::bytes(if first { &[][..] } else { &[0, 255][..] }),
        Type::Vec2 => Value::vec2(0.5, end(-1.0, 2.0)),
        Type::Vec3 => Value::vec3(0.5, end(-1.0, 2.0), 0.0),
        Type::Choice(names) => names.get(index % names.len().max(1)).cloned().map_or(Value::Unfilled, Value::Choice),
        Type::Struct(of) => {
            let members = of.members().map(|member| sample(&member.ty, &limits.of_member(member), index));
            Value::Struct(of.clone(), std::sync::Arc::new(members.collect()))
        }
        // The second of them is empty.
        Type::List(inner) => Value::List(item(inner, limits, index).into_iter().collect()),
        Type::Set(inner) => Value::Set(item(inner, limits, index).into_iter().collect()),
        Type::Map(inner) => {
            Value::Map(item(inner, limits, index).into_iter().map(|item| ("a key".into(), item)).collect())
        }
    }
}

fn item(inner: &Type, limits: &Limits, index: usize) -> Option<Value> {
    (index != 1).then(|| sample(inner, &limits.of_items(), index))
}

/// The most names that a choice in the type has, and one sample more where it stands in containers.
fn choices_in(ty: &Type) -> usize {
    match ty {
        Type::Choice(names) => names.len(),
        Type::Struct(of) => of.members().map(|member| choices_in(&member.ty)).max().unwrap_or(0),
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => 2 * choices_in(inner),
        Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 => 0,
    }
}

/// The name of a Rust type without paths.
pub(crate) fn short_name(name: &str) -> String {
    let mut short = String::new();
    let mut word = String::new();
    for c in name.chars() {
        match c {
            c if c.is_alphanumeric() || c == '_' => word.push(c),
            ':' => word.clear(),
            c => {
                short.push_str(&std::mem::take(&mut word));
                short.push(c);
            }
        }
    }
    short + &word
}

/// The Rust type that a value of a type is usually read as.
pub(crate) fn usual(ty: &Type) -> String {
    match ty {
        Type::Bool => "bool".into(),
        Type::Int => "i64".into(),
        Type::Float => "f64".into(),
        Type::Text | Type::Choice(_) => "String".into(),
        Type::Bytes => "Vec<u8>".into(),
        Type::Vec2 => "[f64; 2]".into(),
        Type::Vec3 => "[f64; 3]".into(),
        Type::Struct(of) => {
            let words = of.name().split('_').map(|word| {
                let mut letters = word.chars();
                let first = letters.next().map(char::to_uppercase);
                first.into_iter().flatten().chain(letters).collect::<String>()
            });
            words.collect()
        }
        Type::List(inner) => format!("Vec<{}>", usual(inner)),
        Type::Set(inner) => format!("BTreeSet<{}>", usual(inner)),
        Type::Map(inner) => format!("BTreeMap<String, {}>", usual(inner)),
    }
}
