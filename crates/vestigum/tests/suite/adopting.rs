//! Saves from before there was a spec: nothing of them is lost silently.

use std::fs;
use std::path::{Path, PathBuf};

use proptest::prelude::*;
use serde_json::{Value as Json, json};
use vestigum::adopting::{AdoptError, Adopted, Adoption};
use vestigum::image::Values;
use vestigum::{MemoryStore, Owner, Session, Spec, Store};

fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name)
}

fn fellpost() -> Spec {
    let read = |name: &str| fs::read_to_string(demo(name)).unwrap();
    Spec::from_toml_with_history(&read("fellpost/fellpost.toml"), &read("fellpost/fellpost.history.json")).unwrap()
}

fn adopted(spec: &Spec, name: &str) -> Adopted {
    let map = fs::read_to_string(demo(&format!("adopted/{name}.toml"))).unwrap();
    let old = fs::read(demo(&format!("adopted/{name}.json"))).unwrap();
    Adoption::from_toml(spec, &map).unwrap().adopt(&old, "ada").unwrap()
}

/// A game that goes on from an old save.
fn played(spec: &Spec, name: &str) -> Session {
    let adopted = adopted(spec, name);
    assert!(adopted.report.is_whole(), "{name}: {}", adopted.report);
    let store = MemoryStore::default();
    store.commit(0, &adopted.profile).unwrap();
    if let Some(device) = &adopted.device {
        store.commit(0, device).unwrap();
    }
    let game = Session::launch(spec, store, "ada").unwrap();
    assert!(game.load_report().is_clean(), "{name}: {}", game.load_report());
    game
}

#[track_caller]
fn has(game: &Session, name: &str, keys: &[&str], value: &str) {
    assert_eq!(game.value(name, keys).unwrap().to_string(), value, "{name}{keys:?}");
}

#[test]
fn a_save_with_an_object_for_each_level_goes_on() {
    let spec = fellpost();
    let game = played(&spec, "nested");
    has(&game, "xp", &[], "620");
    has(&game, "lanterns", &[], "2");
    has(&game, "best_letters", &["heather_rise"], "55");
    has(&game, "best_time", &["mill_lane"], "71250");
    has(&game, "best_time", &["tarn_steps"], "none");
    has(&game, "gate_open", &["mill_gate"], "true");
    has(&game, "volume", &[], "40");
    let open: Vec<String> = game.board().iter().filter(|row| row.open).map(|row| row.level.to_string()).collect();
    assert_eq!(open, ["mill_lane", "heather_rise", "tarn_steps"]);
    game.quit().unwrap();
}

#[test]
fn a_save_of_single_values_goes_on() {
    let spec = fellpost();
    let game = played(&spec, "flat");
    has(&game, "best_letters", &["mill_lane"], "120");
    has(&game, "completed", &["heather_rise"], "true");
    has(&game, "completed", &["tarn_steps"], "false");
    has(&game, "completed", &["millrace"], "false");
    has(&game, "stamps", &[], "30");
    has(&game, "volume", &[], "85");
    game.quit().unwrap();
}

#[test]
fn a_save_of_lists_goes_on() {
    let spec = fellpost();
    let game = played(&spec, "lists");
    has(&game, "best_letters", &["heather_rise"], "40");
    has(&game, "best_time", &["mill_lane"], "66000");
    has(&game, "best_time", &["tarn_steps"], "none");
    has(&game, "gate_open", &["upper_gate"], "false");
    has(&game, "gate_open", &["mill_gate"], "true");
    has(&game, "postmark", &[], "tarn");
    has(&game, "postcards", &[], "{'7QH1', '80K2'}");
    game.quit().unwrap();
}

#[test]
fn what_does_not_fit_is_told() {
    let map =
        "[take]\nxp = \"xp\"\n\"stars[*]\" = \"stars.*\"\nvolume = \"volume\"\npostmark = \"from\"\nfalls = \"falls\"";
    let old = json!({
        "xp": "many", "stars": { "mill_lane": 9, "moon": 1 }, "volume": 50, "from": "nowhere", "else": [1, {}, []]
    });
    let adopted = Adoption::from_toml(&fellpost(), map).unwrap().adopt(old.to_string().as_bytes(), "ada").unwrap();
    let report = adopted.report;
    assert!(!report.is_whole());
    assert_eq!(report.missing, [("falls".to_owned(), "falls".to_owned())]);
    assert!(report.refused[0].1.contains("no level is called `moon`"), "{:?}", report.refused);
    assert_eq!(report.left, ["else.0", "else.1", "else.2"]);
    let told = report.to_string();
    for part in ["dropped xp", "dropped postmark", "stars[mill_lane] was 9, outside its limits; it is 3 now"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert_eq!(adopted.progress.value("stars", &["mill_lane"]).unwrap().as_int(), 3);
}

#[test]
fn what_is_no_json_is_an_error_and_changes_nothing() {
    let adoption = Adoption::from_toml(&fellpost(), "[take]\nxp = \"xp\"").unwrap();
    let deep = "[".repeat(100_000);
    for bytes in [&b""[..], b"{", b"\xff", br#"{"xp": 1, "xp": 2}"#, br#"{"xp": nul}"#, deep.as_bytes()] {
        assert!(matches!(adoption.adopt(bytes, "ada"), Err(AdoptError::Json(_))), "{:?}", bytes.get(..20));
    }
    // Whole numbers as far as they go, and no further.
    let adopted = adoption.adopt(br#"{"xp": 1e300}"#, "ada").unwrap();
    assert_eq!((adopted.progress.value("xp", &[]).unwrap().as_int(), adopted.report.refused.len()), (0, 1));
}

#[test]
fn everything_that_is_wrong_with_a_map_is_said_with_its_place() {
    let wrong = [
        ("levt = 3", "did you mean `left`?"),
        ("[names.leve]\na = \"b\"", "did you mean `level`?"),
        ("[names.level]\nMill = \"mill_lan\"", "did you mean `mill_lane`?"),
        ("[take]\nxpp = \"a\"", "did you mean `xp`?"),
        ("[take]\nxp = 4", "wants a path"),
        ("[take]\nletters = \"x\"", "`letters` is of one visit"),
        ("[take]\nstars = \"x\"", "takes a level in brackets"),
        ("[take]\n\"stars[*\" = \"x.*\"", "a `]` is missing"),
        ("[take]\n\"stars[*]\" = \"x\"", "every entry would get the same value"),
        ("[take]\n\"stars[foo]\" = \"x\"", "there is no level `foo`"),
        ("[take]\nxp = \"a.*.b\"", "which of them is meant?"),
        ("[take]\nxp = { form = \"a\" }", "did you mean `from`?"),
        ("[take]\nxp = { from = \"a\", above = 3 }", "true or false"),
        ("[take]\n\"gate_open[*]\" = { from = \"a.*\", holds = \"*\" }", "either the path has a `*`"),
        ("[take]\n\"gate_open[mill_gate]\" = { from = \"a\", holds = \"*\" }", "here is no `*`"),
        ("[take]\nxp = \"a..b\"", "a part of the path is empty"),
        ("[take]\nxp = [\"a.b\", 3]", "a list of texts"),
        ("[take]\nxp = \"a", "this is not TOML"),
        ("left = \"a\"", "a list of paths"),
    ];
    for (map, message) in wrong {
        let errors = Adoption::from_toml(&fellpost(), map).map(|_| ()).unwrap_err();
        assert!(errors.to_string().contains(message), "{map}\n{errors}");
        assert!(errors.list().iter().all(|error| error.span.end <= map.len()), "{map}");
    }
}

fn any_json() -> impl Strategy<Value = Json> {
    let name = prop::sample::select(vec!["a", "b", "levels", "mill_lane", "Mill", "0", "best", "x.y", ""]);
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        any::<i64>().prop_map(Json::from),
        (-1e9..1e9f64).prop_map(Json::from),
        prop::sample::select(vec!["", "7", "true", "mill", "-1"]).prop_map(Json::from),
    ];
    leaf.prop_recursive(4, 40, 5, move |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(Json::from),
            prop::collection::btree_map(name.clone().prop_map(str::to_owned), inner, 0..5)
                .prop_map(|map| Json::Object(map.into_iter().collect())),
        ]
    })
}

/// Every value that has nothing in it, as the report names it.
fn leaves(json: &Json, at: &[String], all: &mut Vec<String>) {
    let below = |name: &str| [at, &[name.to_owned()]].concat();
    match json {
        Json::Object(map) if !map.is_empty() => map.iter().for_each(|(name, json)| leaves(json, &below(name), all)),
        Json::Array(items) if !items.is_empty() => {
            items.iter().enumerate().for_each(|(position, json)| leaves(json, &below(&position.to_string()), all));
        }
        _ if at.is_empty() => {}
        _ => all.push(at.join(".")),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// Each value of an old save is taken, refused, left by the map, or told as left: there is no fifth way. And what comes of it
    /// loads as it is.
    #[test]
    fn no_value_of_an_old_save_is_lost_silently(old in any_json()) {
        let map = r#"
            left = ["b.a"]
            [names.level]
            Mill = "mill_lane"
            [take]
            xp = "a"
            falls = { from = "b.best", times = 3, none = -1 }
            "best_letters[*]" = "levels.*.best"
            "stars[*]" = "levels.*"
            "completed[*]" = { from = "x", above = "position" }
            postmark = "a.0"
            postcards = "b.levels"
        "#;
        let spec = fellpost();
        let adopted = Adoption::from_toml(&spec, map).unwrap().adopt(old.to_string().as_bytes(), "ada").unwrap();
        let report = &adopted.report;
        let mut all = Vec::new();
        leaves(&old, &[], &mut all);
        for leaf in all {
            let inside = |path: &str| leaf == path || leaf.starts_with(&format!("{path}."));
            let known = report.taken.iter().any(|taken| inside(&taken.path))
                || report.refused.iter().any(|(path, _)| inside(path))
                || inside("b.a")
                || report.left.contains(&leaf);
            prop_assert!(known, "{leaf} of {old}\n{report}");
        }
        prop_assert_eq!(&adopted.profile.owner, &Owner::Profile("ada".into()));
        prop_assert!(adopted.profile.values != Values::default());
        let store = MemoryStore::default();
        store.commit(0, &adopted.profile).unwrap();
        let game = Session::launch(&spec, store, "ada").unwrap();
        prop_assert!(game.load_report().is_clean(), "{}", game.load_report());
        for (name, keys) in [("xp", &[][..]), ("falls", &[]), ("best_letters", &["mill_lane"])] {
            prop_assert_eq!(game.value(name, keys).unwrap(), adopted.progress.value(name, keys).unwrap());
        }
    }
}

fn small(fields: &str) -> Spec {
    let head = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\n[keys.kind]\nnames = [\"calm\", \"gale\"]\n";
    Spec::from_toml(&format!("{head}{fields}")).unwrap_or_else(|errors| panic!("{errors}"))
}

fn kept(name: &str, ty: &str, more: &str) -> String {
    format!("[field.{name}]\ntype = \"{ty}\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{more}\n")
}

fn taken(spec: &Spec, map: &str, old: &str) -> Adopted {
    let map = Adoption::from_toml(spec, map).unwrap_or_else(|errors| panic!("{errors}"));
    map.adopt(old.as_bytes(), "ada").unwrap_or_else(|error| panic!("{error}"))
}

/// Every way in which a value was lost under "everything of it is taken".
#[test]
fn what_is_not_taken_is_never_whole() {
    let spec = small(
        &(kept("best", "int", "per = \"level\"") + &kept("found", "bool", "per = \"kind\"") + &kept("xp", "int", "")),
    );
    // Two old names for one entry.
    let map = "[names.level]\nA = \"mill_lane\"\nB = \"mill_lane\"\n[take]\n\"best[*]\" = \"levels.*\"\n";
    let report = taken(&spec, map, r#"{"levels": {"A": 4, "B": 9}}"#).report;
    assert!(
        !report.is_whole() && report.refused[0].1.contains("best[mill_lane] has the value of levels.A already"),
        "{report}"
    );
    // Items of a list that nothing asks for, among them objects.
    let map = "[take]\n\"found[*]\" = { from = \"relics\", holds = \"*\" }\n";
    let adopted = taken(&spec, map, r#"{"relics": ["calm", "lamp", {"id": "gale"}]}"#);
    assert_eq!(adopted.report.left, ["relics.1", "relics.2.id"]);
    let by = "[take]\n\"found[*]\" = { from = \"relics\", holds = \"*\", by = \"id\" }\n";
    let adopted = taken(&spec, by, r#"{"relics": [{"id": "gale"}]}"#);
    assert!(
        adopted.report.is_whole() && adopted.progress.value("found", &["gale"]).unwrap().as_bool(),
        "{}",
        adopted.report
    );
    // A path that nobody wants and that is not there was misspelt.
    let report = taken(&spec, "left = [\"optoins\"]\n[take]\nxp = \"xp\"\n", r#"{"xp": 1, "options": 2}"#).report;
    assert_eq!((report.missing, report.left), (vec![("left".into(), "optoins".into())], vec!["options".into()]));
}

#[test]
fn numbers_of_old_saves_stay_exact() {
    let spec = small(&(kept("xp", "int", "") + &kept("time", "int", "optional = true")));
    let xp = |map: &str, old: &str| {
        let adopted = taken(&spec, map, old);
        (adopted.progress.value("xp", &[]).unwrap().as_int(), adopted.report.refused.len())
    };
    let plain = "[take]\nxp = \"xp\"\n";
    assert_eq!(xp(plain, r#"{"xp": "9007199254740993"}"#), (9_007_199_254_740_993, 0));
    assert_eq!(
        xp("[take]\nxp = { from = \"xp\", times = 1 }\n", r#"{"xp": 9007199254740993}"#),
        (9_007_199_254_740_993, 0)
    );
    for large in ["1e19", "18446744073709551615", "1e400"] {
        assert_eq!(xp(plain, &format!("{{\"xp\": {large}}}")), (0, 1), "{large}");
    }
    // A number that no field holds is a matter of its own place, and a byte order mark of none.
    let map = "left = [\"seed\", \"odd\"]\n[take]\nxp = \"xp\"\n";
    assert_eq!(xp(map, "\u{feff}{\"xp\": 3, \"seed\": 18446744073709551615, \"odd\": [1e400]}"), (3, 0));
    let none = "[take]\nxp = \"xp\"\ntime = { from = \"time\", none = -1 }\n";
    let adopted = taken(&spec, none, r#"{"xp": 1, "time": -1.0}"#);
    assert!(!adopted.progress.value("time", &[]).unwrap().is_filled() && adopted.report.is_whole());
    let many = format!("{{\"xp\": 1, \"runs\": [{}]}}", vec!["{\"a\":{}}"; 500_000].join(","));
    assert_eq!(taken(&spec, "left = [\"runs\"]\n[take]\nxp = \"xp\"\n", &many).report.taken.len(), 1);
}

#[test]
fn a_map_says_more_than_paths() {
    let spec = small(
        &([
            kept("best", "int", "per = [\"level\", \"kind\"]"),
            kept("lamp", "int", ""),
            kept("bag", "map of int", ""),
            kept("played", "int", ""),
            "[struct.hero]\nname = \"text\"\nrank = \"int\"\n[struct.walk]\nletters = \"int\"\nwho = \"text\"\n".into(),
            kept("hero", "hero", ""),
            kept("walks", "ranking of walk", "by = [\"highest letters\"]\nmax_len = 2"),
            kept("stars", "int", "per = \"level\"")
                .replace("after_failure = \"keep\"", "on.complete = { max = \"1\" }"),
            kept("top", "int", "per = \"level\""),
            "[table.grades]\nsteps = [10, 20]\n".into(),
        ]
        .concat()),
    );
    let map = r#"
        [take]
        "best[*, *]" = "scores.*.*"
        lamp = "relics[id = \"LAMP\"].lvl"
        bag = { from = "items", by = "id", each = "count" }
        played = { from = { h = "time.hours", m = "time.minutes" }, with = "h * 3600 + m * 60" }
        "hero.name" = "player.name"
        "hero.rank" = "player.rank"
        walks = { from = "runs", members = { letters = "score", who = "by" } }
        "completed[*]" = "done.*"
        "top[*]" = "top.*"
        [make]
        "stars[*]" = "grade(top, grades)"
    "#;
    let old = r#"{
        "scores": {"mill_lane": {"calm": 3, "gale": 4}, "tarn_steps": {"calm": 5}},
        "relics": [{"id": "ROPE", "lvl": 1}, {"id": "LAMP", "lvl": 7}],
        "items": [{"id": "stamp", "count": 3}, {"id": "string", "count": 5}],
        "time": {"hours": 1.5, "minutes": 2},
        "player": {"name": "Ada", "rank": 4},
        "runs": [{"score": 5, "by": "ada"}, {"score": 9, "by": "bo", "at": 3}, {"score": 7, "by": "cy"}],
        "done": {"mill_lane": true}, "top": {"mill_lane": 15, "tarn_steps": 25}
    }"#;
    let adopted = taken(&spec, map, old);
    let shown = |name: &str, keys: &[&str]| adopted.progress.value(name, keys).unwrap().to_string();
    assert_eq!(shown("best", &["mill_lane", "gale"]), "4");
    assert_eq!(shown("lamp", &[]), "7");
    assert_eq!(shown("bag", &[]), "{stamp: 3, string: 5}");
    assert_eq!(shown("played", &[]), "5520");
    assert_eq!(shown("hero", &[]), "{ name = 'Ada', rank = 4 }");
    assert_eq!(shown("walks", &[]), "[{ letters = 9, who = 'bo' }, { letters = 7, who = 'cy' }]");
    assert_eq!((shown("stars", &["mill_lane"]), shown("stars", &["tarn_steps"])), ("1".into(), "2".into()));
    // What is taken of an item is taken, and the rest of it is reported.
    assert_eq!(adopted.report.left, ["relics.0.id", "relics.0.lvl", "relics.1.id", "runs.1.at"]);
    let without = map.split("[make]").next().unwrap();
    assert_eq!(taken(&spec, without, old).report.at_rules, ["stars".into()]);
    for (wrong, said) in [
        ("[take]\nbag = { from = \"a\", with = \"value\" }", "an expression makes a number or a bool"),
        ("[take]\nlamp = { from = { a = \"a\" } }", "add `with`"),
        ("[take]\nlamp = { from = \"a\", with = \"xp + 1\" }", "xp"),
        ("[take]\n\"hero.nick\" = \"a\"", "has no member `nick`"),
        ("[take]\n\"best[*, *]\" = \"a.*\"", "the path has 1 `*`, and `best` has 2"),
        ("[take]\nlamp = \"a[id]\"", "expected an item"),
        ("[make]\n\"best[*, *]\" = \"1\"", "one axis at most"),
        ("[make]\n\"stars[*]\" = 3", "wants"),
    ] {
        let told = Adoption::from_toml(&spec, wrong).map(drop).unwrap_err().to_string();
        assert!(told.contains(said), "{wrong}: {told}");
    }
}
