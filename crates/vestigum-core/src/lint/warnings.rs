//! The mistakes of the trade: specs that work, and do what nobody meant.

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::expression::{Bounds, FieldBounds};
use crate::fate::{Deed, Operation, Simple};
use crate::moment::Moment;
use crate::spec::document::{DeedEntry, FieldEntry};
use crate::spec::{Accept, Field, Opening, Span, Spec, SpecData};
use crate::types::Type;

use super::Finding;

pub(super) fn warnings(spec: &Spec) -> Vec<Finding> {
    let spec = &*spec.0;
    let mut found = Vec::new();
    for field in spec.fields.iter().filter(|field| !field.built_in) {
        let Some(entry) = entry(spec, field) else { continue };
        let about = Declared { spec, field, entry };
        let all = [
            about.farmable(),
            about.lowered_record(),
            about.undone_death(),
            about.endless_lives(),
            about.no_checkpoint(),
            about.device_sum(),
        ];
        let subject = || field.name.to_string();
        found.extend(all.into_iter().flatten().map(|diagnostic| Finding { subject: subject(), diagnostic }));
    }
    found.extend(no_steps(spec));
    found
}

fn entry<'s>(spec: &'s SpecData, field: &Field) -> Option<&'s FieldEntry> {
    spec.document.fields.iter().find(|(name, _)| *name.value == *field.name).map(|(_, entry)| entry)
}

/// A field and what its document says.
struct Declared<'s> {
    spec: &'s SpecData,
    field: &'s Field,
    entry: &'s FieldEntry,
}

impl Declared<'_> {
    /// Where the field is named.
    fn name_span(&self) -> SourceSpan {
        let named = self.spec.document.fields.iter().find(|(name, _)| *name.value == *self.field.name);
        named.map(|(name, _)| name.span).unwrap_or_default()
    }

    /// Where the first rule at a moment stands.
    fn rule_span(&self, moment: Moment) -> SourceSpan {
        let name = self.spec.moment_name(moment);
        let rules = self.entry.on.iter().find(|(word, _)| word.value == name);
        let deed = rules.and_then(|(_, rules)| rules.first()).map(|rule| match &rule.does {
            DeedEntry::Bare(word) => word.span,
            DeedEntry::Operand(word, operand) => word.span.to(operand.span),
        });
        deed.or(rules.map(|(word, _)| word.span)).unwrap_or_else(|| self.name_span())
    }

    fn farmable(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let survives = |moment: Moment| {
            let fate = spec.plan.fate(field.id, moment);
            fate.rules.is_empty() && fate.otherwise == Simple::Keep
        };
        let failure = [Moment::Death, Moment::Restart].into_iter().find(|moment| survives(*moment))?;
        let gives = |source: &&crate::spec::Source| {
            source.comes_back() && source.gives.iter().any(|gift| gift.field == field.id)
        };
        let source = spec.sources.iter().find(gives)?;
        if !field.ty.is_number() {
            return None;
        }
        let fed = self.feeds()?;
        let at = self.entry.after_failure.as_ref().map_or(self.name_span(), |word| word.span);
        let message = format!("`{}` can be farmed by failing: it feeds {fed}", field.name);
        Some(
            Diagnostic::warning(codes::FARMABLE, at, message)
                .label(format!(
                    "the value survives a {}, and the source `{}` comes back",
                    spec.moment_name(failure),
                    source.name
                ))
                .help(
                    "let the value fall back too, with `\"entry\"` or `\"checkpoint\"`, or let the source stay taken",
                ),
        )
    }

    /// A record or an opening that reads the field.
    fn feeds(&self) -> Option<String> {
        let Declared { spec, field, .. } = *self;
        let opens = spec.levels.iter().find(|level| match &level.opens {
            Opening::When(condition) => condition.reads().contains(&field.id),
            _ => false,
        });
        if let Some(level) = opens {
            return Some(format!("the opening of `{}`", level.id));
        }
        let record = spec.fields.iter().find(|other| {
            let fed = spec.plan.fate(other.id, Moment::Complete).rules.iter().any(|rule| match &rule.does {
                Deed::Operation(_, operand) => operand.reads().contains(&field.id),
                Deed::Simple(_) => false,
            });
            fed && other.id != field.id && matches!(other.lasts, Span::Profile | Span::Device)
        });
        record.map(|record| format!("`{}`", record.name))
    }

    fn lowered_record(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let lasting = matches!(field.lasts, Span::Run | Span::Profile) && field.is_per_level();
        if !lasting || !field.ty.is_number() {
            return None;
        }
        let rule = spec.plan.fate(field.id, Moment::Complete).rules.first()?;
        let Deed::Operation(Operation::Set, operand) = &rule.does else { return None };
        // What play brings along is worse one day and better the next; anything else is no result.
        let result = operand.reads().iter().any(|id| spec.field(*id).needs_level());
        if rule.when.is_some() || !result {
            return None;
        }
        let at = self.rule_span(Moment::Complete);
        let message = format!("a replay can lower this record: `{}` takes whatever the last visit brought", field.name);
        Some(Diagnostic::warning(codes::LOWERED_RECORD, at, message).label("this overwrites a better one").help(
            format!(
                "write `max = \"{0}\"`, or `min` where less is better; if the last one is meant, allow it",
                operand.source()
            ),
        ))
    }

    fn undone_death(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if !field.lasts.is_saved() || spec.save_at.contains(&Moment::Death) {
            return None;
        }
        let rule = spec.plan.fate(field.id, Moment::Death).rules.first()?;
        // A record at a death is no price: whoever kills the game loses it.
        let price = match &rule.does {
            Deed::Operation(Operation::Add | Operation::Set, _) => true,
            Deed::Operation(..) => false,
            Deed::Simple(simple) => rule.when.is_some() && *simple != Simple::Keep,
        };
        if !price {
            return None;
        }
        let message = format!("killing the game undoes this death: what it does to `{}` is not saved", field.name);
        Some(
            Diagnostic::warning(codes::UNDONE_DEATH, self.rule_span(Moment::Death), message)
                .label("the last save is from before the death")
                .help("add \"death\" to `[save] at`"),
        )
    }

    fn endless_lives(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let rule = spec.plan.fate(field.id, Moment::Death).rules.first()?;
        let Deed::Operation(Operation::Add, operand) = &rule.does else { return None };
        if operand.bounds_in_ranges(spec).can_be_above(0.0) || field.ty != Type::Int {
            return None;
        }
        let read = spec.over_when.as_ref().is_some_and(|over_when| over_when.reads().contains(&field.id));
        if read || field.needs_level() {
            return None;
        }
        let message = format!("`{}` are lives that end nothing: no `over_when` reads them", field.name);
        Some(
            Diagnostic::warning(codes::ENDLESS_LIVES, self.rule_span(Moment::Death), message)
                .label("each death takes some")
                .help(format!("say when the run is over, as in `[run] over_when = \"{} == 0\"`", field.name)),
        )
    }

    fn no_checkpoint(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        let listed = spec.levels.iter().any(|level| !level.checkpoints.is_empty());
        if listed || spec.accept == Accept::Any || field.after_failure != Some(Simple::Checkpoint) {
            return None;
        }
        let at = self.entry.after_failure.as_ref().map_or(self.name_span(), |word| word.span);
        let message = format!("`{}` goes back to checkpoints, and no level has any", field.name);
        Some(
            Diagnostic::warning(codes::NO_CHECKPOINT, at, message)
                .label("it always goes back to the entry")
                .help("list the levels' `checkpoints`, or say \"entry\""),
        )
    }

    fn device_sum(&self) -> Option<Diagnostic> {
        let Declared { spec, field, .. } = *self;
        if field.lasts != Span::Device {
            return None;
        }
        let adds = |moment: &&Moment| {
            let mut rules = spec.plan.fate(field.id, **moment).rules.iter();
            rules.any(|rule| matches!(rule.does, Deed::Operation(Operation::Add, _)))
        };
        let moment = *spec.save_at.iter().find(adds)?;
        let message = format!("`{}` can count a `{}` twice", field.name, spec.moment_name(moment));
        Some(
            Diagnostic::warning(codes::DEVICE_SUM, self.rule_span(moment), message)
                .label("the device is saved apart from the player")
                .help("a power cut between the two saves plays the moment again: `max` or `set` come out the same"),
        )
    }
}

fn no_steps(spec: &SpecData) -> Vec<Finding> {
    let mut found = Vec::new();
    for (name, entry) in &spec.document.tables {
        let Some(table) = spec.tables.iter().find(|table| *table.name == *name.value) else { continue };
        if entry.steps.is_some() || entry.first.is_some() {
            continue;
        }
        let without = (0u32..).zip(&spec.levels).filter(|(index, _)| !table.of_levels.contains_key(index));
        let without: Vec<&str> = without.map(|(_, level)| &*level.id).collect();
        if without.is_empty() || without.len() == spec.levels.len() {
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
