//! Looking at a player's progress without launching it.

use vestigum_core::{LoadReport, Progress, Spec};

/// A look at a player's saved progress: for the list of players on a title screen, and for tools. Nothing is written,
/// no rule of `launch` runs, and a session of the same player may run beside it.
///
/// It reads as a session does.
#[derive(Debug)]
pub struct Peek {
    pub(super) spec: Spec,
    pub(super) progress: Progress,
    pub(super) report: LoadReport,
    pub(super) generation: u64,
    pub(super) saved_at: Option<String>,
}

impl Peek {
    /// Returns what loading did.
    pub fn load_report(&self) -> &LoadReport {
        &self.report
    }

    /// The generation that was looked at; 0 if nothing was saved yet.
    pub fn generation(&self) -> u64 {
        self.generation
    }

    /// When it was saved, as the clock of the game told it (RFC 3339).
    pub fn saved_at(&self) -> Option<&str> {
        self.saved_at.as_deref()
    }
}
