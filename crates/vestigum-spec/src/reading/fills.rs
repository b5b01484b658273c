//! What a fill of a migration writes, and what its expression over one item reads.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::model::Readable;
use crate::model::expression::Expression;
use crate::model::field::{Field, FieldId};
use crate::model::node::{EntryRef, Node};
use crate::reading::compile::{Scope, compile, compile_with};
use crate::reading::items::EachItem;
use crate::syntax::parse::{Ast, AstKind, parse};
use crate::value::types::{Member, StructType, Type};

/// Describes what a fill writes: a field, one entry of it, or a member of its values.
pub(crate) struct FillTarget {
    pub field: FieldId,
    pub at: Option<usize>,
    /// The names on the way to the member; none where the whole value is filled.
    pub members: Vec<Arc<str>>,
}

/// The field and the members of `team.mood`, where a fill of members is meant.
fn member_target<'s>(spec: &'s Readable, ast: &Ast) -> Option<(&'s Field, Vec<Arc<str>>)> {
    match &ast.kind {
        AstKind::Name(name) => Some((spec.find_field(name)?, Vec::new())),
        AstKind::Member(of, member) => {
            let (field, mut members) = member_target(spec, of)?;
            members.push(member.as_str().into());
            Some((field, members))
        }
        AstKind::Literal(_)
        | AstKind::Keyed(..)
        | AstKind::List(_)
        | AstKind::Struct(_)
        | AstKind::Call(..)
        | AstKind::Not(_)
        | AstKind::Negative(_)
        | AstKind::Binary(..) => None,
    }
}

/// Reads the target of a fill: a field of the new version, or one entry by its keys.
pub(crate) fn target(
    spec: &Readable,
    text: &str,
    place: &dyn Fn(SourceSpan) -> SourceSpan,
    errors: &mut Vec<Diagnostic>,
) -> Option<FillTarget> {
    let ast = parse(text);
    if let Ok(Ast { kind: AstKind::Name(name), span, .. }) = &ast {
        if let Some(field) = spec.find_field(name) {
            return Some(FillTarget { field: field.id, at: None, members: Vec::new() });
        }
        let fields = spec.fields.iter().map(|field| &*field.name);
        let message = format!("version {} has no field `{name}`", spec.version);
        errors.push(Diagnostic::error(codes::BAD_STEP, place(*span), message).suggest(name, fields));
        return None;
    }
    if let Ok(ast) = &ast
        && let Some((field, members)) = member_target(spec, ast)
    {
        return match struct_with(&field.ty, &members) {
            Ok(_) => Some(FillTarget { field: field.id, at: None, members }),
            Err(why) => {
                errors.push(Diagnostic::error(codes::BAD_STEP, place(ast.span), why));
                None
            }
        };
    }
    let named = Scope::Fill { level: false, sets: [None; 3] };
    let expression = compile(spec, named, text, None, place, errors)?;
    match &expression.node {
        Node::Read(_, field, EntryRef::Slot(slot)) => {
            Some(FillTarget { field: *field, at: Some(*slot), members: Vec::new() })
        }
        _ => {
            let error =
                Diagnostic::error(codes::BAD_STEP, place(SourceSpan::new(0, text.len())), "this cannot be filled");
            errors.push(
                error.help("fill a field, one entry of it by its declared keys, as in `best_letters[mill_lane]`, or a member of its values, as in `team.mood`"),
            );
            None
        }
    }
}

/// The struct that has the last of the members, inside containers and structs of a type.
pub(crate) fn struct_with<'t>(ty: &'t Type, members: &[Arc<str>]) -> Result<&'t Arc<StructType>, String> {
    let (first, rest) = members.split_first().ok_or("no member is named")?;
    match ty {
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => struct_with(inner, members),
        Type::Struct(ty) => match ty.position(first) {
            None => {
                let known: Vec<&str> = ty.members().map(Member::name).collect();
                Err(format!("a {} has no member `{first}`; it has: {}", ty.name, known.join(", ")))
            }
            Some(_) if rest.is_empty() => Ok(ty),
            Some(index) => struct_with(&ty.members[index].ty, rest),
        },
        Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Choice(_) => {
            Err(format!("a value of type {ty} has no member `{first}`"))
        }
    }
}

/// Compiles an expression over the members of one item, by their names.
pub fn compile_of_item(
    spec: &Readable,
    item: &Type,
    text: &str,
    wanted: Option<&Type>,
    place: &dyn Fn(SourceSpan) -> SourceSpan,
    errors: &mut Vec<Diagnostic>,
) -> Option<Expression> {
    let scope = Scope::Fill { level: false, sets: [None; 3] };
    let each = EachItem { container: None, ty: item.clone() };
    compile_with(spec, scope, text, wanted, place, errors, Some(each))
}
