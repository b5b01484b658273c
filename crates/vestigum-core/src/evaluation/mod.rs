//! Nodes and their values.

pub mod judge;
pub mod restate;
pub mod touched;

use crate::evaluation::judge::ExpressionValue;
use crate::state::State;
use crate::state::position::Checkpoint;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::node::{EntryRef, Made, Node, Pick, ReadAt};
use vestigum_spec::syntax::Operator;
use vestigum_spec::value::limits::Limits;
use vestigum_spec::value::types::Type;
use vestigum_spec::value::{Value, add, below, negated, total};
use vestigum_spec::vocabulary::function::{Aggregate, TableFunction};
use vestigum_spec::vocabulary::names::key_text;

/// Describes what an expression is evaluated against: a state, and the level and checkpoint that the moment is about.
#[derive(Clone, Copy)]
pub struct Env<'a> {
    pub spec: &'a Model,
    pub state: &'a State,
    /// The state before the moment, for promises that speak of one: `was` and the marks are read there.
    pub before: Option<&'a State>,
    pub level: Option<u32>,
    pub checkpoint: Option<&'a Checkpoint>,
    /// The exit by which the level was completed, if one was named.
    pub exit: Option<&'a str>,
    /// The keys of the entry that a migration fills, each with its key set.
    pub filled: &'a [(u32, u32)],
    /// The item of a container that is looked at.
    pub each: Option<&'a Value>,
    /// Derived values that were worked out already, in the order of the spec.
    pub derived: &'a [(u32, Value)],
}

/// The value of a part of an expression, and what it reads on the way.
pub trait NodeValue {
    /// Works out the value.
    fn value(&self, env: &Env<'_>) -> Value;

    /// Returns whether a predicate holds for any field read that contributes to the value. Parts that are not reached (short-circuited, or the
    /// other branch of an `if`) do not count, and neither do functions over all entries of a field.
    fn any_read(&self, env: &Env<'_>, is_so: &dyn Fn(&Node) -> bool) -> bool;

    /// Returns whether this reads a value that is not filled, which reads as zero.
    fn is_unfilled(&self, env: &Env<'_>) -> bool;

    /// Returns whether this reads the entry of a level, checkpoint or key that is meant and not there.
    fn has_no_entry(&self, env: &Env<'_>) -> bool;
}

impl NodeValue for Node {
    fn value(&self, env: &Env<'_>) -> Value {
        match self {
            Node::Const(value) => value.clone(),
            Node::Read(from, field, entry) => read(env, *from, *field, entry),
            Node::Filled(field, entry) => {
                let slot = slot(env, *field, entry);
                Value::Bool(slot.is_some_and(|slot| env.state.value(slot).is_filled()))
            }
            Node::Before(inner) => match env.before {
                // What was worked out already is of the state as it is now.
                Some(before) => inner.value(&Env { state: before, before: None, derived: &[], ..*env }),
                None => inner.value(env),
            },
            Node::Aggregate(over, field) => of_entries(*over, env, *field),
            Node::Derived(index) => match env.derived.binary_search_by_key(index, |(known, _)| *known) {
                Ok(at) => env.derived[at].1.clone(),
                Err(_) => env.spec.derived[*index as usize].expression.value(env),
            },
            Node::Wide(inner) => inner.value(env).widened(),
            Node::Rounded(whole, inner) => match inner.value(env) {
                Value::Float(float) => Value::Int(whole.of(float.get()) as i64),
                int => Value::Int(int.as_int()),
            },
            Node::Not(inner) => Value::Bool(!inner.value(env).as_bool()),
            Node::Negative(inner) => negated(&inner.value(env)),
            Node::Binary(operator, left, right) => binary(*operator, left, right, env),
            Node::Chain(first, rest) => rest
                .iter()
                .fold(first.value(env), |sum, (operator, node)| calculated(*operator, &sum, &node.value(env))),
            Node::If(branches) => {
                let [condition, yes, no] = &**branches;
                if condition.value(env).as_bool() { yes.value(env) } else { no.value(env) }
            }
            Node::Highest(nodes) => extreme(nodes.iter().map(|node| node.value(env)), below),
            Node::Lowest(nodes) => extreme(nodes.iter().map(|node| node.value(env)), |best, value| below(value, best)),
            Node::Len(inner) => Value::Int(inner.value(env).len() as i64),
            Node::Has(inner, item) => Value::Bool(has(&inner.value(env), &item.value(env))),
            Node::Item(container, key, ty) => {
                let (container, key) = (container.value(env), key.value(env));
                container.item(&key).cloned().unwrap_or_else(|| ty.zero())
            }
            Node::Items(over, container, each, ty) => of_items(*over, &container.value(env), each, ty, env),
            Node::Place(ranking, entry, order) => {
                let (ranking, entry) = (ranking.value(env), entry.value(env));
                let place = Limits::of_ranking(order.clone()).place_in(&ranking, entry);
                Value::Int(place.map_or(0, |place| place as i64))
            }
            Node::Each => env.each.cloned().unwrap_or_default(),
            Node::Member(inner, name, _) => inner.value(env).member(name).unwrap_or_default(),
            Node::Make(parts, made) => {
                let mut parts = parts.iter().map(|part| part.value(env));
                let (ty, made) = match made {
                    Made::Items(ty) => (ty, Value::List(parts.collect())),
                    Made::Named(ty, names) => (ty, Value::Map(names.iter().cloned().zip(&mut parts).collect())),
                };
                made.fitted(ty).unwrap_or_else(|| ty.zero())
            }
            Node::Table(steps, inner, table, level) => {
                let table = &env.spec.tables[*table as usize];
                let (x, level) = (inner.value(env), level.or(env.level));
                match steps {
                    TableFunction::Grade => Value::Int(table.grade(&x, level)),
                    TableFunction::Into => table.past_step(&x, level),
                    TableFunction::Needed => table.needed(&x, level),
                }
            }
            Node::Open(level) => {
                let level = level.or(env.level);
                Value::Bool(level.is_some_and(|level| env.state.value(env.spec.opened_slot(level)).as_bool()))
            }
            Node::Level => env.level.map_or(Value::text(""), |level| Value::Text(env.spec.level(level).id.clone())),
            Node::Checkpoint => match (env.checkpoint, env.level) {
                (Some(checkpoint), Some(level)) => Value::Text(checkpoint.name(env.spec, level)),
                _ => Value::text(""),
            },
            Node::Exit => Value::text(env.exit.unwrap_or_default()),
            Node::LevelIndex => {
                let listed = env.level.filter(|level| (*level as usize) < env.spec.in_order);
                Value::Int(listed.map_or(0, |level| i64::from(level) + 1))
            }
            Node::CheckpointIndex => Value::Int(env.checkpoint.map_or(0, Checkpoint::index)),
        }
    }

    fn any_read(&self, env: &Env<'_>, is_so: &dyn Fn(&Node) -> bool) -> bool {
        let any = |node: &Node| node.any_read(env, is_so);
        match self {
            Node::Read(..) | Node::Filled(..) => is_so(self),
            Node::If(branches) => {
                let [condition, yes, no] = &**branches;
                any(condition) || any(if condition.value(env).as_bool() { yes } else { no })
            }
            // If the left side decides alone, the right side is not reached.
            Node::Binary(operator @ (Operator::And | Operator::Or), left, right) => {
                any(left) || (left.value(env).as_bool() == (*operator == Operator::And) && any(right))
            }
            // What is asked of its items is asked of the container.
            Node::Items(_, container, ..) => any(container),
            Node::Derived(index) => any(&env.spec.derived[*index as usize].expression.node),
            _ => self.any_part(&mut |part| any(part)),
        }
    }

    fn is_unfilled(&self, env: &Env<'_>) -> bool {
        let Node::Read(_, field, entry) = self else { return false };
        slot(env, *field, entry).is_some_and(|slot| !env.state.value(slot).is_filled())
    }

    fn has_no_entry(&self, env: &Env<'_>) -> bool {
        let (Node::Read(_, _, EntryRef::Picked(picks)) | Node::Filled(_, EntryRef::Picked(picks))) = self else {
            return false;
        };
        picks.iter().any(|pick| match pick {
            Pick::Level => env.level.is_none(),
            Pick::Checkpoint => env.checkpoint_key().is_none(),
            Pick::Filled(set) => env.filled.iter().all(|(of, _)| of != set),
            Pick::Fixed(_) | Pick::Current(_) | Pick::Made(..) => false,
        })
    }
}

impl<'a> Env<'a> {
    /// Returns what a moment or a reader sees: the state as it is now.
    pub fn new(spec: &'a Model, state: &'a State, level: Option<u32>, checkpoint: Option<&'a Checkpoint>) -> Env<'a> {
        Env { spec, state, before: None, level, checkpoint, exit: None, filled: &[], each: None, derived: &[] }
    }

    /// The key of the moment's checkpoint on the axis of checkpoints.
    pub fn checkpoint_key(&self) -> Option<u32> {
        match self.checkpoint? {
            Checkpoint::Listed(index) => self.spec.checkpoint_key(self.level?, *index),
            Checkpoint::Named(_) => None,
        }
    }
}

/// An entry under a name that was not made, as it is named; none if all its keys are there or some key means nothing.
pub fn made_name(env: &Env<'_>, field: &Field, picks: &[Pick]) -> Option<String> {
    let mut missing = false;
    let mut names: Vec<String> = Vec::new();
    for (pick, axis) in picks.iter().zip(field.axes()) {
        let key = match pick {
            Pick::Made(set, name) if env.state.made[*set as usize].get_index_of(name).is_none() => {
                missing = true;
                names.push(key_text(name).into_owned());
                continue;
            }
            Pick::Made(set, name) => env.state.made[*set as usize].get_index_of(name).map(|key| key as u32),
            pick @ (Pick::Fixed(_) | Pick::Level | Pick::Checkpoint | Pick::Current(_) | Pick::Filled(_)) => {
                key_of_pick(env, pick)
            }
        };
        names.extend(env.spec.key_names(*axis, key?, &env.state.made).iter().map(|name| key_text(name).into_owned()));
    }
    missing.then(|| format!("{}[{}]", field.name(), names.join(", ")))
}

fn key_of_pick(env: &Env<'_>, pick: &Pick) -> Option<u32> {
    match pick {
        Pick::Fixed(key) => Some(*key),
        Pick::Level => env.level,
        Pick::Checkpoint => env.checkpoint_key(),
        Pick::Current(set) => env.spec.current_key(*set, |slot| env.state.value(slot).clone()),
        Pick::Filled(set) => env.filled.iter().find(|(of, _)| of == set).map(|(_, key)| *key),
        Pick::Made(set, name) => env.state.made[*set as usize].get_index_of(name).map(|key| key as u32),
    }
}

pub fn slot(env: &Env<'_>, field: FieldId, entry: &EntryRef) -> Option<usize> {
    let picks = match entry {
        EntryRef::Slot(slot) => return Some(*slot),
        EntryRef::Picked(picks) => picks,
    };
    let keys = picks.iter().map(|pick| key_of_pick(env, pick));
    Some(env.spec.field(field).slot_at(&keys.collect::<Option<Vec<u32>>>()?))
}

fn has(container: &Value, item: &Value) -> bool {
    match container {
        Value::Set(set) => set.contains(item),
        Value::List(list) => list.contains(item),
        map => map.entry(item.as_text()).is_some(),
    }
}

/// An unfilled value reads as the type's zero; where no level is meant there is nothing to read but the default.
fn read(env: &Env<'_>, from: ReadAt, field: FieldId, entry: &EntryRef) -> Value {
    let value = match slot(env, field, entry) {
        Some(slot) => match from {
            ReadAt::Now => env.state.value(slot),
            ReadAt::Entry => env.before.unwrap_or(env.state).at_entry(slot),
            ReadAt::Checkpoint => env.before.unwrap_or(env.state).at_checkpoint(slot),
            ReadAt::Was => env.before.unwrap_or(env.state).value(slot),
        },
        None => &env.spec.field(field).default,
    };
    if value.is_filled() { value.clone() } else { env.spec.field(field).ty.zero() }
}

fn binary(operator: Operator, left: &Node, right: &Node, env: &Env<'_>) -> Value {
    let a = left.value(env);
    match operator {
        Operator::And => return Value::Bool(a.as_bool() && right.value(env).as_bool()),
        Operator::Or => return Value::Bool(a.as_bool() || right.value(env).as_bool()),
        _ => {}
    }
    calculated(operator, &a, &right.value(env))
}

/// Returns what an operator makes of two values.
fn calculated(operator: Operator, a: &Value, b: &Value) -> Value {
    match operator {
        Operator::Equal => Value::Bool(a == b),
        Operator::Unequal => Value::Bool(a != b),
        Operator::Below => Value::Bool(below(a, b)),
        Operator::AtMost => Value::Bool(!below(b, a)),
        Operator::Above => Value::Bool(below(b, a)),
        Operator::AtLeast => Value::Bool(!below(a, b)),
        Operator::Plus => add(a, b),
        Operator::Minus => arithmetic(a, b, i64::saturating_sub, |a, b| a - b),
        Operator::Times => arithmetic(a, b, i64::saturating_mul, |a, b| a * b),
        // The compiler lets only literals other than zero through; `checked_div` still guards MIN / -1.
        Operator::Divide => arithmetic(a, b, |a, b| a.checked_div(b).unwrap_or(i64::MAX), |a, b| a / b),
        Operator::And => Value::Bool(a.as_bool() && b.as_bool()),
        Operator::Or => Value::Bool(a.as_bool() || b.as_bool()),
    }
}

fn arithmetic(a: &Value, b: &Value, int: fn(i64, i64) -> i64, float: fn(f64, f64) -> f64) -> Value {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => Value::Int(int(*a, *b)),
        (a, b) => Value::float(float(a.as_float(), b.as_float())),
    }
}

fn extreme(mut values: impl Iterator<Item = Value>, better: impl Fn(&Value, &Value) -> bool) -> Value {
    let first = values.next().unwrap_or_default();
    values.fold(first, |best, value| if better(&best, &value) { value } else { best })
}

/// Returns what is taken of each item of a container, in one value.
fn of_items(over: Aggregate, container: &Value, each: &Node, ty: &Type, env: &Env<'_>) -> Value {
    let of = |item: &Value| each.value(&Env { each: Some(item), ..*env });
    let values: Vec<Value> = match container {
        Value::List(list) => list.iter().map(of).collect(),
        Value::Set(set) => set.iter().map(of).collect(),
        Value::Map(map) => map.iter().map(|(_, item)| of(item)).collect(),
        _ => Vec::new(),
    };
    match over {
        Aggregate::Count => Value::Int(values.iter().filter(|value| value.as_bool()).count() as i64),
        Aggregate::Size => Value::Int(values.len() as i64),
        Aggregate::Sum => total(values.iter(), ty),
        Aggregate::Highest | Aggregate::Lowest if values.is_empty() => ty.zero(),
        Aggregate::Highest => extreme(values.into_iter(), below),
        Aggregate::Lowest => extreme(values.into_iter(), |best, value| below(value, best)),
    }
}

/// The entries of a keyed field in one value; unfilled entries, and those whose keys were not made, are skipped.
fn of_entries(over: Aggregate, env: &Env<'_>, field: FieldId) -> Value {
    let field = env.spec.field(field);
    let made = !env.spec.made_levels.is_empty() && field.is_per_level();
    let open = made || field.axes.iter().any(|axis| env.spec.is_open(*axis));
    let there = field.slots().filter(|slot| !open || env.state.has_entry(env.spec, field, *slot));
    let mut filled = there.map(|slot| env.state.value(slot)).filter(|value| value.is_filled());
    match over {
        Aggregate::Count => {
            let counts = |value: &&Value| **value != Value::Bool(false);
            Value::Int(filled.filter(counts).count() as i64)
        }
        Aggregate::Size if made => {
            Value::Int(field.slots().filter(|slot| env.state.has_entry(env.spec, field, *slot)).count() as i64)
        }
        Aggregate::Size => Value::Int(env.spec.entries_of(field, &env.state.made) as i64),
        Aggregate::Sum => total(filled, &field.ty),
        Aggregate::Highest | Aggregate::Lowest => {
            let Some(first) = filled.next() else { return field.ty.zero() };
            let best = filled.fold(first, |best, value| {
                let better = if over == Aggregate::Highest { below(best, value) } else { below(value, best) };
                if better { value } else { best }
            });
            best.clone()
        }
    }
}
