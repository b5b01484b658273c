//! Fields and key sets that are gone: what they have become, as far as that can be guessed.

use rustc_hash::FxHashSet;

use crate::migration::needs::{Finder, rank};
use crate::migration::offers::{Offer, heirs, put_together, taken_apart};
use crate::migration::plan::successor;
use crate::migration::wording;
use crate::model::axis::Axis;
use crate::model::field::{Field, FieldId};
use crate::vocabulary::policy::Resume;
use crate::vocabulary::span::Span;

/// Limits into how many fields one can have been split: with more of them nothing is guessed.
const SPLIT: usize = 4;

/// Limits how many new names are told for one that is gone.
const SHOWN: usize = 8;

impl<'a> Finder<'a> {
    /// Fields that are gone and for which no step says anything.
    pub(super) fn gone(&self) -> Vec<&'a Field> {
        let (old, new, plan) = (self.old, self.pair.new, self.plan);
        let gone = old.fields.iter().filter(|was| {
            let said =
                plan.names.step(was.id).is_some() || plan.is_hooked(&was.name) || plan.readers(was.id).next().is_some();
            self.is_saved(was) && !said && successor(new, &plan.names, was).is_none()
        });
        gone.collect()
    }

    /// Fields that nothing of the old version has become, and that no step fills.
    pub(super) fn fresh(&self) -> Vec<&'a Field> {
        let (new, plan) = (self.pair.new, self.plan);
        let fresh = new.fields.iter().filter(|field| {
            let of = &plan.fields[field.id.0 as usize];
            let is_new = of.carried.is_none() && of.fills.is_empty() && self.old.find_field(&field.name).is_none();
            is_new && field.lasts != Span::Session && !plan.is_hooked(&field.name)
        });
        fresh.collect()
    }

    /// Of a visit something is saved only where levels are resumed.
    pub(super) fn is_saved(&self, was: &Field) -> bool {
        was.lasts != Span::Session && !(was.needs_level() && self.old.resume == Resume::None)
    }

    /// The steps for fields that are gone: what was split or joined, what has an heir, and what has neither.
    pub(super) fn fields_gone(&mut self) {
        let (mut gone, mut fresh) = (self.gone(), self.fresh());
        for was in gone.clone() {
            if let Some(fills) = taken_apart(was, &fresh) {
                fresh.retain(|field| !fills.iter().any(|(id, _)| *id == field.id));
                gone.retain(|other| other.id != was.id);
                let mut steps = fills.into_iter().map(|(_, step)| step);
                let step = steps.next().unwrap_or_default();
                let fallback = Some(wording::drop("field", None, &was.name));
                let offer = Offer { step, more: steps.collect(), fallback, ..Offer::default() };
                self.step(self.pair.at, self.missing(&format!("the field `{}`", was.name)), offer);
            }
        }
        for now in fresh.clone() {
            if let Some((parts, step)) = put_together(now, &gone) {
                fresh.retain(|field| field.id != now.id);
                gone.retain(|field| !parts.iter().any(|part| part.id == field.id));
                for (index, part) in parts.iter().enumerate() {
                    let message = self.missing(&format!("the field `{}`", part.name));
                    let fallback = Some(wording::drop("field", None, &part.name));
                    // One step takes all of them; it is offered with the first.
                    let offer = Offer { fallback, ..step.clone().into() };
                    self.step_once(self.pair.at, message, offer, index == 0);
                }
            }
        }
        let (old, new, names) = (self.old, self.pair.new, &self.plan.names);
        let same_axes =
            |was: &Field, is: &Field| rank(is.lasts) == rank(was.lasts) && names.same_axes(old, new, was, is);
        let found = heirs(self.pair, &gone, &fresh, &same_axes);
        let heirs_found: FxHashSet<FieldId> = found.values().map(|(heir, _)| heir.id).collect();
        for was in gone {
            let name = &*was.name;
            if let Some(session) = new.find_field(name) {
                let is = wording::lasting(session.lasts);
                let message = format!("`{name}` {is} {}, so no save holds it", self.now());
                self.step(self.place(session), message, wording::drop("field", None, name));
                continue;
            }
            let message = self.missing(&format!("the field `{name}`"));
            if let Some((heir, doubt)) = found.get(&was.id) {
                let offer = Offer { doubt: doubt.clone(), ..wording::rename("field", None, name, &heir.name).into() };
                self.step(self.pair.at, message, offer);
                continue;
            }
            let free = fresh.iter().filter(|field| !heirs_found.contains(&field.id));
            let free = free.filter(|now| was.ty == now.ty && same_axes(was, now)).map(|field| &*field.name);
            let free: Vec<&str> = free.take(SHOWN).collect();
            let split = free.iter().filter(|_| (2..=SPLIT).contains(&free.len()));
            let split = split.map(|heir| wording::fill(heir, name)).collect();
            let or = free.into_iter().map(str::to_owned).collect();
            self.step(self.pair.at, message, Offer { or, split, ..wording::drop("field", None, name).into() });
        }
    }

    /// Key sets under another name: their fields keep their entries.
    pub(super) fn sets_gone(&mut self) {
        let (old, new, names) = (self.old, self.pair.new, &self.plan.names);
        let mut taken: Vec<u32> = Vec::new();
        for (index, set) in old.key_sets.iter().enumerate().filter(|(index, _)| names.sets[*index].is_none()) {
            let axis = Axis::Keys(index as u32);
            // Which set stands where this one stood, in a field that has kept its name.
            let heir = old.fields.iter().filter(|was| was.axes.contains(&axis)).find_map(|was| {
                let now = new.field(successor(new, names, was)?);
                let at = was.axes.iter().position(|known| *known == axis)?;
                match now.axes.get(at).filter(|_| now.axes.len() == was.axes.len())? {
                    Axis::Keys(set) if names.old_sets[*set as usize].is_none() && !taken.contains(set) => Some(*set),
                    Axis::Keys(_) | Axis::Level | Axis::Checkpoint => None,
                }
            });
            if let Some(heir) = heir {
                taken.push(heir);
                let is = &new.key_sets[heir as usize];
                let message = self.missing(&format!("the key set `{}`", set.name));
                self.step(self.pair.at, message, wording::rename("key set", None, &set.name, &is.name));
                self.renamed_sets.push(index as u32);
            }
        }
    }
}
