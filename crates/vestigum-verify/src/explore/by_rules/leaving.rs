//! Proves by the rules alone that leaving a level keeps no more of a field than dying in its place would.
//!
//! Both are one step from the same state, so what one of them makes of an entry is compared with what the other does.

use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::{Moment, Spec};
use vestigum_spec::analysis::bounds::FieldBounds;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_spec::syntax::Operator;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::policy::Resume;

use super::decide::{Budget, Known, range_of};
use super::falls::Rising;
use super::outcomes::{MomentOutcome, MomentStep};
use super::{FoundProof, Ground, Occasion, Reason, frozen};

/// Proves that leaving keeps no more of the field.
pub(super) fn proof(of: &Spec, field: &Field, moments: &[Moment]) -> Option<FoundProof> {
    let spec = &**of.model();
    let budget = Budget::default();
    let died = MomentStep { spec, moment: Moment::Death, budget: &budget };
    let abandoned = MomentStep { spec, moment: Moment::Abandon, budget: &budget };
    let saved = MomentStep { spec, moment: resembled_failure(spec.resume), budget: &budget };
    let entry = entry_of(spec, field, &[died, abandoned, saved])?;
    let marks = (Rising { spec, field, moments }).is_never_below_marks().then(|| ordered_marks(field, &entry));
    let compared = Compared { spec, facts: marks.as_deref().unwrap_or_default(), budget: &budget };
    // The entry that the rules touch, and one that they do not.
    let fallback = |step: MomentStep<'_>| {
        let fate = spec.plan.fate(field.id, step.moment).fallback;
        vec![step.plain_outcome(field, &entry, fate)]
    };
    let both = |left: MomentStep<'_>| {
        compared.keeps_no_more(&died.outcomes(field, &entry), &left.outcomes(field, &entry))?;
        compared.keeps_no_more(&fallback(died), &fallback(left))
    };
    let mut grounds = Vec::new();
    if moments.contains(&Moment::Abandon) || spec.resume == Resume::None {
        both(abandoned)?;
        grounds.push(Ground::new(Occasion::Moment(Moment::Abandon), field, Reason::KeepsNoMore));
    }
    if moments.contains(&Moment::Quit) && spec.resume != Resume::None {
        let fate = suspended_fate(spec, field, saved.moment);
        let left = |fate: PlainFate| vec![saved.plain_outcome(field, &entry, fate)];
        compared.keeps_no_more(&died.outcomes(field, &entry), &left(fate.touched))?;
        compared.keeps_no_more(&fallback(died), &left(fate.untouched))?;
        grounds.push(Ground::new(Occasion::Quitting, field, Reason::KeepsNoMore));
    }
    // A save of an earlier version may have been left in a level by other rules.
    let gaps = if marks.is_some() { frozen(of, [field]) } else { Vec::new() };
    Some(FoundProof { from_default: marks.is_some(), gaps, ..FoundProof::from_any_state(grounds) })
}

/// An entry that stands for all: the only one, or that of the level. Of other keys it is not known which one a rule touches.
fn entry_of(spec: &Model, field: &Field, steps: &[MomentStep<'_>]) -> Option<EntryRef> {
    let is_plain = steps.iter().all(|step| spec.plan.fate(field.id, step.moment).rules.is_empty());
    match field.axes[..] {
        [] => field.slots().next().map(EntryRef::Slot),
        [Axis::Level] => Some(EntryRef::Picked([Pick::Level].into())),
        _ => is_plain.then(|| EntryRef::Picked([Pick::Level].into())),
    }
}

/// In a level a field that does not fall there is never below its marks, and that of the checkpoint is never below that of the entry.
fn ordered_marks(field: &Field, entry: &EntryRef) -> Vec<Node> {
    let read = |at| Box::new(Node::Read(at, field.id, entry.clone()));
    let ordered = |above, below| Node::Binary(Operator::AtLeast, read(above), read(below));
    vec![
        ordered(ReadAt::Was, ReadAt::Entry),
        ordered(ReadAt::Was, ReadAt::Checkpoint),
        ordered(ReadAt::Checkpoint, ReadAt::Entry),
    ]
}

struct Compared<'a> {
    spec: &'a Model,
    facts: &'a [Node],
    budget: &'a Budget,
}

impl Compared<'_> {
    /// Checks that what a death leaves is at least as much, whatever each of them makes of it.
    fn keeps_no_more(&self, died: &[MomentOutcome], left: &[MomentOutcome]) -> Option<()> {
        for died in died {
            for left in left {
                let ranges = |id, _: Option<usize>| range_of(self.spec, id);
                let known = Known::new(self.spec, FieldBounds::new(&ranges), self.budget);
                let marks = self.facts.iter().map(|fact| (fact, true));
                let mut facts = marks.chain(died.facts.iter().chain(&left.facts).map(|(fact, holds)| (fact, *holds)));
                if facts.all(|(fact, holds)| known.suppose(fact, holds)) {
                    let [more, less] = [died, left].map(|outcome| outcome.value.clone().map(Box::new));
                    known.decides(&Node::Binary(Operator::AtLeast, more?, less?)).then_some(())?;
                }
            }
        }
        Some(())
    }
}
