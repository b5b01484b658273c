//! Levels that players make, counted where only those of the game are meant.

use vestigum_core::{Diagnostic, Type};
use vestigum_spec::codes;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::Node;

use super::Finding;

/// Levels that open by what players can have on levels of their own.
pub(super) fn counted(spec: &Model) -> Vec<Finding> {
    let mut found = Vec::new();
    if spec.made_levels.is_empty() {
        return found;
    }
    for (level, opening) in spec.levels.iter().zip(&spec.openings) {
        let condition = match opening {
            Opening::When(condition) => condition,
            Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => continue,
        };
        let Some(field) = over_levels(spec, condition.node()).map(|id| spec.field(id)) else { continue };
        let said = spec.document.levels.iter().find(|(name, _)| *name.value == *level.id());
        let span = said.and_then(|(_, entry)| entry.opens.as_ref()).map(|word| word.span).unwrap_or_default();
        let name = field.name();
        let message = format!("levels that players make help to open `{}`", level.id());
        let diagnostic = Diagnostic::warning(codes::COUNTS_MADE_LEVELS, span, message)
            .label(format!("`{name}` has an entry for each of them"))
            .help(format!(
                "ask a derived value that leaves them out, as in `{{ per = \"level\", value = \"{}\" }}`",
                match field.ty() {
                    ty if ty.is_number() => format!("if(made, 0, {name})"),
                    ty if *ty == Type::Bool => format!("{name} and not made"),
                    _ => format!("filled({name}) and not made"),
                }
            ));
        found.push(Finding { subject: level.id().to_owned(), diagnostic });
    }
    found
}

/// A field that is read for all levels together.
fn over_levels(spec: &Model, node: &Node) -> Option<FieldId> {
    match node {
        Node::Aggregate(_, field) => {
            Some(*field).filter(|id| spec.field(*id).is_per_level() && !spec.is_made_field(*id))
        }
        Node::Derived(index) => over_levels(spec, spec.derived[*index as usize].expression.node()),
        _ => {
            let mut found = None;
            node.any_part(&mut |part| {
                found = over_levels(spec, part);
                found.is_some()
            });
            found
        }
    }
}
