//! What is left of a value, or of a source's counter, after a failure.

use vestigum_core::suspension::fates::{SuspendedFate, resembled_failure, suspended_fate};
use vestigum_core::{Moment, Span};
use vestigum_spec::model::Model;
use vestigum_spec::model::fates::{Effect, Rule, fallback};
use vestigum_spec::model::field::Field;
use vestigum_spec::model::source::Source;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::policy::Accept;

/// Describes how much of what a visit brought is left: more is greater.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Kept {
    /// Nothing since the level was entered.
    Nothing,
    /// Says what was there at the last checkpoint.
    ToCheckpoint,
    /// Everything, but for a price.
    All,
}

/// The failures after which play goes on in the level.
pub(super) fn staying() -> impl Iterator<Item = &'static Moment> {
    Moment::BUILT_IN.iter().filter(|moment| moment.is_failure() && moment.stays_in_level())
}

/// The failures that leave the level and after which a value can still be used, where a source does not come back with the
/// next visit anyway.
pub(super) fn leaving(field: &Field, source: &Source) -> &'static [Moment] {
    match (source.lasts, field.lasts) {
        (Span::Attempt | Span::Visit, _) | (_, Span::Attempt | Span::Visit | Span::Session) => &[],
        (_, Span::Run) => &[Moment::Abandon],
        (_, Span::Profile | Span::Device) => &[Moment::Abandon, Moment::GameOver],
    }
}

/// Returns what is left of a field after quitting in a level and coming back there.
pub(super) fn of_field_after_quitting(spec: &Model, field: &Field) -> Kept {
    let failure = resembled_failure(spec.resume);
    let SuspendedFate { touched, untouched } = suspended_fate(spec, field, failure);
    let fates: &[PlainFate] = if field.is_keyed() { &[touched, untouched] } else { &[touched] };
    fates.iter().map(|simple| of_simple(spec, failure, *simple)).max().unwrap_or(Kept::All)
}

/// Returns what is left of a source's counter then: an attempt begins anew.
pub(super) fn of_source_after_quitting(spec: &Model, source: &Source) -> Kept {
    if source.lasts == Span::Attempt { Kept::Nothing } else { of_source(spec, source, resembled_failure(spec.resume)) }
}

/// The most that is left of a field, whichever of its rules decides.
pub(super) fn of_field(spec: &Model, field: &Field, moment: Moment) -> Kept {
    let fate = spec.plan.fate(field.id, moment);
    let of_rule = |rule: &Rule| match &rule.does {
        Effect::Plain(simple) => of_simple(spec, moment, *simple),
        // What replaces the value leaves nothing of it, unless it is made of it.
        Effect::Operation(Operation::Set, operand) if !operand.is_made_of(spec, field) => Kept::Nothing,
        Effect::Operation(..) => Kept::All,
    };
    let decided = fate.rules.iter().any(|rule| rule.when.is_none());
    // The entries that no rule touches go on as if there were none.
    let others = !decided || field.is_keyed();
    let fallback = others.then(|| of_simple(spec, moment, fate.fallback));
    fate.rules.iter().map(of_rule).chain(fallback).max().unwrap_or(Kept::All)
}

/// Returns what is left of a counter of how often a source was taken.
pub(super) fn of_source(spec: &Model, source: &Source, moment: Moment) -> Kept {
    of_simple(spec, moment, fallback(source.lasts, source.after_failure, moment))
}

fn of_simple(spec: &Model, moment: Moment, simple: PlainFate) -> Kept {
    match spec.meant(moment, simple) {
        PlainFate::Keep => Kept::All,
        PlainFate::Checkpoint if !has_checkpoints(spec) => Kept::Nothing,
        PlainFate::Checkpoint => Kept::ToCheckpoint,
        PlainFate::Entry | PlainFate::Reset => Kept::Nothing,
    }
}

/// Returns whether a checkpoint can be reached in any level.
pub(super) fn has_checkpoints(spec: &Model) -> bool {
    spec.accept == Accept::Any || spec.levels.iter().any(|level| !level.checkpoints.is_empty())
}
