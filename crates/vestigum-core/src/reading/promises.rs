//! The promises of a document.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::PromiseEntry;
use crate::model::Readable;
use crate::model::field::FieldId;
use crate::model::promise::{Promise, Promised};
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
        let Some(holds) = &entry.holds else {
            if let Some(after) = entry.after.first() {
                self.error(codes::SHAPE, after.span, "`after` says when `holds` is judged, and there is no `holds`");
                return None;
            }
            if entry.never_falls.is_empty() {
                self.error(codes::SHAPE, entry.name.span, "this promises nothing").help =
                    Some("say `never_falls = [\"FIELD\"]`, or `holds = \"CONDITION\"` with or without `after`".into());
                return None;
            }
            let fields = entry.never_falls.iter().map(|name| {
                let Some(field) = spec.find_field(&name.value) else {
                    let message = format!("no field is called `{}`", name.value.escape_debug());
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, name.span, message);
                    self.errors.push(error.suggest(&name.value, spec.fields.iter().map(|field| &*field.name)));
                    return None;
                };
                if !field.ty.is_ordered() && field.ty != Type::Bool {
                    let message = format!("`{}` is of type {}, which has no order to fall in", field.name, field.ty);
                    self.error(codes::WRONG_TYPE, name.span, message);
                    return None;
                }
                Some(field.id)
            });
            let fields: Vec<Option<FieldId>> = fields.collect();
            return fields.into_iter().collect::<Option<_>>().map(Promised::NeverFalls);
        };
        if let Some(both) = entry.never_falls.first() {
            self.error(codes::SHAPE, both.span, "a promise has either `never_falls` or `holds`").help =
                Some("write two promises".into());
            return None;
        }
        let mut moments = Vec::new();
        for word in &entry.after {
            match spec.moment(&word.value) {
                Some(Moment::Quit) => {
                    self.error(codes::IDLE_RULE, word.span, "after `quit` there is nothing left to judge").help =
                        Some("`launch` comes after it".into());
                }
                Some(moment) => moments.push(moment),
                None => {
                    let message = format!("there is no moment `{}`", word.value.escape_debug());
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
                    let known: Vec<&str> = Moment::BUILT_IN.iter().filter_map(|moment| moment.word()).collect();
                    self.errors.push(error.suggest(&word.value, known));
                }
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
