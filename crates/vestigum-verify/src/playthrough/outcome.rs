//! What came of a playthrough.

use vestigum_core::Value;
use vestigum_core::evaluation::judge::Judged;

use super::timeline::Timeline;

/// Describes what came of a playthrough.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Run {
    /// Says what it proves.
    pub name: String,
    /// Says how many statements ran, those of repeats each time.
    pub statements: usize,
    /// Says what went wrong, if anything did. Nothing runs after that.
    pub failure: Option<Failure>,
    /// The story.
    pub timeline: Timeline,
}

impl Run {
    /// Returns whether everything went as the script says.
    pub fn passed(&self) -> bool {
        self.failure.is_none()
    }
}

/// Describes where and why a playthrough failed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Failure {
    /// The line of the script.
    pub line: usize,
    /// The statement.
    pub statement: String,
    /// Says why.
    pub why: Why,
}

/// Describes why a statement failed.
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
    /// A moment broke a promise of the spec.
    Promise(Box<PromiseFailure>),
    /// The statement should have been refused, and was not.
    NotRefused,
    /// The statement was refused.
    Refused(String),
    /// An expectation means nothing where the player stands, so nothing can be said of it.
    Unjudged(String),
    /// The images could not be read or written.
    Storage(String),
}

/// A promise of the spec that a moment broke.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct PromiseFailure {
    /// Its name.
    pub name: String,
    /// Says in words what happened.
    pub what: String,
    /// The last change of each field that it reads.
    pub changes: Vec<LastChange>,
    /// A write that gave more than any source gives, in words: then it may be the write that is wrong.
    pub beyond: Option<String>,
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
