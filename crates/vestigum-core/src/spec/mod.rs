//! The spec: the document that says what persists.
//!
//! A spec walks through three rooms: `read` turns TOML into a document that still has the places of
//! everything, `resolve` gives every name its meaning and checks types, and the [`Spec`] that comes out is immutable,
//! cheap to clone and holds the plan of every moment.

pub mod counters;
pub mod updates;

use std::fmt;
use std::sync::Arc;

use serde::de::DeserializeOwned;

use crate::applying::hook::{HookError, Hooks};
use crate::handle::Handle;
use crate::handle::derived::{DerivedHandle, DerivedPerKey};
use crate::handle::error::HandleError;
use crate::handle::field_value::FieldValue;
use crate::handle::keyed::PerKey;
use crate::image::Image;
use crate::progress::redeem::{CodeError, read};
use vestigum_spec::checked::CheckedSpec;
use vestigum_spec::diagnostic::Diagnostics;
use vestigum_spec::document::Document;
use vestigum_spec::document::write;
use vestigum_spec::history::History;
use vestigum_spec::migration::Updates;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::KeySet;
use vestigum_spec::model::code::Code;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::level::{Derived, Level};
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::model::promise::Promise;
use vestigum_spec::model::source::Source;
use vestigum_spec::model::table::Table;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::policy::{Respawn, Resume};

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
pub struct Spec {
    checked: CheckedSpec,
    hooks: Arc<Hooks>,
}

impl Spec {
    /// Returns what its document means, without what runs it: for tools over specs.
    pub fn checked(&self) -> &CheckedSpec {
        &self.checked
    }
}

impl AsRef<CheckedSpec> for Spec {
    fn as_ref(&self) -> &CheckedSpec {
        &self.checked
    }
}

impl Spec {
    /// Reads a spec from TOML and checks it.
    ///
    /// # Errors
    /// Everything that is wrong with the document, at once, each with its place and a help line.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Spec};
    /// let wrong = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.score]\ntype = \"number\"\nlasts = \"device\"").unwrap_err();
    /// assert_eq!(wrong.errors(), 1);
    /// println!("{wrong}");                               // what is wrong, with line and column
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn from_toml(text: &str) -> Result<Spec, Diagnostics> {
        Spec::from_named_toml("spec.toml", text)
    }

    /// Reads a spec as [`Spec::from_toml`] does; `name` is what messages call the document.
    ///
    /// # Errors
    /// As [`Spec::from_toml`].
    pub fn from_named_toml(name: &str, text: &str) -> Result<Spec, Diagnostics> {
        CheckedSpec::from_named_toml(name, text).map(Spec::of_checked)
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

    /// Reads a spec with its history as [`Spec::from_toml_with_history`] does; `name` is what messages call the document.
    ///
    /// # Errors
    /// As [`Spec::from_toml_with_history`].
    pub fn from_named_toml_with_history(name: &str, text: &str, history: History) -> Result<Spec, Diagnostics> {
        CheckedSpec::from_named_toml_with_history(name, text, history).map(Spec::of_checked)
    }

    /// Makes a spec of one that was read by itself: for the crates of this project.
    #[doc(hidden)]
    pub fn of_checked(checked: CheckedSpec) -> Spec {
        Spec { checked, hooks: Arc::default() }
    }

    /// The spec that a changed document gives; none if it is not sound. Whatever the change does to the shape, saves of
    /// older versions are migrated as before.
    #[doc(hidden)]
    pub fn of_document(&self, document: &Document) -> Option<Spec> {
        Some(Spec { checked: self.checked.of_document(document)?, hooks: self.hooks.clone() })
    }

    /// Returns what the spec means: for the crates of this project.
    #[doc(hidden)]
    pub fn model(&self) -> &Arc<Model> {
        self.checked.model()
    }

    /// The ways of older versions to this one: for the crates of this project.
    #[doc(hidden)]
    pub fn updates(&self) -> &Updates {
        self.checked.updates()
    }

    /// The game's code for migrations: for the crates of this project.
    #[doc(hidden)]
    pub fn hooks(&self) -> &Hooks {
        &self.hooks
    }

    /// Returns the spec with missing hooks passed over: for tools that look at everything else.
    #[doc(hidden)]
    #[must_use]
    pub fn without_hooks(&self) -> Spec {
        let mut hooks = (*self.hooks).clone();
        hooks.leave_out();
        Spec { hooks: Arc::new(hooks), ..self.clone() }
    }

    /// Gives the migration to version `to` the code it needs: a hook gets every save that comes to that version, as it
    /// was and as the steps have made it, and finishes the new one. It works on names and values as they are saved.
    ///
    /// ```
    /// use vestigum_spec::value::tree::Tree;
    /// use vestigum_core::applying::hook::HookError;
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
    ///         return Err(HookError::new("route", "it is not a text"));
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
        Arc::make_mut(&mut self.hooks).add(to, Arc::new(hook));
        self
    }

    /// The spec as a TOML document, without the comments of the one it was read from.
    pub fn to_toml(&self) -> String {
        write(&self.model().document)
    }

    /// The history that the spec was read with.
    pub fn history(&self) -> Option<&History> {
        self.updates().history.as_deref()
    }

    /// The id of the game; images of another game are refused.
    pub fn id(&self) -> &str {
        &self.model().id
    }

    /// The title of the game, for people.
    pub fn title(&self) -> &str {
        &self.model().title
    }

    /// The version of the saved data.
    pub fn version(&self) -> i64 {
        self.model().version
    }

    /// The levels: those in `order` first, the others after them, and last those that players can make.
    pub fn levels(&self) -> impl ExactSizeIterator<Item = &Level> {
        self.model().levels.iter()
    }

    /// The levels that players can make, whether they are made or not: `made_1`, `made_2`, and so on.
    pub fn made_levels(&self) -> impl ExactSizeIterator<Item = &Level> {
        self.model().levels.iter().skip(self.model().made_levels.start as usize)
    }

    /// The fields in the order of the document, the built-ins `completed` and `opened` last.
    pub fn fields(&self) -> impl ExactSizeIterator<Item = &Field> {
        self.model().fields.iter()
    }

    /// The key sets in the order of the document.
    pub fn key_sets(&self) -> impl ExactSizeIterator<Item = &KeySet> {
        self.model().key_sets.iter()
    }

    /// The tables in the order of the document.
    pub fn tables(&self) -> impl ExactSizeIterator<Item = &Table> {
        self.model().tables.iter()
    }

    /// The derived values, each after those it reads; one that is kept per level or key is there once.
    pub fn derived_values(&self) -> impl Iterator<Item = &Derived> {
        self.model().derived.iter().filter(|derived| !derived.is_of_key)
    }

    /// Returns what play can give, for exploring.
    pub fn sources(&self) -> impl ExactSizeIterator<Item = &Source> {
        self.model().sources.iter()
    }

    /// Returns what must hold in every state that play can reach.
    pub fn promises(&self) -> impl ExactSizeIterator<Item = &Promise> {
        self.model().promises.iter()
    }

    /// The moments at which the progress is saved, besides quit and reset, which always save.
    pub fn save_at(&self) -> &[Moment] {
        &self.model().save_at
    }

    /// Returns whether it says how saves of two places are merged.
    pub fn merges(&self) -> bool {
        self.model().merging.is_some()
    }

    /// Returns how many older generations of an image are kept for recovery.
    pub fn keep(&self) -> u32 {
        self.model().keep
    }

    /// Returns what a save made inside a level brings back.
    pub fn resume(&self) -> Resume {
        self.model().resume
    }

    /// Returns where a death puts the player.
    pub fn respawn(&self) -> Respawn {
        self.model().respawn
    }

    /// The condition under which the run is over, as it was written.
    pub fn over_when(&self) -> Option<&str> {
        self.model().over_when.as_ref().map(Expression::source)
    }

    /// Returns how a field is merged when two installations changed it; none if the spec has no `[merge]`.
    pub fn merge_of(&self, field: &Field) -> Option<FieldMerge> {
        self.model().merging.as_ref()?.fields.get(field.id.0 as usize).copied()
    }

    /// The number by which two runs are compared when saves are merged, as it was written.
    pub fn merge_run(&self) -> Option<&str> {
        self.model().merging.as_ref()?.run.as_ref().map(Expression::source)
    }

    /// All moments of this game: the built-in ones, then its own.
    pub fn moments(&self) -> impl Iterator<Item = Moment> + use<> {
        let moments: Vec<Moment> = self.model().moments().collect();
        moments.into_iter()
    }

    /// The values that a code stands for, each with the entry's name as expressions say it.
    ///
    /// # Errors
    /// If there is no such code, or the text or number does not belong to it.
    pub fn read_code(&self, name: impl AsRef<str>, code: impl fmt::Display) -> Result<Vec<(String, Value)>, CodeError> {
        let name = name.as_ref();
        let found = self.model().find_code(name);
        let of = found.map_err(|nearest| CodeError::UnknownCode { name: name.to_owned(), nearest })?;
        let (number, _) = read(of, &code.to_string())?;
        let values = of.values(&self.model().fields, number);
        Ok(values.map(|(digit, value)| (digit.entry().to_owned(), value)).collect())
    }

    /// The codes, in the order of the document.
    pub fn codes(&self) -> impl ExactSizeIterator<Item = &Code> {
        self.model().codes.iter()
    }

    /// The folder in which every level has a file, as `[levels] assets` names it: from where the spec is.
    pub fn assets(&self) -> Option<&str> {
        self.model().assets.as_deref()
    }

    /// The name of a moment in this game.
    pub fn moment_name(&self, moment: Moment) -> &str {
        self.model().moment_name(moment)
    }

    /// The moment that has `name`.
    pub fn moment(&self, name: &str) -> Option<Moment> {
        self.model().moment(name)
    }

    /// Returns what one moment does to one field, as the rules say it. At a moment that this game does not have nothing happens.
    ///
    /// # Panics
    /// If the moment or the field is of another spec: take them from this one's [`Spec::moments`] and [`Spec::fields`].
    pub fn fate(&self, field: &Field, moment: Moment) -> &vestigum_spec::model::fates::FieldFate {
        self.model().plan.fate(field.id, moment)
    }

    /// A handle on a field that has one value, as a Rust type: a number, a text, a struct or an enum of the game's own, a
    /// collection of them. See [`FieldValue`] for what fits.
    ///
    /// # Errors
    /// If there is no such field, the type does not fit it in both directions, or it has a value for each key of something. The
    /// error says which call reads it.
    ///
    /// # Example
    ///
    /// ```
    /// use serde::{Deserialize, Serialize};
    /// use vestigum_core::{Progress, Spec};
    ///
    /// #[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
    /// struct Hound {
    ///     name: String,
    ///     health: u8,
    /// }
    ///
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [struct.hound]
    ///     name = "text"
    ///     health = { type = "int", default = 10, range = [0, 10] }
    ///     [field.team]
    ///     type = "list of hound"
    ///     lasts = "run"
    ///     after_failure = "keep"
    /// "#)?;
    /// let team = spec.field::<Vec<Hound>>("team")?;      // the shape is checked here
    /// let mut game = Progress::fresh(&spec);
    /// game.set(team, vec![Hound { name: "Rook".into(), health: 7 }])?;
    /// assert_eq!(game.get(team)[0].name, "Rook");
    /// assert!(spec.field::<Vec<String>>("team").is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn field<T: FieldValue + ?Sized>(&self, name: &str) -> Result<Handle<T>, HandleError> {
        Handle::new(self.model(), name)
    }

    /// A handle on a field that has a value for each key of something; `N` is how many names a key has. Its
    /// [`at`](PerKey::at) gives the handle on one entry.
    ///
    /// # Errors
    /// As [`Spec::field`], and if its keys have another number of names, or are names that play makes.
    pub fn field_per<T: FieldValue + ?Sized, const N: usize>(&self, name: &str) -> Result<PerKey<T, N>, HandleError> {
        PerKey::new(self.model(), name)
    }

    /// A handle on a derived value, which [`Progress::get`](crate::Progress::get) computes.
    ///
    /// # Errors
    /// If there is no such value, the type does not read it, or it is kept per level or key.
    pub fn derived<T: DeserializeOwned>(&self, name: &str) -> Result<DerivedHandle<T>, HandleError> {
        DerivedHandle::new(self.model(), name)
    }

    /// A handle on a derived value that is kept per level or key; its [`at`](DerivedPerKey::at) gives the handle on one.
    ///
    /// # Errors
    /// If there is no such value, the type does not read it, or it has one value.
    pub fn derived_per<T: DeserializeOwned>(&self, name: &str) -> Result<DerivedPerKey<T>, HandleError> {
        DerivedPerKey::new(self.model(), name)
    }

    /// A handle on an int field that has one value.
    ///
    /// # Errors
    /// If there is no such field, or it is of another type or keyed.
    pub fn int(&self, name: &str) -> Result<Handle<i64>, HandleError> {
        self.field(name)
    }

    /// A handle on a bool field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn bool(&self, name: &str) -> Result<Handle<bool>, HandleError> {
        self.field(name)
    }

    /// A handle on a float field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn float(&self, name: &str) -> Result<Handle<f64>, HandleError> {
        self.field(name)
    }

    /// A handle on a text field that has one value.
    ///
    /// # Errors
    /// As [`Spec::int`].
    pub fn text(&self, name: &str) -> Result<Handle<str>, HandleError> {
        self.field(name)
    }

    /// A handle on an int field that has a value for each level.
    ///
    /// # Errors
    /// If there is no such field, or it is of another type or not per level.
    pub fn int_per_level(&self, name: &str) -> Result<PerKey<i64>, HandleError> {
        self.field_per(name)
    }

    /// A handle on a bool field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn bool_per_level(&self, name: &str) -> Result<PerKey<bool>, HandleError> {
        self.field_per(name)
    }

    /// A handle on a float field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn float_per_level(&self, name: &str) -> Result<PerKey<f64>, HandleError> {
        self.field_per(name)
    }

    /// A handle on a text field that has a value for each level.
    ///
    /// # Errors
    /// As [`Spec::int_per_level`].
    pub fn text_per_level(&self, name: &str) -> Result<PerKey<str>, HandleError> {
        self.field_per(name)
    }
}
