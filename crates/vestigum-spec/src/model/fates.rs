//! Fate: what a moment does to a field. This is the one place that decides it.
//!
//! For every field and moment there is exactly one fate, found in this order:
//!
//! 1. `on.<moment>` of the field: a rule, or of a list the first rule whose `when` holds;
//! 2. if the moment ends the field's span: inside a level back to the entry mark, else to the default;
//! 3. if the moment is a failure: what the field's `after_failure` says;
//! 4. keep.
//!
//! [`FieldFate`] holds step 1 as [`FieldFate::rules`] and what is left of steps 2 to 4 as [`FieldFate::fallback`]. The
//! runtime, the fate table and the checks all read the same `FatePlan`, which is worked out once when the spec is built.

use crate::model::Types;
use crate::model::expression::Expression;
use crate::model::field::FieldId;
use crate::vocabulary::fate::{Operation, PlainFate};
use crate::vocabulary::moment::Moment;
use crate::vocabulary::span::Span;

/// Describes what a rule does.
#[derive(Clone, Debug)]
pub enum Effect {
    /// A fate without an operand.
    Plain(PlainFate),
    /// A change by an operand.
    Operation(Operation, Expression),
}

impl Effect {
    /// The word for it.
    pub fn word(&self) -> &'static str {
        match self {
            Effect::Plain(simple) => simple.word(),
            Effect::Operation(change, _) => change.word(),
        }
    }
}

/// One rule of an `on` table.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The condition under which it applies; without one it always does.
    pub when: Option<Expression>,
    /// Says what it does.
    pub does: Effect,
}

impl Rule {
    /// Lists the expressions of the rule: its condition and its operand.
    #[doc(hidden)]
    pub fn expressions(&self) -> impl Iterator<Item = &Expression> {
        let operand = match &self.does {
            Effect::Plain(_) => None,
            Effect::Operation(_, operand) => Some(operand),
        };
        self.when.iter().chain(operand)
    }
}

/// Describes what one moment does to one field.
#[derive(Clone, Debug)]
pub struct FieldFate {
    /// The rules: the first whose condition holds decides.
    pub rules: Vec<Rule>,
    /// The fate where no rule decides, and of the entries that no rule touches.
    pub fallback: PlainFate,
}

impl FieldFate {
    /// Returns whether nothing ever happens to the field here.
    pub fn is_keep(&self) -> bool {
        self.rules.is_empty() && self.fallback == PlainFate::Keep
    }

    /// Returns whether all it does is to bring values back from a mark.
    fn only_rewinds(&self) -> bool {
        self.rules.is_empty() && self.fallback.rewinds()
    }

    /// The fate if only rules without a price count: of a list the first rule, if it has no guard and no operand.
    /// `None` says that the rules have a price.
    #[doc(hidden)]
    pub fn unconditional(&self) -> Option<PlainFate> {
        match self.rules.first() {
            None => Some(self.fallback),
            Some(Rule { when: None, does: Effect::Plain(simple) }) => Some(*simple),
            Some(_) => None,
        }
    }
}

/// Steps 2 to 4 of the order: what happens where no rule decides.
pub fn fallback(lasts: Span, after_failure: Option<PlainFate>, moment: Moment) -> PlainFate {
    if moment.ends(lasts) {
        if moment.stays_in_level() { PlainFate::Entry } else { PlainFate::Reset }
    } else if moment.is_failure() {
        after_failure.unwrap_or(PlainFate::Keep)
    } else {
        PlainFate::Keep
    }
}

/// The fates of all fields at all moments, worked out once.
#[derive(Debug, Default)]
pub struct FatePlan {
    fields: usize,
    /// Moment × field.
    fates: Vec<FieldFate>,
    /// For each moment the fields to which something can happen though no mark has noted anything of them.
    ruled: Vec<Vec<FieldId>>,
    /// For each moment the attempt and visit fields that are set back, in the order of the spec.
    set_back: Vec<Vec<FieldId>>,
}

impl FatePlan {
    /// Lays out the plan. `rules` takes the rules of a field at a moment.
    pub fn new(spec: &Types, mut rules: impl FnMut(FieldId, Moment) -> Vec<Rule>) -> FatePlan {
        let mut plan = FatePlan { fields: spec.fields.len(), ..FatePlan::default() };
        for moment in spec.moments() {
            let mut ruled = Vec::new();
            let mut set_back = Vec::new();
            // Which levels are completed and open outlasts a run that begins at another moment than these.
            let levels_stay = moment.begins_run() && !spec.cleared_at.contains(&moment);
            for field in &spec.fields {
                let fate = FieldFate {
                    rules: rules(field.id, moment),
                    fallback: if field.built_in && levels_stay {
                        PlainFate::Keep
                    } else {
                        fallback(field.lasts, field.after_failure, moment)
                    },
                };
                if !fate.is_keep() && !fate.only_rewinds() {
                    ruled.push(field.id);
                }
                if field.needs_level() && fate.unconditional().is_some_and(|simple| simple != PlainFate::Keep) {
                    set_back.push(field.id);
                }
                plan.fates.push(fate);
            }
            plan.ruled.push(ruled);
            plan.set_back.push(set_back);
        }
        plan
    }

    /// Returns what a moment does to a field.
    pub fn fate(&self, field: FieldId, moment: Moment) -> &FieldFate {
        // Nothing happens to a field that the spec does not have, or at a moment that it does not have.
        static KEEP: FieldFate = FieldFate { rules: Vec::new(), fallback: PlainFate::Keep };
        let known = (field.0 as usize) < self.fields;
        let at = moment.index() * self.fields + field.0 as usize;
        self.fates.get(at).filter(|_| known).unwrap_or(&KEEP)
    }

    /// The fields that a moment looks at, in the order of the spec: those with rules, those that go back to their defaults, and
    /// of the rewinding ones those that `noted` names, because of all others the marks hold what they are.
    pub fn concerned(&self, moment: Moment, noted: impl Iterator<Item = FieldId>) -> Vec<FieldId> {
        let ruled = &self.ruled[moment.index()];
        let mut concerned = Vec::with_capacity(self.fields);
        concerned.extend(noted.filter(|id| self.fate(*id, moment).only_rewinds()));
        concerned.extend(ruled);
        if concerned.len() > ruled.len() {
            concerned.sort_unstable();
        }
        concerned
    }

    /// The attempt and visit fields that a moment sets back.
    pub fn set_back(&self, moment: Moment) -> &[FieldId] {
        &self.set_back[moment.index()]
    }
}
