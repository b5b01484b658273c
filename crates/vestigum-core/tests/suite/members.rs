//! Members of structs with limits of their own, containers that expressions ask, parts that play writes, and derived values
//! that are kept per level or key.

use vestigum_core::{Edit, Image, Part, Progress, Spec, Value};

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\", \"glass_lake\"]\n";
const WORLD: &str = r#"
[struct.hound]
name = { type = "text", max_len = 4 }
level = { type = "int", default = 1, range = [1, 99] }
health = { type = "int", default = 10, range = [0, 10] }
count = "int"
kind = { type = "choice", of = ["shore", "deep"], default = "deep" }
tricks = { type = "list of text", max_len = 5 }
[struct.sled]
lead = "hound"
sum = "float"
[keys.weapon]
names = ["staff", "sling"]
[field.team]
type = "list of hound"
lasts = "run"
after_failure = "entry"
[field.kennel]
type = "map of hound"
lasts = "profile"
after_failure = "keep"
[field.sled]
type = "sled"
lasts = "run"
after_failure = "keep"
on.complete = { set = "{ lead = { level = 400, name = 'Heather' } }" }
[field.packs]
type = "list of hound"
per = "level"
lasts = "profile"
after_failure = "keep"
[field.days]
type = "list of int"
lasts = "run"
after_failure = "keep"
[field.best]
type = "int"
per = "level"
lasts = "profile"
after_failure = "keep"
[field.wear]
type = "int"
per = "weapon"
lasts = "run"
after_failure = "keep"
[table.medals]
steps = [10, 20, 30]
"#;

fn spec(more: &str) -> Spec {
    Spec::from_named_toml("spec.toml", &format!("{HEAD}{WORLD}{more}")).unwrap_or_else(|errors| panic!("{errors}"))
}

fn hound(name: &str, level: i64) -> Value {
    Value::Map([("name".into(), Value::text(name)), ("level".into(), level.into())].into_iter().collect())
}

/// A hound as a document would say it, with what is left out at its default.
fn whole(level: i64, health: i64) -> Value {
    let members = [
        ("name", Value::text("Rook")),
        ("level", level.into()),
        ("health", health.into()),
        ("count", 0.into()),
        ("kind", "deep".into()),
        ("tricks", Value::List(Vec::new().into())),
    ];
    Value::Map(members.into_iter().map(|(name, value)| (name.into(), value)).collect())
}

fn shown(game: &Progress, expression: &str) -> String {
    game.derived(expression).map_or_else(|error| error.to_string(), |value| value.to_string())
}

#[test]
fn a_struct_begins_with_the_defaults_of_its_members_and_keeps_them_in_their_limits() {
    let spec = spec("");
    let mut game = Progress::fresh(&spec);
    let fresh = "{ lead = { name = '', level = 1, health = 10, count = 0, kind = deep, tricks = [] }, sum = 0.0 }";
    assert_eq!(game.value("sled", &[]).unwrap().to_string(), fresh);
    assert!(game.insert("team", &[], hound("Rook", 3)).is_err(), "a struct is written whole");
    assert!(game.insert("team", &[], whole(120, -3)).unwrap().clamped());
    assert_eq!(
        game.value("team", &[]).unwrap().to_string(),
        "[{ name = 'Rook', level = 99, health = 0, count = 0, kind = deep, tricks = [] }]"
    );
    // A rule brings what it writes inside as well.
    game.enter("mill_lane").unwrap();
    game.complete().unwrap();
    let lead = "{ name = 'Heat', level = 99, health = 10, count = 0, kind = deep, tricks = [] }";
    assert_eq!(game.value("sled", &[]).unwrap().to_string(), format!("{{ lead = {lead}, sum = 0.0 }}"));
}

#[test]
fn a_saved_struct_outside_the_limits_of_a_member_is_brought_inside_and_one_that_lacks_a_member_has_its_default() {
    let spec = spec("");
    let mut game = Progress::fresh(&spec);
    game.insert("team", &[], whole(5, 5)).unwrap();
    let saved = game.suspend().profile_image("ada").to_json();
    let saved = String::from_utf8(saved).unwrap();
    for (from, to, expected) in [
        ("\"level\":5", "\"level\":500", "level = 99, health = 5, count = 0, kind = deep"),
        ("\"kind\":\"deep\",", "", "level = 5, health = 5, count = 0, kind = deep"),
        ("\"kind\":\"deep\"", "\"kind\":\"bog\"", "level = 5, health = 5, count = 0, kind = deep"),
    ] {
        let digest = saved.find("\"digest\"").map(|at| saved[at..].find(',').map_or(at, |end| at + end));
        assert!(digest.is_some() && saved.contains(from), "{saved}");
        let image = Image { ..Image::from_json(saved.as_bytes()).unwrap() };
        let values = serde_json::to_string(&image.values).unwrap().replace(from, to);
        let image = Image { values: serde_json::from_str(&values).unwrap(), ..image };
        let loaded = Progress::load(&spec, Some(&image), None).unwrap();
        let team = loaded.progress.value("team", &[]).unwrap().to_string();
        assert!(team.contains(expected), "{from} → {to}: {team}");
    }
}

#[test]
fn expressions_ask_positions_and_all_items_of_a_container() {
    let spec = spec(
        "[derived]\nfirst = \"team[1].level\"\nthird = \"team[3].level\"\nat_days = \"team[days[1]].health\"\n\
         sum_of = \"sum(team.health * 2 - team.level)\"\nmost = \"highest(team.level)\"\nleast = \"lowest(team.health)\"\n\
         hurt = \"count(team.health < 10)\"\nfit = \"all(team.health > 0)\"\nlame = \"any(team.health == 0)\"\n\
         deep = \"count(team.kind == 'deep' and team.level > 2)\"\nin_map = \"sum(kennel.level)\"\n\
         tricky = \"any(len(team.tricks) > 1)\"\nfetches = \"any(has(team.tricks, 'fetch'))\"\n\
         here = \"packs[1].level\"\nthere = \"packs[glass_lake][1].level + sum(packs[glass_lake].level)\"\n\
         days_sum = \"sum(days)\"\nlate = \"any(days > 8)\"\nlead = \"sled.lead.level\"\nbest_kind = \"highest(team.kind)\"\n",
    );
    let mut game = Progress::fresh(&spec);
    let nothing = [("first", "1"), ("sum_of", "0"), ("most", "0"), ("fit", "true"), ("lame", "false"), ("hurt", "0")];
    nothing.iter().for_each(|(name, value)| assert_eq!(shown(&game, name), *value, "{name} of nothing"));
    for (level, health) in [(4, 0), (2, 7)] {
        game.insert("team", &[], whole(level, health)).unwrap();
        game.insert_at("kennel", &[], &format!("post {level}"), whole(level, health)).unwrap();
        game.insert("packs", &["glass_lake"], whole(level * 10, 1)).unwrap();
    }
    let tricks = [Part::Item(2), Part::member("tricks")];
    game.edit("team", &[], &tricks, Edit::Insert("fetch".into())).unwrap();
    game.write("days", &[], Value::List(vec![2.into(), 9.into()].into())).unwrap();
    game.enter_any("glass_lake", None).unwrap();
    let expected = [
        ("first", "4"),
        ("third", "1"),
        ("at_days", "7"),
        ("sum_of", "8"),
        ("most", "4"),
        ("least", "0"),
        ("hurt", "2"),
        ("fit", "false"),
        ("lame", "true"),
        ("deep", "1"),
        ("in_map", "6"),
        ("tricky", "false"),
        ("fetches", "true"),
        ("here", "40"),
        ("there", "100"),
        ("days_sum", "11"),
        ("late", "true"),
        ("lead", "1"),
        ("best_kind", "deep"),
    ];
    expected.iter().for_each(|(name, value)| assert_eq!(shown(&game, name), *value, "{name}"));
}

#[test]
fn parts_are_edited_where_they_are_and_what_is_not_there_is_not_made() {
    let spec = spec("");
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    game.insert("team", &[], whole(4, 5)).unwrap();
    game.insert_at("kennel", &[], "ring", whole(1, 1)).unwrap();
    let of = |path: &[Part], game: &Progress, field: &str| game.value(field, &[]).unwrap().part(path).cloned();
    let health = [Part::Item(1), Part::member("health")];
    assert!(!game.edit("team", &[], &health, Edit::Add(Value::Int(-2))).unwrap().clamped());
    assert_eq!(of(&health, &game, "team"), Some(Value::Int(3)));
    assert!(game.edit("team", &[], &health, Edit::Add(Value::Int(90))).unwrap().clamped());
    let before = game.value("team", &[]).unwrap();
    assert!(game.edit("team", &[], &health, Edit::Lower(Value::Int(6))).unwrap().beaten());
    assert_eq!(before.difference(&game.value("team", &[]).unwrap()), "[1] health 10 → 6");
    assert!(!game.edit("team", &[], &health, Edit::Lower(Value::Int(6))).unwrap().beaten());
    assert!(!game.edit("team", &[], &health, Edit::Raise(Value::Int(2))).unwrap().beaten());
    assert_eq!(of(&health, &game, "team"), Some(Value::Int(6)));
    let in_ring = [Part::entry("ring"), Part::member("kind")];
    game.edit("kennel", &[], &in_ring, Edit::Set("shore".into())).unwrap();
    assert_eq!(of(&in_ring, &game, "kennel").unwrap().to_string(), "shore");
    let cases: [(&[Part], Edit, &str); 7] = [
        (&[Part::Item(2), Part::member("health")], Edit::Set(1.into()), "there is no `team[2].health`: "),
        (&[Part::Item(0)], Edit::Set(1.into()), "positions count from 1"),
        (&[Part::Item(1), Part::member("helth")], Edit::Set(1.into()), "it has: name, level, health"),
        (&[Part::entry("ring")], Edit::Set(1.into()), "is a part of a map, and this is of type list of hound"),
        (&[Part::Item(1), Part::member("kind")], Edit::Add(1.into()), "which cannot be added to"),
        (&[Part::Item(1), Part::member("kind")], Edit::Set("bog".into()), "`team[1].kind` is of type choice"),
        (&[Part::Item(1), Part::member("name")], Edit::Raise("a".into()), "which cannot be raised"),
    ];
    let before = game.value("team", &[]).unwrap();
    for (path, edit, expected) in cases {
        let said = game.edit("team", &[], path, edit).unwrap_err().to_string();
        assert!(said.contains(expected), "`{expected}` is not said: {said}");
    }
    assert_eq!(game.value("team", &[]).unwrap(), before, "what is refused changes nothing");
    // What a timeline keeps of a change tells the same as the whole: an item behind others, too.
    game.insert("team", &[], whole(2, 9)).unwrap();
    let before = game.value("team", &[]).unwrap();
    game.edit("team", &[], &[Part::Item(2), Part::member("health")], Edit::Set(3.into())).unwrap();
    let after = game.value("team", &[]).unwrap();
    let (went, came) = before.apart(&after);
    assert_eq!(
        (before.difference(&after), went.difference(&came)),
        ("[2] health 9 → 3".into(), "[2] health 9 → 3".into())
    );
    // The mark holds the team as it was at the entry.
    game.death().unwrap();
    assert!(game.value("team", &[]).unwrap().is_empty());
}

#[test]
fn derived_values_are_kept_per_level_and_key() {
    let spec = spec(
        "[level.glass_lake]\nsteps.medals = [1, 2, 3]\nopens = \"count(gold) >= 1\"\n[derived]\n\
         medal = { per = \"level\", value = \"grade(best, medals)\" }\n\
         gold = { per = \"level\", value = \"medal >= 3 and level_index < 9\" }\n\
         medals_in_all = \"sum(medal)\"\nmost = \"highest(medal)\"\nevery = \"all(gold)\"\nsome = \"any(gold)\"\n\
         size_of = \"size(medal)\"\nof_lake = \"medal[glass_lake]\"\nopen_medals = \"highest(open_medal)\"\n\
         open_medal = { per = \"level\", value = \"if(open(level), medal[level], 0)\" }\n\
         worn = { per = \"weapon\", value = \"wear > 5\" }\nany_worn = \"any(worn)\"\nstaff_worn = \"worn[staff]\"\n",
    );
    let mut game = Progress::fresh(&spec);
    game.write("best", &["mill_lane"], 34.into()).unwrap();
    game.write("best", &["glass_lake"], 2.into()).unwrap();
    game.write("wear", &["sling"], 6.into()).unwrap();
    let expected = [
        ("medals_in_all", "5"),
        ("most", "3"),
        ("every", "false"),
        ("some", "true"),
        ("size_of", "3"),
        ("of_lake", "2"),
        ("open_medals", "3"),
        ("any_worn", "true"),
        ("staff_worn", "false"),
    ];
    expected.iter().for_each(|(name, value)| assert_eq!(shown(&game, name), *value, "{name}"));
    assert_eq!(game.derived_of("medal", "glass_lake"), Ok(2.into()));
    assert_eq!(game.derived_of("worn", "sling"), Ok(true.into()));
    assert!(game.derived_of("medal", "glas_lake").unwrap_err().to_string().contains("did you mean `glass_lake`?"));
    assert!(game.derived_of("most", "glass_lake").unwrap_err().to_string().contains("takes no key"));
    assert!(game.derived("medal").unwrap_err().to_string().contains("name one, as in `medal[mill_lane]`"));
    assert!(game.derived("worn").unwrap_err().to_string().contains("name one, as in `worn[staff]`"));
    game.enter("mill_lane").unwrap();
    assert_eq!(game.derived("medal"), Ok(3.into()), "that of the level in which play stands");
    let board = game.board();
    let on_board: Vec<String> = board[0].values.iter().skip(2).map(|(name, value)| format!("{name} {value}")).collect();
    assert_eq!(on_board, ["medal 3", "gold true", "open_medal 3"]);
    assert_eq!(spec.derived_values().count(), 13, "one for each declaration");
    assert_eq!(Spec::from_toml(&spec.to_toml()).unwrap().to_toml(), spec.to_toml());
}

#[test]
fn what_cannot_be_said_of_members_items_and_keys_has_its_sentence() {
    let cases = [
        ("[struct.a]\nb = 3", "`b` wants a type, or a table with a `type`"),
        ("[struct.a]\nb = { default = 3 }", "`b` has no type"),
        ("[struct.a]\nb = { type = \"int\", lasts = \"run\" }", "a member has no key `lasts`"),
        ("[struct.a]\nb = { type = \"int\", range = [3, 5] }", "add `default = 3`"),
        ("[struct.a]\nb = { type = \"text\", range = [3, 5] }", "only numbers have a range"),
        ("[struct.a]\nb = { type = \"int\", range = [3, 5], default = 9 }", "the default lies outside these limits"),
        ("[struct.a]\nb = { type = \"choice\" }", "`b` does not say what can be chosen"),
        ("[struct.a]\nb = { type = \"bytes\", default = \"a\" }", "this member has no default"),
        ("[derived]\nd = \"team.health\"", "`team` is a list, and each of its items has its own `health`"),
        ("[derived]\nd = \"kennel.health\"", "`kennel['ring'].health` is that of one entry"),
        ("[derived]\nd = \"team['a']\"", "an int is wanted here, and this is a text"),
        ("[derived]\nd = \"team[1, 2]\"", "a list takes one position"),
        ("[derived]\nd = \"team[0].level\"", "positions count from 1"),
        ("[derived]\nd = \"any(best > 1)\"", "and none is named here"),
        ("[derived]\nd = \"any(best)\"", "`any` asks what is true or false, and `best` is neither"),
        ("[derived]\nd = \"any(team.health)\"", "a bool is wanted here, and this is an int"),
        ("[derived]\nd = \"sum(team.name)\"", "a number of each item is wanted here, and this is a text"),
        ("[derived]\nd = \"size(team.name)\"", "`len(team)` tells how many items there are"),
        ("[derived]\nd = \"count(team.health > 0 and days > 3)\"", "`days` is a container as well as `team`"),
        ("[derived]\nd = { per = \"level\" }", "`d` does not say what it is"),
        ("[derived]\nd = { per = \"levle\", value = \"1\" }", "did you mean `level`?"),
        ("[derived]\nd = { per = \"checkpoint\", value = \"1\" }", "no derived value is kept per checkpoint"),
        ("[derived]\nd = { per = \"weapon\", value = \"wear\" }\ne = \"d\"", "`d` has a value for each weapon"),
        ("[derived]\nd = { per = \"weapon\", value = \"best\" }", "`best` has a value for each level"),
        ("[derived]\nd = { per = \"level\", value = \"checkpoint\" }", "`checkpoint` is not the same for a key"),
        ("[derived]\nd = \"best\"\ne = { per = \"level\", value = \"d\" }", "give `d` a value for each level as well"),
        ("[derived]\nd = { per = \"level\", value = \"best\" }\ne = \"d[mil_lane]\"", "no level is called `mil_lane`"),
        ("[field.any]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"", "is a word of the language"),
    ];
    for (more, expected) in cases {
        let shown = match Spec::from_toml(&format!("{HEAD}{WORLD}{more}\n")) {
            Ok(_) => panic!("this has no error:\n{more}"),
            Err(errors) => errors.to_string(),
        };
        assert!(shown.contains(expected), "`{expected}` is not said of {more}:\n{shown}");
    }
}
