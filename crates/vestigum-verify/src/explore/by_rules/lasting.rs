//! Proves by the rules alone that every level can still be completed from every state.
//!
//! What opens levels never falls, and a play that takes only what every visit gives completes all of them from a fresh profile on,
//! where every other source is taken already. From any state the same play does it: more is open there, and what it takes it finds
//! there, too.

use vestigum_core::Spec;
use vestigum_core::{Moment, Progress, Span, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::source::Source;

use super::falls::Rising;
use super::{FoundProof, RuleProof, only_rises, opening_conditions};
use crate::explore::act::Repertoire;
use crate::explore::gaps::is_made_by_update;
use crate::explore::player::complete_from;

/// Proves that every level can still be completed. `counted` is the spec with the counters of its sources, and `completed` says which levels need
/// not be.
pub(crate) fn proof(
    plain: &Spec,
    counted: &Spec,
    repertoire: &Repertoire,
    moments: &[Moment],
    completed: &[bool],
) -> Option<RuleProof> {
    let spec = &**plain.model();
    let mut proof = FoundProof::from_any_state(Vec::new());
    let mut rises = |id: FieldId| {
        let found = Rising { spec, field: spec.field(id), moments }.proof()?;
        proof.grounds.extend(found.grounds);
        proof.gaps.extend(found.gaps);
        Some(())
    };
    let conditions = || opening_conditions(spec);
    let mut needed: Vec<FieldId> = vec![spec.opened, spec.completed];
    for read in conditions().flat_map(Expression::reads) {
        if !needed.contains(read) {
            needed.push(*read);
        }
    }
    needed.iter().try_for_each(|id| rises(*id))?;
    conditions().all(|when| only_rises(spec, when)).then_some(())?;
    let mut fields = needed.iter().map(|id| spec.field(*id)).filter(|field| !field.built_in);
    let of_play = |id: &FieldId| spec.is_made_field(*id) || is_of_visit(spec, spec.field(*id));
    fields.all(|field| reads_only(spec, field, moments, &of_play)).then_some(())?;
    // What ends a run does not change while a level is played to its end, by no rule and by nothing that a visit gives; a run that is
    // over can begin again.
    let inside = [Moment::Enter, Moment::Checkpoint, Moment::Complete];
    let stays = |id: &FieldId| {
        let by_visit = spec.sources.iter().filter(|source| source.lasts.is_of_visit());
        let given = by_visit.flat_map(|source| &source.gives).any(|gift| gift.field == *id);
        !given && inside.iter().all(|moment| spec.plan.fate(*id, *moment).is_keep())
    };
    spec.over_when.iter().flat_map(Expression::reads).all(stays).then_some(())?;
    (moments.contains(&Moment::NewRun) && moments.contains(&Moment::Complete)).then_some(())?;
    let mut worst = Progress::fresh(counted);
    let model = counted.model();
    for (source, counter) in model.sources.iter().zip(&repertoire.counters) {
        let counter = model.field(*counter);
        if !counter.lasts.is_of_visit() && !leaves_what_it_gave(counted, source, counter) {
            counter.slots().for_each(|slot| worst.state_mut().write(slot, Value::Int(source.times)));
        }
    }
    complete_from(counted, repertoire, completed, worst)?;
    proof.gaps.dedup();
    Some(proof.told(spec))
}

/// Says whether what a source gave is there wherever it is taken: it makes bools true that have the fate of its counter at every moment, so
/// that one who finds it taken needs it no more.
fn leaves_what_it_gave(spec: &Spec, source: &Source, counter: &Field) -> bool {
    let model = &**spec.model();
    let fate = |field: &Field, moment: Moment| {
        let fate = model.plan.fate(field.id, moment);
        fate.rules.is_empty().then_some(fate.fallback)
    };
    model.merging.is_none()
        && source.gives.iter().all(|gift| {
            let field = model.field(gift.field);
            gift.value == Value::Bool(true)
                && (field.lasts, field.rewinds) == (counter.lasts, counter.rewinds)
                && !is_made_by_update(spec, field)
                && spec.moments().all(|moment| fate(field, moment).is_some_and(|of| Some(of) == fate(counter, moment)))
        })
}

/// Says whether a field begins anew with every visit, and what happens to it there depends on nothing else: not on `completed` either,
/// which a first visit without success sets for good.
fn is_of_visit(spec: &Model, field: &Field) -> bool {
    let given = spec.sources.iter().any(|source| source.gives.iter().any(|gift| gift.field == field.id));
    let alone = |id: &FieldId| *id == field.id || spec.is_made_field(*id);
    field.lasts.is_of_visit() && (given || !field.played) && {
        let moments = [Moment::Enter, Moment::Checkpoint, Moment::Complete];
        reads_only(spec, field, &moments, &alone)
    }
}

/// Says whether the rules of a field read only such fields, and touch what levels alone decide.
fn reads_only(spec: &Model, field: &Field, moments: &[Moment], allowed: &dyn Fn(&FieldId) -> bool) -> bool {
    let rules = || moments.iter().flat_map(|moment| &spec.plan.fate(field.id, *moment).rules);
    let mut read = rules().flat_map(|rule| rule.expressions().flat_map(Expression::reads));
    let of_levels = field.axes.iter().all(|axis| *axis == Axis::Level) || rules().next().is_none();
    field.lasts != Span::Device && of_levels && read.all(allowed)
}
