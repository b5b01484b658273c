//! Step charts: what a watched value was after every statement.

use serde::Serialize;
use vestigum_core::{Moment, Value};
use vestigum_spec::vocabulary::keyword::Keyword;
use vestigum_verify::playthrough::Timeline;

const WIDTH: f64 = 900.0;
const HEIGHT: f64 = 44.0;
/// Room above and below the line.
const EDGE: f64 = 5.0;

/// The chart of one watched value.
#[derive(Serialize)]
pub(super) struct ChartView {
    name: String,
    low: String,
    high: String,
    /// The path of the steps, in a box of 900 by 44.
    path: String,
    /// The statements that are marked, each with its place and what it is.
    marks: Vec<MarkView>,
    /// Each change, for whoever points at it.
    changes: Vec<ChangeView>,
}

#[derive(Clone, Serialize)]
struct MarkView {
    x: String,
    class: &'static str,
    statement: String,
}

#[derive(Serialize)]
struct ChangeView {
    x: String,
    y: String,
    told: String,
}

/// A chart for each watched value that is a number or a truth value and changes; a straight line tells nothing.
pub(super) fn charts(timeline: &Timeline) -> Vec<ChartView> {
    let marks = marks(timeline);
    (0..timeline.columns.len()).filter_map(|column| chart(timeline, column, &marks)).collect()
}

/// Returns where a statement of the timeline stands.
fn x_of(timeline: &Timeline, row: usize) -> f64 {
    let steps = timeline.rows.len().max(2) - 1;
    row as f64 / steps as f64 * WIDTH
}

fn marks(timeline: &Timeline) -> Vec<MarkView> {
    let class = |statement: &str| {
        let word = statement.split(' ').next().unwrap_or_default();
        match (Moment::from_word(word), Keyword::from_word(word)) {
            (Some(moment), _) if moment.is_failure() => Some("failure"),
            (_, Some(Keyword::Crash)) => Some("failure"),
            (Some(_), _) => Some("mark"),
            (None, _) => None,
        }
    };
    let rows = timeline.rows.iter().enumerate().filter_map(|(index, row)| {
        let statement = row.statement.to_string();
        let class = class(&statement)?;
        Some(MarkView { x: short(x_of(timeline, index)), class, statement })
    });
    rows.collect()
}

fn chart(timeline: &Timeline, column: usize, marks: &[MarkView]) -> Option<ChartView> {
    let values: Vec<Option<f64>> =
        timeline.rows.iter().map(|row| number(row.cells.get(column)?.after.as_ref()?)).collect();
    let known = || values.iter().copied().flatten();
    let (low, high) = (known().fold(f64::INFINITY, f64::min), known().fold(f64::NEG_INFINITY, f64::max));
    if !low.is_finite() || low >= high {
        return None;
    }
    let y_of = |value: f64| HEIGHT - EDGE - (value - low) / (high - low) * (HEIGHT - 2.0 * EDGE);
    let (mut path, mut changes) = (String::new(), Vec::new());
    let mut last: Option<f64> = None;
    for (row, value) in values.iter().enumerate() {
        let x = x_of(timeline, row);
        match (last, value) {
            (_, None) => {}
            (None, Some(value)) => path.push_str(&format!("M{} {}", short(x), short(y_of(*value)))),
            (Some(_), Some(value)) => path.push_str(&format!("H{}V{}", short(x), short(y_of(*value)))),
        }
        if let (Some(before), Some(after)) = (last, value)
            && timeline.rows[row].cells[column].changed()
        {
            let told =
                format!("line {}: {}  {before} → {after}", timeline.rows[row].line, timeline.rows[row].statement);
            changes.push(ChangeView { x: short(x), y: short(y_of(*after)), told });
        }
        last = *value;
    }
    Some(ChartView {
        name: timeline.columns[column].clone(),
        low: low.to_string(),
        high: high.to_string(),
        path,
        marks: marks.to_vec(),
        changes,
    })
}

fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Int(number) => Some(*number as f64),
        Value::Float(number) => Some(number.get()),
        Value::Bool(holds) => Some(f64::from(u8::from(*holds))),
        Value::Unfilled
        | Value::Text(_)
        | Value::Bytes(_)
        | Value::Vec2(_)
        | Value::Vec3(_)
        | Value::Choice(_)
        | Value::Struct(..)
        | Value::List(_)
        | Value::Set(_)
        | Value::Map(_) => None,
    }
}

/// A coordinate with as many digits as a screen shows.
fn short(number: f64) -> String {
    let text = format!("{number:.1}");
    text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
}
