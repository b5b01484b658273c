//! The steps that are offered for what no step says: what keeps most comes first.
//!
//! An offer is a guess, and is tried before it is shown: whatever cannot be taken gives way to its `fallback`.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::migration::names::NameMap;
use crate::migration::plan::{OwnerKind, Pair};
use crate::migration::wording;
use crate::model::Model;
use crate::model::axis::Axis;
use crate::model::field::{Field, FieldId};
use crate::nearest::alike;
use crate::value::types::{Member, StructType, Type};

/// A step that a migration can say.
#[derive(Clone, Debug, Default)]
pub struct Offer {
    /// Ready to paste.
    pub step: String,
    /// Steps that belong to it.
    pub more: Vec<String>,
    /// New names that what is dropped may have instead, as none of them is near enough to guess.
    pub or: Vec<String>,
    /// The steps if it was split into several fields.
    pub split: Vec<String>,
    /// The step that has the game's code make it, where no expression does.
    pub or_code: Option<String>,
    /// Says what makes the guess doubtful, as a question.
    pub doubt: Option<String>,
    /// The step if this one cannot be taken.
    pub fallback: Option<String>,
}

impl From<String> for Offer {
    fn from(step: String) -> Offer {
        Offer { step, ..Offer::default() }
    }
}

/// A text is compared with the names of a choice that has at most 12.
const FEW_CHOICES: usize = 12;

/// Limits how many entries are filled one by one.
const FEW_ENTRIES: usize = 16;

/// Limits how many pairs of fields are compared: with more of them nothing is guessed.
const MOST_PAIRS: usize = 250_000;

/// A new field that can have the values of one that is gone, and how well it fits.
struct Heir<'a> {
    was: &'a Field,
    now: &'a Field,
    score: u32,
}

/// Finds for old fields that are gone the new field that each has become, and what makes that doubtful. The best pairs come first,
/// whatever order the fields stand in; where several fit one field as well, none is guessed.
pub(super) fn heirs<'a>(
    pair: &Pair<'a>,
    gone: &[&'a Field],
    fresh: &[&'a Field],
    same_axes: &dyn Fn(&Field, &Field) -> bool,
) -> FxHashMap<FieldId, (&'a Field, Option<String>)> {
    let mut found: FxHashMap<FieldId, (&Field, Option<String>)> = FxHashMap::default();
    if gone.len().saturating_mul(fresh.len()) > MOST_PAIRS {
        return found;
    }
    let mut pairs: Vec<Heir<'_>> = Vec::new();
    for (was, now) in gone.iter().flat_map(|was| fresh.iter().map(move |now| (*was, *now))) {
        if was.ty == now.ty && same_axes(was, now) && OwnerKind::of(was) == OwnerKind::of(now) {
            pairs.push(Heir { was, now, score: score(was, now) });
        }
    }
    // The pairs of one field that fit equally well stand together.
    pairs.sort_by_key(|heir| (std::cmp::Reverse(heir.score), heir.was.id));
    let (mut taken, mut open) = (FxHashSet::default(), FxHashSet::default());
    for alike in pairs.chunk_by(|one, other| one.score == other.score && one.was.id == other.was.id) {
        let mut free = alike.iter().filter(|heir| !taken.contains(&heir.now.id));
        let Some(Heir { was, now, .. }) = free.next() else { continue };
        if found.contains_key(&was.id) || open.contains(&was.id) {
            continue;
        }
        if free.next().is_some() {
            open.insert(was.id);
            continue;
        }
        taken.insert(now.id);
        found.insert(was.id, (*now, doubt(pair.old, was, now)));
    }
    found
}

fn score(was: &Field, now: &Field) -> u32 {
    let near = (alike(&was.name, &now.name) * 100.0) as u32;
    let near = if near >= 82 { 200 + near } else { 0 };
    near + 100 * u32::from(was.lasts == now.lasts)
        + 50 * u32::from(was.limits.range == now.limits.range)
        + 20 * u32::from(was.optional == now.optional)
        + 10 * u32::from(was.default == now.default)
}

/// Says what two fields do not have in common, as a question.
fn doubt(old: &Model, was: &Field, now: &Field) -> Option<String> {
    let what = if was.lasts != now.lasts {
        format!("{} in version {}, and {} now", wording::lasting(was.lasts), old.version, wording::lasting(now.lasts))
    } else if was.limits.range != now.limits.range {
        format!("has another range than `{}`", now.name)
    } else {
        return None;
    };
    Some(format!("`{}` {what}: is it another field? then {}", was.name, wording::drop("field", None, &was.name)))
}

/// The step that converts what an expression can make of the old values: `name` is what the target was.
pub(super) fn converted(name: &str, was: &Type, target: &str, is: &Type) -> Option<Offer> {
    let choices = |names: &[std::sync::Arc<crate::value::Chosen>], arm: &dyn Fn(usize, &str) -> String| {
        let (last, before) = names.split_last().filter(|_| names.len() <= FEW_CHOICES)?;
        let other = arm(names.len() - 1, last.name());
        Some(before.iter().enumerate().rev().fold(other, |others, (at, chosen)| {
            format!("if({name} == '{}', {}, {others})", chosen.name(), arm(at, chosen.name()))
        }))
    };
    let with = match (was, is) {
        (Type::Int, Type::Float) => name.to_owned(),
        (Type::Float, Type::Int) => format!("round({name})"),
        (Type::Bool, Type::Int | Type::Float) => format!("if({name}, 1, 0)"),
        (Type::Int | Type::Float, Type::Bool) => format!("{name} != 0"),
        (Type::Choice(names), Type::Text) => choices(names, &|_, name| format!("'{name}'"))?,
        (Type::Choice(names), Type::Int) => choices(names, &|at, _| at.to_string())?,
        (Type::Text, Type::Choice(names)) if names.len() <= FEW_CHOICES => {
            let (first, rest) = names.split_first()?;
            rest.iter().rev().fold(format!("'{}'", first.name()), |others, chosen| {
                format!("if({name} == '{0}', '{0}', {others})", chosen.name())
            })
        }
        (
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Choice(_)
            | Type::Struct(_)
            | Type::List(_)
            | Type::Set(_)
            | Type::Map(_),
            _,
        ) => return None,
    };
    Some(wording::fill(target, &with).into())
}

/// The step for a field that is kept by other keys than before.
pub(super) fn spread(pair: &Pair<'_>, names: &NameMap, was: &Field, now: &Field) -> Offer {
    let drop = || wording::drop("field", None, &was.name);
    let as_it_is = || wording::fill(&now.name, &was.name);
    let (old, new) = (pair.old, pair.new);
    if was.ty != now.ty {
        return drop().into();
    }
    let is_set = |was: &Axis, is: &Axis| match (was, is) {
        (Axis::Keys(was), Axis::Keys(is)) => names.sets[*was as usize] == Some(*is),
        (Axis::Level | Axis::Checkpoint | Axis::Keys(_), _) => was == is,
    };
    let kept = was.axes.iter().filter(|axis| now.axes.iter().any(|now| is_set(axis, now))).count();
    // Only how the names of keys come about has changed, or their order: what has a place is carried.
    if was.is_keyed() && kept == was.axes.len() && was.axes.len() == now.axes.len() {
        return Offer { fallback: Some(drop()), ..as_it_is().into() };
    }
    // One value goes to the first key, so that it is there once.
    if let (false, [axis]) = (was.is_keyed(), &now.axes[..]) {
        let first = keys(new, *axis).into_iter().next();
        let first = first.map(|first| wording::fill(&format!("{}[{first}]", now.name), &was.name));
        return first.map_or_else(|| drop().into(), |step| Offer { fallback: Some(drop()), ..step.into() });
    }
    // An axis more: every key of it has what there was.
    if was.is_keyed() && kept == was.axes.len() && kept < now.axes.len() {
        let doubt = format!(
            "every new entry of `{}` has the value that there was for all: is only one of them meant? then fill that one",
            now.name
        );
        return Offer { doubt: Some(doubt), fallback: Some(drop()), ..as_it_is().into() };
    }
    // An axis less: the best of what there was, or whether any was.
    if let (true, []) = (was.is_keyed(), &now.axes[..]) {
        let best = was.ty.is_number().then(|| format!("highest({})", was.name));
        let with = best.or_else(|| (was.ty == Type::Bool).then(|| format!("count({}) > 0", was.name)));
        return match with {
            Some(with) => Offer { fallback: Some(drop()), ..wording::fill(&now.name, &with).into() },
            None => drop().into(),
        };
    }
    if let ([one, two], [left]) = (&was.axes[..], &now.axes[..])
        && kept == 1
        && let Some(fills) = joined_entries(old, new, (was, [*one, *two]), (now, *left), is_set(one, left))
    {
        let mut fills = fills.into_iter();
        if let Some(step) = fills.next() {
            return Offer { step, more: fills.collect(), fallback: Some(drop()), ..Offer::default() };
        }
    }
    drop().into()
}

/// Fills each entry that is left of a field with two axes with the best of those that it had.
fn joined_entries(
    old: &Model,
    new: &Model,
    (was, axes): (&Field, [Axis; 2]),
    (now, left): (&Field, Axis),
    first_stays: bool,
) -> Option<Vec<String>> {
    let (stays, goes) = if first_stays { (axes[0], axes[1]) } else { (axes[1], axes[0]) };
    // Levels that players make have entries, too.
    let all = |model: &Model, axis| match axis {
        Axis::Level => model.levels.iter().map(|level| level.id.to_string()).collect(),
        Axis::Keys(_) | Axis::Checkpoint => keys(model, axis),
    };
    let (kept, gone) = (all(new, left), all(old, goes));
    let known = all(old, stays);
    let kept: Vec<&String> = kept.iter().filter(|key| known.contains(key)).collect();
    if kept.is_empty() || gone.is_empty() || kept.len() * gone.len() > FEW_ENTRIES * 4 || kept.len() > FEW_ENTRIES {
        return None;
    }
    let entry = |key: &str, other: &str| match first_stays {
        true => format!("{}[{key}, {other}]", was.name),
        false => format!("{}[{other}, {key}]", was.name),
    };
    let fill = |key: &&String| {
        let mut entries = gone.iter().map(|other| entry(key, other));
        let with = if was.ty.is_number() {
            let first = entries.next()?;
            entries.fold(first, |others, entry| format!("max({others}, {entry})"))
        } else if was.ty == Type::Bool {
            entries.collect::<Vec<_>>().join(" or ")
        } else {
            return None;
        };
        Some(wording::fill(&format!("{}[{key}]", now.name), &with))
    };
    kept.iter().map(fill).collect()
}

/// The declared keys of an axis. Of names that play makes there are none.
fn keys(model: &Model, axis: Axis) -> Vec<String> {
    match axis {
        Axis::Level => model.shipped_levels().iter().map(|level| level.id.to_string()).collect(),
        Axis::Keys(set) => model.key_sets[set as usize].names.iter().map(ToString::to_string).collect(),
        Axis::Checkpoint => Vec::new(),
    }
}

/// The fills if a struct was taken apart: each member that a new field of its type is named after.
pub(super) fn taken_apart(was: &Field, fresh: &[&Field]) -> Option<Vec<(FieldId, String)>> {
    let Type::Struct(structure) = &was.ty else { return None };
    let mut fills = Vec::new();
    for Member { name, ty, .. } in &structure.members {
        let named = |field: &&&Field| {
            let same = field.ty == *ty && field.axes == was.axes && OwnerKind::of(field) == OwnerKind::of(was);
            same && (field.name == *name || field.name.ends_with(&format!("_{name}")))
        };
        let field = fresh.iter().find(named)?;
        fills.push((field.id, wording::fill(&field.name, &format!("{}.{name}", was.name))));
    }
    (!fills.is_empty()).then_some(fills)
}

/// The fill if fields became one struct: each of its members is named after one that is gone.
pub(super) fn put_together<'a>(now: &Field, gone: &[&'a Field]) -> Option<(Vec<&'a Field>, String)> {
    let Type::Struct(structure) = &now.ty else { return None };
    let mut parts = Vec::new();
    let mut members = Vec::new();
    for Member { name, ty, .. } in &structure.members {
        let named = |field: &&&'a Field| {
            let same = field.ty == *ty && field.axes == now.axes && OwnerKind::of(field) == OwnerKind::of(now);
            same && (field.name == *name || field.name.ends_with(&format!("_{name}")))
        };
        let field = gone.iter().find(named)?;
        parts.push(*field);
        members.push(format!("{name} = {}", field.name));
    }
    (!parts.is_empty()).then(|| (parts, wording::fill(&now.name, &format!("{{ {} }}", members.join(", ")))))
}

/// The fill if members of a struct have gone into a struct inside it, or have come out of one: `target` is the field that
/// has the struct.
pub(super) fn nested(target: &str, was: &StructType, is: &StructType, lost: &str) -> Option<Vec<String>> {
    let fresh = || is.members.iter().filter(|member| was.position(&member.name).is_none());
    // Into a new struct.
    for member in fresh() {
        let Type::Struct(inner) = &member.ty else { continue };
        let from: Option<Vec<String>> = inner
            .members
            .iter()
            .map(|part| {
                let found = was.members.iter().find(|known| known.name == part.name && known.ty == part.ty)?;
                is.position(&found.name).is_none().then(|| format!("{0} = {0}", part.name))
            })
            .collect();
        if let Some(parts) = from.filter(|_| inner.position(lost).is_some()) {
            return Some(vec![wording::fill(
                &format!("{target}.{}", member.name),
                &format!("{{ {} }}", parts.join(", ")),
            )]);
        }
    }
    // Out of one that is gone.
    let gone = was.members.iter().find(|member| *member.name == *lost)?;
    let Type::Struct(inner) = &gone.ty else { return None };
    let out = fresh().filter_map(|member| {
        let part = inner.members.iter().find(|part| part.name == member.name && part.ty == member.ty)?;
        Some(wording::fill(&format!("{target}.{}", member.name), &format!("{lost}.{}", part.name)))
    });
    let fills: Vec<String> = out.collect();
    (fills.len() == inner.members.len()).then_some(fills)
}
