//! Proves by the rules alone that failing, or quitting inside a level, gains nothing for a record.
//!
//! Play without failing can do what play with failing does, step by step, and never needs more visits. While both stand in a
//! level, everything on which the record depends is the same in both. A failure brings each such field back to what it was when
//! the level was entered, or at its last checkpoint: there play without failing stood once, and goes on from there. Where a
//! failure leaves the level, the record and all it depends on are as they were before the level was entered, and play without
//! failing does not enter it. A source that was taken and stays taken leaves less to do, never more.
//!
//! The end of a run by failing (`over_when`) is not compared: it only takes from play with failing.

use rustc_hash::FxHashSet;

use vestigum_core::suspension::fates::{LeftByQuitting, left_by_quitting, resembled_failure, unconditional_fate};
use vestigum_core::{Moment, Span, Spec};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_spec::vocabulary::fate::PlainFate;

use super::{FoundProof, Ground, Occasion, Reason, RuleProof, opening_conditions};
use crate::explore::cone::closed;

/// Proves that failing gains nothing for a record. `counted` is the spec with the counters of its sources, and `counters` are those, in
/// the order of the sources.
pub(crate) fn proof(
    plain: &Spec,
    counted: &Spec,
    counters: &[FieldId],
    record: FieldId,
    moments: &[Moment],
) -> Option<RuleProof> {
    let spec = &**plain.model();
    // A level that players make and remove takes entries with it.
    spec.made_levels.is_empty().then_some(())?;
    let matter = mattering(plain, record);
    let compared = Compared { spec, moments };
    let mut left = Left::default();
    for id in &matter {
        let field = spec.field(*id);
        compared.can_be_compared(field)?;
        let moves = compared.moves(field);
        compared.is_brought_back(field, if moves { Kind::Moves } else { Kind::Stays }, &mut left)?;
        if !moves {
            left.grounds.push(Ground::new(Occasion::InLevels, field, Reason::Unchanged));
        }
        if compared.is_given(*id) {
            left.grounds.push(Ground::new(Occasion::Sources, field, Reason::GivenAgain));
        }
    }
    // What is told is told of the fields that sources give to.
    let mut taken = Left { marks: left.marks, ..Left::default() };
    let of_counters = Compared { spec: counted.model(), moments };
    for (source, counter) in spec.sources.iter().zip(counters) {
        if source.gives.iter().any(|gift| matter.contains(&gift.field)) {
            of_counters.is_brought_back(of_counters.spec.field(*counter), Kind::Counter, &mut taken)?;
        }
    }
    Some(FoundProof { from_default: true, ..FoundProof::from_any_state(left.grounds) }.told(spec))
}

/// Holds what failures leave.
#[derive(Default)]
struct Left {
    grounds: Vec<Ground>,
    /// Lists to which mark each failure goes back. To bring some fields back to the checkpoint and others to the entry makes a state that
    /// play without failing never had.
    marks: Vec<(Occasion, PlainFate)>,
}

impl Left {
    /// Notes what a failure makes of a field; none if another field goes back to another mark then.
    fn note(&mut self, occasion: Occasion, field: &Field, kind: Kind, fate: PlainFate) -> Option<()> {
        self.grounds.push(Ground::new(occasion, field, Reason::Becomes(fate)));
        if kind == Kind::Stays || !fate.rewinds() {
            return Some(());
        }
        match self.marks.iter().find(|(known, _)| *known == occasion) {
            Some((_, known)) => (*known == fate).then_some(()),
            None => {
                self.marks.push((occasion, fate));
                Some(())
            }
        }
    }
}

/// Lists the fields on which a record depends, in the order of the spec: by rules, and by what is open.
fn mattering(spec: &Spec, record: FieldId) -> Vec<FieldId> {
    let model = &**spec.model();
    let mut matter: FxHashSet<FieldId> = [record, model.completed, model.opened].into_iter().collect();
    matter.extend(opening_conditions(model).flat_map(Expression::reads));
    matter.extend(model.key_sets.iter().filter_map(|set| set.current.as_ref().map(|(field, _)| *field)));
    let mut matter: Vec<FieldId> = closed(spec, matter).into_iter().collect();
    matter.sort_unstable();
    matter
}

/// Says how a field is compared.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// It changes while play stands in a level.
    Moves,
    /// It does not: there it is what it was at both marks.
    Stays,
    /// It counts how often a source was taken: that it is higher does no harm.
    Counter,
}

struct Compared<'a> {
    spec: &'a Model,
    /// The moments that can happen.
    moments: &'a [Moment],
}

impl Compared<'_> {
    /// Says whether a field changes while play stands in a level.
    fn moves(&self, field: &Field) -> bool {
        // Levels are opened outside of levels.
        let ruled = self.moments.iter().any(|moment| is_said_inside(*moment) && self.has_rules(field, *moment));
        self.is_given(field.id) || field.played || ruled
    }

    fn is_given(&self, field: FieldId) -> bool {
        self.spec.sources.iter().any(|source| source.gives.iter().any(|gift| gift.field == field))
    }

    fn has_rules(&self, field: &Field, moment: Moment) -> bool {
        !self.spec.plan.fate(field.id, moment).rules.is_empty()
    }

    /// Checks that nothing reaches the field that this comparison does not know: time, codes, the place of a checkpoint, or rules
    /// where a level is entered and outside of levels.
    fn can_be_compared(&self, field: &Field) -> Option<()> {
        let spec = self.spec;
        let known = field.counts.is_none() && !spec.is_carried(field.id) && field.lasts != Span::Session;
        let sound = known && !field.axes.contains(&Axis::Checkpoint);
        let outside = self.moments.iter().filter(|moment| match moment {
            Moment::Launch | Moment::Enter | Moment::NewRun | Moment::OwnRun(_) | Moment::Own(_) => true,
            // In the menu it is not a failure, and is said with failing and without.
            Moment::GameOver => true,
            Moment::Checkpoint
            | Moment::Death
            | Moment::Restart
            | Moment::Complete
            | Moment::Travel
            | Moment::Abandon
            | Moment::Quit => false,
        });
        let unruled = outside.copied().all(|moment| !self.has_rules(field, moment));
        (sound && unruled && !self.reads_checkpoints(field)).then_some(())
    }

    /// Says whether a rule of the field reads at which checkpoint play stands, or what something was there.
    fn reads_checkpoints(&self, field: &Field) -> bool {
        self.moments.iter().flat_map(|moment| &self.spec.plan.fate(field.id, *moment).rules).any(|rule| {
            rule.expressions().any(|expression| {
                let derived = expression.derived().iter().map(|index| &self.spec.derived[*index as usize].expression);
                derived.chain([expression]).any(|expression| reads_checkpoint(expression.node()))
            })
        })
    }

    /// Checks that every way to fail leaves what play without failing can have, and says what it leaves.
    fn is_brought_back(&self, field: &Field, kind: Kind, left: &mut Left) -> Option<()> {
        let spec = self.spec;
        for moment in self.moments {
            match moment {
                Moment::Death | Moment::Restart => {
                    for fate in self.fates(field, *moment)? {
                        stays_in_level(kind, fate)?;
                        left.note(Occasion::Moment(*moment), field, kind, fate)?;
                    }
                }
                Moment::Abandon => self.is_as_before(field, kind, Occasion::Moment(*moment), left)?,
                Moment::GameOver => {
                    for fate in self.fates(field, *moment)? {
                        let begins = self.moments.iter().filter(|moment| moment.begins_run());
                        let mut begins = begins.map(|moment| spec.plan.fate(field.id, *moment).fallback);
                        let mut begins_anew = || begins.all(|fate| fate == PlainFate::Reset);
                        // Behind the end of a run a level must not open by what is a default already beside what is not.
                        let opens = opening_conditions(spec).any(|condition| condition.reads().contains(&field.id));
                        let reset = fate == PlainFate::Reset && kind != Kind::Counter && !opens && begins_anew();
                        (reset || self.leaves_level(field, kind, fate)).then_some(())?;
                        left.note(Occasion::Moment(*moment), field, kind, fate)?;
                    }
                }
                Moment::Quit => match left_by_quitting(spec, field) {
                    LeftByQuitting::As(_) => self.is_as_before(field, kind, Occasion::Quitting, left)?,
                    LeftByQuitting::Fate(fate) => {
                        let failure = resembled_failure(spec.resume);
                        let rest = match field.lasts {
                            Span::Device | Span::Session | Span::Attempt => fate,
                            Span::Visit | Span::Run | Span::Profile => {
                                spec.meant(failure, spec.plan.fate(field.id, failure).fallback)
                            }
                        };
                        for fate in [fate, rest] {
                            stays_in_level(kind, fate)?;
                            left.note(Occasion::Quitting, field, kind, fate)?;
                        }
                    }
                },
                Moment::Launch
                | Moment::NewRun
                | Moment::Enter
                | Moment::Checkpoint
                | Moment::Complete
                | Moment::Travel
                | Moment::Own(_)
                | Moment::OwnRun(_) => {}
            }
        }
        Some(())
    }

    /// Lists what a failure makes of the entries of a field: those that a rule touches, and the others. None if a rule has a condition or
    /// a price.
    fn fates(&self, field: &Field, moment: Moment) -> Option<[PlainFate; 2]> {
        let untouched = self.spec.plan.fate(field.id, moment).fallback;
        let touched = unconditional_fate(self.spec, field, moment)?;
        Some([touched, untouched].map(|fate| self.spec.meant(moment, fate)))
    }

    /// Checks that an abandoned level leaves the field as it was before the level was entered.
    fn is_as_before(&self, field: &Field, kind: Kind, occasion: Occasion, left: &mut Left) -> Option<()> {
        for fate in self.fates(field, Moment::Abandon)? {
            self.leaves_level(field, kind, fate).then_some(())?;
            left.note(occasion, field, kind, fate)?;
        }
        Some(())
    }

    /// Says whether a failure that leaves the level leaves the field as it was before the level was entered.
    fn leaves_level(&self, field: &Field, kind: Kind, fate: PlainFate) -> bool {
        match fate {
            PlainFate::Entry => true,
            PlainFate::Keep => kind != Kind::Moves,
            // What a checkpoint has is not what was before the level.
            PlainFate::Checkpoint => kind == Kind::Stays,
            PlainFate::Reset => self.is_default_outside(field),
        }
    }

    /// Says whether a field has its default wherever play is in no level.
    fn is_default_outside(&self, field: &Field) -> bool {
        let ends = match field.lasts {
            Span::Attempt | Span::Visit => true,
            Span::Session | Span::Run | Span::Profile | Span::Device => false,
        };
        let ruled = |moment: &Moment| moment.ends(Span::Visit) && self.has_rules(field, *moment);
        ends && !self.moments.iter().any(ruled)
    }
}

/// Checks a failure after which play is still in the level.
fn stays_in_level(kind: Kind, fate: PlainFate) -> Option<()> {
    match fate {
        PlainFate::Entry | PlainFate::Checkpoint => Some(()),
        PlainFate::Keep => (kind != Kind::Moves).then_some(()),
        PlainFate::Reset => None,
    }
}

/// Says whether a moment is said in a level, and neither leaves it nor fails.
fn is_said_inside(moment: Moment) -> bool {
    match moment {
        Moment::Checkpoint | Moment::Own(_) => true,
        Moment::Launch
        | Moment::NewRun
        | Moment::OwnRun(_)
        | Moment::Enter
        | Moment::Death
        | Moment::Restart
        | Moment::Complete
        | Moment::Travel
        | Moment::Abandon
        | Moment::GameOver
        | Moment::Quit => false,
    }
}

/// Says whether a node reads at which checkpoint play stands, or what something was there.
fn reads_checkpoint(node: &Node) -> bool {
    let at_checkpoint =
        |entry: &EntryRef| matches!(entry, EntryRef::Picked(picks) if picks.contains(&Pick::Checkpoint));
    match node {
        Node::Checkpoint | Node::CheckpointIndex => true,
        Node::Read(at, _, entry) => *at == ReadAt::Checkpoint || at_checkpoint(entry),
        Node::Filled(_, entry) => at_checkpoint(entry),
        _ => node.any_part(&mut reads_checkpoint),
    }
}
