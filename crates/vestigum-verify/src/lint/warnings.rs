//! The mistakes of the trade: specs that work, and do what nobody meant.

use rustc_hash::{FxHashMap, FxHashSet};

use vestigum_core::{Diagnostic, Moment, Span, Spec};
use vestigum_spec::analysis::assume::can_decide;
use vestigum_spec::analysis::bounds::{Bounds, FieldBounds};
use vestigum_spec::analysis::monotone::Moves;
use vestigum_spec::codes;
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_spec::document::{EffectEntry, FieldEntry, Word};
use vestigum_spec::model::Model;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::{Level, Opening};
use vestigum_spec::model::source::Source;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::policy::Resume;

use super::Finding;
use super::kept::{self, has_checkpoints};

pub(super) fn warnings(spec: &Spec) -> Vec<Finding> {
    let mut found = super::issued::misread(spec);
    let spec = &**spec.model();
    let entries: FxHashMap<&str, &(Word, FieldEntry)> =
        spec.document.fields.iter().map(|said| (said.0.value.as_str(), said)).collect();
    for field in spec.fields.iter().filter(|field| !field.built_in) {
        let Some((name, entry)) = entries.get(&*field.name) else { continue };
        let about = Declared { spec, field, name, entry };
        let mut all: Vec<Diagnostic> = Vec::new();
        all.extend(about.farmable());
        all.extend(about.lowered_record());
        all.extend(about.undone_failures());
        all.extend(about.endless_lives());
        all.extend(about.no_checkpoint());
        all.extend(about.device_sum());
        all.extend(about.clock_turned_back());
        all.extend(about.nameless_ranking());
        all.extend(about.heavy_bytes());
        all.extend(about.large_save());
        all.extend(about.every_key());
        all.extend(about.price_given_back());
        let subject = || field.name.to_string();
        found.extend(all.into_iter().map(|diagnostic| Finding { subject: subject(), diagnostic }));
    }
    found.extend(no_steps(spec));
    found.extend(hidden_next(spec));
    found.extend(super::keyed::same_for_every_key(spec));
    found.extend(super::made::counted(spec));
    found
}

/// A field and what its document says.
pub(super) struct Declared<'s> {
    pub spec: &'s Model,
    pub field: &'s Field,
    pub name: &'s Word,
    pub entry: &'s FieldEntry,
}

impl Declared<'_> {
    /// Returns where the field is named.
    pub(super) fn name_span(&self) -> SourceSpan {
        self.name.span
    }

    /// Returns where a rule at a moment stands.
    pub(super) fn rule_span(&self, moment: Moment, index: usize) -> SourceSpan {
        let name = self.spec.moment_name(moment);
        let rules = self.entry.on.iter().find(|(word, _)| word.value == name);
        let effect = rules.and_then(|(_, rules)| rules.get(index)).map(|rule| match &rule.does {
            EffectEntry::Bare(word) => word.span,
            EffectEntry::Operand(word, operand) => word.span.to(operand.span),
        });
        effect.or(rules.map(|(word, _)| word.span)).unwrap_or_else(|| self.name_span())
    }

    /// The rules at a moment that can decide, each with its place: not those that the ones before it leave nothing.
    pub(super) fn rules(&self, moment: Moment) -> impl Iterator<Item = (usize, &Rule)> {
        let rules = &self.spec.plan.fate(self.field.id, moment).rules;
        let can = |index: usize| {
            let of = |field, _| Bounds::of_range(self.spec.field(field));
            can_decide(rules, index, self.spec, &FieldBounds::new(&of))
        };
        rules.iter().enumerate().filter(move |(index, _)| can(*index))
    }

    /// The place of the first rule at a moment that can decide and is so.
    pub(super) fn rule(&self, moment: Moment, is_so: impl Fn(&Rule) -> bool) -> Option<usize> {
        self.rules(moment).find(|(_, rule)| is_so(rule)).map(|(index, _)| index)
    }

    fn farmable(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if !field.ty.is_number() {
            return None;
        }
        let gains =
            |source: &&Source| self.gifts(source).any(|gift| gift > 0.0 && !self.reaches_its_highest(source, gift));
        // More is left of the value than of what it was taken from.
        let left = |source: &Source, moment: &Moment| {
            let (value, taken) = (kept::of_field(spec, field, *moment), kept::of_source(spec, source, *moment));
            value > taken && self.pays_less_than(*moment, self.gifts(source).fold(0.0, f64::max) * source.times as f64)
        };
        let quits = |source: &Source| {
            // With the session it comes back, wherever play stood.
            if source.lasts == Span::Session {
                return field.lasts.is_saved() && !field.needs_level();
            }
            let (value, taken) =
                (kept::of_field_after_quitting(spec, field), kept::of_source_after_quitting(spec, source));
            spec.resume != Resume::None && value > taken
        };
        // What is taken once in a visit is there again at the next, however the level was left.
        let failures = |source: &Source| kept::staying().chain(kept::leaving(field, source));
        let mut sources = spec.sources.iter().filter(gains);
        let (source, failure) = sources.find_map(|source| {
            let moment = failures(source).find(|moment| left(source, moment));
            let failure = moment.map(|moment| format!("a {}", spec.moment_name(*moment)));
            let quitting = if source.lasts == Span::Session { "quitting" } else { "quitting in the level" };
            Some((source, failure.or_else(|| quits(source).then(|| quitting.to_owned()))?))
        })?;
        let fed = if self.is_record() { "what is kept of it".to_owned() } else { self.feeds()? };
        let at = self.entry.after_failure.as_ref().map_or(self.name_span(), |word| word.span);
        let message = format!("`{}` can be farmed by failing: it feeds {fed}", field.name);
        let label = format!("the value survives {failure}, and the source `{}` comes back", source.name);
        let help = "let the value fall back too, with `\"entry\"` or `\"checkpoint\"`, or let the source stay taken";
        Some(Diagnostic::warning(codes::FARMABLE, at, message).label(label).help(help))
    }

    /// Says whether it is a record itself: it outlives the run, and completing a level makes more of it.
    fn is_record(&self) -> bool {
        let Declared { spec, field, .. } = *self;
        let grows = |rule: &Rule| match &rule.does {
            Effect::Operation(Operation::Max, _) => true,
            Effect::Operation(Operation::Add, operand) => operand.bounds_in_ranges(spec).can_be_above(0.0),
            Effect::Operation(..) | Effect::Plain(_) => false,
        };
        field.lasts.outlives_run() && self.rule(Moment::Complete, grows).is_some()
    }

    /// Returns what a source gives at once to the entries of the field.
    fn gifts(&self, source: &Source) -> impl Iterator<Item = f64> {
        let field = self.field.id;
        let gifts = source.gives.iter().filter(move |gift| gift.field == field);
        gifts.map(|gift| gift.value.as_float())
    }

    /// Returns whether a source takes the value to the end of its range without any failure.
    fn reaches_its_highest(&self, source: &Source, gift: f64) -> bool {
        let begins = if self.field.default.is_filled() { self.field.default.as_float() } else { 0.0 };
        let all = begins + gift * source.times as f64;
        self.field.limits.range.as_ref().is_some_and(|(_, highest)| all >= highest.as_float())
    }

    /// Returns whether what a failure takes off the value is less than what was gained.
    fn pays_less_than(&self, moment: Moment, gained: f64) -> bool {
        let less = |rule: &Rule| match &rule.does {
            Effect::Operation(Operation::Add, operand) => operand.bounds_in_ranges(self.spec).can_be_above(-gained),
            Effect::Operation(..) | Effect::Plain(_) => true,
        };
        let mut rules = self.rules(moment).map(|(_, rule)| rule).peekable();
        rules.peek().is_none() || rules.any(less)
    }

    /// A record or an opening that depends on the field, directly or through other fields.
    fn feeds(&self) -> Option<String> {
        let Declared { spec, field, .. } = *self;
        let mut fed: FxHashSet<FieldId> = [field.id].into_iter().collect();
        loop {
            let takes = |other: &&Field| !fed.contains(&other.id) && grows_with(spec, other, &fed);
            let found: Vec<FieldId> = spec.fields.iter().filter(takes).map(|other| other.id).collect();
            if found.is_empty() {
                break;
            }
            fed.extend(found);
        }
        let opens = spec.levels.iter().zip(&spec.openings).find(|(_, opening)| match opening {
            Opening::When(condition) => condition.reads().iter().any(|read| fed.contains(read)),
            Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => false,
        });
        if let Some((level, _)) = opens {
            return Some(format!("the opening of `{}`", level.id));
        }
        let record = spec.fields.iter().find(|other| {
            let ranked = || spec.moments().any(|moment| is_ranked_at(spec, other, moment, &fed));
            let grows = grows_at(spec, other, Moment::Complete, &fed) || ranked();
            other.lasts.outlives_run() && other.id != field.id && grows
        });
        record.map(|record| format!("`{}`", record.name))
    }

    fn endless_lives(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        // What begins with nothing is no store of lives but a score or a count.
        if !field.ty.is_number() || field.needs_level() || field.default.as_float() <= 0.0 {
            return None;
        }
        let rules = &spec.plan.fate(field.id, Moment::Death).rules;
        let takes = |(index, rule): &(usize, &Rule)| match &rule.does {
            Effect::Operation(Operation::Add, operand) => {
                let bounds = operand.bounds_in_ranges(spec);
                operand.is_negated() || (bounds.can_be_below(0.0) && !bounds.can_be_above(0.0))
            }
            Effect::Operation(Operation::Set, operand) => {
                operand.adds_to(spec, field) && operand.is_never_above(spec, field, rules, *index)
            }
            Effect::Operation(..) | Effect::Plain(_) => false,
        };
        let (index, _) = self.rules(Moment::Death).find(takes)?;
        let opens = |opening: &Opening| match opening {
            Opening::When(condition) => condition.reads().contains(&field.id),
            Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => false,
        };
        let ends = spec.over_when.as_ref().is_some_and(|over_when| over_when.reads().contains(&field.id));
        // Something else happens to those who have none left.
        let mut others = spec.fields.iter().filter(|other| other.id != field.id);
        let asks = |rule: &Rule| rule.when.as_ref().is_some_and(|when| when.reads().contains(&field.id));
        let asked =
            others.any(|other| spec.moments().any(|moment| spec.plan.fate(other.id, moment).rules.iter().any(asks)));
        // A game that has rules at a game over, and no condition for one, says it.
        let said = crate::explore::says_game_over(spec);
        if ends || said || asked || spec.openings.iter().any(opens) {
            return None;
        }
        let message = format!("`{}` are lives that end nothing: no `over_when` reads them", field.name);
        Some(
            Diagnostic::warning(codes::ENDLESS_LIVES, self.rule_span(Moment::Death, index), message)
                .label("each death takes some")
                .help(format!("say when the run is over, as in `[run] over_when = \"{} == 0\"`", field.name)),
        )
    }

    /// Time that was played is played, whatever becomes of the player: what outlives the run and goes back with a failure
    /// shows less than that.
    fn clock_turned_back(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        field.counts.filter(|_| field.lasts.outlives_run())?;
        let said = self.entry.after_failure.as_ref().map_or(self.name_span(), |word| word.span);
        let by_rule = || {
            let mut failures = Moment::BUILT_IN.iter().filter(|moment| moment.is_failure());
            failures.find_map(|moment| {
                let index = self.rule(*moment, |rule| matches!(rule.does, Effect::Plain(fate) if fate.rewinds()))?;
                match spec.plan.fate(field.id, *moment).rules[index].does {
                    Effect::Plain(fate) => Some((fate, self.rule_span(*moment, index))),
                    Effect::Operation(..) => None,
                }
            })
        };
        let (back, at) = match field.after_failure.filter(|fate| fate.rewinds()) {
            Some(fate) => (fate, said),
            None => by_rule()?,
        };
        let message = format!("`{}` counts time, and a failure takes the time since the mark off it", field.name);
        Some(
            Diagnostic::warning(codes::CLOCK_TURNED_BACK, at, message)
                .label(format!("`{back}` brings back what it was"))
                .help("write `after_failure = \"keep\"`; a time that begins anew with each try lasts a visit or an attempt"),
        )
    }

    fn no_checkpoint(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if has_checkpoints(spec) {
            return None;
        }
        let rewinds = |rule: &Rule| matches!(rule.does, Effect::Plain(PlainFate::Checkpoint));
        let mut ruled = spec.moments().filter_map(|moment| Some((moment, self.rule(moment, rewinds)?)));
        let at = match (&self.entry.after_failure, field.after_failure) {
            (Some(word), Some(PlainFate::Checkpoint)) => word.span,
            _ => ruled.next().map(|(moment, index)| self.rule_span(moment, index))?,
        };
        let message = format!("`{}` goes back to checkpoints, and no level has any", field.name);
        Some(
            Diagnostic::warning(codes::NO_CHECKPOINT, at, message)
                .label("it always goes back to the entry")
                .help("list the levels' `checkpoints`, or say \"entry\""),
        )
    }
}

/// Returns whether some rule can raise a field by what it takes from others.
fn grows_with(spec: &Model, field: &Field, fed: &FxHashSet<FieldId>) -> bool {
    spec.moments().any(|moment| grows_at(spec, field, moment, fed))
}

fn grows_at(spec: &Model, field: &Field, moment: Moment, fed: &FxHashSet<FieldId>) -> bool {
    spec.plan.fate(field.id, moment).rules.iter().any(|rule| match &rule.does {
        Effect::Operation(Operation::Set | Operation::Add | Operation::Max, operand) => {
            let more = |id: FieldId| if id != field.id && fed.contains(&id) { Moves::Up } else { Moves::Not };
            // What is bought with it.
            let bought = rule.when.as_ref().is_some_and(|when| when.moves_with(spec, &more) == Moves::Up);
            bought || operand.reads().iter().any(|read| *read != field.id && fed.contains(read))
        }
        Effect::Operation(Operation::Min | Operation::Union | Operation::Rank, _) | Effect::Plain(_) => false,
    })
}

/// Says whether an entry of a ranking is made of them.
fn is_ranked_at(spec: &Model, field: &Field, moment: Moment, fed: &FxHashSet<FieldId>) -> bool {
    spec.plan.fate(field.id, moment).rules.iter().any(|rule| match &rule.does {
        Effect::Operation(Operation::Rank, operand) => operand.reads().iter().any(|read| fed.contains(read)),
        Effect::Operation(..) | Effect::Plain(_) => false,
    })
}

/// Levels that are hidden, and follow another by themselves.
fn hidden_next(spec: &Model) -> Vec<Finding> {
    let mut found = Vec::new();
    let after: FxHashMap<u32, &Level> =
        spec.levels.iter().rev().filter_map(|before| Some((before.next?, before))).collect();
    for (index, (level, hidden)) in (0u32..).zip(spec.levels.iter().zip(&spec.hidden)) {
        let Some(before) = after.get(&index).filter(|_| hidden.is_some()) else { continue };
        let said = spec.document.levels.iter().find(|(name, _)| *name.value == *level.id());
        let span = said.and_then(|(_, entry)| entry.hidden.as_ref()).map(|word| word.span).unwrap_or_default();
        let message = format!("`{}` is hidden, and completing `{}` leads there", level.id(), before.id());
        let diagnostic = Diagnostic::warning(codes::HIDDEN_NEXT, span, message)
            .help("take it out of `order` and `next`, and let an exit lead to it");
        found.push(Finding { subject: level.id().to_owned(), diagnostic });
    }
    found
}

fn no_steps(spec: &Model) -> Vec<Finding> {
    let mut found = Vec::new();
    for (name, entry) in &spec.document.tables {
        let Some(table) = spec.tables.iter().find(|table| *table.name == *name.value) else { continue };
        if entry.steps.is_some() || entry.first.is_some() {
            continue;
        }
        let without = (0u32..).zip(spec.shipped_levels()).filter(|(index, _)| !table.of_levels.contains_key(index));
        let without: Vec<&str> = without.map(|(_, level)| &*level.id).collect();
        if without.is_empty() || without.len() == spec.shipped_levels().len() {
            continue;
        }
        let message = format!("`{}` has no steps for {}", name.value, without.join(", "));
        let diagnostic = Diagnostic::warning(codes::NO_STEPS, name.span, message)
            .label("whatever is reached there is graded 0")
            .help(format!("give the table steps for all levels, or these levels `steps.{}`", name.value));
        found.push(Finding { subject: name.value.clone(), diagnostic });
    }
    found
}
