//! Shows why a promise is not proved: one step from a state in which it holds to one in which it does not.
//!
//! The state before is made up of values that are near what the promise compares with. Play may never come there; then another promise
//! that says so helps to prove this one. So no state is shown in which another promise of the spec does not hold.

use std::sync::Arc;

use vestigum_core::evaluation::Env;
use vestigum_core::evaluation::judge::ExpressionValue;
use vestigum_core::state::State;
use vestigum_core::{Progress, Spec, Type, Value};
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::node::{EntryRef, Node};

use super::act::{Act, newcomer, statements};
use super::answer::SearchBounds;
use super::question::{Asked, Question, promises};
use super::relaxed::Relaxation;
use super::search::Search;

/// A step that the rules do not exclude, and that would break the promise. Whether play comes to the state before it is not known.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct OpenStep {
    /// The level in which play stands before it, if it stands in one.
    pub level: Option<Arc<str>>,
    /// The values before it, as a playthrough says them: `xp == 3`.
    pub before: Vec<String>,
    /// Says what happens, as statements of a playthrough.
    pub step: Vec<String>,
    /// The values that it changes.
    pub after: Vec<String>,
    /// Says what is wrong then, in words.
    pub what: String,
}

/// The most states that are tried.
const STATES: usize = 4_000;

/// The most values that are copied in all.
const WORK: usize = 20_000_000;

/// The most entries whose values are made up.
const ENTRIES: usize = 8;

/// Looks for a step from a state in which the promise holds to one in which it does not. None is found for questions that no single step
/// answers, and where no state that is tried has one.
///
/// # Example
///
/// ```
/// use vestigum_core::Spec;
/// use vestigum_verify::explore::{SearchBounds, open_step, questions};
///
/// let spec = Spec::from_toml(r#"
///     [game]
///     id = "fellpost"
///     [levels]
///     order = ["mill_lane"]
///     [field.letters]
///     type = "int"
///     range = [0, 9]
///     lasts = "profile"
///     written_by = "rules"
///     on.complete = { set = "parcels" }
///     [field.parcels]
///     type = "int"
///     range = [0, 9]
///     lasts = "profile"
///     written_by = "rules"
///     [[promise]]
///     name = "three letters at most"
///     holds = "letters <= 3"
/// "#)?;
/// let step = open_step(&spec, &questions(&spec)[0], &SearchBounds::default()).unwrap();
/// assert_eq!(step.before, ["letters == 0", "parcels == 4"]);
/// assert_eq!((&step.step[..], &step.after[..]), (&["complete".to_owned()][..], &["letters == 4".to_owned()][..]));
/// # Ok::<(), vestigum_core::Diagnostics>(())
/// ```
///
/// # Panics
/// If the question is one of another spec.
pub fn open_step(spec: &Spec, question: &Question, bounds: &SearchBounds) -> Option<OpenStep> {
    match question.asked {
        Asked::NeverFalls(_) | Asked::ValueNeverFalls(_) | Asked::Holds(..) | Asked::NoBetterLeft(_) => {}
        Asked::Can(..) | Asked::Completable | Asked::Reachable | Asked::NothingGained(_) => return None,
    }
    let search = Search::relaxed(spec, question, bounds.clone(), Relaxation::default());
    let counted = search.spec();
    let model = &**counted.model();
    let others: Vec<Expression> = promises(counted).into_iter().filter_map(always).collect();
    let entries = entries(counted, question);
    let fresh = Progress::fresh(counted);
    let mut inside = fresh.clone();
    let level = (0..model.levels.len() as u32).find(|level| fresh.is_open(*level));
    let inside = level.filter(|level| search.repertoire().apply(&mut inside, Act::Enter(*level))).map(|_| inside);
    // Each step copies a state: a game of many levels must not make the answer wait.
    let slots: usize = model.fields.iter().map(|field| field.slots().count()).sum();
    let mut left = WORK / (slots + 100);
    for values in samples(&entries) {
        for place in inside.iter().chain([&fresh]) {
            let mut before = place.clone();
            for ((_, slot, of), value) in entries.iter().zip(&values) {
                before.state_mut().write_through(*slot, of[*value].clone());
            }
            // A run that is over is judged where it ends.
            if before.is_run_over() || !others.iter().all(|promise| holds(promise, &before)) {
                continue;
            }
            for act in search.repertoire().acts(counted, &before) {
                left = left.checked_sub(1)?;
                if let Some((after, what)) = search.breaks(&before, act) {
                    return Some(told(spec, &search, &entries, (&before, act, &after), what));
                }
            }
        }
    }
    None
}

/// The condition of a promise that is judged in every state.
fn always(question: Question) -> Option<Expression> {
    match question.asked {
        Asked::Holds(condition, after) if after.is_empty() => Some(*condition),
        Asked::Holds(..)
        | Asked::NeverFalls(_)
        | Asked::ValueNeverFalls(_)
        | Asked::Can(..)
        | Asked::Completable
        | Asked::Reachable
        | Asked::NoBetterLeft(_)
        | Asked::NothingGained(_) => None,
    }
}

fn holds(condition: &Expression, game: &Progress) -> bool {
    let standing = game.state().position.level_position();
    let checkpoint = standing.and_then(|standing| standing.checkpoint.as_ref());
    let env = Env::new(game.model(), game.state(), standing.map(|standing| standing.level), checkpoint);
    condition.needs_level() && env.level.is_none() || condition.holds(&env)
}

/// The entries whose values are made up, each with the values that are tried; the first of them is the default.
fn entries(spec: &Spec, question: &Question) -> Vec<(FieldId, usize, Vec<Value>)> {
    let model = &**spec.model();
    let asked = question.expressions();
    let (mut fields, mut slots) = (question.reads(), Vec::new());
    let derived = asked.iter().flat_map(|asked| asked.derived());
    let derived = derived.map(|index| model.derived[*index as usize].expression.node());
    let mut nodes: Vec<&Node> = asked.iter().map(|asked| asked.node()).chain(derived).collect();
    for field in fields.clone() {
        for rule in spec.moments().flat_map(|moment| &model.plan.fate(field, moment).rules) {
            for read in rule.expressions() {
                nodes.push(read.node());
                fields.extend(read.reads());
            }
        }
    }
    let mut literals = Vec::new();
    for node in nodes {
        gather(node, &mut slots);
        node.each_literal(&mut |value| literals.push(value.clone()));
    }
    let mut entries: Vec<(FieldId, usize, Vec<Value>)> = Vec::new();
    for id in fields {
        let field = model.field(id);
        let named = slots.iter().filter(|(of, _)| *of == id).map(|(_, slot)| *slot);
        // Of the others the first ones stand for all.
        for slot in field.slots().take(2).chain(named) {
            let known = entries.iter().any(|(_, known, _)| *known == slot);
            if !known && entries.len() < ENTRIES && id != model.opened {
                entries.push((id, slot, values(field, &literals)));
            }
        }
    }
    entries
}

fn gather(node: &Node, slots: &mut Vec<(FieldId, usize)>) {
    if let Node::Read(_, field, EntryRef::Slot(slot)) = node {
        slots.push((*field, *slot));
    }
    node.any_part(&mut |part| {
        gather(part, slots);
        false
    });
}

/// The values of a field that are tried: its default, the ends of its range, and what is near the numbers that are compared.
fn values(field: &Field, literals: &[Value]) -> Vec<Value> {
    let mut values = vec![field.default.clone()];
    let mut add = |value: Value| {
        let fits = field.limits.range.as_ref().is_none_or(|(low, high)| *low <= value && value <= *high);
        if fits && !values.contains(&value) {
            values.push(value);
        }
    };
    match &field.ty {
        Type::Bool => [true, false].into_iter().for_each(|bool| add(Value::Bool(bool))),
        Type::Int => {
            let near = |value: &Value| match value {
                Value::Int(int) => vec![*int, int.saturating_add(1), int.saturating_sub(1)],
                _ => Vec::new(),
            };
            let ends = field.limits.range.iter().flat_map(|(low, high)| [low, high]);
            let near: Vec<i64> = literals.iter().chain(ends).flat_map(near).chain([1, 2, 0]).collect();
            near.into_iter().for_each(|int| add(Value::Int(int)));
        }
        Type::Float => literals.iter().map(Value::as_float).for_each(|float| add(Value::float(float))),
        Type::Choice(_) => literals.iter().filter(|value| matches!(value, Value::Choice(_))).cloned().for_each(add),
        Type::Text
        | Type::Bytes
        | Type::Vec2
        | Type::Vec3
        | Type::Struct(_)
        | Type::List(_)
        | Type::Set(_)
        | Type::Map(_) => {}
    }
    values.truncate(12);
    values
}

/// Chooses a value for each entry: first all but one or two at their defaults, then anything.
fn samples(entries: &[(FieldId, usize, Vec<Value>)]) -> Vec<Vec<usize>> {
    let counts: Vec<usize> = entries.iter().map(|(_, _, values)| values.len()).collect();
    let mut samples = vec![vec![0; counts.len()]];
    for one in 0..counts.len() {
        for value in 1..counts[one] {
            let mut sample = vec![0; counts.len()];
            sample[one] = value;
            samples.push(sample);
        }
    }
    for one in 0..counts.len() {
        for other in 0..one {
            for (a, b) in (1..counts[one]).flat_map(|a| (1..counts[other]).map(move |b| (a, b))) {
                let mut sample = vec![0; counts.len()];
                (sample[one], sample[other]) = (a, b);
                samples.push(sample);
            }
        }
    }
    // The numbers only have to differ.
    let mut number: u64 = 1;
    let mut next = |below: usize| {
        number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (number >> 33) as usize % below
    };
    if counts.len() > 2 {
        samples.extend((samples.len()..STATES).map(|_| counts.iter().map(|count| next(*count)).collect::<Vec<_>>()));
    }
    samples.truncate(STATES);
    samples
}

fn told(
    spec: &Spec,
    search: &Search<'_>,
    entries: &[(FieldId, usize, Vec<Value>)],
    (before, act, after): (&Progress, Act, &Progress),
    what: String,
) -> OpenStep {
    let model = before.model();
    let level = before.state().position.level();
    let told = |state: &State, id: FieldId, slot: usize| {
        let name = entry_name(model, model.field(id), slot, &state.made);
        let value = state.value(slot).literal();
        value.map_or_else(|| format!("not filled({name})"), |value| format!("{name} == {value}"))
    };
    let newcomer_state;
    let shown = if act == Act::Newcomer {
        newcomer_state = newcomer(before);
        &newcomer_state
    } else {
        before.state()
    };
    let asked = search.question().reads();
    let told_before = entries.iter().filter(|(id, slot, of)| {
        let field = model.field(*id);
        let here = field.axes.is_empty() || level.is_some() && field.level_of(model, *slot) == level;
        *before.state().value(*slot) != of[0] || asked.contains(id) && here
    });
    let changed = entries.iter().filter(|(_, slot, _)| shown.value(*slot) != after.state().value(*slot));
    OpenStep {
        level: level.map(|level| model.level(level).id.clone()),
        before: told_before.map(|(id, slot, _)| told(before.state(), *id, *slot)).collect(),
        step: statements(spec, act, level, &search.repertoire().writes, &mut 0),
        after: changed.map(|(id, slot, _)| told(after.state(), *id, *slot)).collect(),
        what,
    }
}
