//! Sessions: what a game does with one, from the first launch to a reset and back.

use serde::{Deserialize, Serialize};

use vestigum::{DirStore, MemoryStore, Owner, Place, Reset, Session, Spec, Store, Value, prune_all, restore};

const WORLD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford"]
[struct.parcel]
weight = "int"
fragile = "bool"
[field.score]
type = "int"
lasts = "run"
after_failure = "entry"
[field.satchel]
type = "map of parcel"
lasts = "profile"
after_failure = "entry"
[field.tools]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.best]
type = "int"
per = "level"
lasts = "profile"
after_failure = "keep"
[field.replay]
type = "bytes"
lasts = "profile"
after_failure = "keep"
[field.name]
type = "text"
lasts = "profile"
after_failure = "keep"
[field.volume]
type = "float"
default = 0.7
range = [0.0, 1.0]
lasts = "device"
[field.intro_seen]
type = "bool"
lasts = "session"
[derived]
total = "sum(best)"
[save]
at = ["complete"]
"#;

#[derive(Debug, PartialEq, Serialize, Deserialize)]
struct Parcel {
    weight: i64,
    fragile: bool,
}

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

#[test]
fn every_kind_of_handle_reads_and_writes_and_comes_back() {
    let (spec, store) = (spec(), MemoryStore::default());
    let score = spec.int("score").unwrap();
    let name = spec.text("name").unwrap();
    let volume = spec.float("volume").unwrap();
    let seen = spec.bool("intro_seen").unwrap();
    let best = spec.int_per_level("best").unwrap();
    let mut game = Session::launch(&spec, store.clone(), "ada").unwrap();
    game.set(score, 40).unwrap();
    game.add(score, 2).unwrap();
    game.set(name, "Ada of the Fells").unwrap();
    assert!(game.add(volume, 5.0).unwrap().clamped());
    game.set(seen, true).unwrap();
    game.set(best.at("mill_lane").unwrap(), 9).unwrap();
    game.write("replay", &[], Value::bytes(vec![0, 255, 7])).unwrap();
    game.write_from("satchel", &[], &std::collections::BTreeMap::from([("ring", Parcel { weight: 1, fragile: true })]))
        .unwrap();
    game.insert("tools", &[], "rope".into()).unwrap();
    assert_eq!(game.derived("total"), Ok(Value::Int(9)));
    game.quit().unwrap();
    let game = Session::launch(&spec, store, "ada").unwrap();
    assert_eq!((game.get(score), game.get(name), game.get(volume)), (42, "Ada of the Fells", 1.0));
    assert!(!game.get(seen), "a session is over when the game is");
    assert_eq!(game.get(best.at("mill_lane").unwrap()), 9);
    assert_eq!(game.value("replay", &[]).unwrap().as_bytes(), [0, 255, 7]);
    let ring: std::collections::BTreeMap<String, Parcel> = game.read_as("satchel", &[]).unwrap();
    assert_eq!(ring["ring"], Parcel { weight: 1, fragile: true });
    assert_eq!(game.value("tools", &[]).unwrap().to_string(), "{'rope'}");
    game.quit().unwrap();
}

#[test]
fn a_handle_that_does_not_fit_says_why() {
    let spec = spec();
    let said = |error: vestigum::HandleError| error.to_string();
    assert_eq!(said(spec.int("scor").unwrap_err()), "no field is called `scor`; did you mean `score`?");
    let wrong = "`name` is of type text, and `i64` does not fit: the field can be '', and reading it fails: invalid type: string \
                 \"\", expected i64; read it with `spec.field::<String>(\"name\")`";
    assert_eq!(said(spec.int("name").unwrap_err()), wrong);
    let per_level = "`best` has a value for each level: read it with `spec.field_per::<i64, 1>(\"best\")`";
    assert_eq!(said(spec.int("best").unwrap_err()), per_level);
    let one = "`score` has one value: read it with `spec.field::<i64>(\"score\")`";
    assert_eq!(said(spec.int_per_level("score").unwrap_err()), one);
    let missing = spec.int_per_level("best").unwrap().at("mil_lane").unwrap_err();
    assert_eq!(said(missing), "no level is called `mil_lane`; did you mean `mill_lane`?");
}

#[test]
#[should_panic(expected = "this handle was made from another spec")]
fn a_handle_of_another_spec_is_a_mistake_of_the_program() {
    let other = Spec::from_toml(&WORLD.replace("fellpost", "hillpost")).unwrap();
    let score = other.int("score").unwrap();
    let game = Session::launch(&spec(), MemoryStore::default(), "ada").unwrap();
    let _ = game.get(score);
}

#[test]
fn a_reset_is_a_generation_of_its_own_and_can_be_taken_back() {
    let folder = tempfile::tempdir().unwrap();
    let store = DirStore::open(folder.path()).unwrap();
    let mut game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    game.enter("mill_lane").unwrap();
    game.write("best", &["mill_lane"], 60.into()).unwrap();
    game.complete().unwrap();
    game.save().wait().unwrap();
    let before = game.generation();
    let preview = game.preview_reset(&Reset::Profile).unwrap();
    let changes = game.reset(&Reset::Profile).unwrap();
    game.save().wait().unwrap();
    assert_eq!(changes, preview);
    assert_eq!(changes[0].to_string(), "best[mill_lane] 60 → 0 (reset)");
    assert_eq!((game.generation(), game.place()), (before + 1, Place::Menu));
    drop(game);
    let owner = Owner::Profile("ada".into());
    let restored = restore(&store, None, &owner, before).unwrap();
    assert_eq!(restored.generation, before + 2);
    let game = Session::launch(&spec(), store.clone(), "ada").unwrap();
    assert_eq!(game.value("best", &["mill_lane"]), Ok(Value::Int(60)));
    assert!(restore(&store, None, &owner, 99).unwrap_err().to_string().contains("has no generation 99"));
    game.quit().unwrap();
}

#[test]
fn inspecting_is_no_launch() {
    let spec = Spec::from_toml(&WORLD.replace(
        "[derived]",
        "[field.starts]\ntype = \"int\"\nlasts = \"profile\"\non.launch = { add = 1 }\n[derived]",
    ))
    .unwrap();
    let store = MemoryStore::default();
    Session::launch(&spec, store.clone(), "ada").unwrap().quit().unwrap();
    let looked = Session::repair(&spec, store.clone(), "ada").unwrap();
    assert_eq!(looked.value("starts", &[]), Ok(Value::Int(1)));
    looked.quit().unwrap();
    assert_eq!(store.generations(&Owner::Profile("ada".into())).unwrap(), [1], "looking writes nothing");
    let again = Session::launch(&spec, store, "ada").unwrap();
    assert_eq!(again.value("starts", &[]), Ok(Value::Int(2)));
    again.quit().unwrap();
}

#[test]
fn a_display_is_told_what_play_and_rules_changed() {
    let mut game = Session::launch(&spec(), MemoryStore::default(), "ada").unwrap();
    let first = game.drain_changes();
    let told: Vec<String> = first.iter().map(|update| update.field.to_string()).collect();
    assert_eq!(told, ["opened"], "what is not at its default");
    game.enter("mill_lane").unwrap();
    game.write("score", &[], 10.into()).unwrap();
    game.death().unwrap();
    assert!(game.drain_changes().is_empty(), "it is what it was");
    game.write("score", &[], 10.into()).unwrap();
    game.complete().unwrap();
    let told: Vec<String> =
        game.drain_changes().iter().map(|update| format!("{} {}", update.name(), update.after)).collect();
    assert_eq!(told, ["score 10", "completed[mill_lane] true", "opened[heather_rise] true"]);
    game.quit().unwrap();
}

#[test]
fn the_board_tells_every_level_and_why_it_is_locked() {
    let mut game = Session::launch(&spec(), MemoryStore::default(), "ada").unwrap();
    game.write("best", &["mill_lane"], 5.into()).unwrap();
    let rows: Vec<String> = game.board().iter().map(ToString::to_string).collect();
    assert_eq!(rows, ["mill_lane      open  best 5", "heather_rise   locked: complete mill_lane  best 0",]);
    game.enter("mill_lane").unwrap();
    game.complete().unwrap();
    assert!(game.board()[0].completed && game.board()[1].open);
    game.quit().unwrap();
}

fn lists_and_prunes<S: Store + Clone + 'static>(store: &S) {
    for name in ["ada", "Ben"] {
        let mut game = Session::launch(&spec(), store.clone(), name).unwrap();
        for score in 1..=5 {
            game.write("score", &[], score.into()).unwrap();
            game.save().wait().unwrap();
        }
        game.quit().unwrap();
    }
    let [ada, ben] = ["ada", "Ben"].map(|name| Owner::Profile(name.into()));
    let owners = store.owners().unwrap();
    assert!(owners.len() == 3 && [&ada, &ben, &Owner::Device].iter().all(|owner| owners.contains(owner)));
    assert_eq!(store.generations(&ada).unwrap(), [3, 4, 5], "quitting prunes to `keep`");
    assert_eq!(prune_all(store, &ada, 1).unwrap(), 2);
    assert_eq!(store.generations(&ada).unwrap(), [5]);
    assert_eq!(prune_all(store, &ada, 0).unwrap(), 0, "the last one is never taken");
}

#[test]
fn a_store_lists_its_owners_and_prunes_only_what_is_old() {
    lists_and_prunes(&MemoryStore::default());
    let folder = tempfile::tempdir().unwrap();
    lists_and_prunes(&DirStore::open(folder.path()).unwrap());
}

/// A write that asks for a save, and a code that is redeemed, are durable without another word; two sessions of a process count the
/// device's time together.
#[test]
fn a_write_and_a_code_are_saved_at_once_and_time_is_shared() {
    let text = "[game]\nid = \"fellpost\"\n\
        [field.keys]\ntype = \"set of text\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nsave = true\n\
        [field.volume]\ntype = \"int\"\nrange = [0, 9]\nlasts = \"device\"\nsave = true\n\
        [field.on]\ntype = \"int\"\nlasts = \"device\"\ncounts = \"ms\"\n\
        [field.lamp]\ntype = \"bool\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
        [code.gate]\ncarries = [\"lamp\"]\nmax = 1\n";
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}"));
    let store = MemoryStore::default();
    let saver = vestigum::Saver::new(store.clone());
    let (mut ada, mut bo) =
        (Session::launch(&spec, &saver, "ada").unwrap(), Session::launch(&spec, &saver, "bo").unwrap());
    let wait = std::time::Duration::from_secs(5);
    let saves = |name: &str| store.generations(&Owner::Profile(name.into())).unwrap().len();
    ada.insert("keys", &[], Value::text("cellar")).unwrap();
    ada.settle(wait).unwrap();
    assert_eq!(saves("ada"), 1);
    ada.insert("keys", &[], Value::text("cellar")).unwrap();
    ada.settle(wait).unwrap();
    assert_eq!(saves("ada"), 1, "nothing changed");
    bo.redeem("gate", 1).unwrap();
    bo.settle(wait).unwrap();
    assert_eq!(saves("bo"), 1);
    let volume = spec.int("volume").unwrap();
    bo.set(volume, 4).unwrap();
    bo.settle(wait).unwrap();
    assert!(store.generations(&Owner::Device).unwrap().len() > 1);
    ada.tick(std::time::Duration::from_millis(30)).unwrap();
    bo.tick(std::time::Duration::from_millis(12)).unwrap();
    ada.sync_device();
    assert_eq!((ada.get(volume), ada.get(spec.int("on").unwrap())), (4, 42));
    // The process dies.
    drop((ada, bo));
    let again = Session::launch(&spec, store, "bo").unwrap();
    assert_eq!(again.value("lamp", &[]), Ok(Value::Bool(true)));
    again.quit().unwrap();
}

/// A process that dies right after a level was made, removed or imported finds it so.
#[test]
fn a_made_level_is_saved_at_once_and_titled_for_the_list_of_players() {
    let own = WORLD.replace("order = [", "made = { max = 2, title = \"called\" }\norder = [")
        + "[field.called]\ntype = \"text\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nsave = true\n";
    let own = Spec::from_toml(&own.replace("[derived]", "[derived]\nmade_here = \"count(made)\"")).unwrap();
    let store = MemoryStore::default();
    let made = |store: &MemoryStore| {
        let game = Session::launch(&own, store.clone(), "ada").unwrap();
        (game.derived("made_here").unwrap().as_int(), game.value("called", &["made_1"]).unwrap())
    };
    let died = |act: &dyn Fn(&mut Session)| {
        let mut game = Session::launch(&own, store.clone(), "ada").unwrap();
        act(&mut game);
        game.settle(std::time::Duration::from_secs(20)).unwrap();
    };
    died(&|game| {
        let level = game.make_level().unwrap();
        game.write("called", &[&level], "Bog Loop".into()).unwrap();
        game.enter(&level).unwrap();
        game.save();
    });
    assert_eq!(made(&store), (1, "Bog Loop".into()));
    let saver = vestigum::Saver::new(store.clone());
    let listed = vestigum::Profiles::new(&own, &saver).list().unwrap();
    assert_eq!(listed[0].level.as_deref(), Some("Bog Loop"));
    drop(saver);
    died(&|game| {
        let post = game.export_level("made_1").unwrap();
        game.remove_level("made_1").unwrap();
        game.import_level(&post).unwrap();
        assert_eq!(game.import_level(&post).as_deref(), Ok("made_2"));
    });
    assert_eq!(made(&store), (2, "Bog Loop".into()));
    died(&|game| drop(game.remove_level("made_1").unwrap()));
    assert_eq!(made(&store), (1, "".into()));
}
