//! Merging: the saves of two installations become one.
//!
//! Both sides began with the same save, the *base*, and were played on. The merge goes entry by entry and compares three
//! values. What one side left as it was takes the value of the other side. What both changed is decided by the
//! [law](crate::vocabulary::merging::MergeLaw) of the field. The run cannot be merged: its place, its marks and its values
//! belong together, so it is taken whole from one side, and the level of the other side is left as loading leaves one that
//! is gone, by the rewinds of `abandon`.
//!
//! A base that was saved inside a level holds values that nobody had earned for good: a death or giving up would have taken
//! them. So it counts in two forms: as it was (*held*), and as if its level had been given up (*banked*). A side that ends
//! anywhere between both has changed nothing by itself, and what lies between is counted once, whoever banked it.

mod law;
mod made;
pub mod report;

use std::sync::Arc;

use thiserror::Error;

use crate::evaluation::Env;
use crate::image::report::LoadError;
use crate::image::{Image, SavedPlace};
use crate::loading::load;
use crate::merging::law::{Changed, merged};
use crate::merging::made::{Aligned, align, remove_names};
use crate::merging::report::{MergeReport, MergedEntry, RunFrom, Side};
use crate::model::Model;
use crate::model::entry::entry_name;
use crate::model::field::Field;
use crate::model::level::Opening;
use crate::model::merging::{FieldMerge, Merging};
use crate::progress::Progress;
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::resuming::leave_level;
use crate::suspension::{Suspended, suspend};
use crate::value::{Value, below};
use crate::vocabulary::span::Span;

/// What a merge gives.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Merged {
    /// The progress that came out, as a save writes it: of the player alone, for what belongs to a device stays there.
    pub suspended: Suspended,
    /// What came from where.
    pub report: MergeReport,
}

/// Why saves were not merged. They stay as they are.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum MergeError {
    /// The spec does not say how saves are merged.
    #[error("the spec has no `[merge]`, so it does not say what becomes of values that two places changed; add it")]
    NotSaid,
    /// One of the images cannot be loaded.
    #[error("{of}: {why}")]
    Load {
        /// Which one, in words.
        of: &'static str,
        /// Why not.
        why: LoadError,
    },
    /// The player was deleted on one side, so there is nothing to merge.
    #[error("{0}: the player was deleted; there is nothing to merge")]
    Deleted(Side),
}

/// What two places have to do to hold the same progress.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Meeting {
    /// Neither has a save.
    Nothing,
    /// Both have the same.
    InSync,
    /// The save of this side goes to the other, which has not changed.
    Takes(Side),
    /// Both have changed.
    Diverged,
}

/// Compares what two places have with the last save that both had. A player deleted in one place and played on in the other
/// is not lost: then the other place's save goes to both.
pub fn meet(base: Option<&Image>, here: Option<&Image>, there: Option<&Image>) -> Meeting {
    let known = base.map(Image::digest);
    let (here, there) = match (here, there) {
        (None, None) => return Meeting::Nothing,
        (Some(_), None) => return Meeting::Takes(Side::Here),
        (None, Some(_)) => return Meeting::Takes(Side::There),
        (Some(here), Some(there)) => (here, there),
    };
    let (of_here, of_there) = (here.digest(), there.digest());
    if of_here == of_there {
        Meeting::InSync
    } else if known.as_ref() == Some(&of_there)
        || there.place == SavedPlace::Deleted && known.as_ref() != Some(&of_here)
    {
        Meeting::Takes(Side::Here)
    } else if known.as_ref() == Some(&of_here) || here.place == SavedPlace::Deleted {
        Meeting::Takes(Side::There)
    } else {
        Meeting::Diverged
    }
}

/// Merges what became of one save in two places. `base` is the last save that both had; none says that both began as
/// newcomers. The order of the sides does not matter, but for which is called `here` in the report. Images of older
/// versions are migrated first.
///
/// # Errors
/// If the spec has no `[merge]`, an image cannot be loaded, or the player was deleted on one side.
///
/// # Example
///
/// ```
/// use vestigum_core::merging::merge;
/// use vestigum_core::{Owner, Progress, Spec};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [levels]
///     order = ["mill_lane"]
///     [merge]
///     [field.pence]
///     type = "int"
///     lasts = "profile"
///     after_failure = "keep"
///     merge = "sum"
/// "#)?;
/// let pence = spec.int("pence")?;
/// let played = |from: Option<&_>, gain| {
///     let mut game = Progress::launch(&spec, from, None)?.progress;
///     game.add(pence, gain)?;
///     Ok::<_, Box<dyn std::error::Error>>(game.suspend().profile_image("ada"))
/// };
/// let base = played(None, 100)?;
/// let (laptop, hand_held) = (played(Some(&base), 20)?, played(Some(&base), 5)?);
/// let merged = merge(&spec, Some(&base), &laptop, &hand_held)?;
/// let game = Progress::launch(&spec, Some(&merged.suspended.profile_image("ada")), None)?.progress;
/// assert_eq!(game.get(pence), 125);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn merge(spec: &Spec, base: Option<&Image>, here: &Image, there: &Image) -> Result<Merged, MergeError> {
    let model = spec.model();
    let Some(merging) = &model.merging else { return Err(MergeError::NotSaid) };
    for (side, image) in [(Side::Here, here), (Side::There, there)] {
        if image.place == SavedPlace::Deleted {
            return Err(MergeError::Deleted(side));
        }
    }
    let mut report = MergeReport::default();
    let loaded =
        |of: &'static str, image: Option<&Image>| load(spec, image, None).map_err(|why| MergeError::Load { of, why });
    let (base, _) = loaded("base", base.filter(|image| image.place != SavedPlace::Deleted))?;
    let (here_state, here_report) = loaded(Side::Here.word(), Some(here))?;
    let (there_state, there_report) = loaded(Side::There.word(), Some(there))?;
    (report.here, report.there) = (here_report, there_report);
    let newer = newer_side(here, there);
    let Aligned { states: [base, here, there], removed, no_room } =
        align(spec, [base, here_state, there_state], newer)?;
    report.no_room = no_room;
    let (run, from) = choose_run(model, merging, &base, [&here, &there], newer);
    report.run = from;
    report.newer = newer;
    let (mut here, mut there) = (here, there);
    let moved = match run {
        Side::Here => made::make_way(model, &base, &here, &mut there),
        Side::There => made::make_way(model, &base, &there, &mut here),
    };
    report.moved_levels = moved;
    let mut merge = Merge { model, merging, newer, run, base, here, there, report };
    let state = merge.values();
    let progress = merge.settled(state);
    let mut state = suspend(model, progress.state());
    remove_names(&removed, spec, &mut state)?;
    let Merge { report, .. } = merge;
    Ok(Merged { suspended: Suspended::new(model, state), report })
}

/// The side that was saved later. Where both were saved at the same time the higher digest decides, so that the order of the
/// sides does not.
fn newer_side(here: &Image, there: &Image) -> Side {
    // Times of one form: seconds with or without a fraction, in UTC.
    let time = |image: &Image| image.saved_at.trim_end_matches('Z').to_owned();
    let of = |image: &Image| (time(image), image.digest());
    if of(there) > of(here) { Side::There } else { Side::Here }
}

/// Whose run stays, and why.
fn choose_run(model: &Model, merging: &Merging, base: &State, sides: [&State; 2], newer: Side) -> (Side, RunFrom) {
    let [here, there] = sides;
    match (same_run(model, merging, base, here), same_run(model, merging, base, there)) {
        // The marks of the run are those of its side, so a side that changed anything gives it.
        (true, true) if same_values(base, here) => return (Side::There, RunFrom::Both),
        (true, true) if same_values(base, there) => return (Side::Here, RunFrom::Both),
        (true, true) => return (newer, RunFrom::Both),
        (true, false) => return (Side::There, RunFrom::OnlyChanged(Side::There)),
        (false, true) => return (Side::Here, RunFrom::OnlyChanged(Side::Here)),
        (false, false) => {}
    }
    if same_run(model, merging, here, there) {
        return (newer, RunFrom::Both);
    }
    if let Some(compared) = &merging.run {
        let number = |state: &State| compared.node().value(&Env::new(model, state, None, None));
        let (of_here, of_there) = (number(here), number(there));
        let higher = if below(&of_there, &of_here) {
            Some(Side::Here)
        } else if below(&of_here, &of_there) {
            Some(Side::There)
        } else {
            None
        };
        if let Some(side) = higher {
            return (side, RunFrom::Higher { side, here: of_here, there: of_there });
        }
    }
    (newer, RunFrom::Newer(newer))
}

/// Whether two states have the same run: its place, its values, and all marks.
fn same_run(model: &Model, merging: &Merging, one: &State, other: &State) -> bool {
    if one.position != other.position {
        return false;
    }
    let in_level = one.position.is_level();
    model.fields.iter().zip(&merging.fields).all(|(field, merge)| {
        let values = *merge == FieldMerge::WithRun;
        let marks = in_level && field.rewinds;
        (!values && !marks)
            || field.slots().all(|slot| {
                let same_marks = || {
                    one.at_entry(slot) == other.at_entry(slot) && one.at_checkpoint(slot) == other.at_checkpoint(slot)
                };
                (!values || one.value(slot) == other.value(slot)) && (!marks || same_marks())
            })
    })
}

/// Whether two states hold the same.
fn same_values(one: &State, other: &State) -> bool {
    (0..one.slot_count()).all(|slot| one.value(slot) == other.value(slot))
}

/// A state as if its level had been given up, without a price.
fn given_up(model: &Model, state: &State) -> State {
    let mut left = state.clone();
    if let Some(level) = left.position.level() {
        leave_level(model, &mut left, Some(level));
    }
    left
}

struct Merge<'a> {
    model: &'a Arc<Model>,
    merging: &'a Merging,
    newer: Side,
    /// The side whose run stays.
    run: Side,
    base: State,
    here: State,
    there: State,
    report: MergeReport,
}

impl Merge<'_> {
    /// All values and marks, side by side.
    fn values(&mut self) -> State {
        let model = self.model;
        let banked = given_up(model, &self.base);
        let (stays, leaves) = match self.run {
            Side::Here => (&self.here, &self.there),
            Side::There => (&self.there, &self.here),
        };
        let left = given_up(model, leaves);
        let mut out = stays.clone();
        let in_level = out.position.is_level();
        for (field, merge) in model.fields.iter().zip(&self.merging.fields) {
            if *merge == FieldMerge::Apart {
                continue;
            }
            for slot in field.slots() {
                let law = |of_run: &Value| {
                    let changed = Changed {
                        banked: banked.value(slot),
                        held: self.base.value(slot),
                        stays: of_run,
                        leaves: left.value(slot),
                        newer_leaves: self.newer != self.run,
                    };
                    let value = merged(*merge, field, &changed);
                    field.limits.clamp(value)
                };
                let (value, clamped) = law(stays.value(slot));
                if *merge != FieldMerge::WithRun {
                    out.write_through(slot, value.clone());
                    if in_level && field.rewinds {
                        let (entry, _) = law(stays.at_entry(slot));
                        let (checkpoint, _) = law(stays.at_checkpoint(slot));
                        out.write_marks(slot, entry, checkpoint);
                    }
                }
                let entry = || EntryOf { field, merge: *merge, slot, clamped };
                let values = [self.base.value(slot), self.here.value(slot), self.there.value(slot), &value];
                if let Some(entry) = told(model, entry, values, &self.base) {
                    self.report.entries.push(entry);
                }
            }
        }
        out
    }

    /// What is judged again: levels that are not made any more, and which levels are open.
    fn settled(&mut self, mut state: State) -> Progress {
        let model = self.model;
        for (id, slot) in state.without_level(model) {
            state.write_through(slot, model.field(id).default.clone());
        }
        if let Some(level) = state.position.level().filter(|level| !state.has_level(model, *level)) {
            self.report.left_level = Some(model.level(level).id.to_string());
            leave_level(model, &mut state, Some(level));
        }
        let mut progress = Progress::at(model, state);
        // What belongs to the device is not here, so a condition that asks for it is judged by the next launch.
        if !model.openings.iter().any(|opening| asks_the_device(model, opening)) {
            let opened = progress.judge_openings();
            self.report.opened.extend(opened.iter().filter_map(|change| change.keys.level().map(str::to_owned)));
        }
        progress
    }
}

fn asks_the_device(model: &Model, opening: &Opening) -> bool {
    match opening {
        Opening::When(condition) => condition.reads().iter().any(|id| model.field(*id).lasts == Span::Device),
        Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => false,
    }
}

/// An entry whose merge may be told.
struct EntryOf<'a> {
    field: &'a Field,
    merge: FieldMerge,
    slot: usize,
    clamped: bool,
}

/// What became of an entry that one side has changed.
fn told<'f>(model: &Model, entry: impl Fn() -> EntryOf<'f>, values: [&Value; 4], state: &State) -> Option<MergedEntry> {
    let [base, here, there, merged] = values;
    if base == here && here == there && there == merged {
        return None;
    }
    let EntryOf { field, merge, slot, clamped } = entry();
    Some(MergedEntry {
        name: entry_name(model, field, slot, &state.made),
        merge,
        base: base.clone(),
        here: here.clone(),
        there: there.clone(),
        merged: merged.clone(),
        clamped,
    })
}
