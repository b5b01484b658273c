//! Migrations step by step: every kind of step, on values, marks and places, and what is said when one does not fit.

use std::sync::Arc;

use vestigum_core::image::Tree;
use vestigum_core::lint::check_with_history;
use vestigum_core::migration::{HookError, upgrade};
use vestigum_core::proof::{Options, Proof, Verdict, prove};
use vestigum_core::{History, Image, LoadError, Owner, Progress, Spec, Value};

/// A spec of some version: everything but `[game]`.
fn text(version: i64, rest: &str) -> String {
    format!("[game]\nid = \"fellpost\"\nversion = {version}\n{rest}")
}

fn spec(version: i64, rest: &str) -> Spec {
    Spec::from_toml(&text(version, rest)).unwrap_or_else(|errors| panic!("{errors}"))
}

fn frozen(specs: &[&Spec]) -> History {
    specs.iter().fold(History::default(), |history, spec| history.freeze(spec).unwrap().history)
}

fn updated(version: i64, rest: &str, history: &History) -> Spec {
    let spec = Spec::from_named_toml_with_history("fellpost.toml", &text(version, rest), history.clone());
    spec.unwrap_or_else(|errors| panic!("{errors}"))
}

/// What is said about an update that does not fit.
fn refused(version: i64, rest: &str, history: &History) -> String {
    check_with_history("fellpost.toml", &text(version, rest), history.clone()).findings.to_string()
}

fn field(name: &str, ty: &str, more: &str) -> String {
    format!("[field.{name}]\ntype = \"{ty}\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{more}\n")
}

fn migration(to: i64, steps: &[&str]) -> String {
    format!("[[migration]]\nto = {to}\nsteps = [\n  {},\n]\n", steps.join(",\n  "))
}

fn saved(game: &Progress) -> (Image, Image) {
    let suspended = game.suspend();
    (suspended.profile_image("ada"), suspended.device_image())
}

fn load(spec: &Spec, images: &(Image, Image)) -> Progress {
    Progress::load(spec, Some(&images.0), Some(&images.1)).unwrap_or_else(|error| panic!("{error}")).progress
}

fn shown(game: &Progress, name: &str, keys: &[&str]) -> String {
    game.value(name, keys).unwrap_or_else(|error| panic!("{error}")).to_string()
}

const PATHS: &str = "[levels]\norder = [\"old_mill\", \"attic\", \"heather_rise\"]\n\
    [level.old_mill]\ncheckpoints = [\"ford\", \"stile\"]\n[level.heather_rise]\ncheckpoints = [\"hut\", \"cairn\"]\n";
const VISIT: &str = "[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n\
    [field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }\n";

/// A player of the first version at a checkpoint, with letters from before and after it, and Old Mill behind her.
fn at(level: &str, checkpoint: &str) -> (Spec, (Image, Image)) {
    let old = spec(1, &format!("{PATHS}{VISIT}"));
    let mut game = Progress::fresh(&old);
    game.enter("old_mill").unwrap();
    game.write("letters", &[], Value::Int(70)).unwrap();
    game.complete().unwrap();
    game.enter_any(level, None).unwrap();
    game.write("letters", &[], Value::Int(30)).unwrap();
    game.checkpoint(checkpoint).unwrap();
    game.write("letters", &[], Value::Int(50)).unwrap();
    (old.clone(), saved(&game))
}

const MOVED_PATHS: &str = "[levels]\norder = [\"heather_rise\", \"tarn_steps\", \"mill_lane\"]\n\
    [level.mill_lane]\ncheckpoints = [\"stile\", \"bridge\"]\n[level.heather_rise]\ncheckpoints = [\"bothy\"]\n\
    [level.tarn_steps]\ncheckpoints = [\"ford\", \"hut\"]\n";
const PATH_STEPS: [&str; 5] = [
    "{ rename = \"level\", from = \"old_mill\", to = \"mill_lane\" }",
    "{ rename = \"checkpoint\", of = \"old_mill\", from = \"ford\", to = \"bridge\" }",
    "{ rename = \"checkpoint\", of = \"heather_rise\", from = \"hut\", to = \"bothy\" }",
    "{ drop = \"checkpoint\", of = \"heather_rise\", name = \"cairn\" }",
    "{ drop = \"level\", name = \"attic\" }",
];

#[test]
fn levels_and_checkpoints_that_move_take_their_players_along() {
    let (old, images) = at("old_mill", "ford");
    let new = updated(2, &format!("{MOVED_PATHS}{VISIT}{}", migration(2, &PATH_STEPS)), &frozen(&[&old]));
    let mut game = load(&new, &images);
    assert_eq!(game.place().to_string(), "mill_lane at bridge");
    assert_eq!(shown(&game, "completed", &["mill_lane"]), "true", "by identity, though it comes last now");
    assert_eq!(
        (shown(&game, "best", &["mill_lane"]), shown(&game, "best", &["heather_rise"])),
        ("70".into(), "0".into())
    );
    assert_eq!(shown(&game, "letters", &[]), "30");
    game.death().unwrap();
    assert_eq!(shown(&game, "letters", &[]), "30", "the mark of the checkpoint");
    game.restart().unwrap();
    assert_eq!(shown(&game, "letters", &[]), "0", "the mark of the entry");

    // A checkpoint that is gone gives way to the entry, a level that is gone to the menu; both are told.
    let (_, images) = at("heather_rise", "cairn");
    let launched = Progress::load(&new, Some(&images.0), None).unwrap();
    assert_eq!(launched.progress.place().to_string(), "heather_rise");
    assert_eq!(shown(&launched.progress, "letters", &[]), "0");
    let (_, images) = at("attic", "anywhere");
    let launched = Progress::load(&new, Some(&images.0), None).unwrap();
    insta::assert_snapshot!(launched.report, @"
    loaded generation 0
      saved by version 1 of the spec
      migrated to version 2
        the level old_mill is mill_lane now
        the checkpoint ford of old_mill is bridge now
        the checkpoint hut of heather_rise is bothy now
        the checkpoint cairn of heather_rise is dropped
        the level attic is dropped
      the place was attic of version 1 at anywhere and is menu now: there is no level `attic` of version 1 any more
    ");
    assert_eq!(shown(&launched.progress, "completed", &["mill_lane"]), "true");
}

#[test]
fn a_level_that_comes_back_under_an_old_name_is_another_one() {
    let (old, images) = at("attic", "anywhere");
    let without = format!("{MOVED_PATHS}{VISIT}{}", migration(2, &PATH_STEPS));
    let second = updated(2, &without, &frozen(&[&old]));
    let third = format!(
        "{}{VISIT}{}",
        MOVED_PATHS.replace("\"mill_lane\"]", "\"mill_lane\", \"attic\"]"),
        migration(2, &PATH_STEPS)
    );
    let third = updated(3, &third, &frozen(&[&old, &second]));
    assert_eq!(load(&third, &images).place().to_string(), "menu");
}

#[test]
fn fills_read_the_old_values_of_the_same_entry_and_leave_what_has_none_without() {
    let gates = "[levels]\norder = [\"old_mill\", \"heather_rise\"]\n[keys.gate]\nnames = [\"upper\", \"lower\"]\n[keys.note]\nopen = true\nmax = 3\n";
    let old = spec(
        1,
        &format!(
            "{gates}{}{}{}{}",
            field("time", "int", "per = \"level\"\noptional = true"),
            field("toll", "int", "per = [\"level\", \"gate\"]\ndefault = 2"),
            field("seen", "int", "per = \"note\""),
            field("best", "int", ""),
        ),
    );
    let mut game = Progress::fresh(&old);
    for (name, keys, value) in
        [("time", &["old_mill"][..], 61), ("toll", &["old_mill", "upper"], 5), ("seen", &["milk"], 4), ("best", &[], 9)]
    {
        game.write(name, keys, Value::Int(value)).unwrap();
    }
    let now = "[levels]\norder = [\"tarn_steps\", \"mill_lane\", \"heather_rise\"]\n[keys.gate]\nnames = [\"lower\", \"top\", \"side\"]\n[keys.note]\nopen = true\nmax = 3\n";
    let steps = [
        "{ rename = \"level\", from = \"old_mill\", to = \"mill_lane\" }",
        "{ rename = \"key\", of = \"gate\", from = \"upper\", to = \"top\" }",
        "{ rename = \"key\", of = \"note\", from = \"milk\", to = \"milk_round\" }",
        "{ fill = \"time\", with = \"time * 1000\" }",
        "{ fill = \"toll\", with = \"toll * 100\" }",
        "{ fill = \"seen\", with = \"seen + 1\" }",
        "{ fill = \"record[heather_rise]\", with = \"best\" }",
        "{ fill = \"completed[mill_lane]\", with = \"best > 5\" }",
        "{ fill = \"way\", with = \"if(filled(time[old_mill]), level, 'none')\" }",
    ];
    let new = updated(
        2,
        &format!(
            "{now}{}{}{}{}{}{}",
            field("time", "int", "per = \"level\"\noptional = true"),
            field("toll", "int", "per = [\"level\", \"gate\"]\ndefault = 7"),
            field("seen", "int", "per = \"note\""),
            field("record", "int", "per = \"level\""),
            field("way", "text", "per = \"level\""),
            migration(2, &steps),
        ),
        &frozen(&[&old]),
    );
    let game = load(&new, &saved(&game));
    let read = |name: &str, keys: &[&str]| shown(&game, name, keys);
    assert_eq!((read("time", &["mill_lane"]), read("time", &["heather_rise"])), ("61000".into(), "none".into()));
    assert_eq!(
        (read("toll", &["mill_lane", "top"]), read("toll", &["mill_lane", "lower"])),
        ("500".into(), "200".into())
    );
    assert_eq!(read("toll", &["tarn_steps", "top"]), "7", "a new level has the new default");
    assert_eq!(read("toll", &["mill_lane", "side"]), "7", "and so has a new key");
    assert_eq!((read("seen", &["milk_round"]), read("record", &["heather_rise"])), ("5".into(), "9".into()));
    assert_eq!(
        (read("completed", &["mill_lane"]), read("completed", &["heather_rise"])),
        ("true".into(), "false".into())
    );
    assert_eq!((read("way", &["mill_lane"]), read("way", &["tarn_steps"])), ("'old_mill'".into(), "''".into()));
}

#[test]
fn what_saves_leave_out_is_what_the_default_was_then() {
    let rest = |default: i64| {
        format!(
            "[levels]\norder = [\"mill_lane\"]\n{}",
            field("lamps", "int", &format!("per = \"level\"\ndefault = {default}"))
        )
    };
    let old = spec(1, &rest(3));
    let images = saved(&Progress::fresh(&old));
    let history = frozen(&[&old]);
    assert!(refused(1, &rest(5), &history).contains("V303"));
    let game = load(&updated(2, &rest(5), &history), &images);
    assert_eq!(shown(&game, "lamps", &["mill_lane"]), "3");
}

#[test]
fn choices_and_structs_change_their_names_wherever_they_stand() {
    let old = spec(
        1,
        &format!(
            "[struct.parcel]\nweight = \"int\"\nfragile = \"bool\"\n[struct.sack]\nparcels = \"list of parcel\"\n{}{}{}",
            field("weather", "choice", "of = [\"fair\", \"storm\", \"hail\"]"),
            field("days", "list of choice", "of = [\"fair\", \"storm\"]"),
            field("sacks", "sack", ""),
        ),
    );
    let mut game = Progress::fresh(&old);
    let text = |text: &str| Value::text(text);
    game.write("weather", &[], text("storm")).unwrap();
    game.write("days", &[], Value::List(vec![text("storm"), text("fair")].into())).unwrap();
    let parcel = Value::Map(std::sync::Arc::new(
        [("weight".into(), Value::Int(4)), ("fragile".into(), Value::Bool(true))].into(),
    ));
    let sack = Value::Map(std::sync::Arc::new([("parcels".into(), Value::List(vec![parcel].into()))].into()));
    game.write("sacks", &[], sack).unwrap();
    let new = updated(
        2,
        &format!(
            "[struct.parcel]\nurgent = \"bool\"\ngrams = \"int\"\n[struct.sack]\nparcels = \"list of parcel\"\n{}{}{}{}",
            field("weather", "choice", "of = [\"gale\", \"fair\"]"),
            field("days", "list of choice", "of = [\"fair\", \"gale\"]"),
            field("sacks", "sack", ""),
            migration(
                2,
                &[
                    "{ rename = \"choice\", of = \"weather\", from = \"storm\", to = \"gale\" }",
                    "{ drop = \"choice\", of = \"weather\", name = \"hail\" }",
                    "{ rename = \"choice\", of = \"days\", from = \"storm\", to = \"gale\" }",
                    "{ rename = \"struct field\", of = \"parcel\", from = \"weight\", to = \"grams\" }",
                    "{ drop = \"struct field\", of = \"parcel\", name = \"fragile\" }",
                ]
            ),
        ),
        &frozen(&[&old]),
    );
    let game = load(&new, &saved(&game));
    assert_eq!((shown(&game, "weather", &[]), shown(&game, "days", &[])), ("gale".into(), "[gale, fair]".into()));
    assert_eq!(shown(&game, "sacks", &[]), "{ parcels = [{ urgent = false, grams = 4 }] }");
}

#[test]
fn what_moves_to_the_device_and_back_reaches_every_player_once() {
    let volume = |lasts: &str| {
        format!(
            "[field.volume]\ntype = \"int\"\ndefault = 70\nlasts = \"{lasts}\"\n{}\n",
            if lasts == "device" { "" } else { "after_failure = \"keep\"" }
        )
    };
    let old = spec(1, &volume("profile"));
    let player = |volume: i64| {
        let mut game = Progress::fresh(&old);
        game.write("volume", &[], Value::Int(volume)).unwrap();
        game.suspend().profile_image("ada")
    };
    let to_device = migration(2, &["{ move = \"volume\", to = \"device\" }"]);
    let second = updated(2, &format!("{}{to_device}", volume("device")), &frozen(&[&old]));
    let ada = Progress::load(&second, Some(&player(30)), None).unwrap();
    assert_eq!(shown(&ada.progress, "volume", &[]), "30");
    let (ada, device) = saved(&ada.progress);
    let bert = Progress::load(&second, Some(&player(90)), Some(&device)).unwrap();
    assert_eq!(shown(&bert.progress, "volume", &[]), "30", "the device has one of its own by then");

    // And back: the first player takes it, and it is kept for those who come later.
    let back =
        format!("{}{to_device}{}", volume("profile"), migration(3, &["{ move = \"volume\", to = \"profile\" }"]));
    let third = updated(3, &back, &frozen(&[&old, &second]));
    let ada = load(&third, &(ada, device));
    assert_eq!(shown(&ada, "volume", &[]), "30");
    let device = saved(&ada).1;
    assert!(device.values.is_empty() && device.moved.contains_key(&3), "{device:?}");
    let device = Image::from_json(&device.to_json()).unwrap();
    let bert = load(&third, &(saved(&bert.progress).0, device));
    assert_eq!(shown(&bert, "volume", &[]), "30");
}

#[test]
fn code_takes_what_no_step_can_and_a_failure_says_what_and_where() {
    let old = spec(1, &field("route", "text", ""));
    let mut game = Progress::fresh(&old);
    game.write("route", &[], Value::text("ford stile")).unwrap();
    let images = saved(&game);
    let rest = format!("{}{}", field("route", "list of text", ""), migration(2, &["{ hook = \"route\" }"]));
    let new = updated(2, &rest, &frozen(&[&old]));
    let missing = Progress::load(&new, Some(&images.0), None).unwrap_err();
    assert_eq!(missing, LoadError::NoHook { to: 2, fields: vec!["route".into()] });
    assert_eq!(prove(&new, &Options::default()).versions[0].fields[0].verdict, Verdict::Code);

    let split = new.clone().with_hook(2, |old, new| {
        if old.owner != Owner::Device {
            let Some(Tree::Text(route)) = old.values.get("route") else { return Ok(()) };
            let stops = route.split(' ').map(|stop| Tree::Text(stop.into()));
            new.values.insert("route".into(), Tree::List(stops.collect()));
        }
        // Whose it is and of which version is not for a hook to say.
        (new.version, new.generation, new.game, new.saved_at) = (99, 99, "tarn".into(), "never".into());
        new.owner = Owner::Profile("nobody".into());
        Ok(())
    });
    let upgraded = upgrade(&split, 2, Some(&images.0), Some(&images.1)).unwrap();
    for (now, was) in [(upgraded.profile.unwrap(), &images.0), (upgraded.device.unwrap(), &images.1)] {
        assert_eq!((now.version, now.generation, &now.game), (2, was.generation, &was.game));
        assert_eq!((&now.saved_at, &now.owner), (&was.saved_at, &was.owner));
    }
    assert_eq!(shown(&load(&split, &images), "route", &[]), "['ford', 'stile']");
    assert!(prove(&split, &Options::default()).holds());
    let failing = new.with_hook(2, |_, _| Err(HookError::new("route", "it has a stop that nobody knows")));
    let failed = Progress::load(&failing, Some(&images.0), None).unwrap_err();
    insta::assert_snapshot!(failed, @"the migration to version 2 failed in the game's code, at `route`, which is \"ford stile\": it has a stop that nobody knows; nothing was overwritten");
    let mut long = images.0.clone();
    let stops = |count: usize| "o".repeat(count);
    for (count, told) in [(58, format!("which is \"{}\": ", stops(58))), (59, format!("which is \"{}…: ", stops(58)))]
    {
        long.values.insert("route".into(), Tree::Text(stops(count).into()));
        let failed = Progress::load(&failing, Some(&long), None).unwrap_err().to_string();
        assert!(failed.contains(&told), "{failed}");
    }
}

#[test]
fn an_incompatible_change_is_told_with_the_steps_that_it_needs() {
    let old = spec(
        1,
        &format!(
            "{PATHS}{VISIT}{}{}{}",
            field("coins", "int", ""),
            field("speed", "int", ""),
            field("debug_seed", "text", "")
        ),
    );
    let history = frozen(&[&old]);
    let rest = format!(
        "{}{VISIT}{}{}",
        PATHS.replace("old_mill", "mill_lane").replace("\"hut\", ", ""),
        field("stamps", "int", "range = [0, 99]"),
        field("speed", "float", "")
    );
    insta::assert_snapshot!(refused(1, &rest, &history), @r#"
    error[V304]: version 1 was frozen with the checkpoint `hut` of `heather_rise`, and the spec has none of that name now
     --> fellpost.toml:3:11
      |
    3 | version = 1
      |           ^
      |
      = help: raise `version` to 2 and say in its migration: { drop = "checkpoint", of = "heather_rise", name = "hut" }

    error[V304]: version 1 was frozen with the field `coins`, and the spec has none of that name now
     --> fellpost.toml:3:11
      |
    3 | version = 1
      |           ^
      |
      = help: raise `version` to 2 and say in its migration: { rename = "field", from = "coins", to = "stamps" }

    error[V304]: version 1 was frozen with the field `debug_seed`, and the spec has none of that name now
     --> fellpost.toml:3:11
      |
    3 | version = 1
      |           ^
      |
      = help: raise `version` to 2 and say in its migration: { drop = "field", name = "debug_seed" }

    error[V304]: version 1 was frozen with the level `old_mill`, and the spec has none of that name now
     --> fellpost.toml:3:11
      |
    3 | version = 1
      |           ^
      |
      = help: raise `version` to 2 and say in its migration: { rename = "level", from = "old_mill", to = "mill_lane" }

    error[V304]: `speed` is of type int in version 1, and of type float now
      --> fellpost.toml:24:8
       |
    24 | [field.speed]
       |        ^^^^^
       |
       = help: raise `version` to 2 and say in its migration: { fill = "speed", with = "speed" }
    "#);
    let checked = check_with_history("fellpost.toml", &text(2, &rest), history.clone());
    insta::assert_snapshot!(checked.migrations(), @r#"
    [[migration]]
    to = 2
    steps = [
      { rename = "level", from = "old_mill", to = "mill_lane" },
      { drop = "checkpoint", of = "heather_rise", name = "hut" },
      { rename = "field", from = "coins", to = "stamps" },
      { fill = "speed", with = "speed" },
      { drop = "field", name = "debug_seed" },
    ]
    "#);
    updated(2, &format!("{rest}{}", checked.migrations()), &history);
}

#[test]
fn what_is_compatible_passes_without_a_raised_version() {
    let old = spec(1, &format!("{PATHS}{VISIT}{}", field("coins", "int", "range = [0, 10]")));
    let rest = format!(
        "{}{}{}{}",
        PATHS.replace("\"attic\"", "\"tarn_steps\", \"attic\""),
        VISIT.replace("\"letters\" }", "\"letters\", when = \"letters > 3\" }"),
        field("coins", "int", "range = [-5, 20]\ndefault = 4").replace("profile", "run"),
        field("xp", "int", "")
    );
    updated(1, &rest, &frozen(&[&old]));
}

#[test]
fn steps_that_do_not_fit_are_shown_where_they_stand() {
    let old = spec(1, &format!("{PATHS}{VISIT}{}{}", field("coins", "int", ""), field("junk", "int", "")));
    let rest =
        format!("{PATHS}{VISIT}{}[field.volume]\ntype = \"int\"\nlasts = \"device\"\n", field("stamps", "int", ""));
    let steps = [
        "{ rename = \"field\", from = \"stamps\", to = \"coins\" }",
        "{ rename = \"fields\", from = \"coins\", to = \"stamps\" }",
        "{ rename = \"checkpoint\", from = \"ford\", to = \"stile\" }",
        "{ rename = \"level\", of = \"game\", from = \"attic\", to = \"attic\" }",
        "{ fill = \"stamps\", with = \"coin * 2\" }",
        "{ fill = \"stamps\", with = \"'many'\" }",
        "{ fill = \"stamp\", with = \"coins\" }",
        "{ fill = \"best[mill_lane]\", with = \"coins\" }",
        "{ fill = \"volume\", with = \"coins\" }",
        "{ fill = \"best\", with = \"junk\" }",
        "{ drop = \"field\", name = \"junk\" }",
        "{ move = \"coins\", to = \"cloud\" }",
        "{ hook = \"nothing\" }",
    ];
    insta::assert_snapshot!(refused(2, &format!("{rest}{}", migration(2, &steps)), &frozen(&[&old])), @r#"
    error[V305]: version 1 has no field `stamps`
      --> fellpost.toml:30:30
       |
    30 |   { rename = "field", from = "stamps", to = "coins" },
       |                              ^^^^^^^^
       |
       = help: version 2 has one; a step comes from the names of version 1

    error[V305]: nothing of the kind `fields` can be renamed or dropped
      --> fellpost.toml:31:14
       |
    31 |   { rename = "fields", from = "coins", to = "stamps" },
       |              ^^^^^^^^
       |
       = help: did you mean `field`?

    error[V305]: this step does not say of which level the checkpoint is
      --> fellpost.toml:32:14
       |
    32 |   { rename = "checkpoint", from = "ford", to = "stile" },
       |              ^^^^^^^^^^^^
       |
       = help: add `of`, the name that the level has in version 1

    error[V305]: a level belongs to nothing, so it has no `of`
      --> fellpost.toml:33:28
       |
    33 |   { rename = "level", of = "game", from = "attic", to = "attic" },
       |                            ^^^^^^

    error[V004]: nothing is called `coin`
      --> fellpost.toml:34:30
       |
    34 |   { fill = "stamps", with = "coin * 2" },
       |                              ^^^^
       |
       = help: did you mean `coins`?

    error[V005]: an int is wanted here, and this is a text
      --> fellpost.toml:35:30
       |
    35 |   { fill = "stamps", with = "'many'" },
       |                              ^^^^^^ text
       |
       = help: `with` reads the values of version 1

    error[V305]: version 2 has no field `stamp`
      --> fellpost.toml:36:13
       |
    36 |   { fill = "stamp", with = "coins" },
       |             ^^^^^
       |
       = help: did you mean `stamps`?

    error[V004]: no level is called `mill_lane`
      --> fellpost.toml:37:18
       |
    37 |   { fill = "best[mill_lane]", with = "coins" },
       |                  ^^^^^^^^^
       |
       = help: known here: old_mill, attic, heather_rise

    error[V305]: `volume` is the device's and `coins` is a player's: the two are saved apart
      --> fellpost.toml:38:29
       |
    38 |   { fill = "volume", with = "coins" },
       |                             ^^^^^^^
       |
       = help: move the value as well: add `{ move = "coins", to = "device" }`

    error[V305]: `junk` is dropped here, and a fill reads it
      --> fellpost.toml:40:3
       |
    40 |   { drop = "field", name = "junk" },
       |   ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
       |
       = help: take this step out: `junk` is not lost, it goes into `best`

    error[V305]: a value is moved to the `device` or to the `profile`, not to `cloud`
      --> fellpost.toml:41:26
       |
    41 |   { move = "coins", to = "cloud" },
       |                          ^^^^^^^

    error[V305]: version 2 has no field `nothing`
      --> fellpost.toml:42:12
       |
    42 |   { hook = "nothing" },
       |            ^^^^^^^^^
       |
       = help: known here: letters, best, stamps, volume, completed, opened
    "#);
}

#[test]
fn each_new_name_is_offered_once_and_the_order_of_steps_does_not_matter() {
    let parcel = |member: &str| format!("[struct.parcel]\n{member} = \"int\"\n{}", field("load", "parcel", ""));
    let old = spec(
        1,
        &format!(
            "[levels]\norder = [\"north\", \"south\"]\n{}{}",
            parcel("weight"),
            field("best", "int", "per = \"level\"")
        ),
    );
    let history = frozen(&[&old]);
    let rest = format!("[levels]\norder = [\"east\"]\n{}{}", parcel("grams"), field("best", "int", "per = \"level\""));
    let checked = check_with_history("fellpost.toml", &text(2, &rest), history.clone());
    let steps: Vec<&str> = checked.missing.iter().map(|missing| missing.step.as_str()).collect();
    assert_eq!(
        steps,
        [
            "{ rename = \"level\", from = \"north\", to = \"east\" }",
            "{ drop = \"level\", name = \"south\" }",
            "{ rename = \"struct field\", of = \"parcel\", from = \"weight\", to = \"grams\" }",
        ]
    );
    let two =
        check_with_history("fellpost.toml", &text(2, &rest.replace("\"east\"", "\"east\", \"west\"")), history.clone());
    assert!(
        two.migrations()
            .contains("{ drop = \"level\", name = \"north\" },  # or is it \"east\" or \"west\" now? then rename it\n"),
        "{}",
        two.migrations()
    );
    assert!(
        two.findings.to_string().contains("name = \"north\" }; or rename it, if it is `east` or `west` now"),
        "{}",
        two.findings
    );
    let many = ["a1", "b2", "c3", "d4", "e5"].map(|name| format!("\"{name}\"")).join(", ");
    let many = check_with_history("fellpost.toml", &text(2, &rest.replace("\"east\"", &many)), history.clone());
    let told = "# or is it \"a1\" or \"b2\" or \"c3\" or \"d4\" or another new one now? then rename it";
    assert!(many.migrations().contains(told), "{}", many.migrations());
    let mut game = Progress::fresh(&old);
    game.write("best", &["north"], Value::Int(4)).unwrap();
    let images = saved(&game);
    let mut steps = steps;
    steps.extend([
        "{ fill = \"best[east]\", with = \"best[north] + 1\" }",
        "{ fill = \"best\", with = \"best * 100\" }",
    ]);
    for _ in 0..2 {
        let game = load(&updated(2, &format!("{rest}{}", migration(2, &steps)), &history), &images);
        assert_eq!(shown(&game, "best", &["east"]), "5", "one entry wins over all");
        steps.reverse();
    }
    let stays = migration(2, &["{ move = \"best\", to = \"device\" }"]);
    let said = refused(
        2,
        &format!(
            "[levels]\norder = [\"north\", \"south\"]\n{}{}{stays}",
            parcel("weight"),
            field("best", "int", "per = \"level\"")
        ),
        &history,
    );
    assert!(said.contains("`best` is moved, and lasts a profile in version 2"), "{said}");
}

#[test]
fn two_things_never_become_one() {
    let gates = "[keys.gate]\nnames = [\"upper\", \"lower\"]\n";
    let old = spec(
        1,
        &format!(
            "{gates}{PATHS}{VISIT}{}{}{}",
            field("coins", "int", ""),
            field("stamps", "int", ""),
            field("passed", "bool", "per = \"gate\"")
        ),
    );
    let now = format!(
        "[keys.gate]\nnames = [\"lower\"]\n{}{VISIT}{}{}",
        PATHS.replace(", \"attic\"", "").replace("[\"hut\", \"cairn\"]", "[\"cairn\"]"),
        field("stamps", "int", ""),
        field("passed", "bool", "per = \"gate\"")
    );
    let steps = [
        "{ rename = \"level\", from = \"attic\", to = \"old_mill\" }",
        "{ rename = \"field\", from = \"coins\", to = \"stamps\" }",
        "{ rename = \"key\", of = \"gate\", from = \"upper\", to = \"lower\" }",
        "{ rename = \"checkpoint\", of = \"heather_rise\", from = \"hut\", to = \"cairn\" }",
    ];
    let said = refused(2, &format!("{now}{}", migration(2, &steps)), &frozen(&[&old]));
    for said_of in [
        "`old_mill` and `attic` would both be the level `old_mill`",
        "`coins` and `stamps` would both be the field `stamps`",
        "`upper` and `lower` would both be the gate `lower`",
        "`hut` and `cairn` would both be the checkpoint `cairn`",
    ] {
        assert!(said.contains(said_of), "{said_of}\n{said}");
    }
    // Those that change places are two.
    let swapped = [
        "{ rename = \"level\", from = \"attic\", to = \"old_mill\" }",
        "{ rename = \"level\", from = \"old_mill\", to = \"attic\" }",
        "{ drop = \"checkpoint\", of = \"old_mill\", name = \"ford\" }",
        "{ drop = \"checkpoint\", of = \"old_mill\", name = \"stile\" }",
    ];
    let (old, images) = at("old_mill", "ford");
    let game = load(&updated(2, &format!("{PATHS}{VISIT}{}", migration(2, &swapped)), &frozen(&[&old])), &images);
    assert_eq!((shown(&game, "best", &["attic"]), shown(&game, "best", &["old_mill"])), ("70".into(), "0".into()));
    assert!(refused(2, "", &History::default()).is_empty());
    let alone =
        vestigum_core::lint::check("a.toml", &text(2, &migration(2, &["{ drop = \"field\", name = \"coins\" }"])));
    assert_eq!(alone.findings.list()[0].code, "V109");
}

#[test]
fn versions_follow_each_other() {
    let old = spec(1, &field("coins", "int", ""));
    let history = frozen(&[&old]);
    let rest = field("coins", "int", "");
    let second = updated(2, &rest, &history);
    let history = frozen(&[&old, &second]);
    for (version, migrations, said) in [
        (1, String::new(), "version 2 is frozen, and this spec says version 1"),
        (4, String::new(), "version 4 skips a version: the newest that was frozen is 2"),
        (3, migration(4, &[]), "this migrates to version 4, and the spec is of version 3"),
        (3, migration(1, &[]), "this migrates from version 0, which was never frozen"),
        (3, format!("{0}{0}", migration(3, &[])), "there is a migration to version 3 already"),
        (2, migration(2, &["{ fill = \"coins\", with = \"silver\" }"]), "nothing is called `silver`"),
    ] {
        let refused = refused(version, &format!("{rest}{migrations}").replace("  ,\n", ""), &history);
        assert!(refused.contains(said), "{version}: {refused}");
    }
    assert!(history.freeze(&spec(4, &rest)).is_err());
    assert!(history.freeze(&spec(2, "")).unwrap_err().to_string().contains("has changed its shape"));
    let unknown = Image { version: 0, ..Progress::fresh(&old).suspend().profile_image("ada") };
    let error = Progress::load(&second, Some(&unknown), None).unwrap_err();
    assert_eq!(error, LoadError::UnknownVersion { found: 0, oldest: 1 });
    let without_history = spec(2, &format!("{rest}{}", migration(2, &["{ drop = \"field\", name = \"coins\" }"])));
    let error = Progress::load(&without_history, Some(&Progress::fresh(&old).suspend().profile_image("ada")), None);
    assert_eq!(error.unwrap_err(), LoadError::NoHistory { found: 1, known: 2 });
    let later = updated(
        3,
        &format!("{}{}", field("gold", "int", ""), migration(3, &["{ drop = \"field\", name = \"coins\" }"])),
        &history,
    );
    let history = history.freeze(&later).unwrap().history;
    let refused = refused(
        4,
        &format!(
            "{}{}{}",
            field("gold", "int", ""),
            migration(3, &["{ drop = \"field\", name = \"coins\" }"]),
            migration(4, &["{ fill = \"gold\", with = \"coins\" }"])
        ),
        &history,
    );
    assert!(refused.contains("help: it is gone since version 3"), "{refused}");
}

#[test]
fn a_history_that_was_edited_is_not_believed() {
    let first = spec(1, &field("coins", "int", "range = [0, 99]"));
    let second = updated(2, &field("coins", "int", ""), &frozen(&[&first]));
    let json = frozen(&[&first, &second]).to_json();
    assert_eq!(History::from_json("h", &json).unwrap().to_json(), json);
    assert_eq!(History::from_json("h", &json.replace("\n", " ")).unwrap().to_json(), json, "only the content counts");
    let third = updated(3, &field("coins", "int", ""), &frozen(&[&first, &second]));
    let mut value: serde_json::Value = serde_json::from_str(&frozen(&[&first, &second, &third]).to_json()).unwrap();
    value["versions"].as_array_mut().unwrap().remove(1);
    let said = |text: &str| History::from_json("fellpost.history.json", text).unwrap_err().to_string();
    assert!(said(&value.to_string()).contains("version 3 stands after version 1"));
    assert!(said(&json.replace("\"format\": 1", "\"format\": 2")).contains("update the tool"));
    assert!(said(&json.replace("\"type\":\"int\",\"lasts\"", "\"lasts\"")).contains("missing field `type`"));
    assert!(said("[]").contains("this is no history"));
    for cut in 0..json.len() - 2 {
        let _ = said(&json[..cut]);
    }
    insta::assert_snapshot!(said(&json.replace("[0,99]", "[0,50]")), @r#"
    error[V301]: the shape of version 1 was changed after it was frozen
     --> fellpost.history.json:8:9
      |
    8 |         "version": 1,
      |         ^^^^^^^^^^^^^
      |
      = help: players have saves of that shape: put the file back as it was in version control, and change the spec instead
    "#);
}

#[test]
fn the_proof_finds_what_is_lost_though_every_step_is_there() {
    let old = spec(
        1,
        &format!(
            "{PATHS}{}{}{}",
            field("best", "int", "per = \"level\""),
            field("coins", "int", ""),
            field("notes", "set of text", "")
        ),
    );
    let fills = |fill: &str| {
        let steps = [
            "{ drop = \"level\", name = \"attic\" }",
            "{ rename = \"field\", from = \"notes\", to = \"papers\" }",
            fill,
        ];
        let paths = PATHS.replace(", \"attic\"", "");
        let rest = format!(
            "{paths}{}{}{}{}",
            field("best", "int", "per = \"level\""),
            field("coins", "int", "range = [0, 500]"),
            field("papers", "set of text", ""),
            migration(2, &steps)
        );
        prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 20, seed: 3 })
    };
    let told = |proof: &Proof| {
        let fields = proof.versions[0]
            .fields
            .iter()
            .map(|field| format!("{} → {:?} {:?} lost {:?}\n", field.field, field.now, field.verdict, field.lost));
        fields.collect::<String>()
    };
    let sound = fills("{ fill = \"best[heather_rise]\", with = \"best[heather_rise] + 1\" }");
    assert!(sound.holds(), "{}", told(&sound));
    assert!(sound.versions[0].fields[1].clamped > 0, "some saves have more than 500 coins");
    let lossy = fills("{ fill = \"best\", with = \"best[old_mill]\" }");
    assert!(!lossy.holds());
    insta::assert_snapshot!(told(&lossy), @r#"
    best → ["best"] Kept lost ["best[heather_rise]"]
    coins → ["coins"] Kept lost []
    notes → ["papers"] Kept lost []
    completed → ["completed"] Kept lost []
    opened → ["opened"] Kept lost []
    "#);
}

#[test]
fn the_proof_finds_the_saves_in_which_a_value_shows() {
    let visit = |name: &str| {
        format!("[field.{name}]\ntype = \"int\"\nper = \"checkpoint\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n")
    };
    let old = spec(
        1,
        &format!(
            "{PATHS}{}{}{}{}",
            visit("found"),
            visit("seen"),
            field("coins", "int", ""),
            field("title", "text", "")
        ),
    );
    let proof = |richest: &str| {
        let added = ["most", "least", "rich", "chief"].map(|name| field(name, "int", "range = [0, 60]")).concat();
        let steps = [
            "{ fill = \"most\", with = \"highest(found)\" }",
            "{ fill = \"least\", with = \"lowest(seen)\" }",
            &format!("{{ fill = \"rich\", with = \"if(coins == 4711, {richest}, 0)\" }}"),
            "{ fill = \"chief\", with = \"if(title == 'postmaster', 1, 0)\" }",
        ];
        let rest = format!("{PATHS}{added}{}", migration(2, &steps));
        prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 0, seed: 1 })
    };
    let held = proof("1");
    assert!(held.holds(), "{:#?}", held.versions[0].lost().collect::<Vec<_>>());
    let lost = proof("0");
    assert_eq!(lost.versions[0].lost().map(|field| field.field.as_str()).collect::<Vec<_>>(), ["coins"]);
}

#[test]
fn what_a_shorter_limit_cuts_is_told() {
    let fields = |most: &str| {
        ["set of text", "map of int", "list of int", "parcel", "text"]
            .into_iter()
            .zip(["notes", "stops", "times", "load", "motto"])
            .map(|(ty, name)| field(name, ty, most))
            .collect::<String>()
            + "[struct.parcel]\nlabel = \"text\"\nitems = \"list of int\"\n"
    };
    let old = spec(1, &fields(""));
    let mut game = Progress::fresh(&old);
    for item in ["carol", "ada", "bert"] {
        game.insert("notes", &[], Value::text(item)).unwrap();
        game.insert_at("stops", &[], item, Value::Int(1)).unwrap();
    }
    let numbers = Value::List(Arc::new([7, 8, 9].map(Value::Int).to_vec()));
    game.write("times", &[], numbers.clone()).unwrap();
    game.write("motto", &[], Value::text("rain")).unwrap();
    let load_value = game.value("load", &[]).unwrap();
    let Value::Struct(ty, _) = load_value else { panic!("a struct") };
    game.write("load", &[], Value::Struct(ty, Arc::new(vec![Value::text("heavy"), numbers]))).unwrap();
    let (profile, _) = saved(&game);
    let new = updated(2, &fields("max_len = 2"), &frozen(&[&old]));
    let launched = Progress::load(&new, Some(&profile), None).unwrap();
    insta::assert_snapshot!(launched.report, @"
    loaded generation 0
      saved by version 1 of the spec
      migrated to version 2
      notes was {'ada', 'bert', 'carol'}, outside its limits; it is {'ad', 'be'} now
      stops was {ada: 1, bert: 1, carol: 1}, outside its limits; it is {ada: 1, bert: 1} now
      times was [7, 8, 9], outside its limits; it is [7, 8] now
      load was { label = 'heavy', items = [7, 8, 9] }, outside its limits; it is { label = 'he', items = [7, 8] } now
      motto was 'rain', outside its limits; it is 'ra' now
    ");
}

/// Names that players made can be too many now, or become one: what has no place any more is told.
#[test]
fn names_that_were_made_and_have_no_place_are_told() {
    let stones =
        |max: u32| format!("[keys.stone]\nopen = true\nmax = {max}\n{}", field("found", "int", "per = \"stone\""));
    let old = spec(1, &stones(4));
    let mut game = Progress::fresh(&old);
    for (count, name) in ["moss", "cairn", "ford"].into_iter().enumerate() {
        game.write("found", &[name], Value::Int(count as i64 + 1)).unwrap();
    }
    let (profile, _) = saved(&game);
    let fewer = updated(2, &stones(2), &frozen(&[&old]));
    let launched = Progress::load(&fewer, Some(&profile), None).unwrap();
    let dropped = [("found[ford]".to_owned(), "`stone` keeps 2 names at most".to_owned())];
    assert_eq!(launched.report.dropped, dropped);
    assert_eq!(shown(&launched.progress, "found", &["cairn"]), "2");
    let fewest = updated(2, &stones(1), &frozen(&[&old]));
    assert!(prove(&fewest, &Options::default()).holds(), "a raised version is enough");

    let step = "{ rename = \"key\", of = \"stone\", from = \"moss\", to = \"ford\" }";
    let one = updated(2, &format!("{}{}", stones(4), migration(2, &[step])), &frozen(&[&old]));
    let launched = Progress::load(&one, Some(&profile), None).unwrap();
    let dropped = [("found[ford]".to_owned(), "another entry is `found[ford]` now".to_owned())];
    assert_eq!(launched.report.dropped, dropped);
    assert_eq!(shown(&launched.progress, "found", &["ford"]), "1", "the name that was made first");
}

/// What goes to the device is the device's only, and a fill waits for the player who brings what it reads.
#[test]
fn what_was_moved_is_in_one_image_only() {
    let device = |name: &str, more: &str| format!("[field.{name}]\ntype = \"int\"\nlasts = \"device\"\n{more}\n");
    let old = spec(1, &format!("{}{}", field("volume", "int", ""), device("starts", "")));
    let mut game = Progress::fresh(&old);
    game.write("volume", &[], Value::Int(30)).unwrap();
    game.write("starts", &[], Value::Int(4)).unwrap();
    let (profile, on_device) = saved(&game);
    let steps = ["{ move = \"volume\", to = \"device\" }", "{ fill = \"loudness\", with = \"volume * 2 + 1\" }"];
    let fields = format!("{}{}{}", field("xp", "int", ""), device("loudness", "default = 70"), device("starts", ""));
    let rest = format!("{fields}{}", migration(2, &steps));
    let new = updated(2, &rest, &frozen(&[&old]));

    let upgraded = upgrade(&new, 2, Some(&profile), Some(&on_device)).unwrap();
    let (profile_now, device_now) = (upgraded.profile.unwrap(), upgraded.device.unwrap());
    let names = |image: &Image| image.values.keys().map(|name| name.to_string()).collect::<Vec<_>>();
    assert_eq!(names(&profile_now), ["completed", "opened"]);
    assert_eq!(names(&device_now), ["loudness", "starts"]);
    let both = Progress::load(&new, Some(&profile), Some(&on_device)).unwrap();
    assert_eq!(both.report.filled, ["xp"]);
    let both = both.progress;
    assert_eq!((shown(&both, "loudness", &[]), shown(&both, "starts", &[])), ("61".into(), "4".into()));
    let alone = Progress::load(&new, None, Some(&on_device)).unwrap().progress;
    assert_eq!(shown(&alone, "loudness", &[]), "70", "nobody brought a volume");
}

#[test]
fn only_the_migrations_on_the_way_are_taken() {
    let first = spec(1, &field("coins", "int", ""));
    let to_two = migration(2, &["{ rename = \"field\", from = \"coins\", to = \"stamps\" }"]);
    let stamps = format!("{}{to_two}", field("stamps", "int", ""));
    let second = updated(2, &stamps, &frozen(&[&first]));
    let mut game = Progress::fresh(&second);
    game.write("stamps", &[], Value::Int(4)).unwrap();
    let (profile, _) = saved(&game);
    let history = frozen(&[&first, &second]);
    let third = updated(3, &stamps, &history);
    let launched = Progress::load(&third, Some(&profile), None).unwrap();
    assert_eq!(launched.report.migrated.iter().map(|step| step.to).collect::<Vec<_>>(), [3]);
    assert_eq!(shown(&launched.progress, "stamps", &[]), "4");
    // Without the history, only a migration that would be needed is missed.
    let alone = spec(3, &stamps);
    assert_eq!(Progress::load(&alone, Some(&profile), None).unwrap().report.migrated, []);
    let older = Image { version: 1, ..profile };
    let error = Progress::load(&alone, Some(&older), None).unwrap_err();
    assert!(matches!(error, LoadError::NoHistory { found: 1, known: 3 }), "{error}");
}

/// Keys that go, and fields that are kept by other keys than before.
#[test]
fn keys_are_dropped_by_a_step_and_other_keys_want_one() {
    let gates = |more: &str, per: &str| {
        format!("[keys.gate]\n{more}\n[keys.door]\nnames = [\"upper\", \"lower\"]\n{}", field("passed", "int", per))
    };
    let both = "names = [\"upper\", \"lower\"]";
    let old = spec(1, &gates(both, "per = \"gate\""));
    let history = frozen(&[&old]);
    let mut game = Progress::fresh(&old);
    game.write("passed", &["upper"], Value::Int(1)).unwrap();
    game.write("passed", &["lower"], Value::Int(2)).unwrap();
    let drops = migration(2, &["{ drop = \"key\", of = \"gate\", name = \"upper\" }"]);
    let rest = format!("{}{drops}", gates("names = [\"lower\"]", "per = \"gate\""));
    assert_eq!(shown(&load(&updated(2, &rest, &history), &saved(&game)), "passed", &["lower"]), "2");
    for (keys, per) in [("open = true\nmax = 4", "per = \"gate\""), (both, "per = \"door\""), (both, "")] {
        let said = refused(2, &gates(keys, per), &history);
        assert!(said.contains("`passed` has one for each gate in version 1, and one"), "{keys} {per}\n{said}");
    }
    let two = gates(both, "per = [\"gate\", \"door\"]");
    assert!(refused(2, &two, &history).contains("and one for each gate and door in version 2"));
}
