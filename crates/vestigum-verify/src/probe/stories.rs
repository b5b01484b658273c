//! Playthroughs for changes that no search tells apart, because no moment and no source does: saves that a write asks for, and
//! time that is counted.

use vestigum_core::{Span, Spec, Type, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::Field;

use super::Weakened;
use crate::playthrough::{MemorySaves, Script, run};

/// A playthrough that passes on the spec and fails on the weakened one, of those that are likely to.
pub(super) fn told_apart(spec: &Spec, weakened: &Weakened) -> Option<String> {
    let model = &**spec.model();
    let changed = weakened.spec.model();
    let fields = model.fields.iter().zip(&changed.fields);
    let mut stories = Vec::new();
    for (field, other) in fields.filter(|(field, other)| field.name == other.name) {
        if field.saves && !other.saves {
            stories.extend(of_saving(model, field).into_iter().map(launched));
        }
        if field.counts != other.counts {
            stories.extend(of_counting(model, field).into_iter().map(launched));
        }
    }
    if let (Some(merging), Some(other)) = (&model.merging, &changed.merging) {
        let laws = merging.fields.iter().zip(&other.fields).zip(&model.fields);
        stories.extend(laws.filter(|((law, other), _)| law != other).flat_map(|(_, field)| of_merging(model, field)));
        if let (Some(run), None) = (&merging.run, &other.run) {
            stories.extend(run.reads().iter().flat_map(|field| of_runs(model, model.field(*field))));
        }
    }
    let heading = format!("playthrough \"notices {}\"\n", weakened.what().replace('"', "'"));
    let mut plays = stories.into_iter().map(|story| format!("{heading}{story}"));
    plays.find(|play| passes(spec, play) && !passes(&weakened.spec, play))
}

fn launched(story: String) -> String {
    format!("launch\n{story}")
}

/// Two devices write the field, one after the other, and sync.
fn in_two_places(first: &str, then: &str, expect: &str) -> String {
    format!(
        "device laptop\nlaunch\nquit\nsync\ndevice hand_held\nsync\nlaunch\n{first}\nquit\nsync\n\
         device laptop\nlaunch\n{then}\nquit\nsync\nlaunch\n{expect}\n"
    )
}

fn of_merging(spec: &Model, field: &Field) -> Vec<String> {
    if !field.played {
        return Vec::new();
    }
    let name = first_entry(spec, field);
    if let Type::Choice(names) = &field.ty {
        let [.., low, high] = &names[..] else { return Vec::new() };
        let [low, high] = [low, high].map(|chosen| format!("'{}'", chosen.name()));
        let write = |value: &str| format!("{name} = {value}");
        let story = |kept: &str| in_two_places(&write(&high), &write(&low), &format!("expect {name} == {kept}"));
        return vec![story(&high), story(&low)];
    }
    if !field.ty.is_number() || !field.default.is_filled() {
        return Vec::new();
    }
    let begins = field.default.as_int();
    let story = |end: i64| {
        in_two_places(&format!("{name} += 5"), &format!("{name} += 3"), &format!("expect {name} == {}", begins + end))
    };
    [8, 5, 3].map(story).into()
}

fn of_runs(spec: &Model, field: &Field) -> Vec<String> {
    if !field.played || field.lasts != Span::Run || !field.ty.is_number() || !field.default.is_filled() {
        return Vec::new();
    }
    let name = first_entry(spec, field);
    let expect = format!("expect {name} == {}", field.default.as_int().saturating_add(5));
    vec![in_two_places(&format!("{name} += 5"), &format!("{name} += 3"), &expect)]
}

fn passes(spec: &Spec, play: &str) -> bool {
    let Ok(script) = Script::from_text("notices.play", play, spec) else { return false };
    script.playthroughs().iter().all(|playthrough| run(spec, playthrough, &mut MemorySaves::default()).passed())
}

/// Into the first level, as a statement.
fn enter(spec: &Model) -> Option<String> {
    Some(format!("enter_any {}\n", spec.levels.first()?.id))
}

/// The first entry of a field: that of the first level and of the first keys.
fn first_entry(spec: &Model, field: &Field) -> String {
    let made = vec![Default::default(); spec.key_sets.len()];
    entry_name(spec, field, field.first_slot, &made).to_string()
}

fn of_saving(spec: &Model, field: &Field) -> Vec<String> {
    let Some(value) = another(field).and_then(|value| value.literal()) else { return Vec::new() };
    let name = first_entry(spec, field);
    let written = format!("{name} = {value}\ncrash\nlaunch\nexpect {name} == {value}\n");
    let inside = enter(spec).map(|enter| format!("{enter}{written}"));
    [written].into_iter().chain(inside).collect()
}

fn of_counting(spec: &Model, field: &Field) -> Vec<String> {
    let name = first_entry(spec, field);
    let begins = if field.default.is_filled() { field.default.as_int() } else { 0 };
    let counted = [1, 1000].map(|ms| format!("tick {ms} ms\nexpect {name} == {}\n", begins.saturating_add(ms)));
    let inside = |story: &String| Some(format!("{}{story}", enter(spec)?));
    let still = field.default.literal().map(|value| format!("tick 1 s\nexpect {name} == {value}\n"));
    let within: Vec<String> = counted.iter().filter_map(inside).collect();
    within.into_iter().chain(counted).chain(still).collect()
}

/// Another value than the default, where one can be written.
fn another(field: &Field) -> Option<Value> {
    let first = &field.default;
    let candidates = match &field.ty {
        Type::Bool => vec![Value::Bool(!first.as_bool())],
        Type::Int => vec![Value::Int(first.as_int().saturating_add(1)), Value::Int(first.as_int().saturating_sub(1))],
        Type::Float => vec![Value::float(first.as_float() + 1.0), Value::float(first.as_float() - 1.0)],
        Type::Text => vec![Value::text("a"), Value::text("b")],
        Type::Choice(names) => names.iter().map(|chosen| Value::Choice(chosen.clone())).collect(),
        Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Struct(_) | Type::List(_) | Type::Set(_) | Type::Map(_) => {
            Vec::new()
        }
    };
    candidates.into_iter().find(|value| value != first && !field.limits.clamp(value.clone()).1)
}
