//! What can stand at the cursor.

use std::path::Path;

use lsp_types::{CompletionItem, CompletionItemKind};
use vestigum_core::Moment;
use vestigum_spec::model::field::{BLOB, RANKING};
use vestigum_spec::value::class::Class;
use vestigum_spec::vocabulary::keyword::Keyword;

use super::words;
use super::workspace::{Project, Role};
use crate::keys::{Form, Holds, NameOf, SpecKey, TABLES};
use crate::mentions::Kind;
use crate::play_view::{first_word, without_comment};
use crate::spec_view::{At, SpecView, at};
use crate::toml_view::{Spot, spot};

/// Returns what can stand at a place of a document.
pub(crate) fn complete(project: &Project, view: &SpecView, path: &Path, offset: usize) -> Vec<CompletionItem> {
    let Some(lines) = project.text(path) else { return Vec::new() };
    match Role::of(path) {
        Some(Role::Spec) => in_spec(view, &lines.text, offset),
        Some(Role::Play) => in_play(view, &lines.text, offset),
        None => Vec::new(),
    }
}

fn item(label: &str, kind: CompletionItemKind, about: &str) -> CompletionItem {
    let detail = (!about.is_empty()).then(|| about.to_owned());
    CompletionItem { label: label.to_owned(), kind: Some(kind), detail, ..CompletionItem::default() }
}

fn inserting(label: &str, insert: String, kind: CompletionItemKind, about: &str) -> CompletionItem {
    CompletionItem { insert_text: Some(insert), ..item(label, kind, about) }
}

fn in_spec(view: &SpecView, text: &str, offset: usize) -> Vec<CompletionItem> {
    match spot(text, offset) {
        Spot::Header(_) => {
            TABLES.iter().map(|table| item(table.name, CompletionItemKind::MODULE, table.about)).collect()
        }
        Spot::Key(path, _) if path.is_empty() => TABLES
            .iter()
            .map(|table| {
                let insert = match &table.form {
                    Form::One(_) | Form::Free(_) => format!("[{}]", table.name),
                    Form::Named(_) | Form::NamedFree(_) => format!("[{}.", table.name),
                    Form::Several(_) => format!("[[{}]]", table.name),
                };
                inserting(table.name, insert, CompletionItemKind::MODULE, table.about)
            })
            .collect(),
        Spot::Key(path, _) => keys_at(view, &path),
        Spot::Value(path) => match at(&path) {
            Some(At::Holds(holds)) => values(view, holds, true),
            Some(At::Keys(_) | At::Free) | None => Vec::new(),
        },
        Spot::Text(path, written) => match at(&path) {
            Some(At::Holds(holds)) if is_expression(holds) => expression(view, &written),
            Some(At::Holds(holds)) => values(view, holds, false),
            Some(At::Keys(_) | At::Free) | None => Vec::new(),
        },
        Spot::Nothing => Vec::new(),
    }
}

/// The keys of the table at a path.
fn keys_at(view: &SpecView, path: &[String]) -> Vec<CompletionItem> {
    let keys: &[SpecKey] = match at(path) {
        Some(At::Keys(keys)) => keys,
        Some(At::Holds(Holds::Rules(_))) => return moments(view),
        Some(At::Holds(Holds::Values(NameOf::Field))) => return named(view, &[Kind::Field], CompletionItemKind::FIELD),
        Some(At::Holds(holds)) => holds.keys().unwrap_or_default(),
        Some(At::Free) | None => &[],
    };
    let key = |key: &SpecKey| inserting(key.name, format!("{} = ", key.name), CompletionItemKind::PROPERTY, key.about);
    keys.iter().map(key).collect()
}

fn is_expression(holds: &Holds) -> bool {
    holds.alternatives().iter().any(|holds| matches!(holds, Holds::Expression))
}

/// The values that are known, in quotes or not.
fn values(view: &SpecView, holds: &Holds, quotes: bool) -> Vec<CompletionItem> {
    let quoted = |items: Vec<CompletionItem>| match quotes {
        false => items,
        true => items
            .into_iter()
            .map(|item| CompletionItem { insert_text: Some(format!("\"{}\"", item.label)), ..item })
            .collect(),
    };
    let list = |words: Vec<&str>| -> Vec<CompletionItem> {
        words.into_iter().map(|word| item(word, CompletionItemKind::ENUM_MEMBER, "")).collect()
    };
    match holds {
        Holds::Words(words) => quoted(list(words())),
        Holds::Bool => match quotes {
            true => list(vec!["true", "false"]),
            false => Vec::new(),
        },
        Holds::Name(of) | Holds::Names(of) | Holds::OneOrMore(of) => quoted(match of {
            NameOf::Level => named(view, &[Kind::Level], CompletionItemKind::MODULE),
            NameOf::Field => named(view, &[Kind::Field], CompletionItemKind::FIELD),
            NameOf::Moment => moments(view),
            NameOf::Axis => {
                let mut axes = vec![
                    item("level", CompletionItemKind::ENUM_MEMBER, ""),
                    item("checkpoint", CompletionItemKind::ENUM_MEMBER, ""),
                ];
                axes.extend(named(view, &[Kind::KeySet], CompletionItemKind::ENUM));
                axes
            }
            NameOf::Table => named(view, &[Kind::Table], CompletionItemKind::CONSTANT),
            NameOf::Anything => named(view, &[Kind::Field, Kind::Level, Kind::Table], CompletionItemKind::FIELD),
        }),
        Holds::Type => {
            let mut types = list(types().iter().map(String::as_str).collect());
            types.extend(named(view, &[Kind::Struct], CompletionItemKind::STRUCT));
            quoted(types)
        }
        Holds::Code => {
            let codes = vestigum_spec::codes::ALL.iter();
            quoted(codes.map(|entry| item(entry.code, CompletionItemKind::CONSTANT, entry.title)).collect())
        }
        Holds::Either(either) => either.iter().flat_map(|holds| values(view, holds, quotes)).collect(),
        Holds::List(of) => values(view, of, quotes),
        Holds::Text
        | Holds::NewName
        | Holds::NewNames
        | Holds::Expression
        | Holds::Int
        | Holds::Count(..)
        | Holds::Number
        | Holds::Numbers
        | Holds::Value
        | Holds::Range
        | Holds::Values(_)
        | Holds::NewNamesTo(_)
        | Holds::NumbersOf(_)
        | Holds::SortedBy
        | Holds::Table(_)
        | Holds::Rules(_) => Vec::new(),
    }
}

/// Lists the beginnings of types.
fn types() -> Vec<String> {
    let single = Class::single().map(|class| class.word().to_owned());
    let containers = Class::containers().map(|class| format!("{} of ", class.word()));
    single.chain([BLOB.to_owned()]).chain(containers).chain([format!("{RANKING} of ")]).collect()
}

fn named(view: &SpecView, kinds: &[Kind], symbol: CompletionItemKind) -> Vec<CompletionItem> {
    kinds.iter().flat_map(|kind| view.all(*kind).map(move |name| item(name, symbol, kind.word()))).collect()
}

fn moments(view: &SpecView) -> Vec<CompletionItem> {
    let built_in = Moment::BUILT_IN.iter().filter_map(|moment| Some((moment.word()?, words::moment(*moment))));
    let mut items: Vec<CompletionItem> =
        built_in.map(|(word, about)| item(word, CompletionItemKind::EVENT, about)).collect();
    items.extend(named(view, &[Kind::Moment], CompletionItemKind::EVENT));
    items
}

/// The names that an expression can go on with; inside brackets the keys.
fn expression(view: &SpecView, written: &str) -> Vec<CompletionItem> {
    let open = written.matches('[').count() > written.matches(']').count();
    if open {
        return named(view, Kind::KEYS, CompletionItemKind::ENUM_MEMBER);
    }
    let mut items = named(view, &[Kind::Field, Kind::Derived], CompletionItemKind::FIELD);
    items.extend(["completed", "opened"].map(|name| item(name, CompletionItemKind::FIELD, "of each level")));
    items.extend(named(view, &[Kind::Table], CompletionItemKind::CONSTANT));
    items.extend(words::functions().map(|name| inserting(name, format!("{name}("), CompletionItemKind::FUNCTION, "")));
    items
        .extend(["and", "or", "not", "true", "false", "level"].map(|word| item(word, CompletionItemKind::KEYWORD, "")));
    items
}

fn in_play(view: &SpecView, text: &str, offset: usize) -> Vec<CompletionItem> {
    let line_start = text[..offset].rfind('\n').map_or(0, |at| at + 1);
    let line = &text[line_start..offset];
    if without_comment(line).len() < line.len() {
        return Vec::new();
    }
    statement(view, line)
}

/// Lists how a statement can go on that begins with this.
fn statement(view: &SpecView, written: &str) -> Vec<CompletionItem> {
    let (word, at) = first_word(written);
    let rest = &written[at + word.len()..];
    if rest.is_empty() {
        let statements = Keyword::ALL
            .iter()
            .map(|keyword| item(keyword.word(), CompletionItemKind::KEYWORD, words::keyword(*keyword)));
        let mut items: Vec<CompletionItem> = statements.collect();
        items.extend(moments(view));
        items.extend(named(view, &[Kind::Field], CompletionItemKind::FIELD));
        return items;
    }
    match (Moment::from_word(word), Keyword::from_word(word)) {
        (Some(Moment::Enter), _) | (_, Some(Keyword::EnterAny)) => {
            let (level, at) = first_word(rest);
            let behind = &rest[at + level.len()..];
            if level.is_empty() || behind.is_empty() {
                return named(view, &[Kind::Level], CompletionItemKind::MODULE);
            }
            let (word, at) = first_word(behind);
            if word == "at" && !behind[at + word.len()..].is_empty() {
                let checkpoints = view.checkpoints.get(level).into_iter().flatten();
                return checkpoints.map(|name| item(name, CompletionItemKind::ENUM_MEMBER, "checkpoint")).collect();
            }
            vec![item("at", CompletionItemKind::KEYWORD, "a checkpoint")]
        }
        (Some(Moment::Checkpoint), _) => named(view, &[Kind::Checkpoint], CompletionItemKind::ENUM_MEMBER),
        (Some(Moment::Complete), _) => named(view, &[Kind::Exit], CompletionItemKind::ENUM_MEMBER),
        (Some(_), _) => Vec::new(),
        (None, Some(Keyword::Refuse)) => statement(view, rest.trim_start()),
        (None, Some(Keyword::Code | Keyword::Redeem)) => named(view, &[Kind::Code], CompletionItemKind::CONSTANT),
        (
            None,
            Some(
                Keyword::Expect
                | Keyword::Watch
                | Keyword::Insert
                | Keyword::Remove
                | Keyword::Raise
                | Keyword::Lower
                | Keyword::Reset,
            )
            | None,
        ) => expression(view, rest),
        (
            None,
            Some(
                Keyword::Save
                | Keyword::Crash
                | Keyword::Damage
                | Keyword::Import
                | Keyword::Profile
                | Keyword::Profiles
                | Keyword::Device
                | Keyword::Sync
                | Keyword::Tick
                | Keyword::MakeLevel
                | Keyword::RemoveLevel
                | Keyword::ExportLevel
                | Keyword::ImportLevel
                | Keyword::Board
                | Keyword::Repeat
                | Keyword::End
                | Keyword::Playthrough
                | Keyword::Without,
            ),
        ) => Vec::new(),
    }
}
