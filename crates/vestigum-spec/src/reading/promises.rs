//! The promises of a document.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{PromiseEntry, Word};
use crate::model::Readable;
use crate::model::expression::Expression;
use crate::model::promise::{NeverFalls, Promise, Promised};
use crate::reading::compile::{Scope, compile};
use crate::reading::{Resolver, place_of};
use crate::value::types::Type;
use crate::vocabulary::moment::Moment;

impl Resolver<'_> {
    pub(super) fn promises(&mut self, spec: &Readable) -> Vec<Promise> {
        let document = self.document;
        let mut promises: Vec<Promise> = Vec::new();
        for entry in &document.promises {
            let name: Arc<str> = entry.name.value.as_str().into();
            if promises.iter().any(|known| known.name == name) {
                self.error(codes::BAD_NAME, entry.name.span, "two promises have this name");
            } else if let Some(promised) = self.promise(spec, entry) {
                promises.push(Promise { name, promised });
            }
        }
        promises
    }

    fn promise(&mut self, spec: &Readable, entry: &PromiseEntry) -> Option<Promised> {
        if let Some(can) = &entry.can {
            return self.can(spec, entry, can);
        }
        if let Some(without) = entry.without.first() {
            self.error(codes::SHAPE, without.span, "`without` belongs to `can`, and there is no `can`").help =
                Some("it names the moments that a play to there does not say".into());
            return None;
        }
        let Some(holds) = &entry.holds else {
            if let Some(after) = entry.after.first() {
                self.error(codes::SHAPE, after.span, "`after` says when `holds` is judged, and there is no `holds`");
                return None;
            }
            if entry.never_falls.is_empty() {
                self.error(codes::SHAPE, entry.name.span, "this promises nothing").help =
                    Some("say `never_falls = [\"FIELD\"]`, `holds = \"CONDITION\"` with or without `after`, or `can = \"CONDITION\"`".into());
                return None;
            }
            let all: Vec<Option<NeverFalls>> = entry.never_falls.iter().map(|of| self.never_falls(spec, of)).collect();
            return all.into_iter().collect::<Option<_>>().map(Promised::NeverFalls);
        };
        if let Some(both) = entry.never_falls.first() {
            self.error(codes::SHAPE, both.span, "a promise has either `never_falls` or `holds`").help =
                Some("write two promises".into());
            return None;
        }
        let mut moments = Vec::new();
        for word in &entry.after {
            match self.moment_named(spec, word) {
                Some(Moment::Quit) => {
                    self.error(codes::IDLE_RULE, word.span, "after `quit` there is nothing left to judge").help =
                        Some("`launch` comes after it".into());
                }
                Some(moment) => moments.push(moment),
                None => {}
            }
        }
        let always = entry.after.is_empty();
        let scope = Scope::Promise {
            level: always || moments.iter().all(|moment| moment.has_level()),
            marks: always || moments.iter().all(|moment| moment.has_marks()),
            before: !always,
        };
        let place = place_of(self.text, holds);
        let condition = compile(spec, scope, &holds.value, Some(&Type::Bool), &place, self.errors)?;
        Some(Promised::Holds(condition, moments))
    }

    /// A field, a derived value, one entry, a member.
    fn never_falls(&mut self, spec: &Readable, of: &Word) -> Option<NeverFalls> {
        let ordered = |resolver: &mut Self, ty: &Type| {
            let fits = ty.is_ordered() || *ty == Type::Bool;
            if !fits {
                let message = format!("`{}` is of type {ty}, which has no order to fall in", of.value);
                resolver.error(codes::WRONG_TYPE, of.span, message);
            }
            fits.then_some(())
        };
        if let Some(field) = spec.find_field(&of.value) {
            ordered(self, &field.ty)?;
            return Some(NeverFalls::Field(field.id));
        }
        let derived = spec.derived_ids.get(of.value.as_str()).copied();
        if derived.is_none() && of.value.chars().all(|c| c.is_alphanumeric() || c == '_') {
            let message = format!("no field and no derived value is called `{}`", of.value.escape_debug());
            let error = Diagnostic::error(codes::UNKNOWN_NAME, of.span, message);
            let known = spec.fields.iter().map(|field| &*field.name).chain(spec.derived_ids.keys().map(|name| &**name));
            self.errors.push(error.suggest(&of.value, known));
            return None;
        }
        // Of a derived value with keys, that of each key.
        let each = derived.and_then(|index| spec.keyed_derived(index));
        let texts = match each {
            Some(keys) => keys.map(|index| spec.derived[index as usize].name.to_string()).collect(),
            None => vec![of.value.clone()],
        };
        let scope = Scope::Promise { level: true, marks: false, before: false };
        let place = place_of(self.text, of);
        let values = texts.iter().map(|text| compile(spec, scope, text, None, &place, self.errors));
        let values: Vec<Expression> = values.collect::<Option<_>>()?;
        values.iter().try_for_each(|value| ordered(self, value.ty()))?;
        Some(NeverFalls::Value(values))
    }

    /// `can = "CONDITION"`, with `without`.
    fn can(&mut self, spec: &Readable, entry: &PromiseEntry, can: &Word) -> Option<Promised> {
        let others = entry.never_falls.iter().chain(&entry.holds).chain(&entry.after);
        if let Some(other) = others.min_by_key(|word| word.span.start) {
            let message = "a promise has one of `never_falls`, `holds` and `can`, and `can` is judged of every state";
            self.error(codes::SHAPE, other.span, message).help = Some("write two promises".into());
            return None;
        }
        let without = entry.without.iter().map(|word| self.moment_named(spec, word)).collect::<Vec<_>>();
        let scope = Scope::Promise { level: true, marks: false, before: false };
        let place = place_of(self.text, can);
        let condition = compile(spec, scope, &can.value, Some(&Type::Bool), &place, self.errors)?;
        Some(Promised::Can(condition, without.into_iter().collect::<Option<_>>()?))
    }

    fn moment_named(&mut self, spec: &Readable, word: &Word) -> Option<Moment> {
        let moment = spec.moment(&word.value);
        if moment.is_none() {
            let message = format!("there is no moment `{}`", word.value.escape_debug());
            let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
            let known: Vec<&str> = Moment::BUILT_IN.iter().filter_map(|moment| moment.word()).collect();
            self.errors.push(error.suggest(&word.value, known));
        }
        moment
    }

    /// An allowed finding has a code that can be allowed.
    pub(super) fn allowed(&mut self) {
        let document = self.document;
        for entry in &document.allowed {
            let code = &entry.code;
            match codes::explain(&code.value) {
                Some(known) if known.is_warning() => {}
                Some(_) => {
                    self.error(
                        codes::SHAPE,
                        code.span,
                        format!("`{}` is an error, and no error is allowed", code.value),
                    );
                }
                None => {
                    let error = Diagnostic::error(
                        codes::UNKNOWN_NAME,
                        code.span,
                        format!("there is no code `{}`", code.value.escape_debug()),
                    );
                    let known = codes::ALL.iter().filter(|entry| entry.is_warning()).map(|entry| entry.code);
                    self.errors.push(error.suggest(&code.value, known));
                }
            }
            if entry.because.value.trim().is_empty() {
                self.error(codes::SHAPE, entry.because.span, "say why it is meant; whoever reads this next will ask");
            }
        }
    }
}
