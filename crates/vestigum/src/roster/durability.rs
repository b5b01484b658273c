//! Who is durable, and who is not.

use std::sync::Arc;
use std::time::Duration;

use crate::saver::{SaveTargets, Saver};
use crate::store::StoreError;

/// The saves of many players, on their way.
#[derive(Debug)]
pub struct SavingAll {
    saver: Saver,
    players: Vec<(Arc<str>, SaveTargets)>,
}

/// Describes which players' saves are durable.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Durability {
    /// Those whose progress is all in the store, in the order of their names.
    pub durable: Vec<String>,
    /// Those whose last save is not, in the order of their names, each with why the last try failed; none if none has failed yet.
    pub not_durable: Vec<(String, Option<Arc<StoreError>>)>,
}

impl Durability {
    /// Returns whether nobody is missing.
    pub fn all_durable(&self) -> bool {
        self.not_durable.is_empty()
    }
}

impl SavingAll {
    pub(super) fn new(saver: Saver, players: Vec<(Arc<str>, SaveTargets)>) -> SavingAll {
        SavingAll { saver, players }
    }

    pub(super) fn add(&mut self, player: Arc<str>, targets: SaveTargets) {
        self.players.push((player, targets));
    }

    /// Returns who is durable now. It does not wait.
    pub fn poll(&self) -> Durability {
        self.wait(Duration::ZERO)
    }

    /// Waits until everyone is durable or can never be, but not longer than `timeout`, and tells who is. Not for the thread that
    /// plays: that one polls.
    pub fn wait(&self, timeout: Duration) -> Durability {
        let targets: Vec<&SaveTargets> = self.players.iter().map(|(_, targets)| targets).collect();
        let states = self.saver.queue().wait_for_all(&targets, timeout);
        let mut told = Durability::default();
        for ((player, _), state) in self.players.iter().zip(states) {
            match state {
                Ok(()) => told.durable.push(player.to_string()),
                Err(why) => told.not_durable.push((player.to_string(), why)),
            }
        }
        told.durable.sort();
        told.not_durable.sort_by(|(one, _), (other, _)| one.cmp(other));
        told
    }
}
