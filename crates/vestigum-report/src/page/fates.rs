//! The fate table on the page, and what is left after each moment at a glance.

use serde::Serialize;
use vestigum_core::{Span, Spec};
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_verify::fate_table::{CellFate, FateCell, FateRow, FateTable, LEGEND, meaning_of};
use vestigum_verify::fate_words::FateWords;

#[derive(Serialize)]
pub(super) struct FatesView {
    columns: Vec<String>,
    has_merges: bool,
    groups: Vec<GroupView>,
    legend: Vec<LegendView>,
    glances: Vec<GlanceView>,
    saves: String,
    run_over: Option<String>,
}

/// The fields of one span.
#[derive(Serialize)]
struct GroupView {
    span: &'static str,
    meaning: &'static str,
    rows: Vec<RowView>,
}

#[derive(Serialize)]
struct RowView {
    field: String,
    keys: String,
    ty: String,
    cells: Vec<CellView>,
    merge: &'static str,
}

#[derive(Serialize)]
struct CellView {
    class: &'static str,
    fate: &'static str,
    sign: &'static str,
    /// Says what stands behind the sign.
    word: String,
    moment: String,
    what: String,
    why: String,
    /// The lines of the spec that say so.
    lines: Vec<usize>,
}

#[derive(Serialize)]
struct LegendView {
    sign: &'static str,
    meaning: &'static str,
}

/// Describes what is left after one moment.
#[derive(Serialize)]
struct GlanceView {
    moment: String,
    chosen: bool,
    groups: Vec<GlanceGroup>,
}

#[derive(Serialize)]
struct GlanceGroup {
    title: &'static str,
    class: &'static str,
    fields: Vec<GlanceField>,
}

#[derive(Serialize)]
struct GlanceField {
    name: String,
    /// Says what a rule does to it, in a few characters.
    note: String,
}

/// The moment that the page shows first: what players fear most.
const FIRST: &str = "death";

pub(super) fn view(spec: &Spec, source: Option<&str>) -> FatesView {
    let table = FateTable::of(spec);
    let groups = Span::ALL.iter().filter_map(|span| {
        let rows: Vec<RowView> =
            table.rows.iter().filter(|row| row.lasts == *span).map(|row| row_view(spec, source, row)).collect();
        (!rows.is_empty()).then(|| GroupView { span: span.word(), meaning: meaning_of(*span), rows })
    });
    FatesView {
        groups: groups.collect(),
        has_merges: table.rows.iter().any(|row| row.merge.is_some()),
        legend: LEGEND.map(|(sign, meaning)| LegendView { sign, meaning }).into(),
        glances: (0..table.columns.len()).map(|column| glance(&table, column)).collect(),
        saves: table.saves.iter().map(String::as_str).chain(["quit", "reset"]).collect::<Vec<_>>().join(", "),
        run_over: spec.over_when().map(str::to_owned),
        columns: table.columns,
    }
}

fn row_view(spec: &Spec, source: Option<&str>, row: &FateRow) -> RowView {
    let words = FateWords::of(spec, &row.field).unwrap_or_default();
    let cells = words.into_iter().map(|words| {
        let brief = words.cell.brief();
        let lines = source.map(|source| words.lines(source)).unwrap_or_default();
        CellView {
            class: class_of(&words.cell),
            fate: words.cell.word(),
            sign: words.cell.sign(),
            word: brief.strip_prefix(words.cell.sign()).unwrap_or(&brief).trim().to_owned(),
            moment: words.moment,
            what: words.what,
            why: words.why,
            lines,
        }
    });
    RowView {
        field: row.field.clone(),
        keys: row.keys(),
        ty: row.ty.clone(),
        cells: cells.collect(),
        merge: row.merge.map_or("", vestigum_spec::model::merging::FieldMerge::words),
    }
}

/// The class by which the style sheet colours a cell.
fn class_of(cell: &FateCell) -> &'static str {
    match cell.fate {
        CellFate::None => "none",
        CellFate::Plain(PlainFate::Keep) => "stays",
        CellFate::Plain(PlainFate::Checkpoint | PlainFate::Entry) | CellFate::Saved => "back",
        CellFate::Plain(PlainFate::Reset) => "gone",
        CellFate::Rule(_) => "ruled",
    }
}

/// Returns what a column leaves of every field, in groups.
fn glance(table: &FateTable, column: usize) -> GlanceView {
    let group = |title, class, wanted: &dyn Fn(&FateCell) -> bool| {
        let fields = table.rows.iter().filter_map(|row| {
            let cell = row.cells.get(column).filter(|cell| wanted(cell))?;
            let note = match &cell.operand {
                Some(_) if matches!(cell.fate, CellFate::Rule(Operation::Add)) => cell.short(),
                Some(_) => cell.word().to_owned(),
                None if cell.guarded => "?".to_owned(),
                None => String::new(),
            };
            Some(GlanceField { name: row.field.clone(), note })
        });
        GlanceGroup { title, class, fields: fields.collect() }
    };
    let plain = |fate: PlainFate| move |cell: &FateCell| cell.fate == CellFate::Plain(fate);
    let groups = [
        group("stays", "stays", &plain(PlainFate::Keep)),
        group("back to the last checkpoint", "back", &plain(PlainFate::Checkpoint)),
        group("back to the level's entry", "back", &plain(PlainFate::Entry)),
        group("as last saved", "back", &|cell| cell.fate == CellFate::Saved),
        group("back to the default", "gone", &plain(PlainFate::Reset)),
        group("changed by a rule", "ruled", &|cell| matches!(cell.fate, CellFate::Rule(_))),
    ];
    let moment = table.columns[column].clone();
    GlanceView {
        chosen: moment == FIRST,
        moment,
        groups: groups.into_iter().filter(|group| !group.fields.is_empty()).collect(),
    }
}
