//! Two old names that become one: the values of one of them would be gone.

use std::sync::Arc;

use crate::history::shape::choices;
use crate::migration::names::{ChoiceOwner, NameMap};
use crate::migration::plan::{MigrationPlan, Pair, successor};
use crate::model::field::FieldId;
use crate::value::types::Member;
use crate::vocabulary::span::Span;

/// Returns what is said about all names that become one: levels, keys, checkpoints, fields, choices and members of structs.
pub(crate) fn merged(pair: &Pair<'_>, plan: &MigrationPlan) -> Vec<String> {
    let (old, new, names) = (pair.old, pair.new, &plan.names);
    let levels = old.levels.iter().zip(&names.levels).map(|(level, now)| (&*level.id, *now));
    let mut found = merging(levels, |now| format!("level `{}`", new.level(now).id));
    for (index, set) in old.key_sets.iter().enumerate().filter(|(_, set)| set.max.is_none()) {
        let Some(now) = names.sets[index].map(|now| &new.key_sets[now as usize]) else { continue };
        let place = |name: Arc<str>| now.names.get_index_of(&name).map(|place| place as u32);
        let keys = set.names.iter().map(|key| (&**key, names.key(index as u32, key).and_then(place)));
        found.extend(merging(keys, |key| format!("{} `{}`", set.name, now.names[key as usize])));
    }
    for (index, level) in old.levels.iter().enumerate() {
        let Some(now) = names.levels[index].map(|now| new.level(now)) else { continue };
        let place = |name: Arc<str>| now.checkpoints.get_index_of(&name).map(|at| at as u32);
        let stops = level
            .checkpoints
            .iter()
            .map(|name| (&**name, names.checkpoint(old, new, index as u32, name).and_then(place)));
        found.extend(merging(stops, |at| format!("checkpoint `{}`", now.checkpoints[at as usize])));
    }
    let saved = old.fields.iter().filter(|field| field.lasts != Span::Session);
    let fields = saved.clone().map(|field| (&*field.name, successor(new, names, field).map(|now| now.0)));
    found.extend(merging(fields, |now| format!("field `{}`", new.field(FieldId(now)).name)));
    for was in saved {
        let Some(now) = successor(new, names, was).map(|now| new.field(now)) else { continue };
        let (Some(before), Some(are)) = (choices(&was.ty), choices(&now.ty)) else { continue };
        let place = |name: &Arc<str>| are.iter().position(|known| known.name == *name).map(|at| at as u32);
        let chosen = before.iter().map(|was_chosen| {
            (&*was_chosen.name, names.choice(&ChoiceOwner::Field(was.id), &was_chosen.name).and_then(place))
        });
        found.extend(merging(chosen, |at| format!("choice `{}` of `{}`", are[at as usize].name, now.name)));
    }
    found.extend(members(pair, names));
    found
}

/// Members of one struct that become one.
fn members(pair: &Pair<'_>, names: &NameMap) -> Vec<String> {
    let mut found = Vec::new();
    for ty in &pair.old.structs {
        // Whichever struct of the new version has the member: the struct may have another name.
        let known: Vec<&Arc<str>> =
            pair.new.structs.iter().flat_map(|now| now.members.iter().map(|member| &member.name)).collect();
        let place = |name: &Arc<str>| known.iter().position(|known| **known == *name).map(|at| at as u32);
        let members =
            ty.members.iter().map(|Member { name, .. }| (&**name, names.member(&ty.name, name).and_then(place)));
        found.extend(merging(members, |at| format!("field `{}` of the struct `{}`", known[at as usize], ty.name)));
    }
    found
}

/// Describes each two old names that have the same place in the new version.
fn merging<'n>(names: impl Iterator<Item = (&'n str, Option<u32>)>, now: impl Fn(u32) -> String) -> Vec<String> {
    let mut seen: Vec<(u32, &str)> = Vec::new();
    let mut found = Vec::new();
    for (name, place) in names {
        let Some(place) = place else { continue };
        match seen.iter().find(|(known, _)| *known == place) {
            Some((_, other)) => found.push(format!("`{other}` and `{name}` would both be the {}", now(place))),
            None => seen.push((place, name)),
        }
    }
    found
}
