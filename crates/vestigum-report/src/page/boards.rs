//! The boards of players, on the page.

use serde::Serialize;
use vestigum_core::{Spec, Value};

use super::ReportPlayer;
use crate::level_map::LevelMap;

#[derive(Serialize)]
pub(super) struct PlayerView {
    name: String,
    saved_at: String,
    place: String,
    map: String,
    columns: Vec<String>,
    levels: Vec<LevelView>,
    values: Vec<ValueView>,
}

#[derive(Serialize)]
struct LevelView {
    title: String,
    id: String,
    class: &'static str,
    standing: String,
    cells: Vec<String>,
}

#[derive(Serialize)]
struct ValueView {
    name: String,
    value: String,
    lasts: &'static str,
}

pub(super) fn view(spec: &Spec, player: &ReportPlayer<'_>) -> PlayerView {
    let rows = player.progress.full_board();
    let mut columns: Vec<String> = Vec::new();
    for (name, _) in rows.iter().flat_map(|row| &row.values) {
        if !columns.iter().any(|known| **known == **name) {
            columns.push(name.to_string());
        }
    }
    let levels = rows.iter().map(|row| {
        let cell = |column: &String| {
            let value = row.values.iter().find(|(name, _)| **name == **column).map(|(_, value)| value);
            let at_default =
                |value: &Value| spec.fields().any(|field| field.name() == column && field.default() == value);
            value.filter(|value| value.is_filled() && !at_default(value)).map_or("·".into(), Value::brief)
        };
        LevelView {
            title: row.title.clone(),
            id: row.level.to_string(),
            class: match (row.completed, row.open) {
                (true, _) => "good",
                (false, true) => "plain",
                (false, false) => "open",
            },
            standing: row.standing(),
            cells: columns.iter().map(cell).collect(),
        }
    });
    let entries = player.progress.entries().into_iter().filter_map(|entry| {
        let field = spec.fields().find(|field| *field.name() == *entry.field)?;
        if field.is_per_level() || (!entry.keys.is_empty() && entry.value == *field.default()) {
            return None;
        }
        Some(ValueView { name: entry.to_string(), value: entry.value.brief(), lasts: field.lasts().word() })
    });
    let derived = spec.derived_values().filter(|derived| derived.axis().is_none()).filter_map(|derived| {
        let value = player.progress.derived(derived.name()).ok()?;
        Some(ValueView { name: derived.name().to_owned(), value: value.brief(), lasts: "derived" })
    });
    let values = entries.chain(derived).collect();
    PlayerView {
        name: player.name.to_owned(),
        saved_at: player.saved_at.to_owned(),
        place: player.place.to_owned(),
        map: LevelMap::with_player(spec, player.progress).as_inline_svg(),
        levels: levels.collect(),
        columns,
        values,
    }
}
