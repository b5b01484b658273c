//! Prices that a death gives back.

use vestigum_core::{Diagnostic, Moment};
use vestigum_spec::codes;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::fate::Operation;

use super::kept::{self, Kept};
use super::warnings::Declared;

impl Declared<'_> {
    /// A moment of the game's own takes something from this field and gives something else, and a failure brings back only the first.
    pub(super) fn price_given_back(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if !field.ty.is_number() || !field.lasts.outlives_run() && field.needs_level() {
            return None;
        }
        let own = spec.moments().filter(|moment| matches!(moment, Moment::Own(_)));
        for moment in own {
            let Some(index) = self.rule(moment, |rule| self.takes(rule)) else { continue };
            for failure in kept::staying() {
                let back = kept::of_field(spec, field, *failure);
                if back == Kept::All {
                    continue;
                }
                let stays = |other: &&Field| {
                    let bought = spec.plan.fate(other.id, moment).rules.iter().any(gives);
                    let kept = kept::of_field(spec, other, *failure) > back;
                    other.id != field.id && bought && kept && other.lasts.is_saved() && !other.needs_level()
                };
                let Some(other) = spec.fields.iter().find(stays) else { continue };
                let message = format!(
                    "a {} gives back what `{}` took from `{}`, and `{}` stays",
                    spec.moment_name(*failure),
                    spec.moment_name(moment),
                    field.name,
                    other.name
                );
                return Some(
                    Diagnostic::warning(codes::PRICE_GIVEN_BACK, self.rule_span(moment, index), message)
                        .label("this price is paid until the next failure")
                        .help(format!("let both have the same `after_failure`: `{}` and `{}`", field.name, other.name)),
                );
            }
        }
        None
    }

    /// Says whether a rule takes something off the value.
    fn takes(&self, rule: &Rule) -> bool {
        match &rule.does {
            Effect::Operation(Operation::Add, operand) => {
                operand.is_negated() || !operand.bounds_in_ranges(self.spec).can_be_above(0.0)
            }
            Effect::Operation(..) | Effect::Plain(_) => false,
        }
    }
}

/// Says whether a rule gives something.
fn gives(rule: &Rule) -> bool {
    match &rule.does {
        Effect::Operation(Operation::Set | Operation::Add | Operation::Max | Operation::Union, operand) => {
            !operand.is_negated()
        }
        Effect::Operation(Operation::Min | Operation::Rank, _) | Effect::Plain(_) => false,
    }
}
