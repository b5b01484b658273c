//! Time that is counted, and writes that ask for a save.

use std::time::Duration;

use vestigum_core::{AccessErrorKind, Progress, Spec, Value};

fn game(fields: &str) -> Progress {
    Progress::fresh(&spec(fields).unwrap_or_else(|errors| panic!("{errors}")))
}

fn spec(fields: &str) -> Result<Spec, vestigum_core::Diagnostics> {
    let levels =
        "[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n[level.heather_rise]\nopens = \"played >= 2000\"\n";
    let played = "[field.played]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\ncounts = \"ms\"\n";
    Spec::from_toml(&format!("[game]\nid = \"fellpost\"\n{levels}{played}{fields}"))
}

fn int(game: &Progress, name: &str, keys: &[&str]) -> i64 {
    game.value(name, keys).unwrap().as_int()
}

#[test]
fn frames_add_up_and_no_part_of_a_millisecond_is_lost() {
    let mut game = game("");
    for _ in 0..3_000 {
        assert!(!game.tick(Duration::from_nanos(16_666_667)).unwrap().clamped());
    }
    assert_eq!(int(&game, "played", &[]), 50_000);
    game.tick(Duration::MAX).unwrap();
    assert!(int(&game, "played", &[]) == i64::MAX, "a sum saturates");
    game.quit().unwrap();
    let closed = game.tick(Duration::from_secs(1)).unwrap_err();
    assert!(matches!(closed.kind(), AccessErrorKind::Closed));
}

#[test]
fn each_clock_counts_where_it_says() {
    let run =
        |more: &str| format!("type = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"\ncounts = \"ms\"\n{more}\n");
    let fields = format!(
        "[keys.pace]\nnames = [\"calm\", \"brisk\"]\ncurrent = \"pace_now\"\n\
         [field.pace_now]\ntype = \"choice\"\nof = [\"calm\", \"brisk\"]\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
         [field.inside]\n{}[field.each]\n{}[field.by_pace]\n{}[field.capped]\n{}[field.first]\n{}\
         [field.attempt]\ntype = \"int\"\nlasts = \"attempt\"\ncounts = \"ms\"\n\
         [field.shared]\ntype = \"int\"\nlasts = \"device\"\ncounts = \"ms\"\n",
        run("in = \"level\""),
        run("per = \"level\""),
        run("per = \"pace\""),
        run("range = [0, 900]"),
        run("optional = true"),
    );
    let mut game = game(&fields);
    let second = Duration::from_secs(1);
    assert!(game.tick(second).unwrap().clamped(), "`capped` is at its end");
    assert_eq!(int(&game, "inside", &[]), 0);
    game.enter("mill_lane").unwrap();
    game.write("pace_now", &[], Value::text("brisk")).unwrap();
    game.tick(second).unwrap();
    assert_eq!([int(&game, "inside", &[]), int(&game, "each", &["mill_lane"]), int(&game, "attempt", &[])], [1000; 3]);
    assert_eq!([int(&game, "by_pace", &["calm"]), int(&game, "by_pace", &["brisk"])], [1000; 2]);
    assert_eq!((int(&game, "first", &[]), int(&game, "shared", &[]), int(&game, "capped", &[])), (2000, 2000, 900));
    // What a failure does to it is what the field says.
    game.death().unwrap();
    assert_eq!((int(&game, "inside", &[]), int(&game, "played", &[]), int(&game, "first", &[])), (0, 2000, 1000));
    // Time opens levels, too, outside of them.
    game.travel().unwrap();
    assert!(game.enter("heather_rise").is_ok());
}

#[test]
fn time_that_passes_in_the_menu_opens_a_level_at_once() {
    let mut game = game("");
    assert_eq!(game.tick(Duration::from_millis(1999)).unwrap().opened(), []);
    let opened = game.tick(Duration::from_millis(1)).unwrap();
    assert_eq!(opened.opened().iter().map(|level| &**level).collect::<Vec<_>>(), ["heather_rise"]);
}

#[test]
fn a_write_asks_for_a_save_where_the_field_says_so_and_it_changed() {
    let fields = "[field.keys]\ntype = \"set of text\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nsave = true\n\
         [field.volume]\ntype = \"int\"\nlasts = \"device\"\nsave = true\n";
    let spec = spec(fields).unwrap_or_else(|errors| panic!("{errors}"));
    let mut game = Progress::fresh(&spec);
    let key = || Value::text("cellar");
    assert!(game.insert("keys", &[], key()).unwrap().save_due());
    assert!(!game.insert("keys", &[], key()).unwrap().save_due(), "it is there already");
    assert!(game.remove("keys", &[], key()).unwrap().save_due());
    let volume = spec.int("volume").unwrap();
    assert!(game.set(volume, 20).unwrap().save_due());
    assert!(!game.set(volume, 20).unwrap().save_due());
    assert!(game.add(volume, 1).unwrap().save_due());
    assert!(game.raise(volume, 30).unwrap().save_due() && !game.raise(volume, 10).unwrap().save_due());
    assert!(!game.write("played", &[], Value::Int(1)).unwrap().save_due());
}

#[test]
fn what_cannot_count_or_save_is_told() {
    let field = |ty: &str, more: &str| format!("[field.f]\ntype = \"{ty}\"\n{more}\n");
    let kept = "lasts = \"profile\"\nafter_failure = \"keep\"\n";
    let cases = [
        (field("float", &format!("{kept}counts = \"ms\"")), "time is counted in whole milliseconds"),
        (field("int", &format!("{kept}counts = \"s\"")), "`counts` is one of: ms"),
        (field("int", &format!("{kept}in = \"level\"")), "`in` is said of a field that counts time"),
        (field("int", &format!("{kept}counts = \"ms\"\nin = \"menu\"")), "`in` is one of: level"),
        (field("int", "lasts = \"profile\"\nwritten_by = \"rules\"\ncounts = \"ms\""), "so no time is counted in it"),
        (field("int", "lasts = \"attempt\"\nsave = true"), "which no save holds"),
        (
            field("int", "lasts = \"profile\"\non.complete = { add = 1 }\nsave = true"),
            "`save = true` is about writes of play",
        ),
        (field("int", &format!("{kept}counts = \"ms\"\nsave = true")), "it would be saved at every frame"),
        (
            field("int", "lasts = \"profile\"\ncounts = \"ms\"\non.death = { add = 5 }"),
            "does not say what a failure does",
        ),
        (
            format!(
                "[keys.spot]\nopen = true\nmax = 3\n{}",
                field("int", &format!("{kept}per = \"spot\"\ncounts = \"ms\""))
            ),
            "nothing says for which one now",
        ),
    ];
    for (fields, wanted) in cases {
        let said = spec(&fields).expect_err("it is wrong").to_string();
        assert!(said.contains(wanted), "{fields}\n{said}");
    }
}
