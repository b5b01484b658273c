//! Fills of members: each struct of a value gets a member that is made of those it had.

use std::sync::Arc;

use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use vestigum_spec::migration::MemberFill;
use vestigum_spec::migration::{ChoiceOwner, NameMap};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::types::Type;

/// Describes what the fills of one entry need.
pub(crate) struct MemberFilling<'a> {
    pub names: &'a NameMap,
    /// The old version.
    pub env: &'a Env<'a>,
}

/// A value before and after, with its types.
struct Pair<'v> {
    /// Whose the choices in it are.
    of: ChoiceOwner,
    old: &'v Value,
    was: &'v Type,
    is: &'v Type,
}

impl MemberFilling<'_> {
    /// The value `now` that has become of `old`, with the member filled.
    pub(crate) fn filled(&self, fill: &MemberFill, was: &Field, is: &Field, old: &Value, now: Value) -> Value {
        let pair = Pair { of: ChoiceOwner::Field(was.id), old, was: &was.ty, is: &is.ty };
        self.inside(fill, &fill.members, &pair, now)
    }

    fn inside(&self, fill: &MemberFill, members: &[Arc<str>], pair: &Pair<'_>, now: Value) -> Value {
        let item = |old, was, is, now| self.inside(fill, members, &Pair { of: pair.of.clone(), old, was, is }, now);
        match (pair.old, now, pair.was, pair.is) {
            (Value::List(old), Value::List(now), Type::List(was), Type::List(is)) if old.len() == now.len() => {
                Value::List(old.iter().zip(&now).map(|(old, now)| item(old, was, is, now.clone())).collect())
            }
            (Value::Map(old), Value::Map(now), Type::Map(was), Type::Map(is)) => {
                let entries = now.iter().map(|(key, now)| {
                    let filled = old.get(key).map(|old| item(old, was, is, now.clone()));
                    (key.clone(), filled.unwrap_or_else(|| now.clone()))
                });
                Value::Map(entries.collect())
            }
            // Items of a set stand where their values put them, so each is converted again beside what it was.
            (Value::Set(old), Value::Set(_), Type::Set(was), Type::Set(is)) => {
                let items = old
                    .iter()
                    .filter_map(|old| Some(item(old, was, is, self.names.convert_of(&pair.of, old, was, is)?)));
                Value::Set(items.collect())
            }
            (Value::Struct(_, before), Value::Struct(ty, mut values), Type::Struct(was), Type::Struct(is)) => {
                let Some((first, rest)) = members.split_first() else { return Value::Struct(ty, values) };
                let Some(index) = is.position(first) else { return Value::Struct(ty, values) };
                let place = &mut Arc::make_mut(&mut values)[index];
                if rest.is_empty() {
                    *place = fill.expression.value(&Env { each: Some(pair.old), ..*self.env });
                } else if let Some(member) = self.names.member_before(was, first)
                    && let Some(old) = was.position(&member.name).and_then(|at| before.get(at))
                {
                    let of = ChoiceOwner::Member(was.name.clone(), member.name.clone());
                    let inner = Pair { of, old, was: &member.ty, is: &is.members[index].ty };
                    *place = self.inside(fill, rest, &inner, std::mem::take(place));
                }
                Value::Struct(ty, values)
            }
            (_, now, ..) => now,
        }
    }
}
