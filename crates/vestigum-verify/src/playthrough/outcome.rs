//! What came of a playthrough.

use vestigum_core::Value;
use vestigum_core::evaluation::judge::Judged;

use super::timeline::Timeline;

/// What came of a playthrough.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Run {
    /// What it proves.
    pub name: String,
    /// How many statements ran, those of repeats each time.
    pub statements: usize,
    /// What went wrong, if anything did. Nothing runs after that.
    pub failure: Option<Failure>,
    /// The story.
    pub timeline: Timeline,
}

impl Run {
    /// Whether everything went as the script says.
    pub fn passed(&self) -> bool {
        self.failure.is_none()
    }
}

/// Where and why a playthrough failed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Failure {
    /// The line of the script.
    pub line: usize,
    /// The statement.
    pub statement: String,
    /// Why.
    pub why: Why,
}

/// Why a statement failed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Why {
    /// An expectation does not hold.
    Expectation {
        /// Its parts and what became of them.
        parts: Vec<Judged>,
        /// The last change of each field in it.
        changes: Vec<LastChange>,
    },
    /// The statement should have been refused, and was not.
    NotRefused,
    /// The statement was refused.
    Refused(String),
    /// An expectation means nothing where the player stands, so nothing can be said of it.
    Unjudged(String),
    /// The images could not be read or written.
    Storage(String),
}

/// The last statement that changed a field.
#[derive(Clone, Debug, PartialEq)]
pub struct LastChange {
    /// The field, with its key.
    pub name: String,
    /// The line of the statement.
    pub line: usize,
    /// The statement.
    pub statement: String,
    /// The value before it.
    pub before: Value,
    /// The value after it.
    pub after: Value,
}
