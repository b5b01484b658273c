//! Levels that players make: how many, what a player gives them, and what they take along when they are shared.

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::Word;
use crate::model::axis::Axis;
use crate::model::field::FieldId;
use crate::model::level::MADE_LEVEL;
use crate::model::{MadeFields, Names, Types};
use crate::reading::{Resolver, add_level};
use crate::value::types::Type;
use crate::vocabulary::span::Span;

/// The most levels that players may make.
pub const MAX_MADE: i64 = 1_000;

impl Resolver<'_> {
    /// The places of the levels that players make, behind all that were shipped.
    pub(super) fn made_levels(&mut self, spec: &mut Names) {
        let first = spec.levels.len() as u32;
        spec.made_levels = first..first;
        let Some(entry) = &self.document.made else { return };
        let max = match &entry.max {
            None => {
                self.error(codes::SHAPE, entry.span, "`made` does not say how many levels players can make").help =
                    Some("add `max`, as in `made = { max = 6 }`".into());
                return;
            }
            Some(max) if !(1..=MAX_MADE).contains(&max.value) => {
                self.error(codes::OUT_OF_RANGE, max.span, format!("`max` of `made` goes from 1 to {MAX_MADE}"));
                return;
            }
            Some(max) => max.value as u32,
        };
        for number in 1..=max {
            let id = format!("{MADE_LEVEL}{number}");
            if spec.level_ids.contains_key(id.as_str()) {
                let said = self.document.order.iter().chain(self.document.levels.iter().map(|(name, _)| name));
                let span = said.into_iter().find(|name| name.value == id).map_or(entry.span, |name| name.span);
                self.error(codes::BAD_NAME, span, format!("`{id}` is what a level that a player makes is called"))
                    .help = Some("give this level another name".into());
                return;
            }
            add_level(spec, &id);
        }
        spec.made_levels = first..first + max;
    }

    /// Says what is wrong with a level that a player makes.
    pub(super) fn made(&mut self, spec: &mut Types) {
        let Some(entry) = &self.document.made else { return };
        let Some(made) = spec.find_field("made").filter(|field| field.built_in).map(|field| field.id) else { return };
        let mut fields = MadeFields { made, title: None, carries: Vec::new() };
        for word in &entry.carries {
            let Some(carried) = self.field_of_made(spec, word) else { continue };
            if fields.carries.contains(&carried) {
                self.error(codes::SHAPE, word.span, format!("`{}` is carried already", word.value));
            } else {
                fields.carries.push(carried);
            }
        }
        if let Some(word) = &entry.title
            && let Some(title) = self.field_of_made(spec, word)
        {
            if spec.field(title).ty != Type::Text {
                let message = format!("`{}` is of type {}, and a title is a text", word.value, spec.field(title).ty);
                self.error(codes::WRONG_TYPE, word.span, message);
            }
            fields.title = Some(title);
            if !fields.carries.contains(&title) {
                fields.carries.push(title);
            }
        }
        spec.made_fields = Some(fields);
    }

    /// A field that a player gives a level, by its name.
    fn field_of_made(&mut self, spec: &Types, word: &Word) -> Option<FieldId> {
        let Some(field) = spec.find_field(&word.value).filter(|field| !field.built_in) else {
            let message = format!("there is no field `{}`", word.value.escape_debug());
            let fields = spec.fields.iter().filter(|field| !field.built_in).map(|field| &*field.name);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
            self.errors.push(error.suggest(&word.value, fields));
            return None;
        };
        let wrong = if field.axes != [Axis::Level] {
            Some("it is not kept per level alone")
        } else if field.lasts != Span::Profile {
            Some("it does not last a profile, as made levels do")
        } else if !field.written_by.play() {
            Some("play does not write it")
        } else {
            None
        };
        if let Some(why) = wrong {
            let message = format!("`{}` cannot belong to a level that a player makes: {why}", word.value);
            self.error(codes::SHAPE, word.span, message).help =
                Some("write `per = \"level\"`, `lasts = \"profile\"` and let play write it".into());
            return None;
        }
        Some(field.id)
    }
}
