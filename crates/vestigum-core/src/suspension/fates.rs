//! The fate of a field when its level is left by quitting: failing without the price.

use vestigum_spec::model::Model;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::policy::Resume;
use vestigum_spec::vocabulary::span::Span;

/// Describes what is left of one entry of a field when it is suspended in a level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SuspendedFate {
    /// The fate of the entries that a rule of the moment touches.
    pub touched: PlainFate,
    /// The fate of the others.
    pub untouched: PlainFate,
}

/// The fate of a field at a failure, without its price: of a list the first rule counts, if it has no guard and no
/// operand. Where it has one, `after_failure` decides; at a restart a visit field takes its entry mark. A rule that
/// touches only the current key or checkpoint depends on a read as a guarded one does, so it does not count either.
pub fn suspended_fate(spec: &Model, field: &Field, moment: Moment) -> SuspendedFate {
    let untouched = spec.plan.fate(field.id, moment).fallback;
    SuspendedFate { touched: unconditional_fate(spec, field, moment).unwrap_or(untouched), untouched }
}

/// The fate of the entries that a rule of the moment touches, if it has no price.
pub fn unconditional_fate(spec: &Model, field: &Field, moment: Moment) -> Option<PlainFate> {
    let fate = spec.plan.fate(field.id, moment);
    let counts = fate.rules.is_empty() || !spec.touches_by_state(field);
    fate.unconditional().filter(|_| counts)
}

/// The failure that a save inside a level resembles.
pub fn resembled_failure(resume: Resume) -> Moment {
    match resume {
        Resume::None => Moment::Abandon,
        Resume::Entry => Moment::Restart,
        Resume::Checkpoint => Moment::Death,
    }
}

/// Returns whether play goes on where the level was entered: because the spec says so, or because a death, which such a save
/// resembles, gives the checkpoint up.
pub fn resumes_at_entry(spec: &Model) -> bool {
    spec.resume != Resume::None && spec.gives_up_checkpoint(resembled_failure(spec.resume))
}

/// Describes what is left of a field after quitting in a level and launching again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LeftByQuitting {
    /// Says what that moment leaves, its rules included.
    As(Moment),
    /// Says what that fate leaves, of the entries that a rule of the resembled failure touches.
    Fate(PlainFate),
}

/// Returns what is left of a field after quitting in a level and launching again.
pub fn left_by_quitting(spec: &Model, field: &Field) -> LeftByQuitting {
    let failure = resembled_failure(spec.resume);
    match (field.lasts, spec.resume) {
        (Span::Device, _) => LeftByQuitting::Fate(PlainFate::Keep),
        (Span::Session, _) => LeftByQuitting::Fate(PlainFate::Reset),
        (Span::Attempt | Span::Visit | Span::Run | Span::Profile, Resume::None) => LeftByQuitting::As(failure),
        // An attempt begins where the level was entered.
        (Span::Attempt, Resume::Entry | Resume::Checkpoint) => LeftByQuitting::Fate(PlainFate::Entry),
        (Span::Visit | Span::Run | Span::Profile, Resume::Entry | Resume::Checkpoint) => {
            LeftByQuitting::Fate(spec.meant(failure, suspended_fate(spec, field, failure).touched))
        }
    }
}
