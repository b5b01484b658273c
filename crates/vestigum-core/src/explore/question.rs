//! What is asked of the states: the promises of the spec, and what is asked of every game.

use std::sync::Arc;

use crate::codes;
use crate::expression::{Env, Expression};
use crate::fate::{Deed, Operation, Rule};
use crate::moment::Moment;
use crate::place::Checkpoint;
use crate::progress::{Progress, entry_name};
use crate::spec::{Field, FieldId, Promised, Span, Spec};
use crate::suspend::resembled;
use crate::value::{Value, below};

use super::act::Act;

/// A question that a search answers.
#[derive(Clone, Debug)]
pub struct Question {
    /// Its place among the questions of its spec.
    pub(super) index: usize,
    pub(super) name: Arc<str>,
    pub(super) asked: Asked,
}

#[derive(Clone, Debug)]
pub(super) enum Asked {
    /// No entry of this ever becomes less.
    NeverFalls(FieldId),
    /// A condition, always or after these moments.
    Holds(Box<Expression>, Vec<Moment>),
    /// Every level can be opened and completed; quitting and coming back keeps what a save writes.
    Reachable,
    /// Giving up or quitting leaves no more of this than a death.
    NoBetterLeft(FieldId),
    /// Failing, or quitting inside a level, gives no record that play without it cannot have in as many visits.
    NothingGained(FieldId),
}

/// Why a question is answered with no.
#[derive(Clone, Debug)]
pub(super) struct Broken {
    /// In words.
    pub what: String,
    /// The expectation that fails when it is played.
    pub expect: String,
}

/// Everything that can be asked of a spec: its promises first.
pub fn questions(spec: &Spec) -> Vec<Question> {
    let mut questions = Vec::new();
    let mut ask = |name: Arc<str>, asked: Asked| {
        let index = questions.len();
        questions.push(Question { index, name, asked });
    };
    for promise in &spec.0.promises {
        match &promise.promised {
            Promised::Holds(condition, after) => {
                ask(promise.name.clone(), Asked::Holds(Box::new(condition.clone()), after.clone()));
            }
            // Each field on its own depends on less than all of them together, so there is less to search.
            Promised::NeverFalls(fields) => {
                for id in fields {
                    let of = if fields.len() == 1 { String::new() } else { format!(": {}", spec.0.field(*id).name) };
                    ask(format!("{}{of}", promise.name).into(), Asked::NeverFalls(*id));
                }
            }
        }
    }
    if spec.levels().len() > 0 {
        ask("every level can be opened and completed".into(), Asked::Reachable);
    }
    // Without a source there is nothing to gain.
    let records = spec.0.fields.iter().filter(|field| !spec.0.sources.is_empty() && is_record(spec, field));
    for field in records {
        ask(format!("failing gains nothing for `{}`", field.name).into(), Asked::NothingGained(field.id));
    }
    for field in spec.0.fields.iter().filter(|field| may_pay(spec, field)) {
        ask(format!("leaving keeps no more of `{}` than dying", field.name).into(), Asked::NoBetterLeft(field.id));
    }
    questions
}

/// Whether leaving has another fate for the field than a death has, which then takes no price.
fn may_pay(spec: &Spec, field: &Field) -> bool {
    let fate = |moment| spec.0.plan.fate(field.id, moment).without_price();
    let Some(death) = fate(Moment::Death) else { return false };
    let differs = [Moment::Abandon, resembled(spec.0.resume)].into_iter().any(|moment| fate(moment) != Some(death));
    differs && matches!(field.lasts, Span::Run | Span::Profile) && field.ty.is_number()
}

/// A record is what outlives the run and grows with what a visit brings.
fn is_record(spec: &Spec, field: &Field) -> bool {
    let grows = |rule: &Rule| match &rule.does {
        Deed::Operation(Operation::Max | Operation::Add, operand) => !operand.reads().is_empty(),
        _ => false,
    };
    let fed = spec.0.plan.fate(field.id, Moment::Complete).rules.iter().any(grows);
    fed && field.lasts == Span::Profile && field.ty.is_number()
}

impl Question {
    /// What is asked, in words.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether the spec asks it; the others are asked of every game.
    pub fn is_promise(&self) -> bool {
        matches!(self.asked, Asked::NeverFalls(_) | Asked::Holds(..))
    }

    /// The code under which a spec can allow it; promises have none.
    pub fn code(&self) -> Option<&'static str> {
        match &self.asked {
            Asked::NeverFalls(_) | Asked::Holds(..) => None,
            Asked::Reachable => Some(codes::NEVER_COMPLETED),
            Asked::NothingGained(_) => Some(codes::FAILING_GAINS),
            Asked::NoBetterLeft(_) => Some(codes::LEAVING_PAYS),
        }
    }

    /// Why the spec allows it, if it does.
    pub fn allowed<'s>(&self, spec: &'s Spec) -> Option<&'s str> {
        let code = self.code()?;
        let subject = self.reads().first().map(|id| &*spec.0.field(*id).name);
        let mut entries = spec.0.document.allowed.iter();
        let entry = entries.find(|entry| {
            let same = entry.code.value.eq_ignore_ascii_case(code);
            same && entry.of.as_ref().is_none_or(|of| Some(of.value.as_str()) == subject)
        });
        entry.map(|entry| entry.because.value.as_str())
    }

    pub(super) fn reads(&self) -> Vec<FieldId> {
        match &self.asked {
            Asked::NeverFalls(field) | Asked::NothingGained(field) | Asked::NoBetterLeft(field) => vec![*field],
            Asked::Holds(condition, _) => condition.reads().to_vec(),
            Asked::Reachable => Vec::new(),
        }
    }
}

/// The moment that an act says.
pub(super) fn moment_of(act: Act) -> Option<Moment> {
    match act {
        Act::Enter(_) => Some(Moment::Enter),
        Act::Checkpoint(_) => Some(Moment::Checkpoint),
        Act::Moment(moment) => Some(moment),
        Act::Relaunch => Some(Moment::Launch),
        Act::Take(_) => None,
    }
}

impl Asked {
    /// Judges a fresh profile: only what must always hold can be broken there.
    pub fn at_first(&self, game: &Progress) -> Option<Broken> {
        match self {
            Asked::Holds(_, moments) if moments.is_empty() => self.judge(game, Act::Relaunch, game),
            _ => None,
        }
    }

    /// Judges one step, from a state to the next, just before a game over that may follow.
    pub fn judge(&self, before: &Progress, act: Act, after: &Progress) -> Option<Broken> {
        match self {
            Asked::NeverFalls(field) => fallen(before, act, after, *field),
            Asked::Holds(condition, moments) => {
                let moment = moment_of(act);
                let about = moments.is_empty() || moment.is_some_and(|moment| moments.contains(&moment));
                if !about {
                    return None;
                }
                let always = moments.is_empty();
                // A moment that leaves a level is about the level that is left.
                let place = if always || act_enters(act) { after } else { before };
                let standing = place.state.spot.standing();
                if condition.needs_level() && standing.is_none() {
                    return None;
                }
                let (level, checkpoint) =
                    standing.map_or((None, None), |standing| (Some(standing.level), standing.checkpoint.as_ref()));
                let seen = Env::new(&after.spec.0, &after.state, level, checkpoint);
                let env = Env { before: (!always).then_some(&before.state), ..seen };
                if condition.holds(&env) { None } else { Some(unheld(condition, &env, act, always)) }
            }
            Asked::NoBetterLeft(field) => left_with_more(before, act, after, *field),
            Asked::Reachable | Asked::NothingGained(_) => None,
        }
    }
}

/// What leaving has left more of than a death in its place would have.
fn left_with_more(before: &Progress, act: Act, after: &Progress, id: FieldId) -> Option<Broken> {
    let leaves = matches!(act, Act::Moment(Moment::Abandon) | Act::Relaunch);
    if !leaves || !before.state.spot.is_level() {
        return None;
    }
    let mut died = before.clone();
    died.death().ok()?;
    let spec = &*after.spec.0;
    let field = spec.field(id);
    let slot = field.slots().find(|slot| below(died.state.value(*slot), after.state.value(*slot)))?;
    let name = entry_name(spec, field, slot, &after.state.made);
    let (left, dead) = (after.state.value(slot), died.state.value(slot));
    let how = if act == Act::Relaunch { "quitting" } else { "giving up" };
    let what = format!("`{name}` is {left} after {how}, and would be {dead} after a death in its place");
    Some(Broken { what, expect: at_most(&name, dead) })
}

/// The expectation that something is not above a value; nothing is above no value but a value.
pub(super) fn at_most(name: &str, value: &Value) -> String {
    if value.is_filled() { format!("{name} <= {}", value.literal()) } else { format!("not filled({name})") }
}

fn act_enters(act: Act) -> bool {
    matches!(act, Act::Enter(_) | Act::Checkpoint(_) | Act::Relaunch)
}

fn fallen(before: &Progress, act: Act, after: &Progress, id: FieldId) -> Option<Broken> {
    let spec = &*after.spec.0;
    let field = spec.field(id);
    let slot = field.slots().find(|slot| {
        let (old, new) = (before.state.value(*slot), after.state.value(*slot));
        let bool_fell = *old == Value::Bool(true) && *new == Value::Bool(false);
        old != new && (bool_fell || !new.is_filled() || (old.is_filled() && below(new, old)))
    })?;
    let name = entry_name(spec, field, slot, &after.state.made);
    let (old, new) = (before.state.value(slot), after.state.value(slot));
    let told = moment_of(act).map_or_else(|| act.to_string(), |moment| spec.moment_name(moment).to_owned());
    let expect = match old {
        Value::Bool(_) => name.clone(),
        // Without a value it reads as zero, which may be more.
        old if field.optional => format!("filled({name}) and {name} >= {}", old.literal()),
        old => format!("{name} >= {}", old.literal()),
    };
    Some(Broken { what: format!("`{name}` fell from {old} to {new} at `{told}`"), expect })
}

fn unheld(condition: &Expression, env: &Env<'_>, act: Act, always: bool) -> Broken {
    let judged = condition.judge(env);
    let failing = judged.iter().filter(|part| !part.holds);
    let parts: Vec<String> = failing
        .map(|part| {
            let values: Vec<String> = part.values.iter().map(|(name, value)| format!("{name} is {value}")).collect();
            format!("`{}` does not hold: {}", part.part, values.join(", "))
        })
        .collect();
    let told = moment_of(act).map_or_else(|| act.to_string(), |moment| env.spec.moment_name(moment).to_owned());
    let when = if always { String::new() } else { format!("after `{told}` ") };
    // A playthrough knows no state before the moment: what was read there is written out.
    let mut expect = condition.source().to_owned();
    for (name, value) in judged.iter().flat_map(|part| &part.values) {
        if ["was(", "entry(", "checkpoint("].iter().any(|function| name.starts_with(function)) {
            expect = expect.replace(name.as_str(), &value.literal());
        }
    }
    // What meant the level that was left is named.
    if let (Some(level), false) = (env.level, always) {
        for id in condition.reads() {
            let field = env.spec.field(*id);
            if field.is_per_level() && !act_enters(act) {
                expect = keyed(&expect, &field.name, &env.spec.level(level).id);
            }
        }
    }
    Broken { what: format!("{when}{}", parts.join("; ")), expect }
}

/// The text with a level in brackets behind each bare name of a per-level field.
fn keyed(text: &str, name: &str, level: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(name) {
        let (before, behind) = (&rest[..at], &rest[at + name.len()..]);
        let inside = |c: char| c.is_alphanumeric() || c == '_';
        let whole = !before.ends_with(inside) && !behind.starts_with(inside) && !behind.starts_with('[');
        out.push_str(before);
        out.push_str(name);
        if whole {
            out.push_str(&format!("[{level}]"));
        }
        rest = behind;
    }
    out.push_str(rest);
    out
}

/// The checkpoint of a place, for keys of states.
pub(super) fn checkpoint_key(checkpoint: Option<&Checkpoint>) -> u64 {
    match checkpoint {
        None => 0,
        Some(Checkpoint::Listed(index)) => u64::from(*index) + 1,
        Some(Checkpoint::Named(name)) => xxhash_rust::xxh3::xxh3_64(name.as_bytes()) | 1 << 63,
    }
}
