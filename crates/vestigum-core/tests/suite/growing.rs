//! Versions that grew after they were frozen: patches, hotfixes, branches, and builds that were never frozen.

use vestigum_core::image::report::LoadError;
use vestigum_core::{History, Image, Launched, Progress, Reset, Spec};
use vestigum_spec::freezing::Froze;

const RULES: &str = "lasts = \"profile\"\nafter_failure = \"keep\"\n";

fn text(version: i64, fields: &str, rest: &str) -> String {
    format!(
        "[game]\nid = \"fellpost\"\nversion = {version}\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\n{fields}{rest}"
    )
}

fn int(name: &str, more: &str) -> String {
    format!("[field.{name}]\ntype = \"int\"\n{RULES}{more}\n")
}

fn read(text: &str, history: &History) -> Spec {
    Spec::from_named_toml_with_history("fellpost.toml", text, history.clone()).unwrap_or_else(|error| panic!("{error}"))
}

fn refused(text: &str, history: &History) -> String {
    let found = Spec::from_named_toml_with_history("fellpost.toml", text, history.clone());
    found.map(|_| "read".to_owned()).unwrap_or_else(|error| error.to_string())
}

fn frozen(history: &History, spec: &Spec) -> History {
    history.freeze(spec).unwrap_or_else(|error| panic!("{error}")).history
}

/// A save with these values.
fn saved(spec: &Spec, values: &[(&str, i64)]) -> Image {
    let mut game = Progress::fresh(spec);
    for (field, value) in values {
        game.write(field, &[], (*value).into()).unwrap();
    }
    game.suspend().profile_image("ada")
}

fn load(spec: &Spec, image: &Image) -> Launched {
    Progress::launch(spec, Some(image), None).unwrap_or_else(|error| panic!("{error}"))
}

fn value(game: &Progress, field: &str) -> i64 {
    game.value(field, &[]).unwrap().as_int()
}

/// Version 1 with coins to 10 is frozen; a patch under the same number has coins to 1000 and a field more, and is never frozen.
#[test]
fn a_patch_that_was_never_frozen_keeps_what_later_versions_have_a_place_for() {
    let first = Spec::from_toml(&text(1, &int("coins", "range = [0, 10]"), "")).unwrap();
    let history = frozen(&History::default(), &first);
    let patched =
        read(&text(1, &(int("coins", "range = [0, 1000]") + &int("late", "") + &int("gone", "")), ""), &history);
    assert_eq!(history.grown(&patched), ["coins to 1000", "late", "gone"]);
    assert!(history.grown(&first).is_empty());
    let image = saved(&patched, &[("coins", 500), ("late", 99), ("gone", 7)]);
    let rename = "[[migration]]\nto = 2\nsteps = [{ rename = \"field\", from = \"coins\", to = \"pence\" }]\n";
    let second = read(&text(2, &(int("pence", "range = [0, 1000]") + &int("late", "")), rename), &history);
    let loaded = load(&second, &image);
    assert_eq!((value(&loaded.progress, "pence"), value(&loaded.progress, "late")), (500, 99));
    let told = loaded.report.to_string();
    assert!(loaded.report.unfrozen && told.contains("saved in a shape that no freeze has recorded"), "{told}");
    assert!(told.contains("dropped gone"), "what has no place is told: {told}");
    // The same by way of a version between that has not heard of it.
    let history = frozen(&history, &read(&text(2, &int("pence", "range = [0, 1000]"), rename), &history));
    let third = read(&text(3, &(int("pence", "range = [0, 1000]") + &int("late", "")), rename), &history);
    let loaded = load(&third, &image);
    assert_eq!((value(&loaded.progress, "pence"), value(&loaded.progress, "late")), (500, 99), "{}", loaded.report);
    // An image of before shapes were written says nothing of its own, and is read by what it holds.
    let unnamed = Image { shape: None, ..image };
    let loaded = load(&third, &unnamed);
    assert_eq!((value(&loaded.progress, "pence"), value(&loaded.progress, "late")), (500, 99), "{}", loaded.report);
}

/// A frozen field that a step reads does not go into a later field that happens to have its name.
#[test]
fn a_name_that_comes_back_later_is_another_field() {
    let first = Spec::from_toml(&text(1, &int("coins", "range = [0, 10]"), "")).unwrap();
    let history = frozen(&History::default(), &first);
    let patched = read(&text(1, &(int("coins", "range = [0, 1000]") + &int("late", "")), ""), &history);
    let image = saved(&patched, &[("coins", 500), ("late", 3)]);
    let fill = "[[migration]]\nto = 2\nsteps = [{ fill = \"pence\", with = \"coins * 2\" }]\n";
    let history = frozen(&history, &read(&text(2, &int("pence", ""), fill), &history));
    let third = read(&text(3, &(int("pence", "") + &int("coins", "") + &int("late", "")), fill), &history);
    let loaded = load(&third, &image).progress;
    assert_eq!((value(&loaded, "pence"), value(&loaded, "coins"), value(&loaded, "late")), (1000, 0, 3));
}

#[test]
fn a_hotfix_is_frozen_late_and_its_steps_are_added() {
    let first = Spec::from_toml(&text(1, &int("coins", ""), "")).unwrap();
    let one = frozen(&History::default(), &first);
    let history = frozen(&one, &read(&text(2, &(int("coins", "") + &int("stamps", "")), ""), &one));
    // The hotfix is made where version 1 stands, with the history of then.
    let hotfix = read(&text(1, &(int("coins", "") + &int("gems", "")), ""), &one);
    let freezing = history.freeze(&hotfix).unwrap();
    assert_eq!(freezing.done, Froze::Grown);
    let history = freezing.history;
    assert_eq!((history.versions().collect::<Vec<_>>(), history.shapes(1), history.shapes(2)), (vec![1, 2], 2, 1));
    let again = History::from_json("history", &history.to_json()).unwrap();
    assert_eq!(again.to_json(), history.to_json());
    assert_eq!(again.freeze(&hotfix).unwrap().done, Froze::Unchanged);

    let old = saved(&first, &[("coins", 5)]);
    let fixed = saved(&hotfix, &[("coins", 6), ("gems", 8)]);
    let fields = int("coins", "") + &int("stamps", "");
    let told = refused(&text(2, &fields, ""), &history);
    assert!(told.contains("V304") && told.contains("`gems`"), "{told}");
    // A step that only the hotfix's saves can take is added to the migration that has shipped.
    let step = "[[migration]]\nto = 2\nsteps = [{ fill = \"stamps\", with = \"gems + 100\" }]\n";
    let spec = read(&text(2, &fields, step), &history);
    let (loaded, of_old) = (load(&spec, &fixed), load(&spec, &old));
    assert_eq!((value(&loaded.progress, "coins"), value(&loaded.progress, "stamps")), (6, 108));
    assert_eq!(value(&of_old.progress, "stamps"), 0, "{}", of_old.report);
    assert!(!of_old.report.to_string().contains("is filled"), "{}", of_old.report);
    // Recorded, the step belongs to the same shape of version 2.
    let recorded = history.freeze(&spec).unwrap();
    assert_eq!((recorded.done, recorded.history.shapes(2)), (Froze::Steps, 1));
    assert_eq!(recorded.history.freeze(&spec).unwrap().done, Froze::Unchanged);
    // One that the saves of before would take as well would give two players of version 1 two games.
    let step = "[[migration]]\nto = 2\nsteps = [{ fill = \"stamps\", with = \"coins\" }, { drop = \"field\", name = \"gems\" }]\n";
    let told = refused(&text(2, &fields, step), &history);
    assert!(told.contains("V306") && told.contains("take out { fill = \"stamps\", with = \"coins\" }"), "{told}");
    // A patch of version 2 that has the field takes it without a step.
    let spec = read(&text(2, &(fields.clone() + &int("gems", "")), ""), &history);
    assert_eq!(value(&load(&spec, &fixed).progress, "gems"), 8);
    // Frozen, it is what version 3 comes from.
    let history = frozen(&history, &spec);
    let spec = read(&text(3, &(fields + &int("gems", "")), ""), &history);
    assert_eq!(value(&load(&spec, &fixed).progress, "gems"), 8);
}

#[test]
fn branches_that_froze_one_number_are_merged_by_keeping_both_lines() {
    let first = Spec::from_toml(&text(1, &int("coins", ""), "")).unwrap();
    let one = frozen(&History::default(), &first);
    let left = read(&text(2, &(int("coins", "") + &int("gems", "")), ""), &one);
    let right = read(&text(2, &(int("coins", "") + &int("stamps", "")), ""), &one);
    let (of_left, of_right) = (frozen(&one, &left).to_json(), frozen(&one, &right).to_json());
    let conflict = |text: &str| History::from_json("history", text).map(|_| ()).unwrap_err().to_string();
    // What version control leaves of it.
    let line = |text: &str, version: &str| {
        text.lines().find(|line| line.contains(&format!("\"version\":{version}"))).unwrap().to_owned()
    };
    let (ours, theirs) = (line(&of_left, "2"), line(&of_right, "2"));
    let marked = of_left.replace(&ours, &format!("<<<<<<< HEAD\n{ours}\n=======\n{theirs}\n>>>>>>> gems"));
    let told = conflict(&marked);
    assert!(
        told.contains("version control has left a conflict") && told.contains("keep the lines of both sides"),
        "{told}"
    );
    let both = of_left.replace(&ours, &format!("{ours}\n{theirs}"));
    let history = History::from_json("history", &both).unwrap();
    assert_eq!(history.shapes(2), 2);
    // A driver that unites lines can write one twice.
    let twice = both.replace(&ours, &format!("{ours}\n{ours}"));
    assert_eq!(History::from_json("history", &twice).unwrap().shapes(2), 2);

    let told = refused(&text(2, &(int("coins", "") + &int("gems", "")), ""), &history);
    assert!(told.contains("version 2 was frozen with the field `stamps`"), "{told}");
    let all = int("coins", "") + &int("gems", "") + &int("stamps", "");
    let third = int("pence", "") + &int("gems", "") + &int("stamps", "");
    let rename = "[[migration]]\nto = 3\nsteps = [{ rename = \"field\", from = \"coins\", to = \"pence\" }]\n";
    for (version, fields, steps, coins) in [(2, &all, "", "coins"), (3, &third, rename, "pence")] {
        let spec = read(&text(version, fields, steps), &history);
        let of_left = load(&spec, &saved(&left, &[("coins", 1), ("gems", 2)]));
        let of_right = load(&spec, &saved(&right, &[("coins", 3), ("stamps", 4)]));
        assert!(!of_left.report.unfrozen && of_left.report.dropped.is_empty(), "{}", of_left.report);
        assert_eq!((value(&of_left.progress, coins), value(&of_left.progress, "gems")), (1, 2));
        assert_eq!((value(&of_right.progress, coins), value(&of_right.progress, "stamps")), (3, 4));
    }
    // Two meanings of one name cannot be told apart.
    let other = text(2, &(int("coins", "") + &format!("[field.gems]\ntype = \"text\"\n{RULES}")), "");
    let other = frozen(&one, &read(&other, &one)).to_json();
    let both = of_left.replace(&ours, &format!("{ours}\n{}", line(&other, "2")));
    let told = refused(&text(3, &all, ""), &History::from_json("history", &both).unwrap());
    assert!(told.contains("V307") && told.contains("`gems` is of type"), "{told}");
    // What is advised where both have shipped: without its line the saves of one are read by name.
    let mut image =
        saved(&Spec::from_toml(&text(2, &(int("coins", "") + &int("gems", "")), "")).unwrap(), &[("coins", 5)]);
    image.shape = Some("0123456789abcdef".into());
    image.values.insert("gems".into(), serde_json::from_str("\"ruby\"").unwrap());
    let spec =
        read(&text(3, &(int("coins", "") + &int("gems", "")), ""), &History::from_json("history", &of_left).unwrap());
    let loaded = load(&spec, &image);
    assert_eq!((value(&loaded.progress, "coins"), value(&loaded.progress, "gems")), (5, 0));
    assert!(loaded.report.unfrozen && loaded.report.to_string().contains("dropped gems"), "{}", loaded.report);
}

#[test]
fn a_build_refuses_or_keeps_what_a_patch_of_its_version_saved() {
    let first = text(1, &(int("coins", "range = [0, 10]") + &int("xp", "")), "");
    let history = frozen(&History::default(), &Spec::from_toml(&first).unwrap());
    let fields = int("coins", "range = [0, 1000]")
        + &int("xp", "")
        + &int("late", "")
        + "[field.best]\ntype = \"int\"\nper = \"level\"\n"
        + RULES;
    let patch = text(1, &fields, "").replace("\"tarn_steps\"", "\"tarn_steps\", \"attic\"");
    let newer = read(&patch, &history);
    let image = |values: &[(&str, i64)]| {
        let mut image = saved(&newer, values);
        image.generation = 7;
        image
    };
    // A save that another build made, and that holds nothing which this one does not know.
    let wider = read(&first.replace("[0, 10]", "[0, 1000]"), &history);
    let fits = load(&read(&first, &history), &saved(&wider, &[("coins", 3)]));
    assert_eq!((value(&fits.progress, "coins"), fits.report.dropped.len()), (3, 0));
    let full = image(&[("coins", 500), ("xp", 4), ("late", 99)]);
    let told = match Progress::launch(&read(&first, &history), Some(&full), None) {
        Err(error @ LoadError::NewerBuild { .. }) => error.to_string(),
        other => panic!("{other:?}"),
    };
    assert!(
        told.contains("late") && told.contains("update the game") && told.contains("nothing was overwritten"),
        "{told}"
    );

    // A build that keeps it plays on, and gives it back.
    let keeps = read(&(first.clone() + "[save]\nnewer = \"keep\"\n"), &history);
    let mut played = load(&keeps, &full).progress;
    assert_eq!(value(&played, "coins"), 10, "its own limits hold");
    played.write("xp", &[], 5.into()).unwrap();
    let back = played.suspend();
    let image = back.profile_image("ada");
    assert_eq!(
        back.encoded(&image.owner, String::new()).bytes(0, None),
        image.to_json(),
        "both ways to write it agree"
    );
    let restored = load(&newer, &image).progress;
    let values = |game: &Progress| ["coins", "xp", "late"].map(|field| value(game, field));
    assert_eq!(values(&restored), [500, 5, 99]);
    // Again and again; and what play has changed is what play has made of it.
    let mut again = load(&keeps, &image).progress;
    again.write("coins", &[], 8.into()).unwrap();
    let again = again.suspend().profile_image("ada");
    assert_eq!(values(&load(&newer, &again).progress), [8, 5, 99]);
    // A reset of the profile takes what is carried along, too.
    let mut fresh = load(&keeps, &full).progress;
    fresh.reset(&Reset::Profile).unwrap();
    assert_eq!(values(&load(&newer, &fresh.suspend().profile_image("ada")).progress), [0, 0, 0]);
    // Nothing is held back where nothing was frozen: while a game is made, its spec changes every day.
    let unfrozen = Spec::from_toml(&first).unwrap();
    assert!(!load(&unfrozen, &full).report.dropped.is_empty());
}

/// A value that only a mark holds is reported like the value itself, and one that both hold is reported once.
#[test]
fn what_a_mark_loses_is_told() {
    let fields = |range: &str| {
        let field = "[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"checkpoint\"\non.restart = \"entry\"\nwritten_by = \"both\"\n";
        format!("{field}range = {range}\n")
    };
    let first = Spec::from_toml(&text(1, &fields("[0, 100]"), "")).unwrap();
    let mut game = Progress::fresh(&first);
    game.write("xp", &[], 80.into()).unwrap();
    game.enter("mill_lane").unwrap();
    game.write("xp", &[], 5.into()).unwrap();
    game.checkpoint("ford").unwrap();
    let image = Image { generation: 1, ..game.suspend().profile_image("ada") };
    let second = read(&text(2, &fields("[0, 50]"), ""), &frozen(&History::default(), &first));
    let migrated = load(&second, &image).report.to_string();
    let told = "at the level's entry, xp was 80, outside its limits; it is 50 now";
    assert!(migrated.contains(told), "{migrated}");
    let narrow = Spec::from_toml(&text(1, &fields("[0, 50]"), "")).unwrap();
    let loaded = load(&narrow, &image).report.to_string();
    assert!(loaded.contains(told) && loaded.matches("xp was").count() == 1, "{loaded}");
}

#[test]
fn a_made_level_finds_room_where_there_is_some() {
    let made = |max: u8, rest: &str| {
        let levels = format!("[levels]\norder = [\"mill_lane\"]\nmade = {{ max = {max}, carries = [\"tune\"] }}\n");
        let field = |name: &str| format!("[field.{name}]\ntype = \"text\"\nper = \"level\"\n{RULES}");
        format!("[game]\nid = \"fellpost\"\nversion = {}\n{levels}{}{rest}", 4 - max, field("tune"))
    };
    let first = Spec::from_toml(&made(3, "")).unwrap();
    let mut game = Progress::fresh(&first);
    for tune in ["march", "reel", "jig"] {
        let level = game.make_level().unwrap();
        game.write("tune", &[&*level], tune.into()).unwrap();
    }
    game.remove_level("made_1").unwrap();
    game.enter("made_3").unwrap();
    let image = game.suspend().profile_image("ada");
    let drop = "[[migration]]\nto = 2\nsteps = [{ drop = \"level\", name = \"made_3\" }]\n";
    let second = read(&made(2, drop), &frozen(&History::default(), &first));
    let loaded = load(&second, &image);
    let tune = |level: &str| loaded.progress.value("tune", &[level]).unwrap().as_text().to_owned();
    assert_eq!((tune("made_1"), tune("made_2")), ("jig".to_owned(), "reel".to_owned()), "{}", loaded.report);
    assert!(loaded.report.to_string().contains("the level made_3 is made_1 now"), "{}", loaded.report);
    assert_eq!(loaded.progress.place().to_string(), "made_1");
}

/// A level that an older version exported comes in under its new names, or is refused whole.
#[test]
fn an_exported_level_goes_the_way_of_the_saves() {
    let spec = |version: u8, field: &str, range: &str, rest: &str| {
        format!(
            "[game]\nid = \"fellpost\"\nversion = {version}\n[levels]\norder = [\"mill_lane\"]\n\
             made = {{ max = 2, carries = [\"{field}\"] }}\n[field.{field}]\ntype = \"int\"\nper = \"level\"\n{range}\n{RULES}{rest}"
        )
    };
    let first = Spec::from_toml(&spec(1, "par", "range = [0, 99]", "")).unwrap();
    let mut ada = Progress::fresh(&first);
    let level = ada.make_level().unwrap();
    ada.write("par", &[&*level], 40.into()).unwrap();
    let post = ada.export_level(&level).unwrap();
    let history = frozen(&History::default(), &first);
    let fill = "[[migration]]\nto = 2\nsteps = [{ rename = \"field\", from = \"par\", to = \"goal\" }, { fill = \"goal\", with = \"par * 10\" }]\n";
    let second = read(&spec(2, "goal", "", fill), &history);
    let mut bo = Progress::fresh(&second);
    let refused = bo.import_level(&post).unwrap_err().to_string();
    assert!(
        refused.contains("version 1 of the game exported the level") && refused.contains("upgrade_level"),
        "{refused}"
    );
    let level = bo.import_level(&second.upgrade_level(&post).unwrap()).unwrap();
    assert_eq!(bo.value("goal", &[&*level]).unwrap().as_int(), 400);
    let own = bo.export_level(&level).unwrap();
    assert_eq!(second.upgrade_level(&own).unwrap(), own);
    let narrow = read(&spec(2, "goal", "range = [0, 9]", fill), &history);
    let refused = narrow.upgrade_level(&post).unwrap_err().to_string();
    assert!(refused.contains("would become 9"), "{refused}");
    let edited = post.replace("40", "41");
    assert!(second.upgrade_level(&edited).is_err() && second.upgrade_level("{").is_err());
    let unknown = Spec::from_toml(&spec(2, "goal", "", "")).unwrap();
    assert!(unknown.upgrade_level(&post).unwrap_err().to_string().contains("built without its history"));
}

/// A default of structs that has one member more is no other default.
#[test]
fn a_member_more_in_a_keyed_field_needs_nothing() {
    let spec = |members: &str| {
        let order = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n";
        format!("{order}[struct.walk]\n{members}\n[field.walk]\ntype = \"walk\"\nper = \"level\"\n{RULES}")
    };
    let history = frozen(&History::default(), &Spec::from_toml(&spec("letters = \"int\"")).unwrap());
    let grown = read(&spec("letters = \"int\"\ntime = { type = \"int\", default = 9 }"), &history);
    assert_eq!(history.grown(&grown), ["walk.time"]);
    assert_eq!(frozen(&history, &grown).shapes(1), 2);
}

/// A member that a step puts into another field is taken, also of a value that was never frozen.
#[test]
fn what_a_fill_takes_of_an_unfrozen_value_is_not_told_as_dropped() {
    let hero = |members: &str| format!("[struct.hero]\n{members}\n[field.hero]\ntype = \"hero\"\n{RULES}");
    let was = hero("name = \"text\"\nrank = \"int\"");
    let first = Spec::from_toml(&text(1, &was, "")).unwrap();
    let history = frozen(&History::default(), &first);
    let patched = read(&text(1, &(was + &int("late", "")), ""), &history);
    let mut image = saved(&patched, &[("late", 1)]);
    image.values.insert("hero".into(), serde_json::from_str(r#"{"name": "ada", "rank": 4}"#).unwrap());
    let fill = "[[migration]]\nto = 2\nsteps = [{ fill = \"hero_name\", with = \"hero.name\" }]\n";
    let fields = hero("rank = \"int\"") + &format!("[field.hero_name]\ntype = \"text\"\n{RULES}") + &int("late", "");
    let loaded = load(&read(&text(2, &fields, fill), &history), &image);
    assert_eq!(loaded.progress.value("hero_name", &[]).unwrap().as_text(), "ada");
    assert!(loaded.report.unfrozen && loaded.report.dropped.is_empty(), "{}", loaded.report);
}
