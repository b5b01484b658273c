//! What a spec does not say about the saves of the version before.
//!
//! Everything that the old shape has must be found again in the new one, or a step must say what becomes of it. What is
//! missing is an error with the step that would do it, ready to paste.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::migration::merged::merged;
use crate::migration::names::{Changed, ChoiceOwner, FieldStep, Lost};
use crate::migration::offers::{Offer, converted, nested, spread};
use crate::migration::plan::{MigrationPlan, OwnerKind, Pair, successor};
use crate::migration::wording;
use crate::model::Model;
use crate::model::axis::Axis;
use crate::model::field::Field;
use crate::nearest::nearest;
use crate::value::types::{StructType, Type};
use crate::vocabulary::span::Span;

/// Something that the spec does not say.
#[derive(Clone, Debug)]
pub struct Need {
    /// Says what is missing, and where the document says it.
    pub diagnostic: Diagnostic,
    /// The version that the step leads to.
    pub to: i64,
    /// Says what says it; nothing where a raised version is enough.
    pub offer: Option<Offer>,
    /// Says that it is asked for only once the other steps that are offered stand.
    pub follows: bool,
}

/// The names between quotes, a few of them: "`east` or `west`".
pub fn either(names: &[String], quote: char) -> String {
    const FEW: usize = 4;
    let mut shown: Vec<String> = names.iter().take(FEW).map(|name| format!("{quote}{name}{quote}")).collect();
    if names.len() > FEW {
        shown.push("another new one".into());
    }
    shown.join(" or ")
}

/// Finds what no step says.
pub(crate) fn needs(pair: &Pair<'_>, plan: &MigrationPlan) -> Vec<Need> {
    let old = pair.old;
    let mut finder = Finder {
        pair,
        plan,
        old,
        offered: Vec::new(),
        renamed_sets: Vec::new(),
        asked: BTreeSet::new(),
        needs: Vec::new(),
    };
    for message in merged(pair, plan) {
        let diagnostic = Diagnostic::error(codes::BAD_STEP, pair.at, message);
        let diagnostic = diagnostic.help("drop one of them, or give it another name");
        finder.needs.push(Need { diagnostic, to: old.version + 1, offer: None, follows: false });
    }
    finder.levels();
    finder.sets_gone();
    finder.keys();
    finder.fields_gone();
    old.fields.iter().for_each(|field| finder.field(field));
    finder.needs
}

/// Returns how far the values of a span live: what goes down loses some.
pub(super) fn rank(span: Span) -> u8 {
    match span {
        Span::Session => 0,
        Span::Attempt => 1,
        Span::Visit => 2,
        Span::Run | Span::Profile | Span::Device => 3,
    }
}

pub(super) struct Finder<'a> {
    pub(super) pair: &'a Pair<'a>,
    pub(super) plan: &'a MigrationPlan,
    pub(super) old: &'a Model,
    /// New names that a step offers already, by what they name: no second one may want them.
    pub(super) offered: Vec<String>,
    /// Old key sets that are offered another name, so that their fields say nothing of their own.
    pub(super) renamed_sets: Vec<u32>,
    /// Struct fields that were asked about.
    pub(super) asked: BTreeSet<(String, String)>,
    pub(super) needs: Vec<Need>,
}

impl<'a> Finder<'a> {
    /// "version 1 has the level `attic`, and version 2 …"
    pub(super) fn missing(&self, what: &str) -> String {
        let version = self.old.version;
        if self.pair.raised {
            format!("version {version} has {what}, and version {} has none of that name", self.pair.new.version)
        } else {
            format!("version {version} was frozen with {what}, and the spec has none of that name now")
        }
    }

    pub(super) fn now(&self) -> String {
        if self.pair.raised { format!("in version {}", self.pair.new.version) } else { "now".into() }
    }

    pub(super) fn step(&mut self, span: SourceSpan, message: String, offer: impl Into<Offer>) {
        let (to, mut offer) = (self.old.version + 1, offer.into());
        let steps = [&offer.step].into_iter().chain(&offer.more).cloned().collect::<Vec<_>>().join(", ");
        let mut help = match self.pair.raised {
            true => format!("say in the migration to version {to}: {steps}"),
            false => format!("raise `version` to {to} and say in its migration: {steps}"),
        };
        if let Some(doubt) = &offer.doubt {
            help.push_str(&format!("; {doubt}"));
        }
        if let Some(hook) = &offer.or_code {
            help.push_str(&format!("; or let the game's code make it: {hook}"));
        }
        if !offer.or.is_empty() {
            help.push_str(&format!("; or rename it, if it is {} now", either(&offer.or, '`')));
        }
        let more = std::mem::take(&mut offer.more);
        let diagnostic = Diagnostic::error(codes::NEEDS_MIGRATION, span, message).help(help);
        self.needs.push(Need { diagnostic: diagnostic.clone(), to, offer: Some(offer), follows: false });
        for step in more {
            self.needs.push(Need { diagnostic: diagnostic.clone(), to, offer: Some(step.into()), follows: true });
        }
    }

    /// Asks for one of several things that one step says: the step is offered with the first of them.
    pub(super) fn step_once(&mut self, span: SourceSpan, message: String, offer: impl Into<Offer>, first: bool) {
        self.step(span, message, offer);
        if !first && let Some(need) = self.needs.last_mut() {
            need.offer = None;
        }
    }

    /// Says what a raised version is enough for, and what becomes of older saves then.
    pub(super) fn version(&mut self, span: SourceSpan, message: String, then: &str) {
        if !self.pair.raised {
            let help = format!("raise `version` to {}; {then}", self.old.version + 1);
            let diagnostic = Diagnostic::error(codes::NEEDS_VERSION, span, message).help(help);
            self.needs.push(Need { diagnostic, to: self.old.version + 1, offer: None, follows: false });
        }
    }

    fn levels(&mut self) {
        let (old, new, names) = (self.old, self.pair.new, &self.plan.names);
        for (index, level) in old.levels.iter().enumerate() {
            let index = index as u32;
            if names.drops_level(index) {
                continue;
            }
            let Some(now) = names.levels[index as usize] else {
                // What a player makes never was a level of the game.
                let shipped = if old.is_made_level(index) { 0 } else { new.made_levels.start as usize };
                let fresh = new.levels.iter().zip(&names.old_levels).take(shipped);
                let fresh = fresh.filter(|(_, before)| before.is_none());
                let fresh: Vec<&str> = fresh.map(|(level, _)| &*level.id).collect();
                let offer = self.offer("level", None, &level.id, &fresh);
                self.step(self.pair.at, self.missing(&format!("the level `{}`", level.id)), offer);
                continue;
            };
            for (at, checkpoint) in level.checkpoints.iter().enumerate() {
                let found = names.checkpoint(old, new, index, checkpoint).is_some();
                if found || names.drops_checkpoint(index, at as u32) {
                    continue;
                }
                let listed: Vec<&str> = new.level(now).checkpoints().collect();
                let fresh: Vec<&str> =
                    listed.into_iter().filter(|name| !level.checkpoints.iter().any(|old| **old == **name)).collect();
                let offer = self.offer("checkpoint", Some(&level.id), checkpoint, &fresh);
                let what = format!("the checkpoint `{checkpoint}` of `{}`", level.id);
                self.step(self.pair.at, self.missing(&what), offer);
            }
        }
    }

    fn keys(&mut self) {
        let (old, new, names) = (self.old, self.pair.new, &self.plan.names);
        for (index, set) in old.key_sets.iter().enumerate() {
            // Without the set, the fields that were kept by it say what they need.
            let Some(now) = names.sets[index] else { continue };
            let now = &new.key_sets[now as usize];
            match (set.max, now.max) {
                (Some(was), Some(is)) if is < was && !names.drops_rest(index as u32) => {
                    let message = format!("`{}` can have {is} names {}, and could have {was}", set.name, self.now());
                    self.step(self.pair.at, message, wording::drop("key", Some(&set.name), "*"));
                }
                (Some(_), None) if !names.drops_rest(index as u32) => {
                    let message = format!(
                        "`{}` has declared names {}, and play made any in version {}: those that are not declared have no place",
                        set.name,
                        self.now(),
                        old.version
                    );
                    self.step(self.pair.at, message, wording::drop("key", Some(&set.name), "*"));
                }
                (None, Some(is)) if (is as usize) < set.names.len() && !names.drops_rest(index as u32) => {
                    let message = format!(
                        "`{}` can have {is} names that play makes {}, and {} were declared in version {}",
                        set.name,
                        self.now(),
                        set.names.len(),
                        old.version
                    );
                    self.step(self.pair.at, message, wording::drop("key", Some(&set.name), "*"));
                }
                (None, None) => {
                    for key in &set.names {
                        let found = names.key(index as u32, key).is_some_and(|name| now.names.contains(&name));
                        if found || names.drops_key(index as u32, key) {
                            continue;
                        }
                        let fresh: Vec<&str> = now.names().filter(|name| !set.names.contains(*name)).collect();
                        let offer = self.offer("key", Some(&set.name), key, &fresh);
                        self.step(self.pair.at, self.missing(&format!("the {} `{key}`", set.name)), offer);
                    }
                }
                _ => {}
            }
        }
    }

    fn field(&mut self, was: &Field) {
        let (new, names, name) = (self.pair.new, &self.plan.names, &*was.name);
        let read = self.plan.readers(was.id).next().is_some();
        let dropped = names.step(was.id) == Some(FieldStep::Dropped);
        if dropped || !self.is_saved(was) || self.plan.is_hooked(name) {
            return;
        }
        let Some(now) = successor(new, names, was).map(|now| new.field(now)) else { return };
        if self.plan.is_hooked(&now.name) {
            return;
        }
        let place = self.place(now);
        let covered = self.plan.fields[now.id.0 as usize].fills.iter().any(|fill| fill.at.is_none());
        if covered {
            if !read {
                let message = format!("`{}` is filled from other values, and what `{name}` was goes nowhere", now.name);
                self.step(place, message, wording::drop("field", None, name));
            }
            return;
        }
        // What lives shorter than before is given up, whoever it belongs to.
        let shorter = rank(now.lasts) < rank(was.lasts);
        if OwnerKind::of(was) != OwnerKind::of(now) && !self.plan.moved.contains(&was.id) && !shorter {
            // The names and levels that a player made are not the device's: what was kept for them has nobody to move it.
            if was.is_keyed() && !names.same_axes(self.old, new, was, now) {
                self.step(place, self.spans(was, now), wording::drop("field", None, name));
                return;
            }
            let to = if now.lasts == Span::Device { "device" } else { "profile" };
            self.step(place, self.spans(was, now), wording::moved(name, to));
            return;
        }
        if shorter {
            self.step(place, self.spans(was, now), wording::drop("field", None, name));
            return;
        }
        if !names.same_axes(self.old, new, was, now) {
            if !read && !self.only_renamed_sets(was, now) {
                let (before, is) = (entries(self.old, was), entries(new, now));
                let message = format!("`{name}` has {before} in version {}, and {is} {}", self.old.version, self.now());
                let step = spread(self.pair, names, was, now);
                self.step(place, message, self.beside_rename(was, now, step));
            }
            return;
        }
        let mut lost = Vec::new();
        if !names.fits(was, now, &mut lost) {
            let changed = names.changed_member(was, now);
            let (what, before, after) = match &changed {
                Some(Changed { of, member, was, is, .. }) => (format!("`{member}` of the {of} in `{name}`"), *was, *is),
                None => (format!("`{name}`"), &was.ty, &now.ty),
            };
            let version = self.old.version;
            let message =
                format!("{what} is of type {before} in version {version}, and of type {after} {}", self.now());
            let member = changed.as_ref().and_then(|changed| {
                let target = format!("{}.{}", now.name, changed.path.join("."));
                let or_code = Some(wording::hook(&now.name));
                let offer = converted(changed.member, changed.was, &target, changed.is);
                offer.map(|offer| Offer { or_code, ..offer })
            });
            let whole = || converted(name, &was.ty, &now.name, &now.ty).filter(|_| changed.is_none());
            // One member that no expression makes is given up, and the others stay.
            let one = || {
                let Changed { of, member, .. } = changed.as_ref()?;
                let or_code = Some(wording::hook(&now.name));
                Some(Offer { or_code, ..wording::drop("struct field", Some(of), member).into() })
            };
            let offer = member.or_else(whole).or_else(one).unwrap_or_else(|| {
                let or_code = Some(wording::hook(&now.name));
                Offer { or_code, ..wording::drop("field", None, name).into() }
            });
            self.step(place, message, self.beside_rename(was, now, offer));
            return;
        }
        for lost in lost {
            match lost {
                Lost::Choice { of, choice, were, are } => {
                    let fresh = are.iter().filter(|known| !were.iter().any(|old| old.name == known.name));
                    let fresh: Vec<&str> = fresh.map(|chosen| &*chosen.name).collect();
                    let owner = match &of {
                        ChoiceOwner::Field(_) => name.to_owned(),
                        ChoiceOwner::Member(of, member) => format!("{of}.{member}"),
                    };
                    // Of a struct that several fields have, once.
                    let first = match of {
                        ChoiceOwner::Field(_) => true,
                        ChoiceOwner::Member(..) => self.asked.insert((owner.clone(), choice.to_string())),
                    };
                    if first {
                        let offer = self.offer("choice", Some(&owner), &choice, &fresh);
                        self.step(place, self.missing(&format!("the choice `{choice}` of `{owner}`")), offer);
                    }
                }
                Lost::Member { of, member, fresh } => {
                    let what = format!("the field `{member}` of the struct `{of}`");
                    let fresh: Vec<&str> = fresh.iter().map(|name| &**name).collect();
                    // Of a struct that several fields have, once.
                    if self.asked.insert((of.to_string(), member.to_string())) {
                        let inside = self.struct_inside(&now.ty, &of, &now.name);
                        let fills = inside.and_then(|(target, was, is)| nested(&target, &was, &is, &member));
                        let offer = match fills {
                            Some(mut fills) => {
                                let step = fills.remove(0);
                                let fallback = Some(wording::drop("struct field", Some(&of), &member));
                                // Two members that go into one struct are one step.
                                let first = self.asked.insert((now.name.to_string(), step.clone()));
                                let offer = Offer { step, more: fills, fallback, ..Offer::default() };
                                self.step_once(place, self.missing(&what), offer, first);
                                continue;
                            }
                            None => self.offer("struct field", Some(&of), &member, &fresh),
                        };
                        self.step(place, self.missing(&what), offer);
                    }
                }
            }
        }
        if was.optional && !now.optional {
            let message = format!(
                "`{name}` can be without a value in version {}, and always has one {}",
                self.old.version,
                self.now()
            );
            self.step(place, message, wording::fill(&now.name, name));
        }
        self.limits(was, now, place);
    }

    /// Checks whether the keys of two fields differ only by the names of sets that are offered.
    pub(super) fn only_renamed_sets(&self, was: &Field, now: &Field) -> bool {
        let same = |(was, is): (&Axis, &Axis)| match (was, is) {
            (Axis::Keys(set), Axis::Keys(is)) => {
                let renamed = self.renamed_sets.contains(set) && self.plan.names.old_sets[*is as usize].is_none();
                self.plan.names.sets[*set as usize] == Some(*is) || renamed
            }
            (was, is) => was == is,
        };
        let offered = |axis: &Axis| matches!(axis, Axis::Keys(set) if self.renamed_sets.contains(set));
        let alike = was.axes.len() == now.axes.len() && was.axes.iter().zip(&now.axes).all(same);
        alike && was.axes.iter().any(offered)
    }

    /// Turns a drop into the game's code where a step renames the field: a field is not renamed and dropped.
    fn beside_rename(&self, was: &Field, now: &Field, offer: Offer) -> Offer {
        let drop = wording::drop("field", None, &was.name);
        let renamed = matches!(self.plan.names.step(was.id), Some(FieldStep::Renamed(_)));
        let hook = wording::hook(&now.name);
        match renamed {
            true if offer.step == drop => hook.into(),
            true if offer.fallback.as_ref() == Some(&drop) => Offer { fallback: Some(hook), ..offer },
            true | false => offer,
        }
    }

    /// A struct of the old version and what it is in the new one, and the way to it from a field, where it stands outside of containers.
    fn struct_inside(&self, is: &Type, of: &str, way: &str) -> Option<(String, Arc<StructType>, Arc<StructType>)> {
        let now = is.as_struct()?;
        if *now.name == *of {
            let was = self.old.structs.iter().find(|ty| *ty.name == *of)?;
            return Some((way.to_owned(), was.clone(), now.clone()));
        }
        now.members.iter().find_map(|member| self.struct_inside(&member.ty, of, &format!("{way}.{}", member.name)))
    }

    pub(super) fn place(&self, field: &Field) -> SourceSpan {
        (self.pair.place)(&field.name).unwrap_or(self.pair.at)
    }

    fn spans(&self, was: &Field, now: &Field) -> String {
        let (before, is) = (wording::lasting(was.lasts), wording::lasting(now.lasts));
        format!("`{}` {before} in version {}, and {is} {}", was.name, self.old.version, self.now())
    }

    /// The step for something that is gone: it probably has a new name that is near, or the only new one there is, and
    /// is dropped otherwise.
    fn offer(&mut self, what: &str, of: Option<&str>, name: &str, fresh: &[&str]) -> Offer {
        let known = |heir: &str| format!("{what} {} {heir}", of.unwrap_or_default());
        let free: Vec<&str> = fresh.iter().copied().filter(|heir| !self.offered.contains(&known(heir))).collect();
        let heir = match free[..] {
            [only] => Some(only),
            _ => nearest(name, free.iter().copied()),
        };
        let Some(heir) = heir else {
            let or = free.into_iter().map(str::to_owned).collect();
            return Offer { or, ..wording::drop(what, of, name).into() };
        };
        self.offered.push(known(heir));
        wording::rename(what, of, name, heir).into()
    }
}

/// "one value", "one for each level"
fn entries(spec: &Model, field: &Field) -> String {
    if !field.is_keyed() {
        return "one value".into();
    }
    let axes = field.axes.iter().map(|axis| match axis {
        Axis::Keys(set) if spec.key_sets[*set as usize].max.is_some() => {
            format!("{} that play names", spec.axis_word(*axis))
        }
        axis @ (Axis::Level | Axis::Checkpoint | Axis::Keys(_)) => spec.axis_word(*axis).to_owned(),
    });
    format!("one for each {}", axes.collect::<Vec<_>>().join(" and "))
}
