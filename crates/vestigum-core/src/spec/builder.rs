//! Building a spec in Rust.
//!
//! The builder says the same things as the document, with the same words; it writes the document and reads it, so that
//! there is one set of rules and one set of messages.

use crate::diagnostic::{Diagnostics, SourceSpan, Spanned};
use crate::document::{
    DerivedEntry, Document, EffectEntry, FieldEntry, KeysEntry, LevelEntry, MadeEntry, MigrationEntry, RuleEntry,
    StepEntry, TableEntry, Word, write,
};
use crate::history::History;
use crate::spec::Spec;
use crate::value::Value;
use crate::vocabulary::fate::{Operation, PlainFate};
use crate::vocabulary::merging::MergeLaw;
use crate::vocabulary::policy::{Accept, Respawn, Resume};
use crate::vocabulary::span::{Span, WrittenBy};
use crate::vocabulary::time::{CountsIn, TimeUnit};

/// A spec that is being written.
#[derive(Clone, Debug, Default)]
#[must_use]
pub struct SpecBuilder {
    document: Document,
}

/// A level that is being written.
#[derive(Clone, Debug)]
#[must_use]
pub struct LevelBuilder {
    name: Word,
    entry: LevelEntry,
}

/// A field that is being written.
#[derive(Clone, Debug)]
#[must_use]
pub struct FieldBuilder {
    name: Word,
    entry: FieldEntry,
}

/// A member of a struct that is being written.
#[derive(Clone, Debug)]
#[must_use]
pub struct MemberBuilder {
    name: Word,
    entry: FieldEntry,
}

impl MemberBuilder {
    /// A member of a type.
    pub fn new(name: &str, ty: &str) -> MemberBuilder {
        MemberBuilder { name: word(name), entry: FieldEntry { ty: Some(word(ty)), ..FieldEntry::default() } }
    }

    /// The names of a choice.
    pub fn of<I: IntoIterator<Item = T>, T: Into<String>>(mut self, names: I) -> Self {
        self.entry.of = words(names);
        self
    }

    /// What it is in a struct to which nothing was written.
    pub fn default(mut self, value: impl Into<Value>) -> Self {
        self.entry.default = Some(at(value.into()));
        self
    }

    /// The lowest and the highest value.
    pub fn range(mut self, lowest: impl Into<Value>, highest: impl Into<Value>) -> Self {
        self.entry.range = Some(at((at(lowest.into()), at(highest.into()))));
        self
    }

    /// The most characters, bytes or values.
    pub fn max_len(mut self, len: i64) -> Self {
        self.entry.max_len = Some(at(len));
        self
    }
}

impl From<(&str, &str)> for MemberBuilder {
    fn from((name, ty): (&str, &str)) -> MemberBuilder {
        MemberBuilder::new(name, ty)
    }
}

/// A rule that is being written.
#[derive(Clone, Debug)]
#[must_use]
pub struct RuleBuilder(RuleEntry);

/// A migration that is being written.
#[derive(Clone, Debug)]
#[must_use]
pub struct MigrationBuilder(MigrationEntry);

fn word(text: impl Into<String>) -> Word {
    Spanned::new(text.into(), SourceSpan::default())
}

fn words<I: IntoIterator<Item = T>, T: Into<String>>(texts: I) -> Vec<Word> {
    texts.into_iter().map(word).collect()
}

fn at<T>(value: T) -> Spanned<T> {
    Spanned::new(value, SourceSpan::default())
}

impl Spec {
    /// Begins a spec for the game of that id.
    ///
    /// ```
    /// use vestigum_core::Spec;
    /// use vestigum_core::vocabulary::fate::PlainFate;
    /// use vestigum_core::Span;
    /// use vestigum_core::spec::builder::{FieldBuilder, RuleBuilder};
    ///
    /// let spec = Spec::builder("fellpost")
    ///     .order(["mill_lane", "heather_rise"])
    ///     .field(FieldBuilder::new("letters", "int").lasts(Span::Visit).after_failure(PlainFate::Checkpoint))
    ///     .field(
    ///         FieldBuilder::new("best_letters", "int")
    ///             .per(["level"])
    ///             .lasts(Span::Profile)
    ///             .on("complete", RuleBuilder::max("letters")),
    ///     )
    ///     .build()?;
    /// assert_eq!(Spec::from_toml(&spec.to_toml())?.to_toml(), spec.to_toml());
    /// # Ok::<(), vestigum_core::Diagnostics>(())
    /// ```
    pub fn builder(id: &str) -> SpecBuilder {
        let mut builder = SpecBuilder::default();
        builder.document.game.id = Some(word(id));
        builder
    }

    /// The spec as a TOML document, without the comments of the one it was read from.
    pub fn to_toml(&self) -> String {
        write::write(&self.model.document)
    }
}

impl SpecBuilder {
    /// The title of the game.
    pub fn title(mut self, title: &str) -> Self {
        self.document.game.title = Some(title.to_owned());
        self
    }

    /// The version of the saved data.
    pub fn version(mut self, version: i64) -> Self {
        self.document.game.version = Some(at(version));
        self
    }

    /// The levels in their order.
    pub fn order<I: IntoIterator<Item = T>, T: Into<String>>(mut self, levels: I) -> Self {
        self.document.order = words(levels);
        self
    }

    /// All levels are open from the beginning.
    pub fn all_open(mut self) -> Self {
        self.document.opening = Some(word("all"));
        self
    }

    /// `completed` and `opened` last one run.
    pub fn levels_last_a_run(mut self) -> Self {
        self.document.levels_last = Some(word("run"));
        self
    }

    /// The moments at which `completed` and `opened` begin anew: `new_run`, or one of [`SpecBuilder::new_runs`]. Left out,
    /// every one at which a run begins.
    pub fn cleared_at<I: IntoIterator<Item = T>, T: Into<String>>(mut self, moments: I) -> Self {
        self.document.cleared_at = words(moments);
        self
    }

    /// The folder in which every level has a file.
    pub fn assets(mut self, folder: &str) -> Self {
        self.document.assets = Some(word(folder));
        self
    }

    /// How many levels players can make, the field that holds their titles, and what goes along when one is exported.
    pub fn made_levels<I: IntoIterator<Item = T>, T: Into<String>>(
        mut self,
        max: i64,
        title: Option<&str>,
        carries: I,
    ) -> Self {
        let title = title.map(word);
        self.document.made =
            Some(MadeEntry { max: Some(at(max)), title, carries: words(carries), ..Default::default() });
        self
    }

    /// What is special about a level.
    pub fn level(mut self, level: LevelBuilder) -> Self {
        self.document.levels.push((level.name, level.entry));
        self
    }

    /// A closed key set.
    pub fn keys<I: IntoIterator<Item = T>, T: Into<String>>(mut self, name: &str, names: I) -> Self {
        self.document.keys.push((word(name), KeysEntry { names: words(names), ..KeysEntry::default() }));
        self
    }

    /// A closed key set of which a choice field says which key is meant.
    pub fn keys_by<I: IntoIterator<Item = T>, T: Into<String>>(mut self, name: &str, names: I, current: &str) -> Self {
        let entry = KeysEntry { names: words(names), current: Some(word(current)), ..KeysEntry::default() };
        self.document.keys.push((word(name), entry));
        self
    }

    /// A key set whose names are made at run time, `max` at the most.
    pub fn open_keys(mut self, name: &str, max: i64) -> Self {
        let entry = KeysEntry { open: true, max: Some(at(max)), ..KeysEntry::default() };
        self.document.keys.push((word(name), entry));
        self
    }

    /// A struct type and its members. A pair is the name of a member and the word for its type.
    pub fn structure<M: Into<MemberBuilder>>(mut self, name: &str, members: impl IntoIterator<Item = M>) -> Self {
        let members = members.into_iter().map(|member| {
            let MemberBuilder { name, entry } = member.into();
            (name, entry)
        });
        self.document.structs.push((word(name), members.collect()));
        self
    }

    /// A table of ascending steps; `falling` where low is good.
    pub fn table<I: IntoIterator<Item = T>, T: Into<Value>>(mut self, name: &str, steps: I, falling: bool) -> Self {
        let steps = steps.into_iter().map(|step| at(step.into())).collect();
        self.document.tables.push((word(name), TableEntry { steps: Some(steps), falling, ..TableEntry::default() }));
        self
    }

    /// A table by a formula: the n-th step needs `first * times^(n-1) + add * (n-1)` more.
    pub fn formula(mut self, name: &str, first: f64, times: f64, add: f64, count: i64) -> Self {
        let number = |number: f64| Some(at(Value::float(number)));
        let (first, times, add) = (number(first), number(times), number(add));
        let entry = TableEntry { first, times, add, count: Some(at(count)), ..TableEntry::default() };
        self.document.tables.push((word(name), entry));
        self
    }

    /// A field.
    pub fn field(mut self, field: FieldBuilder) -> Self {
        self.document.fields.push((field.name, field.entry));
        self
    }

    /// A derived value.
    pub fn derived(mut self, name: &str, expression: &str) -> Self {
        self.document.derived.push((word(name), DerivedEntry { per: None, label: None, value: word(expression) }));
        self
    }

    /// A derived value for each level (`"level"`) or for each key of a set.
    pub fn derived_per(mut self, name: &str, axis: &str, expression: &str) -> Self {
        self.document
            .derived
            .push((word(name), DerivedEntry { per: Some(word(axis)), label: None, value: word(expression) }));
        self
    }

    /// The game's own moments.
    pub fn moments<I: IntoIterator<Item = T>, T: Into<String>>(mut self, names: I) -> Self {
        self.document.moments = words(names);
        self
    }

    /// The game's own moments that begin a run, as `new_run` does.
    pub fn new_runs<I: IntoIterator<Item = T>, T: Into<String>>(mut self, names: I) -> Self {
        self.document.new_runs = words(names);
        self
    }

    /// When the run is over, judged after every failure.
    pub fn over_when(mut self, condition: &str) -> Self {
        self.document.over_when = Some(word(condition));
        self
    }

    /// Saves of two installations become one: see `merge` of fields.
    pub fn merge(mut self) -> Self {
        self.document.merge.get_or_insert_default();
        self
    }

    /// The same, and the number by which two runs are compared: the higher one stays.
    pub fn merge_runs_by(mut self, number: &str) -> Self {
        self.document.merge.get_or_insert_default().run = Some(word(number));
        self
    }

    /// Where a death puts the player.
    pub fn respawn(mut self, respawn: Respawn) -> Self {
        self.document.respawn = Some(word(respawn.word()));
        self
    }

    /// Which checkpoints count.
    pub fn accept(mut self, accept: Accept) -> Self {
        self.document.accept = Some(word(accept.word()));
        self
    }

    /// The moments at which the game saves, besides quit and reset.
    pub fn save_at<I: IntoIterator<Item = T>, T: Into<String>>(mut self, moments: I) -> Self {
        self.document.save.at = words(moments);
        self
    }

    /// What a save made inside a level brings back.
    pub fn resume(mut self, resume: Resume) -> Self {
        self.document.save.resume = Some(word(resume.word()));
        self
    }

    /// How many generations are kept for recovery.
    pub fn keep(mut self, keep: u32) -> Self {
        self.document.save.keep = Some(at(i64::from(keep)));
        self
    }

    /// Checks the spec.
    ///
    /// # Errors
    /// Everything that is wrong with it, at once, shown on the TOML document that says the same.
    pub fn build(self) -> Result<Spec, Diagnostics> {
        Spec::from_named_toml("the spec that was built", &write::write(&self.document))
    }

    /// A migration.
    pub fn migration(mut self, migration: MigrationBuilder) -> Self {
        self.document.migrations.push(migration.0);
        self
    }

    /// Checks the spec, and that it loses nothing of the versions in the history.
    ///
    /// # Errors
    /// As [`SpecBuilder::build`] and [`Spec::from_toml_with_history`].
    pub fn build_with_history(self, history: History) -> Result<Spec, Diagnostics> {
        Spec::from_named_toml_with_history("the spec that was built", &write::write(&self.document), history)
    }
}

impl MigrationBuilder {
    /// The migration that leads to a version from the one before it.
    pub fn to(version: i64) -> Self {
        MigrationBuilder(MigrationEntry { to: at(version), steps: Vec::new() })
    }

    fn step(mut self, step: StepEntry) -> Self {
        self.0.steps.push(at(step));
        self
    }

    /// A `field`, `level` or `key set` bears another name.
    pub fn rename(self, what: &str, from: &str, to: &str) -> Self {
        self.step(StepEntry::Rename { what: word(what), of: None, from: word(from), to: word(to) })
    }

    /// A `checkpoint`, `key`, `choice` or `struct field` bears another name: one `of` a level, key set, field or struct.
    pub fn rename_of(self, what: &str, of: &str, from: &str, to: &str) -> Self {
        self.step(StepEntry::Rename { what: word(what), of: Some(word(of)), from: word(from), to: word(to) })
    }

    /// A field, or one entry of it, is made of an expression over the old values.
    pub fn fill(self, target: &str, with: &str) -> Self {
        self.step(StepEntry::Fill { target: word(target), with: word(with) })
    }

    /// A `field` or `level` is given up.
    pub fn drop(self, what: &str, name: &str) -> Self {
        self.step(StepEntry::Drop { what: word(what), of: None, name: word(name) })
    }

    /// A `checkpoint`, `key`, `choice` or `struct field` is given up: one `of` a level, key set, field or struct.
    pub fn drop_of(self, what: &str, of: &str, name: &str) -> Self {
        self.step(StepEntry::Drop { what: word(what), of: Some(word(of)), name: word(name) })
    }

    /// A field belongs `to` the `device` now, or to the `profile`.
    pub fn moved(self, field: &str, to: &str) -> Self {
        self.step(StepEntry::Move { field: word(field), to: word(to) })
    }

    /// The game's own code makes the field: see [`Spec::with_hook`].
    pub fn hook(self, field: &str) -> Self {
        self.step(StepEntry::Hook { field: word(field) })
    }
}

impl LevelBuilder {
    /// A level.
    pub fn new(name: &str) -> Self {
        LevelBuilder { name: word(name), entry: LevelEntry::default() }
    }

    /// The name that players see.
    pub fn title(mut self, title: &str) -> Self {
        self.entry.title = Some(title.to_owned());
        self
    }

    /// Its checkpoints in the order of the way.
    pub fn checkpoints<I: IntoIterator<Item = T>, T: Into<String>>(mut self, names: I) -> Self {
        self.entry.checkpoints = words(names);
        self
    }

    /// The condition under which it opens.
    pub fn opens(mut self, condition: &str) -> Self {
        self.entry.opens = Some(word(condition));
        self
    }

    /// The level after it.
    pub fn next(mut self, level: &str) -> Self {
        self.entry.next = Some(word(level));
        self
    }

    /// An exit that leads to another level.
    pub fn exit(mut self, name: &str, level: &str) -> Self {
        self.entry.exits.push((word(name), word(level)));
        self
    }

    /// The condition under which the board does not show it.
    pub fn hidden(mut self, condition: &str) -> Self {
        self.entry.hidden = Some(word(condition));
        self
    }

    /// Its file in the folder of [`SpecBuilder::assets`].
    pub fn asset(mut self, file: &str) -> Self {
        self.entry.asset = Some(word(file));
        self
    }

    /// Its own steps of a table.
    pub fn steps<I: IntoIterator<Item = T>, T: Into<Value>>(mut self, table: &str, steps: I) -> Self {
        self.entry.steps.push((word(table), steps.into_iter().map(|step| at(step.into())).collect()));
        self
    }
}

impl FieldBuilder {
    /// A field and the word for its type, as in `"int"` or `"map of parcel"`.
    pub fn new(name: &str, ty: &str) -> Self {
        FieldBuilder { name: word(name), entry: FieldEntry { ty: Some(word(ty)), ..FieldEntry::default() } }
    }

    /// How long it lasts.
    pub fn lasts(mut self, span: Span) -> Self {
        self.entry.lasts = Some(word(span.word()));
        self
    }

    /// What a failure does to it.
    pub fn after_failure(mut self, fate: PlainFate) -> Self {
        self.entry.after_failure = Some(word(fate.word()));
        self
    }

    /// Who writes it.
    pub fn written_by(mut self, writer: WrittenBy) -> Self {
        self.entry.written_by = Some(word(writer.word()));
        self
    }

    /// What it is keyed by: `level`, `checkpoint`, or key sets.
    pub fn per<I: IntoIterator<Item = T>, T: Into<String>>(mut self, axes: I) -> Self {
        self.entry.per = words(axes);
        self
    }

    /// The names of a choice.
    pub fn of<I: IntoIterator<Item = T>, T: Into<String>>(mut self, names: I) -> Self {
        self.entry.of = words(names);
        self
    }

    /// The lowest and the highest value.
    pub fn range<T: Into<Value>>(mut self, lowest: T, highest: T) -> Self {
        self.entry.range = Some(at((at(lowest.into()), at(highest.into()))));
        self
    }

    /// The value before anything was written.
    pub fn default(mut self, value: impl Into<Value>) -> Self {
        self.entry.default = Some(at(value.into()));
        self
    }

    /// By what the entries of a ranking are sorted, as in `"highest letters"`.
    pub fn by<I: IntoIterator<Item = T>, T: Into<String>>(mut self, members: I) -> Self {
        self.entry.by = words(members);
        self
    }

    /// The most characters, bytes or values.
    pub fn max_len(mut self, len: i64) -> Self {
        self.entry.max_len = Some(at(len));
        self
    }

    /// It begins without a value.
    pub fn optional(mut self) -> Self {
        self.entry.optional = true;
        self
    }

    /// What players call it, in the reasons of locks.
    pub fn label(mut self, label: &str) -> Self {
        self.entry.label = Some(label.to_owned());
        self
    }

    /// A write of play that changes it asks for a save at once.
    pub fn save(mut self) -> Self {
        self.entry.save = true;
        self
    }

    /// A list of players shows it: the one blob of the profile that is a picture of where it is.
    pub fn thumbnail(mut self) -> Self {
        self.entry.thumbnail = true;
        self
    }

    /// It counts milliseconds of play.
    pub fn counts_ms(mut self) -> Self {
        self.entry.counts = Some(word(TimeUnit::Ms.word()));
        self
    }

    /// A field that counts does so only inside a level.
    pub fn in_level(mut self) -> Self {
        self.entry.counts_in = Some(word(CountsIn::Level.word()));
        self
    }

    /// What becomes of it when two installations have changed it.
    pub fn merge(mut self, law: MergeLaw) -> Self {
        self.entry.merge = Some(word(law.word()));
        self
    }

    /// A rule at a moment. Of several at one moment the first whose condition holds decides.
    pub fn on(mut self, moment: &str, rule: RuleBuilder) -> Self {
        match self.entry.on.iter_mut().find(|(known, _)| known.value == moment) {
            Some((_, rules)) => rules.push(rule.0),
            None => self.entry.on.push((word(moment), vec![rule.0])),
        }
        self
    }
}

impl RuleBuilder {
    fn operand(operation: Operation, expression: &str) -> Self {
        RuleBuilder(RuleEntry { does: EffectEntry::Operand(at(operation), word(expression)), when: None })
    }

    /// A fate without an operand.
    pub fn fate(fate: PlainFate) -> Self {
        RuleBuilder(RuleEntry { does: EffectEntry::Bare(word(fate.word())), when: None })
    }

    /// The expression replaces the value.
    pub fn set(expression: &str) -> Self {
        Self::operand(Operation::Set, expression)
    }

    /// The expression is added.
    pub fn add(expression: &str) -> Self {
        Self::operand(Operation::Add, expression)
    }

    /// The higher of both stays.
    pub fn max(expression: &str) -> Self {
        Self::operand(Operation::Max, expression)
    }

    /// The lower of both stays.
    pub fn min(expression: &str) -> Self {
        Self::operand(Operation::Min, expression)
    }

    /// The values of both; the expression's win.
    pub fn union(expression: &str) -> Self {
        Self::operand(Operation::Union, expression)
    }

    /// The expression comes into a ranking, in its place.
    pub fn rank(expression: &str) -> Self {
        Self::operand(Operation::Rank, expression)
    }

    /// The condition under which the rule applies.
    pub fn when(mut self, condition: &str) -> Self {
        self.0.when = Some(word(condition));
        self
    }
}
