//! Types, axes and tables: what specs say about them, and what values may be.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use vestigum_core::{Image, Progress, Spec, Value};

const WORLD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford", "stile"]
[keys.weather]
names = ["fair", "storm"]
current = "weather_now"
[keys.stone]
open = true
max = 2
[struct.parcel]
weight = "int"
fragile = "bool"
[struct.cart]
parcels = "list of parcel"
at = "vec2"
[table.ranks]
steps = [10, 30]
[field.weather_now]
type = "choice"
of = ["fair", "storm"]
lasts = "run"
after_failure = "keep"
[field.cart]
type = "cart"
lasts = "profile"
after_failure = "entry"
[field.satchel]
type = "map of parcel"
max_len = 3
lasts = "profile"
after_failure = "entry"
[field.tools]
type = "set of text"
max_len = 8
lasts = "profile"
after_failure = "keep"
[field.blob]
type = "bytes"
max_len = 4
lasts = "profile"
after_failure = "keep"
[field.best]
type = "int"
per = ["level", "weather"]
lasts = "profile"
after_failure = "keep"
[field.reached]
type = "bool"
per = "checkpoint"
lasts = "profile"
on.checkpoint = { set = true }
[field.painted]
type = "int"
per = "stone"
lasts = "profile"
after_failure = "keep"
"#;

#[derive(Debug, Default, PartialEq, Serialize, Deserialize)]
struct Parcel {
    weight: i64,
    fragile: bool,
}

#[derive(Debug, Default, PartialEq, Serialize, Deserialize)]
struct Cart {
    parcels: Vec<Parcel>,
    at: (f64, f64),
}

fn world() -> (Spec, Progress) {
    let spec = Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"));
    let game = Progress::fresh(&spec);
    (spec, game)
}

fn parcel() -> Value {
    let members = [("weight".into(), Value::Int(0)), ("fragile".into(), Value::Bool(false))];
    Value::Map(BTreeMap::from(members).into())
}

fn reloaded(spec: &Spec, game: &Progress) -> Progress {
    let image = Image::from_json(&game.suspend().profile_image("ada").to_json()).unwrap();
    let launched = Progress::launch(spec, Some(&image), None).unwrap();
    assert!(launched.report.is_clean(), "{}", launched.report);
    launched.progress
}

#[test]
fn structs_are_rust_structs_and_come_back_from_an_image() {
    let (spec, mut game) = world();
    let cart = Cart { parcels: vec![Parcel { weight: 3, fragile: true }], at: (1.0, -2.5) };
    game.write_from("cart", &[], &cart).unwrap();
    let satchel = BTreeMap::from([("rin".to_owned(), Parcel { weight: 1, fragile: true })]);
    game.write_from("satchel", &[], &satchel).unwrap();
    let game = reloaded(&spec, &game);
    assert_eq!(game.read_as::<Cart>("cart", &[]), Ok(cart));
    assert_eq!(game.read_as::<BTreeMap<String, Parcel>>("satchel", &[]), Ok(satchel));
}

#[test]
fn a_rust_value_of_another_shape_is_refused_whole() {
    let (_, mut game) = world();
    let wrong = game.write_from("cart", &[], &serde_json::json!({ "parcels": [{ "weight": "heavy" }], "wheels": 4 }));
    let message = wrong.unwrap_err().to_string();
    assert!(message.contains("cart.wheels: a cart has no such member"), "{message}");
    assert!(message.contains("weight: it is a text, and the field is of type int"), "{message}");
    assert!(
        message.contains("cart.parcels, item 1.fragile: it is left out, and a parcel is written whole"),
        "{message}"
    );
    assert!(message.contains("cart.at: it is left out"), "{message}");
    // A whole value of this crate is held to the same.
    let light = Value::Map(BTreeMap::from([("weight".into(), Value::Int(1))]).into());
    let short = game.insert_at("satchel", &[], "a", light).unwrap_err().to_string();
    assert!(short.contains("satchel.fragile: it is left out, and a parcel is written whole"), "{short}");
    let Some(Value::Struct(ty, _)) = Some(game.value("cart", &[]).unwrap()) else { panic!("it is a struct") };
    assert!(game.write("cart", &[], Value::Struct(ty, Vec::new().into())).is_err(), "a struct without its members");
    assert_eq!(game.read_as::<Cart>("cart", &[]), Ok(Cart::default()));
    assert!(game.read_as::<Vec<i64>>("cart", &[]).unwrap_err().to_string().contains("do not fit"));
}

#[test]
fn limits_hold_in_containers_too() {
    let (_, mut game) = world();
    let written = game.insert("tools", &[], "a rope of twelve fathoms".into()).unwrap();
    assert!(written.clamped());
    assert_eq!(game.value("tools", &[]).unwrap().to_string(), "{'a rope o'}");
    for key in ["a", "b", "c", "d"] {
        game.insert_at("satchel", &[], key, parcel()).unwrap();
    }
    let keys = game.value("satchel", &[]).unwrap();
    assert!(keys.len() == 3 && keys.entry("a").is_some() && keys.entry("d").is_none(), "what is there stays: {keys}");
    assert!(!game.insert_at("satchel", &[], "a", parcel()).unwrap().clamped());
    assert!(game.write("blob", &[], Value::bytes(*b"12345")).unwrap().clamped());
    assert_eq!(game.value("blob", &[]).unwrap().as_bytes(), b"1234");
}

#[test]
fn unkeyed_entries_mean_the_place_and_the_current_key() {
    let (spec, mut game) = world();
    let which = game.write("best", &[], 1.into()).unwrap_err().to_string();
    assert_eq!(which, "`best` has a value for each level; name one, as in `best[mill_lane]`");
    game.enter("mill_lane").unwrap();
    game.write("best", &[], 5.into()).unwrap();
    game.write("weather_now", &[], "storm".into()).unwrap();
    game.write("best", &[], 7.into()).unwrap();
    game.checkpoint("stile").unwrap();
    let game = reloaded(&spec, &game);
    let best = |weather| game.value("best", &["mill_lane", weather]).unwrap().as_int();
    assert_eq!((best("fair"), best("storm")), (5, 7));
    assert_eq!(game.value("reached", &[]), Ok(Value::Bool(true)));
    assert_eq!(game.value("reached", &["mill_lane", "ford"]), Ok(Value::Bool(false)));
}

#[test]
fn strange_keys_are_refused_in_a_sentence() {
    let (_, mut game) = world();
    let said = |keys: &[&str], field: &str| game.value(field, keys).unwrap_err().to_string();
    assert_eq!(said(&["mil_lane", "fair"], "best"), "no level is called `mil_lane`; did you mean `mill_lane`?");
    assert_eq!(said(&["mill_lane", "strom"], "best"), "no weather is called `strom`; did you mean `storm`?");
    assert_eq!(said(&["mill_lane"], "best"), "`best` takes a level and a weather, found 1");
    assert_eq!(said(&["fair"], "tools"), "`tools` has one value, so it takes no key");
    assert_eq!(said(&["mill_lane", "cairn"], "reached"), "no checkpoint is called `cairn`");
    game.write("painted", &["red"], 1.into()).unwrap();
    game.write("painted", &["blue"], 2.into()).unwrap();
    let full = game.write("painted", &["green"], 3.into()).unwrap_err().to_string();
    assert_eq!(full, "there is no room for another stone: 2 is the most");
    let (_, mut game) = world();
    let bad = game.write("painted", &["a\u{7}b"], 1.into()).unwrap_err().to_string();
    assert_eq!(bad, "`a\\u{7}b` cannot be a stone: names have 1 to 60 characters, none of them a control character");
    assert_eq!(game.value("painted", &["red"]), Ok(Value::Int(0)), "what was not made reads as the default");
}

#[test]
fn a_mark_shares_containers_until_they_change() {
    let (_, mut game) = world();
    game.insert_at("satchel", &[], "r", parcel()).unwrap();
    game.enter("mill_lane").unwrap();
    game.insert_at("satchel", &[], "c", parcel()).unwrap();
    game.remove("satchel", &[], "r".into()).unwrap();
    assert_eq!(game.value("satchel", &[]).unwrap().len(), 1);
    let fell = game.death().unwrap();
    assert_eq!(fell.changes[0].to_string(), "satchel +r −c (entry)");
    assert!(game.value("satchel", &[]).unwrap().entry("r").is_some());
}

#[test]
fn mistakes_in_declarations_have_their_sentences() {
    let cases = [
        ("[field.x]\ntype = \"list of parsel\"\nlasts = \"session\"", "did you mean `parcel`?"),
        ("[field.x]\ntype = \"choice\"\nlasts = \"session\"", "does not say what can be chosen"),
        ("[field.x]\ntype = \"int\"\nof = [\"a\"]\nlasts = \"session\"", "only choices have `of`"),
        ("[field.x]\ntype = \"choice\"\nof = [\"a\", \"a\"]\nlasts = \"session\"", "stands in `of` twice"),
        (
            "[field.x]\ntype = \"choice\"\nof = [\"a\", \"b\"]\ndefault = \"c\"\nlasts = \"session\"",
            "the choices are: a, b",
        ),
        ("[field.x]\ntype = \"list of list of list of list of int\"\nlasts = \"session\"", "4 is the most"),
        ("[field.x]\ntype = \"int\"\nper = \"wether\"\nlasts = \"session\"", "did you mean `weather`?"),
        (
            "[field.x]\ntype = \"int\"\nper = [\"level\", \"checkpoint\"]\nlasts = \"session\"",
            "`checkpoint` alone is enough",
        ),
        ("[field.x]\ntype = \"int\"\nper = [\"level\", \"level\"]\nlasts = \"session\"", "stands in `per` twice"),
        ("[field.x]\ntype = \"int\"\nper = \"stone\"\nlasts = \"device\"", "a device field is shared by all"),
        ("[field.x]\ntype = \"text\"\nlasts = \"session\"\non.death = { union = \"'a'\" }", "needs a set or a map"),
        ("[keys.gate]\nnames = []", "`gate` has no keys"),
        ("[keys.gate]\nopen = true", "has a `max` from 1 to 100000"),
        ("[keys.gate]\nnames = [\"a\"]\ncurrent = \"blob\"", "cannot say which gate is meant"),
        ("[keys.level]\nnames = [\"a\"]", "is built in"),
        ("[struct.a]\nb = \"b\"\n[struct.b]\na = \"a\"", "declare a struct after those it is made of"),
        ("[struct.a]\nb = \"choice\"", "`b` does not say what can be chosen"),
        ("[struct.int]\nb = \"int\"", "there is a type `int` already"),
        ("[table.t]\nsteps = [3, 2]", "say `falling = true`"),
        ("[table.t]\nfirst = 10", "says with `count` how many steps there are"),
        ("[table.t]\nfirst = 10\ncount = 3\nadd = -5", "do not ascend"),
        ("[level.heather_rise]\nsteps.rank = [1]", "did you mean `ranks`?"),
        ("[derived]\nd = \"grade(weather_now, ranks)\"", "a number is wanted here, and this is a choice"),
        ("[derived]\nd = \"grade(1, rank)\"", "did you mean `ranks`?"),
        ("[derived]\nd = \"weather_now == 'rain'\"", "this choice has no `rain`"),
        ("[derived]\nd = \"cart.wheels\"", "it has: parcels, at"),
        ("[derived]\nd = \"satchel['ring'].weigth\"", "did you mean `weight`?"),
        ("[derived]\nd = \"painted > 1\"", "give `[keys.stone]` a `current`"),
        ("[derived]\nd = \"best[mill_lane] > 1\"", "`best` takes a level and a weather, found 1"),
        ("[derived]\nd = \"reached[mill_lane, cairn]\"", "`mill_lane` has no checkpoint `cairn`"),
        ("[derived]\nd = \"cart.at == [1, 2, 3]\"", "a vec2 has 2 numbers, found 3"),
        ("[derived]\nd = \"{ a = 1 }\"", "it is not clear which struct this is"),
        ("[derived]\nd = \"has(tools, 3)\"", "a text is wanted here, and this is an int"),
    ];
    for (more, expected) in cases {
        let shown = match Spec::from_toml(&format!("{WORLD}\n{more}\n")) {
            Ok(_) => panic!("this has no error:\n{more}"),
            Err(errors) => errors.to_string(),
        };
        assert!(shown.contains(expected), "`{expected}` is not said:\n{shown}");
    }
}

/// Keys of open sets are made by writes, and a refused write makes none.
#[test]
fn a_refused_write_makes_no_key() {
    let spec = Spec::from_toml(&format!(
        "{WORLD}\n[keys.post]\nopen = true\nmax = 1\n[field.n]\ntype = \"int\"\nper = [\"stone\", \"post\", \"level\"]\n\
         lasts = \"profile\"\nafter_failure = \"keep\"\n[field.here]\ntype = \"int\"\nper = \"stone\"\nlasts = \"visit\"\n\
         after_failure = \"keep\"\n[derived]\nstones = \"size(painted)\"\n"
    ))
    .unwrap_or_else(|errors| panic!("{errors}"));
    let mut game = Progress::fresh(&spec);
    let unknown = game.write("n", &["red", "gate", "nowhere"], 1.into()).unwrap_err().to_string();
    assert_eq!(unknown, "no level is called `nowhere`");
    assert_eq!(game.value("n", &["red", "gate", "nowhere"]).unwrap_err().to_string(), unknown, "a read says so too");
    assert!(game.write("n", &["red", "", "mill_lane"], 1.into()).is_err());
    assert!(game.write("here", &["red"], 1.into()).is_err(), "the player is in no level");
    assert!(game.write("n", &["red", "gate", "mill_lane"], "text".into()).is_err());
    assert_eq!(game.derived("stones"), Ok(Value::Int(0)), "no refused write made a stone");
    game.write("n", &["red", "gate", "mill_lane"], 1.into()).unwrap();
    assert!(game.write("n", &["blue", "yard", "mill_lane"], 1.into()).is_err(), "there is room for one post");
    assert_eq!(game.derived("stones"), Ok(Value::Int(1)));
}

/// A type is refused before anything is built of it that runs out of room.
#[test]
fn a_type_of_many_containers_is_an_error() {
    let ty = format!("{}int", "list of ".repeat(400_000));
    let text = format!("[game]\nid = \"fellpost\"\n[field.x]\ntype = \"{ty}\"\nlasts = \"device\"\n");
    let errors = Spec::from_toml(&text).unwrap_err();
    assert!(errors.list().iter().any(|error| error.message.contains("nested 400000 deep")));
}
