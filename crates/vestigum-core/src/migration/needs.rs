//! What a spec does not say about the saves of the version before.
//!
//! Everything that the old shape has must be found again in the new one, or a step must say what becomes of it. What is
//! missing is an error with the step that would do it, ready to paste.

use std::collections::BTreeSet;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::migration::merged::merged;
use crate::migration::names::{Changed, ChoiceOwner, FieldStep, Lost};
use crate::migration::plan::{MigrationPlan, OwnerKind, Pair, successor};
use crate::migration::wording;
use crate::model::Model;
use crate::model::axis::Axis;
use crate::model::field::Field;
use crate::nearest::nearest;
use crate::value::types::{Member, Type};
use crate::value::{Value, below};
use crate::vocabulary::policy::Resume;
use crate::vocabulary::span::Span;

/// Something that the spec does not say.
#[derive(Clone, Debug)]
pub struct Need {
    pub diagnostic: Diagnostic,
    /// The version that the step leads to.
    pub to: i64,
    /// What says it; nothing where a raised version is enough.
    pub offer: Option<Offer>,
}

/// A step that a migration can say.
#[derive(Clone, Debug)]
pub struct Offer {
    /// Ready to paste.
    pub step: String,
    /// New names that what is dropped may have instead, as none of them is near enough to guess.
    pub or: Vec<String>,
    /// The steps if it was split into several fields.
    pub split: Vec<String>,
    /// The step that has the game's code make it, where no expression does.
    pub or_code: Option<String>,
}

/// A text is compared with the names of a choice that has so many at most.
const FEW_CHOICES: usize = 12;

/// What becomes of values that have no room any more.
const INSIDE: &str = "older saves are then brought inside and reported";

/// A field that was split into more than so many is not guessed at.
const SPLIT: usize = 4;

/// The names between quotes, a few of them: "`east` or `west`".
pub fn either(names: &[String], quote: char) -> String {
    const FEW: usize = 4;
    let mut shown: Vec<String> = names.iter().take(FEW).map(|name| format!("{quote}{name}{quote}")).collect();
    if names.len() > FEW {
        shown.push("another new one".into());
    }
    shown.join(" or ")
}

impl From<String> for Offer {
    fn from(step: String) -> Offer {
        Offer { step, or: Vec::new(), split: Vec::new(), or_code: None }
    }
}

/// Finds what no step says.
pub fn needs(pair: &Pair<'_>, plan: &MigrationPlan) -> Vec<Need> {
    let old = pair.old;
    let mut finder = Finder { pair, plan, old, offered: Vec::new(), asked: BTreeSet::new(), needs: Vec::new() };
    for message in merged(pair, plan) {
        let diagnostic = Diagnostic::error(codes::BAD_STEP, pair.at, message);
        let diagnostic = diagnostic.help("drop one of them, or give it another name");
        finder.needs.push(Need { diagnostic, to: old.version + 1, offer: None });
    }
    finder.levels();
    finder.keys();
    old.fields.iter().for_each(|field| finder.field(field));
    finder.needs
}

/// How far the values of a span live: what goes down loses some.
fn rank(span: Span) -> u8 {
    match span {
        Span::Session => 0,
        Span::Attempt => 1,
        Span::Visit => 2,
        Span::Run | Span::Profile | Span::Device => 3,
    }
}

struct Finder<'a> {
    pair: &'a Pair<'a>,
    plan: &'a MigrationPlan,
    old: &'a Model,
    /// New names that a step offers already, by what they name: no second one may want them.
    offered: Vec<String>,
    /// Struct fields that were asked about.
    asked: BTreeSet<(String, String)>,
    needs: Vec<Need>,
}

impl<'a> Finder<'a> {
    /// "version 1 has the level `attic`, and version 2 …"
    fn missing(&self, what: &str) -> String {
        let version = self.old.version;
        if self.pair.raised {
            format!("version {version} has {what}, and version {} has none of that name", self.pair.new.version)
        } else {
            format!("version {version} was frozen with {what}, and the spec has none of that name now")
        }
    }

    fn now(&self) -> String {
        if self.pair.raised { format!("in version {}", self.pair.new.version) } else { "now".into() }
    }

    fn step(&mut self, span: SourceSpan, message: String, offer: impl Into<Offer>) {
        let (to, offer) = (self.old.version + 1, offer.into());
        let mut help = match self.pair.raised {
            true => format!("say in the migration to version {to}: {}", offer.step),
            false => format!("raise `version` to {to} and say in its migration: {}", offer.step),
        };
        if let Some(hook) = &offer.or_code {
            help.push_str(&format!("; or let the game's code make it: {hook}"));
        }
        if !offer.or.is_empty() {
            help.push_str(&format!("; or rename it, if it is {} now", either(&offer.or, '`')));
        }
        let diagnostic = Diagnostic::error(codes::NEEDS_MIGRATION, span, message).help(help);
        self.needs.push(Need { diagnostic, to, offer: Some(offer) });
    }

    /// What a raised version is enough for, and what becomes of older saves then.
    fn version(&mut self, span: SourceSpan, message: String, then: &str) {
        if !self.pair.raised {
            let help = format!("raise `version` to {}; {then}", self.old.version + 1);
            let diagnostic = Diagnostic::error(codes::NEEDS_VERSION, span, message).help(help);
            self.needs.push(Need { diagnostic, to: self.old.version + 1, offer: None });
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
                (Some(was), Some(is)) if is < was => {
                    let message = format!("`{}` can have {is} names {}, and could have {was}", set.name, self.now());
                    self.version(self.pair.at, message, "older saves then keep the names that were made first");
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
        // Of a visit something is saved only where levels are resumed.
        let saved = was.lasts != Span::Session && !(was.needs_level() && self.old.resume == Resume::None);
        if dropped || !saved || self.plan.is_hooked(name) {
            return;
        }
        let Some(now) = successor(new, names, was).map(|now| new.field(now)) else {
            if !read {
                let what = format!("the field `{name}`");
                match new.find_field(name) {
                    Some(session) => {
                        let is = wording::lasting(session.lasts);
                        let message = format!("`{name}` {is} {}, so no save holds it", self.now());
                        self.step(self.place(session), message, wording::drop("field", None, name));
                    }
                    None => {
                        let offer = self.offer("field", None, name, &self.candidates(was));
                        self.step(self.pair.at, self.missing(&what), offer);
                    }
                }
            }
            return;
        };
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
        if OwnerKind::of(was) != OwnerKind::of(now) && !self.plan.moved.contains(&was.id) {
            let to = if now.lasts == Span::Device { "device" } else { "profile" };
            self.step(place, self.spans(was, now), wording::moved(name, to));
            return;
        }
        if rank(now.lasts) < rank(was.lasts) {
            self.step(place, self.spans(was, now), wording::drop("field", None, name));
            return;
        }
        if !names.same_axes(self.old, new, was, now) {
            if !read {
                let (before, is) = (entries(self.old, was), entries(new, now));
                let message = format!("`{name}` has {before} in version {}, and {is} {}", self.old.version, self.now());
                let step = self.spread(was, now);
                self.step(place, message, step);
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
            let offer = member.or_else(whole).unwrap_or_else(|| {
                let or_code = Some(wording::hook(&now.name));
                Offer { or_code, ..wording::drop("field", None, name).into() }
            });
            self.step(place, message, offer);
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
                        let offer = self.offer("struct field", Some(&of), &member, &fresh);
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

    fn limits(&mut self, was: &Field, now: &Field, place: SourceSpan) {
        let name = &was.name;
        let mut narrower_members = Vec::new();
        self.members(&was.ty, &now.ty, &mut narrower_members);
        for (member, what) in narrower_members {
            // Of a struct that several fields have, once.
            if self.asked.insert((member.clone(), what.into())) {
                let message = format!("`{member}` has {what} {}", self.now());
                self.version(place, message, INSIDE);
            }
        }
        if narrower(was.limits.range.as_ref(), now.limits.range.as_ref()) {
            let range = |field: &Field| match &field.limits.range {
                Some((lowest, highest)) => format!("[{lowest}, {highest}]"),
                None => "any number".into(),
            };
            let message = format!("the range of `{name}` is {} {}, and was {}", range(now), self.now(), range(was));
            self.version(place, message, INSIDE);
        }
        let (len, before) = (now.limits.max_len, was.limits.max_len);
        if len < before && was.ty.has_length() {
            let message = format!("`{name}` holds {len} at most {}, and could hold {before}", self.now());
            self.version(place, message, INSIDE);
        }
        if was.is_keyed() && was.default != now.default && !was.optional {
            let message = format!(
                "the default of `{name}` is {} {}, and was {}: saves leave out the entries that are at it",
                now.default,
                self.now(),
                was.default
            );
            self.version(place, message, "older saves are then read by the default that they were written with");
        }
    }

    /// The members of structs that can hold less than before.
    fn members(&self, was: &Type, is: &Type, found: &mut Vec<(String, &'static str)>) {
        match (was, is) {
            (Type::Struct(was), Type::Struct(is)) => {
                for member in &was.members {
                    let now = self.plan.names.member(&was.name, &member.name).and_then(|now| is.position(now));
                    let Some(now) = now.map(|at| &is.members[at]) else { continue };
                    let called = format!("{}.{}", is.name, now.name);
                    if narrower(member.range.as_ref(), now.range.as_ref()) {
                        found.push((called.clone(), "a narrower range"));
                    }
                    let len = |of: &Member| of.max_len.unwrap_or(usize::MAX);
                    if len(now) < len(member) {
                        found.push((called, "a lower `max_len`"));
                    }
                    self.members(&member.ty, &now.ty, found);
                }
            }
            (Type::List(was), Type::List(is)) | (Type::Set(was), Type::Set(is)) | (Type::Map(was), Type::Map(is)) => {
                self.members(was, is, found);
            }
            _ => {}
        }
    }

    fn place(&self, field: &Field) -> SourceSpan {
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
            let several = what == "field" && (2..=SPLIT).contains(&free.len());
            let split = free.iter().filter(|_| several).map(|heir| wording::fill(heir, name)).collect();
            let or = free.into_iter().map(str::to_owned).collect();
            return Offer { or, split, ..wording::drop(what, of, name).into() };
        };
        self.offered.push(known(heir));
        wording::rename(what, of, name, heir).into()
    }

    /// New fields that can have the values of one that is gone.
    fn candidates(&self, was: &Field) -> Vec<&'a str> {
        let (new, plan) = (self.pair.new, self.plan);
        let candidates = new.fields.iter().filter(|field| {
            let fresh =
                plan.fields[field.id.0 as usize].carried.is_none() && self.old.find_field(&field.name).is_none();
            let same = field.ty == was.ty && plan.names.same_axes(self.old, new, was, field);
            fresh && same && rank(field.lasts) == rank(was.lasts) && OwnerKind::of(field) == OwnerKind::of(was)
        });
        candidates.map(|field| &*field.name).collect()
    }

    /// The step for a field that is kept by other keys than before.
    fn spread(&self, was: &Field, now: &Field) -> String {
        // Only how the names of keys come about has changed: what has a place is carried.
        if was.is_keyed() && was.ty == now.ty && self.plan.names.same_sets(was, now) {
            return wording::fill(&now.name, &was.name);
        }
        let first = self.pair.new.levels.first().map(|level| &*level.id).filter(|_| was.ty == now.ty);
        match (was.is_keyed(), &now.axes[..], first) {
            (false, [Axis::Level], Some(first)) => wording::fill(&format!("{}[{first}]", now.name), &was.name),
            (true, [], Some(_)) if was.ty.is_number() => wording::fill(&now.name, &format!("highest({})", was.name)),
            _ => wording::drop("field", None, &was.name),
        }
    }
}

/// Whether some value of the one range is outside the other.
fn narrower(was: Option<&(Value, Value)>, is: Option<&(Value, Value)>) -> bool {
    match (was, is) {
        (_, None) => false,
        (None, Some(_)) => true,
        (Some((low, high)), Some((lowest, highest))) => below(low, lowest) || below(highest, high),
    }
}

/// The step that converts what an expression can make of the old values: `name` is what the target was.
fn converted(name: &str, was: &Type, target: &str, is: &Type) -> Option<Offer> {
    match (was, is) {
        (Type::Int, Type::Float) => Some(wording::fill(target, name).into()),
        (Type::Float, Type::Int) => Some(wording::fill(target, &format!("round({name})")).into()),
        (Type::Text, Type::Choice(names)) if names.len() <= FEW_CHOICES => {
            let (first, rest) = names.split_first()?;
            let arms = rest.iter().rev().fold(format!("'{}'", first.name()), |others, chosen| {
                format!("if({name} == '{0}', '{0}', {others})", chosen.name())
            });
            Some(wording::fill(target, &arms).into())
        }
        _ => None,
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
