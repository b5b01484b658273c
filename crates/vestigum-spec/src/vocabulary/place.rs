//! Where the player stands.

use std::fmt;
use std::sync::Arc;

/// Describes where the player stands, by name.
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

/// Says where the player is, for a sentence: `in the menu`, `in mill_lane at ford`, `at the end of a run`.
pub fn where_it_is(place: &Place) -> String {
    match place {
        Place::Menu => "in the menu".into(),
        Place::InLevel { .. } => format!("in {place}"),
        Place::RunOver => "at the end of a run".into(),
    }
}
