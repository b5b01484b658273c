//! Writing origins: what a save by play adds to what was there.
//!
//! An origin is found by comparing what is saved with what was saved before it, so play itself keeps no account and costs nothing. The
//! one thing that values do not tell is whether a visit that was saved unfinished was banked: [`Visits`] says it.

pub(crate) mod changes;
pub(crate) mod entries;
pub(crate) mod rows;
pub(crate) mod totals;
pub(crate) mod upkeep;

pub use crate::state::visits::Visits;

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::contributing::entries::entry_path;
use crate::contributing::upkeep::{given_up, sums};
use crate::image::Image;
use crate::image::report::{LoadError, LoadReport};
use crate::loading::load_with_origin;
use crate::origin::amount::Amount;
use crate::origin::{Amounts, Change, Dot, EntryPath, Installation, InstallationId, SavedOrigin};
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::Suspended;
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::{EntrySlot, entry_of};
use vestigum_spec::model::field::Field;
use vestigum_spec::model::merging::{FieldMerge, Merging};
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::span::Span;

/// Limits the claims that are kept on visits that began at one installation: 4. Older ones become amounts of its own.
const CLAIMS: usize = 4;

/// Names the next save: the installation that makes it, its tag and its time.
#[derive(Clone, Debug)]
pub struct Contribution {
    /// The installation.
    pub by: InstallationId,
    /// The highest number of a save by that installation that is known, in this place or any other: the next one is higher.
    pub last: u64,
    /// Two to four characters chosen at random.
    pub tag: Arc<str>,
    /// The time of the save, in seconds since 1970.
    pub at: i64,
}

/// Follows the saves of one player, and knows of each what it adds.
#[derive(Clone, Debug)]
pub struct Contributor {
    model: Arc<Model>,
    origin: SavedOrigin,
    /// Holds what was saved last, and the same as if its level had been given up.
    was: State,
    was_banked: State,
    /// The visit in which it stands.
    visit: u64,
}

impl Contributor {
    /// Returns the contributor of a player whose newest save is given; without one nothing was saved yet. None where the spec does not
    /// merge saves.
    ///
    /// # Errors
    /// As [`Progress::launch`](crate::Progress::launch).
    pub fn new(spec: &Spec, newest: Option<&Image>) -> Result<Option<Contributor>, LoadError> {
        let model = spec.model();
        if model.merging.is_none() {
            return Ok(None);
        }
        let (state, origin) = match newest {
            None => (State::fresh(model), SavedOrigin::default()),
            Some(image) => {
                let (state, _, origin) = loaded(spec, image)?;
                (state, origin)
            }
        };
        let was_banked = given_up(model, &state);
        Ok(Some(Contributor { model: model.clone(), origin, was: state, was_banked, visit: 0 }))
    }

    /// Returns the same where what was saved last stands in that visit of the session.
    #[must_use]
    pub fn standing_in(self, visit: u64) -> Contributor {
        Contributor { visit, ..self }
    }

    /// Returns whether nothing has changed since what was saved last.
    pub fn is_same(&self, now: &Suspended) -> bool {
        is_same(&self.model, &self.was, now.state())
    }

    /// Returns the origin of what was saved last, as a save has it.
    pub fn origin(&self) -> SavedOrigin {
        let mut origin = self.origin.clone();
        origin.list_rows(&self.model, &self.was_banked);
        origin
    }

    /// Returns the origin of what is saved now. Where nothing has changed it is that of the save before: there is nothing to write.
    pub fn contribute(&mut self, now: &Suspended, visits: &Visits, by: &Contribution) -> SavedOrigin {
        let state = now.state();
        let model = self.model.clone();
        if let Some(merging) = model.merging.as_ref().filter(|_| !is_same(&model, &self.was, state)) {
            let banked = given_up(&model, state);
            let dot = Dot { by: by.by.clone(), count: self.origin.count(&by.by).max(by.last) + 1 };
            let mut origin = std::mem::take(&mut self.origin);
            origin.from.insert(by.by.clone(), Installation { count: dot.count, tag: by.tag.clone() });
            let mut save = Save { model: &model, merging, origin, dot, at: by.at, was: self, held: state, banked };
            save.visit(visits);
            save.values();
            save.names();
            save.fold_claims();
            let Save { origin, banked, .. } = save;
            self.origin = origin;
            self.was.copy_from(state);
            self.was_banked = banked;
            self.visit = visits.current;
        }
        self.origin()
    }
}

/// Returns the state of an image, what loading did to it, and its origin as the spec reads it.
pub(crate) fn loaded(spec: &Spec, image: &Image) -> Result<(State, LoadReport, SavedOrigin), LoadError> {
    let (state, report, origin) = load_with_origin(spec, Some(image), None)?;
    let origin = match origin {
        Some(mut origin) => {
            origin.name_rows(spec.model(), &given_up(spec.model(), &state));
            origin.bring_in_line(spec.model(), &state);
            origin
        }
        None => SavedOrigin::of_save_before(spec.model(), &state, &image.digest()),
    };
    Ok((state, report, origin))
}

/// Returns whether two states of a player would be saved as the same.
fn is_same(model: &Model, one: &State, other: &State) -> bool {
    let same = |field: &Field, slot: usize| {
        let values = !field.lasts.is_saved() || one.value(slot) == other.value(slot);
        let same_marks =
            || one.at_entry(slot) == other.at_entry(slot) && one.at_checkpoint(slot) == other.at_checkpoint(slot);
        values && (!field.rewinds || same_marks())
    };
    let of_player = model.fields.iter().filter(|field| field.lasts != Span::Device);
    one.position == other.position
        && one.made == other.made
        && of_player.into_iter().all(|field| field.slots().all(|slot| same(field, slot)))
}

/// One save by play.
struct Save<'a> {
    model: &'a Arc<Model>,
    merging: &'a Merging,
    origin: SavedOrigin,
    dot: Dot,
    at: i64,
    was: &'a Contributor,
    held: &'a State,
    banked: State,
}

impl Save<'_> {
    /// Settles the visit in which the save before stands. A change of the run gets the dot of this save.
    fn visit(&mut self, visits: &Visits) {
        let stood = self.was.was.position.is_level();
        let stays = stood && self.held.position.is_level() && visits.current == self.was.visit;
        if !stays {
            let visit = self.origin.run.visit.take();
            let mut pending = std::mem::take(&mut self.origin.run.pending);
            let ended = visits.ended.contains(&self.was.visit);
            if ended {
                self.leave_out_taken(&mut pending);
            }
            let is_banked = ended || visits.banked.contains(&self.was.visit);
            // Whoever claims the same visit has the same right to it.
            if let Some(visit) = visit.filter(|visit| is_banked && !self.origin.is_gone(visit)) {
                self.origin.claim(&visit, &pending);
            }
        }
        let run_changed = (stood && !stays) || self.run_differs();
        if run_changed {
            self.origin.run.dot = self.dot.clone();
            self.origin.run.at = self.at.max(self.origin.run.at.saturating_add(1));
        }
    }

    /// Leaves out what a reset or a game over has taken of what was pending: values that are nearer to what they were without it.
    fn leave_out_taken(&self, pending: &mut Amounts) {
        for field in sums(self.model) {
            for slot in field.slots().filter(|slot| self.model.is_made(field, *slot, &self.held.made)) {
                let path = entry_path(self.model, field, slot, &self.held.made);
                let Some(amount) = pending.get(&path) else { continue };
                let amount = amount.values().fold(Amount::zero(&field.ty), |all, amount| all.plus(*amount));
                let without = Amount::of(&self.origin.sum(field, &path), &field.ty);
                let now = Amount::of(self.banked.value(slot), &field.ty);
                let far = |from: Amount| now.minus(from).as_float().abs();
                if far(without) < far(without.plus(amount)) {
                    pending.remove(&path);
                }
            }
        }
    }

    fn run_differs(&self) -> bool {
        let (was, held) = (&self.was.was, self.held);
        // What play in a level does to a field that can go back to a mark changes what the mark means to it.
        let in_level = held.position.is_level();
        was.position != held.position
            || self.model.fields.iter().zip(&self.merging.fields).any(|(field, merge)| {
                (field.rewinds || *merge == FieldMerge::WithRun)
                    && field.slots().any(|slot| {
                        ((in_level || *merge == FieldMerge::WithRun) && was.value(slot) != held.value(slot))
                            || was.at_entry(slot) != held.at_entry(slot)
                            || was.at_checkpoint(slot) != held.at_checkpoint(slot)
                    })
            })
    }

    fn values(&mut self) {
        let model = self.model.clone();
        for (index, field) in model.fields.iter().enumerate() {
            let merge = self.merging.fields[index];
            let grows = self.merging.grows[index];
            let law = match merge {
                FieldMerge::Apart | FieldMerge::WithRun => continue,
                FieldMerge::Changed => MergeLaw::Newer,
                FieldMerge::By(law) => law,
            };
            let moved = self.was.was.made != self.held.made && field.axes.iter().any(|axis| model.is_open(*axis));
            for slot in field.slots().filter(|slot| model.is_made(field, *slot, &self.held.made)) {
                let before = if moved { self.slot_before(field, slot) } else { Some(slot) };
                let was = before.map_or(&field.default, |slot| self.was.was_banked.value(slot));
                let now = self.banked.value(slot);
                if law == MergeLaw::Sum {
                    let is_pending = self.held.value(slot) != now || !self.origin.run.pending.is_empty();
                    if was != now || is_pending || !self.origin.claims.is_empty() {
                        let path = entry_path(&model, field, slot, &self.held.made);
                        let (now, held) = (now.clone(), self.held.value(slot).clone());
                        self.sum(field, &path, &now, &held);
                    }
                } else if was != now {
                    let path = entry_path(&model, field, slot, &self.held.made);
                    let (was, now) = (was.clone(), now.clone());
                    self.changed(field, law, grows, &path, &was, &now);
                }
            }
            if moved {
                self.taken_out(field, law, grows);
            }
        }
    }

    /// The slot that an entry had in the save before.
    fn slot_before(&self, field: &Field, slot: usize) -> Option<usize> {
        let names = self.model.entry_names(field, slot, &self.held.made);
        let names: Vec<&str> = names.iter().map(|name| &**name).collect();
        match entry_of(self.model, field, &names, &self.was.was.made) {
            Ok(EntrySlot::Slot(slot)) => Some(slot),
            Ok(EntrySlot::NotMade) | Err(_) => None,
        }
    }

    /// Entries of names that are not there any more.
    fn taken_out(&mut self, field: &Field, law: MergeLaw, grows: bool) {
        let model = self.model.clone();
        let made = self.was.was.made.clone();
        for slot in field.slots().filter(|slot| model.is_made(field, *slot, &made)) {
            let names = model.entry_names(field, slot, &made);
            let names: Vec<&str> = names.iter().map(|name| &**name).collect();
            if entry_of(&model, field, &names, &self.held.made) != Ok(EntrySlot::NotMade) {
                continue;
            }
            let path = entry_path(&model, field, slot, &made);
            if law == MergeLaw::Sum {
                self.sum(field, &path, &field.default, &field.default);
            } else {
                let was = self.was.was_banked.value(slot).clone();
                if was != field.default {
                    self.changed(field, law, grows, &path, &was, &field.default);
                }
            }
        }
    }

    /// The installation gives what lies between the sum as it was and as it is, and has pending what lies between what is banked and
    /// what is held.
    fn sum(&mut self, field: &Field, path: &EntryPath, banked: &Value, held: &Value) {
        let zero = Amount::zero(&field.ty);
        let known = self.origin.sum(field, path);
        if *banked != known {
            let shown = Amount::of(&known, &field.ty);
            let total = self.origin.total(field, path);
            // What the range hides is remembered once the value moves on from its end.
            let hidden = total.minus(shown);
            let [high, low] = self.origin.cut_off(field, path);
            if !hidden.is_zero() && known.is_filled() {
                let end = if hidden.compared(zero).is_gt() { high.plus(hidden) } else { low.plus(hidden) };
                let cut = self.origin.cut.entry(path.clone()).or_default();
                cut.retain(|_, amount| amount.compared(zero) != hidden.compared(zero));
                cut.insert(self.dot.clone(), end);
            }
            let gain = Amount::of(banked, &field.ty).minus(shown);
            let of = self.origin.sums.entry(path.clone()).or_default();
            give(of, &self.dot.by, gain);
            if field.optional && banked.is_filled() != known.is_filled() {
                self.filled(path, banked.is_filled());
            }
        }
        let pending = Amount::of(held, &field.ty).minus(Amount::of(banked, &field.ty));
        let more = pending.minus(self.origin.pending(field, path));
        if !more.is_zero() {
            self.pend(path, more, zero);
        }
    }

    /// Notes whether an optional sum has a value, once a value was taken away.
    fn filled(&mut self, path: &EntryPath, is_filled: bool) {
        let known = self.origin.changed.contains_key(path);
        if is_filled && !known {
            return;
        }
        let value = (!is_filled).then_some(Tree::Null);
        let changes = self.origin.changed.entry(path.clone()).or_default();
        changes.by = [(self.dot.clone(), Change { at: 0, times: 1, value })].into();
    }

    fn pend(&mut self, path: &EntryPath, more: Amount, zero: Amount) {
        let run = &mut self.origin.run;
        run.visit.get_or_insert_with(|| self.dot.clone());
        (run.dot, run.at) = (self.dot.clone(), self.at.max(run.at));
        let of = run.pending.entry(path.clone()).or_default();
        // What this installation has banked of the visit already, on another way, is not what it earns now: that comes on top.
        let claim = run.visit.as_ref().and_then(|visit| self.origin.claims.get(visit));
        if let Some(claimed) = claim.and_then(|claim| claim.get(path)?.get(&self.dot.by)) {
            let own = of.entry(self.dot.by.clone()).or_insert(zero);
            *own = own.further(*claimed);
        }
        let mut rest = more;
        if rest.compared(zero).is_lt() {
            // What a death took back was earned by this installation first, then by others.
            let others = of.keys().filter(|id| **id != self.dot.by).cloned();
            let ids: Vec<InstallationId> = [self.dot.by.clone()].into_iter().chain(others).collect();
            for id in ids {
                let Some(amount) = of.get_mut(&id).filter(|amount| amount.compared(zero).is_gt()) else { continue };
                let covered = if amount.plus(rest).compared(zero).is_ge() { rest } else { zero.minus(*amount) };
                *amount = amount.plus(covered);
                rest = rest.minus(covered);
            }
        }
        give(of, &self.dot.by, rest);
        of.retain(|_, amount| !amount.is_zero());
        if of.is_empty() {
            run.pending.remove(path);
        }
    }

    /// The installation keeps its newest claims; what older ones gave becomes its own amount.
    fn fold_claims(&mut self) {
        let own: Vec<Dot> = self.origin.claims.keys().filter(|visit| visit.by == self.dot.by).cloned().collect();
        for visit in own.iter().take(own.len().saturating_sub(CLAIMS)) {
            for (path, of) in self.origin.claims.remove(visit).unwrap_or_default() {
                let sums = self.origin.sums.entry(path).or_default();
                of.into_values().for_each(|amount| give(sums, &self.dot.by, amount));
            }
            let gone = self.origin.gone.entry(self.dot.by.clone()).or_default();
            *gone = (*gone).max(visit.count);
        }
    }
}

fn give(of: &mut BTreeMap<InstallationId, Amount>, id: &InstallationId, amount: Amount) {
    if amount.is_zero() {
        return;
    }
    let sum = of.get(id).map_or(amount, |known| known.plus(amount));
    if sum.is_zero() {
        of.remove(id);
    } else {
        of.insert(id.clone(), sum);
    }
}
