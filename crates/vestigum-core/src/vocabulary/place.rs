//! Where the player stands.

use std::fmt;
use std::sync::Arc;

/// Where the player stands, by name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Place {
    /// Between levels, or before the first.
    #[default]
    Menu,
    /// In a level.
    InLevel {
        /// The level's id.
        level: Arc<str>,
        /// The last checkpoint reached, or the one where the level was entered.
        checkpoint: Option<Arc<str>>,
    },
    /// After a game over, until the next run begins.
    RunOver,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Menu => f.pad("menu"),
            Place::InLevel { level, checkpoint: None } => f.pad(level),
            Place::InLevel { level, checkpoint: Some(checkpoint) } => f.pad(&format!("{level} at {checkpoint}")),
            Place::RunOver => f.pad("run over"),
        }
    }
}
