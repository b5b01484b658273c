//! How results look: colours, tables, errors.

use std::cell::RefCell;
use std::io::Write;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Color, Style};
use clap::ValueEnum;
use comfy_table::{CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};
use serde_json::{Value as Json, json};
use vestigum::tools::{is_unseen, shown};
use vestigum_report::Unusable;

use vestigum::{BoardRow, Diagnostics, LockReason, Severity, Value};

use crate::Verdict;
use crate::fold::folded;

/// When to colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ColorWhen {
    /// On a terminal, unless `NO_COLOR` is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// Green: kept.
pub(crate) const GOOD: Style = fg(AnsiColor::Green);
/// Red: lost.
pub(crate) const BAD: Style = fg(AnsiColor::Red);
/// Yellow: set back.
pub(crate) const BACK: Style = fg(AnsiColor::Yellow);
/// Cyan: changed by a rule.
pub(crate) const RULE: Style = fg(AnsiColor::Cyan);
/// Bold.
pub(crate) const STRONG: Style = Style::new().bold();
/// Quiet.
pub(crate) const QUIET: Style = Style::new().dimmed();

const fn fg(color: AnsiColor) -> Style {
    Style::new().fg_color(Some(Color::Ansi(color)))
}

/// `text` in a style.
pub(crate) fn paint(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// The text without anything that a terminal would obey: what comes from specs, scripts, saves and file names may have
/// control characters. Colours are what this program writes itself, so the plain sequences for them stay; every other
/// control character is shown as an escape.
pub(crate) fn harmless(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(|c: char| is_unseen(c) && c != '\n') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        let colour = rest.strip_prefix("\u{1b}[").and_then(|sequence| {
            let end = sequence.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            sequence[end..].starts_with('m').then_some("\u{1b}[".len() + end + 1)
        });
        let len = match colour {
            Some(len) => {
                out.push_str(&rest[..len]);
                len
            }
            None => {
                let control = rest.chars().next().unwrap_or_default();
                out.extend(control.escape_default());
                control.len_utf8()
            }
        };
        rest = &rest[len..];
    }
    out + rest
}

/// A name that a save or a player gave, as one line of text.
pub(crate) fn plain(name: &str) -> String {
    shown(name).into_owned()
}

/// Describes where a command prints.
pub(crate) struct Output {
    /// Whether machines read it.
    pub json: bool,
    choice: ColorChoice,
    /// Collects what was unusable so far, for the reports of build servers.
    unusable: RefCell<Vec<Unusable>>,
}

impl Output {
    pub(crate) fn new(json: bool, when: ColorWhen) -> Output {
        let choice = match when {
            ColorWhen::Auto => ColorChoice::Auto,
            ColorWhen::Always => ColorChoice::Always,
            ColorWhen::Never => ColorChoice::Never,
        };
        Output { json, choice, unusable: RefCell::default() }
    }

    /// Prints for people, in lines that fit the terminal.
    pub(crate) fn line(&self, text: impl std::fmt::Display) {
        self.document(fitting(harmless(&text.to_string())));
    }

    /// Prints a document, line by line as it is.
    pub(crate) fn document(&self, text: impl std::fmt::Display) {
        // A reader that went away, as `head` does, is no error worth a message.
        let _ = writeln!(AutoStream::new(std::io::stdout(), self.choice), "{}", harmless(&text.to_string()));
    }

    pub(crate) fn error_line(&self, text: impl std::fmt::Display) {
        let text = fitting(harmless(&text.to_string()));
        let _ = writeln!(AutoStream::new(std::io::stderr(), self.choice), "{text}");
    }

    /// Prints for machines.
    #[allow(clippy::unused_self, reason = "what is printed goes through the output")]
    pub(crate) fn json(&self, value: &Json) {
        let text = serde_json::to_string_pretty(value).unwrap_or_default();
        let _ = writeln!(std::io::stdout(), "{text}");
    }

    /// Returns everything that was unusable so far.
    pub(crate) fn all_unusable(&self) -> Vec<Unusable> {
        self.unusable.borrow().clone()
    }

    /// Says that the input cannot be used.
    pub(crate) fn unusable(&self, message: &str) -> Verdict {
        self.unusable.borrow_mut().push(Unusable { name: message.to_owned(), why: message.to_owned() });
        if self.json {
            self.json(&json!({ "error": message }));
        } else {
            self.error_line(format_args!("{}: {message}", paint(BAD.bold(), "error")));
        }
        Verdict::Unusable
    }

    /// Shows what is wrong with a document that another command needs.
    pub(crate) fn unreadable(&self, diagnostics: &Diagnostics) -> Verdict {
        let why = vestigum_verify::render(diagnostics, false);
        self.unusable.borrow_mut().push(Unusable { name: diagnostics.name().to_owned(), why });
        if self.json {
            self.json(&json!({ "error": "the document has errors", "findings": findings(diagnostics) }));
        } else {
            self.error_line(vestigum_verify::render(diagnostics, true));
            self.error_line("");
            self.error_line(summary(diagnostics));
        }
        Verdict::Unusable
    }
}

/// The findings of a document for machines.
pub(crate) fn findings(diagnostics: &Diagnostics) -> Json {
    let list = diagnostics.list().iter().map(|finding| {
        let (line, column) = diagnostics.position(finding);
        json!({
            "severity": match finding.severity { Severity::Error => "error", Severity::Warning => "warning" },
            "code": finding.code,
            "message": finding.message,
            "file": diagnostics.name(),
            "line": line,
            "column": column,
            "help": finding.help,
        })
    });
    Json::Array(list.collect())
}

/// "fellpost.toml: 3 errors, 1 warning", and where to read more.
pub(crate) fn summary(diagnostics: &Diagnostics) -> String {
    let mut counts = Vec::new();
    if diagnostics.errors() > 0 {
        counts.push(paint(BAD, counted(diagnostics.errors(), "error")));
    }
    if diagnostics.warnings() > 0 {
        counts.push(paint(BACK, counted(diagnostics.warnings(), "warning")));
    }
    let mut codes: Vec<&str> = diagnostics.list().iter().map(|finding| finding.code).collect();
    codes.sort_unstable();
    codes.dedup();
    let first = codes.first().copied().unwrap_or_default();
    format!("{}: {}; `vestigum check --explain {first}` tells more", diagnostics.name(), counts.join(", "))
}

/// "1,234,567".
pub(crate) fn grouped(count: usize) -> String {
    let digits = count.to_string();
    let groups: Vec<&str> = digits.as_bytes().rchunks(3).rev().filter_map(|group| str::from_utf8(group).ok()).collect();
    groups.join(",")
}

/// "1 error", "2 errors".
pub(crate) fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

/// A table without borders: a rule under the heading, at least `gap` spaces (1 or more) between the columns.
pub(crate) fn table(heading: &[String], rows: Vec<Vec<String>>, gap: u16) -> String {
    table_with_numbers(heading, rows, gap, &[])
}

/// Prints a table with some columns aligned to the right.
pub(crate) fn table_with_numbers(heading: &[String], rows: Vec<Vec<String>>, gap: u16, numbers: &[usize]) -> String {
    let mut table = laid_out(heading, rows, gap, numbers);
    // A table that is too wide has its longest cells in several lines.
    if let Some(columns) = columns().filter(|columns| table.lines().any(|line| seen(line.trim_end()) > *columns)) {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(columns).unwrap_or(u16::MAX));
    }
    text_of(&table)
}

/// A table as wide as it comes, whatever the terminal is.
pub(crate) fn wide_table(heading: &[String], rows: Vec<Vec<String>>, gap: u16) -> String {
    text_of(&laid_out(heading, rows, gap, &[]))
}

fn laid_out(heading: &[String], rows: Vec<Vec<String>>, gap: u16, numbers: &[usize]) -> Table {
    let mut table = Table::new();
    table.load_style(TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─')));
    table.set_header(heading);
    table.add_rows(rows);
    let last = heading.len().saturating_sub(1);
    for (index, column) in table.column_iter_mut().enumerate() {
        // The table itself puts one space between columns.
        column.set_padding((0, if index == last { 0 } else { gap - 1 }));
        if numbers.contains(&index) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}

fn text_of(table: &Table) -> String {
    table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
}

/// Returns how many columns there are, if lines have to fit: those of the terminal, or what `COLUMNS` says where there is none.
fn columns() -> Option<usize> {
    let said = || std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    terminal.or_else(said).map(|columns: usize| columns.max(40))
}

/// Returns how many columns a picture of characters may take.
pub(crate) fn width() -> usize {
    columns().unwrap_or(127)
}

fn fitting(text: String) -> String {
    match columns() {
        Some(columns) => folded(&text, columns),
        None => text,
    }
}

/// Returns how many characters of a line are seen.
pub(crate) fn seen(line: &str) -> usize {
    anstream::adapter::strip_str(line).map(|piece| piece.chars().count()).sum()
}

/// A value as JSON.
pub(crate) fn as_json(value: &Value) -> Json {
    serde_json::to_value(value).unwrap_or_default()
}

/// A value for a table: of a container how much is in it.
pub(crate) fn in_short(value: &Value) -> String {
    if value.is_container() { value.brief() } else { value.to_string() }
}

/// A level of the board for machines, without its values.
pub(crate) fn board_row(row: &BoardRow) -> Json {
    json!({
        "level": &*row.level, "title": row.title, "open": row.open, "hidden": row.hidden, "completed": row.completed,
        "why_locked": row.lock.as_ref().map(ToString::to_string), "lock": row.lock.as_ref().map(lock),
    })
}

/// The reason of a lock: each part has a member `is`, which says what it is.
fn lock(reason: &LockReason) -> Json {
    let parts = |locks: &[LockReason]| locks.iter().map(lock).collect::<Vec<_>>();
    match reason {
        LockReason::All(locks) => json!({ "is": "all", "of": parts(locks) }),
        LockReason::Any(locks) => json!({ "is": "any", "of": parts(locks) }),
        LockReason::Complete { level, title } => json!({ "is": "complete", "level": &**level, "title": title }),
        LockReason::Exit { level, title, exit } => {
            json!({ "is": "exit", "level": &**level, "title": title, "exit": &**exit })
        }
        LockReason::Needs { what, label, by, needed, has } => json!({
            "is": "needs", "what": what, "label": &**label, "by": by.sign(), "needed": as_json(needed), "has": as_json(has),
        }),
        LockReason::Condition { text, values } => {
            let values = values.iter().map(|(name, value)| (name.clone(), as_json(value)));
            json!({ "is": "condition", "text": text, "values": Json::Object(values.collect()) })
        }
        LockReason::Hidden => json!({ "is": "hidden" }),
        LockReason::NotMade => json!({ "is": "not made" }),
        LockReason::Soon => json!({ "is": "soon" }),
    }
}

/// `text` in lines of at most `width` characters.
pub(crate) fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.is_empty() => line.push_str(word),
            Some(line) if line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_a_terminal_obeys_comes_through() {
        let said = harmless("a\u{1b}]0;title\u{7}b\u{1b}[2Jc\u{9b}31md\re\tf\nEnd\u{1b}[");
        assert_eq!(said, "a\\u{1b}]0;title\\u{7}b\\u{1b}[2Jc\\u{9b}31md\\re\\tf\nEnd\\u{1b}[");
        assert_eq!(harmless(&paint(BAD.bold(), "red")), paint(BAD.bold(), "red"));
    }
}
