//! Levels that can never open, whatever is played.
//!
//! Beginning with the levels that are open at once, a level is added when its condition could hold if everything that
//! the levels so far can give is had. What is left in the end waits for itself, or for more than there is.

use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::expression::{Bounds, FieldBounds};
use crate::spec::{FieldId, Opening, Spec, SpecData};
use crate::value::Value;

use super::Finding;

pub(super) fn unreachable(spec: &Spec) -> Vec<Finding> {
    let data = &*spec.0;
    let mut reached = vec![false; data.levels.len()];
    let mut waiting: Vec<usize> = (0..reached.len()).collect();
    loop {
        let opens: Vec<usize> = {
            let have = |field, slot| have(data, &reached, field, slot);
            let fields = FieldBounds::new(&have);
            waiting.iter().copied().filter(|level| can_open(data, &reached, &fields, *level)).collect()
        };
        if opens.is_empty() {
            break;
        }
        opens.into_iter().for_each(|level| reached[level] = true);
        waiting.retain(|level| !reached[*level]);
    }
    let lost = data.levels.iter().enumerate().filter(|(index, _)| !reached[*index]);
    let finding = |(index, level): (usize, &crate::spec::Level)| {
        let why = match &level.opens {
            Opening::After(before) => format!("it comes after `{}`, which cannot be completed", data.level(*before).id),
            Opening::When(condition) => {
                let have = |field, slot| have(data, &reached, field, slot);
                let never = condition.impossible(data, &FieldBounds::new(&have));
                let parts: Vec<String> = never.iter().map(|part| format!("`{part}`")).collect();
                format!(
                    "{} can never hold",
                    if parts.is_empty() { "its condition".into() } else { parts.join(" and ") }
                )
            }
            Opening::Always => String::new(),
        };
        let document = &data.document;
        let declared = document.levels.iter().find(|(name, _)| *name.value == *level.id);
        let opens = declared.and_then(|(_, entry)| entry.opens.as_ref());
        let named = document.order.iter().find(|name| *name.value == *level.id);
        let span = opens.or(named).or(declared.map(|(name, _)| name)).map(|word| word.span).unwrap_or_default();
        let error = Diagnostic::error(codes::UNREACHABLE, span, format!("`{}` can never open", level.id)).label(why);
        let waiting: Vec<&str> = (0..reached.len())
            .filter(|other| !reached[*other] && *other != index)
            .map(|other| &*data.levels[other].id)
            .collect();
        let error = if waiting.is_empty() {
            error.help("ask for less, or give more: what all levels before it can give does not suffice")
        } else {
            error.help(format!(
                "neither can: {}; open one of them by something that can be had before",
                waiting.join(", ")
            ))
        };
        Finding { subject: level.id.to_string(), diagnostic: error }
    };
    lost.map(finding).collect()
}

fn can_open(spec: &SpecData, reached: &[bool], fields: &FieldBounds<'_>, level: usize) -> bool {
    match &spec.levels[level].opens {
        Opening::Always => true,
        Opening::After(before) => reached[*before as usize],
        Opening::When(condition) => condition.bounds(spec, fields).can_hold(),
    }
}

/// What a field can be when only these levels can be played.
fn have(spec: &SpecData, reached: &[bool], field: FieldId, slot: Option<usize>) -> Bounds {
    let field = spec.field(field);
    let range = || match (&field.default, &field.limits.range) {
        (Value::Bool(_), _) => Bounds::Truth { holds: true, fails: true },
        (_, Some((low, high))) => Bounds::Number(low.as_float(), high.as_float()).or(Bounds::of(&field.default)),
        _ => Bounds::Any,
    };
    let Some(slot) = slot.filter(|_| field.is_per_level()) else { return range() };
    // Play may write an entry of any level from wherever it is; rules write only that of the level they are in.
    let only_there = field.built_in || !field.written_by.play();
    let of_reached = field.level_of(spec, slot).is_none_or(|level| reached[level as usize]);
    if only_there && !of_reached { Bounds::of(&field.default) } else { range() }
}
