//! From a name to where it is given, to where it is used, and to another name.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use lsp_types::{DocumentSymbol, Location, Range, SymbolKind, TextEdit, Uri, WorkspaceEdit};
use vestigum_core::Diagnostics;
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_verify::imported_file;
use vestigum_verify::playthrough::{MemorySaves, Playthrough, Script, run};

use super::workspace::{Project, Role, Workspace, uri_of, without_history};
use crate::lines::Lines;
use crate::mentions::{Kind, Mention};
use crate::play_view::PlayView;
use crate::spec_view::SpecView;

/// Describes what a name in a document is the name of.
pub(crate) struct Found {
    pub kind: Kind,
    pub name: String,
    pub span: SourceSpan,
}

/// The name at a place, and of what it is.
pub(crate) fn found(project: &Project, view: &SpecView, path: &Path, offset: usize) -> Option<Found> {
    let mentions = mentions(project, view, path)?;
    let at = |mention: &&Mention| mention.span.start <= offset && offset <= mention.span.end;
    let mention = mentions.iter().find(at)?;
    let kind = view.kind(mention)?;
    Some(Found { kind, name: mention.name.clone(), span: mention.span })
}

fn mentions(project: &Project, view: &SpecView, path: &Path) -> Option<Vec<Mention>> {
    match Role::of(path)? {
        Role::Spec => Some(view.mentions.clone()),
        Role::Play => Some(PlayView::new(&project.text(path)?.text).mentions),
    }
}

/// Returns where a name is given.
pub(crate) fn definition(workspace: &Workspace, project: &Project, view: &SpecView, found: &Found) -> Vec<Location> {
    let spans = view.declared.get(&(found.kind, found.name.clone())).cloned().unwrap_or_default();
    spans.into_iter().filter_map(|span| location(workspace, &project.spec, &project.spec_text, span)).collect()
}

fn location(workspace: &Workspace, path: &Path, lines: &Lines, span: SourceSpan) -> Option<Location> {
    Some(Location::new(uri_of(path)?, lines.range(span, workspace.units)))
}

/// Every place of a name, in the spec and in its playthroughs.
fn places(project: &Project, view: &SpecView, found: &Found) -> Vec<(PathBuf, SourceSpan)> {
    let means = |mention: &&Mention| mention.name == found.name && view.kind(mention) == Some(found.kind);
    let mut places: Vec<(PathBuf, SourceSpan)> =
        view.mentions.iter().filter(means).map(|mention| (project.spec.clone(), mention.span)).collect();
    for (path, lines) in &project.plays {
        let mentions = PlayView::new(&lines.text).mentions;
        places.extend(mentions.iter().filter(means).map(|mention| (path.clone(), mention.span)));
    }
    places
}

/// Every place of a name.
pub(crate) fn references(
    workspace: &Workspace,
    project: &Project,
    view: &SpecView,
    found: &Found,
    with_declaration: bool,
) -> Vec<Location> {
    let declared = view.declared.get(&(found.kind, found.name.clone()));
    let is_declared = |path: &Path, span: &SourceSpan| {
        path == project.spec && declared.is_some_and(|declared| declared.contains(span))
    };
    places(project, view, found)
        .into_iter()
        .filter(|(path, span)| with_declaration || !is_declared(path, span))
        .filter_map(|(path, span)| location(workspace, &path, project.text(&path)?, span))
        .collect()
}

/// Returns whether a thing can be renamed here. Checkpoints, keys and exits of several levels may share a name, so they cannot.
pub(crate) fn can_rename(kind: Kind) -> bool {
    match kind {
        Kind::Field
        | Kind::Derived
        | Kind::Level
        | Kind::Table
        | Kind::Struct
        | Kind::Code
        | Kind::Moment
        | Kind::KeySet => true,
        Kind::Checkpoint | Kind::Exit | Kind::Key => false,
    }
}

/// Gives a thing another name, in the spec and all its playthroughs.
///
/// # Errors
/// Refused, with the reason: the name is malformed or taken, or a document could not be read afterwards.
pub(crate) fn rename(
    workspace: &Workspace,
    project: &Project,
    view: &SpecView,
    found: &Found,
    to: &str,
) -> Result<WorkspaceEdit, String> {
    if !can_rename(found.kind) {
        return Err(format!(
            "{} {} cannot be renamed here, as several may have its name",
            found.kind.article(),
            found.kind.word()
        ));
    }
    let first = to.chars().next().is_some_and(|c| c.is_alphabetic() || c == '_');
    if !first || !to.chars().all(|c| c.is_alphanumeric() || c == '_') {
        return Err(format!(
            "`{}` is not a name: expected letters, digits and underscores, and no digit first",
            to.escape_debug()
        ));
    }
    if view.declared.contains_key(&(found.kind, to.to_owned())) {
        return Err(format!("there is a {} `{to}` already", found.kind.word()));
    }
    let mut by_file: HashMap<PathBuf, Vec<SourceSpan>> = HashMap::new();
    for (path, span) in places(project, view, found) {
        by_file.entry(path).or_default().push(span);
    }
    still_understood(project, &by_file, to)?;
    #[allow(
        clippy::mutable_key_type,
        reason = "the addresses of lsp-types can change inside, and nothing changes them"
    )]
    let mut changes: HashMap<Uri, Vec<TextEdit>> = HashMap::new();
    for (path, spans) in by_file {
        let (Some(uri), Some(lines)) = (uri_of(&path), project.text(&path)) else { continue };
        let edits = spans.into_iter().map(|span| TextEdit::new(lines.range(span, workspace.units), to.to_owned()));
        changes.insert(uri, edits.collect());
    }
    Ok(WorkspaceEdit { changes: Some(changes), ..WorkspaceEdit::default() })
}

/// A rename runs playthroughs of at most this many statements.
const MOST_STATEMENTS: u64 = 20_000;

/// Tries the new name: the spec and every playthrough can be read then, and what passes now passes then.
fn still_understood(project: &Project, by_file: &HashMap<PathBuf, Vec<SourceSpan>>, to: &str) -> Result<(), String> {
    let after = |path: &Path, lines: &Lines| {
        let mut spans = by_file.get(path).cloned().unwrap_or_default();
        spans.sort_unstable();
        spans.dedup();
        let mut text = lines.text.clone();
        spans.iter().rev().for_each(|span| text.replace_range(span.start..span.end, to));
        text
    };
    let text = after(&project.spec, &project.spec_text);
    // A saved name that changes needs a migration, which is the next thing to do: the history does not count here.
    let old = without_history(&project.spec_text.text)
        .map_err(|why| format!("expected a spec without errors, found: {why}; fix it, then rename"))?;
    let new = without_history(&text).map_err(|why| format!("the spec could not be read any more: {why}"))?;
    for (path, lines) in &project.plays {
        let name = path.display().to_string();
        let read = |text: &str, spec| Script::from_text_with(&name, text, spec, &imported_file);
        let was = read(&lines.text, &old);
        let is = read(&after(path, lines), &new);
        let (was, is) = match (was, is) {
            (Ok(was), Ok(is)) => (was, is),
            (Ok(_), Err(errors)) => return Err(format!("{name} could not be read any more: {}", first(&errors))),
            (Err(errors), _) if by_file.contains_key(path) => {
                let why = first(&errors);
                return Err(format!(
                    "expected a playthrough without errors, found in {name}: {why}; fix it, then rename"
                ));
            }
            (Err(_), _) => continue,
        };
        if was.playthroughs().iter().map(Playthrough::statements).sum::<u64>() > MOST_STATEMENTS {
            continue;
        }
        let passes = |spec, playthrough: &Playthrough| run(spec, playthrough, &mut MemorySaves::default()).passed();
        let mut pairs = was.playthroughs().iter().zip(is.playthroughs());
        if let Some((broken, _)) = pairs.find(|(was, is)| passes(&old, was) && !passes(&new, is)) {
            return Err(format!("\"{}\" in {name} would fail", broken.name()));
        }
    }
    Ok(())
}

fn first(errors: &Diagnostics) -> String {
    errors.list().first().map(|finding| finding.message.clone()).unwrap_or_default()
}

/// Returns what a document has, for an outline.
pub(crate) fn symbols(workspace: &Workspace, path: &Path, lines: &Lines) -> Vec<DocumentSymbol> {
    match Role::of(path) {
        Some(Role::Play) => {
            let playthroughs = PlayView::new(&lines.text).playthroughs;
            let symbol = |(name, span, end): &(String, SourceSpan, usize)| {
                let whole = SourceSpan::new(span.start, *end);
                symbol(workspace, lines, name, "playthrough", SymbolKind::FUNCTION, *span, whole)
            };
            playthroughs.iter().map(symbol).collect()
        }
        Some(Role::Spec) => {
            let view = SpecView::new(&lines.text);
            let mut symbols: Vec<(SourceSpan, DocumentSymbol)> = Vec::new();
            for ((kind, name), spans) in &view.declared {
                let sort = match kind {
                    Kind::Field => SymbolKind::FIELD,
                    Kind::Derived => SymbolKind::PROPERTY,
                    Kind::Level => SymbolKind::MODULE,
                    Kind::Table | Kind::KeySet => SymbolKind::ARRAY,
                    Kind::Struct => SymbolKind::STRUCT,
                    Kind::Code => SymbolKind::STRING,
                    Kind::Moment => SymbolKind::EVENT,
                    Kind::Checkpoint | Kind::Exit | Kind::Key => continue,
                };
                // A level stands in the order and has a table of its own, which tells more.
                let Some(span) = spans.last().copied() else { continue };
                symbols.push((span, symbol(workspace, lines, name, kind.word(), sort, span, span)));
            }
            symbols.sort_by_key(|(span, _)| *span);
            symbols.into_iter().map(|(_, symbol)| symbol).collect()
        }
        None => Vec::new(),
    }
}

fn symbol(
    workspace: &Workspace,
    lines: &Lines,
    name: &str,
    detail: &str,
    kind: SymbolKind,
    span: SourceSpan,
    whole: SourceSpan,
) -> DocumentSymbol {
    let range: Range = lines.range(whole, workspace.units);
    // Editors refuse a symbol without a name.
    let name = if name.trim().is_empty() { "?" } else { name };
    #[allow(deprecated, reason = "lsp-types has the field still, and no way around it")]
    DocumentSymbol {
        name: name.to_owned(),
        detail: Some(detail.to_owned()),
        kind,
        tags: None,
        deprecated: None,
        range,
        selection_range: lines.range(span, workspace.units),
        children: None,
    }
}
