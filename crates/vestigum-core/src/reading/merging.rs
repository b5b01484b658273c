//! How each field is merged: what the spec says, and what its rules leave no choice about.

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
    /// What `[merge]` and the fields say, if saves of this game are merged.
    pub(super) fn merging(&mut self, spec: &Readable) -> Option<Merging> {
        let document = self.document;
        let entry = |field: &Field| document.fields.iter().find(|(name, _)| *name.value == *field.name);
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
        let fields = fields.collect();
        Some(Merging { run, fields })
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
                let why = "two sides that both changed a bool have changed it to the same".to_owned();
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
    // A record: every rule that changes it raises it, or every one lowers it. What a rule says counts, also where its
    // expression is still to be mended.
    let rules = entry.on.iter().flat_map(|(_, rules)| rules);
    let changes = rules.filter_map(|rule| match &rule.does {
        EffectEntry::Operand(operation, _) => Some(Some(operation.value)),
        EffectEntry::Bare(word) if word.value == PlainFate::Keep.word() => None,
        EffectEntry::Bare(_) => Some(None),
    });
    let changes: Vec<Option<Operation>> = changes.collect();
    let all = |wanted: Operation| !changes.is_empty() && changes.iter().all(|change| *change == Some(wanted));
    if all(Operation::Max) {
        Some(MergeLaw::Max)
    } else if all(Operation::Min) {
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
