//! Whether a field never falls, by its rules alone.

use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::{Moment, Span, Type, Value};
use vestigum_spec::analysis::assume::assume_decided;
use vestigum_spec::analysis::bounds::FieldBounds;
use vestigum_spec::model::Model;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::Field;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::model::source::Gift;
use vestigum_spec::value::below;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::policy::Resume;

use super::decide::range_of;
use super::outcomes::unsaved_fate;
use super::{FoundProof, Ground, Occasion, Reason};
use crate::explore::gaps::Gap;

/// A field that may never fall.
pub(super) struct Rising<'a> {
    pub spec: &'a Model,
    pub field: &'a Field,
    /// The moments that can happen.
    pub moments: &'a [Moment],
}

impl Rising<'_> {
    /// Proves that it never falls, and says whether a sync can make it fall.
    pub(super) fn proof(&self) -> Option<FoundProof> {
        let proof = FoundProof::from_any_state(self.grounds()?);
        let gaps = if self.falls_by_sync() { vec![Gap::Syncs(vec![self.field.name.clone()])] } else { Vec::new() };
        Some(FoundProof { gaps, ..proof })
    }

    /// Says whether what two installations have made of it can be less than what one of them has. A law that keeps the better one
    /// does not; nor does the newer change of a bool, because a bool that never falls is changed once.
    fn falls_by_sync(&self) -> bool {
        let Some(merging) = &self.spec.merging else { return false };
        match merging.fields[self.field.id.0 as usize] {
            FieldMerge::Apart | FieldMerge::Changed => false,
            FieldMerge::By(MergeLaw::Newer) => self.field.ty != Type::Bool,
            FieldMerge::By(MergeLaw::Max | MergeLaw::Union | MergeLaw::Sum) => false,
            FieldMerge::WithRun | FieldMerge::By(MergeLaw::Min) => true,
        }
    }

    /// Returns why it never falls.
    fn grounds(&self) -> Option<Vec<Ground>> {
        let field = self.field;
        if !field.ty.is_number() && field.ty != Type::Bool {
            return None;
        }
        let mut grounds = Vec::new();
        // What play writes can be anything, unless sources say what it is.
        if (field.played && !self.is_given()) || self.spec.is_carried(field.id) {
            return None;
        }
        if self.is_given() {
            self.gifts().all(|gift| raises(&gift.value)).then_some(())?;
            grounds.push(Ground::new(Occasion::Sources, field, Reason::GivesMore));
        }
        // Quitting has no fates: what a save leaves is looked at below.
        for moment in self.moments.iter().filter(|moment| **moment != Moment::Quit) {
            self.moment(*moment, &mut grounds)?;
        }
        if self.moments.contains(&Moment::Quit) {
            self.relaunch(&mut grounds)?;
        }
        if grounds.iter().any(|ground| ground.reason == Reason::BringsBack) {
            self.steady().then_some(())?;
            grounds.push(Ground::new(Occasion::InLevels, field, Reason::IsItsMarks));
        }
        Some(grounds)
    }

    /// Returns what sources give to the field.
    fn gifts(&self) -> impl Iterator<Item = &Gift> {
        self.spec.sources.iter().flat_map(|source| &source.gives).filter(|gift| gift.field == self.field.id)
    }

    fn is_given(&self) -> bool {
        self.gifts().next().is_some()
    }

    fn moment(&self, moment: Moment, grounds: &mut Vec<Ground>) -> Option<()> {
        let Rising { spec, field, .. } = *self;
        let fate = spec.plan.fate(field.id, moment);
        let occasion = Occasion::Moment(moment);
        for (index, rule) in fate.rules.iter().enumerate() {
            let reason = match &rule.does {
                Effect::Plain(simple) => self.plain(*simple)?,
                Effect::Operation(operation, _) => self.operation(*operation, &fate.rules, index)?,
            };
            grounds.push(Ground { rule: Some(index), ..Ground::new(occasion, field, reason) });
        }
        let always = !field.is_keyed() && fate.rules.iter().any(|rule| rule.when.is_none());
        if !always {
            grounds.push(Ground::new(occasion, field, self.plain(fate.fallback)?));
        }
        if field.id == spec.opened && moment == Moment::Complete {
            grounds.push(Ground::new(occasion, field, Reason::Opens));
        }
        Some(())
    }

    fn plain(&self, simple: PlainFate) -> Option<Reason> {
        let field = self.field;
        match simple {
            PlainFate::Keep => Some(Reason::Keeps),
            PlainFate::Reset => {
                let can_be_more = match &field.limits.range {
                    Some((_, highest)) if !field.optional => below(&field.default, highest),
                    _ => field.default != Value::Bool(true),
                };
                (!can_be_more).then_some(Reason::NothingIsMore)
            }
            PlainFate::Entry | PlainFate::Checkpoint => {
                Some(if field.rewinds { Reason::BringsBack } else { Reason::Keeps })
            }
        }
    }

    fn operation(&self, operation: Operation, rules: &[Rule], index: usize) -> Option<Reason> {
        let Rising { spec, field, .. } = *self;
        let Effect::Operation(_, operand) = &rules[index].does else { return None };
        let ranges = |id, _: Option<usize>| range_of(spec, id);
        let bounds = || {
            let fields = FieldBounds::new(&ranges);
            // A rule that never decides does nothing.
            assume_decided(rules, index, spec, &fields).then(|| operand.bounds(spec, &fields))
        };
        let is_true = || bounds().is_none_or(|bounds| !bounds.can_fail());
        let number = field.ty.is_number();
        let never_below = || operand.is_never_below(spec, field, rules, index);
        match operation {
            Operation::Max if number => Some(Reason::TakesTheHigher),
            Operation::Add if number => {
                bounds().is_none_or(|of| !of.can_be_below(0.0)).then_some(Reason::AddsNothingNegative)
            }
            Operation::Set | Operation::Min if number => never_below().then_some(Reason::IsNeverBelow),
            Operation::Set => is_true().then_some(Reason::BecomesTrue),
            Operation::Add | Operation::Max | Operation::Min | Operation::Union | Operation::Rank => None,
        }
    }

    /// Quitting and launching again.
    fn relaunch(&self, grounds: &mut Vec<Ground>) -> Option<()> {
        let Rising { spec, field, .. } = *self;
        if spec.resume == Resume::None {
            // Such a save is what giving up leaves, and the run may be over with it.
            for moment in [Moment::Abandon, Moment::GameOver] {
                self.moment(moment, &mut Vec::new())?;
            }
        } else if field.lasts != Span::Device {
            for simple in self.suspended() {
                grounds.push(Ground::new(Occasion::Quitting, field, self.plain(simple)?));
            }
        }
        if !field.lasts.is_saved() {
            grounds.push(Ground::new(Occasion::Quitting, field, self.plain(unsaved_fate(field.lasts))?));
        }
        Some(())
    }

    /// Returns what a save made in a level can leave of it.
    fn suspended(&self) -> [PlainFate; 2] {
        let fate = suspended_fate(self.spec, self.field, resembled_failure(self.spec.resume));
        [fate.touched, fate.untouched]
    }

    /// Says whether, in a level, the field is never below what its marks hold: nothing lowers it there but what brings it back to them.
    pub(super) fn is_never_below_marks(&self) -> bool {
        let Rising { spec, field, moments } = *self;
        let stays = |simple: PlainFate| simple != PlainFate::Reset;
        let in_levels = moments.iter().filter(|moment| {
            let happens = matches!(moment, Moment::Enter | Moment::Checkpoint | Moment::Launch | Moment::Own(_));
            moment.stays_in_level() || happens
        });
        let kept = in_levels.map(|moment| spec.plan.fate(field.id, *moment)).all(|fate| {
            let rises = |(index, rule): (usize, &Rule)| match &rule.does {
                Effect::Plain(simple) => stays(*simple),
                Effect::Operation(operation, _) => self.operation(*operation, &fate.rules, index).is_some(),
            };
            stays(fate.fallback) && fate.rules.iter().enumerate().all(rises)
        });
        let written = field.played && !self.is_given() || spec.is_carried(field.id) || spec.merging.is_some();
        kept && !written
            && field.lasts.is_saved()
            && self.suspended().into_iter().all(stays)
            && self.gifts().all(|gift| raises(&gift.value))
    }

    /// Returns whether, in a level, the field is what both marks hold: nothing changes it there.
    fn steady(&self) -> bool {
        let Rising { spec, field, .. } = *self;
        let stays = |simple: PlainFate| simple != PlainFate::Reset;
        let in_levels = self
            .moments
            .iter()
            .filter(|moment| moment.stays_in_level() || matches!(moment, Moment::Checkpoint | Moment::Own(_)));
        let mut fates = in_levels.map(|moment| spec.plan.fate(field.id, *moment));
        let kept = fates.all(|fate| {
            let rules_stay = |rule: &Rule| matches!(&rule.does, Effect::Plain(simple) if stays(*simple));
            stays(fate.fallback) && fate.rules.iter().all(rules_stay)
        });
        let resumes = spec.resume != Resume::None;
        let suspended = !resumes || field.lasts == Span::Device || self.suspended().into_iter().all(stays);
        let unsaved = !resumes || stays(unsaved_fate(field.lasts));
        !self.is_given() && kept && suspended && unsaved
    }
}

/// Returns whether a source that gives this lets nothing fall.
fn raises(value: &Value) -> bool {
    match value {
        Value::Int(int) => *int >= 0,
        Value::Float(float) => float.get() >= 0.0,
        Value::Bool(bool) => *bool,
        Value::Unfilled
        | Value::Text(_)
        | Value::Bytes(_)
        | Value::Vec2(_)
        | Value::Vec3(_)
        | Value::Choice(_)
        | Value::Struct(..)
        | Value::List(_)
        | Value::Set(_)
        | Value::Map(_) => false,
    }
}
