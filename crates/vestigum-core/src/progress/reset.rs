//! Resets: putting progress back to its beginning, on request.
//!
//! What a reset does to a value, it does to both marks, so nothing that was reset comes back with a death.

use std::fmt;
use std::time::Duration;

use crate::outcome::Change;
use crate::progress::Progress;
use crate::progress::display::Update;
use crate::state::position::Position;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::entry::{EntrySlot, keys_of};
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::fate::{Fate, PlainFate};
use vestigum_spec::vocabulary::names::key_text;
use vestigum_spec::vocabulary::span::Span;
use vestigum_spec::{AccessError, AccessErrorKind};

/// Describes what is reset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reset {
    /// Everything that belongs to a level, `completed` and `opened` included. Device fields stay.
    Level(String),
    /// Everything that lasts a run.
    Run,
    /// One field, or one entry of it.
    Field {
        /// The field.
        name: String,
        /// The entry's keys; without them, all entries.
        keys: Vec<String>,
    },
    /// Everything of this player.
    Profile,
    /// Everything of the device.
    Device,
    /// This player and the device.
    Everything,
}

impl fmt::Display for Reset {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Reset::Level(level) => write!(f, "level {level}"),
            Reset::Run => f.write_str("run"),
            Reset::Field { name, keys } if keys.is_empty() => write!(f, "field {name}"),
            Reset::Field { name, keys } => {
                let keys: Vec<_> = keys.iter().map(|key| key_text(key)).collect();
                write!(f, "field {name}[{}]", keys.join(", "))
            }
            Reset::Profile => f.write_str("profile"),
            Reset::Device => f.write_str("device"),
            Reset::Everything => f.write_str("everything"),
        }
    }
}

impl Progress {
    /// Returns what [`Progress::reset`] would change.
    ///
    /// # Errors
    /// As [`Progress::reset`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Reset};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.set(spec.int("score")?, 60)?;
    /// let changes = game.preview_reset(&Reset::Run)?;
    /// println!("This would take {} values. Are you sure?", changes.len());
    /// assert_eq!(game.get(spec.int("score")?), 60);      // nothing has changed
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn preview_reset(&self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
        self.clone().reset(reset)
    }

    /// Resets and says what changed. Resetting the level the player stands in ends the visit; after a reset of the run,
    /// the profile or everything the player is in the menu.
    ///
    /// # Errors
    /// If there is no such level, field or key, or after `quit`.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Reset};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.set(spec.int("score")?, 60)?;
    /// game.reset(&Reset::Run)?;
    /// assert_eq!(game.get(spec.int("score")?), 0);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn reset(&mut self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
        if self.is_closed() {
            return Err(AccessErrorKind::Closed.into());
        }
        let spec = self.model.clone();
        let mut changes = Vec::new();
        self.rest = Duration::ZERO;
        match reset {
            Reset::Level(name) => {
                let unknown =
                    |nearest| AccessErrorKind::UnknownKey { axis: "level".into(), name: name.clone(), nearest };
                let level = spec.find_level(name).map_err(unknown)?;
                // An exit was taken if a level that has one was completed; which of its exits it was, nothing says.
                let completed = spec.field(spec.completed);
                let left = |from: &u32| self.state.value(completed.slot_at(&[*from])).as_bool();
                let reached = self.is_open(level) && spec.level(level).entrances.iter().any(left);
                // What a player made of the level is no progress: only removing it takes that.
                let stays = |field: &Field| {
                    spec.is_made_level(level) && (spec.is_made_field(field.id) || spec.is_given(field.id))
                };
                let progress = |field: &&Field| field.lasts != Span::Device && field.is_per_level() && !stays(field);
                for field in spec.fields.iter().filter(progress) {
                    for slot in field.slots_of_level(&spec, level) {
                        self.back_to_default(field, slot, &mut changes);
                    }
                }
                if self.state.position.level() == Some(level) {
                    self.end_visit(&mut changes);
                } else if self.can_open(level) {
                    // It was taken back, and nothing locks it. Outside a level judging the openings says the same.
                    self.open_again(level, &mut changes);
                }
                // What an exit opened stays open: the exit belongs to another level.
                if reached && !self.is_open(level) {
                    self.open_again(level, &mut changes);
                }
            }
            Reset::Run => {
                self.all_of(|field| field.lasts == Span::Run, &mut changes);
                self.end_visit(&mut changes);
            }
            Reset::Field { name, keys } => {
                let id = self.find(name)?.id;
                let field = spec.field(id);
                if keys.is_empty() {
                    self.all_of(|field| field.id == id, &mut changes);
                } else {
                    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
                    if let EntrySlot::Slot(slot) = self.entry(field, &keys)? {
                        self.back_to_default(field, slot, &mut changes);
                    }
                }
                for axis in &field.axes {
                    if let Axis::Keys(set) = axis {
                        self.free_names(*set);
                    }
                }
            }
            Reset::Profile => self.reset_profile(&mut changes),
            Reset::Device => self.reset_device(&mut changes),
            Reset::Everything => {
                self.reset_device(&mut changes);
                self.reset_profile(&mut changes);
            }
        }
        self.clear_removed(&mut changes);
        let opened = self.judge_openings();
        merge(&mut changes, opened);
        changes.sort_by_key(|change| spec.field_ids.get(&change.field).copied().unwrap_or(FieldId(0)));
        Ok(changes)
    }

    /// Gives up the names of an open key set that no entry needs any more, so that they leave room for others.
    fn free_names(&mut self, set: u32) {
        let spec = self.model.clone();
        let (index, axis) = (set as usize, Axis::Keys(set));
        if spec.key_sets[index].max.is_none() {
            return;
        }
        let keyed: Vec<(&Field, usize)> = spec
            .fields
            .iter()
            .filter_map(|field| Some((field, field.axes.iter().position(|other| *other == axis)?)))
            .collect();
        let mut used = vec![false; self.state.made[index].len()];
        for (field, at) in &keyed {
            for slot in field.slots().filter(|slot| spec.is_made(field, *slot, &self.state.made)) {
                let (entry, checkpoint) = (self.state.at_entry(slot), self.state.at_checkpoint(slot));
                if [self.state.value(slot), entry, checkpoint].iter().any(|value| **value != field.default) {
                    used[field.keys_of(slot)[*at] as usize] = true;
                }
            }
        }
        if used.iter().all(|used| *used) {
            return;
        }
        for (field, at) in keyed {
            self.move_entries(field, at, &used);
        }
        let mut used = used.into_iter();
        self.state.made[index].retain(|_| used.next().unwrap_or(true));
        self.state.names_given_up();
    }

    /// The entries whose keys stay move together, in their order, with their marks and with what a display was told. A
    /// display hears of those that go as long as they have their names.
    fn move_entries(&mut self, field: &Field, at: usize, used: &[bool]) {
        let entry = Moving {
            value: field.default.clone(),
            marks: (field.default.clone(), field.default.clone()),
            baseline: self.state.baseline(field.first_slot).map(|_| field.default.clone()),
        };
        let mut moved = vec![entry; field.slots().len()];
        for slot in field.slots().filter(|slot| self.model.is_made(field, *slot, &self.state.made)) {
            let baseline = self.state.baseline(slot).cloned();
            let mut keys = field.keys_of(slot);
            if used.get(keys[at] as usize) == Some(&true) {
                keys[at] = used[..keys[at] as usize].iter().filter(|used| **used).count() as u32;
                let marks = (self.state.at_entry(slot).clone(), self.state.at_checkpoint(slot).clone());
                let value = self.state.value(slot).clone();
                moved[field.slot_at(&keys) - field.first_slot] = Moving { value, marks, baseline };
            } else if let Some(baseline) = baseline.filter(|shown| *shown != field.default) {
                let keys = keys_of(&self.model, field, slot, &self.state.made);
                let (name, after) = (field.name.clone(), field.default.clone());
                self.gone.push(Update { field: name, keys, before: baseline, after });
            }
        }
        for (slot, Moving { value, marks: (entry, checkpoint), baseline }) in field.slots().zip(moved) {
            self.state.write_through(slot, value);
            if field.rewinds && self.state.position.level().is_some() {
                self.state.write_marks(slot, entry, checkpoint);
            }
            if let Some(baseline) = baseline {
                self.state.set_baseline(slot, baseline);
            }
        }
    }

    fn reset_profile(&mut self, changes: &mut Vec<Change>) {
        self.all_of(|field| matches!(field.lasts, Span::Session | Span::Run | Span::Profile), changes);
        self.end_visit(changes);
        // Values that this spec has no place for are the profile's, too.
        self.state.kept = None;
        (0..self.state.made.len() as u32).for_each(|set| self.free_names(set));
    }

    fn reset_device(&mut self, changes: &mut Vec<Change>) {
        self.all_of(|field| field.lasts == Span::Device, changes);
        self.state.kept_of_device = None;
    }

    fn all_of(&mut self, wanted: impl Fn(&Field) -> bool, changes: &mut Vec<Change>) {
        let spec = self.model.clone();
        for field in spec.fields.iter().filter(|field| wanted(field)) {
            for slot in field.slots() {
                self.back_to_default(field, slot, changes);
            }
        }
    }

    pub(super) fn back_to_default(&mut self, field: &Field, slot: usize, changes: &mut Vec<Change>) {
        let before = self.state.value(slot).clone();
        if before != field.default {
            changes.push(Change {
                field: field.name.clone(),
                keys: keys_of(&self.model, field, slot, &self.state.made),
                before,
                after: field.default.clone(),
                fate: Fate::Plain(PlainFate::Reset),
                clamped: false,
            });
        }
        self.state.write_through(slot, field.default.clone());
    }

    /// The player is in the menu, and what lives inside a level is gone.
    pub(super) fn end_visit(&mut self, changes: &mut Vec<Change>) {
        // What is not reset stays.
        self.state.end_visit();
        self.all_of(Field::needs_level, changes);
        self.state.take_marks();
        self.state.position = Position::Menu;
    }
}

/// One entry on its way to another slot.
#[derive(Clone)]
struct Moving {
    value: Value,
    marks: (Value, Value),
    /// Says what a display was told, if there is one.
    baseline: Option<Value>,
}

/// A level that was locked and opens at once has not changed.
fn merge(changes: &mut Vec<Change>, opened: Vec<Change>) {
    for open in opened {
        let locked = |change: &Change| {
            change.field == open.field && change.keys == open.keys && change.before == Value::Bool(true)
        };
        match changes.iter().position(locked) {
            Some(at) => drop(changes.remove(at)),
            None => changes.push(open),
        }
    }
}
