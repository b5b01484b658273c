//! The board: the level overview, with the reason for every lock.

use std::fmt;
use std::sync::Arc;

use crate::evaluation::judge::ExpressionValue;
use crate::progress::Progress;
use crate::progress::locks::{Audience, LockReason};
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::names::key_text;

/// One level of the board.
#[derive(Clone, Debug, PartialEq)]
pub struct BoardRow {
    /// The level's id.
    pub level: Arc<str>,
    /// Its title, or the id where there is none.
    pub title: String,
    /// Whether it is open.
    pub open: bool,
    /// Says what is missing before it opens; only for a locked level.
    pub lock: Option<LockReason>,
    /// Whether players should not see it yet: `hidden` of the level holds. [`Progress::board`] leaves such rows out.
    pub hidden: bool,
    /// Whether it is completed.
    pub completed: bool,
    /// Every per-level field and its value here, and behind them the derived values that are kept per level. What `[levels] made`
    /// carries is told only of a level that a player made. A field with more
    /// axes has an entry for each value that is not at its default, named with its other keys.
    pub values: Vec<(Arc<str>, Value)>,
}

/// `mill_lane     completed  best_letters 60, stars 1`
impl fmt::Display for BoardRow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:14} {}", self.level, self.standing())?;
        let values: Vec<String> = self.values.iter().map(|(name, value)| format!("{name} {value}")).collect();
        if !values.is_empty() {
            write!(f, "  {}", values.join(", "))?;
        }
        Ok(())
    }
}

impl BoardRow {
    /// Returns how the level stands, in words: "completed", "open", "locked: complete Mill Lane".
    pub fn standing(&self) -> String {
        let hidden = if self.hidden { "hidden, " } else { "" };
        let state = match (&self.lock, self.completed) {
            (Some(lock), false) => format!("locked: {lock}"),
            (Some(lock), true) => format!("completed, locked: {lock}"),
            (None, true) => "completed".into(),
            (None, false) => "open".into(),
        };
        format!("{hidden}{state}")
    }
}

impl Progress {
    /// The level overview, in the order of the levels, without those that are hidden. Levels that the player made come last.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let board = game.board();
    /// assert!(board[0].open && !board[1].open);
    /// for row in board {
    ///     println!("{row}");                             // "Heather Rise: locked: complete Mill Lane" and the records
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn board(&self) -> Vec<BoardRow> {
        let mut rows = self.full_board();
        rows.retain(|row| !row.hidden);
        rows
    }

    /// Lists all levels, those that are hidden included: for tools.
    pub fn full_board(&self) -> Vec<BoardRow> {
        let spec = &*self.model;
        let env = self.env();
        let fields: Vec<&Field> = spec.fields.iter().filter(|field| !field.built_in && field.is_per_level()).collect();
        let levels = (0u32..).zip(&spec.levels).filter(|(level, _)| self.state.has_level(spec, *level));
        let rows = levels.map(|(index, level)| {
            let open = self.is_open(index);
            let mut values = Vec::with_capacity(fields.len());
            for field in &fields {
                // What a player gives a level says nothing of one of the game's.
                if spec.is_given(field.id) && !spec.is_made_level(index) {
                    continue;
                }
                if field.axes == [Axis::Level] {
                    values.push((field.name.clone(), self.state.value(field.slot_at(&[index])).clone()));
                    continue;
                }
                for slot in field.slots_of_level(spec, index) {
                    let value = self.state.value(slot);
                    if *value != field.default {
                        let axes = field.axes.iter().zip(field.keys_of(slot)).filter(|(axis, _)| **axis != Axis::Level);
                        let others = axes.flat_map(|(axis, key)| {
                            let names = spec.key_names(*axis, key, &self.state.made);
                            // Of a level and its checkpoint the checkpoint: the row is the level's.
                            names.last().map(|name| key_text(name).into_owned())
                        });
                        let others: Vec<String> = others.collect();
                        values.push((format!("{}[{}]", field.name, others.join(", ")).into(), value.clone()));
                    }
                }
            }
            for (id, derived) in (0..).zip(&spec.derived).filter(|(_, derived)| derived.axis == Some(Axis::Level)) {
                let of_level = spec.keyed_derived(id).and_then(|mut ids| ids.nth(index as usize));
                let value = of_level.map(|id| spec.derived[id as usize].expression.value(&env));
                values.extend(value.map(|value| (derived.name.clone(), value)));
            }
            BoardRow {
                level: level.id.clone(),
                title: self.title_of(index),
                open,
                lock: (!open).then(|| self.lock_of(Audience::Players, index)),
                hidden: self.is_hidden(index),
                completed: self.is_completed(index),
                values,
            }
        });
        rows.collect()
    }
}
