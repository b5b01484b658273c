//! From a [`Document`] to a spec: every name gets its meaning, and what cannot mean anything is reported.

pub mod calls;
pub mod compile;
pub mod entries;
pub mod fields;
pub mod keys;
pub mod parts;
pub mod promises;
pub mod rules;
pub mod sources;
pub mod tables;
pub mod types;

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::analysis::monotone::Moves;
use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan, Spanned};
use crate::document::{self, Document};
use crate::model::Model;
use crate::model::expression::Expression;
use crate::model::fates::FatePlan;
use crate::model::field::FieldId;
use crate::model::level::{Derived, Level, Opening};
use crate::nearest::nearest;
use crate::reading::compile::{Scope, compile};
use crate::reading::rules::Rules;
use crate::syntax::token::{Token, tokens};
use crate::value::types::Type;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::names::{is_name, is_reserved};
use crate::vocabulary::policy::{Accept, OpeningOrder, Respawn, Resume};
use crate::vocabulary::span::Lasts;
use crate::words::Word;

/// More slots than this are a mistake, or a trap.
const MAX_SLOTS: usize = 4_000_000;

/// How deep derived values may read each other.
const DERIVED_DEPTH: usize = 100;

/// Builds the spec. What comes back is whole only if no error was added.
pub fn resolve(document: &Document, text: &str, errors: &mut Vec<Diagnostic>) -> Option<Model> {
    let mut resolver = Resolver { document, text, errors };
    let mut spec = resolver.skeleton();
    resolver.levels(&mut spec);
    resolver.moments(&mut spec);
    resolver.structs(&mut spec);
    resolver.key_sets(&mut spec);
    resolver.tables(&mut spec);
    for level in 0..spec.levels.len() as u32 {
        let count = spec.level(level).checkpoints.len() as u32;
        spec.checkpoint_keys.extend((0..count).map(|checkpoint| (level, checkpoint)));
    }
    resolver.fields(&mut spec);
    resolver.currents(&mut spec);
    if spec.slots > MAX_SLOTS {
        let message = format!("the spec has {} values; {MAX_SLOTS} are the most", spec.slots);
        resolver.errors.push(Diagnostic::error(codes::OUT_OF_RANGE, document.game.span, message));
        return None;
    }
    let rules = Rules::names(document, &mut spec, resolver.errors);
    resolver.derived(&mut spec);
    resolver.conditions(&mut spec);
    let mut rules = rules.compile(&spec, &|word: &document::Word| place_of(text, word), resolver.errors);
    resolver.save(&mut spec);
    let own = (0..spec.own_moments.len() as u16).map(Moment::Own);
    spec.plan = FatePlan::new(&spec.fields, Moment::BUILT_IN.iter().copied().chain(own), |field, moment| {
        rules.remove(&(field, moment)).unwrap_or_default()
    });
    note_openings(&mut spec);
    resolver.sources(&mut spec);
    resolver.promises(&mut spec);
    resolver.allowed();
    let hash = blake3::hash(text.as_bytes());
    spec.fingerprint = u32::from_le_bytes(hash.as_bytes()[..4].try_into().unwrap_or_default());
    Some(spec)
}

/// Marks the fields that some opening reads, so that only their writes have to judge openings.
fn note_openings(spec: &mut Model) {
    let mut read: Vec<FieldId> = Vec::new();
    for level in &spec.levels {
        match &level.opens {
            Opening::Always => {}
            Opening::After(_) => read.push(spec.completed),
            Opening::When(condition) => read.extend_from_slice(condition.reads()),
        }
    }
    for id in read {
        spec.fields[id.0 as usize].read_by_openings = true;
    }
}

/// Where a piece of an expression stands in the document. A text with escapes is pointed at as a whole.
pub fn place_of(text: &str, word: &document::Word) -> impl Fn(SourceSpan) -> SourceSpan + use<> {
    let span = word.span;
    let source = text.get(span.start..span.end).unwrap_or_default();
    let quote = ["\"\"\"", "'''", "\"", "'"].into_iter().find(|quote| source.starts_with(quote)).map_or(0, str::len);
    let inner = source.get(quote..source.len().saturating_sub(quote));
    let exact = (inner == Some(word.value.as_str())).then_some(span.start + quote);
    move |part: SourceSpan| exact.map_or(span, |start| part.shifted(start))
}

pub struct Resolver<'a> {
    pub document: &'a Document,
    pub text: &'a str,
    pub errors: &'a mut Vec<Diagnostic>,
}

impl Resolver<'_> {
    pub(super) fn error(
        &mut self,
        code: &'static str,
        span: SourceSpan,
        message: impl Into<String>,
    ) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(code, span, message));
        let last = self.errors.len() - 1;
        &mut self.errors[last]
    }

    /// What a word names, where one is said.
    pub(super) fn choose<T: Word>(&mut self, what: &str, word: Option<&document::Word>) -> Option<T> {
        self.choose_of(what, word, |_| true)
    }

    /// The same, of those that can be said here.
    pub(super) fn choose_of<T: Word>(
        &mut self,
        what: &str,
        word: Option<&document::Word>,
        can_be: impl Fn(T) -> bool,
    ) -> Option<T> {
        let word = word?;
        let choices = || T::ALL.iter().copied().filter(|choice| can_be(*choice));
        let found = choices().find(|choice| choice.word() == word.value);
        if found.is_none() {
            let known: Vec<&str> = choices().map(T::word).collect();
            let message = format!("`{what}` is one of: {}", known.join(", "));
            let help = nearest(&word.value, known).map(|name| format!("did you mean `{name}`?"));
            self.error(codes::SHAPE, word.span, message).help = help;
        }
        found
    }

    fn skeleton(&mut self) -> Model {
        let game = &self.document.game;
        let id: Arc<str> = match &game.id {
            Some(id) => {
                if !is_name(&id.value) {
                    self.error(codes::BAD_NAME, id.span, "a game's id is made of letters, digits and underscores");
                }
                id.value.as_str().into()
            }
            None => {
                self.error(codes::SHAPE, game.span, "the spec does not say which game it is of").help = Some(
                    "add `[game]` with an `id`, as in `id = \"fellpost\"`; saves of other games are refused".into(),
                );
                "".into()
            }
        };
        if let Some(version) = &game.version
            && version.value < 1
        {
            self.error(codes::OUT_OF_RANGE, version.span, "versions count from 1");
        }
        Model {
            title: game.title.clone().unwrap_or_else(|| id.to_string()),
            id,
            version: game.version.as_ref().map_or(1, |version| version.value),
            levels: Vec::new(),
            level_ids: FxHashMap::default(),
            levels_by_name: Vec::new(),
            in_order: 0,
            lasts: Lasts::default(),
            checkpoint_keys: Vec::new(),
            key_sets: Vec::new(),
            structs: Vec::new(),
            tables: Vec::new(),
            fields: Vec::new(),
            field_ids: FxHashMap::default(),
            completed: FieldId(0),
            opened: FieldId(0),
            slots: 0,
            derived: Vec::new(),
            derived_ids: FxHashMap::default(),
            own_moments: Vec::new(),
            over_when: None,
            respawn: Respawn::default(),
            accept: Accept::default(),
            resume: Resume::default(),
            save_at: Vec::new(),
            keep: 3,
            sources: Vec::new(),
            promises: Vec::new(),
            plan: FatePlan::default(),
            document: self.document.clone(),
            fingerprint: 0,
        }
    }

    pub(super) fn name(&mut self, what: &str, name: &document::Word) -> bool {
        if !is_name(&name.value) {
            let message = format!("`{}` cannot be the name of a {what}", name.value.escape_debug());
            let help = "names are made of letters, digits and underscores and do not begin with a digit";
            self.error(codes::BAD_NAME, name.span, message).help = Some(help.into());
            return false;
        }
        if is_reserved(&name.value) {
            let message = format!("`{}` is a word of the language, so no {what} can bear it", name.value);
            self.error(codes::BAD_NAME, name.span, message);
            return false;
        }
        true
    }

    fn levels(&mut self, spec: &mut Model) {
        let document = self.document;
        for name in &document.order {
            if spec.level_ids.contains_key(name.value.as_str()) {
                self.error(codes::LEVEL_ORDER, name.span, format!("`{}` stands in `order` twice", name.value));
            } else if self.name("level", name) {
                add_level(spec, &name.value);
            }
        }
        let in_order = spec.levels.len();
        spec.in_order = in_order;
        for (name, _) in &document.levels {
            if !spec.level_ids.contains_key(name.value.as_str()) && self.name("level", name) {
                add_level(spec, &name.value);
            }
        }
        spec.lasts = self.choose("lasts", document.levels_last.as_ref()).unwrap_or_default();
        let opening: OpeningOrder = self.choose("opening", document.opening.as_ref()).unwrap_or_default();
        for index in 0..in_order {
            let level = &mut spec.levels[index];
            if opening == OpeningOrder::InOrder && index > 0 {
                level.opens = Opening::After(index as u32 - 1);
            }
            level.next = (index + 1 < in_order).then_some(index as u32 + 1);
        }
        for (name, entry) in &document.levels {
            let Some(index) = spec.level_ids.get(name.value.as_str()).copied() else { continue };
            if index as usize >= in_order && entry.opens.is_none() {
                let message = format!("`{}` is not in `order` and does not say when it opens", name.value);
                self.error(codes::LEVEL_ORDER, name.span, message).help =
                    Some("put it into `order`, or say `opens = \"…\"`".into());
            }
            if let Some(next) = &entry.next {
                match spec.level_ids.get(next.value.as_str()) {
                    Some(next) => spec.levels[index as usize].next = Some(*next),
                    None => {
                        let error = Diagnostic::error(
                            codes::LEVEL_ORDER,
                            next.span,
                            format!("`next` names no level: `{}`", next.value.escape_debug()),
                        );
                        self.errors.push(error.suggest(&next.value, spec.levels.iter().map(|level| &*level.id)));
                    }
                }
            }
            let mut checkpoints: Vec<Arc<str>> = Vec::new();
            for checkpoint in &entry.checkpoints {
                if checkpoints.iter().any(|name| **name == *checkpoint.value) {
                    let message = format!("`{}` lists the checkpoint `{}` twice", name.value, checkpoint.value);
                    self.error(codes::LEVEL_ORDER, checkpoint.span, message);
                } else if self.name("checkpoint", checkpoint) {
                    checkpoints.push(checkpoint.value.as_str().into());
                }
            }
            let level = &mut spec.levels[index as usize];
            level.title.clone_from(&entry.title);
            level.checkpoints = checkpoints;
        }
    }

    fn moments(&mut self, spec: &mut Model) {
        for name in &self.document.moments {
            if Moment::from_word(&name.value).is_some() || spec.own_moments.iter().any(|own| **own == *name.value) {
                self.error(codes::BAD_NAME, name.span, format!("there is a moment `{}` already", name.value));
            } else if self.name("moment", name) {
                spec.own_moments.push(name.value.as_str().into());
            }
        }
    }

    fn derived(&mut self, spec: &mut Model) {
        let mut waiting: FxHashMap<&str, &(document::Word, document::Word)> = FxHashMap::default();
        for entry in &self.document.derived {
            let name = &entry.0;
            let taken = spec.tables.iter().any(|table| *table.name == *name.value);
            if taken || spec.find_field(&name.value).is_some() {
                let what = if taken { "table" } else { "field" };
                let message = format!("`{}` is the name of a {what} already", name.value);
                self.error(codes::BAD_NAME, name.span, message);
            } else if self.name("derived value", name) {
                waiting.insert(&name.value, entry);
            }
        }
        for (name, _) in &self.document.derived {
            self.derive(spec, &mut waiting, &name.value, &mut Vec::new());
        }
    }

    /// Compiles a derived value after those it reads.
    fn derive<'d>(
        &mut self,
        spec: &mut Model,
        waiting: &mut FxHashMap<&'d str, &'d (document::Word, document::Word)>,
        name: &str,
        path: &mut Vec<&'d str>,
    ) {
        let Some((key, (name, text))) = waiting.get_key_value(name) else { return };
        let key = *key;
        if path.len() >= DERIVED_DEPTH {
            let message = format!("derived values read each other more than {DERIVED_DEPTH} deep here");
            self.error(codes::OUT_OF_RANGE, name.span, message);
            waiting.remove(key);
            // Those that read it have nothing more to say.
            spec.derived_ids.insert(key.into(), u32::MAX);
            return;
        }
        if path.contains(&key) {
            let circle = path.iter().skip_while(|step| **step != key).chain([&key]).copied();
            let message = format!("these derived values need each other: {}", circle.collect::<Vec<_>>().join(" → "));
            self.error(codes::CYCLE, name.span, message);
            waiting.remove(key);
            return;
        }
        path.push(key);
        // What cannot be read names nothing; compiling it says what is wrong.
        for (token, _) in tokens(&text.value).unwrap_or_default() {
            if let Token::Name(other) = token {
                self.derive(spec, waiting, other, path);
            }
        }
        path.pop();
        if waiting.remove(key).is_none() {
            // A circle was found on the way; this keeps the message from being said once more.
            spec.derived_ids.insert(key.into(), u32::MAX);
            return;
        }
        let place = place_of(self.text, text);
        let compiled = compile(spec, Scope::Derived, &text.value, None, &place, self.errors);
        let index = match compiled {
            Some(expression) => {
                let below = expression.derived().iter().map(|index| spec.derived[*index as usize].depth).max();
                let depth = below.unwrap_or(0) + 1;
                if depth > DERIVED_DEPTH {
                    let message = format!("derived values read each other more than {DERIVED_DEPTH} deep here");
                    self.error(codes::OUT_OF_RANGE, name.span, message);
                    spec.derived_ids.insert(key.into(), u32::MAX);
                    return;
                }
                spec.derived.push(Derived { name: key.into(), expression, depth });
                spec.derived.len() as u32 - 1
            }
            None => u32::MAX,
        };
        spec.derived_ids.insert(key.into(), index);
    }

    fn condition(&mut self, spec: &Model, scope: Scope, text: &document::Word) -> Option<Expression> {
        compile(spec, scope, &text.value, Some(&Type::Bool), &place_of(self.text, text), self.errors)
    }

    fn conditions(&mut self, spec: &mut Model) {
        for (name, entry) in &self.document.levels {
            let (Some(opens), Some(index)) = (&entry.opens, spec.level_ids.get(name.value.as_str()).copied()) else {
                continue;
            };
            if let Some(condition) = self.condition(spec, Scope::Opens, opens) {
                if !matches!(condition.moves(spec), Moves::Not | Moves::Up) {
                    let message =
                        format!("an opening level may lock `{}`: this may stop holding when others open", name.value);
                    self.error(codes::CLOSING_CONDITION, opens.span, message).help = Some(
                        "conditions are judged together, in no order; ask with `open(…)` only for levels that must be open".into(),
                    );
                }
                spec.levels[index as usize].opens = Opening::When(condition);
            }
        }
        spec.over_when = self.document.over_when.as_ref().and_then(|text| self.condition(spec, Scope::OverWhen, text));
        spec.respawn = self.choose("respawn", self.document.respawn.as_ref()).unwrap_or_default();
        spec.accept = self.choose("accept", self.document.accept.as_ref()).unwrap_or_default();
    }

    fn save(&mut self, spec: &mut Model) {
        let save = &self.document.save;
        spec.resume = self.choose("resume", save.resume.as_ref()).unwrap_or_default();
        for word in &save.at {
            match spec.moment(&word.value) {
                None => self.unknown_moment(spec, word),
                Some(Moment::Quit) => {
                    let message = "`quit` needs no mention: quitting always saves";
                    self.error(codes::IDLE_RULE, word.span, message);
                }
                Some(moment) => spec.save_at.push(moment),
            }
        }
        if let Some(Spanned { value, span }) = &save.keep {
            match u32::try_from(*value).ok().filter(|keep| (1..=1000).contains(keep)) {
                Some(keep) => spec.keep = keep,
                None => {
                    self.error(codes::OUT_OF_RANGE, *span, "`keep` goes from 1 to 1000");
                }
            }
        }
    }

    fn unknown_moment(&mut self, spec: &Model, word: &document::Word) {
        self.errors.push(unknown_moment(spec, word));
    }
}

/// The error for a moment that the game does not have.
pub fn unknown_moment(spec: &Model, word: &document::Word) -> Diagnostic {
    let own = spec.own_moments.iter().map(|name| &**name);
    let built_in = Moment::BUILT_IN.iter().filter_map(|moment| -> Option<&str> { moment.word() });
    Diagnostic::error(codes::UNKNOWN_NAME, word.span, format!("there is no moment `{}`", word.value.escape_debug()))
        .help("the game's own moments are named in `[moments] names`")
        .suggest(&word.value, built_in.chain(own))
}

fn add_level(spec: &mut Model, id: &str) {
    let id: Arc<str> = id.into();
    let index = spec.levels.len() as u32;
    let place = spec.levels_by_name.partition_point(|known| spec.levels[*known as usize].id < id);
    spec.levels_by_name.insert(place, index);
    spec.level_ids.insert(id.clone(), index);
    spec.levels.push(Level { id, title: None, checkpoints: Vec::new(), opens: Opening::Always, next: None });
}
