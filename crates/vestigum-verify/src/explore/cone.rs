//! Which values a question can depend on.
//!
//! A field matters if the question reads it, if an opening or `over_when` does, or if a rule of a field that matters reads
//! it in a guard or an operand, or to find the key it touches. All others can be left out of what tells two states
//! apart: two states that agree on everything that matters, and in their place, go on to agree whatever is played, and
//! answer the question alike. A source matters if it gives to a field that does; the others need not be taken at all.

use rustc_hash::FxHashSet;

use vestigum_core::Spec;
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::source::Source;

use super::cuts::{UNCUT, cut};
use super::gaps::{self, Gap};
use super::packed::Packing;
use super::question::Question;
use super::relaxed::Relaxation;
use super::writes::PlayWrites;

/// The fields and sources that matter to a question.
#[derive(Clone, Debug)]
pub(super) struct Cone {
    /// Says how the fields that matter are told apart.
    pub packing: Packing,
    /// The fields on which openings depend, that play writes and no source gives: what they can be is not known.
    pub blind: Vec<FieldId>,
    /// Says which sources matter.
    pub sources: Vec<bool>,
    /// Lists what play writes at will into fields that matter.
    pub writes: PlayWrites,
    /// Says whether it matters what belongs to the device and what does not: then another player is another start.
    pub players: bool,
    /// Lists what the answer leaves out.
    pub gaps: Vec<Gap>,
}

impl Cone {
    /// `counters` are the fields that count how often a source was taken.
    pub(super) fn of(spec: &Spec, counters: &[FieldId], question: &Question, relaxation: &Relaxation) -> Cone {
        let data = &**spec.model();
        let opening = opening(spec, relaxation);
        let mut matter = mattering(spec, question, &opening);
        let gives =
            |source: &Source, fields: &FxHashSet<FieldId>| source.gives.iter().any(|gift| fields.contains(&gift.field));
        let sources: Vec<bool> = data.sources.iter().map(|source| gives(source, &matter)).collect();
        let taken = counters.iter().zip(&sources).filter(|(_, matters)| **matters).map(|(counter, _)| *counter);
        matter.extend(taken);
        let given = |field: FieldId| data.sources.iter().any(|source| gives(source, &[field].into_iter().collect()));
        let blind = data.fields.iter().filter(|field| {
            opening.contains(&field.id) && ((field.played && !given(field.id)) || data.is_carried(field.id))
        });
        let fields = data.fields.iter().filter(|field| matter.contains(&field.id));
        let fields = fields.map(|field| {
            // Nobody asks how often a source was taken but the search itself.
            let counts = counters.contains(&field.id);
            let asks = question.asks(spec, field.id);
            let cut = || cut(spec, field, asks, relaxation, &|id| matter.contains(&id));
            (field, if counts { UNCUT } else { cut() })
        });
        let mut ids: Vec<FieldId> = matter.iter().copied().collect();
        ids.sort_unstable();
        let writes = PlayWrites::of(spec, question, &ids, counters, relaxation);
        let saved: Vec<FieldId> = ids.iter().copied().filter(|id| !counters.contains(id)).collect();
        let gaps = gaps::of_search(spec, question, &saved, &|id| writes.how(id));
        let players = gaps.iter().any(|gap| matches!(gap, Gap::Players(_)));
        let packing =
            Packing::of(fields, &|field, slot| counters.contains(&field.id) || relaxation.follows(data, field, slot));
        Cone { packing, blind: blind.map(|field| field.id).collect(), sources, writes, players, gaps }
    }
}

/// The fields on which it depends what can be entered.
fn opening(spec: &Spec, relaxation: &Relaxation) -> FxHashSet<FieldId> {
    let data = &**spec.model();
    let mut opening = FxHashSet::default();
    if relaxation.has_locks() {
        opening.extend([data.completed, data.opened]);
    }
    for (level, when) in (0..).zip(&data.openings) {
        if let Opening::When(condition) = when
            && !relaxation.lifts(level)
        {
            opening.extend(condition.reads());
        }
    }
    closed(spec, opening)
}

/// The fields that matter to a question, beside the counters of its sources.
fn mattering(spec: &Spec, question: &Question, opening: &FxHashSet<FieldId>) -> FxHashSet<FieldId> {
    let data = &**spec.model();
    let mut matter: FxHashSet<FieldId> = question.reads().into_iter().chain(opening.iter().copied()).collect();
    matter.extend(data.over_when.iter().flat_map(|over_when| over_when.reads().iter().copied()));
    matter.extend(data.key_sets.iter().filter_map(|set| set.current.as_ref().map(|(field, _)| *field)));
    closed(spec, matter)
}

/// Returns what matters to a question where all locks are lifted.
pub(super) fn mattering_unlocked(spec: &Spec, question: &Question) -> Vec<FieldId> {
    let mut matter: Vec<FieldId> = mattering(spec, question, &FxHashSet::default()).into_iter().collect();
    matter.sort_unstable();
    matter
}

/// The fields, and all that their rules read, and all that those rules read.
pub(crate) fn closed(spec: &Spec, mut fields: FxHashSet<FieldId>) -> FxHashSet<FieldId> {
    let mut waiting: Vec<FieldId> = fields.iter().copied().collect();
    while let Some(field) = waiting.pop() {
        waiting.extend(read_by_rules(spec.model(), spec, field).into_iter().filter(|read| fields.insert(*read)));
    }
    fields
}

fn read_by_rules(data: &Model, spec: &Spec, field: FieldId) -> Vec<FieldId> {
    let mut read = Vec::new();
    for moment in spec.moments() {
        for rule in &data.plan.fate(field, moment).rules {
            read.extend(rule.expressions().flat_map(Expression::reads));
        }
    }
    read
}
