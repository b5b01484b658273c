//! Searches of more plays than there are: what holds in all of them holds.
//!
//! Openings tie the values of all levels to every question, because each of them decides which levels can be entered. So a level
//! may be entered here whether it is open or not: its lock is *lifted*. Then what an opening reads does not matter any more.
//! Where moreover nothing that matters reads the entries of another level, the entries of one level can be followed alone, level
//! after level: the *focus*. Entries outside the focus are at their defaults whenever a step begins, and nothing reads them.
//!
//! A violation that is found is only a candidate. It is played with the locks on: where that works, it is the shortest there is,
//! because every play is one of those that were searched. Where it does not, the lock that stopped it is put on, and the
//! search begins again.

use vestigum_core::Spec;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::{EntryRef, Node, Pick};
use vestigum_spec::syntax::Operator;
use vestigum_spec::vocabulary::function::Aggregate;

use super::question::{Asked, Question};

/// Describes how much more can be played than there is to play.
#[derive(Clone, Debug, Default)]
pub(crate) struct Relaxation {
    /// For each level whether its lock is lifted; none where all locks are on.
    lifted: Vec<bool>,
    /// The level whose entries are followed alone.
    focus: Option<u32>,
}

impl Relaxation {
    /// All locks lifted; none where nothing is locked, or where the answer depends on what is open.
    pub(super) fn of(spec: &Spec, question: &Question, matter: &[FieldId]) -> Option<Relaxation> {
        let data = &**spec.model();
        match &question.asked {
            Asked::NeverFalls(_) | Asked::ValueNeverFalls(_) | Asked::Holds(..) | Asked::NoBetterLeft(_) => {}
            // More plays than there are lead out of traps.
            Asked::Reachable | Asked::Can(..) | Asked::Completable | Asked::NothingGained(_) => return None,
        }
        let locked = data.openings.iter().any(|opening| !matches!(opening, Opening::Always | Opening::Made));
        let asks_open =
            matter.contains(&data.opened) || question.expressions().iter().any(|asked| asks_open(data, asked));
        (locked && !asks_open).then(|| Relaxation { lifted: vec![true; data.levels.len()], focus: None })
    }

    /// Asks with each level in focus in its turn; all levels at once where they are not independent.
    pub(super) fn focused(&self, spec: &Spec, question: &Question, matter: &[FieldId]) -> Vec<Relaxation> {
        let data = &**spec.model();
        // What is worked out of several levels is compared as a whole.
        if matches!(question.asked, Asked::ValueNeverFalls(_)) {
            return vec![self.clone()];
        }
        let all_lifted = self.lifted.iter().all(|lifted| *lifted);
        if !all_lifted || !(Independence { spec, data, matter }).of(question) {
            return vec![self.clone()];
        }
        let levels = 0..data.made_levels.start;
        levels.map(|level| Relaxation { focus: Some(level), ..self.clone() }).collect()
    }

    /// Puts a lock on. Conditions may ask what is open, so where one does all locks are put on with it.
    #[must_use]
    pub(super) fn locked(&self, spec: &Spec, level: u32) -> Option<Relaxation> {
        let data = &**spec.model();
        let asks = |opening: &Opening| matches!(opening, Opening::When(when) if asks_open(data, when));
        if data.openings.iter().any(asks) {
            return None;
        }
        let mut relaxation = Relaxation { lifted: self.lifted.clone(), focus: None };
        relaxation.lifted[level as usize] = false;
        relaxation.lifted.contains(&true).then_some(relaxation)
    }

    /// Returns whether a level can be entered though it is locked.
    pub(super) fn lifts(&self, level: u32) -> bool {
        self.lifted.get(level as usize).is_some_and(|lifted| *lifted)
    }

    /// Returns whether any lock is on.
    pub(super) fn has_locks(&self) -> bool {
        self.lifted.is_empty() || self.lifted.contains(&false)
    }

    /// Returns whether an entry is followed.
    pub(super) fn follows(&self, spec: &Model, field: &Field, slot: usize) -> bool {
        if field.id == spec.opened {
            return field.level_of(spec, slot).is_none_or(|level| !self.lifts(level));
        }
        self.focus.is_none_or(|focus| field.level_of(spec, slot).is_none_or(|level| level == focus))
    }

    /// Returns whether what is asked where play stands in this level, or in none, is asked here.
    pub(super) fn asks_about(&self, level: Option<u32>) -> bool {
        self.focus.is_none() || level.is_none() || self.focus == level
    }
}

fn asks_open(spec: &Model, expression: &Expression) -> bool {
    fn asks(spec: &Model, node: &Node) -> bool {
        match node {
            Node::Open(_) => true,
            Node::Read(_, field, _) | Node::Filled(field, _) | Node::Aggregate(_, field) if *field == spec.opened => {
                true
            }
            _ => node.any_part(&mut |part| asks(spec, part)),
        }
    }
    let derived = expression.derived().iter().map(|index| spec.derived[*index as usize].expression.node());
    derived.chain([expression.node()]).any(|node| asks(spec, node))
}

/// Whether what happens in one level can be told without the entries of the others.
struct Independence<'a> {
    spec: &'a Spec,
    data: &'a Model,
    matter: &'a [FieldId],
}

impl Independence<'_> {
    fn of(&self, question: &Question) -> bool {
        let spec = self.data;
        let mut fields = self.matter.iter().map(|id| spec.field(*id));
        let plain = fields.all(|field| !field.axes.contains(&Axis::Checkpoint) && self.rules_of(field));
        let over = spec.over_when.as_ref().is_none_or(|over| self.read_own(over, false));
        plain
            && over
            && question.expression().is_none_or(|asked| {
                self.asks_of_each(asked.node())
                    && asked.derived().iter().all(|index| self.derived_reads_own(*index, true))
            })
    }

    fn is_of_level(&self, field: FieldId) -> bool {
        let axes = &self.data.field(field).axes;
        axes.contains(&Axis::Level) || axes.contains(&Axis::Checkpoint)
    }

    fn rules_of(&self, field: &Field) -> bool {
        let own = field.axes.contains(&Axis::Level);
        let moments = self.spec.moments();
        let mut rules = moments.flat_map(|moment| &self.data.plan.fate(field.id, moment).rules);
        rules.all(|rule| rule.expressions().all(|expression| self.read_own(expression, own)))
    }

    /// Returns whether an expression and the derived values in it read only what one level may.
    fn read_own(&self, expression: &Expression, own: bool) -> bool {
        self.reads_own(expression.node(), own)
            && expression.derived().iter().all(|index| self.derived_reads_own(*index, own))
    }

    fn derived_reads_own(&self, index: u32, own: bool) -> bool {
        self.reads_own(self.data.derived[index as usize].expression.node(), own)
    }

    /// Returns whether a node reads, of entries of levels, only that of the level that the moment is about; and none at all if not
    /// even that is allowed. Derived values are looked at on their own.
    fn reads_own(&self, node: &Node, own: bool) -> bool {
        match node {
            Node::Read(_, field, entry) | Node::Filled(field, entry) => {
                !self.is_of_level(*field) || own && is_own(self.data.field(*field), entry)
            }
            Node::Aggregate(_, field) => !self.is_of_level(*field),
            Node::Open(_) => false,
            _ => !node.any_part(&mut |part| !self.reads_own(part, own)),
        }
    }

    /// Returns whether the condition holds if it holds for each level alone.
    fn asks_of_each(&self, node: &Node) -> bool {
        match node {
            Node::Binary(Operator::And, left, right) => self.asks_of_each(left) && self.asks_of_each(right),
            Node::Binary(operator, left, right) => bounds_each(*operator, left, right) || self.reads_own(node, true),
            _ => self.reads_own(node, true),
        }
    }
}

/// `highest(f) <= 3` says `f <= 3` of every level, and `lowest(f) >= 3` that each is at least that.
fn bounds_each(operator: Operator, left: &Node, right: &Node) -> bool {
    matches!(
        (operator, left, right),
        (Operator::AtMost | Operator::Below, Node::Aggregate(Aggregate::Highest, _), Node::Const(_))
            | (Operator::AtLeast | Operator::Above, Node::Aggregate(Aggregate::Lowest, _), Node::Const(_))
    )
}

/// Returns whether the entry is that of the level which the moment is about.
fn is_own(field: &Field, entry: &EntryRef) -> bool {
    let EntryRef::Picked(picks) = entry else { return false };
    let levels = field.axes.iter().zip(picks.iter()).filter(|(axis, _)| **axis == Axis::Level);
    levels.into_iter().all(|(_, pick)| *pick == Pick::Level)
}
