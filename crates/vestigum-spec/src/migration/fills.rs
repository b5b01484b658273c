//! Steps that fill: a field, one entry of it, or a member of its values.

use std::sync::Arc;

use crate::document::Word;
use crate::migration::names::{FieldStep, Renames};
use crate::migration::plan::{Fill, MemberFill};
use crate::migration::steps::{ReadSteps, StepReader};
use crate::model::axis::Axis;
use crate::model::expression::Expression;
use crate::model::field::Field;
use crate::model::node::Node;
use crate::reading::compile::{Scope, compile};
use crate::reading::fills::{FillTarget, compile_of_item, struct_with, target};
use crate::reading::place_of;
use crate::value::types::{StructType, Type};
use crate::vocabulary::span::Span;

impl StepReader<'_> {
    /// Reads a fill. One of a member waits until all names are known.
    pub(super) fn fill<'e>(
        &mut self,
        steps: &mut ReadSteps,
        of_members: &mut Vec<(FillTarget, &'e Word, &'e Word, usize)>,
        to: &'e Word,
        with: &'e Word,
    ) -> Option<()> {
        let found = target(self.new, &to.value, &place_of(self.text, to), self.errors)?;
        let (field, at) = (self.new.field(found.field), found.at);
        if field.lasts == Span::Session {
            self.error(to.span, format!("`{}` lasts a session, so no save holds it", field.name));
            return None;
        }
        if !found.members.is_empty() {
            // Which step it is the caller says.
            of_members.push((found, to, with, 0));
            return Some(());
        }
        if steps.fills.iter().any(|fill| fill.field == field.id && fill.at == at) {
            self.error(to.span, format!("another step fills `{}` already", to.value));
            return None;
        }
        let expression = self.expression(&steps.said, field, with)?;
        steps.fills.push(Fill { field: field.id, at, expression, span: with.span, shown: to.value.clone() });
        Some(())
    }

    pub(super) fn fill_members(
        &mut self,
        steps: &mut ReadSteps,
        target: FillTarget,
        to: &Word,
        with: &Word,
    ) -> Option<()> {
        let FillTarget { field, members, .. } = target;
        if steps.member_fills.iter().any(|fill| fill.field == field && fill.members == members) {
            self.error(to.span, format!("another step fills `{}` already", to.value));
            return None;
        }
        let now = self.new.field(field);
        let (old, said) = (self.old, &steps.said);
        let comes_from = |was: &&Field| match said.fields.get(&was.id) {
            Some(FieldStep::Renamed(to)) => *to == field,
            Some(FieldStep::Dropped) => false,
            None => was.name == now.name,
        };
        let Some(before) = old.fields.iter().find(comes_from) else {
            let message = format!("version {} has no `{}`, so there is nothing of it to read", old.version, now.name);
            self.error(to.span, message).help = Some(format!("fill `{}` as a whole", now.name));
            return None;
        };
        let Some(was) = struct_before(said, &before.ty, &members) else {
            let message =
                format!("the values of `{}` had no struct at this place in version {}", before.name, old.version);
            self.error(to.span, message).help = Some(format!("fill `{}` as a whole", now.name));
            return None;
        };
        let is = struct_with(&now.ty, &members).ok()?.clone();
        let member = &is.members[is.position(members.last()?)?];
        let place = place_of(self.text, with);
        let expression =
            compile_of_item(old, &Type::Struct(was.clone()), &with.value, Some(&member.ty), &place, self.errors)?;
        if let Some(read) = expression.reads().first() {
            let message = format!(
                "a fill of a member reads the members that a {} had, and `{}` is a field",
                was.name,
                old.field(*read).name
            );
            self.error(with.span, message);
            return None;
        }
        let mut reads = Vec::new();
        members_read(expression.node(), &mut reads);
        steps.member_fills.push(MemberFill { field, members, reads, expression, span: with.span });
        Some(())
    }

    /// An expression over the old values: of the field's type, or of one that becomes it under new names.
    fn expression(&mut self, said: &Renames, field: &Field, with: &Word) -> Option<Expression> {
        let place = place_of(self.text, with);
        // The key sets of the old version that the entry has keys of.
        let mut sets = [None; 3];
        let axes = field.axes.iter().filter_map(|axis| match axis {
            Axis::Keys(set) => Some(*set),
            Axis::Level | Axis::Checkpoint => None,
        });
        for (known, set) in sets.iter_mut().zip(axes) {
            *known = self.set_before(said, set);
        }
        let scope = Scope::Fill { level: field.is_per_level(), sets };
        let mut errors = Vec::new();
        let found = compile(self.old, scope, &with.value, Some(&field.ty), &place, &mut errors).or_else(|| {
            let untyped = compile(self.old, scope, &with.value, None, &place, &mut Vec::new())?;
            super::names::alike(untyped.ty(), &field.ty).then_some(untyped)
        });
        if found.is_none() {
            for mut error in errors {
                let gone = self.dropped_before.iter().find(|(name, _)| error.message.contains(&format!("`{name}`")));
                error.help = match (gone, error.help.take()) {
                    (Some((_, version)), _) => Some(format!("it is gone since version {version}")),
                    (None, None) => Some(format!("`with` reads the values of version {}", self.old.version)),
                    (None, help) => help,
                };
                self.errors.push(error);
            }
        }
        found
    }

    /// The set of the old version that one of the new version was.
    fn set_before(&self, said: &Renames, set: u32) -> Option<u32> {
        let renamed = said.sets.iter().find(|(_, new)| **new == set).map(|(old, _)| *old);
        let name = &self.new.key_sets[set as usize].name;
        renamed.or_else(|| self.old.key_sets.iter().position(|old| old.name == *name).map(|old| old as u32))
    }
}

/// The struct of the old version that has become the one with the last of the members.
fn struct_before<'t>(said: &Renames, ty: &'t Type, members: &[Arc<str>]) -> Option<&'t Arc<StructType>> {
    match ty {
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => struct_before(said, inner, members),
        Type::Struct(ty) => {
            let (first, rest) = members.split_first()?;
            if rest.is_empty() {
                return Some(ty);
            }
            let was =
                ty.members.iter().find(|member| match said.members.get(&(ty.name.clone(), member.name.clone())) {
                    Some(now) => now.as_ref() == Some(first),
                    None => member.name == *first,
                });
            struct_before(said, &was?.ty, rest)
        }
        Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Choice(_) => {
            None
        }
    }
}

/// The members of the item that an expression reads.
fn members_read(node: &Node, found: &mut Vec<Arc<str>>) {
    if let Node::Member(of, name, _) = node
        && **of == Node::Each
    {
        found.push(name.clone());
    }
    node.any_part(&mut |part| {
        members_read(part, found);
        false
    });
}
