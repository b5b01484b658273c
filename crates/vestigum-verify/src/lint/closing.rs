//! Openings that progress closes: whoever is past it when they are judged never sees the level open.

use vestigum_core::evaluation::Env;
use vestigum_core::evaluation::judge::ExpressionValue;
use vestigum_core::state::State;
use vestigum_core::{Diagnostic, Value};
use vestigum_spec::analysis::bounds::{Bounds, FieldBounds, bounds};
use vestigum_spec::analysis::monotone::Moves;
use vestigum_spec::codes;
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::Node;
use vestigum_spec::syntax::Operator;

use super::Finding;

pub(super) fn closing(spec: &Model) -> Vec<Finding> {
    let mut found = Vec::new();
    for (level, opening) in spec.levels.iter().zip(&spec.openings) {
        let Opening::When(condition) = opening else { continue };
        let said = spec.document.levels.iter().find(|(name, _)| *name.value == *level.id());
        let Some(span) = said.and_then(|(_, entry)| entry.opens.as_ref()).map(|word| word.span) else { continue };
        let moves = condition.moves_with(spec, &|field| if grows(spec.field(field)) { Moves::Up } else { Moves::Not });
        let equals = moves == Moves::Both && asks_for_one_number(spec, condition);
        // What holds at first is open before anything is reached.
        let at_first = condition.holds(&Env::new(spec, &State::fresh(spec), None, None));
        if moves != Moves::Down && !equals || at_first {
            continue;
        }
        let message = format!("the condition of `{}` becomes false as play progresses", level.id());
        let diagnostic = Diagnostic::warning(codes::CLOSED_BY_PROGRESS, span, message)
            .label("judged outside of levels: a player who is past it by then never sees the level open")
            .help("compare with `>=`; a level that is open stays open");
        found.push(Finding { subject: level.id().to_owned(), diagnostic });
    }
    found
}

/// Says whether play goes on to make more of it: a record, a count, what is completed.
fn grows(field: &Field) -> bool {
    field.lasts.outlives_run() || field.built_in
}

/// Says whether it asks that a number that grows is a certain one.
fn asks_for_one_number(spec: &Model, condition: &Expression) -> bool {
    fn asks(spec: &Model, node: &Node) -> bool {
        match node {
            Node::Binary(Operator::Equal, left, right) => {
                [(left, right), (right, left)].iter().any(|(number, other)| {
                    matches!(&***other, Node::Const(most) if !is_the_most(spec, number, most))
                        && is_growing_number(spec, number)
                })
            }
            _ => node.any_part(&mut |part| asks(spec, part)),
        }
    }
    let derived = condition.derived().iter().map(|index| spec.derived[*index as usize].expression.node());
    derived.chain([condition.node()]).any(|node| asks(spec, node))
}

/// Says whether the number can never be more than that.
fn is_the_most(spec: &Model, number: &Node, most: &Value) -> bool {
    let of = |field, _: Option<usize>| Bounds::of_range(spec.field(field));
    let fields = FieldBounds::new(&of);
    let bounds = match number {
        Node::Derived(index) => spec.derived[*index as usize].expression.bounds(spec, &fields),
        _ => bounds(number, spec, &fields, &[]),
    };
    !bounds.can_be_above(most.as_float())
}

fn is_growing_number(spec: &Model, node: &Node) -> bool {
    let number = |id: &FieldId| spec.field(*id).ty.is_number() && grows(spec.field(*id));
    match node {
        Node::Read(_, field, _) => number(field),
        Node::Aggregate(_, field) => grows(spec.field(*field)),
        Node::Derived(index) => {
            let expression = &spec.derived[*index as usize].expression;
            expression.ty().is_number() && expression.reads().iter().any(|field| grows(spec.field(*field)))
        }
        _ => false,
    }
}
