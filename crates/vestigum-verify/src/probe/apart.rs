//! The shortest playthrough that tells two specs apart.
//!
//! Both are played side by side, breadth first, by everything that can happen in the first: moments, sources, and one
//! write for each field that play writes and no source gives. The first difference that a playthrough can expect ends
//! the search.

use rustc_hash::FxHashSet;
use xxhash_rust::xxh3::xxh3_128;

use vestigum_core::{Progress, Spec, Type, Value};
use vestigum_spec::diagnostic::Spanned;
use vestigum_spec::document::{LevelEntry, SourceEntry};
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::vocabulary::policy::Accept;

use super::{Late, Stop, Weakened};
use crate::explore::{Act, Packing, PlayWrites, Relaxation, Repertoire, says_game_over, statements};

/// At most 20,000 pairs of states are compared.
const PAIRS: usize = 20_000;

/// `written` are the numbers that playthroughs write, by their fields.
pub(super) fn apart(
    spec: &Spec,
    weakened: &Weakened,
    written: &[(FieldId, i64)],
    stop: &Stop<'_>,
) -> Result<Option<String>, Late> {
    let (Some(first), Some(second)) = (played(spec, written), played(&weakened.spec, written)) else { return Ok(None) };
    let (first, counters) = first.with_counters();
    let (second, _) = second.with_counters();
    let sources = vec![true; counters.len()];
    let says_game_over = says_game_over(first.model());
    // The counters of sources are no fields that a playthrough knows.
    let hidden = counters.clone();
    let repertoire = Repertoire {
        counters,
        sources,
        failures: true,
        says_game_over,
        without: Vec::new(),
        writes: PlayWrites::default(),
        players: false,
        relaxation: Relaxation::default(),
    };
    let packing = Packing::all(first.model());
    let mut visited: Vec<(usize, Act)> = vec![(0, Act::Relaunch)];
    let mut seen = FxHashSet::default();
    let mut bytes = Vec::new();
    let pair = (Progress::fresh(&first), Progress::fresh(&second));
    if let Some(expect) = difference(&pair.0, &pair.1, &hidden) {
        return Ok(Some(story(&first, weakened, &[], &expect)));
    }
    let mut frontier = vec![(0usize, pair)];
    while !frontier.is_empty() {
        let mut next = Vec::new();
        for (id, (one, other)) in &frontier {
            if stop() {
                return Err(Late);
            }
            for act in repertoire.acts(&first, one) {
                let (mut after, mut after_other) = (one.clone(), other.clone());
                let done = repertoire.apply(&mut after, act);
                let done_other = repertoire.apply(&mut after_other, act);
                let expect = difference(&after, &after_other, &hidden)
                    // A statement that is refused there fails by itself; a checkpoint that is ignored does not.
                    .or_else(|| (done && !done_other && !matches!(act, Act::Checkpoint(_))).then(String::new));
                let path = |mut at: usize| {
                    let mut acts = vec![act];
                    while at != 0 {
                        acts.push(visited[at].1);
                        at = visited[at].0;
                    }
                    acts.reverse();
                    acts
                };
                if let Some(expect) = expect {
                    return Ok(Some(story(&first, weakened, &path(*id), &expect)));
                }
                bytes.clear();
                packing.put(&mut bytes, after.state());
                packing.put(&mut bytes, after_other.state());
                if visited.len() < PAIRS && seen.insert(xxh3_128(&bytes)) {
                    visited.push((*id, act));
                    next.push((visited.len() - 1, (after, after_other)));
                }
            }
        }
        frontier = next;
    }
    Ok(None)
}

/// The most numbers that play writes into a field at once.
const NUMBERS: usize = 4;

/// The numbers that play writes into a field at once: one, and those that playthroughs write, that tables ask for, and at which its
/// range ends.
fn numbers(spec: &Spec, field: &Field, written: &[(FieldId, i64)]) -> Vec<i64> {
    let by_plays = written.iter().filter(|(of, _)| *of == field.id).map(|(_, number)| *number);
    let step = |step: &Value| if let Value::Int(step) = step { Some(*step) } else { None };
    let steps = spec.model().tables.iter().flat_map(|table| table.steps.iter().filter_map(step));
    let end = match &field.limits.range {
        Some((_, Value::Int(end))) => Some(*end),
        Some(_) | None => None,
    };
    let mut numbers = vec![1];
    for number in by_plays.chain(steps).chain(end).filter(|number| *number > 1) {
        if numbers.len() < NUMBERS && !numbers.contains(&number) {
            numbers.push(number);
        }
    }
    numbers
}

/// The spec with sources for each field that play writes and nothing gives, so that there is something to lose, and with a checkpoint to
/// go back to.
fn played(spec: &Spec, written: &[(FieldId, i64)]) -> Option<Spec> {
    let mut document = spec.model().document.clone();
    let given: Vec<FieldId> =
        spec.model().sources.iter().flat_map(|source| &source.gives).map(|gift| gift.field).collect();
    let simple = |field: &&Field| {
        let keyed = field.axes.is_empty() || field.axes == [Axis::Level];
        field.played && !field.built_in && keyed && !given.contains(&field.id)
    };
    let word = |text: &str| Spanned::new(text.to_owned(), Default::default());
    let mut more = Vec::new();
    for field in spec.model().fields.iter().filter(simple) {
        let values = match &field.ty {
            Type::Bool => vec![Value::Bool(true)],
            Type::Int => numbers(spec, field, written).into_iter().map(Value::Int).collect(),
            Type::Float => vec![Value::float(1.0)],
            Type::Text => vec![Value::text("a")],
            Type::Choice(names) => vec![Value::Text(names.last()?.name.clone())],
            Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Struct(_) | Type::List(_) | Type::Set(_) | Type::Map(_) => {
                continue;
            }
        };
        for (nth, value) in values.into_iter().enumerate() {
            let name = if nth == 0 { format!("writes_{}", field.name) } else { format!("writes_{}_{nth}", field.name) };
            if document.sources.iter().any(|source| source.name.value == name) {
                continue;
            }
            more.push(SourceEntry {
                name: word(&name),
                levels: Vec::new(),
                gives: vec![(word(&field.name), Spanned::new(value, Default::default()))],
                times: Some(Spanned::new(2, Default::default())),
                lasts: Some(word("visit")),
                after_failure: Some(word("keep")),
            });
        }
    }
    document.sources.extend(more);
    // A level that lists no checkpoints takes any: one is tried, in the first level.
    if let [first, ..] = spec.model().shipped_levels()
        && first.checkpoints.is_empty()
        && spec.model().accept == Accept::Any
    {
        if !document.levels.iter().any(|(name, _)| *name.value == *first.id) {
            document.levels.push((word(&first.id), LevelEntry::default()));
        }
        let entries = document.levels.iter_mut().filter(|(name, _)| *name.value == *first.id);
        entries.for_each(|(_, entry)| entry.checkpoints.push(word("somewhere")));
    }
    spec.of_document(&document)
}

/// Returns what a playthrough can expect of the first that does not hold of the second.
fn difference(one: &Progress, other: &Progress, hidden: &[FieldId]) -> Option<String> {
    let spec = one.model();
    if one.place() != other.place() {
        let expect = match (one.state().position.level(), one.state().position.is_level()) {
            (Some(level), _) => {
                let checkpoint = match one.place() {
                    vestigum_core::Place::InLevel { checkpoint: Some(name), .. } => name.to_string(),
                    _ => String::new(),
                };
                format!("level == '{}' and checkpoint == '{checkpoint}'", spec.level(level).id)
            }
            _ => "level == ''".into(),
        };
        return Some(expect);
    }
    for field in spec.fields.iter().filter(|field| !hidden.contains(&field.id)) {
        for slot in field.slots() {
            let (value, changed) = (one.state().value(slot), other.state().value(slot));
            if value == changed {
                continue;
            }
            let name = entry_name(spec, field, slot, &one.state().made).to_string();
            let container =
                matches!(value, Value::Bytes(_) | Value::List(_) | Value::Set(_) | Value::Map(_) | Value::Struct(..));
            let literal = value.literal();
            return Some(match (value, literal) {
                (Value::Unfilled, _) => format!("not filled({name})"),
                // What cannot be written is told apart by another field, if there is one.
                (_, None) if !container => continue,
                _ if !changed.is_filled() && container => format!("filled({name})"),
                // What is in it has no short name; how much is in it may do.
                _ if container && value.len() == changed.len() => continue,
                _ if container => format!("len({name}) == {}", value.len()),
                (Value::Bool(true), _) => name,
                (Value::Bool(false), _) => format!("not {name}"),
                (_, literal) => {
                    let filled = if field.optional && !changed.is_filled() {
                        format!("filled({name}) and ")
                    } else {
                        String::new()
                    };
                    format!("{filled}{name} == {}", literal.unwrap_or_default())
                }
            });
        }
    }
    None
}

fn story(spec: &Spec, weakened: &Weakened, acts: &[Act], expect: &str) -> String {
    let mut lines = vec![format!("playthrough \"notices {}\"", weakened.what().replace('"', "'")), "launch".into()];
    let mut level = None;
    for act in acts {
        if let Act::Enter(entered) = act {
            level = Some(*entered);
        }
        let told = statements(spec, *act, level, &PlayWrites::default(), &mut 0).into_iter();
        // A made-up source has no name that anybody knows.
        lines.extend(told.map(|line| line.split(" # takes `writes_").next().unwrap_or(&line).trim_end().to_owned()));
    }
    if !expect.is_empty() {
        lines.push(format!("expect {expect}"));
    }
    lines.join("\n") + "\n"
}
