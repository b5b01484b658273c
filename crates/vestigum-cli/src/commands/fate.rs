//! `vestigum fate`: the fate table.

use std::ops::Range;
use std::path::PathBuf;

use anstyle::Style;
use clap::ValueEnum;
use serde_json::{Value as Json, json};

use vestigum::merging::{FieldMerge, MergeLaw};
use vestigum::spec::{Counts, PlainFate};
use vestigum::{Span, Spec};
use vestigum_report::page::Report;
use vestigum_verify::fate_table::{CellFate, FateCell, FateRow, FateTable, LEGEND, meaning_of};
use vestigum_verify::fate_words::FateWords;

use crate::show::{self, BACK, BAD, GOOD, Output, QUIET, RULE, STRONG, paint, wide_table};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    spec: PathBuf,
    /// The form of the table
    #[arg(long, value_enum, default_value_t = Format::Text)]
    format: Format,
    /// Tell about one field, moment by moment: what happens, why, and where the spec says so
    #[arg(long, value_name = "FIELD", conflicts_with = "format")]
    only: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For a terminal
    Text,
    /// Markdown
    Md,
    /// A page
    Html,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    if let Some(field) = &arguments.only {
        let text = input::text(&arguments.spec).map_err(|message| out.unusable(&message))?;
        return only(out, &spec, &text, field);
    }
    match arguments.format {
        _ if out.json => out.json(&as_json(&spec)),
        Format::Text => out.line(as_text(&spec, show::width()).trim_end()),
        Format::Md => out.document(as_markdown(&FateTable::of(&spec)).trim_end()),
        Format::Html => {
            let text = input::text(&arguments.spec).map_err(|message| out.unusable(&message))?;
            out.document(Report::new(&spec).with_source(&text).fates_html().trim_end());
        }
    }
    Ok(Verdict::Fine)
}

/// One field in words, moment by moment, with the lines of the spec that decide.
fn only(out: &Output, spec: &Spec, text: &str, field: &str) -> Result<Verdict, Verdict> {
    let words = FateWords::of(spec, field).map_err(|unknown| out.unusable(&unknown.to_string()))?;
    let Some(row) = FateTable::of(spec).rows.into_iter().find(|row| row.field == field) else {
        return Ok(Verdict::Fine);
    };
    if out.json {
        let moments = words.iter().map(|words| {
            json!({
                "moment": words.moment, "fate": words.cell.word(), "what": words.what, "why": words.why, "lines": words.lines(text),
            })
        });
        out.json(&json!({ "field": field, "lasts": row.lasts.word(), "moments": moments.collect::<Vec<_>>() }));
        return Ok(Verdict::Fine);
    }
    let lasts = format!("lasts {}", meaning_of(row.lasts));
    let heading = format!("{}{}  {}", paint(STRONG, field), paint(QUIET, row.keys()), paint(QUIET, &row.ty));
    out.line(format_args!("{heading}  {}\n", paint(QUIET, lasts)));
    let name = words.iter().map(|words| words.moment.chars().count()).max().unwrap_or(0);
    // The sign and the moment stand in front; what does not fit goes on below.
    let indent = name + 4;
    let room = show::width().saturating_sub(indent).max(20);
    // What nobody speaks of comes in one line: what happens elsewhere is what one looks for.
    let (silent, told): (Vec<&FateWords>, Vec<&FateWords>) = words.iter().partition(|words| words.is_silent());
    for words in told {
        let style = style_of(words.cell.fate);
        let mut told = show::wrapped(&words.what, room).into_iter();
        let first = told.next().unwrap_or_default();
        let moment = format!("{:name$}", words.moment);
        out.line(format_args!("{} {moment}  {}", paint(style, words.cell.sign()), paint(style, first)));
        told.for_each(|line| out.line(format_args!("{:indent$}{}", "", paint(style, line))));
        let at = words.lines(text);
        let at = match &at[..] {
            [] => String::new(),
            [one] => format!(" (line {one})"),
            several => {
                format!(" (lines {})", several.iter().map(usize::to_string).collect::<Vec<_>>().join(", "))
            }
        };
        for line in show::wrapped(&format!("{}{at}", words.why), room) {
            out.line(format_args!("{:indent$}{}", "", paint(QUIET, line)));
        }
    }
    if !silent.is_empty() {
        let moments: Vec<&str> = silent.iter().map(|words| words.moment.as_str()).collect();
        let told = format!("stays as it is at {}: nothing speaks of it there", moments.join(", "));
        let mut sign = paint(GOOD, CellFate::Plain(PlainFate::Keep).sign());
        for line in show::wrapped(&told, show::width().saturating_sub(2).max(20)) {
            out.line(format_args!("{sign} {}", paint(QUIET, line)));
            sign = " ".into();
        }
    }
    Ok(Verdict::Fine)
}

fn style_of(fate: CellFate) -> Style {
    match fate {
        CellFate::Plain(PlainFate::Keep) => GOOD,
        CellFate::Plain(PlainFate::Checkpoint | PlainFate::Entry) | CellFate::Saved => BACK,
        CellFate::Plain(PlainFate::Reset) => BAD,
        CellFate::None => QUIET,
        CellFate::Rule(_) => RULE,
    }
}

/// The table for a terminal: the fields in groups, from those that live shortest to those that live longest.
pub(crate) fn as_text(spec: &Spec, width: usize) -> String {
    let fates = FateTable::of(spec);
    let every = 0..fates.columns.len();
    let fits = |text: &String| text.lines().all(|line| show::seen(line) <= width);
    // A table that is too wide first loses its air, then its words; the signs alone tell the same. Then it comes in parts.
    let sign = |cell: &FateCell| format!("{}{}", cell.sign(), if cell.guarded { "?" } else { "" });
    let tries = [
        grid(spec, &fates, every.clone(), &FateCell::brief, 2),
        grid(spec, &fates, every.clone(), &FateCell::brief, 1),
        grid(spec, &fates, every.clone(), &sign, 1),
    ];
    let mut text = match tries.into_iter().find(fits) {
        Some(text) => text,
        None => {
            let parts = |count: usize| -> Vec<String> {
                let columns: Vec<usize> = every.clone().collect();
                let each = columns.len().div_ceil(count);
                let part = |columns: &[usize]| grid(spec, &fates, columns[0]..columns[columns.len() - 1] + 1, &sign, 1);
                columns.chunks(each).map(part).collect()
            };
            let parted = (2..=every.len()).map(parts).find(|parts| parts.iter().all(fits));
            parted.unwrap_or_else(|| parts(every.len().max(1))).join("\n")
        }
    };
    text.push('\n');
    let legend = LEGEND.map(|(sign, meaning)| format!("{sign} {}", paint(QUIET, meaning)));
    text.push_str(&format!("{}\n{}\n", legend[..4].join("   "), legend[4..].join("   ")));
    text.push_str(&notes(spec, &fates));
    text
}

/// Some columns of the table.
fn grid(spec: &Spec, fates: &FateTable, columns: Range<usize>, cell: &dyn Fn(&FateCell) -> String, gap: u16) -> String {
    let mut heading = vec![format!("\n{}", spec.title())];
    // Long names break at their underscore, so that every column is as narrow as its cells.
    heading.extend(fates.columns[columns.clone()].iter().map(|name| match name.as_str() {
        "checkpoint" => "check-\npoint".to_owned(),
        name => name.replacen('_', "\n", 1),
    }));
    let mut rows = Vec::new();
    for span in Span::ALL.iter().copied() {
        let members: Vec<&FateRow> = fates.rows.iter().filter(|row| row.lasts == span).collect();
        if !members.is_empty() {
            rows.push(vec![format!("{GROUP}{span} {}", meaning_of(span))]);
        }
        for row in members {
            let mut name = format!("  {}", row.field);
            name.push_str(&paint(QUIET, row.keys()));
            let mut cells = vec![name];
            let shown = &row.cells[columns.clone()];
            cells.extend(shown.iter().map(|fate| paint(style_of(fate.fate), cell(fate))));
            rows.push(cells);
        }
    }
    grouped(&heading, rows, gap)
}

/// Marks a row of one cell as the heading of a group; it may be wider than the first column.
const GROUP: char = '\u{1}';

/// Lays out a table whose groups have headings of their own.
fn grouped(heading: &[String], rows: Vec<Vec<String>>, gap: u16) -> String {
    let mut groups: Vec<(usize, String)> = Vec::new();
    let mut plain = Vec::new();
    for row in rows {
        match row.first().and_then(|cell| cell.strip_prefix(GROUP)) {
            Some(title) => groups.push((plain.len(), title.to_owned())),
            None => plain.push(row),
        }
    }
    let text = wide_table(heading, plain, gap);
    let above = heading.iter().map(|cell| cell.lines().count()).max().unwrap_or(1) + 1;
    let mut out = String::new();
    for (index, line) in text.lines().enumerate() {
        if let Some((_, title)) = groups.iter().find(|(at, _)| at + above == index) {
            let (word, meaning) = title.split_once(' ').unwrap_or((title, ""));
            out.push_str(&format!("{} {}\n", paint(STRONG, word), paint(QUIET, meaning)));
        }
        out.push_str(line);
        out.push('\n');
    }
    out
}

/// Returns what the cells are too small for: the rules in full, and when the game saves.
fn notes(spec: &Spec, fates: &FateTable) -> String {
    let mut text = String::new();
    // What the columns of moments tell in full is not told again; that of quitting says nothing of its own.
    let told = |row: &FateRow| {
        let of_moments = row.cells.len().saturating_sub(2);
        row.cells[..of_moments].iter().filter(|cell| cell.tells_all()).count() == row.rules.len()
    };
    let ruled: Vec<&FateRow> =
        fates.rows.iter().filter(|row| !row.rules.is_empty() && !row.built_in && !told(row)).collect();
    let width = ruled.iter().map(|row| row.field.len()).max().unwrap_or(0).max(8);
    for row in ruled {
        let mut moments: Vec<(&str, Vec<&str>)> = Vec::new();
        for (moment, rule) in &row.rules {
            match moments.last_mut() {
                Some((last, rules)) if *last == moment.as_str() => rules.push(rule),
                _ => moments.push((moment, vec![rule])),
            }
        }
        let mut name = row.field.as_str();
        for (moment, rules) in moments {
            let rules = rules.join(&format!("{RULE:#}, else {RULE}"));
            text.push_str(&format!("{name:width$}  {} {}\n", paint(QUIET, moment), paint(RULE, rules)));
            name = "";
        }
    }
    if let Some(over) = spec.over_when() {
        text.push_str(&format!("{:width$}  {} {over}\n", "run over", paint(QUIET, "when")));
    }
    let saves = fates.saves.iter().map(String::as_str).chain(["quit", "reset"]).collect::<Vec<_>>().join(", ");
    text.push_str(&format!("{:width$}  {} {saves}", "saved", paint(QUIET, "at")));
    let at_writes: Vec<&str> = fates.rows.iter().filter(|row| row.saves).map(|row| row.field.as_str()).collect();
    if !at_writes.is_empty() {
        text.push_str(&format!("{} {}", paint(QUIET, ", and writes of"), at_writes.join(", ")));
    }
    if spec.made_levels().len() > 0 {
        text.push_str(&format!("\n{:width$}  {}", "", paint(QUIET, "and when a level is made, removed or imported")));
    }
    text.push('\n');
    let clocks = fates.rows.iter().filter_map(|row| Some((row, row.counts?)));
    let clocks: Vec<String> = clocks.map(|(row, counts)| clock(row, counts)).collect();
    if !clocks.is_empty() {
        text.push_str(&format!("{:width$}  {} {}\n", "counted", paint(QUIET, "in ms:"), clocks.join(", ")));
    }
    text.push_str(&merged(spec, fates, width));
    text
}

/// Returns what becomes of what two installations changed: the laws with their fields, as many in a line as fit.
fn merged(spec: &Spec, fates: &FateTable, width: usize) -> String {
    let mut parts = Vec::new();
    for law in MergeLaw::ALL {
        let has = |row: &&FateRow| row.merge == Some(FieldMerge::By(*law));
        let fields: Vec<&str> = fates.rows.iter().filter(has).map(|row| row.field.as_str()).collect();
        if !fields.is_empty() {
            parts.push(format!("{} {}", paint(RULE, law), fields.join(", ")));
        }
    }
    if let Some(run) = spec.merge_run() {
        parts.push(format!("{} {run}", paint(QUIET, "the run with the higher")));
    }
    let mut lines: Vec<String> = Vec::new();
    for part in parts {
        match lines.last_mut() {
            Some(line) if width + 3 + show::seen(line) + show::seen(&part) < show::width() => {
                line.push_str(&format!("{} {part}", paint(QUIET, ";")));
            }
            _ => lines.push(part),
        }
    }
    let names = std::iter::once("merged").chain(std::iter::repeat(""));
    names.zip(lines).map(|(name, line)| format!("{name:width$}  {line}\n")).collect()
}

/// A field that counts time, and where it does.
fn clock(row: &FateRow, counts: Counts) -> String {
    let place = match counts {
        Counts::Everywhere => "",
        Counts::InLevel => " in levels",
    };
    format!("{}{}", row.field, paint(QUIET, place))
}

fn as_markdown(fates: &FateTable) -> String {
    let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
    let mut heading = vec!["field".to_owned(), "lasts".to_owned()];
    heading.extend(fates.columns.iter().cloned());
    let merges = has_merges(fates);
    heading.extend(merges.then(|| "merged".to_owned()));
    let mut text = line(heading.clone());
    text.push_str(&line(vec!["---".to_owned(); heading.len()]));
    for row in &fates.rows {
        let mut cells = vec![name_of(row), row.lasts.to_string()];
        cells.extend(row.cells.iter().map(FateCell::brief));
        cells.extend(merges.then(|| merge_words(row).to_owned()));
        text.push_str(&line(cells.iter().map(|cell| cell.replace('|', "\\|")).collect()));
    }
    let legend = LEGEND.map(|(sign, meaning)| format!("{sign} {meaning}"));
    text.push_str(&format!("\n{}\n", legend.join(" · ")));
    text
}

/// Returns whether the spec says what becomes of what two installations changed.
fn has_merges(fates: &FateTable) -> bool {
    fates.rows.iter().any(|row| row.merge.is_some())
}

fn merge_words(row: &FateRow) -> &'static str {
    row.merge.map_or("", FieldMerge::words)
}

fn name_of(row: &FateRow) -> String {
    format!("{}{}", row.field, row.keys())
}

fn as_json(spec: &Spec) -> Json {
    let fates = FateTable::of(spec);
    let fields = fates.rows.iter().map(|row| {
        let cells = fates.columns.iter().zip(&row.cells).map(|(moment, cell)| {
            let value = json!({
                "fate": cell.word(), "sign": cell.sign(), "operand": cell.operand, "guarded": cell.guarded,
            });
            (moment.clone(), value)
        });
        json!({
            "field": row.field,
            "type": row.ty,
            "per": row.axes,
            "lasts": row.lasts.word(),
            "written_by": row.written_by,
            "built_in": row.built_in,
            "save": row.saves,
            "counts": row.counts.map(|counts| match counts {
                Counts::Everywhere => "everywhere",
                Counts::InLevel => "level",
            }),
            "fates": Json::Object(cells.collect()),
            "merge": row.merge.map(FieldMerge::words),
            "rules": row.rules.iter().map(|(moment, rule)| json!({ "moment": moment, "rule": rule })).collect::<Vec<_>>(),
        })
    });
    json!({
        "game": spec.id(),
        "moments": fates.columns,
        "saves": fates.saves,
        "fields": fields.collect::<Vec<_>>(),
    })
}
