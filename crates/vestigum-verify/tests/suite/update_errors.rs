//! What is said about an update that does not fit what has shipped, and what passes.

use vestigum_core::{History, Image, LoadError, Progress, Value};
use vestigum_testing::updates::*;
use vestigum_verify::lint::check_with_history;
use vestigum_verify::render;

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
      = help: raise `version` to 2 and say in its migration: { rename = "field", from = "coins", to = "stamps" }; `coins` has another range than `stamps`: is it another field? then { drop = "field", name = "coins" }

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
      { rename = "field", from = "coins", to = "stamps" },  # `coins` has another range than `stamps`: is it another field? then { drop = "field", name = "coins" }
      { drop = "field", name = "debug_seed" },
      { fill = "speed", with = "speed" },
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

    error[V305]: this step does not say which level the checkpoint belongs to
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
        render(&two.findings, false).contains("name = \"north\" }; or rename it, if it is `east` or `west` now"),
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
        vestigum_verify::lint::check("a.toml", &text(2, &migration(2, &["{ drop = \"field\", name = \"coins\" }"])));
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
    let dropped = format!("{rest}{}", migration(2, &["{ drop = \"field\", name = \"coins\" }"]));
    let unread = render(&vestigum_core::Spec::from_toml(&text(2, &dropped)).unwrap_err(), false);
    assert!(unread.contains("there are migrations, and no history"), "{unread}");
    assert!(unread.contains("a game reads both, with `Spec::from_toml_with_history`"), "{unread}");
    let without_history = spec(2, &rest);
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
    // Before the shapes stands a note.
    value["shapes"].as_array_mut().unwrap().remove(2);
    let said = |text: &str| render(&History::from_json("fellpost.history.json", text).unwrap_err(), false);
    assert!(said(&value.to_string()).contains("version 3 stands after version 1"));
    assert!(said(&json.replace("\"format\": 2", "\"format\": 3")).contains("update the tool"));
    assert!(said(&json.replace("\"type\":\"int\",\"lasts\"", "\"lasts\"")).contains("missing field `type`"));
    assert!(said("[]").contains("this is not a history"));
    for cut in 0..json.len() - 2 {
        let _ = said(&json[..cut]);
    }
    insta::assert_snapshot!(said(&json.replace("[0,99]", "[0,50]")), @r#"
    error[V301]: the shape of version 1 was changed after it was frozen
     --> fellpost.history.json:6:59
      |
    6 |    ,{"digest":"02946e6f5df960cc141b071e835ad1e7","shape":{"version":1,"levels_last":"profile","resume":"checkpoint","accept":"any","l...
      |                                                           ^^^^^^^^^^^
      |
      = help: players have saves of that shape: put the file back as it was in version control, and change the spec instead
    "#);
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

/// A struct changes its type if one of its members does, and an optional choice that nobody made stays so.
#[test]
fn structs_and_choices_change_part_by_part() {
    let parcel = |members: &str, names: &str| {
        let rank = field("rank", "choice", &format!("of = [{names}]\noptional = true"));
        format!("[struct.parcel]\n{members}\n{}{rank}", field("load", "parcel", ""))
    };
    let old = spec(1, &parcel("grams = \"int\"\nlabel = \"text\"", "\"novice\", \"carrier\""));
    let history = frozen(&[&old]);
    let said = refused(2, &parcel("grams = \"text\"\nlabel = \"text\"", "\"novice\", \"carrier\""), &history);
    assert!(
        said.contains("`grams` of the parcel in `load` is of type int in version 1, and of type text in version 2"),
        "{said}"
    );
    let said =
        refused(2, &parcel("grams = \"int\"\ntitle = \"text\"\nnotes = \"int\"", "\"novice\", \"carrier\""), &history);
    assert!(said.contains("from = \"label\", to = \"title\" }"), "one of its type\n{said}");
    let listed = |grams: &str| format!("[struct.parcel]\ngrams = \"{grams}\"\n{}", field("loads", "map of parcel", ""));
    let said = refused(2, &listed("bool"), &frozen(&[&spec(1, &listed("int"))]));
    assert!(said.contains("`grams` of the parcel in `loads` is of type int in version 1, and of type bool"), "{said}");
    let renamed = migration(2, &["{ rename = \"choice\", of = \"rank\", from = \"novice\", to = \"new\" }"]);
    let rest = format!("{}{renamed}", parcel("grams = \"int\"\nlabel = \"text\"", "\"new\", \"carrier\""));
    let game = load(&updated(2, &rest, &history), &saved(&Progress::fresh(&old)));
    assert!(!game.value("rank", &[]).unwrap().is_filled());
}

/// A field of one struct that is of another now, while the first is there still: no member of the first was renamed.
#[test]
fn a_field_of_another_struct_is_no_struct_with_other_members() {
    let structs = "[struct.being]\nlevel = \"int\"\nnote = \"text\"\n[struct.thing]\nn = \"int\"\nname = \"text\"\n";
    let old = spec(1, &format!("{structs}{}{}", field("pet", "being", ""), field("friend", "being", "")));
    let history = frozen(&[&old]);
    let rest = format!("{structs}{}{}", field("pet", "thing", ""), field("friend", "being", ""));
    let told = refused(2, &rest, &history);
    assert!(told.contains("`pet` is of type being in version 1, and of type thing in version 2"), "{told}");
    assert!(!told.contains("struct field"), "{told}");
    updated(2, &format!("{rest}{}", migration(2, &["{ drop = \"field\", name = \"pet\" }"])), &history);
}
