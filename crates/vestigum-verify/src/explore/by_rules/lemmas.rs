//! Lists what is known of every state that play reaches before a promise is looked at: an open level meets its condition, and other promises
//! hold.

use std::sync::Arc;

use vestigum_core::evaluation::Env;
use vestigum_core::evaluation::judge::ExpressionValue;
use vestigum_core::state::State;
use vestigum_core::{Moment, Span, Spec};
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::node::{EntryRef, Node, ReadAt};
use vestigum_spec::syntax::Operator;

use super::after::{inlined, is_followed};
use super::always::{self, Always, read_at};
use super::decide::Budget;
use super::falls::Rising;
use super::outcomes::MomentStep;
use super::{FoundProof, Ground, Occasion, Reason, frozen, value_never_falls};
use crate::explore::gaps::{Gap, is_made_by_update};
use crate::explore::question::{Asked, Question, promises};

/// Something that holds of every state that play reaches.
pub(super) struct Lemma {
    /// Reads the state as it is.
    pub holds: Node,
    pub grounds: Vec<Ground>,
    /// Lists what its proof leaves out.
    pub gaps: Vec<Gap>,
    /// The promise that says it, if one does.
    pub promise: Option<Arc<str>>,
    /// Says whether it holds of every state, or only of the state before the moments that are asked about.
    pub always: bool,
}

impl Lemma {
    /// Says it of the state before a step.
    pub(super) fn before(&self) -> Option<Node> {
        read_at(&self.holds, ReadAt::Was)
    }
}

/// Lists what is known of the states in which a question is asked.
pub(super) fn of(spec: &Spec, question: &Question, moments: &[Moment]) -> Vec<Lemma> {
    let Asked::Holds(condition, after) = &question.asked else { return Vec::new() };
    let (model, budget) = (&**spec.model(), Budget::default());
    let Some(node) = inlined(model, condition.node(), &budget) else { return Vec::new() };
    let mut lemmas = of_openings(spec, &node, moments);
    let near = near(spec, condition);
    let proved = promises(spec).into_iter().filter(|other| other.index != question.index).filter_map(|other| {
        let Asked::Holds(of, moment) = &other.asked else { return None };
        let shared = of.reads().iter().any(|field| near.contains(field));
        (moment.is_empty() && shared).then_some(())?;
        let holds = inlined(model, of.node(), &budget)?;
        always::is_of_now(model, &holds).then_some(())?;
        let found = always::proof(spec, of, moments, &of_openings(spec, &holds, moments))?;
        Some(Lemma { holds, grounds: Vec::new(), gaps: found.gaps, promise: Some(other.name.clone()), always: true })
    });
    lemmas.extend(proved);
    lemmas.extend(of_run(spec, after, moments));
    lemmas
}

/// In a level no run is over, so that what ends one does not hold there: for the moments that are about a level.
fn of_run(spec: &Spec, after: &[Moment], moments: &[Moment]) -> Option<Lemma> {
    let (model, budget) = (&**spec.model(), Budget::default());
    let over = model.over_when.as_ref()?;
    let in_levels = !after.is_empty() && after.iter().all(|moment| is_in_level(*moment));
    let starts_over = over.holds(&Env::new(model, &State::fresh(model), None, None));
    // A sync can bring the run of another installation.
    (in_levels && !starts_over && model.merging.is_none()).then_some(())?;
    let holds = Node::Not(Box::new(inlined(model, over.node(), &budget)?));
    (always::is_of_now(model, &holds) && !holds.speaks_of_place(model)).then_some(())?;
    let mut reads = Vec::new();
    let launch = MomentStep { spec: model, moment: Moment::Launch, budget: &budget };
    is_followed(launch, &holds, &mut reads).then_some(())?;
    let fields: Vec<&Field> = reads.iter().map(|read| model.field(read.field())).collect();
    // What another player or an earlier version leaves is not judged.
    let of_others = |field: &Field| field.lasts == Span::Device || is_made_by_update(spec, field);
    (!fields.iter().any(|field| of_others(field))).then_some(())?;
    let always = Always { spec: model, condition: &holds, reads, of_levels: false, lemmas: &[], budget: &budget };
    always.while_run_goes_on(moments)?;
    let grounds = vec![Ground::new(Occasion::InLevels, *fields.first()?, Reason::RunGoesOn)];
    // An earlier version may have ended runs by another condition.
    let gaps = frozen(spec, fields);
    Some(Lemma { holds, grounds, gaps, promise: None, always: false })
}

/// Says whether the state before a moment is one of play in a level, or on the way into one. A game over comes where the run is over.
fn is_in_level(moment: Moment) -> bool {
    match moment {
        Moment::Enter
        | Moment::Checkpoint
        | Moment::Death
        | Moment::Restart
        | Moment::Complete
        | Moment::Travel
        | Moment::Abandon => true,
        Moment::Launch | Moment::NewRun | Moment::GameOver | Moment::Quit | Moment::Own(_) | Moment::OwnRun(_) => false,
    }
}

/// Lists the fields that a condition reads, and those that their rules read.
fn near(spec: &Spec, condition: &Expression) -> Vec<FieldId> {
    let mut near = condition.reads().to_vec();
    for field in condition.reads() {
        let rules = spec.moments().flat_map(|moment| &spec.model().plan.fate(*field, moment).rules);
        for rule in rules {
            near.extend(rule.expressions().flat_map(Expression::reads));
        }
    }
    near
}

/// Lists what is true of each level once it is open, for the levels that a condition asks about.
fn of_openings(spec: &Spec, node: &Node, moments: &[Moment]) -> Vec<Lemma> {
    let mut levels = Vec::new();
    gather_levels(spec.model(), node, &mut levels);
    levels.into_iter().filter_map(|level| of_opening(spec, level, moments)).collect()
}

fn gather_levels(spec: &Model, node: &Node, levels: &mut Vec<u32>) {
    if let Node::Read(ReadAt::Now, field, EntryRef::Slot(slot)) = node
        && *field == spec.opened
        && let Some(level) = spec.field(*field).level_of(spec, *slot)
        && !levels.contains(&level)
    {
        levels.push(level);
    }
    node.any_part(&mut |part| {
        gather_levels(spec, part, levels);
        false
    });
}

/// A level opens where its condition holds, and what the condition reads never falls, so that it holds from then on.
fn of_opening(spec: &Spec, level: u32, moments: &[Moment]) -> Option<Lemma> {
    let model = &**spec.model();
    let of_device = |field: &FieldId| model.field(*field).lasts == Span::Device;
    // An exit opens it, too, and so does a code.
    (model.level(level).entrances.is_empty() && !model.is_carried(model.opened)).then_some(())?;
    let (condition, proof) = match model.opening(level) {
        Opening::When(condition) => {
            // What is open comes to other installations, and what the device has does not.
            (model.merging.is_none() || !condition.reads().iter().any(of_device)).then_some(())?;
            let proof = value_never_falls(model, std::slice::from_ref(condition), moments)?;
            (inlined(model, condition.node(), &Budget::default())?, proof)
        }
        Opening::After(before) => {
            let completed = model.field(model.completed);
            let entry = EntryRef::Slot(completed.slot_at(&[*before]));
            let proof = Rising { spec: model, field: completed, moments }.proof()?;
            (Node::Read(ReadAt::Now, model.completed, entry), proof)
        }
        Opening::Always | Opening::ByExit | Opening::Made => return None,
    };
    let FoundProof { mut grounds, mut gaps, .. } = proof;
    let opened = model.field(model.opened);
    grounds.insert(0, Ground::new(Occasion::Openings, opened, Reason::OpensWhere));
    // An earlier version may have asked for less.
    gaps.extend(frozen(spec, [opened]));
    let open = Node::Read(ReadAt::Now, model.opened, EntryRef::Slot(model.opened_slot(level)));
    let holds = Node::Binary(Operator::Or, Box::new(Node::Not(Box::new(open))), Box::new(condition));
    Some(Lemma { holds, grounds, gaps, promise: None, always: true })
}
