//! Levels that players made, where the next version has room for fewer: those that lose their place take one that is free.

use std::sync::Arc;

use crate::image::{Image, SavedMarks, SavedPlace};
use vestigum_spec::migration::MigrationPlan;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::value::tree::{Tree, Values};

/// Names of levels, each with the one that it has afterwards.
pub(super) type MovedLevels = Vec<(Arc<str>, Arc<str>)>;

/// Says which levels of an image move: each to the first place that is kept and free.
pub(super) fn moving(plan: &MigrationPlan, image: &Image) -> MovedLevels {
    let old = &*plan.old;
    let Some(fields) = &old.made_fields else { return Vec::new() };
    let made = match image.values.get(&old.field(fields.made).name) {
        Some(Tree::Map(made)) => made,
        Some(Tree::Null | Tree::Bool(_) | Tree::Int(_) | Tree::Float(_) | Tree::Text(_) | Tree::List(_)) | None => {
            return Vec::new();
        }
    };
    let is_made = |level: &u32| made.get(&old.level(*level).id) == Some(&Tree::Bool(true));
    let is_kept = |level: &u32| plan.names.levels[*level as usize].is_some();
    let leaving = old.made_levels.clone().filter(|level| is_made(level) && !is_kept(level));
    let free = old.made_levels.clone().filter(|level| !is_made(level) && is_kept(level));
    let name = |level: u32| old.level(level).id.clone();
    leaving.zip(free).map(|(from, to)| (name(from), name(to))).collect()
}

/// An image with its levels moved.
pub(super) fn moved(old: &Model, image: &Image, moves: &MovedLevels) -> Image {
    let of = |values: &Values| renamed(old, values, moves);
    let place = match &image.place {
        SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } => SavedPlace::InLevel {
            level: now(moves, level).map_or_else(|| level.clone(), ToString::to_string),
            checkpoint: checkpoint.clone(),
            entered_at: entered_at.clone(),
            resume: *resume,
            gone: gone.clone(),
        },
        place @ (SavedPlace::Menu | SavedPlace::RunOver | SavedPlace::Deleted) => place.clone(),
    };
    let marks = image.marks.as_ref();
    let marks = marks.map(|marks| SavedMarks { entry: of(&marks.entry), checkpoint: of(&marks.checkpoint) });
    Image { values: of(&image.values), place, marks, ..image.clone() }
}

/// Values with their levels moved.
pub(super) fn renamed(old: &Model, values: &Values, moves: &MovedLevels) -> Values {
    let tree = |(name, tree): (&Arc<str>, &Tree)| {
        let axes = old.find_field(name).map(Field::axes);
        let depth = axes.and_then(|axes| axes.iter().position(|axis| *axis == Axis::Level));
        let tree = depth.map_or_else(|| tree.clone(), |depth| at_depth(tree, depth, moves));
        (name.clone(), tree)
    };
    values.iter().map(tree).collect()
}

fn at_depth(tree: &Tree, depth: usize, moves: &MovedLevels) -> Tree {
    match tree {
        Tree::Map(entries) => Tree::Map(match depth.checked_sub(1) {
            Some(inner) => entries.iter().map(|(name, tree)| (name.clone(), at_depth(tree, inner, moves))).collect(),
            None => {
                let name = |name: &Arc<str>| now(moves, name).unwrap_or(name).clone();
                entries.iter().map(|(was, tree)| (name(was), tree.clone())).collect()
            }
        }),
        tree @ (Tree::Null | Tree::Bool(_) | Tree::Int(_) | Tree::Float(_) | Tree::Text(_) | Tree::List(_)) => {
            tree.clone()
        }
    }
}

fn now<'m>(moves: &'m MovedLevels, name: &str) -> Option<&'m Arc<str>> {
    moves.iter().find(|(from, _)| **from == *name).map(|(_, to)| to)
}
