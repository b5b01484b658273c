//! Reading a map: what of an old save goes where.

use std::collections::BTreeMap;
use std::sync::Arc;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use crate::adopting::convert::{Asks, Conversion, Item, Limit};
use crate::adopting::number::Number;
use crate::adopting::path::TreePath;
use vestigum_spec::codes;
use vestigum_spec::diagnostic::{Diagnostic, SourceSpan};
use vestigum_spec::document::Word;
use vestigum_spec::document::syntax_errors;
use vestigum_spec::model::axis::{Axis, KeySet};
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::level::Level;
use vestigum_spec::model::{Model, Names};
use vestigum_spec::value::Finite;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::Type;
use vestigum_spec::vocabulary::span::Span;

pub(super) type Spot<'i> = TomlSpanned<DeValue<'i>>;

/// A field by its place in the model, its keys with none for a star, and the way to a member.
pub(super) type Target = (usize, Vec<Option<String>>, Vec<Arc<str>>);

/// Describes what goes into one entry of a field, or into all of its entries.
#[derive(Clone, Debug)]
pub(super) struct Take {
    /// The field, by its place in the model.
    pub(super) field: usize,
    /// Its keys; `None` for a star.
    pub(super) keys: Vec<Option<String>>,
    /// The way to a member of its structs; none where the whole value is meant.
    pub(super) members: Vec<Arc<str>>,
    pub(super) from: From,
    pub(super) conversion: Conversion,
}

impl Take {
    /// Returns the type of what is filled: the field, or the member.
    pub(super) fn ty<'f>(&self, field: &'f Field) -> &'f Type {
        self.members.iter().try_fold(&field.ty, |ty, name| member_type(ty, name)).unwrap_or(&field.ty)
    }
}

/// Says where a value comes from.
#[derive(Clone, Debug)]
pub(super) enum From {
    Path(TreePath),
    /// An expression over several values, each under its name. The stars of all of them are those of the first.
    Several {
        paths: Vec<TreePath>,
        item: Type,
        expression: Expression,
    },
}

impl From {
    pub(super) fn paths(&self) -> &[TreePath] {
        match self {
            From::Path(path) => std::slice::from_ref(path),
            From::Several { paths, .. } => paths,
        }
    }
}

/// Names a field that is made of what was taken, and for each of its slots the level that is meant and the expression.
#[derive(Clone, Debug)]
pub(super) struct MadeField {
    pub(super) field: usize,
    pub(super) slots: Vec<(usize, Option<u32>, Expression)>,
}

/// The type of a struct's member.
fn member_type<'t>(ty: &'t Type, name: &str) -> Option<&'t Type> {
    let structure = ty.as_struct()?;
    Some(&structure.members[structure.position(name)?].ty)
}

/// A map that fits a spec.
#[derive(Clone, Debug, Default)]
pub(super) struct AdoptMap {
    pub(super) takes: Vec<Take>,
    /// By axis, what the old saves call a key, and what it is.
    pub(super) names: BTreeMap<String, BTreeMap<String, String>>,
    /// Says what nobody wants any more.
    pub(super) left: Vec<TreePath>,
    /// Lists what is made of what was taken.
    pub(super) makes: Vec<MadeField>,
}

/// Reads a map, and everything that is wrong with it.
pub(super) fn read(text: &str, model: &Model) -> (AdoptMap, Vec<Diagnostic>) {
    let (root, toml_errors) = DeTable::parse_recoverable(text);
    let mut reader = Reader { text, model, errors: syntax_errors(&toml_errors), map: AdoptMap::default() };
    for (key, value) in root.get_ref() {
        match &**key.get_ref() {
            "names" => reader.names(value),
            "take" => reader.takes(value),
            "left" => reader.left(value),
            "make" => reader.makes(value),
            other => {
                let message = format!("a map has no table `{}`", other.escape_debug());
                let known = ["names", "take", "make", "left"];
                reader.errors.push(Diagnostic::error(codes::SHAPE, key.span().into(), message).suggest(other, known));
            }
        }
    }
    reader.errors.sort_by_key(|error| error.span);
    (reader.map, reader.errors)
}

pub(super) struct Reader<'m> {
    pub(super) text: &'m str,
    pub(super) model: &'m Model,
    pub(super) errors: Vec<Diagnostic>,
    pub(super) map: AdoptMap,
}

impl Reader<'_> {
    pub(super) fn error(&mut self, span: SourceSpan, message: impl Into<String>) {
        self.errors.push(Diagnostic::error(codes::SHAPE, span, message));
    }

    pub(super) fn wants(&mut self, what: &str, wanted: &str, found: &Spot<'_>) {
        let kind = found.get_ref().type_str();
        let error = Diagnostic::error(codes::SHAPE, found.span().into(), format!("`{what}` wants {wanted}"));
        self.errors.push(error.label(format!("this is of type {kind}")));
    }

    pub(super) fn table<'t, 'i>(
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
            let Some((field, keys, members)) = self.target(target.get_ref(), target.span().into()) else { continue };
            let found = &self.model.fields[field];
            let ty = members.iter().try_fold(&found.ty, |ty, name| member_type(ty, name)).unwrap_or(&found.ty).clone();
            let (from_where, conversion) = match from.get_ref() {
                DeValue::Table(table) => self.conversion(table, from, &ty),
                _ => (self.path(target.get_ref(), from).map(From::Path), Conversion::default()),
            };
            let Some(from_where) = from_where else { continue };
            self.agrees(&from_where, &conversion, &keys, (found, &ty), from.span().into());
            self.map.takes.push(Take { field, keys, members, from: from_where, conversion });
        }
    }

    /// `best_letters[*]`: the field and its keys.
    pub(super) fn target(&mut self, text: &str, span: SourceSpan) -> Option<Target> {
        // The members stand behind the keys, or behind the name.
        let end = text.rfind(']').map_or(0, |at| at + 1);
        let dot = text[end..].find('.').map(|at| end + at);
        let (text, members) = dot.map_or((text, ""), |at| (&text[..at], &text[at + 1..]));
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
        let mut way: Vec<Arc<str>> = Vec::new();
        let mut ty = &field.ty;
        for member in members.split('.').filter(|member| !member.is_empty()) {
            let Some(inner) = member_type(ty, member) else {
                let message = format!("a value of type {ty} has no member `{}`", member.escape_debug());
                self.error(span, message);
                return None;
            };
            way.push(member.into());
            ty = inner;
        }
        Some((index, read, way))
    }

    /// `{ from = "…", times = 1000 }`.
    fn conversion(&mut self, table: &DeTable<'_>, whole: &Spot<'_>, ty: &Type) -> (Option<From>, Conversion) {
        let (mut path, mut conversion) = (None, Conversion::default());
        let (mut has_from, mut several, mut with) = (false, Vec::new(), None);
        for (key, value) in table {
            let number = || as_number(value.get_ref());
            match &**key.get_ref() {
                "from" => {
                    has_from = true;
                    match value.get_ref() {
                        DeValue::Table(named) => {
                            for (name, value) in named {
                                let read = self.path(name.get_ref(), value);
                                several.extend(read.map(|path| (name.get_ref().to_string(), path)));
                            }
                        }
                        _ => path = self.path("from", value),
                    }
                }
                "with" => match value.get_ref() {
                    DeValue::String(text) => with = Some(Word::new(text.to_string(), value.span().into())),
                    _ => self.wants("with", "an expression, as \"value * 3600\"", value),
                },
                what @ ("by" | "each") => match value.get_ref().as_str() {
                    Some(name) if what == "by" => conversion.by = Some(name.to_owned()),
                    Some(name) => conversion.each = Some(name.to_owned()),
                    None => self.wants(what, "the name of a member of the items", value),
                },
                "members" => {
                    for (now, old) in self.table("members", value) {
                        match old.get_ref().as_str() {
                            Some(name) => drop(conversion.members.insert(now.get_ref().to_string(), name.to_owned())),
                            None => self.wants(now.get_ref(), "what the old save calls it, a text", old),
                        }
                    }
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
                    let known = [
                        "from", "times", "plus", "with", "names", "members", "by", "each", "above", "at_least",
                        "holds", "is", "none",
                    ];
                    let error = Diagnostic::error(codes::SHAPE, key.span().into(), message);
                    self.errors.push(error.help(format!("it can have: {}", known.join(", "))).suggest(other, known));
                }
            }
        }
        if !has_from {
            self.error(whole.span().into(), "`from` is missing: where in the old save the value is");
        }
        let span: SourceSpan = whole.span().into();
        let from = match (path, with, several.is_empty()) {
            (Some(path), None, _) => Some(From::Path(path)),
            (Some(path), Some(with), _) => self.expression(vec![("value".to_owned(), path)], &with, ty),
            (None, Some(with), false) => self.expression(several, &with, ty),
            (None, None, false) => {
                self.error(span, "several values become one by an expression: add `with`");
                None
            }
            (None, _, true) => None,
        };
        (from, conversion)
    }

    /// Returns whether stars stand where they can mean something, and what is asked gives what the field holds.
    fn agrees(
        &mut self,
        from: &From,
        conversion: &Conversion,
        keys: &[Option<String>],
        (field, ty): (&Field, &Type),
        span: SourceSpan,
    ) {
        let wanted = keys.iter().filter(|key| key.is_none()).count();
        let by_key = conversion.asks_position() || matches!(conversion.asks, Some(Asks::Holds(Item::Star)));
        let stars = from.paths().iter().map(TreePath::stars).max().unwrap_or(0);
        if stars > 0 && wanted > 0 && !by_key && stars != wanted {
            let message = format!(
                "the path has {stars} `*`, and `{}` has {wanted}: they stand for the same keys, in the same order",
                field.name()
            );
            self.error(span, message);
        }
        match (wanted > 0, stars > 0, by_key) {
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
            (true, false, true) if wanted > 1 => {
                self.error(span, "`position` and `\"*\"` mean one key: write the others out");
            }
            (true, true, false) | (true, false, true) | (false, false, false) => {}
        }
        if conversion.by.is_some() && conversion.asks.is_none() && !matches!(ty, Type::Map(_)) {
            self.error(
                span,
                format!("`by` makes a map of a list, and `{}` is of type {}", field.name(), field.type_name()),
            );
        }
        if conversion.asks.is_some() && *ty != Type::Bool {
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
    /// Says how many of them have a position: the first ones.
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

fn as_number(value: &DeValue<'_>) -> Option<Number> {
    match value {
        DeValue::Integer(integer) => {
            i64::from_str_radix(integer.as_str(), integer.radix()).ok().map(|int| Number::Int(i128::from(int)))
        }
        DeValue::Float(float) => float.as_str().parse().ok().filter(|float: &f64| float.is_finite()).map(Number::Float),
        DeValue::String(_) | DeValue::Boolean(_) | DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
    }
}

/// A value that stands in JSON as it does in TOML.
fn plain(value: &DeValue<'_>) -> Option<Tree> {
    match value {
        DeValue::Boolean(bool) => Some(Tree::Bool(*bool)),
        DeValue::String(text) => Some(Tree::Text((&**text).into())),
        DeValue::Integer(integer) => i64::from_str_radix(integer.as_str(), integer.radix()).ok().map(Tree::Int),
        DeValue::Float(_) => as_number(value).map(|number| Tree::Float(Finite::new(number.float()))),
        DeValue::Datetime(_) | DeValue::Array(_) | DeValue::Table(_) => None,
    }
}
