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
use crate::value::types::{MAX_NESTING, Member, StructType, Type};

const CONTAINERS: [&str; 3] = ["list", "set", "map"];

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
        let named = spec.structs.iter().find(|ty| *ty.name == *rest).map(|ty| Type::Struct(ty.clone()));
        let is_choice = rest == "choice";
        let inner = Type::from_word(rest).or(named).or_else(|| choice.filter(|_| is_choice).cloned());
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
        let strange = containers.iter().any(|container| !CONTAINERS.contains(container));
        let (Some(mut ty), false) = (inner, strange) else {
            // A choice without `of` was reported already.
            if !is_choice || strange {
                self.unknown_type(spec, word, rest);
            }
            return Type::Int;
        };
        for container in containers.into_iter().rev() {
            let inner = Arc::new(ty);
            ty = match container {
                "list" => Type::List(inner),
                "set" => Type::Set(inner),
                _ => Type::Map(inner),
            };
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
        let words: Vec<&str> = Type::WORDS.into_iter().chain(spec.structs.iter().map(|ty| &*ty.name)).collect();
        let help = format!(
            "the types are: {}, and `list of`, `set of`, `map of` them; a field can be a `{RANKING} of` one, or a `{BLOB}`",
            words.join(", ")
        );
        let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message).help(help);
        self.errors.push(error.suggest(inner, words));
    }

    /// Struct types, each after those it is made of.
    pub(super) fn structs(&mut self, spec: &mut Names) {
        let document = self.document;
        for (index, (name, members)) in document.structs.iter().enumerate() {
            if Type::WORDS.contains(&name.value.as_str()) || name.value == BLOB {
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
