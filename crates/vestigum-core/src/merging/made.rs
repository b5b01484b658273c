//! What players make, in two places: names of open key sets, and levels.

use std::collections::BTreeMap;
use std::sync::Arc;

use indexmap::IndexSet;

use crate::contributing::entries::entry_path;
use crate::image::report::LoadError;
use crate::loading::load;
use crate::merging::law::alive;
use crate::merging::report::MovedLevel;
use crate::origin::paths::{is_at, name_path};
use crate::origin::{Amounts, Changes, Dot, EntryPath, SavedOrigin};
use crate::spec::Spec;
use crate::state::State;
use crate::suspension::Suspended;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::MadeKeys;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Tree;

/// One side of a join.
#[derive(Clone, Debug)]
pub(super) struct Joining {
    pub state: State,
    pub origin: SavedOrigin,
}

/// The names that both sides have in the end.
pub(super) struct Names {
    /// Lists the names of either side, in one order.
    pub all: MadeKeys,
    /// Lists the names that go.
    pub removed: Vec<(usize, Arc<str>)>,
    /// Names for which there was no room: the set and the name.
    pub no_room: Vec<(Arc<str>, Arc<str>)>,
}

/// The names of open key sets: those of either side but what one of them took out, in the order of the saves that made them. What is
/// known of their changes goes to `out`.
pub(super) fn names(model: &Model, sides: [&Joining; 2], out: &mut SavedOrigin) -> Names {
    let mut names =
        Names { all: vec![IndexSet::new(); model.key_sets.len()], removed: Vec::new(), no_room: Vec::new() };
    for (index, set) in model.key_sets.iter().enumerate() {
        let Some(max) = set.max else { continue };
        let mut found: Vec<(Option<Dot>, usize, Arc<str>)> = Vec::new();
        let mut gone = Vec::new();
        let of = sides.map(|side| &side.state.made[index]);
        for name in of[0].iter().chain(of[1].iter().filter(|name| !of[0].contains(*name))) {
            let path = name_path(&set.name, name);
            let (times, changes) = name_changes(&path, sides, of.map(|names| names.contains(name)));
            let place = of.iter().filter_map(|names| names.get_index_of(name)).min().unwrap_or(0);
            match times {
                true => found.push((changes.by.keys().next().cloned(), place, name.clone())),
                false => gone.push(name.clone()),
            }
            if !changes.by.is_empty() || changes.taken.is_some() {
                out.changed.insert(path, changes);
            }
        }
        found.sort();
        for (_, _, name) in found {
            if names.all[index].len() < max as usize {
                names.all[index].insert(name);
            } else {
                out.changed.remove(&name_path(&set.name, &name));
                names.no_room.push((set.name.clone(), name));
            }
        }
        for name in gone {
            if names.all[index].len() < max as usize {
                names.all[index].insert(name.clone());
                names.removed.push((index, name));
            }
        }
    }
    names
}

fn name_changes(path: &EntryPath, sides: [&Joining; 2], there: [bool; 2]) -> (bool, Changes) {
    let of = sides.map(|side| side.origin.changed.get(path));
    let none = BTreeMap::new();
    let changes = of.map(|changes| changes.map_or(&none, |changes| &changes.by));
    let by = alive(sides.map(|side| &side.origin), changes, |one, _| one.clone());
    let taken = of.into_iter().flatten().any(|changes| changes.taken.is_some());
    let plain = (0..2).any(|side| of[side].is_none() && there[side]) && !taken;
    (plain || !by.is_empty(), Changes { by, taken: taken.then_some(Tree::Null) })
}

/// Gives a state other names of open key sets. Images name their entries, so that one is put where another order wants it.
pub(super) fn with_names(spec: &Spec, state: &mut State, made: &MadeKeys) -> Result<(), LoadError> {
    if state.made.iter().zip(made).all(|(known, wanted)| known.iter().eq(wanted.iter())) {
        return Ok(());
    }
    let model = spec.model();
    let mut image = Suspended::new(model, state.clone()).profile_image("");
    let sets = model.key_sets.iter().zip(made).filter(|(_, names)| !names.is_empty());
    image.made = sets.map(|(set, names)| (set.name.clone(), names.iter().cloned().collect())).collect();
    *state = load(spec, Some(&image), None)?.0;
    Ok(())
}

/// Without the names that went.
pub(super) fn without(names: &Names) -> MadeKeys {
    let mut made = names.all.clone();
    for (set, name) in &names.removed {
        made[*set].shift_remove(name);
    }
    made
}

/// Levels that both sides made under one name without knowing of one another are two levels: one of them gets another name, the same
/// one wherever the two are joined. A level is known by the save that made it.
pub(super) fn place_levels(model: &Model, here: &mut Joining, there: &mut Joining) -> Vec<MovedLevel> {
    if model.made_levels.is_empty() {
        return Vec::new();
    }
    let births = [births(model, here), births(model, there)];
    let mut levels: BTreeMap<&Dot, [Option<u32>; 2]> = BTreeMap::new();
    for (side, births) in births.iter().enumerate() {
        births.iter().for_each(|(dot, level)| levels.entry(dot).or_default()[side] = Some(*level));
    }
    // What one side has seen and has not any more was removed there.
    let origins = [&here.origin, &there.origin];
    levels.retain(|dot, of| (0..2).all(|side| of[side].is_some() || !origins[side].includes(dot)));
    let mut taken: BTreeMap<u32, &Dot> = BTreeMap::new();
    let mut places: BTreeMap<&Dot, Option<u32>> = BTreeMap::new();
    let is_plain = |dot: &Dot| dot.by.is_empty();
    for (dot, of) in levels.iter().filter(|(dot, _)| !is_plain(dot)) {
        let mut wanted: Vec<u32> = of.iter().flatten().copied().collect();
        wanted.sort_unstable_by(|one, other| other.cmp(one));
        // A level that was made before origins were kept has no dot of its own, and stays.
        let is_free = |level: &u32| {
            !taken.contains_key(level) && ![here as &Joining, there].iter().any(|side| plain_at(model, side, *level))
        };
        let is_unused = |level: &u32| is_free(level) && !levels.values().flatten().flatten().any(|used| used == level);
        let place = wanted.iter().copied().find(is_free);
        let place = place.or_else(|| model.made_levels.clone().find(is_unused));
        let place = place.or_else(|| model.made_levels.clone().find(is_free));
        if let Some(level) = place {
            taken.insert(level, dot);
        }
        places.insert(*dot, place);
    }
    let mut moved = Vec::new();
    let name = |level: u32| model.level(level).id.to_string();
    let maps: Vec<BTreeMap<u32, Option<u32>>> = births
        .iter()
        .map(|births| {
            let of = births.iter().filter(|(dot, _)| !is_plain(dot));
            of.map(|(dot, level)| (*level, places.get(dot).copied().flatten())).collect()
        })
        .collect();
    for (dot, of) in levels.iter().filter(|(dot, _)| !is_plain(dot)) {
        let to = places.get(*dot).copied().flatten();
        if let Some(from) = of.iter().flatten().find(|from| Some(**from) != to) {
            moved.push(MovedLevel { level: name(*from), to: to.map(name) });
        }
    }
    for (side, map) in [here, there].into_iter().zip(maps) {
        rename_levels(model, side, &map);
    }
    moved
}

/// The levels that a player has made, by the save that made each.
fn births(model: &Model, side: &Joining) -> BTreeMap<Dot, u32> {
    let made = model.made_levels.clone().filter(|level| side.state.has_level(model, *level));
    let birth = |level: u32| {
        let path = made_path(model, side, level)?;
        side.origin.changed.get(&path)?.by.keys().next_back().cloned()
    };
    made.filter_map(|level| Some((birth(level)?, level))).collect()
}

/// Returns whether a level was made there, and nothing says by which save.
fn plain_at(model: &Model, side: &Joining, level: u32) -> bool {
    let known = made_path(model, side, level).is_some_and(|path| side.origin.changed.contains_key(&path));
    side.state.has_level(model, level) && !known
}

fn made_path(model: &Model, side: &Joining, level: u32) -> Option<EntryPath> {
    let slot = model.made_slot(level)?;
    let field = model.fields.iter().find(|field| field.slots().contains(&slot))?;
    Some(entry_path(model, field, slot, &side.state.made))
}

/// The fields that are kept for levels.
fn kept_for_levels(model: &Model) -> impl Iterator<Item = &Field> {
    model.fields.iter().filter(|field| field.is_per_level())
}

/// Gives levels other names; those without one are taken out.
fn rename_levels(model: &Model, side: &mut Joining, map: &BTreeMap<u32, Option<u32>>) {
    let map: BTreeMap<u32, Option<u32>> =
        map.iter().filter(|(from, to)| Some(**from) != **to).map(|(from, to)| (*from, *to)).collect();
    if map.is_empty() {
        return;
    }
    let mut paths: BTreeMap<EntryPath, Option<EntryPath>> = BTreeMap::new();
    let mut values: Vec<(usize, Value)> = Vec::new();
    for field in kept_for_levels(model) {
        for (from, to) in &map {
            let slots = field.slots_of_level(model, *from);
            let targets = to.map(|to| field.slots_of_level(model, to)).unwrap_or_default();
            for (at, slot) in slots.iter().enumerate() {
                if !model.is_made(field, *slot, &side.state.made) {
                    continue;
                }
                let path = entry_path(model, field, *slot, &side.state.made);
                let target = targets.get(at);
                paths.insert(path, target.map(|target| entry_path(model, field, *target, &side.state.made)));
                values.extend(target.map(|target| (*target, side.state.value(*slot).clone())));
            }
        }
        for from in map.keys() {
            field.slots_of_level(model, *from).iter().for_each(|slot| {
                side.state.write_through(*slot, field.default.clone());
            });
        }
    }
    for (slot, value) in values {
        side.state.write_through(slot, value);
    }
    rename_paths(&mut side.origin, &|path| renamed(path, &paths));
}

/// The new path of an entry or of an item in it; none if it goes.
fn renamed(path: &EntryPath, paths: &BTreeMap<EntryPath, Option<EntryPath>>) -> Option<EntryPath> {
    let mut entry: &str = path;
    loop {
        if let Some(to) = paths.get(entry) {
            return to.as_ref().map(|to| format!("{to}{}", &path[entry.len()..]).into());
        }
        match entry.rfind('/') {
            Some(end) => entry = &entry[..end],
            None => return Some(path.clone()),
        }
    }
}

fn rename_paths(origin: &mut SavedOrigin, to: &dyn Fn(&EntryPath) -> Option<EntryPath>) {
    fn all<T>(of: &mut BTreeMap<EntryPath, T>, to: &dyn Fn(&EntryPath) -> Option<EntryPath>) {
        *of = std::mem::take(of).into_iter().filter_map(|(path, what)| Some((to(&path)?, what))).collect();
    }
    all(&mut origin.sums, to);
    all(&mut origin.cut, to);
    all(&mut origin.changed, to);
    all(&mut origin.run.pending, to);
    origin.claims.values_mut().for_each(|amounts: &mut Amounts| all(amounts, to));
}

/// Takes out what an origin says of levels that are not made: nothing is kept for them.
pub(super) fn forget_levels(model: &Model, state: &State, origin: &mut SavedOrigin) {
    let missing = state.without_level(model);
    if missing.is_empty() {
        return;
    }
    let gone: Vec<EntryPath> = missing
        .into_iter()
        .filter(|(id, slot)| {
            // An entry whose key nobody has made has no name, and nothing was kept for it.
            !model.is_made_field(*id) && model.is_made(model.field(*id), *slot, &state.made)
        })
        .map(|(id, slot)| entry_path(model, model.field(id), slot, &state.made))
        .collect();
    rename_paths(origin, &|path| (!gone.iter().any(|gone| is_at(path, gone))).then(|| path.clone()));
}
