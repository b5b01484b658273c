//! Members of structs, looked at one by one: a struct can come through without one of them.

use std::sync::Arc;

use vestigum_core::{Type, Value};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::types::Member;

use super::images::{SampleKind, made, of_member};
use super::{LostPart, Prover};

/// A member of a struct, however deep in the type of a field.
struct Path {
    /// The names on the way to it.
    names: Vec<Arc<str>>,
    /// The structs that have them, each with the member that leads on.
    of: Vec<(Arc<str>, Arc<str>)>,
    member: Member,
}

impl Prover<'_> {
    /// Checks whether steps drop every member of the structs in a field, so that nothing is left of it.
    pub(super) fn all_members_go(&self, field: &Field) -> bool {
        let mut paths = Vec::new();
        gather(&field.ty, &mut Vec::new(), &mut Vec::new(), &mut paths);
        let holds_others = |path: &&Path| matches!(path.member.ty, Type::Struct(_));
        !paths.is_empty() && paths.iter().filter(|path| !holds_others(path)).all(|path| self.goes(path))
    }

    /// Checks whether a step drops a member, a struct around it, or all its choices but one.
    fn goes(&self, path: &Path) -> bool {
        let dropped = path.of.iter().any(|(of, member)| self.trace.drops_member(of, member));
        let choices = |(of, member): &(Arc<str>, Arc<str>)| self.trace.drops_choices_of(of, member, &path.member.ty);
        dropped || path.of.last().is_some_and(choices)
    }

    /// The members that nothing of the loaded game depends on, though no step drops them.
    pub(super) fn lost_members(&self, field: &Field, slot: usize) -> Vec<LostPart> {
        let mut paths = Vec::new();
        gather(&field.ty, &mut Vec::new(), &mut Vec::new(), &mut paths);
        let lost = paths.into_iter().filter(|path| !self.goes(path) && !self.member_matters(field, slot, path));
        lost.map(|path| LostPart { entry: self.entry_name(field, slot), members: path.names }).collect()
    }

    /// Returns whether another value of the member, and nothing else, makes another game.
    fn member_matters(&self, field: &Field, slot: usize, path: &Path) -> bool {
        let kinds = [SampleKind::Smallest, SampleKind::Largest, SampleKind::Typical(40), SampleKind::Typical(91)];
        let whole = made(field, SampleKind::Typical(40), slot as u64);
        let value =
            |kind: &SampleKind| with_member(&whole, &path.names, &of_member(&path.member, &field.limits, *kind, 3));
        let limits = field.limits.of_member(&path.member);
        let asked = self.trace.compared(&path.member.ty, &limits);
        let asked = asked.iter().map(|asked| with_member(&whole, &path.names, asked));
        let values: Vec<Value> = kinds.iter().map(value).chain(asked).collect();
        // Of what has only one value, nothing can be lost.
        let same = values.iter().all(|value| *value == values[0]);
        same || self.tells_apart(field, slot, &values)
    }
}

/// All members of the structs in a type.
fn gather(ty: &Type, names: &mut Vec<Arc<str>>, of: &mut Vec<(Arc<str>, Arc<str>)>, paths: &mut Vec<Path>) {
    match ty {
        Type::Struct(structure) => {
            for member in &structure.members {
                names.push(member.name.clone());
                of.push((structure.name.clone(), member.name.clone()));
                paths.push(Path { names: names.clone(), of: of.clone(), member: member.clone() });
                gather(&member.ty, names, of, paths);
                of.pop();
                names.pop();
            }
        }
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => gather(inner, names, of, paths),
        Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes => {}
        Type::Vec2 | Type::Vec3 | Type::Choice(_) => {}
    }
}

/// The value with another member, in every item that has it.
fn with_member(value: &Value, names: &[Arc<str>], new: &Value) -> Value {
    let Some((first, rest)) = names.split_first() else { return new.clone() };
    let inside = |item: &Value| with_member(item, names, new);
    match value {
        Value::Struct(ty, members) => {
            let mut members = members.to_vec();
            if let Some(index) = ty.position(first) {
                members[index] = with_member(&members[index], rest, new);
            }
            Value::Struct(ty.clone(), Arc::new(members))
        }
        Value::List(items) => Value::List(items.iter().map(inside).collect()),
        Value::Set(items) => Value::Set(items.iter().map(inside).collect()),
        Value::Map(entries) => Value::Map(entries.iter().map(|(key, item)| (key.clone(), inside(item))).collect()),
        other => other.clone(),
    }
}
