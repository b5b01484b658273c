//! What is asked of the states: the promises of the spec, and what is asked of every game.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use vestigum_core::evaluation::Env;
use vestigum_core::evaluation::judge::ExpressionValue;
use vestigum_core::evaluation::restate::Restating;
use vestigum_core::state::State;
use vestigum_core::state::position::Checkpoint;
use vestigum_core::suspension::fates::{SuspendedFate, resembled_failure, suspended_fate, unconditional_fate};
use vestigum_core::{Moment, Progress, Span, Spec, Type, Value};
use vestigum_spec::analysis::compared::Asks;
use vestigum_spec::codes;
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::promise::{NeverFalls, Promised};
use vestigum_spec::reading::{Scope, compile};
use vestigum_spec::value::below;
use vestigum_spec::vocabulary::fate::Operation;

use super::act::Act;
use super::relaxed::Relaxation;

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
    /// None of these values ever becomes less.
    ValueNeverFalls(Vec<Expression>),
    /// A condition, always or after these moments.
    Holds(Box<Expression>, Vec<Moment>),
    /// Every level can be opened and completed; quitting and coming back keeps what a save writes.
    Reachable,
    /// Giving up or quitting leaves no more of this than a death.
    NoBetterLeft(FieldId),
    /// From every state some play without these moments makes a condition hold.
    Can(Box<Expression>, Vec<Moment>),
    /// From every state every level can be completed.
    Completable,
    /// Failing, or quitting inside a level, gives no record that play without it cannot have in as many visits.
    NothingGained(FieldId),
}

/// Describes why a question is answered with no.
#[derive(Clone, Debug)]
pub(super) struct Broken {
    /// In words.
    pub what: String,
    /// The expectation that fails when it is played.
    pub expect: String,
    /// Says what has to be known to understand the expectation.
    pub note: Option<&'static str>,
}

/// A moment that happened: the states before and after it, and where it left the player.
#[derive(Clone, Copy)]
pub(super) struct Happened<'a> {
    pub moment: Moment,
    pub before: &'a Progress,
    pub after: &'a Progress,
    /// Whether `after` is what the player sees. It is not if a game over follows at once.
    pub seen: bool,
}

/// Notes from all threads of a search whether what is asked was ever judged.
#[derive(Debug, Default)]
pub(super) struct Judged(AtomicBool);

impl Judged {
    /// A question that is about every play is judged by whatever is played.
    pub(super) fn of(asked: &Asked) -> Judged {
        let always = match asked {
            Asked::Holds(..) => false,
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Can(..)
            | Asked::Completable
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => true,
        };
        Judged(AtomicBool::new(always))
    }

    fn note(&self) {
        if !self.is_set() {
            self.0.store(true, Ordering::Relaxed);
        }
    }

    pub(super) fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// A moment that was played, to be judged by promises.
#[derive(Clone, Copy)]
pub(crate) struct Played<'a> {
    pub moment: Moment,
    /// The state before it, where there is one of the same player.
    pub before: Option<&'a Progress>,
    /// Holds the state between a failure and the game over that followed at once.
    pub failed: Option<&'a Progress>,
    pub after: &'a Progress,
}

/// The promises of a spec; of one about several fields a question for each.
pub(crate) fn promises(spec: &Spec) -> Vec<Question> {
    let mut questions = Vec::new();
    let mut ask = |name: Arc<str>, asked: Asked| {
        let index = questions.len();
        questions.push(Question { index, name, asked });
    };
    for promise in &spec.model().promises {
        match &promise.promised {
            Promised::Holds(condition, after) => {
                ask(promise.name.clone(), Asked::Holds(Box::new(condition.clone()), after.clone()));
            }
            Promised::Can(condition, without) => {
                ask(promise.name.clone(), Asked::Can(Box::new(condition.clone()), without.clone()));
            }
            // Each field on its own depends on less than all of them together, so there is less to search.
            Promised::NeverFalls(fields) => {
                for never in fields {
                    let (of, asked) = match never {
                        NeverFalls::Field(id) => (spec.model().field(*id).name.to_string(), Asked::NeverFalls(*id)),
                        NeverFalls::Value(values) => {
                            let named = values.first().map(|value| value.source().to_owned()).unwrap_or_default();
                            // Of several keys they are asked together.
                            let named = if values.len() > 1 {
                                named.split('[').next().unwrap_or_default().to_owned()
                            } else {
                                named
                            };
                            (named, Asked::ValueNeverFalls(values.clone()))
                        }
                    };
                    let of = if fields.len() == 1 { String::new() } else { format!(": {of}") };
                    ask(format!("{}{of}", promise.name).into(), asked);
                }
            }
        }
    }
    questions
}

/// Everything that can be asked of a spec: its promises first.
///
/// # Example
///
/// ```
/// use vestigum_verify::explore::questions;
/// # let spec = vestigum::Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// for question in questions(&spec) {
///     println!("{}", question.name());
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn questions(spec: &Spec) -> Vec<Question> {
    let mut questions = promises(spec);
    let mut ask = |name: Arc<str>, asked: Asked| {
        let index = questions.len();
        questions.push(Question { index, name, asked });
    };
    if !spec.model().shipped_levels().is_empty() {
        ask("every level can be opened and completed".into(), Asked::Reachable);
        ask("every level can still be completed".into(), Asked::Completable);
    }
    // Without a source there is nothing to gain.
    let records = spec.model().fields.iter().filter(|field| !spec.model().sources.is_empty() && is_record(spec, field));
    for field in records {
        ask(format!("failing gains nothing for `{}`", field.name).into(), Asked::NothingGained(field.id));
    }
    for field in spec.model().fields.iter().filter(|field| may_pay(spec, field)) {
        ask(format!("leaving keeps no more of `{}` than dying", field.name).into(), Asked::NoBetterLeft(field.id));
    }
    questions
}

/// Returns whether leaving can have another fate for the field than a death has, which then takes no price.
fn may_pay(spec: &Spec, field: &Field) -> bool {
    let data = &**spec.model();
    let fates = |moment: Moment| {
        let touched = unconditional_fate(data, field, moment)?;
        let otherwise = data.plan.fate(field.id, moment).fallback;
        Some((data.meant(moment, touched), data.meant(moment, otherwise)))
    };
    let Some(death) = fates(Moment::Death) else { return false };
    let saved = resembled_failure(data.resume);
    let SuspendedFate { touched, untouched } = suspended_fate(data, field, saved);
    let quits = Some((data.meant(saved, touched), data.meant(saved, untouched)));
    let differs = [fates(Moment::Abandon), quits].iter().any(|left| *left != Some(death));
    differs && matches!(field.lasts, Span::Run | Span::Profile) && field.ty.is_number()
}

/// A record is what outlives the run and can grow when a level is completed.
fn is_record(spec: &Spec, field: &Field) -> bool {
    let data = &**spec.model();
    let rules = &data.plan.fate(field.id, Moment::Complete).rules;
    let grows = |(index, rule): (usize, &Rule)| match &rule.does {
        Effect::Operation(Operation::Set, operand) => !operand.is_never_above(data, field, rules, index),
        Effect::Operation(Operation::Max, _) => true,
        Effect::Operation(Operation::Add, operand) => operand.bounds_in_ranges(data).can_be_above(0.0),
        Effect::Operation(Operation::Min | Operation::Union | Operation::Rank, _) | Effect::Plain(_) => false,
    };
    let fed = rules.iter().enumerate().any(grows);
    fed && field.lasts.outlives_run() && field.ty.is_number()
}

impl Question {
    /// Returns what is asked, in words.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns whether it is a promise of that name, or the part of one that is about one of its fields.
    pub fn is_of(&self, promise: &str) -> bool {
        let rest = self.name.strip_prefix(promise);
        self.is_promise() && rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(": "))
    }

    /// Returns whether the spec asks it; the others are asked of every game.
    pub fn is_promise(&self) -> bool {
        matches!(self.asked, Asked::NeverFalls(_) | Asked::ValueNeverFalls(_) | Asked::Holds(..) | Asked::Can(..))
    }

    /// The code under which a spec can allow it; promises have none.
    pub fn code(&self) -> Option<&'static str> {
        match &self.asked {
            Asked::NeverFalls(_) | Asked::ValueNeverFalls(_) | Asked::Holds(..) | Asked::Can(..) => None,
            Asked::Reachable => Some(codes::NEVER_COMPLETED),
            Asked::Completable => Some(codes::SOFT_LOCK),
            Asked::NothingGained(_) => Some(codes::FAILING_GAINS),
            Asked::NoBetterLeft(_) => Some(codes::LEAVING_PAYS),
        }
    }

    /// Returns why the spec allows it, if it does.
    pub fn allowed<'s>(&self, spec: &'s Spec) -> Option<&'s str> {
        let subject = self.reads().first().map(|id| spec.model().field(*id).name());
        because(spec, self.code()?, subject)
    }

    /// The levels that the question leaves out because the spec allows that they are never completed, and why.
    pub fn allowed_levels<'s>(&self, spec: &'s Spec) -> impl Iterator<Item = (&'s str, &'s str)> {
        let code = match self.asked {
            Asked::Reachable => Some(codes::NEVER_COMPLETED),
            Asked::Completable => Some(codes::SOFT_LOCK),
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Can(..)
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => None,
        };
        let levels = code.into_iter().flat_map(|code| spec.model().levels.iter().map(move |level| (code, level)));
        let levels = levels.filter_map(|(code, level)| Some((&*level.id, because(spec, code, Some(&level.id))?)));
        levels.filter(|_| self.allowed(spec).is_none())
    }

    /// Lists the expressions that are worked out to answer it.
    pub(super) fn expressions(&self) -> Vec<&Expression> {
        match &self.asked {
            Asked::ValueNeverFalls(values) => values.iter().collect(),
            Asked::NeverFalls(_)
            | Asked::Holds(..)
            | Asked::Can(..)
            | Asked::Completable
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => self.expression().into_iter().collect(),
        }
    }

    /// The condition that is asked, if one is.
    pub(super) fn expression(&self) -> Option<&Expression> {
        match &self.asked {
            Asked::Holds(condition, _) | Asked::Can(condition, _) => Some(condition),
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Reachable
            | Asked::Completable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => None,
        }
    }

    /// Says in words what a moment breaks of it, judged as in a search; nothing if it breaks nothing.
    pub(crate) fn broken_by(&self, played: &Played<'_>) -> Option<String> {
        let (relaxation, judged) = (Relaxation::default(), Judged::default());
        let Played { moment, before, failed, after } = *played;
        let judge = |moment, before, after| {
            self.asked.judge_moment(Happened { moment, before, after, seen: true }, &relaxation, &judged)
        };
        let of_moment = before.and_then(|before| match failed {
            None => judge(moment, before, after),
            Some(failed) => judge(moment, before, failed).or_else(|| judge(Moment::GameOver, failed, after)),
        });
        // Without a state before it nothing can have fallen.
        let act = Act::Moment(moment);
        let broken =
            of_moment.or_else(|| self.asked.judge_state(before.unwrap_or(after), act, after, &relaxation, &judged));
        broken.map(|broken| broken.what)
    }

    pub(crate) fn reads(&self) -> Vec<FieldId> {
        match &self.asked {
            Asked::NeverFalls(field) | Asked::NothingGained(field) | Asked::NoBetterLeft(field) => vec![*field],
            Asked::Holds(condition, _) | Asked::Can(condition, _) => condition.reads().to_vec(),
            Asked::ValueNeverFalls(values) => values.iter().flat_map(|value| value.reads().iter().copied()).collect(),
            Asked::Reachable | Asked::Completable => Vec::new(),
        }
    }

    /// Returns what it asks of a field.
    pub(super) fn asks(&self, spec: &Spec, field: FieldId) -> Asks {
        match &self.asked {
            Asked::NeverFalls(of) | Asked::NothingGained(of) | Asked::NoBetterLeft(of) if *of == field => {
                Asks::TheValue
            }
            Asked::NeverFalls(_)
            | Asked::NothingGained(_)
            | Asked::NoBetterLeft(_)
            | Asked::Reachable
            | Asked::Completable => Asks::Nothing,
            Asked::ValueNeverFalls(values) if values.iter().any(|value| value.reads().contains(&field)) => {
                Asks::TheValue
            }
            Asked::ValueNeverFalls(_) => Asks::Nothing,
            Asked::Holds(condition, _) | Asked::Can(condition, _) => condition.asks(spec.model(), field),
        }
    }
}

/// Returns why the spec allows a finding about something.
fn because<'s>(spec: &'s Spec, code: &str, subject: Option<&str>) -> Option<&'s str> {
    let entry = spec.model().document.allowed.iter().find(|entry| entry.allows(code, subject));
    entry.map(|entry| entry.because.value.as_str())
}

/// Returns what a finding of exploring can be about, by its code: levels and fields by name.
pub(crate) fn subjects<'s>(spec: &'s Spec, code: &str) -> Vec<&'s str> {
    if code == codes::NEVER_COMPLETED || code == codes::SOFT_LOCK {
        return spec.model().shipped_levels().iter().map(|level| &*level.id).collect();
    }
    let asked = questions(spec).into_iter().filter(|question| question.code() == Some(code));
    asked.filter_map(|question| Some(spec.model().field(*question.reads().first()?).name())).collect()
}

/// The moment that an act says.
pub(super) fn moment_of(act: Act) -> Option<Moment> {
    match act {
        Act::Enter(_) => Some(Moment::Enter),
        Act::Checkpoint(_) => Some(Moment::Checkpoint),
        Act::Exit(_) => Some(Moment::Complete),
        Act::Moment(moment) => Some(moment),
        Act::Relaunch | Act::Newcomer => Some(Moment::Launch),
        Act::Take(_) | Act::Write(_) => None,
    }
}

impl Asked {
    /// Judges a moment, if the question is about it.
    pub(super) fn judge_moment(
        &self,
        happened: Happened<'_>,
        relaxation: &Relaxation,
        judged: &Judged,
    ) -> Option<Broken> {
        let Happened { moment, before, after, seen } = happened;
        match self {
            Asked::Holds(condition, moments) if moments.contains(&moment) => {
                // A moment that leaves a level is about the level that is left.
                let enters = matches!(moment, Moment::Enter | Moment::Checkpoint | Moment::Launch);
                let env = Env { before: Some(before.state()), ..env_of(if enters { after } else { before }, after) };
                if condition.needs_level() && env.level.is_none() || !relaxation.asks_about(env.level) {
                    return None;
                }
                judged.note();
                if condition.holds(&env) { None } else { Some(unheld(condition, &env, Some(moment), after, seen)) }
            }
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Can(..)
            | Asked::Completable
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => None,
        }
    }

    /// Returns whether the answer depends on what the states hold together, not on each one alone.
    pub(super) fn adds_up(&self) -> bool {
        match self {
            Asked::Reachable | Asked::NothingGained(_) => true,
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Can(..)
            | Asked::Completable
            | Asked::NoBetterLeft(_) => false,
        }
    }

    /// Judges a state that play has led to, and the step that led there.
    pub(super) fn judge_state(
        &self,
        before: &Progress,
        act: Act,
        after: &Progress,
        relaxation: &Relaxation,
        judged: &Judged,
    ) -> Option<Broken> {
        match self {
            // What another player has is another's, but for the device.
            Asked::NeverFalls(field) if act == Act::Newcomer && after.model().field(*field).lasts != Span::Device => {
                None
            }
            Asked::NeverFalls(field) => fallen(before, act, after, *field, relaxation),
            Asked::ValueNeverFalls(_) if act == Act::Newcomer => None,
            Asked::ValueNeverFalls(values) => values.iter().find_map(|value| value_fallen(before, act, after, value)),
            Asked::Holds(condition, moments) if moments.is_empty() => {
                let env = env_of(after, after);
                let asked = !(condition.needs_level() && env.level.is_none()) && relaxation.asks_about(env.level);
                if asked {
                    judged.note();
                }
                if !asked || condition.holds(&env) {
                    return None;
                }
                Some(unheld(condition, &env, None, after, true))
            }
            Asked::NoBetterLeft(field) => left_with_more(before, act, after, *field, relaxation),
            Asked::Holds(..) | Asked::Can(..) | Asked::Completable | Asked::Reachable | Asked::NothingGained(_) => None,
        }
    }

    /// The goals that a search for traps asks of each state; none for other questions.
    pub(super) fn goals(&self, spec: &Model) -> Option<usize> {
        match self {
            Asked::Can(..) => Some(1),
            Asked::Completable => Some(spec.shipped_levels().len()),
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => None,
        }
    }

    /// Says whether a goal holds in a state.
    pub(super) fn reaches(&self, spec: &Model, state: &State, goal: usize) -> bool {
        match self {
            Asked::Can(condition, _) => {
                let standing = state.position.level_position();
                let checkpoint = standing.and_then(|standing| standing.checkpoint.as_ref());
                let env = Env::new(spec, state, standing.map(|standing| standing.level), checkpoint);
                !(condition.needs_level() && env.level.is_none()) && condition.holds(&env)
            }
            Asked::Completable => state.value(spec.field(spec.completed).slot_at(&[goal as u32])).as_bool(),
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => false,
        }
    }

    /// The moments that a play to a goal does not say.
    pub(super) fn without(&self) -> &[Moment] {
        match self {
            Asked::Can(_, without) => without,
            Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Completable
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => &[],
        }
    }

    /// Says what is wrong with a state from which a goal can never be reached.
    pub(super) fn trapped(&self, spec: &Model, goal: usize) -> Broken {
        let (what, expect) = match self {
            Asked::Can(condition, _) => {
                (format!("`{}` can never hold from there on", condition.source()), condition.source().to_owned())
            }
            Asked::Completable
            | Asked::NeverFalls(_)
            | Asked::ValueNeverFalls(_)
            | Asked::Holds(..)
            | Asked::Reachable
            | Asked::NoBetterLeft(_)
            | Asked::NothingGained(_) => {
                let id = &spec.level(goal as u32).id;
                (format!("`{id}` can never be completed from there on"), format!("completed[{id}]"))
            }
        };
        let note = "No play leads on from here to what the last line expects. When the spec is changed, let it be played before that line.";
        Broken { what, expect, note: Some(note) }
    }
}

/// The state after a moment, with the level and the checkpoint of a place.
fn env_of<'a>(place: &'a Progress, after: &'a Progress) -> Env<'a> {
    let standing = place.state().position.level_position();
    let checkpoint = standing.and_then(|standing| standing.checkpoint.as_ref());
    Env::new(after.model(), after.state(), standing.map(|standing| standing.level), checkpoint)
}

/// Returns what leaving has left more of than a death in its place would have.
fn left_with_more(
    before: &Progress,
    act: Act,
    after: &Progress,
    id: FieldId,
    relaxation: &Relaxation,
) -> Option<Broken> {
    let leaves = matches!(act, Act::Moment(Moment::Abandon) | Act::Relaunch);
    if !leaves || !before.state().position.is_level() {
        return None;
    }
    // A game over that follows is a price, so both are looked at before it; and what launching again adds is not kept.
    let mut died = before.clone();
    died.failure(Moment::Death).ok()?;
    let left = if act == Act::Relaunch {
        before.suspend().state().clone()
    } else {
        let mut left = before.clone();
        left.failure(Moment::Abandon).ok()?;
        left.into_state()
    };
    let spec = after.model();
    let field = spec.field(id);
    let more =
        |slot: &usize| [&left, after.state()].iter().all(|kept| below(died.state().value(*slot), kept.value(*slot)));
    let slot = field.slots().filter(|slot| relaxation.follows(spec, field, *slot)).find(more)?;
    let name = entry_name(spec, field, slot, &after.state().made).to_string();
    let (left, dead) = (after.state().value(slot), died.state().value(slot));
    let how = if act == Act::Relaunch { "quitting" } else { "giving up" };
    let what = format!("`{name}` is {left} after {how}, and would be {dead} after a death in its place");
    Some(Broken { what, expect: at_most(&name, dead), note: None })
}

/// The expectation that something is not above a value; nothing is above no value but a value.
pub(super) fn at_most(name: &str, value: &Value) -> String {
    value.literal().map_or_else(|| format!("not filled({name})"), |value| format!("{name} <= {value}"))
}

fn fallen(before: &Progress, act: Act, after: &Progress, id: FieldId, relaxation: &Relaxation) -> Option<Broken> {
    let spec = after.model();
    let field = spec.field(id);
    let slot = field.slots().filter(|slot| relaxation.follows(spec, field, *slot)).find(|slot| {
        let (old, new) = (before.state().value(*slot), after.state().value(*slot));
        let bool_fell = *old == Value::Bool(true) && *new == Value::Bool(false);
        old != new && (bool_fell || !new.is_filled() || (old.is_filled() && below(new, old)))
    })?;
    let name = entry_name(spec, field, slot, &after.state().made).to_string();
    let (old, new) = (before.state().value(slot), after.state().value(slot));
    let told = moment_of(act).map_or_else(|| act.to_string(), |moment| spec.moment_name(moment).to_owned());
    let expect = match (old, old.literal().unwrap_or_default()) {
        (Value::Bool(_), _) => name.clone(),
        // Without a value it reads as zero, which may be more.
        (_, old) if field.optional => format!("filled({name}) and {name} >= {old}"),
        (_, old) => format!("{name} >= {old}"),
    };
    Some(Broken { what: format!("`{name}` fell from {old} to {new} at `{told}`"), expect, note: None })
}

/// Says what a value that is worked out has fallen to. One that needs a level is compared where play stands in the same one.
fn value_fallen(before: &Progress, act: Act, after: &Progress, value: &Expression) -> Option<Broken> {
    let of = |game: &Progress| {
        let env = env_of(game, game);
        (!value.needs_level() || env.level.is_some())
            .then(|| (env.level.filter(|_| value.needs_level()), value.value(&env)))
    };
    let ((level, old), (level_now, new)) = (of(before)?, of(after)?);
    let fell = match (&old, &new) {
        (Value::Bool(old), Value::Bool(new)) => *old && !*new,
        _ => below(&new, &old),
    };
    if level != level_now || !fell {
        return None;
    }
    let name = value.source();
    let told = moment_of(act).map_or_else(|| act.to_string(), |moment| after.model().moment_name(moment).to_owned());
    let expect = match &old {
        Value::Bool(_) => name.to_owned(),
        old => format!("{name} >= {}", old.literal().unwrap_or_default()),
    };
    Some(Broken { what: format!("`{name}` fell from {old} to {new} at `{told}`"), expect, note: None })
}

/// A condition that does not hold, after a moment or always, and the expectation that fails behind the step.
fn unheld(condition: &Expression, env: &Env<'_>, moment: Option<Moment>, after: &Progress, seen: bool) -> Broken {
    let judged = condition.judge(env);
    let failing = judged.iter().filter(|part| !part.holds);
    let parts: Vec<String> = failing
        .map(|part| {
            let values: Vec<String> = part.values.iter().map(|(name, value)| format!("{name} is {value}")).collect();
            let values = if values.is_empty() { String::new() } else { format!(": {}", values.join(", ")) };
            format!("`{}` does not hold{values}", part.part)
        })
        .collect();
    let when = moment.map(|moment| format!("after `{}` ", env.spec.moment_name(moment))).unwrap_or_default();
    let restating = Restating { env: *env, seen, level: after.state().position.level(), each: None };
    let expect = condition.restated(restating).filter(|text| fails(text, after));
    Broken {
        what: format!("{when}{}", parts.join("; ")),
        // What has no words in a playthrough fails all the same, where it should.
        expect: expect.unwrap_or_else(|| "false".into()),
        note: (!seen).then_some("It is judged before the game over that follows, so its values are written out."),
    }
}

/// Returns whether an expectation can be read by a playthrough, and fails where this one stands.
fn fails(text: &str, after: &Progress) -> bool {
    let compiled = compile(after.model(), Scope::Play, text, Some(&Type::Bool), &|span| span, &mut Vec::new());
    compiled.is_some_and(|expectation| after.evaluate(&expectation).is_ok_and(|value| !value.as_bool()))
}

/// The checkpoint of a place, for keys of states.
pub(super) fn checkpoint_key(checkpoint: Option<&Checkpoint>) -> u64 {
    match checkpoint {
        None => 0,
        Some(Checkpoint::Listed(index)) => u64::from(*index) + 1,
        Some(Checkpoint::Named(name)) => xxhash_rust::xxh3::xxh3_64(name.as_bytes()) | 1 << 63,
    }
}
