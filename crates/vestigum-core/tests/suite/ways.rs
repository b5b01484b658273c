//! Where completing a level leads, what a new cycle takes back, why a level is locked and which are hidden.

use vestigum_core::{Comparison, LockReason, Next, Outcome, Place, Progress, Refused, Reset, Spec, Value};
use vestigum_spec::vocabulary::fate::Fate;

fn spec(levels: &str, rest: &str) -> Spec {
    let text =
        format!("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n{levels}\n{rest}");
    Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}"))
}

fn error(levels: &str, rest: &str) -> String {
    let text =
        format!("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n{levels}\n{rest}");
    Spec::from_toml(&text).expect_err("it is wrong").to_string()
}

const CELLAR: &str = "[level.mill_lane]\ntitle = \"Mill Lane\"\nexits = { cellar = \"millrace\", loft = \"heather_rise\" }\n\
    [level.millrace]\ntitle = \"The Millrace\"\n";
const TAKEN: &str =
    "[field.by]\ntype = \"text\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { set = \"exit\" }\n";

fn opened(outcome: &Outcome) -> Vec<&str> {
    outcome.opened.iter().map(|level| &**level).collect()
}

fn ended(game: &mut Progress, level: &str, exit: Option<&str>) -> Outcome {
    game.enter(level).unwrap();
    match exit {
        Some(exit) => game.complete_by(exit),
        None => game.complete(),
    }
    .unwrap()
}

#[test]
fn an_exit_opens_its_level_and_leads_there_and_rules_know_which_it_was() {
    let spec = spec(CELLAR, TAKEN);
    let mut game = Progress::fresh(&spec);
    let plain = ended(&mut game, "mill_lane", None);
    assert_eq!((plain.next_level(), opened(&plain)), (Some("heather_rise"), vec!["heather_rise"]));
    assert_eq!(game.value("by", &["mill_lane"]), Ok(Value::text("")));
    let by = ended(&mut game, "mill_lane", Some("cellar"));
    assert_eq!((by.next_level(), opened(&by)), (Some("millrace"), vec!["millrace"]));
    assert!(by.changes.iter().any(|change| change.fate == Fate::Opened && change.to_string().contains("millrace")));
    assert_eq!(game.value("by", &["mill_lane"]), Ok(Value::text("cellar")));
    // It stays open, is there after a relaunch, and a reset of the level itself does not lock it.
    let image = game.suspend().profile_image("ada");
    let mut game = Progress::load(&spec, Some(&image), None).unwrap().progress;
    game.reset(&Reset::Level("millrace".into())).unwrap();
    assert!(game.enter("millrace").is_ok());
}

#[test]
fn an_exit_that_is_not_there_changes_nothing() {
    let mut game = Progress::fresh(&spec(CELLAR, TAKEN));
    let outside = game.complete_by("cellar").unwrap_err();
    assert!(matches!(outside, Refused::NotInLevel { .. }));
    game.enter("mill_lane").unwrap();
    let refused = game.complete_by("celler").unwrap_err();
    assert_eq!(refused.to_string(), "`mill_lane` has no exit `celler`; did you mean `cellar`?");
    assert!(matches!(game.place(), Place::InLevel { .. }));
    game.complete().unwrap();
    game.enter("heather_rise").unwrap();
    let other = game.complete_by("cellar").unwrap_err();
    assert_eq!(other.to_string(), "`heather_rise` has no exit `cellar`");
}

/// A level that is named and locked is reported as locked; without a name the open ones are offered; and the end is the end.
#[test]
fn next_is_honest() {
    let gate = "[level.mill_lane]\n[level.heather_rise]\nopens = \"count(completed) >= 2\"\n\
        [level.tarn]\nopens = \"completed[mill_lane]\"\n[level.quarry]\nopens = \"completed[mill_lane]\"\n\
        [level.grotto]\nopens = \"true\"\nhidden = \"true\"\n";
    let mut game = Progress::fresh(&spec(gate, ""));
    assert_eq!(ended(&mut game, "mill_lane", None).next, Some(Next::Locked("heather_rise".into())));
    assert_eq!(ended(&mut game, "tarn", None).next, Some(Next::Choose(vec!["heather_rise".into(), "quarry".into()])));
    assert_eq!(ended(&mut game, "heather_rise", None).next, Some(Next::Choose(vec!["quarry".into()])));
    let last = ended(&mut game, "quarry", None);
    assert_eq!(last.next, Some(Next::End), "the hidden one is not offered");
    assert_eq!(game.new_run().unwrap().next, None, "only completing leads somewhere");
}

#[test]
fn a_new_cycle_takes_back_what_a_new_run_leaves() {
    let cycles = "lasts = \"run\"\ncleared_at = \"new_cycle\"";
    let rest = "[moments]\nnames = [\"new_day\"]\nnew_runs = [\"new_cycle\"]\n\
        [field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n\
        [field.cycle]\ntype = \"int\"\nlasts = \"profile\"\non.new_cycle = { add = 1 }";
    let mut game = Progress::fresh(&spec(cycles, rest));
    ended(&mut game, "mill_lane", None);
    game.write("score", &[], Value::Int(9)).unwrap();
    game.game_over().unwrap();
    game.new_run().unwrap();
    assert_eq!(game.value("score", &[]), Ok(Value::Int(0)));
    assert_eq!(game.value("completed", &["mill_lane"]), Ok(Value::Bool(true)));
    game.enter("heather_rise").unwrap();
    let refused = game.own_moment("new_cycle").unwrap_err().to_string();
    assert_eq!(refused, "new_cycle happens only outside a level, and the player is in heather_rise");
    game.abandon().unwrap();
    let cycle = game.own_moment("new_cycle").unwrap();
    assert_eq!((opened(&cycle), &cycle.place), (vec!["mill_lane"], &Place::Menu));
    assert_eq!(game.value("completed", &["mill_lane"]), Ok(Value::Bool(false)));
    assert!(matches!(game.enter("heather_rise"), Err(Refused::Locked { .. })));
    // One of the other moments goes on in a level.
    game.enter("mill_lane").unwrap();
    assert!(game.own_moment("new_day").is_ok());
}

#[test]
fn a_lock_tells_what_is_missing_as_a_tree() {
    let gate = format!(
        "{CELLAR}hidden = \"not lamp\"\n[level.tarn]\nopens = \"(stars >= 4 and completed[millrace]) or 3 < falls or pace == 2\"\n"
    );
    let rest = "[field.stars]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nlabel = \"stars\"\n\
        [field.falls]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nlabel = \"falls\"\n\
        [field.lamp]\ntype = \"bool\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nlabel = \"the lamp\"\n\
        [derived]\npace = \"stars * 2\"\n";
    let mut game = Progress::fresh(&spec(&gate, rest));
    let tarn = game.lock_reason("tarn").unwrap().unwrap();
    assert_eq!(
        tarn.to_string(),
        "(4 stars, 0 so far; something that is not found yet), or more than 3 falls, 0 so far, or needs pace == 2, has 0"
    );
    let LockReason::Any(ways) = &tarn else { panic!("{tarn:?}") };
    let LockReason::All(first) = &ways[0] else { panic!("{tarn:?}") };
    assert_eq!(first[1], LockReason::Hidden);
    let needs = |what: &str, label: &str, by, needed: i64| LockReason::Needs {
        what: what.into(),
        label: label.into(),
        by,
        needed: Value::Int(needed),
        has: Value::Int(0),
    };
    assert_eq!(first[0], needs("stars", "stars", Comparison::AtLeast, 4));
    assert_eq!(ways[1], needs("falls", "falls", Comparison::Above, 3));
    // What is found is named, and what holds is left out.
    game.write("lamp", &[], Value::Bool(true)).unwrap();
    game.write("stars", &[], Value::Int(4)).unwrap();
    assert!(game.lock_reason("tarn").unwrap().unwrap().to_string().starts_with("complete The Millrace, or "));
    let exit = game.lock_reason("millrace").unwrap().unwrap();
    assert_eq!(exit.to_string(), "leave Mill Lane by its exit `cellar`");
    let both = game.lock_reason("heather_rise").unwrap().unwrap();
    assert_eq!(both.to_string(), "complete Mill Lane, or leave Mill Lane by its exit `loft`");
    assert_eq!(game.lock_reason("mill_lane"), Ok(None));
    assert!(matches!(game.lock_reason("mil_lane"), Err(Refused::UnknownLevel { .. })));
}

#[test]
fn what_one_level_needs_is_not_told_as_a_total() {
    let gate = "[level.tarn]\nopens = \"stars[mill_lane] >= 3 and sum(stars) >= 4\"\n";
    let stars = "[field.stars]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nlabel = \"stars\"\n";
    let game = Progress::fresh(&spec(gate, stars));
    let lock = game.lock_reason("tarn").unwrap().unwrap();
    assert_eq!(lock.to_string(), "needs stars[mill_lane] >= 3, has 0; 4 stars, 0 so far");
}

#[test]
fn the_board_leaves_hidden_levels_out_and_tools_see_them() {
    let levels = format!("{CELLAR}hidden = \"count(completed) == 0\"\n");
    let mut game = Progress::fresh(&spec(&levels, ""));
    let shown = |rows: Vec<vestigum_core::BoardRow>| -> Vec<String> { rows.iter().map(ToString::to_string).collect() };
    assert_eq!(shown(game.board()).len(), 2);
    assert_eq!(shown(game.full_board())[2], "millrace       hidden, locked: leave Mill Lane by its exit `cellar`");
    ended(&mut game, "mill_lane", None);
    assert_eq!(game.board().len(), 3);
}

#[test]
fn what_cannot_be_is_told() {
    let cases = [
        (
            "[level.mill_lane]\nexits = { cellar = \"millrase\" }\n[level.millrace]\nopens = \"true\"",
            "",
            "the exit `cellar` names no level",
        ),
        ("[level.mill_lane]\nexits = [\"millrace\"]", "", "`exits` wants a table of names and levels"),
        ("[level.mill_lane]\nexits = { \"a b\" = \"heather_rise\" }", "", "cannot be the name of an exit"),
        ("[level.millrace]", "", "is not in `order` and does not say when it opens"),
        ("cleared_at = [\"new_run\"]", "", "`cleared_at` is said of levels that last a run"),
        ("lasts = \"run\"\ncleared_at = [\"death\"]", "", "no run begins at `death`"),
        (
            "lasts = \"run\"\ncleared_at = [\"new_cycel\"]",
            "[moments]\nnew_runs = [\"new_cycle\"]",
            "did you mean `new_cycle`?",
        ),
        ("", "[moments]\nnames = [\"new_day\"]\nnew_runs = [\"new_day\"]", "there is a moment `new_day` already"),
        (
            "[level.mill_lane]\nhidden = \"letters > 3\"",
            "[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"keep\"",
            "cannot read `letters`",
        ),
        ("assets = \"../maps\"", "", "`assets` wants a path that leads down"),
        ("assets = \"maps\"\n[level.mill_lane]\nasset = \"/etc/x.ron\"", "", "`asset` wants a path that leads down"),
        ("[level.mill_lane]\nasset = \"a.ron\"", "", "no folder is named in which this file is"),
        (
            "assets = \"maps\"\n[level.mill_lane]\nasset = \"a.ron\"\n[level.heather_rise]\nasset = \"a.ron\"",
            "",
            "has the same file as",
        ),
        (
            CELLAR,
            "[field.by]\ntype = \"text\"\nlasts = \"profile\"\non.travel = { set = \"exit\" }",
            "only its rules know by which one",
        ),
        (
            "",
            "[field.by]\ntype = \"text\"\nlasts = \"profile\"\non.complete = { set = \"exit\" }",
            "no level has an exit",
        ),
        (
            CELLAR,
            "[field.by]\ntype = \"bool\"\nlasts = \"profile\"\non.complete = { set = \"'celar' == exit\" }",
            "did you mean `cellar`?",
        ),
        ("[level.exit]\nopens = \"true\"", "", "`exit` is a word of the language"),
    ];
    for (levels, rest, wanted) in cases {
        let said = error(levels, rest);
        assert!(said.contains(wanted), "{levels}\n{rest}\n{said}");
    }
}
