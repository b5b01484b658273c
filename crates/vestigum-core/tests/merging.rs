//! Merging: what a spec says of it, and what no random play reaches.

use vestigum_core::merging::report::{RunFrom, Side};
use vestigum_core::merging::{Meeting, MergeError, Merged, meet, merge};
use vestigum_core::model::merging::FieldMerge;
use vestigum_core::{Image, Place, Progress, Reset, Spec, Value};

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n";

fn spec(more: &str) -> Spec {
    let text = format!("{HEAD}{more}");
    Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}\n{text}"))
}

/// The first error of a spec.
fn refused(more: &str) -> String {
    let errors = Spec::from_toml(&format!("{HEAD}{more}")).expect_err("it is refused");
    let first = &errors.list()[0];
    format!("{} {} | {}", first.code, first.message, first.help.as_deref().unwrap_or_default())
}

fn field(name: &str, says: &str) -> String {
    format!("[field.{name}]\nlasts = \"profile\"\nafter_failure = \"keep\"\n{says}\n")
}

/// What became of a save by play, saved at an hour.
fn played(spec: &Spec, from: Option<&Image>, hour: u32, play: impl FnOnce(&mut Progress)) -> Image {
    let mut game = Progress::launch(spec, from, None).expect("it loads").progress;
    play(&mut game);
    Image { saved_at: format!("2000-01-01T{hour:02}:00:00.000Z"), ..game.suspend().profile_image("ada") }
}

fn merged(spec: &Spec, base: &Image, here: &Image, there: &Image) -> (Merged, Progress) {
    let merged = merge(spec, Some(base), here, there).expect("they are merged");
    let image = merged.suspended.profile_image("ada");
    let game = Progress::launch(spec, Some(&image), None).expect("it loads").progress;
    (merged, game)
}

fn value(game: &Progress, name: &str, keys: &[&str]) -> Value {
    game.value(name, keys).expect("it can be read")
}

#[test]
fn what_must_be_decided_is_an_error_until_it_is() {
    let int = "type = \"int\"";
    let undecided = refused(&format!("[merge]\n{}", field("xp", int)));
    assert_eq!(
        undecided,
        "V016 `xp` does not say how it is merged | add `merge`, one of: \"max\", \"min\", \"sum\", \"newer\""
    );
    let cases = [
        (
            field("xp", "type = \"int\"\nmerge = \"sum\""),
            "V016 `xp` says how it is merged, and the spec has no `[merge]`",
        ),
        (
            format!("[merge]\n{}", field("xp", "type = \"int\"\nmerge = \"add\"")),
            "V002 `merge` is one of: max, min, union, sum, newer",
        ),
        (
            format!("[merge]\n{}", field("name", "type = \"text\"\nmerge = \"sum\"")),
            "V016 `name` is of type text, which `sum` does not merge | write one of: newer",
        ),
        (
            format!("[merge]\n{}", field("seen", "type = \"bool\"\nmerge = \"newer\"")),
            "V016 `seen` needs no `merge`: two sides that both changed a bool",
        ),
        (
            format!("[merge]\n{}", field("day", "type = \"int\"\nmerge = \"max\"").replace("profile", "run")),
            "V016 `day` needs no `merge`: what lasts a run goes with the run",
        ),
        (
            format!("[merge]\n{}", field("volume", "type = \"int\"\nmerge = \"max\"").replace("profile", "device")),
            "V016 `volume` needs no `merge`: each device keeps its own",
        ),
        (
            "[merge]\nrun = \"completed[mill_lane]\"".into(),
            "V005 this is of type bool, and runs are compared by a number",
        ),
        (
            format!("[merge]\nrun = \"volume\"\n{}", field("volume", int).replace("profile", "device")),
            "V011 `run` of `[merge]` cannot read `volume`, which lasts a device",
        ),
        ("[merge]\nruns = \"1\"".into(), "V002 `[merge]` has no key `runs`"),
    ];
    for (more, expected) in cases {
        let found = refused(&more);
        assert!(found.starts_with(expected), "{found}\n{expected}");
    }
    // What leaves no choice.
    let kinds = [
        ("type = \"bool\"", "as changed"),
        ("type = \"set of text\"", "union"),
        ("type = \"ranking of int\"", "union"),
        ("type = \"int\"\ncounts = \"ms\"", "sum"),
        ("type = \"int\"\nwritten_by = \"rules\"\non.complete = { max = \"3\" }", "max"),
        (
            "type = \"int\"\nwritten_by = \"rules\"\non.complete = { min = \"3\", when = \"not completed\" }\non.death = \"keep\"",
            "min",
        ),
    ];
    for (says, law) in kinds {
        let spec = spec(&format!("[merge]\n{}", field("f", says)));
        let of = spec.fields().find(|field| field.name() == "f").and_then(|field| spec.merge_of(field));
        assert_eq!(of.map(FieldMerge::words), Some(law), "{says}");
    }
    let mixed = "type = \"int\"\nwritten_by = \"rules\"\non.complete = { max = \"3\" }\non.death = { add = -1 }";
    assert!(refused(&format!("[merge]\n{}", field("f", mixed))).starts_with("V016"));
    // The builder and the document say the same.
    let spec = spec(&format!(
        "[merge]\nrun = \"day\"\n{}",
        field("xp", "type = \"int\"\nmerge = \"sum\"") + &field("day", int).replace("profile", "run")
    ));
    let again = Spec::from_toml(&spec.to_toml()).expect("what is written can be read");
    assert_eq!((again.merge_run(), again.to_toml()), (Some("day"), spec.to_toml()));
}

#[test]
fn a_reset_is_not_undone_by_who_did_not_touch_it() {
    let spec = spec(&format!("[merge]\n{}", field("xp", "type = \"int\"\nmerge = \"max\"")));
    let base = played(&spec, None, 1, |game| {
        game.write("xp", &[], Value::Int(50)).unwrap();
        game.enter("mill_lane").unwrap();
        game.complete().unwrap();
    });
    let reset = played(&spec, Some(&base), 2, |game| drop(game.reset(&Reset::Profile).unwrap()));
    let other = played(&spec, Some(&base), 3, |game| {
        game.enter("heather_rise").unwrap();
        game.complete().unwrap();
    });
    let (_, game) = merged(&spec, &base, &reset, &other);
    assert_eq!(value(&game, "xp", &[]), Value::Int(0));
    assert_eq!(value(&game, "completed", &["mill_lane"]), Value::Bool(false));
    assert_eq!(value(&game, "completed", &["heather_rise"]), Value::Bool(true), "it was played after the reset");
}

#[test]
fn the_run_is_that_of_the_higher_number_and_then_of_the_newer_save() {
    let run = field("day", "type = \"int\"").replace("profile", "run");
    let by_day = spec(&format!("[merge]\nrun = \"day\"\n{run}"));
    let base = played(&by_day, None, 1, |_| {});
    let on_day = |day: i64, hour: u32| {
        played(&by_day, Some(&base), hour, |game| {
            game.write("day", &[], Value::Int(day)).unwrap();
            game.enter("mill_lane").unwrap();
        })
    };
    let (of, game) = merged(&by_day, &base, &on_day(3, 2), &on_day(2, 3));
    assert_eq!(of.report.run.to_string(), "the run goes on as it is here: 3 is more than 2");
    assert_eq!(value(&game, "day", &[]), Value::Int(3));
    let (of, _) = merged(
        &by_day,
        &base,
        &on_day(2, 2),
        &played(&by_day, Some(&base), 3, |game| {
            game.write("day", &[], Value::Int(2)).unwrap();
        }),
    );
    assert_eq!(of.report.run, RunFrom::Newer(Side::There));
}

#[test]
fn names_that_players_make_are_united_and_removed_ones_stay_away() {
    let keys = "[keys.stone]\nopen = true\nmax = 3\n";
    let spec = spec(&format!("[merge]\n{keys}{}", field("visits", "type = \"int\"\nper = \"stone\"\nmerge = \"sum\"")));
    let visit = |game: &mut Progress, stone: &str, times: i64| {
        game.write_add("visits", &[stone], Value::Int(times)).unwrap();
    };
    let base = played(&spec, None, 1, |game| visit(game, "old", 1));
    let here = played(&spec, Some(&base), 2, |game| {
        visit(game, "east", 2);
        visit(game, "old", 1);
    });
    let there = played(&spec, Some(&base), 3, |game| {
        visit(game, "west", 5);
        visit(game, "old", 10);
    });
    let (of, game) = merged(&spec, &base, &here, &there);
    let visits = ["old", "east", "west"].map(|stone| value(&game, "visits", &[stone]).as_int());
    assert_eq!((visits, of.report.no_room.len()), ([12, 2, 5], 0));
    // A fourth name finds no room, and that is told.
    let there = played(&spec, Some(&there), 4, |game| visit(game, "north", 7));
    let (of, game) = merged(&spec, &base, &here, &there);
    assert_eq!(of.report.no_room.iter().map(|(set, name)| format!("{set} {name}")).collect::<Vec<_>>(), ["stone east"]);
    assert_eq!(value(&game, "visits", &["north"]), Value::Int(7));
    // Taken out on one side, and not used on the other: it is free again.
    let reset = Reset::Field { name: "visits".into(), keys: vec!["old".into()] };
    let cleared = played(&spec, Some(&base), 2, |game| drop(game.reset(&reset).unwrap()));
    let (of, _) = merged(&spec, &base, &cleared, &played(&spec, Some(&base), 3, |game| visit(game, "west", 1)));
    let made = &of.suspended.profile_image("ada").made;
    assert_eq!(made["stone"].iter().map(|name| &**name).collect::<Vec<_>>(), ["west"]);
}

#[test]
fn levels_that_both_players_made_under_one_name_are_both_kept() {
    let made = "[levels]\norder = [\"mill_lane\"]\nmade = { max = 2, title = \"name\" }\n";
    let text = format!(
        "[game]\nid = \"fellpost\"\n{made}[merge]\n{}{}",
        field("name", "type = \"text\"\nper = \"level\"\nmerge = \"newer\""),
        field("best", "type = \"int\"\nper = \"level\"\nmerge = \"max\"")
    );
    let spec = Spec::from_toml(&text).unwrap();
    let base = played(&spec, None, 1, |_| {});
    let lay = |name: &str, hour: u32| {
        played(&spec, Some(&base), hour, |game| {
            game.make_level().unwrap();
            game.write("name", &["made_1"], Value::text(name)).unwrap();
            game.write("best", &["made_1"], Value::Int(i64::from(hour))).unwrap();
        })
    };
    let (of, game) = merged(&spec, &base, &lay("Bog Path", 2), &lay("Crag Path", 3));
    let names = ["made_1", "made_2"].map(|level| value(&game, "name", &[level]).as_text().to_owned());
    assert_eq!(names, ["Crag Path", "Bog Path"]);
    assert_eq!(["made_1", "made_2"].map(|level| value(&game, "best", &[level]).as_int()), [3, 2]);
    let moved = &of.report.moved_levels[0];
    assert_eq!((moved.level.as_str(), moved.to.as_deref()), ("made_1", Some("made_2")));
    // Without room one of them is lost, and that is told.
    let full = |name: &str, hour: u32| {
        let laid = lay(name, hour);
        played(&spec, Some(&laid), hour, |game| drop(game.make_level().unwrap()))
    };
    let (of, game) = merged(&spec, &base, &full("Bog Path", 2), &full("Crag Path", 3));
    assert_eq!(value(&game, "name", &["made_1"]), Value::text("Crag Path"));
    assert_eq!(of.report.moved_levels[0].to, None);
    // The run stands in a level that the other side has removed.
    let both = lay("Bog Path", 2);
    let gone = played(&spec, Some(&both), 3, |game| drop(game.remove_level("made_1").unwrap()));
    let inside = played(&spec, Some(&both), 4, |game| drop(game.enter("made_1").unwrap()));
    let (of, game) = merged(&spec, &both, &gone, &inside);
    assert_eq!((of.report.left_level.as_deref(), game.place()), (Some("made_1"), Place::Menu));
}

#[test]
fn what_cannot_be_merged_is_told() {
    let plain = spec("");
    let base = played(&plain, None, 1, |_| {});
    assert_eq!(merge(&plain, None, &base, &base).unwrap_err(), MergeError::NotSaid);
    let spec = spec("[merge]\n");
    let deleted = base.deleted("2000-01-01T09:00:00.000Z".into());
    assert_eq!(merge(&spec, None, &base, &deleted).unwrap_err(), MergeError::Deleted(Side::There));
    let newer = Image { version: 7, ..base.clone() };
    let why = merge(&spec, None, &newer, &base).unwrap_err().to_string();
    assert!(why.starts_with("here: ") && why.contains("version 7"), "{why}");
    let other = Image { game: "tarns".into(), ..base.clone() };
    assert!(merge(&spec, Some(&other), &base, &base).unwrap_err().to_string().starts_with("base: "));
    // Where one was deleted, the other's play is kept.
    let on = played(&spec, Some(&base), 2, |game| drop(game.enter("mill_lane").unwrap()));
    let meets = |here: &Image, there: &Image| meet(Some(&base), Some(here), Some(there));
    assert_eq!(meets(&deleted, &base), Meeting::Takes(Side::Here));
    assert_eq!(meets(&deleted, &on), Meeting::Takes(Side::There));
    assert_eq!(meets(&on, &deleted), Meeting::Takes(Side::Here));
    assert_eq!(meets(&base, &deleted), Meeting::Takes(Side::There));
    assert_eq!(meet(None, None, Some(&on)), Meeting::Takes(Side::There));
}

#[test]
fn a_level_that_asks_the_device_is_opened_by_a_launch_and_not_by_a_merge() {
    let text = format!(
        "[merge]\n[level.heather_rise]\nopens = \"lamps >= 1 and xp >= 5\"\n{}[field.lamps]\ntype = \"int\"\ndefault = 1\n\
         lasts = \"device\"\n",
        field("xp", "type = \"int\"\nmerge = \"sum\"")
    );
    let spec = spec(&text);
    let base = played(&spec, None, 1, |_| {});
    let earn = |xp: i64, hour: u32| {
        played(&spec, Some(&base), hour, |game| {
            game.write("lamps", &[], Value::Int(0)).unwrap();
            game.write("xp", &[], Value::Int(xp)).unwrap();
        })
    };
    let of = merge(&spec, Some(&base), &earn(3, 2), &earn(4, 3)).unwrap();
    let image = of.suspended.profile_image("ada");
    let opened = |image: &Image| {
        let game = Progress::load(&spec, Some(image), None).unwrap().progress;
        value(&game, "opened", &["heather_rise"])
    };
    assert_eq!((opened(&image), of.report.opened.len()), (Value::Bool(false), 0));
    // On a device that has a lamp the launch opens it.
    let game = Progress::launch(&spec, Some(&image), None).unwrap().progress;
    assert_eq!(value(&game, "opened", &["heather_rise"]), Value::Bool(true));
}
