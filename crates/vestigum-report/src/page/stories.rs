//! Playthroughs on the page: what happened statement by statement, with the charts of what they watch.

use serde::Serialize;
use vestigum_verify::playthrough::{Cell, Row, Run};

use super::PlayedRun;
use super::charts::{ChartView, charts};

/// The playthroughs of one file.
#[derive(Serialize)]
pub(super) struct FileView {
    file: String,
    failed: usize,
    shown: bool,
    runs: Vec<RunView>,
}

#[derive(Serialize)]
struct RunView {
    name: String,
    passed: bool,
    /// Whether it is shown without being asked for: what failed, or else the one that has the most to show.
    shown: bool,
    statements: usize,
    /// Says why it failed, line by line.
    failure: Vec<String>,
    failed_at: Option<String>,
    charts: Vec<ChartView>,
    columns: Vec<String>,
    rows: Vec<RowView>,
    several: bool,
}

#[derive(Serialize)]
struct RowView {
    line: usize,
    player: String,
    depth: usize,
    statement: String,
    expectation: bool,
    cells: Vec<CellView>,
    note: String,
    board: Vec<String>,
}

#[derive(Serialize)]
struct CellView {
    /// Says what was there, if the statement changed it.
    before: Option<String>,
    after: String,
}

/// At most 400 rows of a timeline are on the page: a repeat may run a million statements.
const MOST_ROWS: usize = 400;

pub(super) fn view(runs: &[PlayedRun<'_>]) -> Vec<FileView> {
    let mut files: Vec<FileView> = Vec::new();
    for played in runs {
        let run = run_view(played.run);
        match files.last_mut().filter(|file| file.file == played.file) {
            Some(file) => file.runs.push(run),
            None => files.push(FileView { file: played.file.to_owned(), failed: 0, shown: false, runs: vec![run] }),
        }
    }
    if files.iter().flat_map(|file| &file.runs).all(|run| run.passed)
        && let Some(best) = files.iter_mut().flat_map(|file| &mut file.runs).max_by_key(|run| run.charts.len())
    {
        best.shown = true;
    }
    for file in &mut files {
        file.failed = file.runs.iter().filter(|run| !run.passed).count();
        file.shown = file.runs.iter().any(|run| run.shown);
    }
    files
}

fn run_view(run: &Run) -> RunView {
    let timeline = &run.timeline;
    let failure = run.failure.as_ref();
    RunView {
        name: run.name.clone(),
        passed: run.passed(),
        shown: !run.passed(),
        statements: run.statements,
        failure: failure.map(|failure| failure.told(&|_, text| text)).unwrap_or_default(),
        failed_at: failure.map(|failure| format!("line {}: {}", failure.line, failure.statement)),
        charts: charts(timeline),
        columns: timeline.columns.clone(),
        rows: timeline.rows.iter().take(MOST_ROWS).map(row_view).collect(),
        several: timeline.rows.iter().any(|row| row.profile != timeline.rows[0].profile),
    }
}

fn row_view(row: &Row) -> RowView {
    RowView {
        line: row.line,
        player: row.profile.to_string(),
        depth: row.depth,
        statement: row.statement.to_string(),
        expectation: row.statement.starts_with("expect "),
        cells: row.cells.iter().map(cell_view).collect(),
        note: row.note.clone(),
        board: row.board.iter().map(|level| format!("{}: {}", level.title, level.standing())).collect(),
    }
}

fn cell_view(cell: &Cell) -> CellView {
    let after = cell.brief().unwrap_or_default();
    match (&cell.before, &cell.after) {
        // Of a container what came and went tells more than how much is in it.
        (Some(before), Some(now)) if cell.len.is_some() => CellView { before: None, after: before.difference(now) },
        (before, _) => CellView { before: before.as_ref().map(vestigum_core::Value::brief), after },
    }
}
