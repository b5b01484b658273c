//! The history file.
//!
//! A line for each shape, sorted by version and digest, and no line that is changed by the next one: the comma stands in front. So
//! version control merges what two branches froze by keeping the lines of both. Each shape has a digest: players' saves are read by
//! it, so it is never edited, and an edit is found. Files of format 1, with several lines for a shape, are read as well.

use std::fmt::Write;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::history::shape::Shape;
use crate::history::{Frozen, History};

/// The format of the file that this crate writes, and the newest it reads.
const FORMAT: i64 = 2;

/// Stands before the first shape, for who merges two branches by hand.
const NOTE: &str = "one line for each shape that shipped; where branches meet, keep the lines of both";

#[derive(Deserialize)]
struct Head {
    format: i64,
}

/// Format 1: a shape for each version, over several lines.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct OneForEach<'a> {
    #[serde(rename = "format")]
    _format: i64,
    game: String,
    #[serde(borrow)]
    versions: Vec<&'a RawValue>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Whole<'a> {
    #[serde(rename = "format")]
    _format: i64,
    game: String,
    #[serde(borrow)]
    shapes: Vec<&'a RawValue>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Digested<'a> {
    digest: String,
    #[serde(borrow)]
    shape: &'a RawValue,
}

pub(crate) fn read(text: &str) -> Result<History, Diagnostic> {
    conflicts(text)?;
    let head: Head = serde_json::from_str(text).map_err(|error| unreadable(text, 0, &error))?;
    if head.format > FORMAT {
        let message = format!("this history has format {}, and this tool knows formats up to {FORMAT}", head.format);
        return Err(wrong(line_of(text, 0), message).help("update the tool; a newer one wrote this file"));
    }
    let whole = |error: serde_json::Error| unreadable(text, 0, &error);
    let (game, entries) = if head.format == 1 {
        let OneForEach { game, versions, .. } = serde_json::from_str(text).map_err(whole)?;
        (game, versions)
    } else {
        let Whole { game, shapes, .. } = serde_json::from_str(text).map_err(whole)?;
        (game, shapes.into_iter().filter(|raw| !raw.get().starts_with('"')).collect())
    };
    let mut frozen: Vec<(Arc<Frozen>, SourceSpan)> = Vec::new();
    for raw in entries {
        let start = offset(text, raw.get());
        let entry: Digested<'_> = serde_json::from_str(raw.get()).map_err(|error| unreadable(text, start, &error))?;
        let start = offset(text, entry.shape.get());
        let mut shape: Shape =
            serde_json::from_str(entry.shape.get()).map_err(|error| unreadable(text, start, &error))?;
        let span = version_of(text, start);
        if shape.digest() != entry.digest {
            let message = format!("the shape of version {} was changed after it was frozen", shape.version);
            let help = "players have saves of that shape: put the file back as it was in version control, and change the spec instead";
            return Err(wrong(span, message).help(help));
        }
        let model = shape
            .model(&game)
            .map_err(|why| wrong(span, format!("the shape of version {} is not sound: {why}", shape.version)))?;
        if head.format == 1
            && shape.migration.is_some()
            && let Some((before, _)) = frozen.last()
        {
            shape.from = vec![before.model.shape.to_string()];
        }
        frozen.push((Arc::new(Frozen { shape, model: Arc::new(model) }), span));
    }
    frozen.sort_by_key(|(frozen, _)| frozen.shape.version);
    for pair in frozen.windows(2) {
        let [(before, _), (after, span)] = pair else { continue };
        let (before, after) = (before.shape.version, after.shape.version);
        if after > before + 1 {
            let message = format!("version {after} stands after version {before}");
            return Err(wrong(*span, message).help("versions are frozen one after the other, and none is left out"));
        }
    }
    Ok(History::new(game, frozen.into_iter().map(|(frozen, _)| frozen).collect()))
}

/// Finds what version control leaves where it could not merge.
fn conflicts(text: &str) -> Result<(), Diagnostic> {
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let at = start;
        start += line.len();
        if ["<<<<<<< ", ">>>>>>> ", "||||||| "].iter().any(|mark| line.starts_with(mark)) {
            let message = "version control has left a conflict here: two branches froze a shape";
            let help = if text.contains("\n    }") {
                "take one side as it is, without the lines that begin with `<<<<<<<`, `=======` and `>>>>>>>`; then `freeze` the spec of the other branch again"
            } else {
                "keep the lines of both sides, take out those that begin with `<<<<<<<`, `|||||||`, `=======` and `>>>>>>>`, and `check` says what is left to do"
            };
            return Err(wrong(line_of(text, at), message).help(help));
        }
    }
    Ok(())
}

fn wrong(span: SourceSpan, message: impl Into<String>) -> Diagnostic {
    Diagnostic::error(codes::HISTORY, span, message)
}

/// Returns what serde says, at its place: `start` is where the piece that it read begins.
fn unreadable(text: &str, start: usize, error: &serde_json::Error) -> Diagnostic {
    let piece = &text[start..];
    let before: usize = piece.split_inclusive('\n').take(error.line().saturating_sub(1)).map(str::len).sum();
    let mut at = start + (before + error.column().saturating_sub(1)).min(piece.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let message = error.to_string();
    let message = message.split(" at line ").next().unwrap_or_default();
    wrong(SourceSpan { start: at, end: at }, format!("this is not a history: {message}"))
        .help("`freeze` writes this file; put it back as it was in version control")
}

/// Returns where a piece of the text begins.
fn offset(text: &str, piece: &str) -> usize {
    (piece.as_ptr() as usize).saturating_sub(text.as_ptr() as usize).min(text.len())
}

/// The line in which `at` stands.
fn line_of(text: &str, at: usize) -> SourceSpan {
    let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
    SourceSpan { start: at, end }
}

/// Finds where an object says its version: the whole of it is one long line.
fn version_of(text: &str, start: usize) -> SourceSpan {
    const SAID: &str = "\"version\"";
    let Some(at) = text[start..].find(SAID).map(|at| start + at) else { return line_of(text, start) };
    let end = text[at..].find([',', '\n']).map_or(text.len(), |end| at + end);
    SourceSpan { start: at, end }
}

pub(crate) fn write(history: &History) -> String {
    let mut out = String::new();
    let _ = write!(out, "{{\n  \"format\": {FORMAT},\n  \"game\": {},\n  \"shapes\": [\n    ", json(&history.game));
    out.push_str(&json(NOTE));
    for frozen in &history.frozen {
        let shape = &frozen.shape;
        let _ = write!(out, "\n   ,{{\"digest\":{},\"shape\":{}}}", json(&shape.digest()), json(shape));
    }
    out.push_str("\n  ]\n}\n");
    out
}

fn json<T: Serialize + ?Sized>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default()
}
