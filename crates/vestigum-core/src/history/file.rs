//! The history file.
//!
//! A line for each level, key set, struct and field, so that a difference of two commits reads like a list of changes.
//! Each shape has a digest: players' saves are read by it, so it is never edited, and an edit is found.

use std::fmt::Write;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::history::shape::Shape;
use crate::history::{Frozen, History};

/// The format of the file that this crate writes, and the newest it reads.
const FORMAT: i64 = 1;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Whole<'a> {
    format: i64,
    game: String,
    #[serde(borrow)]
    versions: Vec<&'a RawValue>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Digested<'a> {
    digest: String,
    #[serde(borrow)]
    shape: &'a RawValue,
}

pub fn read(text: &str) -> Result<History, Diagnostic> {
    let whole: Whole<'_> = serde_json::from_str(text).map_err(|error| unreadable(text, 0, &error))?;
    if whole.format > FORMAT {
        let message = format!("this history has format {}, and this tool knows formats up to {FORMAT}", whole.format);
        return Err(wrong(line_of(text, 0), message).help("update the tool; a newer one wrote this file"));
    }
    let mut frozen: Vec<Arc<Frozen>> = Vec::new();
    for raw in whole.versions {
        let start = offset(text, raw.get());
        let entry: Digested<'_> = serde_json::from_str(raw.get()).map_err(|error| unreadable(text, start, &error))?;
        let start = offset(text, entry.shape.get());
        let shape: Shape = serde_json::from_str(entry.shape.get()).map_err(|error| unreadable(text, start, &error))?;
        let span = first_line(text, start);
        if shape.digest() != entry.digest {
            let message = format!("the shape of version {} was changed after it was frozen", shape.version);
            let help = "players have saves of that shape: put the file back as it was in version control, and change the spec instead";
            return Err(wrong(span, message).help(help));
        }
        if let Some(before) = frozen.last()
            && shape.version != before.shape.version + 1
        {
            let message = format!("version {} stands after version {}", shape.version, before.shape.version);
            return Err(wrong(span, message).help("versions are frozen one after the other, and none is left out"));
        }
        let model = shape
            .model(&whole.game)
            .map_err(|why| wrong(span, format!("the shape of version {} is not sound: {why}", shape.version)))?;
        frozen.push(Arc::new(Frozen { shape, model: Arc::new(model) }));
    }
    Ok(History { game: whole.game, frozen })
}

fn wrong(span: SourceSpan, message: impl Into<String>) -> Diagnostic {
    Diagnostic::error(codes::HISTORY, span, message)
}

/// What serde says, at its place: `start` is where the piece that it read begins.
fn unreadable(text: &str, start: usize, error: &serde_json::Error) -> Diagnostic {
    let piece = &text[start..];
    let before: usize = piece.split_inclusive('\n').take(error.line().saturating_sub(1)).map(str::len).sum();
    let mut at = start + (before + error.column().saturating_sub(1)).min(piece.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let message = error.to_string();
    let message = message.split(" at line ").next().unwrap_or_default();
    wrong(SourceSpan { start: at, end: at }, format!("this is no history: {message}"))
        .help("`freeze` writes this file; put it back as it was in version control")
}

/// Where a piece of the text begins.
fn offset(text: &str, piece: &str) -> usize {
    (piece.as_ptr() as usize).saturating_sub(text.as_ptr() as usize).min(text.len())
}

/// The line in which `at` stands.
fn line_of(text: &str, at: usize) -> SourceSpan {
    let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
    SourceSpan { start: at, end }
}

/// The first line of an object that says something.
fn first_line(text: &str, start: usize) -> SourceSpan {
    let said = text[start..].find('"').map_or(start, |at| start + at);
    line_of(text, said)
}

pub fn write(history: &History) -> String {
    let mut out = String::new();
    let _ = write!(out, "{{\n  \"format\": {FORMAT},\n  \"game\": {},\n  \"versions\": [", json(&history.game));
    for (index, frozen) in history.frozen.iter().enumerate() {
        let shape = &frozen.shape;
        let comma = if index == 0 { "" } else { "," };
        let _ = write!(out, "{comma}\n    {{\n      \"digest\": {},\n      \"shape\": {{", json(&shape.digest()));
        // Every part by its name: one that was left out would make a file that cannot be read any more.
        let Shape { version, migration, levels_last, resume, accept, levels, made, keys, structs, fields } = shape;
        let _ = write!(out, "\n        \"version\": {version},");
        if let Some(steps) = migration {
            list(&mut out, "migration", steps, ",");
        }
        for (name, word) in [("levels_last", levels_last), ("resume", resume), ("accept", accept)] {
            let _ = write!(out, "\n        \"{name}\": {},", json(word));
        }
        list(&mut out, "levels", levels, ",");
        if let Some(made) = made {
            let _ = write!(out, "\n        \"made\": {made},");
        }
        list(&mut out, "keys", keys, ",");
        list(&mut out, "structs", structs, ",");
        list(&mut out, "fields", fields, "");
        out.push_str("\n      }\n    }");
    }
    out.push_str("\n  ]\n}\n");
    out
}

/// A line for each item.
fn list<T: Serialize>(out: &mut String, name: &str, items: &[T], comma: &str) {
    let _ = write!(out, "\n        \"{name}\": [");
    for (index, item) in items.iter().enumerate() {
        let comma = if index == 0 { "" } else { "," };
        let _ = write!(out, "{comma}\n          {}", json(item));
    }
    let end = if items.is_empty() { "" } else { "\n        " };
    let _ = write!(out, "{end}]{comma}");
}

fn json<T: Serialize + ?Sized>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default()
}
