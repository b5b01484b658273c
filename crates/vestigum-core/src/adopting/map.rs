//! Reading a map: what of an old save goes where.

use std::collections::BTreeMap;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use crate::adopting::convert::{Asks, Conversion, Item, Limit};
use crate::adopting::path::TreePath;
use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::document::read::syntax_errors;
use crate::model::axis::{Axis, KeySet};
use crate::model::field::Field;
use crate::model::level::Level;
use crate::model::{Model, Names};
use crate::value::Finite;
use crate::value::tree::Tree;
use crate::value::types::Type;
use crate::vocabulary::span::Span;

type Spot<'i> = TomlSpanned<DeValue<'i>>;

/// What goes into one entry of a field, or into all of its entries.
#[derive(Clone, Debug)]
pub(super) struct Take {
    /// The field, by its place in the model.
    pub(super) field: usize,
    /// Its keys; `None` for the star.
    pub(super) keys: Vec<Option<String>>,
    pub(super) path: TreePath,
    pub(super) conversion: Conversion,
}

/// A map that fits a spec.
#[derive(Clone, Debug, Default)]
pub(super) struct AdoptMap {
    pub(super) takes: Vec<Take>,
    /// By axis, what the old saves call a key, and what it is.
    pub(super) names: BTreeMap<String, BTreeMap<String, String>>,
    /// What nobody wants any more.
    pub(super) left: Vec<TreePath>,
}

/// Reads a map, and everything that is wrong with it.
pub(super) fn read(text: &str, model: &Model) -> (AdoptMap, Vec<Diagnostic>) {
    let (root, toml_errors) = DeTable::parse_recoverable(text);
    let mut reader = Reader { model, errors: syntax_errors(&toml_errors), map: AdoptMap::default() };
    for (key, value) in root.get_ref() {
        match &**key.get_ref() {
            "names" => reader.names(value),
            "take" => reader.takes(value),
            "left" => reader.left(value),
            other => {
                let message = format!("a map has no table `{}`", other.escape_debug());
                let known = ["names", "take", "left"];
                reader.errors.push(Diagnostic::error(codes::SHAPE, key.span().into(), message).suggest(other, known));
            }
        }
    }
    reader.errors.sort_by_key(|error| error.span);
    (reader.map, reader.errors)
}

struct Reader<'m> {
    model: &'m Model,
    errors: Vec<Diagnostic>,
    map: AdoptMap,
}

impl Reader<'_> {
    fn error(&mut self, span: SourceSpan, message: impl Into<String>) {
        self.errors.push(Diagnostic::error(codes::SHAPE, span, message));
    }

    fn wants(&mut self, what: &str, wanted: &str, found: &Spot<'_>) {
        let kind = found.get_ref().type_str();
        let error = Diagnostic::error(codes::SHAPE, found.span().into(), format!("`{what}` wants {wanted}"));
        self.errors.push(error.label(format!("this is of type {kind}")));
    }

    fn table<'t, 'i>(
        &mut self,
        what: &str,
        value: &'t Spot<'i>,
    ) -> Vec<(&'t TomlSpanned<std::borrow::Cow<'i, str>>, &'t Spot<'i>)> {
        match value.get_ref() {
            DeValue::Table(table) => table.iter().collect(),
            _ => {
                self.wants(what, "a table", value);
                Vec::new()
            }
        }
    }

    /// `[names.level]`: what the old saves call the levels, or the keys of a set.
    fn names(&mut self, value: &Spot<'_>) {
        for (axis, table) in self.table("names", value) {
            let model = self.model;
            let sets = model.key_sets.iter().map(KeySet::name);
            let Some(known) = key_names(model, axis.get_ref()) else {
                let message = format!("there is no key set `{}`", axis.get_ref().escape_debug());
                let error = Diagnostic::error(codes::UNKNOWN_NAME, axis.span().into(), message);
                self.errors.push(error.suggest(axis.get_ref(), sets.chain(["level"])));
                continue;
            };
            let mut names = BTreeMap::new();
            for (old, now) in self.table(axis.get_ref(), table) {
                let DeValue::String(name) = now.get_ref() else {
                    self.wants(old.get_ref(), "the name that it has in the spec, a text", now);
                    continue;
                };
                if !known.closed || known.names.iter().any(|known| **known == **name) {
                    names.insert(old.get_ref().to_string(), name.to_string());
                } else {
                    let message = format!("there is no {} `{}`", axis.get_ref(), name.escape_debug());
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, now.span().into(), message);
                    self.errors.push(error.suggest(name, known.names.iter().copied()));
                }
            }
            self.map.names.insert(axis.get_ref().to_string(), names);
        }
    }

    /// `left = […]`: paths that nobody wants.
    fn left(&mut self, value: &Spot<'_>) {
        match value.get_ref() {
            DeValue::Array(paths) => {
                for path in paths {
                    if let Some(path) = self.path("left", path) {
                        self.map.left.push(path);
                    }
                }
            }
            _ => self.wants("left", "a list of paths", value),
        }
    }

    fn path(&mut self, what: &str, value: &Spot<'_>) -> Option<TreePath> {
        let read = match value.get_ref() {
            DeValue::String(text) => TreePath::read(text),
            DeValue::Array(parts) => {
                let text = |part: &Spot<'_>| part.get_ref().as_str().map(str::to_owned);
                match parts.iter().map(text).collect::<Option<Vec<String>>>() {
                    Some(parts) if !parts.is_empty() => TreePath::of_parts(parts),
                    _ => Err("a path is a text, or a list of texts where names have dots in them".into()),
                }
            }
            _ => {
                self.wants(what, "a path into the old save, as \"player.gold\"", value);
                return None;
            }
        };
        read.map_err(|why| self.error(value.span().into(), why)).ok()
    }

    /// `[take]`: what goes into each field.
    fn takes(&mut self, value: &Spot<'_>) {
        for (target, from) in self.table("take", value) {
            let Some((field, keys)) = self.target(target.get_ref(), target.span().into()) else { continue };
            let (path, conversion) = match from.get_ref() {
                DeValue::Table(table) => self.conversion(table, from),
                _ => (self.path(target.get_ref(), from), Conversion::default()),
            };
            let Some(path) = path else { continue };
            self.agrees(&path, &conversion, &keys, &self.model.fields[field], from.span().into());
            self.map.takes.push(Take { field, keys, path, conversion });
        }
    }

    /// `best_letters[*]`: the field and its keys.
    fn target(&mut self, text: &str, span: SourceSpan) -> Option<(usize, Vec<Option<String>>)> {
        let (name, rest) = text.split_once('[').map_or((text, None), |(name, rest)| (name, Some(rest)));
        let model = self.model;
        let Some(index) = model.fields.iter().position(|field| field.name() == name.trim()) else {
            let message = format!("there is no field `{}`", name.escape_debug());
            let error = Diagnostic::error(codes::UNKNOWN_NAME, span, message);
            self.errors.push(error.suggest(name, model.fields.iter().map(Field::name)));
            return None;
        };
        let field = &model.fields[index];
        match field.lasts() {
            Span::Run | Span::Profile | Span::Device => {}
            span_of @ (Span::Attempt | Span::Visit | Span::Session) => {
                let message =
                    format!("`{name}` is of one {span_of}, and whoever comes from an old save has just begun one");
                self.error(span, message);
                return None;
            }
        }
        let keys: Vec<&str> = match rest.map(|rest| rest.trim_end().strip_suffix(']')) {
            None => Vec::new(),
            Some(Some(keys)) => keys.split(',').map(str::trim).collect(),
            Some(None) => {
                self.error(span, "a `]` is missing");
                return None;
            }
        };
        let axes = field.axes();
        if axes.contains(&Axis::Checkpoint) {
            self.error(span, format!("`{name}` is kept per checkpoint; say it in Rust, with `Session::write`"));
            return None;
        }
        if keys.len() != axes.len() {
            let words = model.key_words(field);
            let wanted = if words.is_empty() { "no key".to_owned() } else { words.join(" and ") };
            self.error(span, format!("`{name}` takes {wanted} in brackets; `*` is each of them"));
            return None;
        }
        if keys.iter().filter(|key| **key == "*").count() > 1 {
            self.error(span, "one `*` at most: write the other keys out");
            return None;
        }
        let mut read = Vec::new();
        for (key, axis) in keys.into_iter().zip(axes) {
            let word = model.axis_word(*axis);
            let known = key_names(model, word)?;
            if key != "*" && known.closed && !known.names.contains(&key) {
                let message = format!("there is no {word} `{}`", key.escape_debug());
                self.errors.push(Diagnostic::error(codes::UNKNOWN_NAME, span, message).suggest(key, known.names));
                return None;
            }
            read.push((key != "*").then(|| key.to_owned()));
        }
        Some((index, read))
    }

    /// `{ from = "…", times = 1000 }`.
    fn conversion(&mut self, table: &DeTable<'_>, whole: &Spot<'_>) -> (Option<TreePath>, Conversion) {
        let (mut path, mut conversion) = (None, Conversion::default());
        let mut has_from = false;
        for (key, value) in table {
            let number = || as_number(value.get_ref());
            match &**key.get_ref() {
                "from" => {
                    has_from = true;
                    path = self.path("from", value);
                }
                "times" | "plus" => match (number(), &**key.get_ref()) {
                    (Some(number), "times") => conversion.times = Some(number),
                    (Some(number), _) => conversion.plus = Some(number),
                    (None, what) => self.wants(what, "a number", value),
                },
                "names" => {
                    for (old, now) in self.table("names", value) {
                        match now.get_ref().as_str() {
                            Some(name) => drop(conversion.names.insert(old.get_ref().to_string(), name.to_owned())),
                            None => self.wants(old.get_ref(), "a text", now),
                        }
                    }
                }
                what @ ("above" | "at_least") => {
                    let limit = match (number(), value.get_ref().as_str()) {
                        (Some(number), _) => Limit::Number(number),
                        (None, Some("position")) => Limit::Position,
                        (None, _) => {
                            self.wants(what, "a number, or \"position\"", value);
                            continue;
                        }
                    };
                    conversion.asks = Some(if what == "above" { Asks::Above(limit) } else { Asks::AtLeast(limit) });
                }
                "holds" => match value.get_ref().as_str() {
                    Some("*") => conversion.asks = Some(Asks::Holds(Item::Star)),
                    Some(text) => conversion.asks = Some(Asks::Holds(Item::Text(text.to_owned()))),
                    None => self.wants("holds", "the name of an item, or \"*\"", value),
                },
                what @ ("is" | "none") => match (plain(value.get_ref()), what) {
                    (Some(tree), "is") => conversion.asks = Some(Asks::Is(tree)),
                    (Some(tree), _) => conversion.none = Some(tree),
                    (None, what) => self.wants(what, "a bool, a number or a text", value),
                },
                other => {
                    let message = format!("there is no `{}` here", other.escape_debug());
                    let known = ["from", "times", "plus", "names", "above", "at_least", "holds", "is", "none"];
                    let error = Diagnostic::error(codes::SHAPE, key.span().into(), message);
                    self.errors.push(error.help(format!("it can have: {}", known.join(", "))).suggest(other, known));
                }
            }
        }
        if !has_from {
            self.error(whole.span().into(), "`from` is missing: where in the old save the value is");
        }
        (path, conversion)
    }

    /// Whether stars stand where they can mean something, and what is asked gives what the field holds.
    fn agrees(
        &mut self,
        path: &TreePath,
        conversion: &Conversion,
        keys: &[Option<String>],
        field: &Field,
        span: SourceSpan,
    ) {
        let starred = keys.iter().any(Option::is_none);
        let by_key = conversion.asks_position() || matches!(conversion.asks, Some(Asks::Holds(Item::Star)));
        match (starred, path.has_star(), by_key) {
            (false, true, _) => {
                self.error(
                    span,
                    format!("the path has a `*`, and `{}` has none: which of them is meant?", field.name()),
                );
            }
            (false, false, true) => {
                self.error(span, "`position` and `\"*\"` mean the key of an entry, and here is no `*`");
            }
            (true, true, true) => self.error(span, "either the path has a `*`, or what is asked depends on the key"),
            (true, false, false) => {
                self.error(span, "every entry would get the same value: put a `*` into the path, for what the old save calls the key");
            }
            (true, true, false) | (true, false, true) | (false, false, false) => {}
        }
        if conversion.asks.is_some() && *field.ty() != Type::Bool {
            self.error(
                span,
                format!("what is asked is true or false, and `{}` is of type {}", field.name(), field.type_name()),
            );
        }
    }
}

/// The names of the keys of an axis, by its word; whether there can be no others.
pub(super) struct KeyNames<'m> {
    pub(super) names: Vec<&'m str>,
    pub(super) closed: bool,
    /// How many of them have a position: the first ones.
    pub(super) in_order: usize,
}

pub(super) fn key_names<'m>(names: &'m Names, axis: &str) -> Option<KeyNames<'m>> {
    if axis == "level" {
        return Some(KeyNames {
            names: names.levels.iter().map(Level::id).collect(),
            closed: true,
            in_order: names.in_order,
        });
    }
    let set = names.key_sets.iter().find(|set| set.name() == axis)?;
    let keys: Vec<&str> = set.names().collect();
    Some(KeyNames { in_order: keys.len(), names: keys, closed: set.max().is_none() })
}

fn as_number(value: &DeValue<'_>) -> Option<f64> {
    match value {
        DeValue::Integer(integer) => i64::from_str_radix(integer.as_str(), integer.radix()).ok().map(|int| int as f64),
        DeValue::Float(float) => float.as_str().parse().ok().filter(|float: &f64| float.is_finite()),
        DeValue::String(_) | DeValue::Boolean(_) | DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
    }
}

/// A value that stands in JSON as it does in TOML.
fn plain(value: &DeValue<'_>) -> Option<Tree> {
    match value {
        DeValue::Boolean(bool) => Some(Tree::Bool(*bool)),
        DeValue::String(text) => Some(Tree::Text((&**text).into())),
        DeValue::Integer(integer) => i64::from_str_radix(integer.as_str(), integer.radix()).ok().map(Tree::Int),
        DeValue::Float(_) => as_number(value).map(|float| Tree::Float(Finite::new(float))),
        DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
    }
}
