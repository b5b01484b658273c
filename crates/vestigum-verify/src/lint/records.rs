//! Rules that write over what was better, or count twice what happened once.

use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::{Diagnostic, Moment, Span};
use vestigum_spec::codes;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::policy::Resume;

use super::warnings::Declared;

impl Declared<'_> {
    pub(super) fn lowered_record(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        // One value of a run is handed on from level to level; one for each level is what was reached there.
        let lasting = field.lasts.outlives_run() || (field.lasts == Span::Run && field.is_per_level());
        if !lasting || !field.ty.is_number() {
            return None;
        }
        let of_visit = |expression: &Expression| {
            let reads = expression.reads();
            !reads.is_empty() && reads.iter().all(|id| spec.field(*id).needs_level())
        };
        let rules = &spec.plan.fate(field.id, Moment::Complete).rules;
        let lowers = |index: usize, operand: &Expression| {
            // What play brings along is worse one day and better the next; anything else is no result.
            let result = operand.reads().iter().any(|id| spec.field(*id).needs_level());
            // A condition that asks for more than the visit may know what it does.
            let decided = rules[index].when.as_ref().is_some_and(|when| !of_visit(when));
            // What is less may be what is better, unless another rule says that more is.
            let one_way = operand.is_never_below(spec, field, rules, index)
                || (!self.is_raised() && operand.is_never_above(spec, field, rules, index));
            // A sum keeps what was there before.
            let sum = operand.is_sum_with(spec, field);
            result && !decided && !one_way && !sum && !self.is_handed_on(operand)
        };
        let mut sets = self.rules(Moment::Complete).filter_map(|(index, rule)| match &rule.does {
            Effect::Operation(Operation::Set, operand) => Some((index, operand)),
            Effect::Operation(..) | Effect::Plain(_) => None,
        });
        let (index, operand) = sets.find(|(index, operand)| lowers(*index, operand))?;
        let message = format!("a replay can lower this record: `{}` takes whatever the last visit brought", field.name);
        Some(
            Diagnostic::warning(codes::LOWERED_RECORD, self.rule_span(Moment::Complete, index), message)
                .label("this overwrites a better one")
                .help(format!(
                    "write `max = \"{0}\"`, or `min` where less is better; if the last one is meant, allow it",
                    operand.source()
                )),
        )
    }

    /// Returns whether some rule raises the record.
    fn is_raised(&self) -> bool {
        let Declared { spec, field, .. } = *self;
        let rules = &spec.plan.fate(field.id, Moment::Complete).rules;
        self.rules(Moment::Complete).any(|(index, rule)| match &rule.does {
            Effect::Operation(Operation::Max, _) => true,
            Effect::Operation(Operation::Set, operand) => {
                // A guard that asks for the record sets it when it is better.
                let asks = rule.when.as_ref().is_some_and(|when| when.is_made_of(spec, field));
                let raises = asks || operand.is_never_below(spec, field, rules, index);
                raises && !operand.is_never_above(spec, field, rules, index)
            }
            Effect::Operation(..) | Effect::Plain(_) => false,
        })
    }

    /// Returns whether the visit got from the field what it gives back: then it is not a result, but what the player carries.
    fn is_handed_on(&self, operand: &Expression) -> bool {
        let Declared { spec, field, .. } = *self;
        let from_field = |rule: &Rule| match &rule.does {
            Effect::Operation(_, operand) => operand.reads().contains(&field.id),
            Effect::Plain(_) => false,
        };
        operand.reads().iter().any(|id| spec.plan.fate(*id, Moment::Enter).rules.iter().any(from_field))
    }

    pub(super) fn device_sum(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if field.lasts != Span::Device {
            return None;
        }
        // What a rule makes of its own value comes out another way the second time.
        let adds = |rule: &Rule| match &rule.does {
            Effect::Operation(Operation::Add, _) => true,
            Effect::Operation(Operation::Set | Operation::Max | Operation::Min, operand) => {
                operand.adds_to(spec, field)
            }
            Effect::Operation(Operation::Union | Operation::Rank, _) | Effect::Plain(_) => false,
        };
        // A failure that is saved is saved with the game over that follows it.
        let follows = spec.over_when.is_some() && spec.save_at.iter().any(|moment| moment.is_failure());
        let saves = spec.save_at.iter().copied().chain(follows.then_some(Moment::GameOver));
        let found = saves.filter_map(|moment| Some((moment, self.rule(moment, adds)?))).next();
        let (moment, index) = found?;
        let message = format!("`{}` can count a `{}` twice", field.name, spec.moment_name(moment));
        Some(
            Diagnostic::warning(codes::DEVICE_SUM, self.rule_span(moment, index), message)
                .label("the device is saved apart from the player")
                .help("a power cut between the two saves plays the moment again: `max` or `set` come out the same"),
        )
    }

    /// Failures whose price is not saved.
    pub(super) fn undone_failures(&self) -> Vec<Diagnostic> {
        // A game over takes the run with it, so nothing of it is left to be undone.
        let paid = Moment::BUILT_IN.iter().filter(|moment| moment.is_failure() && moment.has_level());
        paid.filter_map(|moment| self.undone(*moment)).collect()
    }

    fn undone(&self, moment: Moment) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let index = self.rule(moment, |rule| self.is_price(rule))?;
        // Of a visit something is saved only where levels are resumed.
        let saved = field.lasts.is_saved_at(spec.resume != Resume::None);
        if !saved || spec.save_at.contains(&moment) {
            return None;
        }
        let name = spec.moment_name(moment);
        let message = format!("killing the game undoes this {name}: what it does to `{}` is not saved", field.name);
        Some(
            Diagnostic::warning(codes::UNDONE_FAILURE, self.rule_span(moment, index), message)
                .label(format!("the last save is from before the {name}"))
                .help(format!("add \"{name}\" to `[save] at`")),
        )
    }

    /// Returns whether a rule at a failure takes something that the last save still has.
    fn is_price(&self, rule: &Rule) -> bool {
        let Declared { spec, field, .. } = *self;
        match &rule.does {
            // A record at a failure is no price: whoever kills the game loses it.
            Effect::Operation(operation, _) => matches!(operation, Operation::Add | Operation::Set),
            Effect::Plain(simple) if rule.when.is_some() => *simple != PlainFate::Keep,
            // A save made in the level has done it already; one from before the level has not. What is rewound is there
            // what it was at the entry.
            Effect::Plain(PlainFate::Reset) => {
                let in_level = spec.save_at.contains(&Moment::Enter) && field.lasts != Span::Device;
                let done =
                    in_level && suspended_fate(spec, field, resembled_failure(spec.resume)).touched == PlainFate::Reset;
                let lasts = field.lasts.is_saved_at(false);
                lasts && !done
            }
            Effect::Plain(PlainFate::Keep | PlainFate::Entry | PlainFate::Checkpoint) => false,
        }
    }
}
