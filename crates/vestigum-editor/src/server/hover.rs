//! What is known of the word under the cursor.

use std::path::Path;

use vestigum_core::{Moment, Spec};
use vestigum_spec::codes;
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_spec::vocabulary::keyword::Keyword;
use vestigum_verify::fate_table::{FateTable, meaning_of};
use vestigum_verify::fate_words::FateWords;

use super::navigate::{Found, found};
use super::words;
use super::workspace::{Project, Role};
use crate::keys::{SpecKey, table};
use crate::mentions::{Kind, names};
use crate::spec_view::{At, SpecView, at};
use crate::toml_view::{Piece, pieces};

/// Returns what to say, as Markdown, and about which part of the text.
pub(crate) fn hover(
    project: &Project,
    spec: Option<&Spec>,
    view: &SpecView,
    path: &Path,
    offset: usize,
) -> Option<(String, SourceSpan)> {
    if let Some(found) = found(project, view, path, offset)
        && let Some(told) = of_name(spec, view, &found)
    {
        return Some((told, found.span));
    }
    let text = &project.text(path)?.text;
    let (word, span) = word_at(text, offset)?;
    // The built-in fields are named nowhere.
    if let Some(told) = spec.and_then(|spec| field(spec, word)) {
        return Some((told, span));
    }
    let told = match Role::of(path)? {
        Role::Play => match (Moment::from_word(word), Keyword::from_word(word)) {
            (Some(moment), _) => words::moment(moment).to_owned(),
            (None, Some(keyword)) => words::keyword(keyword).to_owned(),
            (None, None) => return None,
        },
        Role::Spec => of_key(text, offset)
            .or_else(|| code(word))
            .or_else(|| Moment::from_word(word).map(|moment| words::moment(moment).to_owned()))?,
    };
    Some((told, span))
}

fn word_at(text: &str, offset: usize) -> Option<(&str, SourceSpan)> {
    let line_start = text[..offset.min(text.len())].rfind('\n').map_or(0, |at| at + 1);
    let line = text[line_start..].lines().next()?;
    let (word, at) = names(line).find(|(word, at)| {
        let begin = line_start + at;
        begin <= offset && offset <= begin + word.len()
    })?;
    let begin = line_start + at;
    Some((word, SourceSpan::new(begin, begin + word.len())))
}

fn of_name(spec: Option<&Spec>, view: &SpecView, found: &Found) -> Option<String> {
    let spec = spec?;
    match found.kind {
        Kind::Field => field(spec, &found.name),
        Kind::Derived => {
            let derived = spec.derived_values().find(|derived| derived.name() == found.name)?;
            Some(format!(
                "**{}** {}, computed when it is read\n\n```\n{}\n```",
                found.name,
                derived.ty(),
                derived.source()
            ))
        }
        Kind::Level => level(spec, &found.name),
        Kind::Checkpoint => {
            let levels: Vec<&str> = view
                .checkpoints
                .iter()
                .filter(|(_, checkpoints)| checkpoints.contains(&found.name))
                .map(|(level, _)| level.as_str())
                .collect();
            Some(format!("**{}** a checkpoint of {}", found.name, levels.join(", ")))
        }
        kind @ (Kind::Exit | Kind::Table | Kind::KeySet | Kind::Key | Kind::Moment | Kind::Struct | Kind::Code) => {
            Some(format!("**{}** {} {}", found.name, kind.article(), kind.word()))
        }
    }
}

/// A field's fates in words: what something speaks of first, what stays in one line.
fn field(spec: &Spec, name: &str) -> Option<String> {
    let words = FateWords::of(spec, name).ok()?;
    let row = FateTable::of(spec).rows.into_iter().find(|row| row.field == name)?;
    let mut told = format!("**{}**{} {}, lasts {}\n", row.field, row.keys(), row.ty, meaning_of(row.lasts));
    let (silent, spoken): (Vec<&FateWords>, Vec<&FateWords>) = words.iter().partition(|words| words.is_silent());
    for words in spoken {
        told.push_str(&format!("\n- {} **{}** {}", words.cell.sign(), words.moment, words.what));
    }
    if !silent.is_empty() {
        let moments: Vec<&str> = silent.iter().map(|words| words.moment.as_str()).collect();
        told.push_str(&format!("\n- ● stays at {}", moments.join(", ")));
    }
    if let Some(merge) = row.merge {
        told.push_str(&format!("\n\nmerged: {}", merge.words()));
    }
    Some(told)
}

fn level(spec: &Spec, id: &str) -> Option<String> {
    let index = spec.model().shipped_levels().iter().position(|level| level.id() == id)?;
    let level = &spec.model().shipped_levels()[index];
    let mut told = format!("**{}** {}\n", level.id(), level.title());
    let fresh = vestigum_core::Progress::fresh(spec);
    match fresh.full_lock_reason(id).ok()? {
        None => told.push_str("\n- open from the beginning"),
        Some(lock) => told.push_str(&format!("\n- a newcomer needs: {lock}")),
    }
    if let Some(hidden) = spec.model().hidden[index].as_ref() {
        told.push_str(&format!("\n- hidden while `{}`", hidden.source()));
    }
    let checkpoints: Vec<&str> = level.checkpoints().collect();
    if !checkpoints.is_empty() {
        told.push_str(&format!("\n- checkpoints: {}", checkpoints.join(", ")));
    }
    let exits: Vec<&str> = level.exits().collect();
    if !exits.is_empty() {
        told.push_str(&format!("\n- exits: {}", exits.join(", ")));
    }
    Some(told)
}

/// Returns what a key or a table of a spec means.
fn of_key(text: &str, offset: usize) -> Option<String> {
    let within = |span: SourceSpan| span.start <= offset && offset <= span.end;
    for piece in pieces(text) {
        let path = match piece {
            Piece::Header { path, .. } | Piece::Key { path, .. } => path,
            Piece::Text { .. } => continue,
        };
        let Some(index) = path.iter().position(|segment| within(segment.span)) else { continue };
        let names: Vec<&str> = path[..=index].iter().map(|segment| segment.name.as_str()).collect();
        if let [only] = names[..] {
            let table = table(only)?;
            return Some(format!("{}\n\n```toml\n{}\n```", table.about, table.example));
        }
        return key_at(&names).map(|key| key.about.to_owned());
    }
    None
}

/// The key at a path.
fn key_at(path: &[&str]) -> Option<&'static SpecKey> {
    let (last, before) = path.split_last()?;
    let keys = match at(before)? {
        At::Keys(keys) => keys,
        At::Holds(holds) => holds.keys()?,
        At::Free => return None,
    };
    keys.iter().find(|key| key.name == *last)
}

fn code(word: &str) -> Option<String> {
    let entry = codes::explain(word)?;
    Some(format!("**{}** {}\n\n{}", entry.code, entry.title, entry.text))
}
