//! What a plan says about single fields, for those who tell about it.

use std::sync::Arc;

use crate::migration::names::{ChoiceOwner, FieldStep};
use crate::migration::plan::MigrationPlan;
use crate::model::Model;
use crate::model::axis::{Axis, MadeKeys};
use crate::model::expression::Expression;
use crate::model::field::{Field, FieldId};
use crate::value::Value;

/// The way from one version to the next.
pub struct VersionStep<'a> {
    /// The version that it leads to.
    pub to: i64,
    /// The older version.
    pub old: &'a Model,
    /// The newer version.
    pub new: &'a Model,
    pub(crate) plan: &'a MigrationPlan,
}

impl VersionStep<'_> {
    /// The field that has the values of an old one.
    pub fn carrier(&self, was: FieldId) -> Option<FieldId> {
        self.plan.carrier(was)
    }

    /// Fields that are filled with what reads an old one, and the entry if it is only one.
    pub fn readers(&self, was: FieldId) -> impl Iterator<Item = (FieldId, Option<usize>)> {
        self.plan.readers(was).map(|(field, fill)| (field, fill.at))
    }

    /// Returns whether a fill writes every entry.
    pub fn fills_whole(&self, field: FieldId) -> bool {
        self.plan.fields[field.0 as usize].fills.iter().any(|fill| fill.at.is_none())
    }

    /// Returns whether the field changes its owner.
    pub fn moves(&self, was: FieldId) -> bool {
        self.plan.moved.contains(&was)
    }

    /// Returns whether a step drops the field.
    pub fn drops(&self, was: FieldId) -> bool {
        self.plan.names.step(was) == Some(FieldStep::Dropped)
    }

    /// The key set that an old one has become.
    pub fn set_now(&self, set: u32) -> Option<u32> {
        self.plan.names.sets[set as usize]
    }

    /// Returns what a key was called before.
    pub fn key_before(&self, set: u32, name: &Arc<str>) -> Arc<str> {
        self.plan.names.key_before(set, name)
    }

    /// Counts the choices of a field that steps drop.
    pub fn dropped_choices(&self, was: FieldId) -> usize {
        self.plan.names.dropped_choices(&ChoiceOwner::Field(was))
    }

    /// Counts the choices of a struct's member that steps drop.
    pub fn dropped_choices_of(&self, of: &Arc<str>, member: &Arc<str>) -> usize {
        self.plan.names.dropped_choices(&ChoiceOwner::Member(of.clone(), member.clone()))
    }

    /// The name of a struct's member in the new version; none if a step drops it.
    pub fn member_now(&self, of: &Arc<str>, member: &Arc<str>) -> Option<Arc<str>> {
        self.plan.names.member(of, member).cloned()
    }

    /// Returns whether the game's own code takes the field.
    pub fn is_code(&self, was: FieldId) -> bool {
        self.plan.is_hooked(&self.old.field(was).name)
    }

    /// Returns whether nothing of the version before has the field's values.
    pub fn is_new(&self, field: FieldId) -> bool {
        self.plan.fields[field.0 as usize].carried.is_none()
    }

    /// The expressions that fill a field.
    pub fn filled_from(&self, field: FieldId) -> Vec<String> {
        let fills = self.plan.fields[field.0 as usize].fills.iter();
        fills.map(|fill| fill.expression.source().to_owned()).collect()
    }

    /// The literals in the expressions that fill fields.
    pub fn literals(&self) -> Vec<Value> {
        let fills = self.plan.fields.iter().flat_map(|field| &field.fills).map(|fill| &fill.expression);
        let of_members = self.plan.fields.iter().flat_map(|field| &field.member_fills).map(|fill| &fill.expression);
        fills.chain(of_members).flat_map(Expression::literals).collect()
    }

    /// Returns whether a step drops the level, checkpoint or key of an entry, or the new version keeps fewer names.
    pub fn drops_keys(&self, was: FieldId, slot: usize, made: &MadeKeys) -> bool {
        let field = self.old.field(was);
        let names = &self.plan.names;
        field.axes.iter().zip(field.keys_of(slot)).any(|(axis, key)| match axis {
            Axis::Level => names.drops_level(key),
            Axis::Checkpoint => {
                let (level, checkpoint) = self.old.checkpoint_keys[key as usize];
                names.drops_level(level) || names.drops_checkpoint(level, checkpoint)
            }
            Axis::Keys(set) if self.old.key_sets[*set as usize].max.is_some() => {
                let Some(now) = names.sets[*set as usize].map(|now| &self.new.key_sets[now as usize]) else {
                    return false;
                };
                let name = made[*set as usize].get_index(key as usize);
                let declared =
                    || name.and_then(|name| names.key(*set, name)).is_some_and(|name| now.names.contains(&name));
                let has_place = now.max.map_or_else(declared, |max| key < max);
                name.is_some_and(|name| names.drops_key(*set, name)) || (names.drops_rest(*set) && !has_place)
            }
            Axis::Keys(set) => {
                let keys = &self.old.key_sets[*set as usize].names;
                let now = names.sets[*set as usize].and_then(|now| self.new.key_sets[now as usize].max);
                let no_room = names.drops_rest(*set) && now.is_some_and(|max| key >= max);
                no_room || keys.get_index(key as usize).is_some_and(|name| names.drops_key(*set, name))
            }
        })
    }

    /// The names that were made, as the new version calls those that it has a place for.
    pub fn made_now(&self, made: &MadeKeys) -> MadeKeys {
        let mut now: MadeKeys = vec![Default::default(); self.new.key_sets.len()];
        for (set, names) in made.iter().enumerate() {
            let Some(to) = self.plan.names.sets[set] else { continue };
            let max = self.new.key_sets[to as usize].max.unwrap_or(0) as usize;
            now[to as usize].extend(names.iter().filter_map(|name| self.plan.names.key(set as u32, name)).take(max));
        }
        now
    }

    /// The slot of an entry in the field that has its values.
    pub fn slot_now(&self, was: FieldId, slot: usize) -> Option<usize> {
        self.slot_in(was, self.carrier(was)?, slot)
    }

    /// The field that a fill carries an old one's entries to, and the entries there of the same levels and checkpoints: one where only
    /// how the names of keys come about is another, several where the new field has one more axis.
    pub fn filled_alike(&self, was: FieldId, slot: usize) -> Vec<(FieldId, usize)> {
        let names = &self.plan.names;
        let field = self.old.field(was);
        let has_all = |now: &Field| {
            let kept = |axis: &&Axis| match axis {
                Axis::Level | Axis::Checkpoint => now.axes.contains(axis),
                Axis::Keys(_) => false,
            };
            field.axes.iter().all(|axis| kept(&axis)) && now.axes.len() == field.axes.len() + 1
        };
        let alike = |(now, at): &(FieldId, Option<usize>)| {
            let now = self.new.field(*now);
            at.is_none() && field.is_keyed() && (names.same_sets(field, now) || has_all(now))
        };
        let Some((now, _)) = self.readers(was).find(alike) else { return Vec::new() };
        let is = self.new.field(now);
        // The keys that each axis of the new field can have for this entry.
        let keys = is.axes.iter().enumerate().map(|(place, axis)| match axis {
            Axis::Level | Axis::Checkpoint => {
                let Some(at) = field.axes.iter().position(|of| of == axis) else {
                    return (0..is.dims[place]).collect();
                };
                let key = field.keys_of(slot).into_iter().nth(at);
                let now = key.and_then(|key| names.key_now(self.new, *axis, key, None, |_, _| None));
                now.into_iter().collect::<Vec<u32>>()
            }
            Axis::Keys(_) if is.axes.len() == field.axes.len() => vec![0],
            Axis::Keys(_) => (0..is.dims[place]).collect(),
        });
        let entries = keys.fold(vec![Vec::new()], |entries: Vec<Vec<u32>>, keys| {
            let with =
                |entry: &Vec<u32>| keys.iter().map(|key| [&entry[..], &[*key]].concat()).collect::<Vec<Vec<u32>>>();
            entries.iter().flat_map(with).collect()
        });
        entries.into_iter().map(|keys| (now, is.slot_at(&keys))).collect()
    }

    /// The slot of an entry in a field that is kept by the same keys.
    pub fn slot_in(&self, was: FieldId, now: FieldId, slot: usize) -> Option<usize> {
        let (was, now): (&Field, &Field) = (self.old.field(was), self.new.field(now));
        if !self.plan.names.same_axes(self.old, self.new, was, now) {
            return None;
        }
        let names = &self.plan.names;
        let keys = was.axes.iter().zip(was.keys_of(slot)).map(|(axis, key)| match axis {
            // Names that were made keep their places.
            Axis::Keys(set) if self.old.key_sets[*set as usize].max.is_some() => {
                let now = names.sets[*set as usize]?;
                self.new.key_sets[now as usize].max.filter(|max| key < *max).map(|_| key)
            }
            Axis::Keys(set) => {
                let name = self.old.key_sets[*set as usize].names.get_index(key as usize);
                names.key_now(self.new, *axis, key, name, |_, _| None)
            }
            axis @ (Axis::Level | Axis::Checkpoint) => names.key_now(self.new, *axis, key, None, |_, _| None),
        });
        if was.axes.is_empty() {
            return Some(now.first_slot);
        }
        Some(now.slot_at(&keys.collect::<Option<Vec<u32>>>()?))
    }
}
