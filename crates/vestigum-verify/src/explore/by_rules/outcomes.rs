//! What a moment can make of an entry, in terms of the state before it.
//!
//! Before the moment the state is anything: its values are read as `was`, its marks as `entry` and `checkpoint`. Of the rules
//! of a list any can decide, each with what is known then: its guard holds, and those before it do not.

use vestigum_core::model::Model;
use vestigum_core::model::axis::Axis;
use vestigum_core::model::fates::{Effect, Rule};
use vestigum_core::model::field::Field;
use vestigum_core::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_core::syntax::parse::Operator;
use vestigum_core::vocabulary::fate::{Operation, PlainFate};
use vestigum_core::{Moment, Span, Value};

use super::decide::{Budget, is_plain};

/// One thing that a moment can make of an entry.
pub(super) struct MomentOutcome {
    /// What holds of the state before, if this is what happens.
    pub facts: Vec<(Node, bool)>,
    /// The value after; none where nothing is known but its range.
    pub value: Option<Node>,
    pub by: By,
}

/// What decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum By {
    /// The rule at a place in the list.
    Rule(usize),
    /// What happens where no rule decides.
    Fallback(PlainFate),
    /// The field is not there.
    Nothing,
}

/// A moment, as a step from any state.
#[derive(Clone, Copy)]
pub(super) struct MomentStep<'a> {
    pub spec: &'a Model,
    pub moment: Moment,
    pub budget: &'a Budget,
}

impl MomentStep<'_> {
    /// Whether the moment leaves the field as it is, in every state.
    pub(super) fn keeps(&self, field: &Field) -> bool {
        // Levels are opened outside of them.
        let opens = field.id == self.spec.opened && !self.moment.stays_in_level() && self.moment != Moment::Checkpoint;
        !opens && self.spec.plan.fate(field.id, self.moment).is_keep()
    }

    /// An expression of a rule, in terms of the state before: none if it reads what may be another entry there.
    fn before(&self, node: &Node) -> Option<Node> {
        self.before_at(0, node)
    }

    /// `depth` says how deep the node is in the expression.
    fn before_at(&self, depth: usize, node: &Node) -> Option<Node> {
        // Derived values are written out, and those of hostile specs have no end.
        if depth > DEEPEST || self.budget.is_spent_on(1) {
            return None;
        }
        let node = match node {
            Node::Read(at, field, entry) => {
                self.is_steady(entry).then_some(())?;
                Node::Read(self.mark_before(*at), *field, entry.clone())
            }
            Node::Filled(_, entry) => {
                self.is_steady(entry).then_some(())?;
                node.clone()
            }
            Node::Derived(index) => self.before_at(depth + 1, self.spec.derived[*index as usize].expression.node())?,
            _ => node.with_parts(&mut |part| self.before_at(depth + 1, part))?,
        };
        Some(without_rows(node))
    }

    /// What a rule reads, as the state before has it.
    fn mark_before(&self, at: ReadAt) -> ReadAt {
        match at {
            ReadAt::Now | ReadAt::Was => ReadAt::Was,
            // Outside a level both marks are the state itself.
            ReadAt::Entry | ReadAt::Checkpoint if self.moment == Moment::Enter => ReadAt::Was,
            ReadAt::Checkpoint if self.spec.gives_up_checkpoint(self.moment) => ReadAt::Entry,
            ReadAt::Entry | ReadAt::Checkpoint => at,
        }
    }

    /// Whether the same keys are meant before and after the moment.
    pub(super) fn is_steady(&self, entry: &EntryRef) -> bool {
        let EntryRef::Picked(picks) = entry else { return true };
        picks.iter().all(|pick| match pick {
            Pick::Current(set) => {
                let current = self.spec.key_sets[*set as usize].current.as_ref();
                current.is_some_and(|(field, _)| self.keeps(self.spec.field(*field)))
            }
            Pick::Fixed(_) | Pick::Level | Pick::Checkpoint | Pick::Made(..) => true,
            Pick::Filled(_) => false,
        })
    }

    /// Everything that can become of an entry.
    pub(super) fn outcomes(&self, field: &Field, entry: &EntryRef) -> Vec<MomentOutcome> {
        let fate = self.spec.plan.fate(field.id, self.moment);
        let plain = |facts: &[(Node, bool)]| MomentOutcome {
            facts: facts.to_vec(),
            ..self.plain_outcome(field, entry, fate.fallback)
        };
        let mut facts: Vec<(Node, bool)> = Vec::new();
        let mut outcomes = Vec::new();
        let mut always = false;
        for (index, rule) in fate.rules.iter().enumerate() {
            let mut decided = facts.clone();
            if let Some(when) = rule.when.as_ref().and_then(|when| self.before(when.node())) {
                decided.push((when.clone(), true));
                facts.push((when, false));
            }
            outcomes.push(MomentOutcome {
                facts: decided,
                value: self.effect(field, entry, rule),
                by: By::Rule(index),
            });
            always = rule.when.is_none();
            if always {
                break;
            }
        }
        if !always {
            outcomes.push(plain(&facts));
        }
        if !fate.rules.is_empty() && !self.is_touched(field, entry) {
            outcomes.push(plain(&[]));
        }
        // Outside a level the field is not there.
        if field.needs_level() && !self.moment.has_level() {
            let value = Some(Node::Read(ReadAt::Was, field.id, entry.clone()));
            outcomes.push(MomentOutcome { facts: Vec::new(), value, by: By::Nothing });
        }
        if field.id == self.spec.opened && !self.keeps(field) {
            outcomes.push(MomentOutcome { facts: Vec::new(), value: None, by: By::Nothing });
        }
        outcomes
    }

    /// A plain fate as what happens.
    pub(super) fn plain_outcome(&self, field: &Field, entry: &EntryRef, simple: PlainFate) -> MomentOutcome {
        MomentOutcome { facts: Vec::new(), value: self.plain(field, entry, simple), by: By::Fallback(simple) }
    }

    /// Whether it is certainly the entry that the rules touch.
    fn is_touched(&self, field: &Field, entry: &EntryRef) -> bool {
        match (&field.axes[..], entry) {
            ([], _) => true,
            ([Axis::Level], EntryRef::Picked(picks)) => **picks == [Pick::Level] && self.moment.has_level(),
            _ => false,
        }
    }

    fn plain(&self, field: &Field, entry: &EntryRef, simple: PlainFate) -> Option<Node> {
        let read = |at| Some(Node::Read(self.mark_before(at), field.id, entry.clone()));
        match simple {
            PlainFate::Keep => read(ReadAt::Was),
            PlainFate::Entry | PlainFate::Checkpoint if !field.rewinds => read(ReadAt::Was),
            PlainFate::Entry => read(ReadAt::Entry),
            PlainFate::Checkpoint => read(ReadAt::Checkpoint),
            PlainFate::Reset => Some(Node::Const(read_as(field, &field.default))),
        }
    }

    fn effect(&self, field: &Field, entry: &EntryRef, rule: &Rule) -> Option<Node> {
        let (operation, operand) = match &rule.does {
            Effect::Plain(simple) => return self.plain(field, entry, *simple),
            Effect::Operation(operation, operand) => (*operation, self.before(operand.node())?),
        };
        if field.optional || !is_plain(&field.ty) {
            return None;
        }
        let old = Node::Read(ReadAt::Was, field.id, entry.clone());
        let value = match operation {
            Operation::Set => operand,
            Operation::Add => Node::Binary(Operator::Plus, Box::new(old), Box::new(operand)),
            Operation::Max if field.ty.is_number() => Node::Highest(vec![old, operand]),
            Operation::Min if field.ty.is_number() => Node::Lowest(vec![old, operand]),
            Operation::Max | Operation::Min | Operation::Union | Operation::Rank => return None,
        };
        Some(ranged(field, value))
    }
}

/// The value brought into the range of the field.
pub(super) fn ranged(field: &Field, value: Node) -> Node {
    let Some((lowest, highest)) = &field.limits.range else { return value };
    let below = Node::Lowest(vec![Node::Const(highest.clone()), value]);
    Node::Highest(vec![Node::Const(lowest.clone()), below])
}

/// What a launch makes of values that no save has: an attempt begins where the level was entered.
pub(super) fn unsaved_fate(lasts: Span) -> PlainFate {
    match lasts {
        Span::Attempt => PlainFate::Entry,
        Span::Session => PlainFate::Reset,
        Span::Visit | Span::Run | Span::Profile | Span::Device => PlainFate::Keep,
    }
}

/// What a value reads as: without one as zero.
fn read_as(field: &Field, value: &Value) -> Value {
    if value.is_filled() { value.clone() } else { field.ty.zero() }
}

/// How deep an expression may be nested once its derived values are written out: it is walked recursively.
pub(super) const DEEPEST: usize = 120;

/// A row of sums as sums of two, unless it is a long one: that would be nested as deep as it is long.
pub(super) fn without_rows(node: Node) -> Node {
    match node {
        Node::Chain(first, rest) if rest.len() <= 40 => rest
            .into_vec()
            .into_iter()
            .fold(*first, |left, (operator, right)| Node::Binary(operator, Box::new(left), Box::new(right))),
        other => other,
    }
}
