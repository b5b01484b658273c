//! Handles for every type and axis, checked in both directions where they are made.
#![allow(clippy::float_cmp, reason = "values are kept exactly")]

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::num::NonZeroU8;

use serde::{Deserialize, Serialize};

use vestigum::{Edit, MemoryStore, Part, Session, Spec, Value};

const WORLD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford", "stile"]
[struct.hound]
name = { type = "text", max_len = 20 }
level = { type = "int", default = 1, range = [1, 99] }
kind = { type = "choice", of = ["shore", "deep_sea"] }
at = "vec2"
[keys.weapon]
names = ["staff", "sling"]
[keys.friend]
open = true
max = 3
[field.score]
type = "int"
lasts = "run"
after_failure = "entry"
range = [0, 200]
[field.weight]
type = "float"
lasts = "run"
after_failure = "keep"
[field.sky]
type = "choice"
of = ["fair", "storm"]
lasts = "run"
after_failure = "keep"
[field.team]
type = "list of hound"
max_len = 3
lasts = "run"
after_failure = "entry"
[field.kennel]
type = "map of hound"
lasts = "profile"
after_failure = "keep"
[field.stamps]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.replay]
type = "bytes"
lasts = "device"
[field.camp]
type = "vec3"
lasts = "profile"
after_failure = "keep"
[field.best_time]
type = "int"
per = "level"
optional = true
range = [0, 4000000]
lasts = "profile"
after_failure = "keep"
[field.rested]
type = "bool"
per = "checkpoint"
lasts = "profile"
after_failure = "keep"
[field.wear]
type = "float"
per = ["level", "weapon"]
lasts = "profile"
after_failure = "keep"
[field.letters_of]
type = "int"
per = "friend"
lasts = "profile"
after_failure = "keep"
[field.given]
type = "int"
lasts = "run"
on.complete = { add = "1" }
[derived]
rank = "score / 10"
quick = { per = "level", value = "filled(best_time) and best_time < 60000" }
calm = "if(sky == 'fair', 'calm', 'wild')"
"#;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Kind {
    Shore,
    DeepSea,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Hound {
    name: String,
    level: u8,
    kind: Kind,
    at: (f32, f32),
}

fn hound(name: &str, level: u8) -> Hound {
    Hound { name: name.into(), level, kind: Kind::DeepSea, at: (0.5, 2.0) }
}

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

#[test]
fn every_type_and_axis_is_read_and_written_as_a_rust_type() {
    let spec = spec();
    let mut game = Session::launch(&spec, MemoryStore::default(), "ada").unwrap();
    let score = spec.field::<u8>("score").unwrap();
    game.set(score, 120).unwrap();
    assert_eq!(game.get(score), 120);
    assert_eq!(game.get(spec.derived::<i64>("rank").unwrap()), 12);
    let sky = spec.field::<String>("sky").unwrap();
    game.set(sky, "storm".into()).unwrap();
    assert_eq!(game.get(spec.derived::<String>("calm").unwrap()), "wild");
    assert!(game.set(sky, "snow".into()).is_err());
    let camp = spec.field::<[f64; 3]>("camp").unwrap();
    game.set(camp, [1.0, 2.5, -3.0]).unwrap();
    assert_eq!(game.get(camp), [1.0, 2.5, -3.0]);
    let replay = spec.field::<Vec<u8>>("replay").unwrap();
    game.set(replay, vec![1, 255]).unwrap();
    assert_eq!(game.get(spec.field::<[u8]>("replay").unwrap()), [1, 255]);
    let stamps = spec.field::<BTreeSet<String>>("stamps").unwrap();
    game.set(stamps, ["owl".to_owned(), "heron".to_owned()].into()).unwrap();
    assert!(game.set_of(stamps).contains("owl") && game.set_of(stamps).iter().eq(["heron", "owl"]));
    let kennel = spec.field::<HashMap<String, Hound>>("kennel").unwrap();
    game.update(kennel, |kennel| drop(kennel.insert("ring".into(), hound("Rook", 7)))).unwrap();
    assert_eq!(game.get(kennel)["ring"], hound("Rook", 7));

    let best = spec.field_per::<Option<u32>, 1>("best_time").unwrap().at("heather_rise").unwrap();
    let quick = spec.derived_per::<bool>("quick").unwrap().at("heather_rise").unwrap();
    assert_eq!((game.get(best), game.get(quick)), (None, false));
    assert!(game.lower(best, Some(61_500)).unwrap().beaten());
    assert!(game.lower(best, Some(59_000)).unwrap().beaten() && !game.lower(best, Some(59_000)).unwrap().beaten());
    assert!(game.raise(best, Some(9_000_000)).unwrap().clamped());
    game.set(best, Some(40_000)).unwrap();
    assert_eq!((game.get(best), game.get(quick)), (Some(40_000), true));
    game.set(best, None).unwrap();
    assert_eq!(game.get(best), None);
    let rested = spec.field_per::<bool, 2>("rested").unwrap().at(["mill_lane", "stile"]).unwrap();
    game.set(rested, true).unwrap();
    assert_eq!(game.value("rested", &["mill_lane", "stile"]).unwrap(), true.into());
    let wear = spec.field_per::<f32, 2>("wear").unwrap().at(["heather_rise", "sling"]).unwrap();
    game.set(wear, 0.25).unwrap();
    assert_eq!((game.get(wear), game.value("wear", &["heather_rise", "sling"]).unwrap()), (0.25, Value::from(0.25)));
    game.write("letters_of", &["Bob's mill"], 4.into()).unwrap();
    assert_eq!(game.read_as::<u64>("letters_of", &["Bob's mill"]).unwrap(), 4);
    game.quit().unwrap();
}

#[test]
fn items_are_changed_where_they_are_and_marks_keep_what_they_were() {
    let spec = spec();
    let team = spec.field::<Vec<Hound>>("team").unwrap();
    let kennel = spec.field::<BTreeMap<String, Hound>>("kennel").unwrap();
    let mut game = Session::launch(&spec, MemoryStore::default(), "ada").unwrap();
    game.list_mut(team).push(hound("Rook", 3)).unwrap();
    game.enter("mill_lane").unwrap();
    game.list_mut(team).push(hound("Wren", 5)).unwrap();
    assert!(game.list_mut(team).update(1, |hound| hound.level = 200).unwrap().clamped());
    game.list_mut(team).set(0, hound("Lark", 1)).unwrap();
    let names = |game: &Session| game.list(team).iter().map(|hound| (hound.name, hound.level)).collect::<Vec<_>>();
    assert_eq!(names(&game), [("Lark".to_owned(), 1), ("Wren".to_owned(), 99)]);
    game.list_mut(team).push(hound("Heron", 2)).unwrap();
    assert!(game.list_mut(team).push(hound("Late", 2)).unwrap().clamped(), "the list is full");
    assert_eq!((game.list(team).len(), game.list(team).get(3)), (3, None));
    let missing = game.list_mut(team).remove(3).unwrap_err().to_string();
    assert!(missing.contains("it has 3 values, and not the one at 4"), "{missing}");
    assert!(game.list_mut(team).update(9, |_| unreachable!()).unwrap_err().to_string().contains("no `team[10]`"));
    game.list_mut(team).remove(0).unwrap();
    assert_eq!(names(&game)[0].0, "Wren");
    game.edit("team", &[], &[Part::Item(1), Part::member("level")], Edit::Set(9.into())).unwrap();
    game.death().unwrap();
    assert_eq!(names(&game), [("Rook".to_owned(), 3)]);

    // A `Vec` reads a set as well as a list, so neither view is silent about the other.
    let team_as_set = game.set_of(team);
    assert!(team_as_set.contains(&hound("Rook", 3)) && !team_as_set.contains(&hound("Rook", 4)));
    assert_eq!(team_as_set.iter().map(|hound| hound.name).collect::<Vec<_>>(), ["Rook"]);
    let stamps = spec.field::<Vec<String>>("stamps").unwrap();
    game.list_mut(stamps).push("owl".into()).unwrap();
    assert_eq!((game.list(stamps).get(0).as_deref(), game.list(stamps).iter().count()), (Some("owl"), 1));
    assert!(game.list_mut(stamps).set(0, "stag".into()).unwrap_err().to_string().contains("is a part of a list"));
    game.map_mut(kennel).insert("ring", hound("Rook", 7)).unwrap();
    game.map_mut(kennel).update("ring", |hound| hound.kind = Kind::Shore).unwrap();
    assert_eq!(game.map(kennel).get("ring").map(|hound| hound.kind), Some(Kind::Shore));
    assert!(game.map_mut(kennel).update("rong", |_| unreachable!()).is_err());
    game.map_mut(kennel).remove("ring").unwrap();
    assert!(game.map(kennel).is_empty() && !game.map(kennel).contains("ring"));
    game.quit().unwrap();
}

/// Each of these types reads some value of the field, or writes one that is another: none of them becomes a zero.
#[test]
fn a_type_that_does_not_fit_in_both_directions_is_refused_where_the_handle_is_made() {
    #[derive(Serialize, Deserialize)]
    struct Short {
        name: String,
        level: u8,
        kind: Kind,
    }
    #[derive(Serialize, Deserialize)]
    struct Long {
        name: String,
        level: u8,
        kind: Kind,
        at: (f32, f32),
        #[serde(default)]
        mood: i64,
    }
    #[derive(Serialize, Deserialize)]
    struct Narrow {
        name: String,
        level: i8,
        kind: OneKind,
        at: (f32, f32),
    }
    #[derive(Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    enum OneKind {
        Shore,
    }
    let spec = spec();
    let cases = [
        (spec.field::<Vec<Short>>("team").unwrap_err(), "it is left out, and a hound is written whole"),
        (spec.field::<Vec<Long>>("team").unwrap_err(), "a hound has no such member"),
        (spec.field::<Vec<Narrow>>("team").unwrap_err(), "unknown variant `deep_sea`"),
        (spec.field::<Hound>("team").unwrap_err(), "read it with `spec.field::<Vec<Hound>>(\"team\")`"),
        (spec.field::<i8>("score").unwrap_err(), "the field can be 200"),
        (spec.field::<NonZeroU8>("score").unwrap_err(), "the field can be 0"),
        (spec.field::<f64>("score").unwrap_err(), "would be written back"),
        (spec.field::<Option<i64>>("score").unwrap_err(), "it needs no `Option`"),
        (spec.field::<i64>("weight").unwrap_err(), "`weight` is of type float, and `i64` does not fit"),
        (spec.field::<OneKind>("sky").unwrap_err(), "read it with `spec.field::<String>(\"sky\")`"),
        (spec.field::<str>("sky").unwrap_err(), "only text is borrowed"),
        (spec.field::<[f64; 2]>("camp").unwrap_err(), "read it with `spec.field::<[f64; 3]>(\"camp\")`"),
        (spec.field::<i64>("rank").unwrap_err(), "read it with `spec.derived::<i64>(\"rank\")`"),
        (spec.field::<u32>("best_time").unwrap_err(), "`spec.field_per::<Option<i64>, 1>(\"best_time\")`"),
        (spec.field_per::<bool, 1>("rested").unwrap_err(), "`spec.field_per::<bool, 2>(\"rested\")`"),
        (spec.field_per::<i64, 1>("letters_of").unwrap_err(), "`game.read_as::<i64>(\"letters_of\", &[…])`"),
        (spec.derived::<i64>("score").unwrap_err(), "`score` is a field: read it with `spec.field::<i64>(\"score\")`"),
        (spec.derived::<i64>("calm").unwrap_err(), "`spec.derived::<String>(\"calm\")`"),
        (spec.derived::<bool>("quick").unwrap_err(), "`spec.derived_per::<bool>(\"quick\")`"),
        (spec.derived_per::<i64>("rank").unwrap_err(), "`rank` has one value: read it with `spec.derived::<i64>"),
        (spec.derived_per::<bool>("quick").unwrap().at("hether_rise").unwrap_err(), "did you mean `heather_rise`?"),
        (
            spec.field_per::<f64, 2>("wear").unwrap().at(["mill_lane", "stuff"]).unwrap_err(),
            "no weapon is called `stuff`",
        ),
    ];
    for (error, expected) in cases {
        assert!(error.to_string().contains(expected), "`{expected}` is not said: {error}");
    }
    let mut game = Session::launch(&spec, MemoryStore::default(), "ada").unwrap();
    assert!(game.set(spec.field::<i64>("given").unwrap(), 3).is_err(), "only rules write it");
    let weight = spec.field::<f64>("weight").unwrap();
    assert!(game.set(weight, f64::NAN).unwrap().clamped() && game.get(weight) == 0.0);
    game.quit().unwrap();
}
