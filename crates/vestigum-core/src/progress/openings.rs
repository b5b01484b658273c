//! Which levels are open, and why the others are not.
//!
//! Whenever the place is not a level, every level whose condition holds becomes opened, and it stays so.

use std::sync::Arc;

use crate::evaluation::judge::ExpressionValue;
use crate::outcome::{Change, Next};
use crate::progress::Progress;
use vestigum_spec::model::Model;
use vestigum_spec::model::level::Opening;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::fate::Fate;
use vestigum_spec::vocabulary::key::{Key, KeyAxis, Keys};

/// The key of an entry of a level.
fn level_key(id: &Arc<str>) -> Keys {
    Keys::new(vec![Key { axis: KeyAxis::Level, name: id.clone() }])
}

fn opened_change(spec: &Model, level: u32) -> Change {
    Change {
        field: spec.field(spec.opened).name.clone(),
        keys: level_key(&spec.level(level).id),
        before: Value::Bool(false),
        after: Value::Bool(true),
        fate: Fate::Opened,
        clamped: false,
    }
}

/// The level that a change of `opened` is about.
pub(super) fn opened_level(change: &Change) -> Option<Arc<str>> {
    change.keys.iter().next().map(|key| key.name.clone())
}

impl Progress {
    /// Opens what can be opened, until nothing more opens: a condition may ask whether another level is open.
    #[doc(hidden)]
    pub fn judge_openings(&mut self) -> Vec<Change> {
        let mut changes = Vec::new();
        if self.state.position.level().is_some() {
            return changes;
        }
        let spec = self.model.clone();
        loop {
            let mut opened = false;
            for index in 0..spec.levels.len() as u32 {
                let slot = spec.opened_slot(index);
                if !self.state.value(slot).as_bool() && self.can_open(index) {
                    opened = true;
                    changes.extend(self.open(index));
                }
            }
            if !opened {
                return changes;
            }
        }
    }

    /// Opens a level, if it is locked.
    pub(super) fn open(&mut self, level: u32) -> Option<Change> {
        let slot = self.model.opened_slot(level);
        if self.state.value(slot).as_bool() {
            return None;
        }
        self.state.write(slot, Value::Bool(true));
        (!self.quiet).then(|| opened_change(&self.model, level))
    }

    /// Opens a level that a reset has just taken back.
    pub(super) fn open_again(&mut self, level: u32, changes: &mut Vec<Change>) {
        let spec = self.model.clone();
        let slot = spec.opened_slot(level);
        let (opened, id) = (&spec.field(spec.opened).name, &spec.level(level).id);
        let taken = changes.iter().position(|change| change.field == *opened && change.keys.level() == Some(id));
        match taken {
            Some(at) => drop(changes.remove(at)),
            None => changes.push(opened_change(&spec, level)),
        }
        self.state.write_through(slot, Value::Bool(true));
    }

    pub(super) fn can_open(&self, level: u32) -> bool {
        let spec = &*self.model;
        match spec.opening(level) {
            Opening::Always => true,
            Opening::After(before) => self.state.value(spec.field(spec.completed).slot_at(&[*before])).as_bool(),
            Opening::When(condition) => condition.holds(&self.env()),
            Opening::ByExit => false,
            Opening::Made => self.state.has_level(spec, level),
        }
    }

    /// Returns where a completed level leads.
    pub(super) fn next(&self, named: Option<u32>) -> Next {
        let id = |level: u32| self.model.level(level).id.clone();
        if let Some(level) = named {
            return if self.is_open(level) { Next::Level(id(level)) } else { Next::Locked(id(level)) };
        }
        let levels = 0..self.model.levels.len() as u32;
        let left = levels.filter(|level| self.is_open(*level) && !self.is_completed(*level) && !self.is_hidden(*level));
        let left: Vec<Arc<str>> = left.map(id).collect();
        if left.is_empty() { Next::End } else { Next::Choose(left) }
    }

    pub(super) fn is_completed(&self, level: u32) -> bool {
        let completed = self.model.field(self.model.completed);
        self.state.value(completed.slot_at(&[level])).as_bool()
    }

    #[doc(hidden)]
    pub fn is_open(&self, level: u32) -> bool {
        self.state.value(self.model.opened_slot(level)).as_bool()
    }
}
