//! Whether a condition holds after a moment, by the rules alone.

use vestigum_core::Moment;
use vestigum_core::analysis::bounds::FieldBounds;
use vestigum_core::model::Model;
use vestigum_core::model::expression::Expression;
use vestigum_core::model::field::FieldId;
use vestigum_core::model::node::{EntryRef, Node, ReadAt};

use super::decide::{Budget, Known, range_of};
use super::outcomes::{By, DEEPEST, MomentOutcome, MomentStep, without_rows};
use super::{Ground, Occasion, Reason};

/// The most combinations of what can become of the entries that a condition reads.
const CASES: usize = 128;

/// Why the condition holds after the moments.
pub(super) fn grounds(spec: &Model, condition: &Expression, after: &[Moment]) -> Option<Vec<Ground>> {
    let budget = Budget::default();
    if after.contains(&Moment::Launch) {
        return holds_in_any_state(spec, condition, &budget).then(Vec::new);
    }
    let mut grounds = Vec::new();
    for moment in after {
        let step = MomentStep { spec, moment: *moment, budget: &budget };
        match holds_after(step, condition, &budget) {
            Some(found) => grounds.extend(found),
            None => holds_in_any_state(spec, condition, &budget).then_some(())?,
        }
    }
    Some(grounds)
}

/// Whether the ranges of the fields alone say so, with every read an unknown of its own.
pub(super) fn holds_in_any_state(spec: &Model, condition: &Expression, budget: &Budget) -> bool {
    let ranges = |id, _: Option<usize>| range_of(spec, id);
    let known = Known::new(spec, FieldBounds::new(&ranges), budget);
    inlined(spec, condition.node(), budget).is_some_and(|node| known.proves(&node, true))
}

/// The condition with the derived values that it reads written out.
pub(super) fn inlined(spec: &Model, node: &Node, budget: &Budget) -> Option<Node> {
    inlined_at(0, spec, node, budget)
}

/// `depth` says how deep the node is in the condition.
fn inlined_at(depth: usize, spec: &Model, node: &Node, budget: &Budget) -> Option<Node> {
    if depth > DEEPEST || budget.is_spent_on(1) {
        return None;
    }
    let inside = |node: &Node| inlined_at(depth + 1, spec, node, budget);
    Some(without_rows(match node {
        Node::Derived(index) => inside(spec.derived[*index as usize].expression.node())?,
        _ => node.with_parts(&mut |part| inside(part))?,
    }))
}

/// What a condition reads of the state after a moment.
pub(super) type Read = (FieldId, EntryRef);

fn holds_after(step: MomentStep<'_>, condition: &Expression, budget: &Budget) -> Option<Vec<Ground>> {
    let spec = step.spec;
    let condition = inlined(spec, condition.node(), budget)?;
    let mut reads: Vec<Read> = Vec::new();
    is_followed(step, &condition, &mut reads).then_some(())?;
    let outcomes: Vec<Vec<MomentOutcome>> =
        reads.iter().map(|(field, entry)| step.outcomes(spec.field(*field), entry)).collect();
    let rest = |node: &Node| match node {
        // Outside a level both marks are the state itself.
        Node::Read(ReadAt::Entry | ReadAt::Checkpoint, field, entry)
            if step.moment == Moment::Enter || !spec.field(*field).rewinds =>
        {
            Some(Node::Read(ReadAt::Was, *field, entry.clone()))
        }
        _ => None,
    };
    Cases { spec, condition: &condition, reads: &reads, outcomes: &outcomes, rest: &rest, budget }.all_hold(&[])?;
    Some(told(step, &reads, &outcomes))
}

/// What can become of the entries that a condition reads.
pub(super) struct Cases<'a> {
    pub spec: &'a Model,
    pub condition: &'a Node,
    pub reads: &'a [Read],
    /// For each read all that it can be.
    pub outcomes: &'a [Vec<MomentOutcome>],
    /// What other parts of the condition are in terms of the state before, where they are something else.
    pub rest: &'a dyn Fn(&Node) -> Option<Node>,
    pub budget: &'a Budget,
}

impl Cases<'_> {
    /// Whether the condition holds in all of them, if this holds of the state before.
    pub(super) fn all_hold(&self, given: &[Node]) -> Option<()> {
        let count = self.outcomes.iter().map(Vec::len).try_fold(1_usize, usize::checked_mul)?;
        (count <= CASES).then_some(())?;
        for case in 0..count {
            let chosen = chosen(self.outcomes, case);
            let ranges = |id, _: Option<usize>| range_of(self.spec, id);
            let known = Known::new(self.spec, FieldBounds::new(&ranges), self.budget);
            let before = given.iter().map(|node| (node, true));
            let mut facts =
                before.chain(chosen.iter().flat_map(|outcome| &outcome.facts).map(|(fact, is)| (fact, *is)));
            // What cannot happen breaks nothing.
            if facts.all(|(fact, holds)| known.suppose(fact, holds)) {
                let node = self.after(self.condition, &chosen)?;
                known.proves(&node, true).then_some(())?;
            }
        }
        Some(())
    }

    /// A part of the condition in terms of the state before.
    fn after(&self, node: &Node, chosen: &[&MomentOutcome]) -> Option<Node> {
        if let Some(other) = (self.rest)(node) {
            return Some(other);
        }
        let Node::Read(ReadAt::Now, field, entry) = node else {
            return node.with_parts(&mut |part| self.after(part, chosen));
        };
        let at = self.reads.iter().position(|(of, read)| of == field && read == entry)?;
        Some(chosen[at].value.clone().unwrap_or_else(|| node.clone()))
    }
}

/// What the moment makes of each field that is read.
pub(super) fn told(step: MomentStep<'_>, reads: &[Read], outcomes: &[Vec<MomentOutcome>]) -> Vec<Ground> {
    let mut grounds: Vec<Ground> = Vec::new();
    for ((field, _), outcomes) in reads.iter().zip(outcomes) {
        for outcome in outcomes {
            let Some(ground) = ground(step, *field, outcome.by) else { continue };
            if !grounds.contains(&ground) {
                grounds.push(ground);
            }
        }
    }
    grounds
}

/// One outcome of each.
fn chosen(outcomes: &[Vec<MomentOutcome>], mut case: usize) -> Vec<&MomentOutcome> {
    let mut chosen = Vec::with_capacity(outcomes.len());
    for outcomes in outcomes {
        chosen.push(&outcomes[case % outcomes.len()]);
        case /= outcomes.len();
    }
    chosen
}

/// Whether everything that the condition reads can be followed through the moment; gathers what it reads of the state after.
pub(super) fn is_followed(step: MomentStep<'_>, node: &Node, reads: &mut Vec<Read>) -> bool {
    let keeps = |field: FieldId| step.keeps(step.spec.field(field));
    match node {
        Node::Read(ReadAt::Now, field, entry) => {
            let read = (*field, entry.clone());
            if !reads.contains(&read) {
                reads.push(read);
            }
            step.is_steady(entry)
        }
        Node::Read(ReadAt::Was | ReadAt::Entry | ReadAt::Checkpoint, _, entry) => step.is_steady(entry),
        Node::Filled(field, entry) => keeps(*field) && step.is_steady(entry),
        Node::Aggregate(_, field) => keeps(*field),
        Node::Open(_) => keeps(step.spec.opened),
        _ => !node.any_part(&mut |part| !is_followed(step, part, reads)),
    }
}

fn ground(step: MomentStep<'_>, field: FieldId, by: By) -> Option<Ground> {
    let field = step.spec.field(field);
    let occasion = Occasion::Moment(step.moment);
    match by {
        By::Rule(index) => Some(Ground { rule: Some(index), ..Ground::new(occasion, field, Reason::Rules) }),
        By::Fallback(simple) => {
            Some(Ground::new(occasion, field, Reason::Becomes(step.spec.meant(step.moment, simple))))
        }
        By::Nothing => None,
    }
}
