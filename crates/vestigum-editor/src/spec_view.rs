//! The names that a spec gives and uses, as far as they can be made out.

use std::collections::BTreeMap;

use vestigum_spec::diagnostic::SourceSpan;

use crate::keys::{Form, Holds, NameOf, SpecKey, table};
use crate::mentions::{Kind, Mention, Where, of_expression};
use crate::toml_view::{Piece, Segment, pieces};

/// Describes what stands at a path of a spec.
#[derive(Clone, Copy)]
pub(crate) enum At {
    /// A table with these keys.
    Keys(&'static [SpecKey]),
    /// A value.
    Holds(&'static Holds),
    /// A table whose keys are the author's.
    Free,
}

/// Returns what stands at a path: of `["field", "xp", "on", "death", "add"]` an operand.
pub(crate) fn at(path: &[impl AsRef<str>]) -> Option<At> {
    let (first, rest) = path.split_first()?;
    let (at, rest) = match &table(first.as_ref())?.form {
        Form::One(keys) | Form::Several(keys) => (At::Keys(keys), rest),
        Form::Named(keys) => match rest.split_first() {
            Some((_, rest)) => (At::Keys(keys), rest),
            None => return Some(At::Free),
        },
        Form::Free(holds) => match rest.split_first() {
            Some((_, rest)) => (At::Holds(holds), rest),
            None => return Some(At::Free),
        },
        Form::NamedFree(holds) => match rest {
            [_, _, rest @ ..] => (At::Holds(holds), rest),
            _ => return Some(At::Free),
        },
    };
    below(at, rest)
}

fn below(at: At, path: &[impl AsRef<str>]) -> Option<At> {
    let Some((name, rest)) = path.split_first() else { return Some(at) };
    match at {
        At::Free => None,
        At::Keys(keys) => {
            let key = keys.iter().find(|key| key.name == name.as_ref())?;
            below(At::Holds(&key.holds), rest)
        }
        At::Holds(holds) => match holds {
            Holds::Table(keys) => below(At::Keys(keys), path),
            Holds::Either(either) => either.iter().find_map(|holds| below(At::Holds(holds), path)),
            Holds::List(of) => below(At::Holds(of), path),
            Holds::Rules(rule) => below(At::Holds(rule), rest),
            Holds::Values(_) => below(At::Holds(&Holds::Value), rest),
            Holds::NewNamesTo(of) => match of {
                NameOf::Level => below(At::Holds(&Holds::Name(NameOf::Level)), rest),
                NameOf::Field | NameOf::Moment | NameOf::Axis | NameOf::Table | NameOf::Anything => None,
            },
            Holds::NumbersOf(_) => below(At::Holds(&Holds::Numbers), rest),
            Holds::Text
            | Holds::NewName
            | Holds::NewNames
            | Holds::Name(_)
            | Holds::Names(_)
            | Holds::OneOrMore(_)
            | Holds::Words(_)
            | Holds::Type
            | Holds::Expression
            | Holds::Int
            | Holds::Count(..)
            | Holds::Number
            | Holds::Numbers
            | Holds::Bool
            | Holds::Value
            | Holds::Range
            | Holds::SortedBy
            | Holds::Code => None,
        },
    }
}

/// Returns what each name in the brackets behind a field is the name of; a checkpoint has two names, that of its level and its own.
fn key_kinds(axes: &[String]) -> impl Iterator<Item = Kind> {
    let of_axis = |axis: &String| -> &'static [Kind] {
        match axis.as_str() {
            "level" => &[Kind::Level],
            "checkpoint" => &[Kind::Level, Kind::Checkpoint],
            _ => &[Kind::Key],
        }
    };
    axes.iter().flat_map(of_axis).copied()
}

/// The names of a spec.
#[derive(Clone, Debug, Default)]
pub(crate) struct SpecView {
    pub mentions: Vec<Mention>,
    /// Says what is named, and where the names are given.
    pub declared: BTreeMap<(Kind, String), Vec<SourceSpan>>,
    /// The axes of each field that has any, as its `per` names them, and its type.
    axes: BTreeMap<String, Vec<String>>,
    types: BTreeMap<String, String>,
    /// The checkpoints of each level.
    pub checkpoints: BTreeMap<String, Vec<String>>,
}

impl SpecView {
    pub(crate) fn new(text: &str) -> SpecView {
        let mut view = SpecView::default();
        for piece in pieces(text) {
            match piece {
                Piece::Header { path, .. } => view.names_of_path(&path, path.len()),
                Piece::Key { path, own } => view.names_of_path(&path, own),
                Piece::Text { path, span } => view.names_of_text(text, &path, span),
            }
        }
        for mention in &view.mentions {
            if mention.declares
                && let Some(kind) = mention.kinds.first()
            {
                view.declared.entry((*kind, mention.name.clone())).or_default().push(mention.span);
            }
        }
        view
    }

    /// Of what a mention is the name, of all that the spec has.
    pub(crate) fn kind(&self, mention: &Mention) -> Option<Kind> {
        let has = |kind: &Kind| self.declared.contains_key(&(*kind, mention.name.clone()));
        match &mention.place {
            Where::Anywhere => mention.kinds.iter().copied().find(has),
            Where::Key(field, key) => match self.axes.get(field) {
                Some(axes) => key_kinds(axes).nth(*key).filter(has),
                None => mention.kinds.iter().copied().find(has),
            },
            // `level` is the name of one; a field that holds texts may hold one.
            Where::Text(other) => {
                let holds_text = self.types.get(other).is_none_or(|ty| ty.contains("text"));
                mention.kinds.iter().copied().find(|kind| holds_text && has(kind))
            }
        }
    }

    /// All names of a kind.
    pub(crate) fn all(&self, kind: Kind) -> impl Iterator<Item = &str> {
        self.declared.keys().filter(move |(of, _)| *of == kind).map(|(_, name)| name.as_str())
    }

    fn say(&mut self, segment: &Segment, kinds: &'static [Kind], declares: bool) {
        let (name, place) = (segment.name.clone(), Where::Anywhere);
        self.mentions.push(Mention { name, span: segment.span, kinds, declares, place });
    }

    /// Notes the names in a path; its last `own` segments stand here.
    fn names_of_path(&mut self, path: &[Segment], own: usize) {
        for index in path.len().saturating_sub(own)..path.len() {
            let (before, segment) = (&path[..index], &path[index]);
            let names: Vec<&str> = before.iter().map(|segment| segment.name.as_str()).collect();
            let (kinds, declares): (&'static [Kind], bool) = match &names[..] {
                ["level"] => (&[Kind::Level], true),
                ["field"] => (&[Kind::Field], true),
                ["keys"] => (&[Kind::KeySet], true),
                ["table"] => (&[Kind::Table], true),
                ["struct"] => (&[Kind::Struct], true),
                ["code"] => (&[Kind::Code], true),
                ["derived"] => (&[Kind::Derived], true),
                ["field", _, "on"] => (&[Kind::Moment], false),
                ["level", _, "exits"] => (&[Kind::Exit], true),
                ["level", _, "steps"] => (&[Kind::Table], false),
                // `"letters[mill_lane]"` names an entry.
                ["source", "gives"] => {
                    of_expression(&segment.name, segment.span.start, None, &mut self.mentions);
                    continue;
                }
                _ => continue,
            };
            self.say(segment, kinds, declares);
        }
    }

    fn names_of_text(&mut self, text: &str, path: &[Segment], span: SourceSpan) {
        let inner = &text[span.start..span.end];
        let names: Vec<&str> = path.iter().map(|segment| segment.name.as_str()).collect();
        let whole = Segment { name: inner.to_owned(), span };
        let declares: Option<&'static [Kind]> = match &names[..] {
            ["levels", "order"] => Some(&[Kind::Level]),
            ["level", _, "checkpoints"] => Some(&[Kind::Checkpoint]),
            ["keys", _, "names"] => Some(&[Kind::Key]),
            ["moments", "names" | "new_runs"] => Some(&[Kind::Moment]),
            _ => None,
        };
        match &names[..] {
            ["field", field, "per"] => self.axes.entry((*field).to_owned()).or_default().push(inner.to_owned()),
            ["field", field, "type"] => drop(self.types.insert((*field).to_owned(), inner.to_owned())),
            _ => {}
        }
        if let Some(kinds) = declares {
            if let ["level", level, "checkpoints"] = &names[..] {
                self.checkpoints.entry((*level).to_owned()).or_default().push(inner.to_owned());
            }
            return self.say(&whole, kinds, true);
        }
        // What a migration says of names is about older versions.
        if names.first() == Some(&"migration") {
            return;
        }
        let Some(At::Holds(holds)) = at(&names) else { return };
        self.names_held(holds, &whole);
    }

    fn names_held(&mut self, holds: &'static Holds, text: &Segment) {
        match holds {
            Holds::Name(of) | Holds::Names(of) | Holds::OneOrMore(of) => {
                let kinds: &'static [Kind] = match of {
                    NameOf::Level => &[Kind::Level],
                    NameOf::Field => &[Kind::Field, Kind::Derived],
                    NameOf::Moment => &[Kind::Moment],
                    NameOf::Axis => &[Kind::KeySet],
                    NameOf::Table => &[Kind::Table],
                    NameOf::Anything => &[Kind::Field, Kind::Level, Kind::Table, Kind::Derived],
                };
                self.say(text, kinds, false);
            }
            Holds::Expression => of_expression(&text.name, text.span.start, None, &mut self.mentions),
            Holds::Type => {
                for (name, at) in crate::mentions::names(&text.name) {
                    let span = SourceSpan::new(text.span.start + at, text.span.start + at + name.len());
                    self.say(&Segment { name: name.to_owned(), span }, &[Kind::Struct], false);
                }
            }
            Holds::Either(either) => {
                // A text is an expression where it can be one.
                let said = either
                    .iter()
                    .find(|holds| matches!(holds, Holds::Expression | Holds::Type | Holds::Name(_) | Holds::Names(_)));
                if let Some(holds) = said {
                    self.names_held(holds, text);
                }
            }
            Holds::List(of) => self.names_held(of, text),
            Holds::Text
            | Holds::NewName
            | Holds::NewNames
            | Holds::Words(_)
            | Holds::Int
            | Holds::Count(..)
            | Holds::Number
            | Holds::Numbers
            | Holds::Bool
            | Holds::Value
            | Holds::Range
            | Holds::Values(_)
            | Holds::NewNamesTo(_)
            | Holds::NumbersOf(_)
            | Holds::SortedBy
            | Holds::Table(_)
            | Holds::Rules(_)
            | Holds::Code => {}
        }
    }
}
