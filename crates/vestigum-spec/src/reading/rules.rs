//! The `on` rules of fields: at which moments a field may have one, and what it may do there.

use rustc_hash::FxHashMap;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::document::{Document, EffectEntry, RuleEntry, Word};
use crate::model::expression::Expression;
use crate::model::fates::{Effect, Rule};
use crate::model::field::{Field, FieldId};
use crate::model::{Readable, Types};
use crate::reading::compile::{Scope, compile};
use crate::reading::unknown_moment;
use crate::value::types::Type;
use crate::vocabulary::fate::{Operation, PlainFate};
use crate::vocabulary::moment::Moment;
use crate::vocabulary::span::Span;

/// The rules of a spec, with their moments known and their expressions still text.
pub(crate) struct Rules<'d> {
    list: Vec<(FieldId, Moment, &'d [RuleEntry])>,
}

/// The compiled rules by field and moment.
pub(crate) type Compiled = FxHashMap<(FieldId, Moment), Vec<Rule>>;

impl<'d> Rules<'d> {
    /// Finds the moment of every rule, and which fields their rules can rewind.
    pub(crate) fn names(document: &'d Document, spec: &mut Types, errors: &mut Vec<Diagnostic>) -> Rules<'d> {
        let mut list = Vec::new();
        for (name, entry) in &document.fields {
            let Some(id) = spec.field_ids.get(name.value.as_str()).copied() else { continue };
            for (word, rules) in &entry.on {
                let Some(moment) = spec.moment(&word.value) else {
                    errors.push(unknown_moment(spec, word));
                    continue;
                };
                if let Some(error) = idle(spec, spec.field(id), moment, word) {
                    errors.push(error);
                    continue;
                }
                let rewinds = rules.iter().any(|rule| match &rule.does {
                    EffectEntry::Bare(word) => PlainFate::from_word(&word.value).is_some_and(PlainFate::rewinds),
                    EffectEntry::Operand(..) => false,
                });
                let field = &mut spec.fields[id.0 as usize];
                field.rewinds |= rewinds && field.lasts.can_rewind();
                list.push((id, moment, &rules[..]));
            }
        }
        Rules { list }
    }

    /// Compiles guards and operands, and adds the rule that every game has: `complete` sets `completed`.
    pub(crate) fn compile<P: Fn(SourceSpan) -> SourceSpan>(
        self,
        spec: &Readable,
        place: &dyn Fn(&Word) -> P,
        errors: &mut Vec<Diagnostic>,
    ) -> Compiled {
        let mut compiled = Compiled::default();
        for (id, moment, entries) in self.list {
            let field = spec.field(id);
            let rules = entries.iter().filter_map(|entry| rule(spec, field, moment, entry, place, errors));
            compiled.insert((id, moment), rules.collect());
        }
        let done = compile(spec, Scope::Rule(Moment::Complete), "true", Some(&Type::Bool), &|span| span, errors);
        let does = done.map(|done| Rule { when: None, does: Effect::Operation(Operation::Set, done) });
        compiled.insert((spec.completed, Moment::Complete), does.into_iter().collect());
        compiled
    }
}

/// Returns why a rule of `field` at `moment` could never do anything, if it could not.
fn idle(spec: &Types, field: &Field, moment: Moment, word: &Word) -> Option<Diagnostic> {
    let name = &field.name;
    let error = |message: String, help: &str| Some(Diagnostic::error(codes::IDLE_RULE, word.span, message).help(help));
    if moment == Moment::Quit {
        return error(
            "no rule can stand at `quit`: a crash never says it, so nothing may depend on it".into(),
            "use the moment at which the value is earned",
        );
    }
    let gone = match field.lasts {
        Span::Attempt => moment == Moment::Launch || moment.begins_run() || moment.ends(Span::Attempt),
        Span::Visit => {
            moment == Moment::Launch || moment.begins_run() || (moment.ends(Span::Visit) && moment != Moment::Restart)
        }
        Span::Session | Span::Run | Span::Profile | Span::Device => false,
    };
    if gone {
        let at = spec.moment_name(moment);
        return error(
            format!("`{name}` lasts {} {}, so it has no value left at `{at}`", field.lasts.article(), field.lasts),
            "write the rule on the field that takes the value over",
        );
    }
    if field.is_per_level() && (moment == Moment::Launch || moment.begins_run()) {
        return error(
            format!("at `{}` there is no level, so a rule of `{name}` would touch no entry", spec.moment_name(moment)),
            "`lasts = \"run\"` begins every entry anew with a new run; a reset clears them on request",
        );
    }
    None
}

fn rule<P: Fn(SourceSpan) -> SourceSpan>(
    spec: &Readable,
    field: &Field,
    moment: Moment,
    entry: &RuleEntry,
    place: &dyn Fn(&Word) -> P,
    errors: &mut Vec<Diagnostic>,
) -> Option<Rule> {
    let scope = Scope::Rule(moment);
    let when = match &entry.when {
        None => None,
        Some(text) => Some(compile(spec, scope, &text.value, Some(&Type::Bool), &place(text), errors)?),
    };
    let does = match &entry.does {
        EffectEntry::Bare(word) => Effect::Plain(bare(spec, field, moment, word, errors)?),
        EffectEntry::Operand(word, operand) => {
            let operation = word.value;
            let fits = match operation {
                Operation::Set => true,
                Operation::Add => field.ty.is_number(),
                Operation::Max | Operation::Min => field.ty.is_ordered(),
                Operation::Union => field.ty.is_union(),
                Operation::Rank => field.limits.ranking.is_some(),
            };
            if !fits {
                let needs = match operation {
                    Operation::Union => "a set or a map",
                    Operation::Rank => "a ranking",
                    Operation::Add => "a number",
                    Operation::Set | Operation::Max | Operation::Min => "something that has an order",
                };
                let message =
                    format!("`{}` is of type {}; `{}` needs {needs}", field.name, field.type_name(), operation.word());
                errors.push(Diagnostic::error(codes::WRONG_TYPE, word.span, message));
                return None;
            }
            let span = operand.span;
            let operand =
                compile(spec, scope, &operand.value, Some(field.operand_type(operation)), &place(operand), errors)?;
            errors.extend(longer_bytes(spec, field, &operand, span));
            Effect::Operation(operation, operand)
        }
    };
    Some(Rule { when, does })
}

/// A blob takes no more bytes than it may have, so none is set to it that may have more.
fn longer_bytes(spec: &Types, field: &Field, operand: &Expression, span: SourceSpan) -> Option<Diagnostic> {
    let mut read = operand.reads().iter().map(|read| spec.field(*read)).filter(|_| field.is_blob());
    let longer = read.find(|read| read.ty == Type::Bytes && read.limits.max_len > field.limits.max_len)?;
    let (has, holds) = (longer.limits.max_len, field.limits.max_len);
    let message = format!("`{}` may have {has} bytes, and `{}` holds at most {holds}", longer.name, field.name);
    let error = Diagnostic::error(codes::OUT_OF_RANGE, span, message);
    Some(error.help(format!("give `{}` a `max_len` of at least {has}", field.name)))
}

fn bare(spec: &Types, field: &Field, moment: Moment, word: &Word, errors: &mut Vec<Diagnostic>) -> Option<PlainFate> {
    let fates = ["keep", "reset", "entry", "checkpoint"];
    let Some(simple) = PlainFate::from_word(&word.value) else {
        let message = format!("there is no fate `{}`", word.value.escape_debug());
        let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
        let error = error.help(format!("the fates are: {}, or a table as in `{{ add = 1 }}`", fates.join(", ")));
        errors.push(error.suggest(&word.value, fates));
        return None;
    };
    if simple.rewinds() && !field.lasts.can_rewind() {
        let message = format!("`{}` lasts a {}, and {1} fields are never rewound", field.name, field.lasts);
        errors.push(Diagnostic::error(codes::IDLE_RULE, word.span, message));
        return None;
    }
    if simple.rewinds() && !moment.has_marks() {
        let at = spec.moment_name(moment);
        let message = format!("at `{at}` there may be no mark to come back to");
        let error = Diagnostic::error(codes::IDLE_RULE, word.span, message);
        errors.push(error.help("say what failing does with `after_failure`"));
        return None;
    }
    Some(simple)
}
