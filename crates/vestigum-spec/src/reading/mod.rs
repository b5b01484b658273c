//! From a [`Document`] to a spec: every name gets its meaning, and what cannot mean anything is reported.

pub(crate) mod blobs;
pub(crate) mod calls;
pub(crate) mod carried;
pub(crate) mod clocks;
pub(crate) mod compile;
pub(crate) mod conditions;
pub(crate) mod derived;
pub(crate) mod entries;
pub(crate) mod exits;
pub(crate) mod fields;
pub(crate) mod fills;
pub(crate) mod items;
pub(crate) mod keys;
pub(crate) mod made;
pub(crate) mod merging;
pub(crate) mod parts;
pub(crate) mod promises;
pub(crate) mod rankings;
pub(crate) mod rules;
pub(crate) mod sources;
pub(crate) mod tables;
pub(crate) mod types;

pub use compile::{DerivedKey, Scope, compile};
pub use conditions::MAX_KEEP;
pub use fields::MAX_LEN;
pub use fills::compile_of_item;
pub use keys::MAX_KEYS;
pub use made::MAX_MADE;
pub use sources::MAX_TIMES;
pub use types::ELSEWHERE;

use std::sync::Arc;

use indexmap::IndexSet;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::document::{self, Document};
use crate::model::fates::FatePlan;
use crate::model::level::Level;
use crate::model::{Model, Names, Readable};
use crate::nearest::nearest;
use crate::reading::conditions::opens_levels;
use crate::reading::rules::Rules;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::names::{begins_a_statement, is_name, is_reserved};
use crate::vocabulary::span::Lasts;
use crate::words::HasWord;

/// More slots than this are a mistake, or a trap.
const MAX_SLOTS: usize = 4_000_000;

/// Builds the model, stage by stage. What comes back is whole only if no error was added.
pub fn resolve(document: &Document, text: &str, errors: &mut Vec<Diagnostic>) -> Option<Model> {
    Resolver { document, text, errors, frozen: false, derived_reads: 0 }.resolve()
}

/// Builds the model of a version that shipped.
pub fn resolve_frozen(document: &Document, errors: &mut Vec<Diagnostic>) -> Option<Model> {
    Resolver { document, text: "", errors, frozen: true, derived_reads: 0 }.resolve()
}

/// Returns where a piece of an expression stands in the document. A text with escapes is pointed at as a whole.
pub fn place_of(text: &str, word: &document::Word) -> impl Fn(SourceSpan) -> SourceSpan + use<> {
    let span = word.span;
    let source = text.get(span.start..span.end).unwrap_or_default();
    let quote = ["\"\"\"", "'''", "\"", "'"].into_iter().find(|quote| source.starts_with(quote)).map_or(0, str::len);
    let inner = source.get(quote..source.len().saturating_sub(quote));
    let exact = (inner == Some(word.value.as_str())).then_some(span.start + quote);
    move |part: SourceSpan| exact.map_or(span, |start| part.shifted(start))
}

pub(crate) struct Resolver<'a> {
    pub document: &'a Document,
    pub text: &'a str,
    pub errors: &'a mut Vec<Diagnostic>,
    /// Whether it is a version that shipped: its names are what they are.
    pub frozen: bool,
    /// Counts the derived values that those which are compiled read, each with those that it reads in turn.
    derived_reads: usize,
}

impl Resolver<'_> {
    fn resolve(mut self) -> Option<Model> {
        let names = self.names();
        let mut types = self.types(names);
        if types.slots > MAX_SLOTS {
            let message = format!("the spec has {} values; {MAX_SLOTS} are the most", types.slots);
            self.errors.push(Diagnostic::error(codes::OUT_OF_RANGE, self.document.game.span, message));
            return None;
        }
        let rules = Rules::names(self.document, &mut types, self.errors);
        let readable = self.derived(types);
        Some(self.model(readable, rules))
    }

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

    /// Returns what a word names, where one is said.
    pub(super) fn choose<T: HasWord>(&mut self, what: &str, word: Option<&document::Word>) -> Option<T> {
        self.choose_of(what, word, |_| true)
    }

    /// Reads a moment that can be said here.
    pub(super) fn choose_of<T: HasWord>(
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

    /// The first stage: everything that has a name.
    fn names(&mut self) -> Names {
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
        let mut names = Names {
            title: game.title.clone().unwrap_or_else(|| id.to_string()),
            id,
            version: game.version.as_ref().map_or(1, |version| version.value),
            levels: Vec::new(),
            level_ids: FxHashMap::default(),
            levels_by_name: Vec::new(),
            in_order: 0,
            made_levels: 0..0,
            lasts: Lasts::default(),
            checkpoint_keys: Vec::new(),
            own_moments: Vec::new(),
            first_new_run: 0,
            cleared_at: Vec::new(),
            assets: None,
            structs: Vec::new(),
            key_sets: Vec::new(),
            tables: Vec::new(),
        };
        self.levels(&mut names);
        self.made_levels(&mut names);
        self.exits(&mut names);
        self.assets(&mut names);
        self.moments(&mut names);
        self.structs(&mut names);
        self.key_sets(&mut names);
        self.tables(&mut names);
        names
    }

    /// Returns whether a thing can have the name. Behind a dot no word means anything else, so members may have any.
    pub(super) fn is_named(&mut self, what: &str, name: &document::Word) -> bool {
        let fits = is_name(&name.value);
        if !fits {
            let article = if what.starts_with(['e', 'i', 'o']) { "an" } else { "a" };
            let message = format!("`{}` cannot be the name of {article} {what}", name.value.escape_debug());
            let help = "names are made of letters, digits and underscores and do not begin with a digit";
            self.error(codes::BAD_NAME, name.span, message).help = Some(help.into());
        }
        fits
    }

    pub(super) fn name(&mut self, what: &str, name: &document::Word) -> bool {
        if !self.is_named(what, name) {
            return false;
        }
        !is_reserved(&name.value) || self.is_word(what, name)
    }

    /// Checks the name of a thing with which a statement of a playthrough can begin.
    pub(super) fn name_of_statement(&mut self, what: &str, name: &document::Word) -> bool {
        self.name(what, name) && (!begins_a_statement(&name.value) || self.is_word(what, name))
    }

    /// Returns whether a word of the language can be a name: only in a version that shipped when it was no such word.
    fn is_word(&mut self, what: &str, name: &document::Word) -> bool {
        if !self.frozen {
            let message = format!("`{}` is a word of the language, so it cannot name a {what}", name.value);
            self.error(codes::BAD_NAME, name.span, message);
        }
        self.frozen
    }

    fn levels(&mut self, spec: &mut Names) {
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
        let exits = document.levels.iter().flat_map(|(_, entry)| &entry.exits);
        let by_exit: FxHashSet<&str> = exits.map(|(_, to)| to.value.as_str()).collect();
        spec.lasts = self.choose("lasts", document.levels_last.as_ref()).unwrap_or_default();
        for index in 0..in_order {
            spec.levels[index].next = (index + 1 < in_order).then_some(index as u32 + 1);
        }
        for (name, entry) in &document.levels {
            let Some(index) = spec.level_ids.get(name.value.as_str()).copied() else { continue };
            if index as usize >= in_order && entry.opens.is_none() && !by_exit.contains(name.value.as_str()) {
                let message = format!("`{}` is not in `order` and does not say when it opens", name.value);
                self.error(codes::LEVEL_ORDER, name.span, message).help =
                    Some("put it into `order`, say `opens = \"…\"`, or let an exit of another level lead to it".into());
            }
            if let Some(next) = &entry.next {
                let next = self.level_named(spec, "`next`", next);
                spec.levels[index as usize].next = next.or(spec.levels[index as usize].next);
            }
            let mut checkpoints = IndexSet::default();
            for checkpoint in &entry.checkpoints {
                if checkpoints.contains(checkpoint.value.as_str()) {
                    let message = format!("`{}` lists the checkpoint `{}` twice", name.value, checkpoint.value);
                    self.error(codes::LEVEL_ORDER, checkpoint.span, message);
                } else if self.name("checkpoint", checkpoint) {
                    checkpoints.insert(Arc::from(checkpoint.value.as_str()));
                }
            }
            let level = &mut spec.levels[index as usize];
            level.title.clone_from(&entry.title);
            level.checkpoints = checkpoints;
        }
        for (level, of) in (0..).zip(&mut spec.levels) {
            of.first_checkpoint_key = spec.checkpoint_keys.len() as u32;
            spec.checkpoint_keys.extend((0..of.checkpoints.len() as u32).map(|checkpoint| (level, checkpoint)));
        }
    }

    fn moments(&mut self, spec: &mut Names) {
        self.own_moments(spec, &self.document.moments);
        spec.first_new_run = spec.own_moments.len();
        self.own_moments(spec, &self.document.new_runs);
        spec.cleared_at = self.cleared_at(spec);
    }

    fn own_moments(&mut self, spec: &mut Names, names: &[document::Word]) {
        for name in names {
            if Moment::from_word(&name.value).is_some() || spec.own_moments.iter().any(|own| **own == *name.value) {
                self.error(codes::BAD_NAME, name.span, format!("there is a moment `{}` already", name.value));
            } else if self.name_of_statement("moment", name) {
                spec.own_moments.push(name.value.as_str().into());
            }
        }
    }

    /// The last stage: what happens at every moment.
    fn model(&mut self, readable: Readable, rules: Rules<'_>) -> Model {
        let openings = self.openings(&readable);
        let over_when = self.document.over_when.as_ref();
        let over_when = over_when.and_then(|text| self.condition(&readable, Scope::OverWhen, text));
        let text = self.text;
        let mut rules = rules.compile(&readable, &|word: &document::Word| place_of(text, word), self.errors);
        let plan = FatePlan::new(&readable, |field, moment| rules.remove(&(field, moment)).unwrap_or_default());
        let sources = self.sources(&readable);
        let promises = self.promises(&readable);
        let codes = self.codes(&readable);
        let merging = self.merging(&readable);
        self.allowed();
        let hash = blake3::hash(text.as_bytes());
        Model {
            opens_levels: opens_levels(&readable, &openings),
            hidden: self.hidden(&readable),
            openings,
            over_when,
            respawn: self.choose("respawn", self.document.respawn.as_ref()).unwrap_or_default(),
            accept: self.choose("accept", self.document.accept.as_ref()).unwrap_or_default(),
            resume: self.choose("resume", self.document.save.resume.as_ref()).unwrap_or_default(),
            save_at: self.save_at(&readable),
            newer: self.choose("newer", self.document.save.newer.as_ref()),
            keep: self.keep(),
            plan,
            sources,
            promises,
            codes,
            merging,
            document: self.document.clone(),
            fingerprint: u32::from_le_bytes(hash.as_bytes()[..4].try_into().unwrap_or_default()),
            shape: "".into(),
            members: std::sync::OnceLock::new(),
            readable,
        }
    }
}

/// The error for a moment that the game does not have.
pub fn unknown_moment(spec: &Names, word: &document::Word) -> Diagnostic {
    let own = spec.own_moments.iter().map(|name| &**name);
    let built_in = Moment::BUILT_IN.iter().filter_map(|moment| -> Option<&str> { moment.word() });
    Diagnostic::error(codes::UNKNOWN_NAME, word.span, format!("there is no moment `{}`", word.value.escape_debug()))
        .help("the game's own moments are named in `[moments] names`")
        .suggest(&word.value, built_in.chain(own))
}

fn add_level(spec: &mut Names, id: &str) {
    let id: Arc<str> = id.into();
    let index = spec.levels.len() as u32;
    let place = spec.levels_by_name.partition_point(|known| spec.levels[*known as usize].id < id);
    spec.levels_by_name.insert(place, index);
    spec.level_ids.insert(id.clone(), index);
    spec.levels.push(Level {
        id,
        title: None,
        checkpoints: IndexSet::default(),
        first_checkpoint_key: 0,
        next: None,
        exits: Vec::new(),
        entrances: Vec::new(),
        asset: None,
    });
}
