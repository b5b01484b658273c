//! The sources of a document.

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{SourceEntry, Word};
use crate::model::Readable;
use crate::model::axis::Axis;
use crate::model::field::Field;
use crate::model::node::{EntryRef, Node, Pick, ReadAt};
use crate::model::source::{Gift, GiftKey, Source};
use crate::reading::compile::{Scope, compile};
use crate::reading::{Resolver, place_of};
use crate::value::Value;
use crate::vocabulary::fate::PlainFate;
use crate::vocabulary::span::Span;

/// The most times that a source can be taken.
pub const MAX_TIMES: i64 = 1_000_000;

impl Resolver<'_> {
    pub(super) fn sources(&mut self, spec: &Readable) -> Vec<Source> {
        let document = self.document;
        let mut sources: Vec<Source> = Vec::new();
        for entry in &document.sources {
            let name = &entry.name;
            if !self.name("source", name) {
                continue;
            }
            if sources.iter().any(|known| *known.name == *name.value) {
                self.error(codes::BAD_NAME, name.span, format!("there is a source `{}` already", name.value));
                continue;
            }
            if let Some(source) = self.source(spec, entry) {
                sources.push(source);
            }
        }
        sources
    }

    fn source(&mut self, spec: &Readable, entry: &SourceEntry) -> Option<Source> {
        let mut levels = Vec::new();
        for level in &entry.levels {
            match spec.level_ids.get(level.value.as_str()) {
                Some(index) => levels.push(*index),
                None => {
                    let message = format!("no level is called `{}`", level.value.escape_debug());
                    let error = Diagnostic::error(codes::UNKNOWN_NAME, level.span, message);
                    self.errors.push(error.suggest(&level.value, spec.levels.iter().map(|level| &*level.id)));
                }
            }
        }
        let gives: Vec<Option<Gift>> =
            entry.gives.iter().map(|(field, value)| self.gift(spec, field, &value.value, value.span)).collect();
        let lasts = self.choose("lasts", entry.lasts.as_ref()).unwrap_or(Span::Visit);
        let after_failure = self.choose_of("after_failure", entry.after_failure.as_ref(), PlainFate::follows_failure);
        if lasts == Span::Device {
            let span = entry.lasts.as_ref().map_or(entry.name.span, |lasts| lasts.span);
            self.error(codes::SHAPE, span, "a source is of a level, and no level is of the device");
        }
        // What is refused is not asked about its failures.
        let decided = matches!(lasts, Span::Attempt | Span::Session);
        if !decided && lasts != Span::Device && entry.after_failure.is_none() {
            let message =
                format!("the source `{}` does not say whether it comes back after a failure", entry.name.value);
            self.error(codes::UNDECIDED, entry.name.span, message).help = Some(
                "say `after_failure = \"keep\"` if it stays taken, `\"checkpoint\"` or `\"entry\"` if it comes back"
                    .into(),
            );
        }
        if let (true, Some(word)) = (decided, &entry.after_failure) {
            let message = format!("a source that lasts {} {lasts} does not say `after_failure`", lasts.article());
            self.error(codes::SHAPE, word.span, message).help =
                Some("an attempt is over at every failure, and a session goes on through all of them".into());
        }
        let times = entry.times.as_ref().map_or(1, |times| times.value);
        if !(1..=MAX_TIMES).contains(&times) {
            let span = entry.times.as_ref().map_or(entry.name.span, |times| times.span);
            self.error(codes::OUT_OF_RANGE, span, format!("a source can be taken from 1 to {MAX_TIMES} times"));
        }
        let gives = gives.into_iter().collect::<Option<Vec<_>>>()?;
        Some(Source { name: entry.name.value.as_str().into(), levels, gives, times, lasts, after_failure })
    }

    fn gift(
        &mut self,
        spec: &Readable,
        name: &Word,
        value: &Value,
        span: crate::diagnostic::SourceSpan,
    ) -> Option<Gift> {
        let (field, keys) = self.given_entry(spec, name)?;
        if !field.played {
            let message = format!("only rules write `{}`, so no source can give it", field.name);
            self.error(codes::OUT_OF_REACH, name.span, message);
            return None;
        }
        let Some(value) = value.clone().completed(&field.ty).fitted(&field.ty) else {
            let message = format!("`{}` is of type {}, and {value} is not", field.name, field.ty);
            self.error(codes::WRONG_TYPE, span, message);
            return None;
        };
        Some(Gift { field: field.id, keys, value })
    }

    /// Returns what is given: a field with one value, the entry of the level where it is found, or an entry by its keys.
    fn given_entry<'s>(&mut self, spec: &'s Readable, name: &Word) -> Option<(&'s Field, Vec<GiftKey>)> {
        if !name.value.contains('[') && spec.find_field(&name.value).is_none() {
            let message = format!("no field is called `{}`", name.value.escape_debug());
            let error = Diagnostic::error(codes::UNKNOWN_NAME, name.span, message);
            self.errors.push(error.suggest(&name.value, spec.fields.iter().map(|field| &*field.name)));
            return None;
        }
        // A source is found in a level, as what play writes is.
        let place = place_of(self.text, name);
        let entry = compile(spec, Scope::Play, &name.value, None, &place, self.errors)?;
        let (field, keys) = match &entry.node {
            Node::Read(ReadAt::Now, field, EntryRef::Slot(slot)) => {
                let field = spec.field(*field);
                let keys = field.keys_of(*slot).into_iter().take(field.axes.len());
                (field, Some(keys.map(GiftKey::Fixed).collect()))
            }
            Node::Read(ReadAt::Now, field, EntryRef::Picked(picks)) => {
                let key = |pick: &Pick| match pick {
                    Pick::Fixed(key) => Some(GiftKey::Fixed(*key)),
                    Pick::Level => Some(GiftKey::Level),
                    Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_) | Pick::Made(..) => None,
                };
                (spec.field(*field), picks.iter().map(key).collect())
            }
            _ => {
                let message = format!("`{}` is neither a field nor an entry of one", name.value);
                self.error(codes::WRONG_TYPE, name.span, message);
                return None;
            }
        };
        let Some(keys) = keys else {
            let message = format!("it is not clear which entry of `{}` is given", field.name);
            let declared = |axis: &Axis| match axis {
                Axis::Level => Some("level".to_owned()),
                Axis::Checkpoint => spec.example_checkpoint(),
                Axis::Keys(set) => spec.key_sets[*set as usize].names().next().map(str::to_owned),
            };
            let example: Option<Vec<String>> = field.axes.iter().map(declared).collect();
            let help = match example {
                Some(keys) => format!("name the entry by its keys, as in `\"{}[{}]\"`", field.name, keys.join(", ")),
                None => "a source gives to entries whose keys are declared, and this field has none".into(),
            };
            self.error(codes::WRONG_TYPE, name.span, message).help = Some(help);
            return None;
        };
        let level = |(axis, key): (&Axis, &GiftKey)| match (axis, key) {
            (Axis::Level, GiftKey::Fixed(level)) => Some(*level),
            (Axis::Level | Axis::Checkpoint | Axis::Keys(_), _) => None,
        };
        let keys: Vec<GiftKey> = keys;
        let level = field.axes.iter().zip(&keys).find_map(level);
        if let Some(level) = level.filter(|level| spec.is_made_level(*level)) {
            let level = &spec.level(level).id;
            let message = format!("`{level}` is there only while a player has made it, so no source can give to it");
            self.error(codes::OUT_OF_REACH, name.span, message).help =
                Some("give to the level where the source is found: leave its key out".into());
            return None;
        }
        Some((field, keys))
    }
}
