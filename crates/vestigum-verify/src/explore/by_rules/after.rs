//! Whether a condition holds after a moment, by the rules alone.

use vestigum_core::Moment;
use vestigum_core::{Type, Value};
use vestigum_spec::analysis::bounds::FieldBounds;
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::node::{EntryRef, Node, ReadAt};
use vestigum_spec::vocabulary::function::Aggregate;

use super::decide::{Budget, Known, range_of};
use super::lemmas::Lemma;
use super::outcomes::{By, DEEPEST, MomentOutcome, MomentStep, without_rows};
use super::parts::tables_inside;
use super::{FoundProof, Ground, Occasion, Reason};

/// The most combinations of what can become of the entries that a condition reads.
const CASES: usize = 128;

/// Proves that the condition holds after the moments, where the lemmas hold before them.
pub(super) fn proof(spec: &Model, condition: &Expression, after: &[Moment], lemmas: &[Lemma]) -> Option<FoundProof> {
    let budget = Budget::default();
    let mut grounds = Vec::new();
    for moment in after {
        let step = MomentStep { spec, moment: *moment, budget: &budget };
        // A launch changes what is not saved.
        let found = if *moment == Moment::Launch { None } else { holds_after(step, condition, lemmas, &budget) };
        match found {
            Some(found) => grounds.extend(found),
            None => holds_in_any_state(spec, condition, lemmas, &budget).then_some(())?,
        }
    }
    Some(FoundProof::from_any_state(grounds).with(lemmas))
}

/// Says whether the ranges of the fields and the lemmas alone say so, with every read an unknown of its own.
pub(super) fn holds_in_any_state(spec: &Model, condition: &Expression, lemmas: &[Lemma], budget: &Budget) -> bool {
    let ranges = |id, _: Option<usize>| range_of(spec, id);
    let known = Known::new(spec, FieldBounds::new(&ranges), budget);
    // Where they cannot hold together, nothing is reached that could break it.
    let always = lemmas.iter().filter(|lemma| lemma.always);
    let possible = always.into_iter().all(|lemma| known.suppose(&lemma.holds, true));
    !possible || inlined(spec, condition.node(), budget).is_some_and(|node| known.decides(&node))
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
        // Only entries are known as they were.
        Node::Before(inner) => as_it_was(&inside(inner)?)?,
        Node::Open(Some(level)) => Node::Read(ReadAt::Now, spec.opened, EntryRef::Slot(spec.opened_slot(*level))),
        Node::Aggregate(Aggregate::Size, field) if is_listed(spec, *field) => {
            Node::Const(Value::Int(spec.field(*field).slots().count() as i64))
        }
        _ => node.with_parts(&mut |part| inside(part))?,
    }))
}

/// A node as it was before the moment, if it reads nothing but entries of fields as they are.
fn as_it_was(node: &Node) -> Option<Node> {
    match node {
        Node::Read(ReadAt::Now, field, entry) => Some(Node::Read(ReadAt::Was, *field, entry.clone())),
        Node::Read(..)
        | Node::Filled(..)
        | Node::Aggregate(..)
        | Node::Before(_)
        | Node::Open(_)
        | Node::Level
        | Node::Checkpoint
        | Node::Exit
        | Node::LevelIndex
        | Node::CheckpointIndex => None,
        _ => node.with_parts(&mut |part| as_it_was(part)),
    }
}

/// Says whether the entries of a field are the same in every state: none is made at run time.
pub(super) fn is_listed(spec: &Model, field: FieldId) -> bool {
    let field = spec.field(field);
    let made = field.is_per_level() && !spec.made_levels.is_empty();
    !made && !field.axes.iter().any(|axis| spec.is_open(*axis))
}

/// Says whether the sum of all entries of a field of ints is far from the ends of what an int can be, so that it is never cut.
fn is_short(field: &Field) -> bool {
    const END: i64 = 1 << 32;
    let short = |value: &Value| (-END..=END).contains(&value.as_int());
    let range = field.limits.range.as_ref();
    field.ty == Type::Int
        && field.slots().count() < 1 << 20
        && range.is_some_and(|(low, high)| short(low) && short(high))
}

/// Describes what a condition reads of the state after a moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Read {
    Entry(FieldId, EntryRef),
    /// All entries of a field together.
    All(Aggregate, FieldId),
}

impl Read {
    /// Returns what a node reads, if it is one of these. Of all entries together their sum is followed, and how many are true.
    pub(super) fn of(spec: &Model, node: &Node) -> Option<Read> {
        match node {
            Node::Read(ReadAt::Now, field, entry) => Some(Read::Entry(*field, entry.clone())),
            Node::Aggregate(over, id) => {
                let field = spec.field(*id);
                let followed = match over {
                    Aggregate::Count => field.ty == Type::Bool,
                    Aggregate::Sum => is_short(field),
                    Aggregate::Highest | Aggregate::Lowest | Aggregate::Size => false,
                };
                (followed && !field.optional && is_listed(spec, *id)).then_some(Read::All(*over, *id))
            }
            _ => None,
        }
    }

    pub(super) fn field(&self) -> FieldId {
        match self {
            Read::Entry(field, _) | Read::All(_, field) => *field,
        }
    }

    /// Reads the same in the state before.
    pub(super) fn before(&self) -> Node {
        match self {
            Read::Entry(field, entry) => Node::Read(ReadAt::Was, *field, entry.clone()),
            Read::All(over, field) => Node::Aggregate(*over, *field),
        }
    }

    /// Stands for the value where nothing is known of the state after.
    fn unknown(&self) -> Node {
        match self {
            Read::Entry(field, entry) => Node::Read(ReadAt::Now, *field, entry.clone()),
            // All entries together are read without a time in the state before, so this is another unknown.
            Read::All(over, field) => Node::Before(Box::new(Node::Aggregate(*over, *field))),
        }
    }
}

fn holds_after(step: MomentStep<'_>, condition: &Expression, lemmas: &[Lemma], budget: &Budget) -> Option<Vec<Ground>> {
    let spec = step.spec;
    let condition = inlined(spec, condition.node(), budget)?;
    let mut reads: Vec<Read> = Vec::new();
    is_followed(step, &condition, &mut reads).then_some(())?;
    let outcomes: Vec<Vec<MomentOutcome>> = reads.iter().map(|read| step.outcomes_of(read)).collect();
    let rest = |node: &Node| match node {
        // Outside a level both marks are the state itself.
        Node::Read(ReadAt::Entry | ReadAt::Checkpoint, field, entry)
            if step.moment == Moment::Enter || !spec.field(*field).rewinds =>
        {
            Some(Node::Read(ReadAt::Was, *field, entry.clone()))
        }
        _ => None,
    };
    let given: Vec<Node> = lemmas.iter().filter_map(Lemma::before).collect();
    Cases { spec, condition: &condition, reads: &reads, outcomes: &outcomes, rest: &rest, budget }.all_hold(&given)?;
    Some(told(step, &reads, &outcomes))
}

/// Describes what can become of the entries that a condition reads.
pub(super) struct Cases<'a> {
    pub spec: &'a Model,
    pub condition: &'a Node,
    pub reads: &'a [Read],
    /// For each read all that it can be.
    pub outcomes: &'a [Vec<MomentOutcome>],
    /// Says what other parts of the condition are in terms of the state before, where they are something else.
    pub rest: &'a dyn Fn(&Node) -> Option<Node>,
    pub budget: &'a Budget,
}

impl Cases<'_> {
    /// Returns whether the condition holds in all of them, if this holds of the state before.
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
                let node = tables_inside(self.spec, &self.after(self.condition, &chosen)?)?;
                known.decides(&node).then_some(())?;
            }
        }
        Some(())
    }

    /// A part of the condition in terms of the state before.
    fn after(&self, node: &Node, chosen: &[&MomentOutcome]) -> Option<Node> {
        if let Some(other) = (self.rest)(node) {
            return Some(other);
        }
        let Some(read) = Read::of(self.spec, node) else {
            return node.with_parts(&mut |part| self.after(part, chosen));
        };
        match self.reads.iter().position(|known| *known == read) {
            Some(at) => Some(chosen[at].value.clone().unwrap_or_else(|| read.unknown())),
            // What a moment leaves as it is.
            None => matches!(read, Read::All(..)).then(|| node.clone()),
        }
    }
}

/// Returns what the moment makes of each field that is read.
pub(super) fn told(step: MomentStep<'_>, reads: &[Read], outcomes: &[Vec<MomentOutcome>]) -> Vec<Ground> {
    let mut grounds: Vec<Ground> = Vec::new();
    for (read, outcomes) in reads.iter().zip(outcomes) {
        for outcome in outcomes {
            let Some(ground) = ground(step, read.field(), outcome.by) else { continue };
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

/// Returns whether everything that the condition reads can be followed through the moment; gathers what it reads of the state after.
pub(super) fn is_followed(step: MomentStep<'_>, node: &Node, reads: &mut Vec<Read>) -> bool {
    let keeps = |field: FieldId| step.keeps(step.spec.field(field));
    if let Some(read) = Read::of(step.spec, node) {
        let is_steady = match &read {
            Read::Entry(_, entry) => step.is_steady(entry),
            Read::All(..) => true,
        };
        if !reads.contains(&read) {
            reads.push(read);
        }
        return is_steady;
    }
    match node {
        Node::Read(_, _, entry) => step.is_steady(entry),
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
