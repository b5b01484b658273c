//! Merging: the saves of two installations become one.
//!
//! Both sides may have been played on since they had something in common, and nobody has to know when that was: a save of a game
//! that merges says by its [origin](crate::origin) what each installation gave to it. The join goes entry by entry. A sum is what all
//! installations gave; of every other value the changes that nobody has covered are compared by the
//! [law](vestigum_spec::vocabulary::merging::MergeLaw) of the field. The run cannot be merged: its place, its marks and its values belong
//! together, so it is taken whole from one side.
//!
//! A save made inside a level holds values that nobody has for good: giving up would take them. They are *pending*, and go with the
//! run. Ending the visit banks them, once, whoever does it.
//!
//! Joining is the same in any order and any number of times: `join(a, b)` is `join(b, a)`, and joining again with what is included
//! already changes nothing. So a sync that was cut short is just done again.

mod law;
mod made;
pub mod report;

use std::collections::BTreeMap;
use std::sync::Arc;

use thiserror::Error;

use crate::contributing::changes::counted;
use crate::contributing::entries::entry_path;
use crate::contributing::loaded;
use crate::contributing::upkeep::given_up;
use crate::evaluation::Env;
use crate::evaluation::NodeValue;
use crate::image::report::LoadError;
use crate::image::{Image, SavedPlace};
use crate::merging::law::{Given, Register, alive, amounts, claims, cut};
use crate::merging::made::{Joining, Names, forget_levels, names, place_levels, with_names, without};
use crate::merging::report::{MergeReport, MergedEntry, RunFrom, Side};
use crate::origin::amount::Amount;
use crate::origin::{Changes, Installation, InstallationId, RunOrigin, SavedOrigin};
use crate::progress::Progress;
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::resuming::leave_level;
use crate::suspension::{Suspended, suspend};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::level::Opening;
use vestigum_spec::model::merging::{FieldMerge, Merging};
use vestigum_spec::value::containers::{Map, Set};
use vestigum_spec::value::{Value, below};
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::span::Span;

/// Holds the save that two saves come to, and the report.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Merged {
    /// The save that both places are to have. Its time is that of the later one.
    pub image: Image,
    /// Says what came from where.
    pub report: MergeReport,
}

/// Describes why saves were not merged. They stay as they are.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum MergeError {
    /// The spec does not say how saves are merged.
    #[error("the spec has no `[merge]`, so it does not say what becomes of values that two places changed; add it")]
    NotSaid,
    /// One of the images cannot be loaded.
    #[error("{side}: {why}")]
    Load {
        /// Says which one.
        side: Side,
        /// Says why not.
        why: LoadError,
    },
    /// Two copies of one installation were played on, and neither knew of the other: nobody can tell what both have in common.
    #[error(
        "the installation `{installation}` was copied, and both copies were played on, so what they have in common cannot be told; take the save of one place"
    )]
    TwoLines {
        /// The id of the installation.
        installation: InstallationId,
    },
}

/// Says what two places have to do to hold the same progress.
#[derive(Debug)]
pub enum Meeting {
    /// Neither has a save.
    Nothing,
    /// Both have the same.
    InSync,
    /// The save of this side includes all that the other one does, and goes there.
    Takes(Side),
    /// Each has something that the other has not.
    Merged(Box<Merged>),
}

/// Compares the newest saves of one player in two places, and joins them if each has something that the other has not.
///
/// A player deleted in one place and played on in the other is not lost: then the save of the other place goes to both. One whose
/// deletion has seen all play is deleted in both.
///
/// # Errors
/// If the saves differ and the spec has no `[merge]`, one of them cannot be loaded, or one installation was used twice.
///
/// # Example
///
/// ```
/// use vestigum_core::merging::{Meeting, meet};
/// use vestigum_core::contributing::{Contribution, Contributor};
/// use vestigum_core::{Image, Progress, Spec};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [merge]
///     [field.pence]
///     type = "int"
///     lasts = "profile"
///     after_failure = "keep"
///     merge = "sum"
/// "#)?;
/// let pence = spec.int("pence")?;
/// // What a session does at each save.
/// let played = |by: &str, from: Option<&Image>, gain| {
///     let mut contributor = Contributor::new(&spec, from)?.expect("the spec merges");
///     let mut game = Progress::launch(&spec, from, None)?.progress;
///     game.add(pence, gain)?;
///     let by = Contribution { by: by.into(), last: 0, tag: "x7".into(), at: 1_800_000_000 };
///     let saved = game.suspend();
///     let origin = contributor.contribute(&saved, &Default::default(), &by);
///     Ok::<_, Box<dyn std::error::Error>>(Image { origin: Some(Box::new(origin)), ..saved.profile_image("ada") })
/// };
/// let base = played("laptop", None, 100)?;
/// let (laptop, hand_held) = (played("laptop", Some(&base), 20)?, played("hand-held", Some(&base), 20)?);
/// let Meeting::Merged(merged) = meet(&spec, Some(&laptop), Some(&hand_held))? else { panic!("both have changed") };
/// let game = Progress::launch(&spec, Some(&merged.image), None)?.progress;
/// assert_eq!(game.get(pence), 140);                          // two gains of 20 are two gains
/// assert!(matches!(meet(&spec, Some(&merged.image), Some(&laptop))?, Meeting::Takes(_)));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn meet(spec: &Spec, here: Option<&Image>, there: Option<&Image>) -> Result<Meeting, MergeError> {
    let (here, there) = match (here, there) {
        (None, None) => return Ok(Meeting::Nothing),
        (Some(_), None) => return Ok(Meeting::Takes(Side::Here)),
        (None, Some(_)) => return Ok(Meeting::Takes(Side::There)),
        (Some(here), Some(there)) => (here, there),
    };
    if here.digest() == there.digest() {
        return Ok(Meeting::InSync);
    }
    if spec.model().merging.is_none() {
        return Err(MergeError::NotSaid);
    }
    let of = [here, there].map(|image| &image.origin);
    if let [Some(of_here), Some(of_there)] = of {
        if let Some(installation) = of_here.parted_from(of_there) {
            return Err(MergeError::TwoLines { installation });
        }
        let covers = [of_here.covers(of_there), of_there.covers(of_here)];
        match covers {
            [true, false] => return Ok(Meeting::Takes(Side::Here)),
            [false, true] => return Ok(Meeting::Takes(Side::There)),
            [true, true] | [false, false] => {}
        }
    }
    // A deletion that has not seen all play gives way to it.
    match [here, there].map(|image| image.place == SavedPlace::Deleted) {
        // Both say the same of the player; which of the two stays must not depend on who asks.
        [true, true] => return Ok(Meeting::Takes(first_side(here, there))),
        [true, false] => return Ok(Meeting::Takes(Side::There)),
        [false, true] => return Ok(Meeting::Takes(Side::Here)),
        [false, false] => {}
    }
    join(spec, here, there).map(|merged| Meeting::Merged(Box::new(merged)))
}

/// Joins two saves of one player. Images of older versions are migrated first.
///
/// # Errors
/// If the spec has no `[merge]`, one of them cannot be loaded, or one installation was used twice.
pub fn join(spec: &Spec, here: &Image, there: &Image) -> Result<Merged, MergeError> {
    let model = spec.model();
    let Some(merging) = &model.merging else { return Err(MergeError::NotSaid) };
    let failed = |side: Side| move |why: LoadError| MergeError::Load { side, why };
    let mut report = MergeReport::default();
    let load = |side: Side, image: &Image| {
        let (state, report, origin) = loaded(spec, image).map_err(failed(side))?;
        if let Some(kept) = &state.kept {
            // What this spec cannot read it cannot merge.
            return Err(failed(side)(kept.refused(spec.model(), image)));
        }
        Ok((Joining { state, origin }, report))
    };
    let (mut of_here, here_report) = load(Side::Here, here)?;
    let (mut of_there, there_report) = load(Side::There, there)?;
    (report.here, report.there) = (here_report, there_report);
    if let Some(installation) = of_here.origin.parted_from(&of_there.origin) {
        return Err(MergeError::TwoLines { installation });
    }
    let mut out = SavedOrigin::default();
    for (id, known) in of_here.origin.from.iter().chain(&of_there.origin.from) {
        let joined = out.from.entry(id.clone()).or_default();
        if known.count > joined.count {
            *joined = Installation::clone(known);
        }
    }
    let of_names = names(model, [&of_here, &of_there], &mut out);
    with_names(spec, &mut of_here.state, &of_names.all).map_err(failed(Side::Here))?;
    with_names(spec, &mut of_there.state, &of_names.all).map_err(failed(Side::There))?;
    report.no_room.clone_from(&of_names.no_room);
    report.moved_levels = place_levels(model, &mut of_here, &mut of_there);
    report.newer = newer_side(here, there);
    let (run, from) = choose_run(model, merging, [&of_here, &of_there], first_side(here, there));
    report.run = from;
    let banked = [given_up(model, &of_here.state), given_up(model, &of_there.state)];
    let mut join = Join { model, merging, run, sides: [of_here, of_there], banked, out, report };
    let state = join.values();
    let state = join.settled(spec, state, &of_names).map_err(failed(Side::Here))?;
    let Join { mut out, report, .. } = join;
    forget_levels(model, &state, &mut out);
    out.list_rows(model, &given_up(model, &state));
    let Owner::Profile(name) = &here.owner else { return Err(MergeError::NotSaid) };
    let mut image = Suspended::new(model, state).profile_image(name);
    image.saved_at = if is_later(&there.saved_at, &here.saved_at) { &there.saved_at } else { &here.saved_at }.clone();
    image.origin = Some(Box::new(out));
    Ok(Merged { image, report })
}

/// Times of one form: seconds with or without a fraction, in UTC.
fn is_later(one: &str, other: &str) -> bool {
    one.trim_end_matches('Z') > other.trim_end_matches('Z')
}

/// Returns the side whose save has the higher digest: it decides where nothing else does, whoever is called `here`.
fn first_side(here: &Image, there: &Image) -> Side {
    if there.digest() > here.digest() { Side::There } else { Side::Here }
}

/// Returns the side that was saved later, for the report.
fn newer_side(here: &Image, there: &Image) -> Side {
    if is_later(&there.saved_at, &here.saved_at) { Side::There } else { Side::Here }
}

/// Returns whose run stays, and why: that of the side which has seen the other's, else the higher one by `[merge] run`, else the newer one.
fn choose_run(model: &Model, merging: &Merging, sides: [&Joining; 2], first: Side) -> (Side, RunFrom) {
    let [here, there] = sides.map(|side| &side.origin.run);
    if here.dot == there.dot && here.at == there.at {
        // Two different runs under one dot come from updates alone.
        return (first, RunFrom::Both);
    }
    let seen = [sides[1].origin.includes(&here.dot), sides[0].origin.includes(&there.dot)];
    match seen {
        [true, false] => return (Side::There, RunFrom::OnlyChanged(Side::There)),
        [false, true] => return (Side::Here, RunFrom::OnlyChanged(Side::Here)),
        [true, true] | [false, false] => {}
    }
    if let Some(compared) = &merging.run {
        let number = |side: &Joining| compared.node().value(&Env::new(model, &side.state, None, None));
        let [of_here, of_there] = sides.map(number);
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
    let newer = if (there.at, &there.dot) > (here.at, &here.dot) { Side::There } else { Side::Here };
    (newer, RunFrom::Newer(newer))
}

struct Join<'a> {
    model: &'a Arc<Model>,
    merging: &'a Merging,
    /// The side whose run stays.
    run: Side,
    sides: [Joining; 2],
    /// Both as if their levels had been given up.
    banked: [State; 2],
    out: SavedOrigin,
    report: MergeReport,
}

impl Join<'_> {
    /// All values and marks, side by side.
    fn values(&mut self) -> State {
        let model = self.model;
        let stays = match self.run {
            Side::Here => 0,
            Side::There => 1,
        };
        let origins = [&self.sides[0].origin, &self.sides[1].origin];
        self.out.sums = amounts(origins, origins.map(|origin| &origin.sums));
        self.out.cut = cut(origins, origins.map(|origin| &origin.cut));
        claims(origins, &mut self.out);
        self.out.run = RunOrigin::clone(&origins[stays].run);
        let mut state = self.sides[stays].state.clone();
        let in_level = state.position.is_level();
        for ((field, merge), grows) in model.fields.iter().zip(&self.merging.fields).zip(&self.merging.grows) {
            let law = match merge {
                FieldMerge::Apart => continue,
                FieldMerge::WithRun => {
                    field.slots().for_each(|slot| self.tell(field, *merge, slot, state.value(slot).clone(), false));
                    continue;
                }
                FieldMerge::Changed => MergeLaw::Newer,
                FieldMerge::By(law) => *law,
            };
            for slot in field.slots() {
                if !model.is_made(field, slot, &state.made) {
                    continue;
                }
                let path = entry_path(model, field, slot, &state.made);
                if law == MergeLaw::Sum {
                    self.filled(field, &path);
                }
                let was = [self.banked[0].value(slot), self.banked[1].value(slot)];
                let sides = &self.sides;
                let banked = if law == MergeLaw::Sum {
                    self.out.sum(field, &path)
                } else {
                    let given = |side: usize| Given { origin: &sides[side].origin, value: was[side] };
                    let register = Register { field, law, grows: *grows, path: &path, sides: [given(0), given(1)] };
                    field.limits.clamp(register.joined(&mut self.out)).0
                };
                // What the run holds beside what is banked goes with it.
                let of_run = &self.sides[stays].state;
                let over = |held: &Value| overlaid(field, law, held, was[stays], &banked);
                let held = if law == MergeLaw::Sum && in_level {
                    let pending = self.out.pending(field, &path);
                    if pending.is_zero() {
                        banked.clone()
                    } else {
                        let sum = Amount::of(&banked, &field.ty).plus(pending);
                        field.limits.clamp(sum.value()).0
                    }
                } else {
                    over(of_run.value(slot))
                };
                let marks = (in_level && field.rewinds).then(|| {
                    let mark = |mark: &Value| {
                        if mark == of_run.value(slot) { held.clone() } else { over(mark) }
                    };
                    (mark(of_run.at_entry(slot)), mark(of_run.at_checkpoint(slot)))
                });
                let clamped = law == MergeLaw::Sum && self.out.total(field, &path).value() != banked;
                state.write_through(slot, held.clone());
                if let Some((entry, checkpoint)) = marks {
                    state.write_marks(slot, entry, checkpoint);
                }
                self.tell(field, *merge, slot, held, clamped && banked.is_filled());
            }
        }
        state
    }

    /// Joins what says whether an optional sum has a value.
    fn filled(&mut self, field: &Field, path: &str) {
        if !field.optional {
            return;
        }
        let of = [0, 1].map(|side| self.sides[side].origin.changed.get(path));
        let none = BTreeMap::new();
        let changes = of.map(|changes| changes.map_or(&none, |changes| &changes.by));
        let by = alive([&self.sides[0].origin, &self.sides[1].origin], changes, |one, _| one.clone());
        if !by.is_empty() {
            self.out.changed.insert(path.into(), Changes { by, taken: None });
        }
    }

    fn tell(&mut self, field: &Field, merge: FieldMerge, slot: usize, merged: Value, clamped: bool) {
        let [here, there] = [0, 1].map(|side| self.sides[side].state.value(slot));
        if here == there && *here == merged {
            return;
        }
        let name = entry_name(self.model, field, slot, &self.sides[0].state.made);
        let (here, there) = (here.clone(), there.clone());
        self.report.entries.push(MergedEntry { name, merge, here, there, merged, clamped });
    }

    /// Takes out names and levels that are not made any more, and judges again which levels are open.
    fn settled(&mut self, spec: &Spec, mut state: State, names: &Names) -> Result<State, LoadError> {
        let model = self.model;
        with_names(spec, &mut state, &without(names))?;
        for (id, slot) in state.without_level(model) {
            state.write_through(slot, model.field(id).default.clone());
        }
        if let Some(level) = state.position.level().filter(|level| !state.has_level(model, *level)) {
            self.report.left_level = Some(model.level(level).id.to_string());
            leave_level(model, &mut state, Some(level));
            (self.out.run.visit, self.out.run.pending) = (None, Default::default());
        }
        let mut progress = Progress::at(model, state);
        // What belongs to the device is not here, so a condition that asks for it is judged by the next launch.
        if !model.openings.iter().any(|opening| asks_the_device(model, opening)) {
            let opened = progress.judge_openings();
            self.report.opened.extend(opened.iter().filter_map(|change| change.keys.level().map(str::to_owned)));
        }
        Ok(suspend(model, progress.state()))
    }
}

/// A value that the run holds, where what is banked beside it has become another one: what play in the level did to it is done again.
fn overlaid(field: &Field, law: MergeLaw, held: &Value, banked: &Value, joined: &Value) -> Value {
    if held == banked {
        return joined.clone();
    }
    let value = match (law, held, banked, joined) {
        (MergeLaw::Sum, held, banked, joined) => {
            let of = |value: &Value| Amount::of(value, &field.ty);
            of(joined).plus(of(held).minus(of(banked))).value()
        }
        (MergeLaw::Max, held, _, joined) => if below(held, joined) { joined } else { held }.clone(),
        (MergeLaw::Min, held, _, joined) if joined.is_filled() => {
            if below(joined, held) { joined } else { held }.clone()
        }
        (MergeLaw::Union, Value::Set(held), Value::Set(banked), Value::Set(joined)) => {
            let kept = joined.iter().filter(|item| held.contains(item) || !banked.contains(item));
            let came = held.iter().filter(|item| !banked.contains(item));
            Value::Set(kept.chain(came).cloned().collect::<Set>())
        }
        (MergeLaw::Union, Value::Map(held), Value::Map(banked), Value::Map(joined)) => {
            let mut map = Map::default();
            for (key, value) in joined.iter() {
                if held.contains_key(key) || !banked.contains_key(key) {
                    map.insert(key.clone(), value.clone());
                }
            }
            for (key, value) in held.iter().filter(|(key, value)| banked.get(key) != Some(*value)) {
                map.insert(key.clone(), value.clone());
            }
            Value::Map(map)
        }
        (MergeLaw::Union, Value::List(held), _, Value::List(joined)) => {
            let known = counted(banked);
            let mut came = counted(&Value::List(held.clone()));
            came.iter_mut()
                .for_each(|(item, times)| *times = times.saturating_sub(known.get(item).copied().unwrap_or(0)));
            let came = came.into_iter().flat_map(|(item, times)| (0..times).map(move |_| item.clone()));
            Value::List(joined.iter().cloned().chain(came).collect())
        }
        (MergeLaw::Newer | MergeLaw::Min | MergeLaw::Union, held, _, _) => held.clone(),
    };
    field.limits.clamp(value).0
}

fn asks_the_device(model: &Model, opening: &Opening) -> bool {
    match opening {
        Opening::When(condition) => condition.reads().iter().any(|id| model.field(*id).lasts == Span::Device),
        Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => false,
    }
}
