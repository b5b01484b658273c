//! The way of saves that hold more than any frozen shape of their version: a build made them that was never frozen.
//!
//! Such a save is read by name. Each version gets a shape that has what was frozen of it, without limits, and beside it everything
//! that later versions have and it does not: what the save holds under those names is theirs. A name that a step gives to something
//! else is not taken over, and nothing that was frozen goes into a later field that only happens to have its name.

use std::sync::Arc;

use crate::diagnostic::SourceSpan;
use crate::document::{MigrationEntry, StepEntry};
use crate::history::History;
use crate::history::shape::Shape;
use crate::history::union::{Named, Union};
use crate::migration::names::{ChoiceOwner, NameMap};
use crate::migration::plan::{MigrationPlan, Pair, plan, successor};
use crate::migration::steps::{ReadSteps, StepReader};
use crate::model::Model;
use crate::model::field::FieldId;
use crate::value::Value;
use crate::value::types::Type;

/// A plan for each version on the way, the newest first.
#[derive(Debug, Default)]
pub struct Loose {
    plans: Vec<MigrationPlan>,
}

impl Loose {
    /// The plan that leads to a version, and the model that it leads to.
    pub fn plan_to<'a>(&'a self, version: i64, spec: &'a Model) -> Option<(&'a MigrationPlan, &'a Model)> {
        let at = self.plans.iter().position(|plan| plan.to == version)?;
        // What leads on from there begins with the model that this one leads to.
        let new = at.checked_sub(1).map_or(spec, |next| &*self.plans[next].old);
        Some((&self.plans[at], new))
    }

    pub(crate) fn new(history: &History, spec: &Model) -> Loose {
        let mut loose = Loose::default();
        let mut later = Shape::of(spec);
        for version in history.versions().rev().filter(|version| *version < spec.version) {
            let Some(frozen) = history.version(version) else { break };
            let entry = spec.document.migrations.iter().find(|entry| entry.to.value == version + 1);
            let takes = |named: Named<'_>| !is_renamed_to(entry, named);
            let mut union = Union { shape: (*frozen.shape).clone(), takes: &takes, conflicts: Vec::new() };
            union.add(&later);
            union.shape.lift_limits();
            // More values than a model can have: what was frozen is read at least.
            let model = union.shape.model(history.game()).map_or_else(|_| frozen.model.clone(), Arc::new);
            let new = loose.plans.last().map_or(spec, |plan| &*plan.old);
            let mut errors = Vec::new();
            let mut reader = StepReader { old: &model, new, text: "", dropped_before: &[], errors: &mut errors };
            let steps = entry.map_or_else(ReadSteps::default, |entry| reader.read(entry));
            let pair = Pair { old: &model, new, raised: true, at: SourceSpan::default(), place: &|_| None };
            let mut plan = plan(&pair, steps);
            let known = |model: &Model, name: &str| model.find_field(name).is_some();
            plan.extra = model.fields.iter().map(|field| !known(&frozen.model, &field.name)).collect();
            // Where only how the names of keys come about has changed, no step says so for fields that were never frozen.
            for (was, _) in model.fields.iter().zip(&plan.extra).filter(|(_, extra)| **extra) {
                let Some(now) = successor(new, &plan.names, was).map(|now| new.field(now)) else { continue };
                let of = &mut plan.fields[now.id.0 as usize];
                if of.carried.is_none() && of.fills.is_empty() && was.is_keyed() && plan.names.same_sets(was, now) {
                    of.carried = Some(was.id);
                }
            }
            let known_later = history.model(version + 1).map_or(spec, |frozen| frozen);
            for (field, of) in new.fields.iter().zip(&mut plan.fields) {
                let was_frozen = of.carried.is_some_and(|was| !plan.extra[was.0 as usize]);
                if was_frozen && !known(known_later, &field.name) {
                    of.carried = None;
                }
            }
            loose.plans.push(plan);
            later = union.shape;
        }
        loose
    }
}

/// Checks whether a step of the migration gives this name to something that was called otherwise.
fn is_renamed_to(entry: Option<&MigrationEntry>, named: Named<'_>) -> bool {
    let mut steps = entry.into_iter().flat_map(|entry| &entry.steps);
    steps.any(|step| {
        let StepEntry::Rename { what, of, to, .. } = &step.value else { return false };
        let of = of.as_ref().map(|of| of.value.as_str());
        let (kind, owner, name) = match named {
            Named::Field(name) => ("field", None, name),
            Named::Level(name) => ("level", None, name),
            Named::Checkpoint(level, name) => ("checkpoint", Some(level), name),
            Named::KeySet(name) => ("key set", None, name),
            Named::Key(set, name) => ("key", Some(set), name),
            Named::Choice(owner, name) => ("choice", Some(owner), name),
            Named::Member(owner, name) => ("struct field", Some(owner), name),
        };
        what.value == kind && of == owner && to.value == name
    })
}

/// Finds the parts of a value for which a field of the next version has no place.
pub struct Unplaced<'a> {
    /// Says what became of names.
    pub names: &'a NameMap,
    /// The field of the next version.
    pub field: FieldId,
}

impl Unplaced<'_> {
    /// Returns the members and choices that no step speaks of, because no frozen field has values of the kind: the way to each, as a report
    /// tells it. `holder` is the way to the value, by the names of the next version.
    pub fn parts(
        &self,
        of: &ChoiceOwner,
        value: &Value,
        (was, is): (&Type, &Type),
        holder: &[Arc<str>],
    ) -> Vec<String> {
        let inside = |value: &Value, was: &Type, is: &Type, way: String| -> Vec<String> {
            self.parts(of, value, (was, is), holder).into_iter().map(|part| format!("{way}{part}")).collect()
        };
        match (value, was, is) {
            (Value::Choice(chosen), Type::Choice(_), Type::Choice(choices)) => {
                let now = self.names.choice(of, &chosen.name);
                let found = now.is_none_or(|now| choices.iter().any(|known| known.name == *now));
                if found { Vec::new() } else { vec![String::new()] }
            }
            (Value::Struct(_, members), Type::Struct(was), Type::Struct(is)) => {
                let parts = was.members.iter().zip(members.iter()).flat_map(|(member, value)| {
                    let way = format!(".{}", member.name);
                    let taken = self.names.takes_over(self.field, holder, &member.name);
                    let Some(now) = self.names.member(&was.name, &member.name).filter(|_| !taken) else {
                        return Vec::new();
                    };
                    let of = ChoiceOwner::Member(was.name.clone(), member.name.clone());
                    match is.position(now) {
                        Some(at) => {
                            let holder = [holder, std::slice::from_ref(now)].concat();
                            let parts = self.parts(&of, value, (&member.ty, &is.members[at].ty), &holder);
                            parts.into_iter().map(|part| format!("{way}{part}")).collect()
                        }
                        None if *value == member.default => Vec::new(),
                        None => vec![way],
                    }
                });
                parts.collect()
            }
            (Value::List(items), Type::List(was), Type::List(is)) => {
                items.iter().enumerate().flat_map(|(at, item)| inside(item, was, is, format!("[{}]", at + 1))).collect()
            }
            (Value::Set(items), Type::Set(was), Type::Set(is)) => {
                items.iter().flat_map(|item| inside(item, was, is, String::new())).collect()
            }
            (Value::Map(entries), Type::Map(was), Type::Map(is)) => {
                entries.iter().flat_map(|(key, item)| inside(item, was, is, format!("['{key}']"))).collect()
            }
            // Nothing else has parts, and a value of another kind as a whole was told when it was read.
            (_, _, _) => Vec::new(),
        }
    }
}
