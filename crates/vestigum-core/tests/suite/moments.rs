//! Every moment: where it is allowed, what it does besides the fates, and what its outcome tells.
#![allow(clippy::float_cmp, reason = "values are kept exactly")]

use vestigum_core::{Moment, Next, Outcome, Place, Progress, Refused, Spec, Value};

const WORLD: &str = r#"
[game]
id = "fellpost"
[moments]
names = ["new_day"]
[levels]
order = ["mill_lane", "heather_rise", "tarn_steps"]
[level.mill_lane]
checkpoints = ["ford", "stile", "mill"]
[level.night_round]
opens = "best[mill_lane] >= 10"
next = "tarn_steps"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "checkpoint"
[field.door_open]
type = "bool"
lasts = "attempt"
[field.score]
type = "int"
range = [0, 100]
lasts = "run"
after_failure = "entry"
[field.lanterns]
type = "int"
default = 2
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = { add = -1 }
[field.best]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[field.days]
type = "int"
lasts = "profile"
on.new_day = { add = 1 }
[field.starts]
type = "int"
lasts = "profile"
on.launch = { add = 1 }
[run]
over_when = "lanterns == 0"
[save]
at = ["complete", "game_over"]
"#;

fn world_spec(more: &str) -> Spec {
    Spec::from_toml(&format!("{WORLD}{more}")).unwrap_or_else(|errors| panic!("{errors}"))
}

fn world(more: &str) -> Progress {
    Progress::fresh(&world_spec(more))
}

fn changes(outcome: &Outcome) -> Vec<String> {
    outcome.changes.iter().map(ToString::to_string).collect()
}

fn add(game: &mut Progress, field: &str, by: i64) {
    game.write_add(field, &[], Value::Int(by)).unwrap();
}

fn place(level: &str, checkpoint: Option<&str>) -> Place {
    Place::InLevel { level: level.into(), checkpoint: checkpoint.map(Into::into) }
}

#[test]
fn completing_tells_records_openings_the_next_level_and_the_save() {
    let mut game = world("");
    game.enter("mill_lane").unwrap();
    add(&mut game, "letters", 12);
    let done = game.complete().unwrap();
    assert_eq!(
        changes(&done),
        [
            "letters 12 → 0 (reset)",
            "best[mill_lane] 0 → 12 (max)",
            "completed[mill_lane] false → true (set)",
            "opened[heather_rise] false → true (opened)",
            "opened[night_round] false → true (opened)",
        ]
    );
    assert_eq!(done.records().map(|record| record.after.as_int()).collect::<Vec<_>>(), [12]);
    assert_eq!(done.opened.iter().map(|level| &**level).collect::<Vec<_>>(), ["heather_rise", "night_round"]);
    assert_eq!((done.next_level(), done.save_due, &done.place), (Some("heather_rise"), true, &Place::Menu));
    assert_eq!(done.set_back.iter().map(|field| &**field).collect::<Vec<_>>(), ["letters", "door_open"]);
}

#[test]
fn the_last_level_has_no_next_and_next_overrides_the_order() {
    let mut game = world("");
    game.enter_any("tarn_steps", None).unwrap();
    assert_eq!(game.complete().unwrap().next, Some(Next::Choose(vec!["mill_lane".into()])));
    game.enter_any("night_round", None).unwrap();
    assert_eq!(game.complete().unwrap().next, Some(Next::Locked("tarn_steps".into())));
}

#[test]
fn a_death_tells_where_to_come_back_and_what_was_set_back_changed_or_not() {
    let mut game = world("");
    game.enter("mill_lane").unwrap();
    add(&mut game, "letters", 5);
    game.checkpoint("ford").unwrap();
    add(&mut game, "score", 30);
    let fell = game.death().unwrap();
    assert_eq!(changes(&fell), ["score 30 → 0 (entry)", "lanterns 2 → 1 (add)"]);
    let respawn = fell.respawn.unwrap();
    assert_eq!((&*respawn.level, respawn.checkpoint.as_deref()), ("mill_lane", Some("ford")));
    assert_eq!(fell.set_back.iter().map(|field| &**field).collect::<Vec<_>>(), ["letters", "door_open"]);
    assert!(!fell.game_over && !fell.save_due);
}

#[test]
fn the_last_life_ends_the_run_in_the_same_outcome() {
    let mut game = world("");
    game.enter("mill_lane").unwrap();
    game.death().unwrap();
    add(&mut game, "letters", 3);
    let last = game.death().unwrap();
    assert_eq!(changes(&last), ["letters 3 → 0 (checkpoint)", "lanterns 1 → 0 (add)"]);
    assert!(last.game_over && last.save_due, "the game over is due to be saved");
    assert_eq!((last.place, last.respawn), (Place::RunOver, None));
    assert!(matches!(game.enter("mill_lane"), Err(Refused::NotHere { .. })));
    let begun = game.new_run().unwrap();
    assert_eq!(changes(&begun), ["lanterns 0 → 2 (reset)"]);
    assert_eq!(game.place(), Place::Menu);
}

#[test]
fn respawning_at_the_entry_gives_the_checkpoint_up() {
    let mut game = world("[death]\nrespawn = \"entry\"\n");
    game.enter_at("mill_lane", "ford").unwrap();
    add(&mut game, "letters", 5);
    game.checkpoint("stile").unwrap();
    let fell = game.death().unwrap();
    assert_eq!(fell.place, place("mill_lane", Some("ford")));
    assert_eq!(game.value("letters", &[]), Ok(Value::Int(0)));
}

#[test]
fn a_restart_comes_back_to_where_the_level_was_entered() {
    let mut game = world("");
    game.enter_at("mill_lane", "stile").unwrap();
    add(&mut game, "letters", 5);
    game.checkpoint("mill").unwrap();
    let again = game.restart().unwrap();
    assert_eq!(again.place, place("mill_lane", Some("stile")));
    assert_eq!(changes(&again), ["letters 5 → 0 (entry)"]);
}

#[test]
fn checkpoints_count_as_accept_says() {
    let reached = |accept: &str, names: &[&str]| {
        let mut game = world(&format!("[checkpoints]\naccept = \"{accept}\"\n"));
        game.enter("mill_lane").unwrap();
        let accepted: Vec<bool> = names.iter().map(|name| game.checkpoint(name).unwrap().accepted).collect();
        (accepted, game.place())
    };
    let names = ["stile", "ford", "stile", "mill"];
    assert_eq!(reached("any", &names), (vec![true; 4], place("mill_lane", Some("mill"))));
    assert_eq!(reached("forward", &names), (vec![true, false, false, true], place("mill_lane", Some("mill"))));
    assert_eq!(reached("next", &names), (vec![false, true, true, true], place("mill_lane", Some("mill"))));
}

#[test]
fn a_level_without_a_list_takes_any_name_unless_an_order_is_needed() {
    let mut game = world("");
    game.enter_any("tarn_steps", None).unwrap();
    game.checkpoint("somewhere").unwrap();
    assert_eq!(game.place(), place("tarn_steps", Some("somewhere")));
    let mut game = world("[checkpoints]\naccept = \"next\"\n");
    game.enter_any("tarn_steps", None).unwrap();
    assert!(matches!(game.checkpoint("somewhere"), Err(Refused::UnknownCheckpoint { .. })));
}

#[test]
fn the_games_own_moments_leave_the_place_and_end_nothing() {
    let mut game = world("");
    assert_eq!(changes(&game.own_moment("new_day").unwrap()), ["days 0 → 1 (add)"]);
    game.enter("mill_lane").unwrap();
    add(&mut game, "letters", 5);
    let midnight = game.own_moment("new_day").unwrap();
    assert_eq!((changes(&midnight), midnight.place), (vec!["days 1 → 2 (add)".to_owned()], place("mill_lane", None)));
    assert_eq!(game.value("letters", &[]), Ok(Value::Int(5)));
    let error = game.own_moment("new_dya").unwrap_err().to_string();
    assert_eq!(error, "this game has no moment `new_dya`; did you mean `new_day`?");
    assert!(game.own_moment("death").is_err(), "the built-in ones have functions of their own");
}

#[test]
fn travelling_is_no_failure_and_giving_up_is_one() {
    let mut game = world("");
    game.enter("mill_lane").unwrap();
    add(&mut game, "score", 7);
    assert_eq!(game.travel().unwrap().place, Place::Menu);
    assert_eq!(game.value("score", &[]), Ok(Value::Int(7)));
    game.enter("mill_lane").unwrap();
    add(&mut game, "score", 7);
    assert_eq!(changes(&game.abandon().unwrap()), ["score 14 → 7 (entry)"]);
}

#[test]
fn every_moment_is_refused_in_the_wrong_place_with_a_sentence() {
    type Say = fn(&mut Progress) -> Result<Outcome, Refused>;
    let inside: [(&str, Say); 6] = [
        ("death", Progress::death),
        ("restart", Progress::restart),
        ("complete", Progress::complete),
        ("travel", Progress::travel),
        ("abandon", Progress::abandon),
        ("checkpoint", |game| game.checkpoint("ford")),
    ];
    for (name, say) in inside {
        let refused = say(&mut world("")).unwrap_err().to_string();
        assert_eq!(refused, format!("{name} happens only inside a level, and the player is in the menu"));
    }
    let outside: [(&str, Say); 2] = [("new_run", Progress::new_run), ("enter", |game| game.enter("mill_lane"))];
    for (name, say) in outside {
        let mut game = world("");
        game.enter("mill_lane").unwrap();
        let refused = say(&mut game).unwrap_err().to_string();
        assert!(refused.starts_with(&format!("{name} happens only")), "{refused}");
    }
    let mut game = world("");
    game.game_over().unwrap();
    assert!(game.game_over().is_err(), "a run is over once");
    let mut game = world("");
    game.quit().unwrap();
    for (_, say) in inside.into_iter().chain(outside) {
        assert_eq!(say(&mut game), Err(Refused::Closed));
    }
    assert_eq!(game.quit().map(drop), Err(Refused::Closed));
    assert!(game.write("score", &[], 1.into()).is_err());
    assert!(game.reset(&vestigum_core::Reset::Run).is_err());
}

#[test]
fn launch_rules_run_once_a_launch_and_reach_both_marks() {
    let mut game = world("");
    assert_eq!(game.value("starts", &[]), Ok(Value::Int(1)));
    game.enter("mill_lane").unwrap();
    let spec = world_spec("");
    let image = game.suspend().profile_image("ada");
    let mut again = Progress::launch(&spec, Some(&image), None).unwrap();
    assert_eq!(again.outcome.moment, Moment::Launch);
    assert_eq!(changes(&again.outcome), ["starts 1 → 2 (add)"]);
    again.progress.restart().unwrap();
    assert_eq!(again.progress.value("starts", &[]), Ok(Value::Int(2)));
    let looked = Progress::load(&spec, Some(&image), None).unwrap().progress;
    assert_eq!(looked.value("starts", &[]), Ok(Value::Int(1)), "looking at a save is no launch");
}

#[test]
fn sums_and_writes_stop_at_the_limits_and_say_so() {
    let mut game = world("");
    assert!(game.write("score", &[], Value::Int(500)).unwrap().clamped());
    assert_eq!(game.value("score", &[]), Ok(Value::Int(100)));
    assert!(!game.write("score", &[], Value::Int(50)).unwrap().clamped());
    assert!(game.write_add("score", &[], Value::Int(i64::MAX)).unwrap().clamped());
    let spec =
        Spec::from_toml(&WORLD.replace("on.death = { add = -1 }", "range = [1, 9]\non.death = { add = -5 }")).unwrap();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    let fell = game.death().unwrap();
    assert_eq!(fell.clamped().map(ToString::to_string).collect::<Vec<_>>(), ["lanterns 2 → 1 (add)"]);
}

#[test]
fn sums_without_a_range_stop_at_the_end_of_numbers_and_say_so() {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n\
         [field.n]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"both\"\non.complete = { add = 5 }\n\
         [field.x]\ntype = \"float\"\nlasts = \"run\"\nafter_failure = \"keep\"\n",
    )
    .unwrap_or_else(|errors| panic!("{errors}"));
    let (n, x) = (spec.int("n").unwrap(), spec.float("x").unwrap());
    let mut game = Progress::fresh(&spec);
    game.set(n, i64::MAX - 7).unwrap();
    assert!(!game.add(n, 5).unwrap().clamped());
    game.enter("mill_lane").unwrap();
    assert_eq!(game.complete().unwrap().clamped().count(), 1);
    assert!(game.add(n, 1).unwrap().clamped() && game.write_add("n", &[], 1.into()).unwrap().clamped());
    assert_eq!(game.get(n), i64::MAX);
    game.set(x, f64::MAX).unwrap();
    assert!(game.add(x, f64::MAX).unwrap().clamped());
    assert_eq!(game.get(x), f64::MAX);
    assert!(game.set(x, f64::NAN).unwrap().clamped());
    assert_eq!(game.get(x), 0.0, "what is no number becomes 0");
}
