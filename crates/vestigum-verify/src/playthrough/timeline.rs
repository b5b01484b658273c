//! The timeline: a row for each statement, a column for each watched value.

use std::sync::Arc;

use vestigum_core::{BoardRow, Progress, Value};
use vestigum_spec::model::expression::Expression;

/// Describes what a playthrough did to the values it watches.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Timeline {
    /// The headings of the columns.
    pub columns: Vec<String>,
    /// A row for each statement that ran.
    pub rows: Vec<Row>,
}

/// One statement and what the watched values are after it.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// The line of the script.
    pub line: usize,
    /// The player whose statement it is.
    pub profile: Arc<str>,
    /// The device on which they play, where the playthrough names one.
    pub device: Option<Arc<str>>,
    /// Says how deep it stands in repeats.
    pub depth: usize,
    /// The statement as it was written.
    pub statement: Arc<str>,
    /// Says where the player stands after it; empty while no session runs.
    pub place: String,
    /// One for each column.
    pub cells: Vec<Cell>,
    /// Says what else happened: a level opened, a save was written, a statement was refused.
    pub note: String,
    /// The level overview, for the statement `board`.
    pub board: Vec<BoardRow>,
}

/// One watched value.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cell {
    /// The value before the statement, if it changed.
    pub before: Option<Value>,
    /// The value after it; none where there is nothing to read.
    pub after: Option<Value>,
    /// Of a container, how much is in it after the statement. `before` and `after` hold only what went and what came: a
    /// timeline that kept whole containers would take memory for each of its rows.
    pub len: Option<usize>,
}

impl Cell {
    fn new(before: Option<&Value>, after: Option<&Value>) -> Cell {
        let Some(len) = after.filter(|after| after.is_container()).map(Value::len) else {
            return Cell { before: before.cloned(), after: after.cloned(), len: None };
        };
        let (before, after) = match (before, after) {
            (Some(before), Some(after)) => {
                let (went, came) = before.apart(after);
                (Some(went), Some(came))
            }
            (_, after) => (None, after.map(Value::emptied)),
        };
        Cell { before, after, len: Some(len) }
    }

    /// The value after the statement in a few characters: of a container how much is in it.
    pub fn brief(&self) -> Option<String> {
        let after = self.after.as_ref()?;
        Some(self.len.map_or_else(|| after.brief(), |len| after.counted(len)))
    }

    /// Returns whether the statement changed the value.
    pub fn changed(&self) -> bool {
        self.before.is_some()
    }
}

/// The watched columns and their last values for one player.
#[derive(Clone, Debug, Default)]
pub(super) struct Watch {
    pub columns: Vec<Arc<Expression>>,
    last: Vec<Option<Value>>,
}

impl Watch {
    pub(super) fn new(columns: Vec<Arc<Expression>>) -> Watch {
        let last = vec![None; columns.len()];
        Watch { columns, last }
    }

    /// Reads all columns. A value that appears or disappears with the level or the session has not changed.
    pub(super) fn cells(&mut self, progress: Option<&Progress>) -> Vec<Cell> {
        let mut cells = Vec::with_capacity(self.columns.len());
        for (column, last) in self.columns.iter().zip(&mut self.last) {
            let after = progress.and_then(|progress| progress.evaluate(column).ok());
            let before = last.take().filter(|before| after.as_ref().is_some_and(|after| after != before));
            cells.push(Cell::new(before.as_ref(), after.as_ref()));
            *last = after;
        }
        cells
    }

    pub(super) fn headings(&self) -> Vec<String> {
        self.columns.iter().map(|column| column.source().to_owned()).collect()
    }
}
