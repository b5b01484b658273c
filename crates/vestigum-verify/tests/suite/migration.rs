//! Migrations step by step: every kind of step, on values, marks and places.

use std::sync::Arc;

use vestigum_core::applying::hook::HookError;
use vestigum_core::{Image, LoadError, Owner, Progress, Value};
use vestigum_spec::value::tree::Tree;
use vestigum_testing::updates::*;
use vestigum_verify::proof::{FieldVerdict, Options, prove};

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
    let parcel =
        Value::Map([("weight".into(), Value::Int(4)), ("fragile".into(), Value::Bool(true))].into_iter().collect());
    let sack = Value::Map([("parcels".into(), Value::List(vec![parcel].into()))].into_iter().collect());
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
    assert_eq!(prove(&new, &Options::default()).versions[0].fields[0].verdict, FieldVerdict::Code);

    let split = new.clone().with_hook(2, |old, new| {
        if old.owner != Owner::Device {
            let Some(Tree::Text(route)) = old.values.get("route") else { return Ok(()) };
            let stops = route.split(' ').map(|stop| Tree::Text(stop.into()));
            new.values.insert("route".into(), Tree::List(stops.collect()));
        }
        // A hook has no say in whose image it is and which version it has.
        (new.version, new.generation, new.game, new.saved_at) = (99, 99, "tarn".into(), "never".into());
        new.owner = Owner::Profile("nobody".into());
        Ok(())
    });
    let upgraded = split.upgrade(2, Some(&images.0), Some(&images.1)).unwrap();
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
    let numbers = Value::List([7, 8, 9].map(Value::Int).to_vec().into());
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
      stops was {ada: 1, bert: 1, carol: 1}, outside its limits; it is {ad: 1, be: 1} now
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
    let rest = migration(2, &["{ drop = \"key\", of = \"stone\", name = \"*\" }"]);
    let fewer = updated(2, &format!("{}{rest}", stones(2)), &frozen(&[&old]));
    let launched = Progress::load(&fewer, Some(&profile), None).unwrap();
    assert_eq!(told(&launched.report.dropped), ["found[ford]: `stone` keeps 2 names at most"]);
    assert_eq!(shown(&launched.progress, "found", &["cairn"]), "2");
    let fewest = updated(2, &format!("{}{rest}", stones(1)), &frozen(&[&old]));
    assert!(prove(&fewest, &Options::default()).holds(), "the step gives up what has no place");

    let step = "{ rename = \"key\", of = \"stone\", from = \"moss\", to = \"ford\" }";
    let one = updated(2, &format!("{}{}", stones(4), migration(2, &[step])), &frozen(&[&old]));
    let launched = Progress::load(&one, Some(&profile), None).unwrap();
    assert_eq!(told(&launched.report.dropped), ["found[ford]: another entry is `found[ford]` now"]);
    assert_eq!(shown(&launched.progress, "found", &["ford"]), "1", "the name that was made first");
}

/// A value that goes to the device is the device's only, and a fill waits for the player who brings what it reads.
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

    let upgraded = new.upgrade(2, Some(&profile), Some(&on_device)).unwrap();
    let (profile_now, device_now) = (upgraded.profile.unwrap(), upgraded.device.unwrap());
    let names = |image: &Image| image.values.keys().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(names(&profile_now), ["completed", "opened"]);
    assert_eq!(names(&device_now), ["loudness", "starts"]);
    let both = Progress::load(&new, Some(&profile), Some(&on_device)).unwrap();
    assert_eq!(told(&both.report.filled), ["xp"]);
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
    // Without the history nothing is known of older saves, whether there are migrations or not.
    let alone = spec(3, &field("stamps", "int", ""));
    let error = Progress::load(&alone, Some(&profile), None).unwrap_err();
    assert!(matches!(error, LoadError::NoHistory { found: 2, known: 3 }), "{error}");
}

fn told<T: ToString>(list: &[T]) -> Vec<String> {
    list.iter().map(ToString::to_string).collect()
}

const HOUNDS: &str = "[levels]\norder = [\"old_mill\"]\n[save]\nresume = \"checkpoint\"\n[struct.gear]\nworn = \"int\"\n[struct.hound]\nname = \"text\"\n\
    level = \"int\"\nkind = { type = \"choice\", of = [\"shore\", \"deep\", \"bog\"] }\ngear = \"gear\"\n";

/// Fills make members of what stands in containers, each from the members that its own item had.
#[test]
fn fills_reach_the_members_of_items() {
    let fields = [field("team", "list of hound", ""), field("kennel", "map of hound", ""), field("lead", "hound", "")];
    let fields = [
        &fields.concat()[..],
        "[field.pack]\ntype = \"set of hound\"\nlasts = \"run\"\nafter_failure = \"checkpoint\"\n",
    ]
    .concat();
    let old = spec(1, &format!("{HOUNDS}{fields}"));
    let mut game = Progress::fresh(&old);
    let hound = |name: &str, level: i64, kind: &str| {
        let gear = Value::Map([("worn".into(), (level * 2).into())].into_iter().collect());
        let members = [("name", name.into()), ("level", level.into()), ("kind", kind.into()), ("gear", gear)];
        Value::Map(members.into_iter().map(|(name, value)| (name.into(), value)).collect())
    };
    for (name, level, kind) in [("Rook", 2, "bog"), ("Wren", 7, "deep")] {
        game.insert("team", &[], hound(name, level, kind)).unwrap();
        game.insert_at("kennel", &[], name, hound(name, level, kind)).unwrap();
        game.insert("pack", &[], hound(name, level, kind)).unwrap();
    }
    game.enter("old_mill").unwrap();
    game.insert("pack", &[], hound("Lark", 9, "shore")).unwrap();
    game.checkpoint("ford").unwrap();
    let images = saved(&game);
    let history = frozen(&[&old]);
    let now = HOUNDS
        .replace("worn = \"int\"", "worn = \"float\"\nused = \"bool\"")
        .replace("level = \"int\"", "rank = \"int\"\nmood = { type = \"int\", default = 1, range = [0, 3] }")
        .replace("\"shore\", \"deep\", \"bog\"", "\"shore\", \"depth\"");
    let asked = refused(2, &format!("{now}{fields}"), &history);
    assert!(asked.contains("{ fill = \"team.gear.worn\", with = \"worn\" }"), "{asked}");
    let worn =
        ["team", "kennel", "lead", "pack"].map(|field| format!("{{ fill = \"{field}.gear.worn\", with = \"worn\" }}"));
    let filled: Vec<&str> = worn.iter().map(String::as_str).collect();
    let asked = refused(2, &format!("{now}{fields}{}", migration(2, &filled)), &history);
    let rename = "{ rename = \"choice\", of = \"hound.kind\", from = \"deep\", to = \"depth\" }";
    assert_eq!(asked.matches(rename).count(), 1, "once for the struct that four fields have: {asked}");
    let moods = ["team", "kennel", "pack"].map(|field| {
        format!("{{ fill = \"{field}.mood\", with = \"if(level > 3, 2 + level, if(kind == 'bog', 0, 1))\" }}")
    });
    let rest = [
        "{ rename = \"struct field\", of = \"hound\", from = \"level\", to = \"rank\" }",
        "{ rename = \"choice\", of = \"hound.kind\", from = \"deep\", to = \"depth\" }",
        "{ drop = \"choice\", of = \"hound.kind\", name = \"bog\" }",
        "{ fill = \"team.gear.used\", with = \"worn > 9\" }",
        "{ fill = \"lead.mood\", with = \"level + 2\" }",
    ];
    let steps: Vec<&str> = worn.iter().chain(&moods).map(String::as_str).chain(rest).collect();
    let new = updated(2, &format!("{now}{fields}{}", migration(2, &steps)), &history);
    let mut loaded = load(&new, &images);
    let rook = |used: bool| {
        format!("{{ name = 'Rook', rank = 2, mood = 0, kind = shore, gear = {{ worn = 4.0, used = {used} }} }}")
    };
    let wren = |used: bool| {
        format!("{{ name = 'Wren', rank = 7, mood = 3, kind = depth, gear = {{ worn = 14.0, used = {used} }} }}")
    };
    assert_eq!(shown(&loaded, "team", &[]), format!("[{}, {}]", rook(false), wren(true)));
    assert_eq!(shown(&loaded, "kennel", &[]), format!("{{Rook: {}, Wren: {}}}", rook(false), wren(false)));
    assert!(shown(&loaded, "lead", &[]).contains("mood = 2"), "also of a value at its default");
    assert!(shown(&loaded, "pack", &[]).contains("name = 'Lark', rank = 9, mood = 3"));
    loaded.restart().unwrap();
    assert_eq!(shown(&loaded, "pack", &[]), format!("{{{}, {}}}", rook(false), wren(false)), "the mark is filled, too");
    let proof = prove(&new, &Options::default());
    assert!(proof.versions.iter().all(|version| version.failures.is_empty()), "{:?}", proof.versions);
}

#[test]
fn a_fill_of_a_member_says_what_it_cannot_read() {
    let fields = field("team", "list of hound", "");
    let history = frozen(&[&spec(1, &format!("{HOUNDS}{fields}{}", field("coins", "int", "")))]);
    let now = HOUNDS.replace("level = \"int\"", "level = { type = \"int\", range = [0, 9] }\nmood = \"int\"");
    let cases = [
        ("{ fill = \"team.moot\", with = \"1\" }", "a hound has no member `moot`; it has: name, level"),
        ("{ fill = \"team.mood\", with = \"rank\" }", "nothing is called `rank`"),
        ("{ fill = \"team.mood\", with = \"name\" }", "an int is wanted here, and this is a text"),
        ("{ fill = \"team.mood\", with = \"coins + level\" }", "`coins` is a field"),
        (
            "{ fill = \"team.mood\", with = \"1\" },\n{ fill = \"team.mood\", with = \"2\" }",
            "fills `team.mood` already",
        ),
        ("{ fill = \"pack.mood\", with = \"level\" }", "version 1 has no `pack`"),
    ];
    let pack = field("pack", "list of hound", "");
    for (step, expected) in cases {
        let said =
            refused(2, &format!("{now}{fields}{pack}{}{}", field("coins", "int", ""), migration(2, &[step])), &history);
        assert!(said.contains(expected), "`{expected}` is not said of {step}:\n{said}");
    }
    let narrower = refused(1, &format!("{now}{fields}{}", field("coins", "int", "")), &history);
    assert!(
        narrower.contains("`hound.level` has a narrower range now") && narrower.contains("raise `version` to 2"),
        "{narrower}"
    );
}

/// A fill covers the one place that it names: the same struct elsewhere, in another field or beside it, is asked for by itself.
#[test]
fn a_fill_of_a_member_covers_one_place() {
    let before = "[levels]\norder = [\"old_mill\"]\n[struct.hound]\nhp = \"int\"\n[struct.sled]\nlead = \"hound\"\nspare = \"hound\"\n";
    let fields = [field("sled", "sled", ""), field("team", "list of hound", "")].concat();
    let history = frozen(&[&spec(1, &format!("{before}{fields}"))]);
    let asked = |now: &str, steps: &[&str]| refused(2, &format!("{now}{fields}{}", migration(2, steps)), &history);
    // The type of a member has changed.
    let now = before.replace("hp = \"int\"", "hp = \"float\"");
    let (lead, spare, team) = ("sled.lead.hp", "sled.spare.hp", "team.hp");
    let fill = |target: &str| format!("{{ fill = \"{target}\", with = \"hp\" }}");
    for (done, missing) in
        [(vec![lead], vec![spare, team]), (vec![spare, team], vec![lead]), (vec![lead, spare], vec![team])]
    {
        let steps: Vec<String> = done.iter().map(|target| fill(target)).collect();
        let said = asked(&now, &steps.iter().map(String::as_str).collect::<Vec<_>>());
        let first = missing.iter().any(|target| said.contains(&fill(target)));
        assert!(first && done.iter().all(|target| !said.contains(&fill(target))), "{done:?}:\n{said}");
    }
    // A member is gone, and a fill reads what it was.
    let now = before.replace("hp = \"int\"", "health = \"int\"");
    let read = |target: &str| format!("{{ fill = \"{target}.health\", with = \"hp * 10\" }}");
    let two = [read("sled.lead"), read("team")];
    let said = asked(&now, &two.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(said.contains("has the field `hp` of the struct `hound`"), "that of the spare hound goes nowhere: {said}");
    let all = [read("sled.lead"), read("sled.spare"), read("team")];
    let steps: Vec<&str> = all.iter().map(String::as_str).collect();
    updated(2, &format!("{now}{fields}{}", migration(2, &steps)), &history);
}
