//! From trees to values of a type, and back.

use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Serialize, Serializer};

use crate::value::Value;
use crate::value::tree::Tree;
use crate::value::types::Type;

/// As images write it: bytes as base64 text.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        Tree::of(self).serialize(serializer)
    }
}

impl Tree {
    /// The value that it would be in a document, where no type says what it is.
    pub(crate) fn plain(&self) -> Value {
        match self {
            Tree::Null => Value::Unfilled,
            Tree::Bool(bool) => Value::Bool(*bool),
            Tree::Int(int) => Value::Int(*int),
            Tree::Float(float) => Value::Float(*float),
            Tree::Text(text) => Value::Text(text.clone()),
            Tree::List(items) => Value::List(items.iter().map(Tree::plain).collect()),
            Tree::Map(entries) => Value::Map(entries.iter().map(|(key, item)| (key.clone(), item.plain())).collect()),
        }
    }

    /// The tree of a value. Bytes are written as base64 text.
    #[doc(hidden)]
    pub fn of(value: &Value) -> Tree {
        match value {
            Value::Unfilled => Tree::Null,
            Value::Bool(bool) => Tree::Bool(*bool),
            Value::Int(int) => Tree::Int(*int),
            Value::Float(float) => Tree::Float(*float),
            Value::Text(text) => Tree::Text(text.clone()),
            Value::Bytes(bytes) => Tree::Text(STANDARD.encode(bytes).into()),
            Value::Vec2(_) | Value::Vec3(_) => Tree::List(value.as_vector().iter().copied().map(Tree::Float).collect()),
            Value::Choice(chosen) => Tree::Text(chosen.name.clone()),
            Value::Struct(ty, members) => {
                let names = ty.members.iter().map(|member| member.name.clone());
                Tree::Map(names.zip(members.iter().map(Tree::of)).collect())
            }
            Value::List(list) => Tree::List(list.iter().map(Tree::of).collect()),
            Value::Set(set) => Tree::List(set.iter().map(Tree::of).collect()),
            Value::Map(map) => Tree::Map(map.iter().map(|(key, value)| (key.clone(), Tree::of(value))).collect()),
        }
    }
}

/// Returns what an image says where a value of `ty` is wanted. `drop` hears of every piece that does not fit, where it stands behind
/// `inside` and why: it is left out, the rest is taken.
pub fn decode(tree: &Tree, ty: &Type, inside: &str, drop: &mut dyn FnMut(String, String)) -> Option<Value> {
    let value = match (tree, ty) {
        (Tree::Bool(bool), Type::Bool) => Value::Bool(*bool),
        (Tree::Int(int), Type::Int) => Value::Int(*int),
        (Tree::Int(int), Type::Float) => Value::float(*int as f64),
        (Tree::Float(float), Type::Float) => Value::Float(*float),
        (Tree::Text(text), Type::Text) => Value::Text(text.clone()),
        (Tree::Text(text), Type::Bytes) => match STANDARD.decode(&**text) {
            Ok(bytes) => Value::bytes(bytes),
            Err(_) => return misfit(tree, ty, inside, drop),
        },
        (Tree::Text(text), Type::Choice(names)) => match Type::chosen(names, text) {
            Some(chosen) => chosen,
            None => {
                drop(inside.to_owned(), format!("there is no choice `{}`", text.escape_debug()));
                return None;
            }
        },
        (Tree::List(items), Type::Vec2 | Type::Vec3) => {
            let numbers: Vec<Value> = items.iter().filter_map(number).collect();
            match Value::List(numbers.into()).fitted(ty) {
                Some(vector) => vector,
                None => return misfit(tree, ty, inside, drop),
            }
        }
        (Tree::Map(entries), Type::Struct(struct_type)) => {
            for (member, _) in entries.iter().filter(|(member, _)| struct_type.position(member).is_none()) {
                drop(format!("{inside}.{member}"), format!("a {} has no such member", struct_type.name));
            }
            let members = struct_type.members.iter().map(|member| {
                let tree = entries.get(&member.name);
                let said = tree.and_then(|tree| decode(tree, &member.ty, &format!("{inside}.{}", member.name), drop));
                said.unwrap_or_else(|| member.default.clone())
            });
            Value::Struct(struct_type.clone(), Arc::new(members.collect()))
        }
        (Tree::List(items), Type::List(inner)) => Value::List(decode_all(items, inner, inside, drop).into()),
        (Tree::List(items), Type::Set(inner)) => {
            Value::Set(decode_all(items, inner, inside, drop).into_iter().collect())
        }
        (Tree::Map(entries), Type::Map(inner)) => {
            let decoded = entries.iter().filter_map(|(key, tree)| {
                Some((key.clone(), decode(tree, inner, &format!("{inside}['{key}']"), drop)?))
            });
            Value::Map(decoded.collect())
        }
        _ => return misfit(tree, ty, inside, drop),
    };
    Some(value)
}

fn decode_all(items: &[Tree], ty: &Type, inside: &str, drop: &mut dyn FnMut(String, String)) -> Vec<Value> {
    let decoded =
        items.iter().enumerate().map(|(index, item)| decode(item, ty, &format!("{inside}, item {}", index + 1), drop));
    decoded.collect::<Vec<_>>().into_iter().flatten().collect()
}

fn misfit(tree: &Tree, ty: &Type, inside: &str, drop: &mut dyn FnMut(String, String)) -> Option<Value> {
    drop(inside.to_owned(), format!("it is {}, and the field is of type {ty}", tree.kind()));
    None
}

fn number(tree: &Tree) -> Option<Value> {
    match tree {
        Tree::Int(int) => Some(Value::Int(*int)),
        Tree::Float(float) => Some(Value::Float(*float)),
        _ => None,
    }
}

/// The value that a tree means, if it fits in every piece and leaves no member of a struct out; else what does not fit.
///
/// # Errors
/// What does not fit, piece by piece.
pub fn exactly(tree: &Tree, ty: &Type, name: &str) -> Result<Value, Vec<String>> {
    let mut misfits = Vec::new();
    let value = decode(tree, ty, "", &mut |inside, why| misfits.push(format!("{name}{inside}: {why}")));
    left_out(tree, ty, name, &mut misfits);
    value.filter(|_| misfits.is_empty()).ok_or(misfits)
}

/// The members of structs that a tree does not have: a Rust value that lacks one is a mistake, and no zero.
fn left_out(tree: &Tree, ty: &Type, name: &str, misfits: &mut Vec<String>) {
    match (tree, ty) {
        (Tree::Map(entries), Type::Struct(ty)) => {
            for member in ty.members() {
                let shown = format!("{name}.{}", member.name());
                match entries.get(member.name()) {
                    Some(tree) => left_out(tree, member.ty(), &shown, misfits),
                    None => misfits.push(format!("{shown}: it is left out, and a {} is written whole", ty.name())),
                }
            }
        }
        (Tree::List(items), Type::List(inner) | Type::Set(inner)) => {
            for (index, item) in items.iter().enumerate() {
                left_out(item, inner, &format!("{name}, item {}", index + 1), misfits);
            }
        }
        (Tree::Map(entries), Type::Map(inner)) => {
            for (key, item) in entries {
                left_out(item, inner, &format!("{name}['{key}']"), misfits);
            }
        }
        _ => {}
    }
}
