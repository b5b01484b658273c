//! What names mean where there is more than one: levels that players make, lists, names of open key sets.

use vestigum_core::{Edit, History, Part, Progress, Reset, Spec, Value};

fn game(text: &str) -> Progress {
    let head = "[game]\nid = \"fellpost\"\n";
    Progress::fresh(&Spec::from_toml(&format!("{head}{text}")).unwrap_or_else(|errors| panic!("{errors}")))
}

fn derived(game: &Progress, name: &str) -> i64 {
    game.derived(name).unwrap().as_int()
}

/// Derived values of levels that are not made counted, though the fields that they read do not.
#[test]
fn functions_over_a_derived_value_leave_out_levels_that_are_not_made() {
    let mut game = game(
        "[levels]\norder = [\"mill_lane\"]\nmade = { max = 3 }\n[field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
         [derived]\nleft = { value = \"5 - best\", per = \"level\" }\nnone = { value = \"best == 0\", per = \"level\" }\n\
         how_many = \"size(left)\"\nall_left = \"sum(left)\"\nlowest_left = \"lowest(left)\"\nunplayed = \"count(none)\"\nhighest_best = \"highest(left)\"\n",
    );
    let all = |game: &Progress| {
        ["how_many", "all_left", "lowest_left", "unplayed", "highest_best"].map(|name| derived(game, name))
    };
    game.write("best", &["mill_lane"], Value::Int(2)).unwrap();
    assert_eq!(all(&game), [1, 3, 3, 0, 3]);
    let made = game.make_level().unwrap();
    assert_eq!(all(&game), [2, 8, 3, 1, 5]);
    game.remove_level(&made).unwrap();
    assert_eq!(all(&game), [1, 3, 3, 0, 3]);
}

/// A level that an exit leads to stayed open at its reset, whether somebody had come by it or not.
#[test]
fn a_reset_level_stays_open_only_where_an_exit_may_have_been_taken() {
    let mut game = game(
        "[levels]\norder = [\"mill_lane\", \"millrace\"]\n[level.mill_lane]\nexits = { cellar = \"millrace\" }\n[level.millrace]\nopens = \"letters >= 3\"\n\
         [field.letters]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n",
    );
    let reset = |game: &mut Progress| game.reset(&Reset::Level("millrace".into())).map(drop).unwrap();
    game.write("letters", &[], Value::Int(3)).unwrap();
    game.write("letters", &[], Value::Int(0)).unwrap();
    assert!(game.is_open(1), "what is open stays open");
    reset(&mut game);
    assert!(!game.is_open(1), "nobody took the exit");
    game.enter("mill_lane").unwrap();
    game.complete_by("cellar").unwrap();
    reset(&mut game);
    assert!(game.is_open(1), "somebody did");
}

#[test]
fn a_position_is_read_in_a_derived_value_per_key_and_bools_are_counted() {
    let mut game = game(
        "[levels]\norder = [\"mill_lane\"]\n[keys.gate]\nnames = [\"north\", \"south\"]\n[field.bolts]\ntype = \"list of int\"\nper = \"gate\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
         [field.lit]\ntype = \"list of bool\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
         [derived]\nfirst_bolt = { value = \"bolts[1]\", per = \"gate\" }\nfirst = \"first_bolt[north]\"\nburning = \"count(lit)\"\n",
    );
    game.edit("bolts", &["north"], &[], Edit::Insert(Value::Int(7))).unwrap();
    for lit in [true, false, true] {
        game.edit("lit", &[], &[], Edit::Insert(Value::Bool(lit))).unwrap();
    }
    assert_eq!((derived(&game, "first"), derived(&game, "burning")), (7, 2));
}

#[test]
fn a_write_of_a_member_makes_the_name_of_an_open_set() {
    let mut game = game(
        "[levels]\norder = [\"mill_lane\"]\n[keys.pal]\nopen = true\nmax = 2\n[struct.being]\nlevel = \"int\"\nname = \"text\"\n\
         [field.team]\ntype = \"being\"\nper = \"pal\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
         [field.guest]\ntype = \"being\"\noptional = true\nlasts = \"profile\"\nafter_failure = \"keep\"\n",
    );
    let level = [Part::Member("level".into())];
    game.edit("team", &["Bo"], &level, Edit::Add(Value::Int(3))).unwrap();
    assert_eq!(game.value("team", &["Bo"]).unwrap().to_string(), "{ level = 3, name = '' }");
    let refused = game.edit("guest", &[], &level, Edit::Add(Value::Int(3))).unwrap_err().to_string();
    assert!(refused.contains("`guest` has no value yet: write a whole one first"), "{refused}");
}

/// Two updates that change defaults: the first wrote an entry for a level that nobody had made, and the second took the save for one of a
/// build that was never frozen, and filled nothing.
#[test]
fn a_changed_default_makes_no_entry_of_a_level_that_is_not_made() {
    let text = |version: u32, a: &str, b: &str| {
        format!(
            "[game]\nid = \"fellpost\"\nversion = {version}\n[levels]\norder = [\"mill_lane\"]\nmade = {{ max = 1 }}\n\
             [field.a]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{a}\
             [field.b]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{b}"
        )
    };
    let first = Spec::from_toml(&text(1, "", "")).unwrap();
    let history = History::default().freeze(&first).unwrap().history;
    let second = text(2, "default = 3\n", "");
    let second = Spec::from_named_toml_with_history("spec.toml", &second, history.clone()).unwrap();
    let history = history.freeze(&second).unwrap().history;
    let third = text(3, "default = 3\n", "default = 5\n");
    let third = Spec::from_named_toml_with_history("spec.toml", &third, history).unwrap();
    let saved = Progress::fresh(&first).suspend().profile_image("player");
    let loaded = Progress::load(&third, Some(&saved), None).unwrap();
    assert!(!loaded.report.unfrozen && loaded.report.dropped.is_empty(), "{}", loaded.report);
    assert_eq!(["a", "b"].map(|name| loaded.progress.value(name, &["mill_lane"]).unwrap().as_int()), [0, 0]);
    let between = second.upgrade(2, Some(&saved), None).unwrap().profile.unwrap();
    assert!(!format!("{:?}", between.values).contains("made_1"), "{:?}", between.values);
}
