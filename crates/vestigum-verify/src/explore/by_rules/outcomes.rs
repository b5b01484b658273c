//! What a moment can make of an entry, in terms of the state before it.
//!
//! Before the moment the state is anything: its values are read as `was`, its marks as `entry` and `checkpoint`. Of the rules
//! of a list any can decide, each with what is known then: its guard holds, and those before it do not.

use vestigum_core::{Moment, Span, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::Field;
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_spec::syntax::Operator;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::function::Aggregate;

use super::after::{Read, is_listed};
use super::decide::{Budget, is_plain};

/// One thing that a moment can make of an entry.
pub(super) struct MomentOutcome {
    /// Says what holds of the state before, if this is what happens.
    pub facts: Vec<(Node, bool)>,
    /// The value after; none where nothing is known but its range.
    pub value: Option<Node>,
    pub by: By,
}

/// Describes what decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum By {
    /// The rule at a place in the list.
    Rule(usize),
    /// Says what happens where no rule decides.
    Fallback(PlainFate),
    /// The field is not there.
    Nothing,
}

/// Tells which entries of a field the rules of a moment touch, as seen from one of them.
enum Touches {
    TheEntry,
    /// The entry, where this holds; otherwise others.
    ThatOf(Node),
    /// The entry or others.
    Some,
}

impl Touches {
    /// Lists what is known where the entry is touched, or is not.
    fn facts(&self, touched: bool) -> Vec<(Node, bool)> {
        match self {
            Touches::ThatOf(condition) => vec![(condition.clone(), touched)],
            Touches::TheEntry | Touches::Some => Vec::new(),
        }
    }
}

fn equal(node: Node, text: &str) -> Node {
    Node::Binary(Operator::Equal, Box::new(node), Box::new(Node::Const(Value::text(text))))
}

/// A moment, as a step from any state.
#[derive(Clone, Copy)]
pub(super) struct MomentStep<'a> {
    pub spec: &'a Model,
    pub moment: Moment,
    pub budget: &'a Budget,
}

impl MomentStep<'_> {
    /// Returns whether the moment leaves the field as it is, in every state.
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
            Node::Open(Some(level)) => {
                Node::Read(ReadAt::Was, self.spec.opened, EntryRef::Slot(self.spec.opened_slot(*level)))
            }
            Node::Aggregate(Aggregate::Size, field) if is_listed(self.spec, *field) => {
                Node::Const(Value::Int(self.spec.field(*field).slots().count() as i64))
            }
            _ => node.with_parts(&mut |part| self.before_at(depth + 1, part))?,
        };
        Some(without_rows(node))
    }

    /// Returns what a rule reads, as the state before has it.
    fn mark_before(&self, at: ReadAt) -> ReadAt {
        match at {
            ReadAt::Now | ReadAt::Was => ReadAt::Was,
            // Outside a level both marks are the state itself.
            ReadAt::Entry | ReadAt::Checkpoint if self.moment == Moment::Enter => ReadAt::Was,
            ReadAt::Checkpoint if self.spec.gives_up_checkpoint(self.moment) => ReadAt::Entry,
            ReadAt::Entry | ReadAt::Checkpoint => at,
        }
    }

    /// Returns whether the same keys are meant before and after the moment.
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

    /// Everything that can become of what is read.
    pub(super) fn outcomes_of(&self, read: &Read) -> Vec<MomentOutcome> {
        match read {
            Read::Entry(field, entry) => self.outcomes(self.spec.field(*field), entry),
            Read::All(over, field) => self.outcomes_of_all(*over, self.spec.field(*field)),
        }
    }

    /// Everything that can become of an entry.
    pub(super) fn outcomes(&self, field: &Field, entry: &EntryRef) -> Vec<MomentOutcome> {
        let fate = self.spec.plan.fate(field.id, self.moment);
        let touches = if fate.rules.is_empty() { Touches::TheEntry } else { self.touches(field, entry) };
        let plain = |facts: &[(Node, bool)]| MomentOutcome {
            facts: facts.to_vec(),
            ..self.plain_outcome(field, entry, fate.fallback)
        };
        let mut outcomes = self.touched(field, entry, &touches.facts(true));
        match &touches {
            Touches::TheEntry => {}
            Touches::ThatOf(_) | Touches::Some => outcomes.push(plain(&touches.facts(false))),
        }
        // Outside a level the field is not there.
        if field.needs_level() && !self.moment.has_level() {
            let value = Some(Node::Read(ReadAt::Was, field.id, entry.clone()));
            outcomes.push(MomentOutcome { facts: Vec::new(), value, by: By::Nothing });
        }
        if field.id == self.spec.opened && !self.keeps(field) {
            outcomes.extend(self.opens(field, entry));
        }
        outcomes
    }

    /// Lists what becomes of an entry that the rules touch, where these facts hold.
    fn touched(&self, field: &Field, entry: &EntryRef, facts: &[(Node, bool)]) -> Vec<MomentOutcome> {
        let fate = self.spec.plan.fate(field.id, self.moment);
        let mut facts = facts.to_vec();
        let mut outcomes = Vec::new();
        for (index, rule) in fate.rules.iter().enumerate() {
            let mut decided = facts.clone();
            if let Some(when) = rule.when.as_ref().and_then(|when| self.before(when.node())) {
                decided.push((when.clone(), true));
                facts.push((when, false));
            }
            let value = self.effect(field, entry, rule);
            outcomes.push(MomentOutcome { facts: decided, value, by: By::Rule(index) });
            if rule.when.is_none() {
                return outcomes;
            }
        }
        outcomes.push(MomentOutcome { facts, ..self.plain_outcome(field, entry, fate.fallback) });
        outcomes
    }

    /// Lists what becomes of all entries together: the one that a moment is about changes, and the others stay.
    fn outcomes_of_all(&self, over: Aggregate, field: &Field) -> Vec<MomentOutcome> {
        let fate = self.spec.plan.fate(field.id, self.moment);
        let all = || Node::Aggregate(over, field.id);
        let unknown = |by| vec![MomentOutcome { facts: Vec::new(), value: None, by }];
        let stays = match fate.fallback {
            PlainFate::Keep => true,
            PlainFate::Entry | PlainFate::Checkpoint => !field.rewinds,
            PlainFate::Reset => false,
        };
        let opens = field.id == self.spec.opened && !self.keeps(field);
        let of_level = *field.axes == [Axis::Level] && self.moment.has_level();
        if !stays || opens || !(of_level || fate.rules.is_empty()) {
            return unknown(By::Nothing);
        }
        if fate.rules.is_empty() {
            return vec![MomentOutcome { facts: Vec::new(), value: Some(all()), by: By::Fallback(fate.fallback) }];
        }
        let entry = EntryRef::Picked([Pick::Level].into());
        let counted = |node: Node| match (over, node) {
            (Aggregate::Count, Node::Const(value)) => Node::Const(Value::Int(i64::from(value.as_bool()))),
            (Aggregate::Count, node) => {
                let [one, none] = [1, 0].map(|int| Node::Const(Value::Int(int)));
                Node::If(Box::new([node, one, none]))
            }
            (Aggregate::Sum | Aggregate::Highest | Aggregate::Lowest | Aggregate::Size, node) => node,
        };
        let old = Node::Read(ReadAt::Was, field.id, entry.clone());
        let mut outcomes = self.touched(field, &entry, &[]);
        for outcome in &mut outcomes {
            outcome.value = outcome.value.take().map(|new| {
                if new == old {
                    return all();
                }
                let grown = Node::Binary(Operator::Plus, Box::new(all()), Box::new(counted(new)));
                Node::Binary(Operator::Minus, Box::new(grown), Box::new(counted(old.clone())))
            });
        }
        outcomes
    }

    /// Lists what becomes of the entry of a level that may open.
    fn opens(&self, opened: &Field, entry: &EntryRef) -> Vec<MomentOutcome> {
        let spec = self.spec;
        let level = match entry {
            EntryRef::Slot(slot) => opened.level_of(spec, *slot),
            EntryRef::Picked(_) => None,
        };
        let Some((level, Opening::ByExit)) = level.map(|level| (level, spec.opening(level))) else {
            return vec![MomentOutcome { facts: Vec::new(), value: None, by: By::Nothing }];
        };
        if self.moment != Moment::Complete {
            return Vec::new();
        }
        let exits = (0..spec.levels.len() as u32).flat_map(|from| {
            let exits = spec.level(from).exits.iter().filter(move |(_, to)| *to == level);
            exits.map(move |(exit, _)| (from, exit))
        });
        let taken = exits.map(|(from, exit)| {
            let by_exit = equal(Node::Exit, exit);
            let facts = vec![(self.is_about(from), true), (by_exit, true)];
            MomentOutcome { facts, value: Some(Node::Const(Value::Bool(true))), by: By::Nothing }
        });
        taken.collect()
    }

    /// The condition that the moment is about a level.
    fn is_about(&self, level: u32) -> Node {
        equal(Node::Level, &self.spec.level(level).id)
    }

    /// A plain fate as what happens.
    pub(super) fn plain_outcome(&self, field: &Field, entry: &EntryRef, simple: PlainFate) -> MomentOutcome {
        MomentOutcome { facts: Vec::new(), value: self.plain(field, entry, simple), by: By::Fallback(simple) }
    }

    /// Tells which entries the rules touch, as seen from one of them.
    fn touches(&self, field: &Field, entry: &EntryRef) -> Touches {
        if !(*field.axes == [Axis::Level] && self.moment.has_level()) {
            return if field.axes.is_empty() { Touches::TheEntry } else { Touches::Some };
        }
        match entry {
            EntryRef::Picked(picks) => match **picks {
                [Pick::Level] => Touches::TheEntry,
                [Pick::Fixed(level)] => Touches::ThatOf(self.is_about(level)),
                _ => Touches::Some,
            },
            EntryRef::Slot(slot) => match field.level_of(self.spec, *slot) {
                Some(level) => Touches::ThatOf(self.is_about(level)),
                None => Touches::Some,
            },
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

/// Returns what a launch makes of values that no save has: an attempt begins where the level was entered.
pub(super) fn unsaved_fate(lasts: Span) -> PlainFate {
    match lasts {
        Span::Attempt => PlainFate::Entry,
        Span::Session => PlainFate::Reset,
        Span::Visit | Span::Run | Span::Profile | Span::Device => PlainFate::Keep,
    }
}

/// Returns what a value reads as: without one as zero.
pub(super) fn read_as(field: &Field, value: &Value) -> Value {
    if value.is_filled() { value.clone() } else { field.ty.zero() }
}

/// Says how deep an expression may be nested once its derived values are written out: it is walked recursively.
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
