//! A comparison of the highest or the lowest of several, or of what a table makes of a number, as comparisons of the parts.

use vestigum_core::Value;
use vestigum_spec::model::Model;
use vestigum_spec::model::node::Node;
use vestigum_spec::syntax::Operator;
use vestigum_spec::vocabulary::function::TableFunction;

/// The condition that a comparison with this outcome is the same as, if one of its sides consists of parts.
pub(super) fn in_parts(spec: &Model, node: &Node, holds: bool) -> Option<Node> {
    let Node::Binary(said, left, right) = node else { return None };
    let said = if holds { *said } else { said.opposite()? };
    // The greater side first.
    let (above, below, strictly) = match said {
        Operator::AtLeast => (left, right, false),
        Operator::Above => (left, right, true),
        Operator::AtMost => (right, left, false),
        Operator::Below => (right, left, true),
        Operator::Equal
        | Operator::Unequal
        | Operator::And
        | Operator::Or
        | Operator::Plus
        | Operator::Minus
        | Operator::Times
        | Operator::Divide => return None,
    };
    let operator = if strictly { Operator::Above } else { Operator::AtLeast };
    let compared = |a: &Node, b: &Node| Node::Binary(operator, Box::new(a.clone()), Box::new(b.clone()));
    let row = |how: Operator, nodes: &[Node], of: &dyn Fn(&Node) -> Node| {
        nodes.iter().map(of).reduce(|row, node| Node::Binary(how, Box::new(row), Box::new(node)))
    };
    match (&**above, &**below) {
        (Node::Highest(nodes), _) => row(Operator::Or, nodes, &|node| compared(node, below)),
        (Node::Lowest(nodes), _) => row(Operator::And, nodes, &|node| compared(node, below)),
        (_, Node::Highest(nodes)) => row(Operator::And, nodes, &|node| compared(above, node)),
        (_, Node::Lowest(nodes)) => row(Operator::Or, nodes, &|node| compared(above, node)),
        (Node::Table(TableFunction::Grade, of, table, level), Node::Const(Value::Int(least))) => {
            reaches(spec, of, *table, *level, if strictly { least.checked_add(1)? } else { *least })
        }
        (Node::Const(Value::Int(most)), Node::Table(TableFunction::Grade, of, table, level)) => {
            let reached = reaches(spec, of, *table, *level, if strictly { *most } else { most.checked_add(1)? })?;
            Some(Node::Not(Box::new(reached)))
        }
        _ => None,
    }
}

/// The condition that a number reaches a step of a table, where those are the same wherever the moment is.
fn reaches(spec: &Model, of: &Node, table: u32, level: Option<u32>, least: i64) -> Option<Node> {
    let table = &spec.tables[table as usize];
    (level.is_some() || !table.has_own_steps()).then_some(())?;
    let steps = table.steps(level);
    let Some(before) = usize::try_from(least).ok().and_then(|least| least.checked_sub(1)) else {
        return Some(Node::Const(Value::Bool(true)));
    };
    let at = if table.falling { steps.len().checked_sub(before + 1) } else { Some(before) };
    let Some(step) = at.and_then(|at| steps.get(at)) else { return Some(Node::Const(Value::Bool(false))) };
    let operator = if table.falling { Operator::AtMost } else { Operator::AtLeast };
    Some(Node::Binary(operator, Box::new(of.clone()), Box::new(Node::Const(step.clone()))))
}

/// The node with the highest and lowest of several outside of what tables make of them.
pub(super) fn tables_inside(spec: &Model, node: &Node) -> Option<Node> {
    let node = node.with_parts(&mut |part| tables_inside(spec, part))?;
    let Node::Table(TableFunction::Grade, of, table, level) = &node else { return Some(node) };
    let falling = spec.tables[*table as usize].falling;
    let each = |nodes: &[Node]| {
        let graded = |node: &Node| Node::Table(TableFunction::Grade, Box::new(node.clone()), *table, *level);
        nodes.iter().map(|node| tables_inside(spec, &graded(node))).collect::<Option<Vec<Node>>>()
    };
    match &**of {
        Node::Highest(nodes) => each(nodes).map(if falling { Node::Lowest } else { Node::Highest }),
        Node::Lowest(nodes) => each(nodes).map(if falling { Node::Highest } else { Node::Lowest }),
        _ => Some(node),
    }
}
