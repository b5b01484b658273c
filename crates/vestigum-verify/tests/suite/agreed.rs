//! Where an independent model and this crate disagreed, and what was agreed.
#![allow(clippy::float_cmp, reason = "values are kept exactly")]

use vestigum_core::{Image, Moment, Progress, Reset, Spec, Value};
use vestigum_verify::fate_table::FateTable;
use vestigum_verify::playthrough::{MemorySaves, Script, run};

fn spec(more: &str) -> Spec {
    let text = format!("[game]\nid = \"fellpost\"\n{more}");
    Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}"))
}

const PATHS: &str = "[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n";

fn int(name: &str, more: &str) -> String {
    let after =
        if more.contains("\"device\"") || more.contains("\"session\"") { "" } else { "after_failure = \"keep\"\n" };
    format!("[field.{name}]\ntype = \"int\"\nwritten_by = \"both\"\n{after}{more}\n")
}

fn read(game: &Progress, name: &str, keys: &[&str]) -> i64 {
    game.value(name, keys).unwrap().as_int()
}

fn saved(game: &Progress) -> (Image, Image) {
    let suspended = game.suspend();
    (suspended.profile_image("ada"), suspended.device_image())
}

fn relaunched(spec: &Spec, game: &Progress) -> Progress {
    let (profile, device) = saved(game);
    Progress::launch(spec, Some(&profile), Some(&device)).unwrap().progress
}

#[test]
fn a_level_that_is_reset_from_within_another_stays_open_where_its_condition_holds() {
    let spec = spec(&format!("{PATHS}{}", int("best", "per = \"level\"\nlasts = \"profile\"")));
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    game.complete().unwrap();
    game.enter("mill_lane").unwrap();
    game.write("best", &["heather_rise"], 5.into()).unwrap();
    let changes = game.reset(&Reset::Level("heather_rise".into())).unwrap();
    assert_eq!(game.value("opened", &["heather_rise"]), Ok(Value::Bool(true)));
    assert_eq!(changes.iter().map(ToString::to_string).collect::<Vec<_>>(), ["best[heather_rise] 5 → 0 (reset)"]);
}

#[test]
fn a_session_that_begins_beside_another_launches_with_the_live_device() {
    let spec = spec(&int("starts", "lasts = \"device\"\non.launch = { add = 1 }"));
    let text = "playthrough \"two\"\nlaunch\nstarts += 10\nprofile ben\nlaunch\nexpect starts == 12\nprofile player\n\
                expect starts == 12\nquit\nprofile ben\nstarts += 1\nquit\nlaunch\nexpect starts == 14";
    let script = Script::from_text("two.play", text, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
    assert!(run.passed(), "{:?}", run.failure);
}

#[test]
fn functions_over_open_key_sets_see_the_names_that_were_made() {
    let spec = spec(&format!(
        "[keys.mill]\nopen = true\nmax = 5\n{}[derived]\ntotal = \"sum(visits)\"\nmost = \"highest(visits)\"\n\
         least = \"lowest(visits)\"\nhow_many = \"count(visits)\"\n",
        int("visits", "per = \"mill\"\ndefault = 7\nlasts = \"profile\"")
    ));
    let mut game = Progress::fresh(&spec);
    let all = |game: &Progress| ["total", "most", "least", "how_many"].map(|name| game.derived(name).unwrap().as_int());
    assert_eq!(all(&game), [0, 0, 0, 0]);
    game.write("visits", &["Bob's mill"], 3.into()).unwrap();
    assert_eq!(all(&game), [3, 3, 3, 1]);
}

#[test]
fn a_level_outside_the_order_has_no_index() {
    let spec = spec(&format!(
        "{PATHS}[level.tarn]\nopens = \"completed[mill_lane]\"\n{}",
        int("seen", "lasts = \"run\"\non.enter = { set = \"level_index\" }")
    ));
    let mut game = Progress::fresh(&spec);
    game.enter_any("heather_rise", None).unwrap();
    assert_eq!(read(&game, "seen", &[]), 2);
    game.travel().unwrap();
    game.enter_any("tarn", None).unwrap();
    assert_eq!(read(&game, "seen", &[]), 0);
}

#[test]
fn a_full_container_keeps_what_it_has_under_union() {
    let spec = spec(&format!(
        "{PATHS}[field.found]\ntype = \"set of text\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n\
         [field.bag]\ntype = \"set of text\"\nmax_len = 2\nlasts = \"profile\"\nwritten_by = \"both\"\n\
         after_failure = \"keep\"\non.complete = {{ union = \"found\" }}\n"
    ));
    let mut game = Progress::fresh(&spec);
    game.insert("bag", &[], "zither".into()).unwrap();
    game.enter("mill_lane").unwrap();
    for item in ["axe", "bell", "cup"] {
        game.insert("found", &[], item.into()).unwrap();
    }
    let done = game.complete().unwrap();
    assert_eq!(game.value("bag", &[]).unwrap().to_string(), "{'ax', 'zi'}");
    assert!(done.changes.iter().any(|change| change.field == "bag".into() && change.clamped));
}

#[test]
fn no_condition_can_be_ended_by_an_opening_level() {
    let paths = |opens: &str| {
        Spec::from_toml(&format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"a\"]\n[level.x]\nopens = \"{opens}\"\n[level.y]\nopens = \"open(a)\"\n\
             [field.n]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n[table.t]\nsteps = [1]\n\
             [derived]\nseen = \"count(opened)\"\nfew = \"5 - seen\"\n"
        ))
    };
    let falling = [
        "not open(y)",
        "not opened[y]",
        "count(opened) < 3",
        "3 > seen",
        "few >= 2",
        "seen == 2",
        "open(y) != true",
        "if(open(y), 0, 1) >= 1",
        "-seen > -2",
        "seen * n > 2",
        "grade(few, t) >= 1",
        "n > 1 and not (open(a) or open(y))",
    ];
    for opens in falling {
        let errors = paths(opens).err().unwrap_or_else(|| panic!("`{opens}` is taken"));
        assert_eq!(errors.list()[0].code, "V015", "{opens}: {errors}");
    }
    let rising = [
        "open(y)",
        "opened[a] and n > 2",
        "count(opened) >= 2",
        "not (count(opened) < 2)",
        "few <= 3",
        "seen * 2 > 2",
        "seen / -1 < -1",
        "if(open(y), 3, 2) > 2",
        "grade(seen, t) >= 1",
        "not completed[a]",
        "max(seen, n) + seen > 2",
    ];
    for opens in rising {
        assert!(paths(opens).is_ok(), "`{opens}` is refused");
    }
}

#[test]
fn what_launch_does_it_does_to_the_marks_too_changed_or_not() {
    let spec = spec(&format!(
        "{PATHS}{}[save]\nresume = \"checkpoint\"\n",
        int("torch", "lasts = \"run\"\non.launch = { set = 5 }").replace("keep", "entry")
    ));
    let mut game = Progress::fresh(&spec);
    game.write("torch", &[], 9.into()).unwrap();
    game.enter("mill_lane").unwrap();
    game.write("torch", &[], 5.into()).unwrap();
    game.checkpoint("any").unwrap();
    let mut game = relaunched(&spec, &game);
    assert_eq!(read(&game, "torch", &[]), 5);
    game.death().unwrap();
    assert_eq!(read(&game, "torch", &[]), 5, "the entry mark was set to it, too");
}

#[test]
fn sums_are_exact_and_cut_once_at_the_end() {
    let more = format!(
        "[keys.mill]\nnames = [\"a\", \"b\", \"c\"]\n{}[field.w]\ntype = \"float\"\nper = \"mill\"\nlasts = \"profile\"\n\
         after_failure = \"keep\"\n[derived]\ntotal = \"sum(n)\"\nweight = \"sum(w)\"\n",
        int("n", "per = \"mill\"\nlasts = \"profile\"")
    );
    let spec = spec(&more);
    let mut game = Progress::fresh(&spec);
    for (key, value) in [("a", i64::MAX), ("b", i64::MAX), ("c", i64::MIN)] {
        game.write("n", &[key], value.into()).unwrap();
    }
    assert_eq!(game.derived("total"), Ok(Value::Int(i64::MAX - 1)));
    for values in [[1e308, 1e308, -1e308], [1e16, 1.0, -1e16], [0.1, 0.2, -0.3], [f64::MAX, f64::MAX, f64::MAX]] {
        for (key, value) in ["a", "b", "c"].into_iter().zip(values) {
            game.write("w", &[key], value.into()).unwrap();
        }
        let forward = game.derived("weight").unwrap().as_float();
        for (key, value) in ["c", "a", "b"].into_iter().zip(values) {
            game.write("w", &[key], value.into()).unwrap();
        }
        assert_eq!(game.derived("weight").unwrap().as_float(), forward, "the order does not matter: {values:?}");
        assert!((forward - values[0]).abs() <= values[0].abs() || values[0] == f64::MAX);
    }
    assert_eq!(game.derived("weight").unwrap().as_float(), f64::MAX);
}

#[test]
fn the_device_is_saved_as_it_is() {
    for resume in ["none", "entry", "checkpoint"] {
        let rules = "lasts = \"device\"\non.death = { add = 1 }\non.restart = \"reset\"\non.abandon = \"reset\"";
        let spec = spec(&format!("{PATHS}{}[save]\nresume = \"{resume}\"\n", int("falls", rules)));
        let mut game = Progress::fresh(&spec);
        game.enter("mill_lane").unwrap();
        game.write("falls", &[], 4.into()).unwrap();
        assert_eq!(read(&relaunched(&spec, &game), "falls", &[]), 4, "{resume}");
        assert_eq!(read(&game.suspend().relaunched(), "falls", &[]), 4, "{resume}");
        let table = FateTable::of(&spec);
        let quit = table.columns.iter().position(|column| column == "quit").unwrap();
        assert_eq!(table.rows[0].cells[quit].word(), "keep", "{resume}");
    }
}

#[test]
fn a_launch_may_save() {
    let spec =
        spec(&format!("{}[save]\nat = [\"launch\"]\n", int("starts", "lasts = \"profile\"\non.launch = { add = 1 }")));
    let text = "playthrough \"starts\"\nlaunch\ncrash\nlaunch\ncrash\nlaunch\nexpect starts == 3";
    let script = Script::from_text("starts.play", text, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
    assert!(run.passed(), "{:?}", run.failure);
}

#[test]
fn a_launch_into_a_level_is_about_that_place() {
    let spec = spec(&format!(
        "{PATHS}[field.woke]\ntype = \"text\"\nlasts = \"session\"\non.launch = {{ set = \"if(checkpoint == '', level, checkpoint)\" }}\n"
    ));
    let mut game = Progress::fresh(&spec);
    assert_eq!(game.value("woke", &[]).unwrap().as_text(), "");
    game.enter("mill_lane").unwrap();
    assert_eq!(relaunched(&spec, &game).value("woke", &[]).unwrap().as_text(), "mill_lane");
    game.checkpoint("ford").unwrap();
    assert_eq!(relaunched(&spec, &game).value("woke", &[]).unwrap().as_text(), "ford");
}

#[test]
fn the_smallest_int_can_be_written() {
    let spec = spec(&int("n", "lasts = \"profile\"\ndefault = -9223372036854775808"));
    let text = "playthrough \"n\"\nlaunch\nexpect n == -9223372036854775808\nn = 0\nn = -9223372036854775808\nexpect n < 0 - 9223372036854775807";
    let script = Script::from_text("n.play", text, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    assert!(run(&spec, &script.playthroughs()[0], &mut MemorySaves::default()).passed());
    for beyond in ["9223372036854775808", "-9223372036854775809", "1 - 9223372036854775808"] {
        let text = format!("playthrough \"n\"\nlaunch\nn = {beyond}");
        let errors = Script::from_text("n.play", &text, &spec).unwrap_err().to_string();
        assert!(errors.contains("this number is too large"), "{errors}");
    }
    let errors =
        Script::from_text("n.play", "playthrough \"n\"\nlaunch\nexpect n < 1e400", &spec).unwrap_err().to_string();
    assert!(errors.contains("floats go up to 1.79"), "{errors}");
}

#[test]
fn names_made_at_run_time_are_any_text_and_a_reset_frees_them() {
    let spec = spec(&format!(
        "{PATHS}[keys.mill]\nopen = true\nmax = 3\n{}{}",
        int("visits", "per = \"mill\"\nlasts = \"profile\"").replace("keep", "entry"),
        int("ground", "per = [\"mill\", \"level\"]\nlasts = \"profile\"")
    ));
    let text = "playthrough \"names\"\nlaunch\nenter mill_lane\nvisits['Bob''s mill'] = 3\nvisits['level'] += 1\nvisits['郵, 便'] = 2\n\
                expect visits['Bob''s mill'] == 3 and visits['level'] == 1 and visits['郵, 便'] == 2\n\
                expect ground['never', mill_lane] == 0\nground['level', mill_lane] = 8\n\
                refuse visits['a fourth'] = 1\nreset field visits['郵, 便']\nvisits['a fourth'] = 4\n\
                reset field visits\nexpect ground['level', mill_lane] == 8 and size(visits) == 1\nvisits['x'] = 1\nvisits['y'] = 1\n\
                death\nexpect visits['x'] == 0 and ground['level', mill_lane] == 8\nquit\nlaunch\nexpect ground['level', mill_lane] == 8";
    let script = Script::from_text("names.play", text, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
    assert!(run.passed(), "{:?}", run.failure);
    let mut game = Progress::fresh(&spec);
    game.write("visits", &["Bob's mill"], 1.into()).unwrap();
    let (profile, _) = saved(&game);
    let image = vestigum_testing::written_and_read(&profile);
    let again = Progress::launch(&spec, Some(&image), None).unwrap();
    assert!(again.report.is_clean(), "{}", again.report);
    assert_eq!(read(&again.progress, "visits", &["Bob's mill"]), 1);
    let changes = game.reset(&Reset::Profile).unwrap();
    assert_eq!(changes[0].to_string(), "visits['Bob''s mill'] 1 → 0 (reset)");
    for bad in ["", "a\nb", &"x".repeat(61)] {
        assert!(game.write("visits", &[bad], 1.into()).is_err(), "{bad:?}");
    }
}

#[test]
fn the_fate_table_names_the_mark_that_is_there() {
    let table = |more: &str| {
        let field = int("letters", "lasts = \"visit\"").replace("keep", "checkpoint");
        let run_field = int("score", "lasts = \"run\"").replace("keep", "checkpoint");
        FateTable::of(&spec(&format!("{PATHS}{field}{run_field}{more}")))
    };
    let words = |table: &FateTable, row: usize| {
        ["death", "restart", "abandon", "game_over", "quit"].map(|name| {
            let column = table.columns.iter().position(|column| column == name).unwrap();
            table.rows[row].cells[column].word()
        })
    };
    let usual = table("");
    assert_eq!(words(&usual, 1), ["checkpoint", "entry", "entry", "entry", "checkpoint"], "{usual:?}");
    assert_eq!(words(&table("[death]\nrespawn = \"entry\"\n"), 1)[0], "entry");
    assert_eq!(words(&table("[save]\nresume = \"entry\"\n"), 1)[4], "entry");
}

#[test]
fn a_key_with_the_name_of_a_level_is_named_on_the_board() {
    let spec = spec(&format!(
        "{PATHS}[keys.post]\nnames = [\"mill_lane\", \"ford\"]\n{}",
        int("t", "per = [\"post\", \"level\"]\nlasts = \"profile\"")
    ));
    let mut game = Progress::fresh(&spec);
    game.write("t", &["mill_lane", "mill_lane"], 1.into()).unwrap();
    assert_eq!(game.board()[0].values, [("t[mill_lane]".into(), Value::Int(1))]);
}

#[test]
fn a_moment_of_another_spec_does_nothing() {
    let spec = spec(&int("n", "lasts = \"run\""));
    let field = spec.fields().next().unwrap();
    assert!(spec.fate(field, Moment::Own(9)).rules.is_empty());
}

#[test]
fn values_outside_their_type_cannot_be_made() {
    let spec = spec("[field.w]\ntype = \"float\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n");
    let mut game = Progress::fresh(&spec);
    for odd in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY, -0.0, f64::MIN_POSITIVE / 4.0] {
        game.write("w", &[], Value::float(odd)).unwrap();
        let (image, _) = saved(&game);
        let read = vestigum_testing::written_and_read(&image);
        assert_eq!(read, image, "{odd}");
        assert_eq!(Progress::launch(&spec, Some(&read), None).unwrap().progress.value("w", &[]), game.value("w", &[]));
    }
    assert_eq!(Value::float(-0.0), Value::float(0.0));
    assert_eq!(Value::float(-0.0).cmp(&Value::float(0.0)), std::cmp::Ordering::Equal);
    assert_eq!(Value::vec2(f64::NAN, -0.0), Value::vec2(0.0, 0.0));
}

#[test]
fn a_format_that_never_was_is_damage_sealed_or_not() {
    use vestigum_core::image::json::ImageError;
    use vestigum_core::image::seal::SealKey;
    let spec = spec("");
    let image = Progress::fresh(&spec).suspend().profile_image("ada");
    let key = SealKey::from_text("the lanterns of Cloud Pass");
    for key in [None, Some(&key)] {
        let bytes = String::from_utf8(image.encoded().bytes(1, key)).unwrap();
        for format in ["0", "-1"] {
            let other = bytes.replacen("\"format\":2", &format!("\"format\":{format}"), 1);
            let damaged = Image::decode(other.as_bytes(), key).unwrap_err();
            assert!(matches!(&damaged, ImageError::NoImage(why) if why.contains("formats begin with 1")), "{damaged}");
        }
    }
}
