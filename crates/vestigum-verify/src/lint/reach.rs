//! Levels that can never open, whatever is played.
//!
//! Beginning with the levels that are open at once, a level is added when its condition could hold if everything that
//! the levels so far can give is had. What is left in the end waits for itself, or for more than there is.

use vestigum_core::{Diagnostic, Spec};
use vestigum_spec::analysis::bounds::FieldBounds;
use vestigum_spec::codes;
use vestigum_spec::model::level::{Level, Opening};

use super::Finding;
use super::possible::Possible;

pub(super) fn unreachable(spec: &Spec) -> Vec<Finding> {
    let data = &**spec.model();
    let conditions = data.openings.iter().filter_map(|opening| match opening {
        Opening::When(condition) => Some(condition.reads()),
        Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => None,
    });
    let mut possible = Possible::new(spec, conditions.flatten().copied().collect());
    let mut waiting: Vec<usize> = (0..data.levels.len()).collect();
    loop {
        let mut reached = possible.reached.clone();
        let opens: Vec<usize> = {
            let of = |field, slot| possible.bounds(field, slot);
            let fields = FieldBounds::new(&of);
            let mut opens = |level: &usize| {
                let can = match &data.openings[*level] {
                    // Players can make it at any time.
                    Opening::Always | Opening::Made => true,
                    // A level that comes after one that was just found is found with it.
                    Opening::After(before) => reached[*before as usize],
                    Opening::When(condition) => condition.can_hold(data, &fields),
                    Opening::ByExit => false,
                };
                // Whatever its own condition says, an exit of a level that can be played leads to it.
                let can = can || data.levels[*level].entrances.iter().any(|from| reached[*from as usize]);
                reached[*level] |= can;
                can
            };
            waiting.iter().copied().filter(|level| opens(level)).collect()
        };
        if opens.is_empty() {
            break;
        }
        possible.reach(&opens);
        waiting.retain(|level| !possible.reached[*level]);
    }
    waiting.iter().map(|index| finding(spec, &possible, &waiting, *index)).collect()
}

fn finding(spec: &Spec, possible: &Possible<'_>, lost: &[usize], index: usize) -> Finding {
    let data = &**spec.model();
    let level: &Level = &data.levels[index];
    let why = match &data.openings[index] {
        Opening::After(before) => format!("it comes after `{}`, which cannot be completed", data.level(*before).id),
        Opening::When(condition) => {
            let of = |field, slot| possible.bounds(field, slot);
            let never = condition.impossible(data, &FieldBounds::new(&of));
            let parts: Vec<String> = never.iter().map(|part| format!("`{part}`")).collect();
            match &parts[..] {
                [] => "its parts can never hold together".to_owned(),
                parts => format!("{} can never hold", parts.join(" and ")),
            }
        }
        Opening::ByExit => {
            let from: Vec<String> =
                data.levels[index].entrances.iter().map(|from| format!("`{}`", data.level(*from).id)).collect();
            format!("only the exits of {} lead to it", from.join(", "))
        }
        Opening::Always | Opening::Made => String::new(),
    };
    let document = &data.document;
    let declared = document.levels.iter().find(|(name, _)| *name.value == *level.id);
    let opens = declared.and_then(|(_, entry)| entry.opens.as_ref());
    let named = document.order.iter().find(|name| *name.value == *level.id);
    let span = opens.or(named).or(declared.map(|(name, _)| name)).map(|word| word.span).unwrap_or_default();
    let error = Diagnostic::error(codes::UNREACHABLE, span, format!("`{}` can never open", level.id)).label(why);
    let waiting: Vec<&str> =
        lost.iter().filter(|other| **other != index).map(|other| &*data.levels[*other].id).collect();
    let error = if waiting.is_empty() {
        error.help("ask for less, or give more: what all levels before it can give does not suffice")
    } else {
        error.help(format!("neither can: {}; open one of them by something that can be had before", waiting.join(", ")))
    };
    Finding { subject: level.id.to_string(), diagnostic: error }
}
