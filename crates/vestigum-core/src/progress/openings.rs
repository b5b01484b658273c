//! Which levels are open, and why the others are not.
//!
//! Whenever the place is not a level, every level whose condition holds becomes opened, and it stays so.

use std::sync::Arc;

use crate::model::level::Opening;
use crate::outcome::Change;
use crate::progress::Progress;
use crate::value::Value;
use crate::vocabulary::fate::Fate;
use crate::vocabulary::key::{Key, KeyAxis, Keys};

/// The key of an entry of a level.
fn level_key(id: &Arc<str>) -> Keys {
    Keys::new(vec![Key { axis: KeyAxis::Level, name: id.clone() }])
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
            for (index, level) in (0u32..).zip(&spec.levels) {
                let slot = spec.opened_slot(index);
                if !self.state.value(slot).as_bool() && self.can_open(index) {
                    self.state.write(slot, Value::Bool(true));
                    opened = true;
                    if self.quiet {
                        continue;
                    }
                    changes.push(Change {
                        field: spec.field(spec.opened).name.clone(),
                        keys: level_key(&level.id),
                        before: Value::Bool(false),
                        after: Value::Bool(true),
                        fate: Fate::Opened,
                        clamped: false,
                    });
                }
            }
            if !opened {
                return changes;
            }
        }
    }

    /// Opens a level that a reset has just taken back.
    pub(super) fn open_again(&mut self, level: u32, changes: &mut Vec<Change>) {
        let spec = self.model.clone();
        let slot = spec.opened_slot(level);
        let (opened, id) = (&spec.field(spec.opened).name, &spec.level(level).id);
        let taken = changes.iter().position(|change| change.field == *opened && change.keys.level() == Some(id));
        match taken {
            Some(at) => drop(changes.remove(at)),
            None => changes.push(Change {
                field: opened.clone(),
                keys: level_key(id),
                before: Value::Bool(false),
                after: Value::Bool(true),
                fate: Fate::Opened,
                clamped: false,
            }),
        }
        self.state.write_through(slot, Value::Bool(true));
    }

    pub(super) fn can_open(&self, level: u32) -> bool {
        let spec = &*self.model;
        match spec.opening(level) {
            Opening::Always => true,
            Opening::After(before) => self.state.value(spec.field(spec.completed).slot_at(&[*before])).as_bool(),
            Opening::When(condition) => condition.holds(&self.env()),
        }
    }

    #[doc(hidden)]
    pub fn is_open(&self, level: u32) -> bool {
        self.state.value(self.model.opened_slot(level)).as_bool()
    }

    /// What is missing before `level` opens, in words.
    pub(crate) fn why_locked(&self, level: u32) -> String {
        let spec = &*self.model;
        match spec.opening(level) {
            Opening::Always => "it opens at the next moment outside a level".into(),
            Opening::After(before) => format!("complete {} first", spec.level(*before).title()),
            Opening::When(condition) => {
                let missing = condition.missing(&self.env());
                missing.unwrap_or_else(|| "it opens at the next moment outside a level".into())
            }
        }
    }
}
