//! Promises, judged in the states that a playthrough passes through.
//!
//! A promise is judged after every moment and every launch, as a search judges it: a write alone breaks none, because what it
//! leaves may be put right by the moment that follows. `never_falls` is judged over one moment only, and not across anything that
//! takes progress back by intention: a reset, a crash, an import, a sync, another player.

use std::sync::Arc;

use vestigum_core::{Moment, Spec, Value};
use vestigum_spec::model::field::FieldId;

use super::action::Action;
use crate::explore::{Played, Question, promises};

/// The promises that a playthrough keeps.
pub(super) struct Promises {
    asked: Vec<Question>,
}

/// A promise that a moment broke.
pub(super) struct BrokenPromise {
    pub name: Arc<str>,
    pub what: String,
    pub reads: Vec<FieldId>,
}

impl Promises {
    /// All promises of a spec but those of these names.
    pub(super) fn of(spec: &Spec, without: &[String]) -> Promises {
        let left_out = |question: &Question| without.iter().any(|name| question.is_of(name));
        Promises { asked: promises(spec).into_iter().filter(|question| !left_out(question)).collect() }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.asked.is_empty()
    }

    /// The first promise that is broken.
    pub(super) fn broken(&self, played: &Played<'_>) -> Option<BrokenPromise> {
        self.asked.iter().find_map(|question| {
            let what = question.broken_by(played)?;
            Some(BrokenPromise { name: question.name().into(), what, reads: question.reads() })
        })
    }
}

/// Says what a statement means for promises.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Bearing {
    /// It says a moment, after which they are judged.
    Moment(Moment),
    /// It takes progress from elsewhere, so that the next launch is not compared with the last quit.
    FromElsewhere,
    /// It writes, as a source may give.
    Write,
    Nothing,
}

impl Bearing {
    pub(super) fn of(action: &Action) -> Bearing {
        match action {
            Action::Launch => Bearing::Moment(Moment::Launch),
            Action::Moment(moment) => Bearing::Moment(*moment),
            Action::Enter { .. } => Bearing::Moment(Moment::Enter),
            Action::Checkpoint(_) => Bearing::Moment(Moment::Checkpoint),
            Action::CompleteBy(_) => Bearing::Moment(Moment::Complete),
            Action::Reset(_)
            | Action::Crash
            | Action::Damage { .. }
            | Action::Import(_)
            | Action::Profile(_)
            | Action::Device(_)
            | Action::Sync
            | Action::Redeem { .. }
            | Action::Profiles(_)
            | Action::Level(_) => Bearing::FromElsewhere,
            Action::Write { .. } | Action::Beat { .. } => Bearing::Write,
            Action::Quit
            | Action::Code { .. }
            | Action::Tick(_)
            | Action::Insert { .. }
            | Action::Remove { .. }
            | Action::Board
            | Action::Expect(_)
            | Action::Refuse(_)
            | Action::NeverAccepted(_)
            | Action::Save
            | Action::Repeat(..) => Bearing::Nothing,
        }
    }

    /// Returns the moment that a statement says, if it says one.
    pub(super) fn moment(self) -> Option<Moment> {
        match self {
            Bearing::Moment(moment) => Some(moment),
            Bearing::FromElsewhere | Bearing::Write | Bearing::Nothing => None,
        }
    }
}

/// The most that any source gives to a field at once, if sources give numbers to it.
pub(super) fn most_given(spec: &Spec, field: FieldId) -> Option<i64> {
    let gifts = spec.model().sources.iter().flat_map(|source| &source.gives).filter(|gift| gift.field == field);
    gifts.filter_map(|gift| if let Value::Int(int) = gift.value { Some(int) } else { None }).max()
}
