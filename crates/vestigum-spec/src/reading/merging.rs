//! How each field is merged: what the spec says, and what its rules leave no choice about.

use rustc_hash::FxHashMap;

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::document::{EffectEntry, FieldEntry, Word};
use crate::model::Readable;
use crate::model::expression::Expression;
use crate::model::field::Field;
use crate::model::merging::{FieldMerge, Merging};
use crate::reading::compile::{Scope, compile};
use crate::reading::{Resolver, place_of};
use crate::value::types::Type;
use crate::vocabulary::fate::{Operation, PlainFate};
use crate::vocabulary::merging::MergeLaw;
use crate::vocabulary::span::{Span, WrittenBy};

impl Resolver<'_> {
    /// Returns what `[merge]` and the fields say, if saves of this game are merged.
    pub(super) fn merging(&mut self, spec: &Readable) -> Option<Merging> {
        let document = self.document;
        let entries: FxHashMap<&str, &(Word, FieldEntry)> =
            document.fields.iter().map(|said| (said.0.value.as_str(), said)).collect();
        let entry = |field: &Field| entries.get(&*field.name).copied();
        let Some(said) = &document.merge else {
            for (name, entry) in &document.fields {
                if let Some(word) = &entry.merge {
                    let message = format!("`{}` says how it is merged, and the spec has no `[merge]`", name.value);
                    self.error(codes::UNMERGED, word.span, message).help =
                        Some("add the table `[merge]`, which can be empty, or take `merge` out".into());
                }
            }
            return None;
        };
        let run = said.run.as_ref().and_then(|text| self.run_compared(spec, text));
        let fields = spec.fields.iter().map(|field| match entry(field) {
            Some((name, entry)) => self.field_merge(field, name, entry),
            None => built_in(field),
        });
        let fields: Vec<FieldMerge> = fields.collect();
        let grows = spec.fields.iter().zip(&fields).map(|(field, merge)| match (entry(field), merge) {
            (_, FieldMerge::Apart | FieldMerge::WithRun) => false,
            (Some((_, entry)), FieldMerge::Changed | FieldMerge::By(_)) => only_grows(field, entry, *merge),
            // A level that a player made can be removed.
            (None, FieldMerge::Changed | FieldMerge::By(_)) => !spec.is_made_field(field.id),
        });
        let grows = grows.collect();
        Some(Merging { run, fields, grows })
    }

    /// The number by which two runs are compared.
    fn run_compared(&mut self, spec: &Readable, text: &Word) -> Option<Expression> {
        let compared = compile(spec, Scope::Merge, &text.value, None, &place_of(self.text, text), self.errors)?;
        if compared.ty().is_number() {
            return Some(compared);
        }
        let message = format!("this is of type {}, and runs are compared by a number", compared.ty());
        self.error(codes::WRONG_TYPE, text.span, message).help =
            Some("write what is higher for the run that is to stay, as in `run = \"day\"`".into());
        None
    }

    fn field_merge(&mut self, field: &Field, name: &Word, entry: &FieldEntry) -> FieldMerge {
        let said: Option<MergeLaw> = self.choose("merge", entry.merge.as_ref());
        let fixed = match field.lasts {
            Span::Device => Some((FieldMerge::Apart, "each device keeps its own".to_owned())),
            Span::Session => Some((FieldMerge::Apart, "a session is not saved".to_owned())),
            lasts @ (Span::Attempt | Span::Visit | Span::Run) => {
                let why = format!("what lasts {} {lasts} goes with the run, which is taken whole", lasts.article());
                Some((FieldMerge::WithRun, why))
            }
            Span::Profile if field.ty == Type::Bool => {
                let why = "of a bool that both sides changed, the newer change counts".to_owned();
                Some((FieldMerge::Changed, why))
            }
            Span::Profile => None,
        };
        if let Some((merge, why)) = fixed {
            if let Some(word) = &entry.merge {
                self.error(codes::UNMERGED, word.span, format!("`{}` needs no `merge`: {why}", name.value)).help =
                    Some("take `merge` out".into());
            }
            return merge;
        }
        if let (Some(law), Some(word)) = (said, &entry.merge) {
            if !fits(law, field) {
                let fitting = laws(field).map(MergeLaw::word).collect::<Vec<_>>().join(", ");
                let message =
                    format!("`{}` is of type {}, which `{law}` does not merge", name.value, field.type_name());
                self.error(codes::UNMERGED, word.span, message).help = Some(format!("write one of: {fitting}"));
            }
            return FieldMerge::By(law);
        }
        let inferred = without_choice(field, entry);
        if inferred.is_none() && entry.merge.is_none() {
            let fitting = laws(field).map(|law| format!("\"{law}\"")).collect::<Vec<_>>().join(", ");
            let error = Diagnostic::error(
                codes::UNMERGED,
                name.span,
                format!("`{}` does not say how it is merged", name.value),
            );
            self.errors.push(error.help(format!("add `merge`, one of: {fitting}")).label("two places can change it"));
        }
        FieldMerge::By(inferred.unwrap_or(MergeLaw::Newer))
    }
}

/// `completed`, `opened` and `made`: of the profile, or of the run.
fn built_in(field: &Field) -> FieldMerge {
    if field.lasts == Span::Profile { FieldMerge::Changed } else { FieldMerge::WithRun }
}

/// Returns whether a field changes in one direction alone: rules write it, and all of them do what its law does.
fn only_grows(field: &Field, entry: &FieldEntry, merge: FieldMerge) -> bool {
    let wanted = match merge {
        FieldMerge::By(MergeLaw::Max) => Operation::Max,
        FieldMerge::By(MergeLaw::Min) => Operation::Min,
        FieldMerge::By(MergeLaw::Union) if matches!(field.ty, Type::Set(_)) => Operation::Union,
        FieldMerge::By(MergeLaw::Union | MergeLaw::Sum | MergeLaw::Newer)
        | FieldMerge::Changed
        | FieldMerge::WithRun
        | FieldMerge::Apart => return false,
    };
    field.written_by == WrittenBy::Rules && does_only(entry, wanted)
}

/// Returns whether rules change a field, and all of them by one operation. What a rule says counts, also where its expression is still to be
/// fixed.
fn does_only(entry: &FieldEntry, wanted: Operation) -> bool {
    let rules = entry.on.iter().flat_map(|(_, rules)| rules);
    let changes = rules.filter_map(|rule| match &rule.does {
        EffectEntry::Operand(operation, _) => Some(Some(operation.value)),
        EffectEntry::Bare(word) if word.value == PlainFate::Keep.word() => None,
        EffectEntry::Bare(_) => Some(None),
    });
    let changes: Vec<Option<Operation>> = changes.collect();
    !changes.is_empty() && changes.iter().all(|change| *change == Some(wanted))
}

/// The law of a field that the spec need not say.
fn without_choice(field: &Field, entry: &FieldEntry) -> Option<MergeLaw> {
    if field.counts.is_some() {
        return Some(MergeLaw::Sum);
    }
    if field.ranking().is_some() || matches!(field.ty, Type::Set(_)) {
        return Some(MergeLaw::Union);
    }
    if field.written_by != WrittenBy::Rules {
        return None;
    }
    // A record: every rule that changes it raises it, or every one lowers it.
    if does_only(entry, Operation::Max) {
        Some(MergeLaw::Max)
    } else if does_only(entry, Operation::Min) {
        Some(MergeLaw::Min)
    } else {
        None
    }
}

/// The laws that a field can have.
fn laws(field: &Field) -> impl Iterator<Item = MergeLaw> {
    MergeLaw::ALL.iter().copied().filter(|law| fits(*law, field))
}

fn fits(law: MergeLaw, field: &Field) -> bool {
    match law {
        MergeLaw::Max | MergeLaw::Min => field.ty.is_ordered(),
        MergeLaw::Sum => field.ty.is_number(),
        MergeLaw::Union => field.ranking().is_some() || matches!(field.ty, Type::Set(_) | Type::Map(_)),
        MergeLaw::Newer => true,
    }
}
