//! The spec: the document that says what persists.
//!
//! A spec walks through three rooms: `read` turns TOML into a document that still has the places of
//! everything, `resolve` gives every name its meaning and checks types, and the [`Spec`] that comes out is immutable,
//! cheap to clone and holds the plan of every moment.

mod axis;
mod builder;
pub(crate) mod document;
mod field;
mod fields;
mod keys;
mod listed;
mod promises;
pub(crate) mod read;
mod resolve;
mod rules;
mod sources;
mod table;
mod tables;
mod types;
pub(crate) mod write;

use std::sync::Arc;

use rustc_hash::FxHashMap;

pub use axis::{Axis, KeySet};
pub(crate) use axis::{MadeKeys, Touched};
pub use builder::{FieldBuilder, LevelBuilder, MigrationBuilder, RuleBuilder, SpecBuilder};
pub(crate) use field::FieldId;
pub use field::{Field, Lasts, Limits, Span, WrittenBy};
pub use promises::Promise;
pub(crate) use promises::Promised;
pub(crate) use resolve::{place_of, resolve};
pub use sources::Source;
pub use table::Table;

use crate::diagnostic::{Diagnostic, Diagnostics};
use crate::expression::Expression;
use crate::fate::{Plan, Simple};
use crate::handle::{Handle, HandleError, PerLevel, Scalar};
use crate::history::History;
use crate::image::Image;
use crate::migration::{self, HookError, Hooks, Migrations, Need};
use crate::moment::Moment;
use crate::types::StructType;

/// A checked spec.
///
/// Cloning one costs a counter. Everything that runs holds a clone.
///
/// ```
/// use vestigum_core::Spec;
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [levels]
///     order = ["mill_lane"]
///     [field.score]
///     type = "int"
///     lasts = "run"
///     after_failure = "entry"
/// "#)?;
/// assert_eq!(spec.id(), "fellpost");
/// assert_eq!(spec.levels().next().unwrap().id(), "mill_lane");
/// # Ok::<(), vestigum_core::Diagnostics>(())
/// ```
#[derive(Clone, Debug)]
pub struct Spec(pub(crate) Arc<SpecData>, pub(crate) Arc<Hooks>);

#[derive(Debug)]
pub(crate) struct SpecData {
    pub id: Arc<str>,
    pub title: String,
    pub version: i64,
    pub levels: Vec<Level>,
    pub level_ids: FxHashMap<Arc<str>, u32>,
    /// All levels in the order of their ids, which is the one that images want.
    pub levels_by_name: Vec<u32>,
    /// How many of the levels stand in `order`: the first ones.
    pub in_order: usize,
    pub lasts: Lasts,
    /// The axis of checkpoints: level and checkpoint of each, for the levels that list theirs.
    pub stops: Vec<(u32, u32)>,
    pub key_sets: Vec<KeySet>,
    pub structs: Vec<Arc<StructType>>,
    pub tables: Vec<Table>,
    /// Declared fields first, the built-ins `completed` and `opened` last.
    pub fields: Vec<Field>,
    pub field_ids: FxHashMap<Arc<str>, FieldId>,
    pub completed: FieldId,
    pub opened: FieldId,
    pub slots: usize,
    pub derived: Vec<Derived>,
    pub derived_ids: FxHashMap<Arc<str>, u32>,
    pub own_moments: Vec<Arc<str>>,
    pub over_when: Option<Expression>,
    pub respawn: Respawn,
    pub accept: Accept,
    pub resume: Resume,
    pub save_at: Vec<Moment>,
    pub keep: u32,
    pub sources: Vec<Source>,
    pub promises: Vec<Promise>,
    pub plan: Plan,
    /// The shapes of the versions that players have, if the spec was read with them.
    pub history: Option<Arc<History>>,
    /// How their saves come to this version.
    pub migrations: Migrations,
    /// What the document says, to write it back.
    pub document: document::Document,
    /// Changes when anything in the document does; handles carry it.
    pub fingerprint: u32,
}

/// A level.
#[derive(Debug)]
pub struct Level {
    pub(crate) id: Arc<str>,
    pub(crate) title: Option<String>,
    pub(crate) checkpoints: Vec<Arc<str>>,
    pub(crate) opens: Opening,
    pub(crate) next: Option<u32>,
}

impl Level {
    /// The name that saves and rules use.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// The name that players see: the title, or the id where there is none.
    pub fn title(&self) -> &str {
        self.title.as_deref().unwrap_or(&self.id)
    }

    /// The checkpoints in the order of the way, where the level lists any.
    pub fn checkpoints(&self) -> impl ExactSizeIterator<Item = &str> {
        self.checkpoints.iter().map(|name| &**name)
    }
}

/// When a level opens.
#[derive(Debug)]
pub(crate) enum Opening {
    Always,
    After(u32),
    When(Expression),
}

/// A value computed from others when it is read.
#[derive(Debug)]
pub struct Derived {
    pub(crate) name: Arc<str>,
    pub(crate) expression: Expression,
    /// 1 if it reads no other derived value, else one more than the deepest of those.
    pub(crate) depth: usize,
}

impl Derived {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }
}

/// Where a death puts the player: `[death] respawn`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Respawn {
    /// At the last checkpoint.
    #[default]
    Checkpoint,
    /// Where the level was entered; the checkpoint is given up.
    Entry,
}

impl SpecData {
    /// Whether a moment gives the checkpoint up before its fates: the checkpoint mark becomes the entry mark.
    pub(crate) fn gives_up_checkpoint(&self, moment: Moment) -> bool {
        match moment {
            Moment::Restart | Moment::Abandon | Moment::GameOver => true,
            Moment::Death => self.respawn == Respawn::Entry,
            Moment::Launch
            | Moment::NewRun
            | Moment::Enter
            | Moment::Checkpoint
            | Moment::Complete
            | Moment::Travel
            | Moment::Quit
            | Moment::Own(_) => false,
        }
    }

    /// What a fate means at a moment: where the checkpoint is given up first, its mark is the entry's.
    pub(crate) fn meant(&self, moment: Moment, simple: Simple) -> Simple {
        if simple == Simple::Checkpoint && self.gives_up_checkpoint(moment) { Simple::Entry } else { simple }
    }
}

/// Which checkpoints count: `[checkpoints] accept`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Accept {
    /// Every one, also again and backwards.
    #[default]
    Any,
    /// Only one further on than the last.
    Forward,
    /// Only the next in order.
    Next,
}

/// What a save made inside a level brings back: `[save] resume`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Resume {
    /// The level is left as if given up.
    None,
    /// Play goes on where the level was entered.
    Entry,
    /// Play goes on where a death would put the player: at the last checkpoint, or with `respawn = "entry"` where the
    /// level was entered.
    #[default]
    Checkpoint,
}

impl Spec {
    /// Reads a spec from TOML and checks it.
    ///
    /// # Errors
    /// Everything that is wrong with the document, at once, each with its place and a help line.
    pub fn from_toml(text: &str) -> Result<Spec, Diagnostics> {
        Spec::from_named_toml("spec.toml", text)
    }

    /// The same, with the name that messages give the document.
    ///
    /// # Errors
    /// As [`Spec::from_toml`].
    pub fn from_named_toml(name: &str, text: &str) -> Result<Spec, Diagnostics> {
        let (spec, mut errors, _) = Spec::read(text, None);
        // A game that was built without its history would refuse the saves of its older versions.
        if let Some(spec) = &spec
            && let Some(first) = spec.0.document.migrations.first()
        {
            let message = "there are migrations, and no history that tells what saves they come from";
            errors.push(Diagnostic::error(crate::codes::NO_HISTORY, first.to.span, message).help(
                "a game reads both, with `Spec::from_toml_with_history`; the program finds `SPEC.history.json` beside the spec",
            ));
        }
        match spec {
            Some(spec) if errors.is_empty() => Ok(spec),
            _ => Err(Diagnostics::new(name, text, errors)),
        }
    }

    /// Reads a spec with the history of its versions: it loads the saves of all of them, by its migrations.
    ///
    /// The history is what `vestigum freeze` writes beside the spec. A game builds both in:
    /// `Spec::from_toml_with_history(include_str!("fellpost.toml"), include_str!("fellpost.history.json"))`.
    ///
    /// # Errors
    /// As [`Spec::from_toml`]; and if a save of an older version would lose something that no migration speaks of.
    pub fn from_toml_with_history(text: &str, history: &str) -> Result<Spec, Diagnostics> {
        let history = History::from_json("spec.history.json", history)?;
        Spec::from_named_toml_with_history("spec.toml", text, history)
    }

    /// The same, with the name that messages give the document.
    ///
    /// # Errors
    /// As [`Spec::from_toml_with_history`].
    pub fn from_named_toml_with_history(name: &str, text: &str, history: History) -> Result<Spec, Diagnostics> {
        let (spec, mut errors, needs) = Spec::read(text, Some(Arc::new(history)));
        errors.extend(needs.into_iter().map(|need| need.diagnostic));
        match spec {
            Some(spec) if errors.is_empty() => Ok(spec),
            _ => Err(Diagnostics::new(name, text, errors)),
        }
    }

    /// The spec, if the document is sound enough to be one; what is wrong with it; and what its history asks for.
    pub(crate) fn read(text: &str, history: Option<Arc<History>>) -> (Option<Spec>, Vec<Diagnostic>, Vec<Need>) {
        let (document, mut errors) = read::read(text);
        let data = resolve::resolve(&document, text, &mut errors);
        let Some(mut data) = data.filter(|_| errors.is_empty()) else { return (None, errors, Vec::new()) };
        let needs = migration::prepare(&mut data, history, text, &mut errors);
        (Some(Spec::of_data(data)), errors, needs)
    }

    /// The spec that a changed document gives; none if it is not sound. Whatever the change does to the shape, saves of
    /// older versions are migrated as before.
    pub(crate) fn of_document(&self, document: &document::Document) -> Option<Spec> {
        let mut errors = Vec::new();
        let mut data = resolve::resolve(document, "", &mut errors)?;
        if !errors.is_empty() {
            return None;
        }
        migration::prepare(&mut data, self.0.history.clone(), "", &mut Vec::new());
        Some(Spec(Arc::new(data), self.1.clone()))
    }

    pub(crate) fn of_data(data: SpecData) -> Spec {
        Spec(Arc::new(data), Arc::default())
    }

    /// Gives the migration to version `to` the code it needs: a hook gets every save that comes to that version, as it
    /// was and as the steps have made it, and finishes the new one. It works on names and values as they are saved.
    ///
    /// ```
    /// use vestigum_core::image::Tree;
    /// use vestigum_core::migration::HookError;
    /// use vestigum_core::{History, Image, Progress, Spec};
    ///
    /// let old = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.route]\ntype = \"text\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
    /// let history = History::default().freeze(&old)?.history;
    /// let mut game = Progress::fresh(&old);
    /// game.write("route", &[], "ford stile".into())?;
    /// let saved = game.suspend().profile_image("ada");
    ///
    /// let spec = Spec::from_named_toml_with_history("fellpost.toml", r#"
    ///     [game]
    ///     id = "fellpost"
    ///     version = 2
    ///     [field.route]
    ///     type = "list of text"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     [[migration]]
    ///     to = 2
    ///     steps = [{ hook = "route" }]
    /// "#, history)?;
    /// let spec = spec.with_hook(2, |old: &Image, new: &mut Image| {
    ///     let Some(Tree::Text(route)) = old.values.get("route") else {
    ///         return Err(HookError::new("route", "it is no text"));
    ///     };
    ///     let names = route.split(' ').map(|name| Tree::Text(name.into())).collect();
    ///     new.values.insert("route".into(), Tree::List(names));
    ///     Ok(())
    /// });
    /// let game = Progress::launch(&spec, Some(&saved), None)?.progress;
    /// assert_eq!(game.value("route", &[])?.to_string(), "['ford', 'stile']");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn with_hook(
        mut self,
        to: i64,
        hook: impl Fn(&Image, &mut Image) -> Result<(), HookError> + Send + Sync + 'static,
    ) -> Spec {
        Arc::make_mut(&mut self.1).add(to, Arc::new(hook));
        self
    }

    /// The history that the spec was read with.
    pub fn history(&self) -> Option<&History> {
        self.0.history.as_deref()
    }

    /// The id of the game; images of another game are refused.
    pub fn id(&self) -> &str {
        &self.0.id
    }

    /// The title of the game, for people.
    pub fn title(&self) -> &str {
        &self.0.title
    }

    /// The version of the saved data.
    pub fn version(&self) -> i64 {
        self.0.version
    }

    /// The levels: those in `order` first, the others after them.
    pub fn levels(&self) -> impl ExactSizeIterator<Item = &Level> {
        self.0.levels.iter()
    }

    /// The fields in the order of the document, the built-ins `completed` and `opened` last.
    pub fn fields(&self) -> impl ExactSizeIterator<Item = &Field> {
        self.0.fields.iter()
    }

    /// The key sets in the order of the document.
    pub fn key_sets(&self) -> impl ExactSizeIterator<Item = &KeySet> {
        self.0.key_sets.iter()
    }

    /// The tables in the order of the document.
    pub fn tables(&self) -> impl ExactSizeIterator<Item = &Table> {
        self.0.tables.iter()
    }

    /// The derived values, each after those it reads.
    pub fn derived(&self) -> impl ExactSizeIterator<Item = &Derived> {
        self.0.derived.iter()
    }

    /// What play can give, for exploring.
    pub fn sources(&self) -> impl ExactSizeIterator<Item = &Source> {
        self.0.sources.iter()
    }

    /// What must hold in every state that play can reach.
    pub fn promises(&self) -> impl ExactSizeIterator<Item = &Promise> {
        self.0.promises.iter()
    }

    /// The moments at which the progress is saved, besides quit and reset, which always save.
    pub fn save_at(&self) -> &[Moment] {
        &self.0.save_at
    }

    /// How many older generations of an image are kept for recovery.
    pub fn keep(&self) -> u32 {
        self.0.keep
    }

    /// What a save made inside a level brings back.
    pub fn resume(&self) -> Resume {
        self.0.resume
    }

    /// Where a death puts the player.
    pub fn respawn(&self) -> Respawn {
        self.0.respawn
    }

    /// The condition under which the run is over, as it was written.
    pub fn over_when(&self) -> Option<&str> {
        self.0.over_when.as_ref().map(Expression::source)
    }

    /// All moments of this game: the built-in ones, then its own.
    pub fn moments(&self) -> impl Iterator<Item = Moment> + use<> {
        let own = u16::try_from(self.0.own_moments.len()).unwrap_or(u16::MAX);
        Moment::BUILT_IN.into_iter().chain((0..own).map(Moment::Own))
    }

    /// The name of a moment in this game.
    pub fn moment_name(&self, moment: Moment) -> &str {
        self.0.moment_name(moment)
    }

    /// The moment that bears `name`.
    pub fn moment(&self, name: &str) -> Option<Moment> {
        self.0.moment(name)
    }

    /// What one moment does to one field, as the rules say it. At a moment that this game does not have nothing happens.
    ///
    /// # Panics
    /// If the moment or the field is of another spec: take them from this one's [`Spec::moments`] and [`Spec::fields`].
    pub fn fate(&self, field: &Field, moment: Moment) -> &crate::fate::FieldFate {
        self.0.plan.fate(field.id, moment)
    }

    /// A handle on an int field that has one value.
    ///
    /// # Errors
    /// If there is no such field, or it is of another type or keyed.
    pub fn int(&self, name: &str) -> Result<Handle<i64>, HandleError> {
        self.handle(name)
    }

    /// A handle on a bool field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn bool(&self, name: &str) -> Result<Handle<bool>, HandleError> {
        self.handle(name)
    }

    /// A handle on a float field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn float(&self, name: &str) -> Result<Handle<f64>, HandleError> {
        self.handle(name)
    }

    /// A handle on a text field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn text(&self, name: &str) -> Result<Handle<str>, HandleError> {
        self.handle(name)
    }

    /// A handle on an int field that has a value for each level.
    ///
    /// # Errors
    /// If there is no such field, or it is of another type or not per level.
    pub fn int_per_level(&self, name: &str) -> Result<PerLevel<i64>, HandleError> {
        self.per_level(name)
    }

    /// A handle on a bool field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn bool_per_level(&self, name: &str) -> Result<PerLevel<bool>, HandleError> {
        self.per_level(name)
    }

    /// A handle on a float field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn float_per_level(&self, name: &str) -> Result<PerLevel<f64>, HandleError> {
        self.per_level(name)
    }

    /// A handle on a text field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn text_per_level(&self, name: &str) -> Result<PerLevel<str>, HandleError> {
        self.per_level(name)
    }

    fn handle<T: Scalar + ?Sized>(&self, name: &str) -> Result<Handle<T>, HandleError> {
        Handle::check(self, name)
    }

    fn per_level<T: Scalar + ?Sized>(&self, name: &str) -> Result<PerLevel<T>, HandleError> {
        PerLevel::check(self, name)
    }
}

impl SpecData {
    #[inline]
    pub fn field(&self, id: FieldId) -> &Field {
        &self.fields[id.0 as usize]
    }

    pub fn find_field(&self, name: &str) -> Option<&Field> {
        self.field_ids.get(name).map(|id| self.field(*id))
    }

    pub fn level(&self, level: u32) -> &Level {
        &self.levels[level as usize]
    }

    pub fn moment_name(&self, moment: Moment) -> &str {
        match moment {
            Moment::Own(n) => self.own_moments.get(usize::from(n)).map_or("?", |name| name),
            built_in => built_in.word().unwrap_or_default(),
        }
    }

    pub fn moment(&self, name: &str) -> Option<Moment> {
        Moment::from_word(name).or_else(|| {
            let n = self.own_moments.iter().position(|own| &**own == name)?;
            u16::try_from(n).ok().map(Moment::Own)
        })
    }

    /// The slot that holds whether `level` is open.
    pub fn opened_slot(&self, level: u32) -> usize {
        self.field(self.opened).slot_at(&[level])
    }
}

/// Whether a name made at run time can be a key.
pub(crate) use resolve::{is_made_name, key_text};

impl Accept {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Accept::Any => "any",
            Accept::Forward => "forward",
            Accept::Next => "next",
        }
    }
}

impl Resume {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Resume::None => "none",
            Resume::Entry => "entry",
            Resume::Checkpoint => "checkpoint",
        }
    }

    /// The mode that `word` names.
    pub fn from_word(word: &str) -> Option<Resume> {
        [Resume::None, Resume::Entry, Resume::Checkpoint].into_iter().find(|mode| mode.word() == word)
    }
}
