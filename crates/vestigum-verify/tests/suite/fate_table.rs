//! The fate table, cell by cell, for every kind of field.

use vestigum_core::Spec;
use vestigum_verify::fate_table::FateTable;

/// The row of a field of its own, in a game with `save`, as the table shows it.
fn row(field: &str, save: &str) -> String {
    let spec = Spec::from_toml(&format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[moments]\nnames = [\"new_day\"]\n\
         [keys.weather]\nnames = [\"fair\", \"storm\"]\ncurrent = \"weather_now\"\n\
         [field.weather_now]\ntype = \"choice\"\nof = [\"fair\", \"storm\"]\nlasts = \"run\"\nafter_failure = \"keep\"\n\
         [field.f]\n{field}\n[save]\n{save}\n"
    ))
    .unwrap_or_else(|errors| panic!("{errors}"));
    let table = FateTable::of(&spec);
    let expected = "enter checkpoint death restart complete travel abandon game_over new_run launch new_day quit crash";
    assert_eq!(table.columns.join(" "), expected);
    let row = table.rows.iter().find(|row| row.field == "f").expect("the field has a row");
    row.cells.iter().map(vestigum_verify::fate_table::FateCell::short).collect::<Vec<_>>().join(" | ")
}

const SAVES: &str = "at = [\"checkpoint\", \"complete\"]";

#[test]
fn every_span_has_its_row() {
    let cases = [
        (
            "type = \"int\"\nlasts = \"attempt\"",
            "● keep | ● keep | ◔ entry | ◔ entry | ○ reset | ○ reset | ○ reset | ○ reset | · | · | ● keep | ◔ entry | ◔ entry",
        ),
        (
            "type = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"",
            "● keep | ● keep | ◑ check | ◔ entry | ○ reset | ○ reset | ○ reset | ○ reset | · | · | ● keep | ◑ check | ◷ saved",
        ),
        (
            "type = \"int\"\nlasts = \"session\"",
            "● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ○ reset | ● keep | ○ reset | ○ reset",
        ),
        (
            "type = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"",
            "● keep | ● keep | ◔ entry | ◔ entry | ● keep | ● keep | ◔ entry | ◔ entry | ○ reset | ● keep | ● keep | ◔ entry | ◷ saved",
        ),
        (
            "type = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"",
            "● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ◷ saved",
        ),
        (
            "type = \"int\"\nlasts = \"device\"",
            "● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ● keep | ◷ saved",
        ),
    ];
    for (field, expected) in cases {
        assert_eq!(row(field, SAVES), expected, "{field}");
    }
}

#[test]
fn rules_guards_and_operands_are_shown_in_short() {
    let with = |rule: &str| {
        let row = row(&format!("type = \"int\"\nlasts = \"profile\"\n{rule}"), SAVES);
        row.split(" | ").nth(2).unwrap_or_default().to_owned()
    };
    for (rule, expected) in [
        ("on.death = { add = -1 }", "− 1"),
        ("on.death = { add = 25 }", "+ 25"),
        ("on.death = { add = \"25 * level_index\" }", "+ add"),
        ("on.death = { add = 1, when = \"level_index > 1\" }", "+ 1?"),
        ("on.death = { max = \"f\" }", "▲ max"),
        ("on.death = { set = 3 }", "+ set"),
        ("on.death = \"reset\"", "○ reset"),
        ("on.death = [{ do = \"keep\", when = \"level_index > 1\" }, { add = 1 }]", "+ 1?"),
    ] {
        assert_eq!(with(rule), expected, "{rule}");
    }
}

#[test]
fn a_crash_takes_nothing_from_what_changes_only_where_the_game_saves() {
    let crash = |save: &str| {
        let row = row("type = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = 3 }", save);
        row.rsplit(" | ").next().unwrap_or_default().to_owned()
    };
    assert_eq!(crash("at = [\"complete\"]"), "● keep");
    assert_eq!(crash("at = [\"death\"]"), "◷ saved");
}

#[test]
fn quitting_leaves_what_resuming_says() {
    let quit = |resume: &str, field: &str| {
        let row = row(field, &format!("resume = \"{resume}\""));
        row.split(" | ").nth(11).unwrap_or_default().to_owned()
    };
    let visit = "type = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"";
    let lives = "type = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"both\"\non.death = { add = -1 }\non.abandon = { add = -2 }";
    assert_eq!(["checkpoint", "entry", "none"].map(|mode| quit(mode, visit)), ["◑ check", "◔ entry", "○ reset"]);
    assert_eq!(["checkpoint", "entry", "none"].map(|mode| quit(mode, lives)), ["● keep", "● keep", "− 2"]);
}

#[test]
fn a_rule_that_touches_only_some_entries_is_marked() {
    let row = row(
        "type = \"int\"\nper = \"weather\"\nlasts = \"profile\"\nafter_failure = \"entry\"\nwritten_by = \"both\"\non.death = \"keep\"",
        SAVES,
    );
    assert_eq!(row.split(" | ").nth(2), Some("● keep?"));
}
