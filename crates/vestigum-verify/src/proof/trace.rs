//! The way of a field through the migrations, as their steps tell it.

use std::fmt;
use std::sync::Arc;

use vestigum_core::{EntryName, Spec, Type, Value};
use vestigum_spec::history::choices;
use vestigum_spec::migration::VersionStep;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::MadeKeys;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::value::limits::Limits;

use super::NewField;
use super::images::{SampleKind, of_type};

/// Describes what a migration makes of a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Became {
    /// It has another name.
    Renamed,
    /// It belongs to the device, or to the player.
    Moved,
    /// Its new values are computed from its old ones.
    Converted,
    /// Other fields are filled with its values.
    Filled,
    /// The game's own code takes it.
    Code,
    /// It is given up.
    Dropped,
}

impl fmt::Display for Became {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Became::Renamed => "renamed",
            Became::Moved => "moved",
            Became::Converted => "converted",
            Became::Filled => "filled",
            Became::Code => "made by code",
            Became::Dropped => "dropped",
        })
    }
}

/// The way of a field.
#[derive(Clone, Debug, Default)]
pub(super) struct Traced {
    /// Says where its values are in the spec, as fields or entries.
    pub now: Vec<EntryName>,
    pub became: Vec<(i64, Became)>,
    pub dropped: bool,
    pub code: bool,
}

/// The ways of all fields of one version.
pub(super) struct Trace {
    spec: Spec,
    old: Arc<Model>,
}

impl Trace {
    pub(super) fn of(spec: &Spec, old: &Arc<Model>) -> Trace {
        Trace { spec: spec.clone(), old: old.clone() }
    }

    fn plans(&self) -> impl Iterator<Item = VersionStep<'_>> {
        self.spec.checked().version_steps(self.old.version, &self.old.shape)
    }

    pub(super) fn way(&self, field: FieldId) -> Traced {
        let mut traced = Traced::default();
        // The fields that have its values, and the one entry of each if it is only one.
        let mut there: Vec<(FieldId, Option<usize>)> = vec![(field, None)];
        for way in self.plans() {
            let mut next: Vec<(FieldId, Option<usize>)> = Vec::new();
            let mut add = |found: (FieldId, Option<usize>)| {
                if !next.contains(&found) {
                    next.push(found);
                }
            };
            for (field, slot) in there {
                let was = way.old.field(field);
                if let Some(now) = way.carrier(field) {
                    let is = way.new.field(now);
                    if way.moves(field) {
                        traced.became.push((way.to, Became::Moved));
                    } else if was.name != is.name {
                        traced.became.push((way.to, Became::Renamed));
                    }
                    if way.fills_whole(now) {
                        traced.became.push((way.to, Became::Converted));
                        add((now, None));
                    } else {
                        add((now, slot.and_then(|slot| way.slot_now(field, slot))));
                    }
                } else {
                    for (now, at) in way.readers(field) {
                        traced.became.push((way.to, Became::Filled));
                        add((now, at));
                    }
                }
                if way.drops(field) {
                    traced.became.push((way.to, Became::Dropped));
                    traced.dropped = true;
                }
                if way.is_code(field) {
                    traced.became.push((way.to, Became::Code));
                    traced.code = true;
                    if let Some(now) = way.new.find_field(&was.name) {
                        add((now.id, None));
                    }
                }
            }
            there = next;
        }
        traced.became.dedup();
        traced.now = there.iter().map(|(field, slot)| self.named(*field, *slot)).collect();
        traced
    }

    /// A field of the spec, or one entry of it.
    fn named(&self, field: FieldId, slot: Option<usize>) -> EntryName {
        let spec = self.last();
        let field = spec.field(field);
        slot.map_or_else(
            || EntryName::field(field.name.clone()),
            |slot| entry_name(spec, field, slot, &none_made(spec)),
        )
    }

    /// Returns whether a step drops the level, checkpoint or key of an entry.
    /// `made` are the names that play has made in the old save.
    pub(super) fn drops_entry(&self, field: &Field, slot: usize, made: &MadeKeys) -> bool {
        let mut at = vec![(field.id, slot)];
        let mut made = made.clone();
        for way in self.plans() {
            if at.is_empty() {
                return false;
            }
            at.retain(|(field, slot)| !way.drops_keys(*field, *slot, &made));
            if at.is_empty() {
                return true;
            }
            made = way.made_now(&made);
            let next = at.into_iter().flat_map(|(field, slot)| {
                match way.carrier(field).and_then(|now| Some((now, way.slot_now(field, slot)?))) {
                    Some(carried) => vec![carried],
                    None => way.filled_alike(field, slot),
                }
            });
            at = next.collect();
        }
        false
    }

    /// Returns where an entry is in the spec: carried under its new names, or in the entry that is filled with it.
    pub(super) fn entry_now(&self, field: &Field, slot: usize, now: &[EntryName]) -> Option<EntryName> {
        let mut at = Some((field.id, slot));
        for way in self.plans() {
            at = at.and_then(|(field, slot)| {
                let now = way.carrier(field).or_else(|| way.readers(field).next().map(|(now, _)| now))?;
                let one = way.readers(field).find_map(|(to, at)| at.filter(|_| to == now));
                Some((now, one.or_else(|| way.slot_in(field, now, slot))?))
            });
        }
        let (id, slot) = at?;
        let entry = self.named(id, Some(slot));
        now.iter().any(|name| name.field == entry.field).then_some(entry)
    }

    /// The version that the last step leads to, as it was frozen or as it is now.
    fn last(&self) -> &Model {
        self.plans().last().map_or(&**self.spec.model(), |way| way.new)
    }

    /// Values of a type that fills may ask for: their literals and the whole numbers beside them, and containers that have
    /// them as keys or items.
    pub(super) fn compared(&self, ty: &Type, limits: &Limits) -> Vec<Value> {
        let literals = self.plans().flat_map(|way| way.literals());
        let asked = literals.flat_map(|literal| match (ty, literal) {
            (Type::Map(inner), Value::Text(key)) => {
                let value = |kind| of_type(inner, limits, kind, 5);
                let entry = |value| Value::Map([(key.clone(), value)].into_iter().collect());
                vec![
                    entry(value(SampleKind::Typical(40))),
                    entry(value(SampleKind::Typical(91))),
                    entry(value(SampleKind::Largest)),
                ]
            }
            (Type::Set(_) | Type::List(_), item) => vec![Value::List([item].into_iter().collect())],
            (_, Value::Int(int)) => [int.saturating_sub(1), int, int.saturating_add(1)].map(Value::Int).to_vec(),
            (_, literal) => vec![literal],
        });
        let choices = choices(ty).filter(|_| matches!(ty, Type::Choice(_))).unwrap_or_default();
        let chosen = choices.iter().cloned().map(Value::Choice);
        asked.filter_map(|value| Some(limits.clamp(value.fitted(ty)?).0)).chain(chosen).collect()
    }

    /// The names of an open key set that a later version declares, as this one calls them.
    pub(super) fn declared_later(&self, set: u32) -> Vec<Arc<str>> {
        let version_steps: Vec<VersionStep<'_>> = self.plans().collect();
        let mut at = set;
        for (index, way) in version_steps.iter().enumerate() {
            let Some(now) = way.set_now(at) else { break };
            if way.new.key_sets[now as usize].max.is_none() {
                let names = way.new.key_sets[now as usize].names.iter();
                // Back through the names that they had before.
                let before = names.map(|name| {
                    version_steps[..=index].iter().rev().fold(name.clone(), |name, way| way.key_before(set, &name))
                });
                return before.collect();
            }
            at = now;
        }
        Vec::new()
    }

    /// Checks whether steps drop choices of the field until at most one is left.
    pub(super) fn drops_choices(&self, field: &Field) -> bool {
        let mut at = vec![field.id];
        let mut dropped = 0;
        for way in self.plans() {
            dropped += at.iter().map(|field| way.dropped_choices(*field)).max().unwrap_or(0);
            at = at.into_iter().filter_map(|field| way.carrier(field)).collect();
        }
        dropped > 0 && choices(&field.ty).is_some_and(|names| names.len() <= dropped + 1)
    }

    /// Checks whether steps drop choices of a struct's member until at most one is left.
    pub(super) fn drops_choices_of(&self, of: &Arc<str>, member: &Arc<str>, ty: &Type) -> bool {
        let mut name = member.clone();
        let mut dropped = 0;
        for way in self.plans() {
            dropped += way.dropped_choices_of(of, &name);
            match way.member_now(of, &name) {
                Some(now) => name = now,
                None => return false,
            }
        }
        dropped > 0 && choices(ty).is_some_and(|names| names.len() <= dropped + 1)
    }

    /// Returns whether a step drops a member of a struct.
    pub(super) fn drops_member(&self, of: &Arc<str>, member: &Arc<str>) -> bool {
        let mut name = member.clone();
        for way in self.plans() {
            match way.member_now(of, &name) {
                Some(now) => name = now,
                None => return true,
            }
        }
        false
    }

    /// Fields of the spec that the version does not have, and the expressions that fill them; none of those that begin at
    /// their defaults.
    pub(super) fn new_fields(&self) -> Vec<NewField> {
        let mut new: Vec<NewField> = Vec::new();
        for way in self.plans() {
            let fresh = way.new.fields.iter().filter(|field| field.lasts.is_saved() && way.is_new(field.id));
            let new_field =
                |field: &Field| NewField { name: field.name.clone(), filled_with: way.filled_from(field.id) };
            new.extend(fresh.map(new_field));
        }
        new.retain(|field| self.spec.model().find_field(&field.name).is_some());
        new
    }
}

fn none_made(spec: &Model) -> MadeKeys {
    vec![indexmap::IndexSet::new(); spec.key_sets.len()]
}
