//! Sources: what play can give in a level, so that a search knows what there is to gain.
//!
//! A source counts how often it was taken with a counter of its own span: what comes back after a failure can be taken
//! again. Games do not use sources; exploring does.

use std::sync::Arc;

use crate::model::axis::MAX_AXES;
use crate::model::field::{Field, FieldId};
use crate::value::Value;
use crate::vocabulary::fate::PlainFate;
use crate::vocabulary::span::Span;

/// Something in a level that gives value: a pickup, a kill, a chest.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Source {
    #[doc(hidden)]
    pub name: Arc<str>,
    /// The levels that have it; all if there are none.
    #[doc(hidden)]
    pub levels: Vec<u32>,
    #[doc(hidden)]
    pub gives: Vec<Gift>,
    #[doc(hidden)]
    pub times: i64,
    #[doc(hidden)]
    pub lasts: Span,
    #[doc(hidden)]
    pub after_failure: Option<PlainFate>,
}

/// Describes what a source gives to one entry.
#[derive(Clone, Debug)]
pub struct Gift {
    /// The field.
    pub field: FieldId,
    /// A key for each axis of the field.
    pub keys: Vec<GiftKey>,
    /// Added to a number, and written into anything else.
    pub value: Value,
}

/// One key of an entry that a source gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GiftKey {
    /// The key of that number.
    Fixed(u32),
    /// The level in which the source is taken.
    Level,
}

impl Gift {
    /// The entry that is given in a level.
    #[doc(hidden)]
    pub fn slot(&self, field: &Field, level: u32) -> usize {
        let mut keys = [0; MAX_AXES];
        for (place, key) in keys.iter_mut().zip(&self.keys) {
            *place = match key {
                GiftKey::Fixed(key) => *key,
                GiftKey::Level => level,
            };
        }
        field.slot_at(&keys[..self.keys.len()])
    }

    /// Returns whether the entry is given in some level.
    #[doc(hidden)]
    pub fn is_of(&self, field: &Field, slot: usize) -> bool {
        let keys = self.keys.iter().zip(field.keys_of(slot));
        self.field == field.id
            && keys.into_iter().all(|(given, key)| match given {
                GiftKey::Fixed(fixed) => *fixed == key,
                GiftKey::Level => true,
            })
    }
}

impl Source {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns how often it can be taken, until its counter is set back.
    pub fn times(&self) -> i64 {
        self.times
    }

    #[doc(hidden)]
    pub fn is_in(&self, level: u32) -> bool {
        self.levels.is_empty() || self.levels.contains(&level)
    }
}
