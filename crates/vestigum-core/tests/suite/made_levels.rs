//! Levels that players make: one place for all that belongs to them, handed over whole or not at all.

use proptest::prelude::*;
use vestigum_core::image::SavedPlace;
use vestigum_core::progress::made::MadeLevelError;
use vestigum_core::{Edit, History, Image, Place, Progress, Reset, Spec, Value};
use vestigum_spec::model::code::{Code, Digit};
use vestigum_testing::hunting::config;

const WORLD: &str = r#"
[game]
id = "fellpost"
version = 2
[levels]
order = ["mill_lane", "heather_rise"]
made = { max = 3, title = "name", carries = ["layout", "slope"] }
[keys.door]
open = true
max = 4
[field.name]
type = "text"
per = "level"
max_len = 12
lasts = "profile"
after_failure = "keep"
[field.layout]
type = "bytes"
per = "level"
lasts = "profile"
after_failure = "keep"
[field.slope]
type = "int"
per = "level"
range = [0, 5]
lasts = "profile"
after_failure = "keep"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "entry"
[field.best]
type = "int"
default = 3
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[field.fastest]
type = "int"
per = "level"
lasts = "device"
written_by = "both"
on.complete = { max = "letters" }
[field.opened_doors]
type = "bool"
per = ["door", "level"]
lasts = "run"
after_failure = "keep"
[derived]
lowest_of_all = "lowest(best)"
entries = "size(best)"
titled = { per = "level", value = "len(name) > 0" }
"#;

fn spec() -> Spec {
    Spec::from_toml(WORLD).unwrap_or_else(|errors| panic!("{errors}"))
}

fn made(spec: &Spec, name: &str) -> Progress {
    let mut game = Progress::fresh(spec);
    let level = game.make_level().unwrap();
    game.write("name", &[&level], name.into()).unwrap();
    game.write("layout", &[&level], Value::bytes(b"bog, letter".to_vec())).unwrap();
    game
}

fn image(game: &Progress) -> Image {
    game.clone().suspend().profile_image("ada")
}

/// A level that is made is open at once, and whoever stood in one that is removed finds in the menu what is open there.
#[test]
fn making_and_removing_a_level_judge_what_is_open() {
    let spec = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\nmade = { max = 2 }\n\
        [level.tarn_steps]\nopens = \"xp > 3\"\n\
        [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
    let spec = Spec::from_toml(spec).unwrap();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    let level = game.make_level().unwrap();
    assert!(game.value("opened", &[&*level]).unwrap().as_bool());
    game.abandon().unwrap();
    game.enter(&level).unwrap();
    game.write("xp", &[], 5.into()).unwrap();
    game.remove_level(&level).unwrap();
    assert!(game.value("opened", &["tarn_steps"]).unwrap().as_bool());
}

#[test]
fn nothing_is_kept_for_a_level_that_is_not_made() {
    let spec = spec();
    let mut game = Progress::fresh(&spec);
    let slope = spec.field_per::<i64, 1>("slope").unwrap().at("made_2").unwrap();
    let before = image(&game);
    assert!(game.enter("made_2").is_err() && game.enter_any("made_2", None).is_err());
    assert!(game.set(slope, 3).unwrap_err().to_string().contains("there is no level `made_2`"));
    assert!(game.add(slope, 3).is_err() && game.raise(slope, 3).is_err());
    assert!(game.write("opened_doors", &["north", "made_2"], true.into()).is_err());
    assert!(game.edit("name", &["made_2"], &[], Edit::Set("Bog".into())).is_err());
    assert_eq!(image(&game).values, before.values, "nothing was written, and no name was made");
    assert_eq!(game.board().len(), 2);
    assert_eq!(game.derived("entries"), Ok(2.into()));

    game.make_level().unwrap();
    assert_eq!((game.derived("entries").unwrap(), game.derived("lowest_of_all").unwrap()), (3.into(), 3.into()));
    game.enter("made_1").unwrap();
    game.write("letters", &[], 9.into()).unwrap();
    let done = game.complete().unwrap();
    assert!(
        done.changes.iter().all(|change| &*change.field != "fastest"),
        "the device keeps nothing for one player's level"
    );
    assert!(
        game.write("fastest", &["made_1"], 1.into()).unwrap_err().to_string().contains("to all players of the device")
    );
    assert_eq!(game.value("best", &["made_1"]), Ok(9.into()));
    assert_eq!(game.board()[2].title, "made_1", "without a title of its own");
}

#[test]
fn a_removed_level_takes_everything_along_and_whoever_stands_in_it_out() {
    let spec = spec();
    let mut game = made(&spec, "Bog Loop");
    let fresh = image(&{
        let mut fresh = Progress::fresh(&spec);
        fresh.make_level().unwrap();
        fresh
    });
    game.enter("made_1").unwrap();
    game.write("letters", &[], 9.into()).unwrap();
    game.write("opened_doors", &["north", "made_1"], true.into()).unwrap();
    game.complete().unwrap();
    game.enter("made_1").unwrap();
    game.reset(&Reset::Level("made_1".into())).unwrap();
    assert_eq!(game.place(), Place::Menu);
    assert_eq!(game.value("name", &["made_1"]), Ok("Bog Loop".into()), "a reset takes what was played, not the level");
    assert_eq!(
        (game.value("best", &["made_1"]), game.value("completed", &["made_1"])),
        (Ok(3.into()), Ok(false.into()))
    );
    game.enter("made_1").unwrap();
    let changes = game.remove_level("made_1").unwrap();
    assert!(changes.iter().any(|change| &*change.field == "name") && game.place() == Place::Menu);
    assert_eq!(game.remove_level("made_1"), Err(MadeLevelError::NotMade { level: "made_1".into() }));
    assert_eq!(game.remove_level("mill_lane"), Err(MadeLevelError::Shipped { level: "mill_lane".into() }));
    game.make_level().unwrap();
    assert_eq!(image(&game).values, fresh.values, "nothing is left of the level that was there before");
    // Removed from inside another level, no mark brings it back.
    game.write("slope", &["made_1"], 2.into()).unwrap();
    game.enter("mill_lane").unwrap();
    game.remove_level("made_1").unwrap();
    game.death().unwrap();
    game.abandon().unwrap();
    assert_eq!((game.value("made", &["made_1"]), game.value("slope", &["made_1"])), (Ok(false.into()), Ok(0.into())));
    for reset in [Reset::Profile, Reset::Field { name: "made".into(), keys: vec!["made_1".into()] }] {
        let mut game = made(&spec, "Bog Loop");
        game.reset(&reset).unwrap();
        assert_eq!(game.value("name", &["made_1"]), Ok("".into()), "{reset:?}");
        assert!(game.enter("made_1").is_err());
    }
}

#[test]
fn a_save_that_was_edited_or_comes_from_a_build_with_more_levels_keeps_nothing_without_its_level() {
    let spec = spec();
    let mut game = made(&spec, "Bog Loop");
    game.make_level().unwrap();
    game.write("slope", &["made_2"], 4.into()).unwrap();
    game.enter("made_2").unwrap();
    let saved = image(&game);
    let values = serde_json::to_string(&saved.values).unwrap();
    let unmade = values.replace("\"made_2\":true", "\"made_2\":false");
    assert_ne!(values, unmade, "{values}");
    let edited = Image { values: serde_json::from_str(&unmade).unwrap(), ..saved.clone() };
    let fewer = Spec::from_toml(&WORLD.replace("max = 3,", "max = 1,")).unwrap();
    for (spec, image) in [(&spec, &edited), (&fewer, &saved)] {
        let loaded = Progress::load(spec, Some(image), None).unwrap();
        let game = &loaded.progress;
        assert_eq!((game.place(), game.value("name", &["made_1"])), (Place::Menu, Ok("Bog Loop".into())));
        assert_eq!(game.board().len(), 3);
        assert!(game.value("slope", &["made_2"]).is_err() || game.value("slope", &["made_2"]) == Ok(0.into()));
        let told = loaded.report.to_string();
        assert!(told.contains("slope[made_2]") && told.contains("made_2"), "{told}");
    }
    assert!(matches!(saved.place, SavedPlace::InLevel { .. }));
}

#[test]
fn a_level_is_taken_whole_or_not_at_all() {
    let spec = spec();
    let ada = made(&spec, "Bog Loop");
    let post = ada.export_level("made_1").unwrap();
    let reader = |toml: &str| Progress::fresh(&Spec::from_toml(toml).unwrap_or_else(|errors| panic!("{errors}")));
    let cases: [(Progress, String, &str); 10] = [
        (reader(WORLD), "{}".into(), "not an exported level"),
        (reader(WORLD), format!("{post}{post}"), "not an exported level"),
        (reader(WORLD), post.replace("Bog Loop", "Fen Loop"), "changed after it was exported"),
        (reader(WORLD), post.replace("\"level_format\":1", "\"level_format\":2"), "it has format 2"),
        (reader(&WORLD.replace("id = \"fellpost\"", "id = \"tarns\"")), post.clone(), "of the game `fellpost`"),
        (reader(&WORLD.replace("version = 2", "version = 1")), post.clone(), "version 2 of the game exported"),
        (reader(&WORLD.replace("max_len = 12", "max_len = 3")), post.clone(), "outside the limits"),
        (
            reader(&WORLD.replace("type = \"bytes\"", "type = \"int\"")),
            post.clone(),
            "`layout` of the level does not fit",
        ),
        (
            reader(&WORLD.replace("carries = [\"layout\", \"slope\"]", "carries = []")),
            post.clone(),
            "carry no such field",
        ),
        (
            reader(&WORLD.replace("made = { max = 3, title = \"name\", carries = [\"layout\", \"slope\"] }", "")),
            post.clone(),
            "make no levels",
        ),
    ];
    for (mut game, text, expected) in cases {
        let before = image(&game);
        let said = game.import_level(&text).unwrap_err().to_string();
        assert!(said.contains(expected), "`{expected}` is not said: {said}");
        assert_eq!(image(&game).values, before.values, "{expected}: nothing has changed");
    }
    // Another player's text is believed in nothing: not in how much memory it takes, either.
    let many = format!("{{\"values\":{{\"layout\":[{}0]}}}}", "0,".repeat(12_000_000));
    let said = reader(WORLD).import_level(&many).unwrap_err().to_string();
    assert!(said.contains("it has more values than"), "{said}");
    let said = reader(WORLD).import_level(&post.replacen('{', "{\"level_format\":1,", 1)).unwrap_err().to_string();
    assert!(said.contains("`level_format` stands twice"), "{said}");
    // A code carries nothing of a level that another player does not have.
    let coded = WORLD.to_owned() + "[code.card]\ncarries = [\"completed\", \"slope\"]\nmax = 100000\n";
    let coded = Spec::from_toml(&coded).unwrap_or_else(|errors| panic!("{errors}"));
    let carried: Vec<&str> = coded.codes().flat_map(Code::digits).map(Digit::entry).collect();
    assert_eq!(carried, ["completed[mill_lane]", "completed[heather_rise]", "slope[mill_lane]", "slope[heather_rise]"]);
    // A field that came later is at its default; an older version of the game is no hindrance.
    let later = WORLD.replace("version = 2", "version = 3").replace("\"slope\"]", "\"slope\", \"author\"]")
        + "[field.author]\ntype = \"text\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
    let mut bo = reader(&later);
    assert_eq!(bo.import_level(&post).as_deref(), Ok("made_1"));
    assert_eq!(
        (bo.level_title("made_1").as_deref(), bo.value("author", &["made_1"])),
        (Some("Bog Loop"), Ok("".into()))
    );
    for _ in 0..2 {
        bo.import_level(&post).unwrap();
    }
    assert_eq!(bo.import_level(&post), Err(MadeLevelError::Full { max: 3 }));
    bo.quit().unwrap();
    assert_eq!(
        (bo.make_level(), bo.export_level("made_1")),
        (Err(MadeLevelError::Closed), Err(MadeLevelError::Closed))
    );
}

#[test]
fn no_level_of_the_game_becomes_one_that_players_make() {
    let first = Spec::from_toml(&WORLD.replace("version = 2", "version = 1")).unwrap();
    let history = History::default().freeze(&first).unwrap().history.to_json();
    let step = |text: &str| format!("{WORLD}[[migration]]\nto = 2\nsteps = [{{ {text} }}]\n");
    let gone = |text: &str| step(text).replace(", \"heather_rise\"]", "]");
    let renamed = gone("rename = \"level\", from = \"heather_rise\", to = \"made_3\"");
    let told = Spec::from_toml_with_history(&renamed, &history).unwrap_err().to_string();
    assert!(told.contains("only one of `heather_rise` and `made_3` is a level that players make"), "{told}");
    let dropped = gone("drop = \"level\", name = \"heather_rise\"");
    assert!(Spec::from_toml_with_history(&dropped, &history).is_ok());
    // Without the step it is asked for, and with room for fewer levels so is what players lose.
    let told =
        Spec::from_toml_with_history(&dropped.replace("max = 3,", "max = 2,"), &history).unwrap_err().to_string();
    assert!(told.contains("drop = \"level\", name = \"made_3\""), "{told}");
}

proptest! {
    #![proptest_config(config(200, vestigum_testing::kept_in!("made_levels")))]

    /// Whatever bytes are brought in: an error, and nothing has changed; or a level, where nothing of it was touched.
    #[test]
    fn an_export_with_something_changed_is_refused(at in 0usize..300, with in "[ -~]", cut in any::<bool>()) {
        let spec = spec();
        let post = made(&spec, "Bog Loop").export_level("made_1").unwrap();
        let at = at % post.len();
        let behind = if cut { "" } else { &post[at + 1..] };
        let changed = format!("{}{with}{behind}", &post[..at]);
        let mut bo = Progress::fresh(&spec);
        let read = bo.import_level(&changed);
        let same = serde_json::from_str::<serde_json::Value>(&changed).ok() == serde_json::from_str(&post).ok();
        prop_assert_eq!(read.is_ok(), same, "{}", changed);
        prop_assert_eq!(bo.board().len(), if same { 3 } else { 2 });
    }
}

#[test]
fn what_cannot_be_said_of_levels_that_players_make_has_its_sentence() {
    let with =
        |made: &str| WORLD.replace("made = { max = 3, title = \"name\", carries = [\"layout\", \"slope\"] }", made);
    let cases = [
        (with("made = {}"), "does not say how many levels players can make"),
        (with("made = { max = 0 }"), "`max` of `made` goes from 1 to 1000"),
        (with("made = { max = 9, carries = [\"lay\"] }"), "there is no field `lay`"),
        (with("made = { max = 9, carries = [\"letters\"] }"), "it is not kept per level alone"),
        (with("made = { max = 9, carries = [\"opened_doors\"] }"), "it is not kept per level alone"),
        (with("made = { max = 9, carries = [\"fastest\"] }"), "it does not last a profile"),
        (with("made = { max = 9, carries = [\"best\"] }"), "play does not write it"),
        (with("made = { max = 9, title = \"slope\" }"), "a title is a text"),
        (with("made = { max = 9, carries = [\"slope\", \"slope\"] }"), "`slope` is carried already"),
        (with("made = { max = 9, wide = 3 }"), "has no key `wide`"),
        (
            with("made = { max = 9 }\n[level.made_3]\nopens = \"true\""),
            "`made_3` is what a level that a player makes is called",
        ),
        (
            WORLD.to_owned()
                + "[[source]]\nname = \"hill\"\ngives = { \"slope[made_1]\" = 1 }\nlasts = \"visit\"\nafter_failure = \"entry\"",
            "there only while a player has made it",
        ),
        (
            WORLD.to_owned() + "[field.made]\ntype = \"int\"\nlasts = \"session\"",
            "`made` is built in: where players make levels",
        ),
    ];
    for (toml, expected) in cases {
        let shown = match Spec::from_toml(&toml) {
            Ok(_) => panic!("this has no error: {expected}"),
            Err(errors) => errors.to_string(),
        };
        assert!(shown.contains(expected), "`{expected}` is not said:\n{shown}");
    }
    // Where players make no levels, the name is free.
    let free = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[field.made]\ntype = \"int\"\nlasts = \"session\"";
    assert!(Spec::from_toml(free).is_ok());
}
