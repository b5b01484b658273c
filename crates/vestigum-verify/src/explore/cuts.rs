//! Numbers that are only compared with a limit.
//!
//! A number that is only compared with constants looks the same above the highest of them, however high it is. So what tells
//! two states apart is the number *cut* there: the lower of itself and one more than that constant. The two states go on
//! alike as long as nothing subtracts from the number: adding what is not negative, setting it, raising it to something,
//! lowering it to something, and going back to a mark or to the default all give numbers that are the same again once they
//! are cut. Without this a number that every visit adds to would give a new state for every visit, without end.

use vestigum_core::Spec;
use vestigum_core::{Type, Value};
use vestigum_spec::analysis::compared::Asks;
use vestigum_spec::model::Model;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::fates::Effect;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Opening;
use vestigum_spec::vocabulary::fate::Operation;

use super::relaxed::Relaxation;

/// Says where a number that nobody cuts is cut.
pub(super) const UNCUT: i64 = i64::MAX;

/// Returns where the number of a field is cut. `asked` is what the question asks of it, and `matter` the fields that matter to the question.
pub(super) fn cut(
    spec: &Spec,
    field: &Field,
    asked: Asks,
    relaxation: &Relaxation,
    matter: &dyn Fn(FieldId) -> bool,
) -> i64 {
    let data = &**spec.model();
    if field.ty != Type::Int || field.optional || subtracts(spec, field) {
        return UNCUT;
    }
    match expressions(spec, relaxation, matter).map(|expression| expression.asks(data, field.id)).fold(asked, Asks::and)
    {
        Asks::Nothing | Asks::TheValue => UNCUT,
        Asks::Compares(highest) => highest.saturating_add(1),
    }
}

/// Everything that is worked out as the game is played and can affect a field that matters.
fn expressions<'s>(
    spec: &'s Spec,
    relaxation: &'s Relaxation,
    matter: &'s dyn Fn(FieldId) -> bool,
) -> impl Iterator<Item = &'s Expression> {
    let data = &**spec.model();
    let locked = (0..).zip(&data.openings).filter(|(level, _)| !relaxation.lifts(*level));
    let openings = locked.filter_map(|(_, opening)| match opening {
        Opening::When(condition) => Some(condition),
        Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => None,
    });
    let fields = data.fields.iter().filter(move |field| matter(field.id));
    let rules = fields.flat_map(move |field| {
        let fates = spec.moments().map(move |moment| data.plan.fate(field.id, moment));
        fates.flat_map(|fate| &fate.rules)
    });
    let in_rules = rules.flat_map(vestigum::spec::Rule::expressions);
    openings.chain(&data.over_when).chain(in_rules)
}

/// Returns whether a rule or a source may take something off the number.
fn subtracts(spec: &Spec, field: &Field) -> bool {
    let data: &Model = spec.model();
    let mut rules = spec.moments().flat_map(|moment| &data.plan.fate(field.id, moment).rules);
    let by_rule = rules.any(|rule| match &rule.does {
        Effect::Operation(Operation::Add, operand) => operand.bounds_in_ranges(data).can_be_below(0.0),
        Effect::Operation(Operation::Set | Operation::Max | Operation::Min | Operation::Union | Operation::Rank, _)
        | Effect::Plain(_) => false,
    });
    let mut gifts = data.sources.iter().flat_map(|source| &source.gives).filter(|gift| gift.field == field.id);
    by_rule || gifts.any(|gift| !matches!(gift.value, Value::Int(0..)))
}
