//! Which entry of a field a name means.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::SourceSpan;
use crate::model::axis::Axis;
use crate::model::field::Field;
use crate::model::node::{EntryRef, Node, Pick, ReadAt};
use crate::reading::compile::{Compiler, DerivedKey, Scope, Typed};
use crate::syntax::parse::{Ast, AstKind};
use crate::value::Value;
use crate::value::types::Type;

impl<'a> Compiler<'a> {
    /// A field or a derived value, without a key.
    pub(super) fn declared(&mut self, name: &str, span: SourceSpan) -> Option<Typed> {
        let spec = self.spec;
        if let Some(field) = spec.find_field(name) {
            let entry = self.unkeyed(field, span)?;
            return self.read(ReadAt::Now, field, entry, span);
        }
        let Some(index) = spec.derived_ids.get(name).copied() else {
            return self.unknown_name(name, span);
        };
        self.derived_here(index, name, span)
    }

    pub(super) fn level_is_meant(&mut self, name: &str, span: SourceSpan) -> Option<()> {
        if !self.scope.has_level() {
            let numbers = self.spec.find_field(name).is_some_and(|field| field.ty.is_number());
            let all = if numbers { "sum" } else { "count" };
            let per_checkpoint = self.spec.find_field(name).is_some_and(|field| field.axes.contains(&Axis::Checkpoint));
            let checkpoint = self.spec.example_checkpoint().filter(|_| per_checkpoint);
            let level = self.spec.levels.first().map_or("LEVEL", |level| &level.id);
            let (example, each) = match &checkpoint {
                Some(checkpoint) => (checkpoint.as_str(), "checkpoint"),
                None => (level, "level"),
            };
            let error = self
                .error(codes::NO_LEVEL, span, format!("`{name}` has a value for each {each}, and none is meant here"))
                .label(format!("which {each}?"))
                .help(format!("name one, as in `{name}[{example}]`, or take them all, as in `{all}({name})`"));
            return self.fail(error);
        }
        // What is worked out for each level needs no play in one.
        if self.scope.derived_key().is_none() {
            self.needs_level.get_or_insert_with(|| name.into());
        }
        Some(())
    }

    fn read(&mut self, from: ReadAt, field: &Field, entry: EntryRef, span: SourceSpan) -> Option<Typed> {
        self.may_read(field, span)?;
        self.reads.push(field.id);
        Some((Node::Read(from, field.id, entry), field.ty.clone()))
    }

    /// The entry that a name without keys means: the moment's.
    fn unkeyed(&mut self, field: &Field, span: SourceSpan) -> Option<EntryRef> {
        let mut picks = Vec::new();
        for axis in &field.axes {
            picks.push(match axis {
                Axis::Level => {
                    self.level_is_meant(&field.name, span)?;
                    self.scope.derived_key().and_then(DerivedKey::level).map_or(Pick::Level, Pick::Fixed)
                }
                Axis::Checkpoint if self.scope.derived_key().is_some() => {
                    let error = self
                        .error(codes::NO_LEVEL, span, format!("`{}` has a value for each checkpoint", field.name))
                        .label("which checkpoint?");
                    return self.fail(error);
                }
                Axis::Checkpoint => {
                    self.level_is_meant(&field.name, span)?;
                    Pick::Checkpoint
                }
                Axis::Keys(set) => self.current(field, *set, span)?,
            });
        }
        Some(entry(field, picks))
    }

    /// The pick of a key set with `current`, whose choice field counts as read.
    fn current(&mut self, field: &Field, set: u32, span: SourceSpan) -> Option<Pick> {
        if matches!(self.scope, Scope::Fill { sets, .. } if sets.contains(&Some(set))) {
            return Some(Pick::Filled(set));
        }
        if let Some(DerivedKey::Key(of, key)) = self.scope.derived_key()
            && of == set
        {
            return Some(Pick::Fixed(key));
        }
        let keys = &self.spec.key_sets[set as usize];
        let Some((current, _)) = keys.current else {
            let example = keys.names.first().map_or("KEY", |name| name);
            let error = self
                .error(codes::NO_LEVEL, span, format!("`{}` has a value for each {}", field.name, keys.name))
                .label(format!("which {}?", keys.name))
                .help(format!(
                    "name one, as in `{}[{example}]`, or give `[keys.{}]` a `current`",
                    field.name, keys.name
                ));
            return self.fail(error);
        };
        self.may_read(self.spec.field(current), span)?;
        self.reads.push(current);
        Some(Pick::Current(set))
    }

    /// `field[key, key]`, or the entry of a map.
    pub(super) fn keyed(&mut self, of: &Ast, keys: &[Ast], ast: &Ast) -> Option<Typed> {
        let spec = self.spec;
        if let AstKind::Name(name) = &of.kind
            && let Some(field) = spec.find_field(name)
            && self.names_an_entry(name, keys)
        {
            let entry = self.entry(field, keys, ast.span)?;
            return self.read(ReadAt::Now, field, entry, ast.span);
        }
        if let AstKind::Name(name) = &of.kind
            && let Some(index) = spec.derived_ids.get(name.as_str()).copied()
            && spec.keyed_derived(index).is_some()
        {
            return self.derived_entry(index, name, keys, ast.span);
        }
        let (map, ty) = self.node(of)?;
        if let Type::List(inner) = &ty {
            let [position] = keys else {
                let error = self.error(codes::WRONG_TYPE, ast.span, "a list takes one position, a number from 1");
                return self.fail(error);
            };
            let node = self.of_type(position, &Type::Int)?;
            if matches!(node, Node::Const(Value::Int(..1))) {
                let error = self.error(codes::OUT_OF_RANGE, position.span, "positions count from 1");
                return self.fail(error);
            }
            return Some((Node::Item(Box::new(map), Box::new(node), (**inner).clone()), (**inner).clone()));
        }
        let Type::Map(inner) = &ty else {
            let what = self.slice(of.span);
            if matches!(ty, Type::Set(_)) {
                let error = self
                    .error(codes::WRONG_TYPE, ast.span, format!("`{what}` is a set, and its values have no keys"))
                    .help(format!("`has({what}, …)` asks what is in it, `len({what})` how much"));
                return self.fail(error);
            }
            let error = self
                .error(codes::WRONG_TYPE, ast.span, format!("`{what}` has one value, so it takes no key"))
                .help("to give a field a value for each level, declare it with `per = \"level\"`");
            return self.fail(error);
        };
        let [key] = keys else {
            let error = self.error(codes::WRONG_TYPE, ast.span, "a map takes one key, a text");
            return self.fail(error);
        };
        let key = self.of_type(key, &Type::Text)?;
        Some((Node::Item(Box::new(map), Box::new(key), (**inner).clone()), (**inner).clone()))
    }

    /// Returns whether a name with keys behind it is an entry of a keyed field or derived value, and not a part of a value.
    pub(super) fn names_an_entry(&self, name: &str, keys: &[Ast]) -> bool {
        let is_part = |field: &Field| self.means_map_entry(field, keys);
        self.is_keyed_name(name) && !self.spec.find_field(name).is_some_and(is_part)
    }

    /// Returns whether what stands in brackets behind a keyed field is a key of the map or a position of the list that it is where
    /// play stands, and not a key of the field: a single text or number, where the field has an entry without being given a
    /// key.
    fn means_map_entry(&self, field: &Field, keys: &[Ast]) -> bool {
        let has_entry = |axis: &Axis| match axis {
            Axis::Level | Axis::Checkpoint => true,
            // Where a derived value is worked out for each key, it is that one.
            Axis::Keys(set) => {
                let worked_out = matches!(self.scope.derived_key(), Some(DerivedKey::Key(of, _)) if of == *set);
                worked_out || self.spec.key_sets[*set as usize].current.is_some()
            }
        };
        matches!(field.ty, Type::Map(_) | Type::List(_))
            && matches!(keys, [Ast { kind: AstKind::Literal(_), .. }])
            && field.axes.iter().all(has_entry)
    }

    fn entry(&mut self, field: &Field, keys: &[Ast], span: SourceSpan) -> Option<EntryRef> {
        let wanted = self.spec.key_words(field);
        if keys.len() != wanted.len() {
            let message = format!("`{}` takes {}, found {}", field.name, wanted.join(" and "), keys.len());
            let error = self.error(codes::WRONG_TYPE, span, message);
            return self.fail(error);
        }
        let mut keys = keys.iter();
        let mut picks = Vec::new();
        for axis in &field.axes {
            let key = keys.next()?;
            picks.push(match axis {
                Axis::Level => self.level(&field.name, key)?.map_or(Pick::Level, Pick::Fixed),
                Axis::Checkpoint => {
                    let level = self.level(&field.name, key)?;
                    self.checkpoint(level, keys.next()?)?
                }
                Axis::Keys(set) => self.key(field, *set, key)?,
            });
        }
        Some(entry(field, picks))
    }

    /// A level by name; `level` itself means the moment's.
    pub(super) fn level(&mut self, of: &str, ast: &Ast) -> Option<Option<u32>> {
        let AstKind::Name(name) = &ast.kind else {
            let error = self.error(codes::WRONG_TYPE, ast.span, "the name of a level is wanted here");
            return self.fail(error);
        };
        if name == "level" {
            self.level_is_meant(of, ast.span)?;
            return Some(self.scope.derived_key().and_then(DerivedKey::level));
        }
        match self.spec.level_ids.get(name.as_str()) {
            Some(level) => Some(Some(*level)),
            None => {
                let error = self
                    .error(codes::UNKNOWN_NAME, ast.span, format!("no level is called `{name}`"))
                    .suggest(name, self.spec.levels.iter().map(|level| &*level.id));
                self.fail(error)
            }
        }
    }

    fn checkpoint(&mut self, level: Option<u32>, ast: &Ast) -> Option<Pick> {
        let AstKind::Name(name) = &ast.kind else {
            let error = self.error(codes::WRONG_TYPE, ast.span, "the name of a checkpoint is wanted here");
            return self.fail(error);
        };
        let Some(level) = level else {
            if name == "checkpoint" {
                return Some(Pick::Checkpoint);
            }
            let error = self.error(codes::WRONG_TYPE, ast.span, "behind `level` only `checkpoint` can stand");
            return self.fail(error.help("checkpoints belong to their level: name the level"));
        };
        let listed = &self.spec.level(level).checkpoints;
        let index = listed.get_index_of(&**name);
        match index.and_then(|index| self.spec.checkpoint_key(level, index as u32)) {
            Some(stop) => Some(Pick::Fixed(stop)),
            None => {
                let id = &self.spec.level(level).id;
                let error = self
                    .error(codes::UNKNOWN_NAME, ast.span, format!("`{id}` has no checkpoint `{name}`"))
                    .suggest(name, listed.iter().map(|checkpoint| &**checkpoint));
                self.fail(error)
            }
        }
    }

    fn key(&mut self, field: &Field, set: u32, ast: &Ast) -> Option<Pick> {
        let open = self.spec.key_sets[set as usize].max.is_some();
        match self.key_name(set, ast)? {
            name if open => Some(Pick::Made(set, name.into())),
            name => match self.declared_key(set, name, ast.span)? {
                Some(key) => Some(Pick::Fixed(key)),
                None => self.current(field, set, ast.span),
            },
        }
    }

    /// The name that stands for a key.
    pub(super) fn key_name<'k>(&mut self, set: u32, ast: &'k Ast) -> Option<&'k str> {
        match &ast.kind {
            AstKind::Name(name) => Some(name),
            AstKind::Literal(Value::Text(name)) => Some(name),
            _ => {
                let message = format!("the name of a {} is wanted here", self.spec.key_sets[set as usize].name);
                let error = self.error(codes::WRONG_TYPE, ast.span, message);
                self.fail(error.help("a name that is not a plain word stands in quotes, as in `['Bob''s mill']`"))
            }
        }
    }

    /// A key of a set that declares its names; none where the name of its `current` field stands for it.
    pub(super) fn declared_key(&mut self, set: u32, name: &str, span: SourceSpan) -> Option<Option<u32>> {
        let keys = &self.spec.key_sets[set as usize];
        if let Some(key) = keys.names.get_index_of(name) {
            return Some(Some(key as u32));
        }
        if keys.current.as_ref().is_some_and(|(current, _)| *self.spec.field(*current).name == *name) {
            return Some(None);
        }
        let error = self
            .error(codes::UNKNOWN_NAME, span, format!("no {} is called `{name}`", keys.name))
            .suggest(name, keys.names());
        self.fail(error)
    }

    /// A field that stands alone or with a key, as `filled(f)` and `entry(f)` take it.
    pub(super) fn field_entry(&mut self, function: &str, ast: &Ast) -> Option<(&'a Field, EntryRef)> {
        let spec = self.spec;
        let (name, keys) = match &ast.kind {
            AstKind::Name(name) => (name, None),
            AstKind::Keyed(of, keys) => match &of.kind {
                AstKind::Name(name) => (name, Some(keys)),
                _ => return self.no_field(function, ast),
            },
            _ => return self.no_field(function, ast),
        };
        let Some(field) = spec.find_field(name) else { return self.unknown_name(name, ast.span) };
        let entry = match keys {
            Some(keys) => self.entry(field, keys, ast.span)?,
            None => self.unkeyed(field, ast.span)?,
        };
        self.may_read(field, ast.span)?;
        self.reads.push(field.id);
        Some((field, entry))
    }

    fn no_field<T>(&mut self, function: &str, ast: &Ast) -> Option<T> {
        let error = self.error(codes::WRONG_TYPE, ast.span, format!("`{function}` takes a field"));
        self.fail(error)
    }

    /// A field as it was before the moment.
    pub(super) fn was(&mut self, argument: &Ast, span: SourceSpan) -> Option<Typed> {
        if !matches!(self.scope, Scope::Promise { before: true, .. }) {
            let error = self
                .error(codes::OUT_OF_REACH, span, "`was(…)` means something only in a promise about a moment")
                .help("a promise with `after` may ask what a value was before that moment");
            return self.fail(error);
        }
        let name = match &argument.kind {
            AstKind::Name(name) => Some(name),
            AstKind::Keyed(of, keys) => match &of.kind {
                AstKind::Name(name) if self.names_an_entry(name, keys) => Some(name),
                _ => None,
            },
            _ => None,
        };
        if name.is_some_and(|name| self.spec.find_field(name).is_some()) {
            let (field, entry) = self.field_entry("was", argument)?;
            return Some((Node::Read(ReadAt::Was, field.id, entry), field.ty.clone()));
        }
        // A derived value, a member, or a part of a container: what it was then is worked out of the state as it was then.
        let outer = self.scope;
        self.scope = match outer {
            Scope::Promise { level, .. } => Scope::Promise { level, marks: false, before: false },
            other => other,
        };
        let inner = self.node(argument);
        self.scope = outer;
        let (node, ty) = inner?;
        Some((Node::Before(Box::new(node)), ty))
    }

    /// A mark's version of a field.
    pub(super) fn mark(&mut self, from: ReadAt, function: &str, argument: &Ast, span: SourceSpan) -> Option<Typed> {
        if !self.scope.has_marks() {
            let error = self
                .error(
                    codes::OUT_OF_REACH,
                    span,
                    format!("`{function}(…)` means something only in rules and promises inside a level"),
                )
                .help("use it at checkpoint, death, restart, complete, travel or abandon");
            return self.fail(error);
        }
        let (field, entry) = self.field_entry(function, argument)?;
        if !field.rewinds {
            let message = format!("`{}` is never rewound, so no mark holds it", field.name);
            let error = self
                .error(codes::OUT_OF_REACH, argument.span, message)
                .help("give it `after_failure = \"entry\"` or `\"checkpoint\"`, or read it as it is now");
            return self.fail(error);
        }
        Some((Node::Read(from, field.id, entry), field.ty.clone()))
    }
}

fn entry(field: &Field, picks: Vec<Pick>) -> EntryRef {
    let fixed = picks.iter().map(|pick| match pick {
        Pick::Fixed(key) => Some(*key),
        Pick::Level | Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_) | Pick::Made(..) => None,
    });
    match fixed.collect::<Option<Vec<u32>>>() {
        Some(keys) => EntryRef::Slot(field.slot_at(&keys)),
        None => EntryRef::Picked(Arc::from(picks)),
    }
}
