//! Whether a condition always holds, by the rules alone: it holds at first, and no step from a state in which it holds leads to
//! one in which it does not.
//!
//! Where the condition is about the level that play stands in, more is shown: that it holds of *every* level. A step is then
//! looked at twice, once for the level that it is about and once for another one.

use vestigum_core::evaluation::Env;
use vestigum_core::model::Model;
use vestigum_core::model::expression::Expression;
use vestigum_core::model::field::{Field, FieldId};
use vestigum_core::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_core::model::source::Source;
use vestigum_core::state::State;
use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::syntax::parse::Operator;
use vestigum_core::vocabulary::fate::PlainFate;
use vestigum_core::vocabulary::policy::Resume;
use vestigum_core::{Moment, Span, Value};

use super::after::{Cases, Read, holds_in_any_state, inlined, is_followed, told};
use super::decide::Budget;
use super::outcomes::{By, MomentOutcome, MomentStep, ranged, unsaved_fate};
use super::{Ground, Occasion, Reason};

/// Why the condition always holds.
pub(super) fn grounds(spec: &Model, condition: &Expression, moments: &[Moment]) -> Option<Vec<Ground>> {
    let budget = Budget::default();
    if holds_in_any_state(spec, condition, &budget) {
        return Some(Vec::new());
    }
    holds_at_first(spec, condition).then_some(())?;
    let node = inlined(spec, condition.node(), &budget)?;
    is_of_now(&node).then_some(())?;
    let mut reads = Vec::new();
    let launch = MomentStep { spec, moment: Moment::Launch, budget: &budget };
    is_followed(launch, &node, &mut reads).then_some(())?;
    let always = Always { spec, condition: &node, reads, of_levels: node.speaks_of_place(spec), budget: &budget };
    always.grounds(moments)
}

/// Whether the condition holds in a state where nothing was played, of every level.
fn holds_at_first(spec: &Model, condition: &Expression) -> bool {
    let state = State::fresh(spec);
    let holds = |level| condition.holds(&Env::new(spec, &state, level, None));
    (0..spec.levels.len() as u32)
        .map(Some)
        .chain([None])
        .all(|level| condition.needs_level() && level.is_none() || holds(level))
}

/// Whether it reads only values as they are, each of one entry: of the fields without keys, of a certain entry, or of the level.
fn is_of_now(node: &Node) -> bool {
    match node {
        Node::Read(ReadAt::Now, _, entry) => match entry {
            EntryRef::Slot(_) => true,
            EntryRef::Picked(picks) => picks.iter().all(|pick| match pick {
                Pick::Fixed(_) | Pick::Level => true,
                Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_) | Pick::Made(..) => false,
            }),
        },
        Node::Read(..)
        | Node::Filled(..)
        | Node::Aggregate(..)
        | Node::Derived(_)
        | Node::Open(_)
        | Node::Level
        | Node::Checkpoint
        | Node::Exit
        | Node::LevelIndex
        | Node::CheckpointIndex
        | Node::Table(..) => false,
        _ => !node.any_part(&mut |part| !is_of_now(part)),
    }
}

struct Always<'a> {
    spec: &'a Model,
    condition: &'a Node,
    reads: Vec<Read>,
    /// Whether it is shown of every level.
    of_levels: bool,
    budget: &'a Budget,
}

impl Always<'_> {
    fn grounds(&self, moments: &[Moment]) -> Option<Vec<Ground>> {
        let mut grounds = Vec::new();
        for moment in moments.iter().filter(|moment| **moment != Moment::Quit) {
            let step = MomentStep { spec: self.spec, moment: *moment, budget: self.budget };
            let outcomes = self.outcomes(|field, entry| step.outcomes(field, entry));
            grounds.extend(told(step, &self.reads, &outcomes));
            self.keeps_holding(&outcomes)?;
            if self.of_levels {
                self.keeps_holding(&self.elsewhere(step))?;
            }
        }
        for source in &self.spec.sources {
            self.keeps_holding(&self.outcomes(|field, entry| given(source, field, entry)))?;
            if self.gives(source) {
                let field = self.spec.field(self.reads.iter().find(|(id, _)| gives(source, *id))?.0);
                grounds.push(Ground::new(Occasion::Sources, field, Reason::GivesSomething));
            }
        }
        if moments.contains(&Moment::Quit) {
            self.quitting()?;
        }
        // What play writes and no source gives can be anything, and so can what a code carries.
        let written = |(field, _): &Read| {
            let given = self.spec.sources.iter().any(|source| gives(source, *field));
            (self.spec.field(*field).played && !given) || self.spec.is_carried(*field)
        };
        (!self.reads.iter().any(written)).then_some(grounds)
    }

    fn outcomes(&self, of: impl Fn(&Field, &EntryRef) -> Vec<MomentOutcome>) -> Vec<Vec<MomentOutcome>> {
        self.reads.iter().map(|(field, entry)| of(self.spec.field(*field), entry)).collect()
    }

    fn gives(&self, source: &Source) -> bool {
        self.reads.iter().any(|(field, _)| gives(source, *field))
    }

    /// What a moment makes of the entries of a level that it is not about.
    fn elsewhere(&self, step: MomentStep<'_>) -> Vec<Vec<MomentOutcome>> {
        self.outcomes(|field, entry| {
            let is_of_level = matches!(entry, EntryRef::Picked(picks) if picks.contains(&Pick::Level));
            let mut outcomes = step.outcomes(field, entry);
            if is_of_level {
                let fallback = self.spec.plan.fate(field.id, step.moment).fallback;
                outcomes = vec![step.plain_outcome(field, entry, fallback)];
            }
            for outcome in &mut outcomes {
                // What a rule says of the level is said of the other one.
                outcome.facts.retain(|(fact, _)| !fact.speaks_of_place(self.spec));
                if !is_of_level {
                    outcome.value = outcome.value.take().filter(|value| !value.speaks_of_place(self.spec));
                }
            }
            outcomes
        })
    }

    fn keeps_holding(&self, outcomes: &[Vec<MomentOutcome>]) -> Option<()> {
        let Always { spec, condition, ref reads, budget, .. } = *self;
        let given = self.given();
        Cases { spec, condition, reads, outcomes, rest: &|_| None, budget }.all_hold(&given)
    }

    /// What holds before the step: the condition of the state, and of the marks where they are states as they were.
    fn given(&self) -> Vec<Node> {
        let at = |at: ReadAt| read_at(self.condition, at);
        let mut given: Vec<Node> = at(ReadAt::Was).into_iter().collect();
        let marked = self.reads.iter().all(|(field, _)| {
            let field = self.spec.field(*field);
            field.rewinds && self.spec.plan.fate(field.id, Moment::Launch).is_keep()
        });
        if marked {
            given.extend([ReadAt::Entry, ReadAt::Checkpoint].into_iter().filter_map(at));
        }
        given
    }

    /// Quitting and coming back, up to the moment `launch`.
    fn quitting(&self) -> Option<()> {
        let spec = self.spec;
        if spec.resume == Resume::None {
            // Such a save is what giving up leaves, which is a moment of its own; but the device is saved as it is.
            let device = |(field, _): &Read| spec.field(*field).lasts == Span::Device;
            (!self.reads.iter().any(device)).then_some(())?;
        } else {
            let moment = resembled_failure(spec.resume);
            let step = MomentStep { spec, moment, budget: self.budget };
            let left = self.outcomes(|field, entry| {
                let fate = suspended_fate(spec, field, moment);
                // In the menu all of it stays, so that nothing is to be shown.
                let projected = field.lasts != Span::Device && field.lasts.is_saved();
                let mut fates = if projected { vec![fate.touched, fate.untouched] } else { vec![PlainFate::Keep] };
                fates.dedup();
                fates.into_iter().map(|fate| step.plain_outcome(field, entry, fate)).collect()
            });
            self.keeps_holding(&left)?;
        }
        let step = MomentStep { spec, moment: Moment::Launch, budget: self.budget };
        let unsaved = self.outcomes(|field, entry| vec![step.plain_outcome(field, entry, unsaved_fate(field.lasts))]);
        self.keeps_holding(&unsaved)
    }
}

fn gives(source: &Source, field: FieldId) -> bool {
    source.gives.iter().any(|gift| gift.field == field)
}

/// What taking a source makes of an entry.
fn given(source: &Source, field: &Field, entry: &EntryRef) -> Vec<MomentOutcome> {
    let old = || Node::Read(ReadAt::Was, field.id, entry.clone());
    let kept = MomentOutcome { facts: Vec::new(), value: Some(old()), by: By::Nothing };
    let gifts = source.gives.iter().filter(|gift| gift.field == field.id);
    let outcomes = gifts.map(|gift| {
        let value = match &gift.value {
            number @ (Value::Int(_) | Value::Float(_)) if !field.optional => {
                let sum = Node::Binary(Operator::Plus, Box::new(old()), Box::new(Node::Const(number.clone())));
                Some(ranged(field, sum))
            }
            Value::Bool(_) => Some(Node::Const(gift.value.clone())),
            _ => None,
        };
        MomentOutcome { facts: Vec::new(), value, by: By::Nothing }
    });
    // One source may give to several entries of a field, and an entry may be none of them.
    outcomes.chain([kept]).collect()
}

/// The condition of the state at another time.
fn read_at(node: &Node, at: ReadAt) -> Option<Node> {
    match node {
        Node::Read(ReadAt::Now, field, entry) => Some(Node::Read(at, *field, entry.clone())),
        _ => node.with_parts(&mut |part| read_at(part, at)),
    }
}
