//! The types that the words of a document name.

use std::sync::Arc;

use indexmap::IndexSet;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{FieldEntry, Word};
use crate::model::Names;
use crate::model::field::{BLOB, RANKING};
use crate::reading::Resolver;
use crate::value::Chosen;
use crate::value::class::Class;
use crate::value::types::{MAX_NESTING, Member, StructType, Type};

impl Resolver<'_> {
    /// The type of the choices in `of`.
    pub(super) fn choice(&mut self, name: &Word, entry: &FieldEntry, word: &Word) -> Option<Type> {
        let wants = word.value.split(' ').next_back() == Some("choice");
        match (wants, entry.of.first()) {
            (false, None) => None,
            (false, Some(first)) => {
                let message = format!("`{}` is of type {}, and only choices have `of`", name.value, word.value);
                self.error(codes::SHAPE, first.span, message);
                None
            }
            (true, None) => {
                self.error(codes::SHAPE, word.span, format!("`{}` does not say what can be chosen", name.value)).help =
                    Some("add `of`, a list of names, as in `of = [\"fair\", \"storm\"]`".into());
                None
            }
            (true, Some(_)) => {
                let mut names: IndexSet<&str> = IndexSet::new();
                for choice in &entry.of {
                    if self.name("choice", choice) && !names.insert(&choice.value) {
                        self.error(codes::BAD_NAME, choice.span, format!("`{}` stands in `of` twice", choice.value));
                    }
                }
                let chosen =
                    names.iter().zip(0..).map(|(name, index)| Arc::new(Chosen { index, name: (*name).into() }));
                Some(Type::Choice(chosen.collect()))
            }
        }
    }

    /// The type that the words of a document name.
    pub(super) fn ty(&mut self, spec: &Names, word: &Word, choice: Option<&Type>) -> Type {
        let mut containers = Vec::new();
        let mut rest = word.value.as_str();
        while let Some((container, inner)) = rest.split_once(" of ") {
            containers.push(container);
            rest = inner.trim_start();
        }
        // Before anything is built of it: what goes a step further for each of them runs out of room.
        if containers.len() > MAX_NESTING {
            let message = format!("this type is nested {} deep; {MAX_NESTING} is the most", containers.len());
            self.error(codes::OUT_OF_RANGE, word.span, message);
            return Type::Int;
        }
        let named = spec.structs.iter().find(|ty| *ty.name == *rest).map(|ty| Type::Struct(ty.clone()));
        let is_choice = rest == "choice";
        let plain = Class::from_word(rest).and_then(Class::plain);
        let inner = plain.or(named).or_else(|| choice.filter(|_| is_choice).cloned());
        if containers.contains(&RANKING) {
            let message = "only a whole field is a ranking";
            self.error(codes::SHAPE, word.span, message).help = Some(format!("write `type = \"{RANKING} of …\"`"));
            return Type::Int;
        }
        if rest == BLOB {
            self.error(codes::SHAPE, word.span, "only a whole field is a blob").help = Some(format!(
                "write `type = \"{BLOB}\"`, with `per` where there is one for each key; inside others write `bytes`"
            ));
            return Type::Int;
        }
        let strange = containers.iter().any(|word| !Class::containers().any(|class| class.word() == *word));
        let (Some(mut ty), false) = (inner, strange) else {
            // A choice without `of` was reported already.
            if !is_choice || strange {
                self.unknown_type(spec, word, rest);
            }
            return Type::Int;
        };
        for container in containers.into_iter().rev() {
            ty = Class::from_word(container).and_then(|class| class.of(ty.clone())).unwrap_or(ty);
        }
        if ty.nesting() > MAX_NESTING {
            let message = format!("this type is nested {} deep; {MAX_NESTING} is the most", ty.nesting());
            self.error(codes::OUT_OF_RANGE, word.span, message);
            return Type::Int;
        }
        ty
    }

    fn unknown_type(&mut self, spec: &Names, word: &Word, inner: &str) {
        let message = format!("there is no type `{}`", word.value.escape_debug());
        let structs = spec.structs.iter().map(|ty| &*ty.name);
        let words: Vec<&str> = Class::single().map(|class| class.word() as &str).chain(structs).collect();
        let help = format!(
            "the types are: {}, and `list of`, `set of`, `map of` them; a field can be a `{RANKING} of` one, or a `{BLOB}`",
            words.join(", ")
        );
        let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
        self.errors.push(match in_our_words(&word.value) {
            Some(ours) => error.help(format!("did you mean `{ours}`?")),
            None => error.help(help).suggest(inner, words),
        });
    }

    /// Struct types, each after those it is made of.
    pub(super) fn structs(&mut self, spec: &mut Names) {
        let document = self.document;
        for (index, (name, members)) in document.structs.iter().enumerate() {
            if Class::single().any(|class| class.word() == name.value) || name.value == BLOB {
                self.error(codes::BAD_NAME, name.span, format!("there is a type `{}` already", name.value));
                continue;
            }
            if !self.name("struct", name) {
                continue;
            }
            let mut typed = Vec::new();
            for (member, entry) in members {
                let Some(ty) = &entry.ty else {
                    self.error(codes::SHAPE, member.span, format!("`{}` has no type", member.value)).help =
                        Some("add `type`, as in `{ type = \"int\", default = 1 }`".into());
                    continue;
                };
                let inner = ty.value.split(' ').next_back().unwrap_or_default();
                if document.structs[index..].iter().any(|(later, _)| later.value == inner) {
                    let message = format!("`{inner}` is not declared before `{}`", name.value);
                    self.error(codes::CYCLE, ty.span, message).help =
                        Some("declare a struct after those it is made of".into());
                } else if self.is_named("member", member) {
                    typed.push(self.member(spec, member, entry, ty));
                }
            }
            spec.structs.push(Arc::new(StructType { name: name.value.as_str().into(), members: typed }));
        }
    }

    fn member(&mut self, spec: &Names, name: &Word, entry: &FieldEntry, word: &Word) -> Member {
        let choice = self.choice(name, entry, word);
        let ty = self.ty(spec, word, choice.as_ref());
        let limits = self.limits(name, entry, &ty);
        let default = self.default(name, entry, &ty, &limits);
        if let (Some(literal), true) = (&entry.default, ty.has_bytes()) {
            self.error(codes::SHAPE, literal.span, "bytes in a struct begin empty, so this member has no default");
        }
        let max_len = entry.max_len.as_ref().map(|_| limits.max_len);
        Member { name: name.value.as_str().into(), ty, default, range: limits.range, max_len }
    }
}

/// Lists what other languages call the types, and what a spec calls them.
pub const ELSEWHERE: [(&str, Class); 22] = [
    ("string", Class::Text),
    ("str", Class::Text),
    ("integer", Class::Int),
    ("int32", Class::Int),
    ("int64", Class::Int),
    ("i32", Class::Int),
    ("i64", Class::Int),
    ("number", Class::Int),
    ("double", Class::Float),
    ("real", Class::Float),
    ("f32", Class::Float),
    ("f64", Class::Float),
    ("boolean", Class::Bool),
    ("flag", Class::Bool),
    ("enum", Class::Choice),
    ("vector2", Class::Vec2),
    ("vector3", Class::Vec3),
    ("array", Class::List),
    ("vec", Class::List),
    ("dictionary", Class::Map),
    ("dict", Class::Map),
    ("table", Class::Map),
];

/// A type in the words of a spec, where another language's words stand in it: `list of int` for `array of integer`.
fn in_our_words(written: &str) -> Option<String> {
    let mut changed = false;
    let words: Vec<String> = written
        .split(" of ")
        .map(|word| {
            let word = word.trim().to_lowercase();
            let ours = ELSEWHERE.iter().find(|(elsewhere, _)| *elsewhere == word);
            changed |= ours.is_some();
            ours.map_or(word, |(_, class)| class.word().to_owned())
        })
        .collect();
    // A container alone says nothing of its items.
    let ends = words.last().is_some_and(|last| Class::containers().any(|class| class.word() == last));
    changed.then(|| words.join(" of ") + if ends { " of …" } else { "" })
}
