//! Whether a condition always holds, by the rules alone: it holds at first, and no step from a state in which it holds leads to
//! one in which it does not.
//!
//! Where the condition is about the level that play stands in, more is shown: that it holds of *every* level. A step is then
//! looked at twice, once for the level that it is about and once for another one.

use vestigum_core::evaluation::Env;
use vestigum_core::evaluation::judge::ExpressionValue;
use vestigum_core::state::State;
use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::{Moment, Span, Spec, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_spec::model::source::Source;
use vestigum_spec::syntax::Operator;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::policy::Resume;

use super::after::{Cases, Read, holds_in_any_state, inlined, is_followed, told};
use super::decide::Budget;
use super::lemmas::Lemma;
use super::outcomes::{By, MomentOutcome, MomentStep, ranged, unsaved_fate};
use super::{FoundProof, Ground, Occasion, Reason};

/// Proves that the condition always holds, where the lemmas do.
pub(super) fn proof(of: &Spec, condition: &Expression, moments: &[Moment], lemmas: &[Lemma]) -> Option<FoundProof> {
    let spec = &**of.model();
    let budget = Budget::default();
    if holds_in_any_state(spec, condition, lemmas, &budget) {
        return Some(FoundProof::from_any_state(Vec::new()).with(lemmas));
    }
    holds_at_first(spec, condition).then_some(())?;
    let node = inlined(spec, condition.node(), &budget)?;
    is_of_now(spec, &node).then_some(())?;
    let mut reads = Vec::new();
    let launch = MomentStep { spec, moment: Moment::Launch, budget: &budget };
    is_followed(launch, &node, &mut reads).then_some(())?;
    let of_levels = node.speaks_of_place(spec);
    let always = Always { spec, condition: &node, reads, of_levels, lemmas, budget: &budget };
    let grounds = always.grounds(moments)?;
    let proof = FoundProof { grounds, from_default: true, promises: Vec::new(), gaps: always.gaps(of) };
    Some(proof.with(lemmas))
}

/// Returns whether the condition holds in a state where nothing was played, of every level.
fn holds_at_first(spec: &Model, condition: &Expression) -> bool {
    let state = State::fresh(spec);
    let holds = |level| condition.holds(&Env::new(spec, &state, level, None));
    (0..spec.levels.len() as u32)
        .map(Some)
        .chain([None])
        .all(|level| condition.needs_level() && level.is_none() || holds(level))
}

/// Says whether it reads only values as they are: of one entry of a field without keys, of a certain entry, of the level, or of all entries that
/// are followed together.
pub(super) fn is_of_now(spec: &Model, node: &Node) -> bool {
    match node {
        Node::Read(ReadAt::Now, _, entry) => match entry {
            EntryRef::Slot(_) => true,
            EntryRef::Picked(picks) => picks.iter().all(|pick| match pick {
                Pick::Fixed(_) | Pick::Level => true,
                Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_) | Pick::Made(..) => false,
            }),
        },
        Node::Aggregate(..) => Read::of(spec, node).is_some(),
        Node::Read(..)
        | Node::Filled(..)
        | Node::Derived(_)
        | Node::Open(_)
        | Node::Level
        | Node::Checkpoint
        | Node::Exit
        | Node::LevelIndex
        | Node::CheckpointIndex => false,
        _ => !node.any_part(&mut |part| !is_of_now(spec, part)),
    }
}

/// For each of what a condition reads all that it can be after a step.
type Outcomes = Vec<Vec<MomentOutcome>>;

pub(super) struct Always<'a> {
    pub spec: &'a Model,
    pub condition: &'a Node,
    pub reads: Vec<Read>,
    /// Whether it is shown of every level.
    pub of_levels: bool,
    pub lemmas: &'a [Lemma],
    pub budget: &'a Budget,
}

impl Always<'_> {
    fn grounds(&self, moments: &[Moment]) -> Option<Vec<Ground>> {
        let mut grounds = Vec::new();
        for moment in moments.iter().filter(|moment| **moment != Moment::Quit) {
            let step = MomentStep { spec: self.spec, moment: *moment, budget: self.budget };
            let outcomes: Outcomes = self.reads.iter().map(|read| step.outcomes_of(read)).collect();
            grounds.extend(told(step, &self.reads, &outcomes));
            self.keeps_holding(&outcomes)?;
            if self.of_levels {
                self.keeps_holding(&self.elsewhere(step))?;
            }
        }
        self.sources(&mut grounds)?;
        if moments.contains(&Moment::Quit) {
            self.quitting()?;
        }
        (!self.is_written_at_will()).then_some(grounds)
    }

    /// Checks that the condition holds for as long as the run is not over, where the run is over when it does not: it is judged after every
    /// failure.
    pub(super) fn while_run_goes_on(&self, moments: &[Moment]) -> Option<()> {
        for moment in moments {
            // A save that is what giving up leaves is loaded without that.
            let judged = moment.is_failure() && !(*moment == Moment::Abandon && self.spec.resume == Resume::None);
            if judged || matches!(moment, Moment::GameOver | Moment::Quit) {
                continue;
            }
            let step = MomentStep { spec: self.spec, moment: *moment, budget: self.budget };
            let outcomes: Outcomes = self.reads.iter().map(|read| step.outcomes_of(read)).collect();
            // A new run may begin where one is over.
            let given = if moment.begins_run() { Vec::new() } else { self.given() };
            self.holds_after(&outcomes, &given)?;
        }
        self.sources(&mut Vec::new())?;
        self.quitting()?;
        (!self.is_written_at_will()).then_some(())
    }

    fn sources(&self, grounds: &mut Vec<Ground>) -> Option<()> {
        for source in &self.spec.sources {
            self.keeps_holding(&self.reads.iter().map(|read| given(self.spec, source, read)).collect::<Outcomes>())?;
            if self.gives(source) {
                let field = self.spec.field(self.reads.iter().find(|read| gives(source, read.field()))?.field());
                grounds.push(Ground::new(Occasion::Sources, field, Reason::GivesSomething));
            }
        }
        Some(())
    }

    /// Says whether something that it reads can be anything: play writes it and no source gives it, or a code carries it.
    fn is_written_at_will(&self) -> bool {
        self.reads.iter().any(|read| {
            let given = self.spec.sources.iter().any(|source| gives(source, read.field()));
            let field = self.spec.field(read.field());
            (field.played && !given) || field.counts.is_some() || self.spec.is_carried(field.id)
        })
    }

    /// Applies a plain fate to what is read; of all entries together it is known where they stay.
    fn fated(&self, step: MomentStep<'_>, read: &Read, fate: PlainFate) -> MomentOutcome {
        match read {
            Read::Entry(field, entry) => step.plain_outcome(self.spec.field(*field), entry, fate),
            Read::All(..) => {
                let value = (fate == PlainFate::Keep).then(|| read.before());
                MomentOutcome { facts: Vec::new(), value, by: By::Fallback(fate) }
            }
        }
    }

    fn gives(&self, source: &Source) -> bool {
        self.reads.iter().any(|read| gives(source, read.field()))
    }

    /// Returns what a moment makes of the entries of a level that it is not about.
    fn elsewhere(&self, step: MomentStep<'_>) -> Outcomes {
        let of = |read: &Read| {
            let is_of_level = matches!(read, Read::Entry(_, EntryRef::Picked(picks)) if picks.contains(&Pick::Level));
            let mut outcomes = step.outcomes_of(read);
            if is_of_level {
                let fallback = self.spec.plan.fate(read.field(), step.moment).fallback;
                outcomes = vec![self.fated(step, read, fallback)];
            }
            for outcome in &mut outcomes {
                // What a rule says of the level is said of the other one.
                outcome.facts.retain(|(fact, _)| !fact.speaks_of_place(self.spec));
                if !is_of_level {
                    outcome.value = outcome.value.take().filter(|value| !value.speaks_of_place(self.spec));
                }
            }
            outcomes
        };
        self.reads.iter().map(of).collect()
    }

    fn keeps_holding(&self, outcomes: &[Vec<MomentOutcome>]) -> Option<()> {
        self.holds_after(outcomes, &self.given())
    }

    fn holds_after(&self, outcomes: &[Vec<MomentOutcome>], given: &[Node]) -> Option<()> {
        let Always { spec, condition, ref reads, budget, .. } = *self;
        Cases { spec, condition, reads, outcomes, rest: &|_| None, budget }.all_hold(given)
    }

    /// Returns what holds before the step: the condition of the state, and of the marks where they are states as they were.
    fn given(&self) -> Vec<Node> {
        let at = |at: ReadAt| read_at(self.condition, at);
        let mut given: Vec<Node> = at(ReadAt::Was).into_iter().collect();
        given.extend(self.lemmas.iter().filter_map(Lemma::before));
        let marked = self.reads.iter().all(|read| {
            let field = self.spec.field(read.field());
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
            let device = |read: &Read| spec.field(read.field()).lasts == Span::Device;
            (!self.reads.iter().any(device)).then_some(())?;
        } else {
            let moment = resembled_failure(spec.resume);
            let step = MomentStep { spec, moment, budget: self.budget };
            let left = |read: &Read| {
                let field = spec.field(read.field());
                let fate = suspended_fate(spec, field, moment);
                // In the menu all of it stays, so that nothing is to be shown.
                let projected = field.lasts != Span::Device && field.lasts.is_saved();
                let mut fates = if projected { vec![fate.touched, fate.untouched] } else { vec![PlainFate::Keep] };
                fates.dedup();
                fates.into_iter().map(|fate| self.fated(step, read, fate)).collect()
            };
            self.keeps_holding(&self.reads.iter().map(left).collect::<Outcomes>())?;
        }
        let step = MomentStep { spec, moment: Moment::Launch, budget: self.budget };
        let unsaved = |read: &Read| vec![self.fated(step, read, unsaved_fate(spec.field(read.field()).lasts))];
        self.keeps_holding(&self.reads.iter().map(unsaved).collect::<Outcomes>())
    }
}

fn gives(source: &Source, field: FieldId) -> bool {
    source.gives.iter().any(|gift| gift.field == field)
}

/// Lists what taking a source makes of what is read.
fn given(spec: &Model, source: &Source, read: &Read) -> Vec<MomentOutcome> {
    let field = spec.field(read.field());
    let kept = MomentOutcome { facts: Vec::new(), value: Some(read.before()), by: By::Nothing };
    let gifts = source.gives.iter().filter(|gift| gift.field == field.id);
    let outcomes = gifts.map(|gift| {
        let value = match (&gift.value, read) {
            (number @ (Value::Int(_) | Value::Float(_)), Read::Entry(..)) if !field.optional => {
                let sum = Node::Binary(Operator::Plus, Box::new(read.before()), Box::new(Node::Const(number.clone())));
                Some(ranged(field, sum))
            }
            (Value::Bool(_), Read::Entry(..)) => Some(Node::Const(gift.value.clone())),
            _ => None,
        };
        MomentOutcome { facts: Vec::new(), value, by: By::Nothing }
    });
    // One source may give to several entries of a field, and an entry may be none of them.
    outcomes.chain([kept]).collect()
}

/// The condition of the state at another time.
pub(super) fn read_at(node: &Node, at: ReadAt) -> Option<Node> {
    match node {
        Node::Read(ReadAt::Now, field, entry) => Some(Node::Read(at, *field, entry.clone())),
        // All entries together are not known as marks hold them.
        Node::Aggregate(..) if at != ReadAt::Was => None,
        _ => node.with_parts(&mut |part| read_at(part, at)),
    }
}
