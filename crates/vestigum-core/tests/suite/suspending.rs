//! What a save made inside a level holds, and what loading makes of it when the spec has changed.

use vestigum_core::{Progress, Spec, Value};

const PATHS: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford", "stile"]
[field.score]
type = "int"
lasts = "run"
after_failure = "entry"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "checkpoint"
[field.time]
type = "int"
lasts = "visit"
after_failure = "keep"
[field.streak]
type = "int"
lasts = "attempt"
on.enter = { set = 1 }
written_by = "both"
[field.lanterns]
type = "int"
default = 3
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = { add = -1 }
[field.debt]
type = "int"
lasts = "profile"
after_failure = "entry"
written_by = "both"
on.death = [{ do = "keep", when = "score > 0" }]
[save]
"#;

fn spec(save: &str) -> Spec {
    Spec::from_toml(&format!("{PATHS}{save}")).unwrap()
}

/// Twenty letters before the ford, five after it.
fn on_the_way(spec: &Spec) -> Progress {
    let mut game = Progress::fresh(spec);
    game.enter("mill_lane").unwrap();
    for (field, by) in [("letters", 20), ("score", 60), ("time", 9), ("streak", 4), ("debt", 2)] {
        game.write_add(field, &[], Value::Int(by)).unwrap();
    }
    game.checkpoint("ford").unwrap();
    game.write_add("letters", &[], Value::Int(5)).unwrap();
    game
}

fn reloaded(game: &Progress, by: &Spec) -> (Progress, String) {
    let launched = Progress::launch(by, Some(&game.suspend().profile_image("ada")), None).unwrap();
    (launched.progress, launched.report.to_string())
}

fn shown(game: &Progress) -> String {
    let fields = ["letters", "score", "time", "streak", "lanterns", "debt"];
    let values = fields.map(|field| format!("{field} {}", game.value(field, &[]).unwrap()));
    format!("{}: {}", game.place(), values.join(", "))
}

#[test]
fn suspending_is_failing_without_the_price() {
    let spec = spec("resume = \"checkpoint\"");
    let (game, report) = reloaded(&on_the_way(&spec), &spec);
    // No lantern is taken, and the guarded rule of `debt` does not count: `after_failure` does.
    assert_eq!(shown(&game), "mill_lane at ford: letters 20, score 0, time 9, streak 1, lanterns 3, debt 0");
    assert_eq!(report, "loaded generation 0");
}

#[test]
fn resuming_at_the_entry_takes_the_visit_back() {
    let spec = spec("resume = \"entry\"");
    let (game, _) = reloaded(&on_the_way(&spec), &spec);
    assert_eq!(shown(&game), "mill_lane: letters 0, score 0, time 0, streak 1, lanterns 3, debt 0");
}

#[test]
fn not_resuming_leaves_as_given_up() {
    let spec = spec("resume = \"none\"");
    let (game, _) = reloaded(&on_the_way(&spec), &spec);
    assert_eq!(shown(&game), "menu: letters 0, score 0, time 0, streak 0, lanterns 3, debt 0");
}

#[test]
fn the_marks_come_back_too() {
    let spec = spec("resume = \"checkpoint\"");
    let (mut game, _) = reloaded(&on_the_way(&spec), &spec);
    game.write_add("letters", &[], Value::Int(30)).unwrap();
    game.death().unwrap();
    assert_eq!(game.value("letters", &[]), Ok(Value::Int(20)));
    game.restart().unwrap();
    assert_eq!(shown(&game), "mill_lane: letters 0, score 0, time 0, streak 1, lanterns 2, debt 0");
}

#[test]
fn a_game_that_resumes_no_more_loads_as_given_up() {
    let (game, report) = reloaded(&on_the_way(&spec("resume = \"checkpoint\"")), &spec("resume = \"none\""));
    assert_eq!(shown(&game), "menu: letters 0, score 0, time 0, streak 0, lanterns 3, debt 0");
    assert!(report.contains("the place was mill_lane at ford and is menu now: levels are not resumed any more"));
}

#[test]
fn a_checkpoint_that_is_gone_leads_to_the_entry() {
    let without = PATHS.replace("\"ford\", \"stile\"", "\"stile\"");
    let without = Spec::from_toml(&without).unwrap();
    let (game, report) = reloaded(&on_the_way(&spec("resume = \"checkpoint\"")), &without);
    assert_eq!(shown(&game), "mill_lane: letters 0, score 0, time 0, streak 1, lanterns 3, debt 0");
    assert!(report.contains("`mill_lane` has no checkpoint `ford` any more"), "{report}");
}

#[test]
fn a_level_that_is_gone_is_left() {
    let without = PATHS.replace("\"mill_lane\", \"heather_rise\"", "\"heather_rise\"");
    let without =
        Spec::from_toml(&without.replace("[level.mill_lane]\ncheckpoints = [\"ford\", \"stile\"]", "")).unwrap();
    let (game, report) = reloaded(&on_the_way(&spec("resume = \"checkpoint\"")), &without);
    assert_eq!(shown(&game), "menu: letters 0, score 0, time 0, streak 0, lanterns 3, debt 0");
    assert!(report.contains("there is no level `mill_lane` any more"), "{report}");
    assert!(report.contains("dropped opened[mill_lane]: no level is called `mill_lane`"), "{report}");
}

#[test]
fn a_game_that_resumes_at_the_entry_now_goes_there() {
    let (game, report) = reloaded(&on_the_way(&spec("resume = \"checkpoint\"")), &spec("resume = \"entry\""));
    assert_eq!(shown(&game), "mill_lane: letters 0, score 0, time 0, streak 1, lanterns 3, debt 0");
    assert!(report.contains("levels are resumed at their entry now"), "{report}");
}

/// A rule that touches only the current key depends on a choice that a failure can change, so it does not count in a save:
/// counted, it would touch another entry every time the game is saved and loaded.
#[test]
fn a_rule_of_the_current_key_or_checkpoint_does_not_count_in_a_save() {
    let spec = Spec::from_toml(
        r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane"]
[level.mill_lane]
checkpoints = ["ford", "stile"]
[keys.weather]
names = ["fair", "storm"]
current = "weather_now"
[field.weather_now]
type = "choice"
of = ["fair", "storm"]
lasts = "run"
after_failure = "entry"
[field.tally]
type = "int"
per = "weather"
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = "reset"
on.restart = "reset"
[field.found]
type = "int"
per = "checkpoint"
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = "reset"
on.restart = "reset"
[save]
resume = "entry"
"#,
    )
    .unwrap_or_else(|errors| panic!("{errors}"));
    let mut game = Progress::fresh(&spec);
    for key in ["fair", "storm"] {
        game.write("tally", &[key], 7.into()).unwrap();
    }
    for stop in ["ford", "stile"] {
        game.write("found", &["mill_lane", stop], 3.into()).unwrap();
    }
    game.enter_at("mill_lane", "ford").unwrap();
    game.write("weather_now", &[], "storm".into()).unwrap();
    game.checkpoint("stile").unwrap();
    let (mut game, _) = reloaded(&game, &spec);
    (game, _) = reloaded(&game, &spec);
    assert_eq!(game.value("weather_now", &[]).unwrap().to_string(), "fair");
    let all = |game: &Progress| {
        let tally = ["fair", "storm"].map(|key| game.value("tally", &[key]).unwrap().as_int());
        let found = ["ford", "stile"].map(|stop| game.value("found", &["mill_lane", stop]).unwrap().as_int());
        (tally, found)
    };
    assert_eq!(all(&game), ([7, 7], [3, 3]));
    game.death().unwrap();
    assert_eq!(all(&game), ([0, 7], [0, 3]), "a death counts, and touches the key and the checkpoint of the moment");
}
