//! What an update does to saves, it says: names that become one, steps that were changed after they shipped, entries and
//! values that have no place any more.

use vestigum_core::applying::hook::HookError;
use vestigum_core::{History, Progress, Spec, Value};
use vestigum_spec::freezing::Froze;
use vestigum_testing::updates::*;
use vestigum_verify::lint::check_with_history;
use vestigum_verify::proof::{FieldVerdict, Options, prove};

const PARCEL: &str = "[struct.parcel]\nweight = \"int\"\nprice = \"int\"\n";

/// The messages of an update that is refused, one a line.
fn said(rest: &str, history: &History) -> String {
    let checked = check_with_history("fellpost.toml", &text(2, rest), history.clone());
    let told = checked.findings.list().iter().map(|finding| format!("{} {}\n", finding.code, finding.message));
    told.collect()
}

#[test]
fn two_members_or_two_choices_do_not_become_one() {
    let bag = field("bag", "list of parcel", "");
    let weather = |of: &str| field("weather", "choice", &format!("of = [{of}]"));
    let old = spec(1, &format!("{PARCEL}{bag}{}", weather("\"fair\", \"gale\", \"storm\"")));
    let history = frozen(&[&old]);
    // One onto another that is there.
    let update = |structs: &str, of: &str, steps: &[&str]| {
        said(&format!("{structs}{bag}{}{}", weather(of), migration(2, steps)), &history)
    };
    let same = "\"fair\", \"gale\", \"storm\"";
    assert_eq!(
        update(PARCEL, same, &["{ rename = \"struct field\", of = \"parcel\", from = \"weight\", to = \"price\" }"]),
        "V305 `weight` and `price` would both be the field `price` of the struct `parcel`\n"
    );
    // Two onto a new one.
    let worth = "[struct.parcel]\nworth = \"int\"\n";
    let both = [
        "{ rename = \"struct field\", of = \"parcel\", from = \"weight\", to = \"worth\" }",
        "{ rename = \"struct field\", of = \"parcel\", from = \"price\", to = \"worth\" }",
    ];
    assert_eq!(
        update(worth, same, &both),
        "V305 `weight` and `price` would both be the field `worth` of the struct `parcel`\n"
    );
    assert_eq!(update(worth, same, &["{ drop = \"struct field\", of = \"parcel\", name = \"price\" }", both[0]]), "");
    // Half a swap.
    assert_eq!(
        update(PARCEL, same, &["{ rename = \"choice\", of = \"weather\", from = \"gale\", to = \"storm\" }"]),
        "V305 `gale` and `storm` would both be the choice `storm` of `weather`\n"
    );
    let swap = [
        "{ rename = \"choice\", of = \"weather\", from = \"gale\", to = \"storm\" }",
        "{ rename = \"choice\", of = \"weather\", from = \"storm\", to = \"gale\" }",
    ];
    assert_eq!(update(PARCEL, same, &swap), "");
    assert_eq!(
        update(PARCEL, "\"fair\", \"storm\"", &[swap[0], "{ drop = \"choice\", of = \"weather\", name = \"storm\" }"]),
        ""
    );
}

/// Each member of a struct is looked at, also in lists, sets and maps.
#[test]
fn the_proof_finds_a_member_that_is_lost() {
    let bags = |names: [&str; 3]| {
        field(names[0], "list of parcel", "") + &field(names[1], "map of parcel", "") + &field(names[2], "parcel", "")
    };
    let old = spec(1, &format!("{PARCEL}{}", bags(["bag", "shelf", "hand"])));
    let rest = |with: &str| {
        format!(
            "{PARCEL}{}{}",
            bags(["bag", "shelf", "palm"]),
            migration(2, &[&format!("{{ fill = \"palm\", with = \"{with}\" }}")])
        )
    };
    let lost = |with: &str| {
        let proof = prove(&updated(2, &rest(with), &frozen(&[&old])), &Options { random: 5, seed: 1 });
        let fields = proof.versions[0].fields.iter().filter(|field| field.verdict == FieldVerdict::Kept);
        fields.flat_map(|field| field.lost.iter().map(ToString::to_string).collect::<Vec<_>>()).collect::<Vec<_>>()
    };
    assert_eq!(lost("hand"), Vec::<String>::new());
    assert_eq!(lost("{ weight = hand.weight, price = 3 }"), ["hand.price"]);
    let nested = "[struct.parcel]\nweight = \"int\"\nprice = \"int\"\n[struct.load]\ntop = \"parcel\"\n";
    let loads = |name: &str| field(name, "set of load", "");
    let old = spec(1, &format!("{nested}{}", loads("cart")));
    let nested_now = nested.replace("\nprice = \"int\"", "");
    let drop = "{ drop = \"struct field\", of = \"parcel\", name = \"price\" }";
    let rest = format!("{nested_now}{}{}", loads("cart"), migration(2, &[drop]));
    let proof = prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 5, seed: 1 });
    assert!(proof.holds(), "what a step drops is not lost: {:?}", proof.versions[0].fields);
}

#[test]
fn what_cannot_be_lost_is_not_called_lost() {
    let old = spec(
        1,
        &format!(
            "{PATHS}{}{}{}{}",
            field("weather", "choice", "per = \"level\"\nof = [\"fair\", \"gale\", \"storm\"]"),
            field("one", "int", "range = [3, 3]\ndefault = 3"),
            field("satchel", "map of int", ""),
            field("tools", "set of text", "")
        ),
    );
    let steps = [
        "{ drop = \"choice\", of = \"weather\", name = \"storm\" }",
        "{ fill = \"rings\", with = \"satchel['ring']\" }",
        "{ fill = \"roped\", with = \"has(tools, 'rope')\" }",
    ];
    let rest = format!(
        "{PATHS}{}{}{}{}{}",
        field("weather", "choice", "per = \"level\"\nof = [\"fair\", \"gale\"]"),
        field("one", "int", "range = [3, 3]\ndefault = 3"),
        field("rings", "int", ""),
        field("roped", "bool", ""),
        migration(2, &steps)
    );
    let proof = prove(&updated(2, &rest, &frozen(&[&old])), &Options { random: 0, seed: 1 });
    assert!(proof.holds(), "{:#?}", proof.versions[0].lost().collect::<Vec<_>>());
}

#[test]
fn a_migration_that_shipped_stays_as_it_was() {
    let first = spec(1, &format!("{PATHS}{}", field("best", "int", "")));
    let rest = |steps: &[&str]| format!("{PATHS}{}{}", field("most", "int", ""), migration(2, steps));
    let fill = "{ fill = \"most\", with = \"best + 1\" }";
    let second = updated(2, &rest(&[fill]), &frozen(&[&first]));
    let history = frozen(&[&first]).freeze(&second).unwrap().history;
    // Through its file, in which the steps and their digest stand.
    let history = History::from_json("history", &history.to_json()).unwrap();
    assert_eq!(history.freeze(&updated(2, &rest(&[fill]), &history)).unwrap().done, Froze::Unchanged);
    // Spaces are nothing.
    updated(2, &rest(&["{ fill = \"most\", with = \"best+1\" }"]), &history);
    let changed = said(&rest(&["{ fill = \"most\", with = \"best + 2\" }"]), &history);
    assert_eq!(changed, "V306 the migration to version 2 has shipped, and its steps are others now\n");
    let gone = said(&format!("{PATHS}{}", field("most", "int", "")), &history);
    assert_eq!(gone, "V306 the migration to version 2 has shipped, and it is gone\n");
    let text = text(3, &rest(&["{ fill = \"most\", with = \"best * 3\" }"]));
    let checked = check_with_history("fellpost.toml", &text, history.clone());
    insta::assert_snapshot!(checked.findings.list()[0].help.as_deref().unwrap_or_default(), @r#"players of version 1 who have played since have what the steps made then, and those who come later would have something else; put back { fill = "most", with = "best + 1" }; take out { fill = "most", with = "best * 3" }; what is to be different is said in the migration to version 3"#);
    let edited = history.to_json().replace("best + 1", "best + 4");
    assert!(History::from_json("history", &edited).is_err(), "the digest covers the steps");
}

const GATES: &str = "[keys.gate]\nnames = [\"north\", \"south\", \"east\"]\n";
const OPEN: &str = "[keys.gate]\nopen = true\nmax = 2\n";

/// A key set whose names are declared becomes one whose names play makes, or the other way round.
#[test]
fn keys_that_open_or_close_take_their_values_along() {
    let visits = field("visits", "int", "per = \"gate\"");
    let fill = "{ fill = \"visits\", with = \"visits\" }";
    let rest = "{ drop = \"key\", of = \"gate\", name = \"*\" }";
    let old = spec(1, &format!("{GATES}{visits}"));
    let mut game = Progress::fresh(&old);
    for (gate, count) in [("east", 7), ("south", 3)] {
        game.write("visits", &[gate], Value::Int(count)).unwrap();
    }
    let history = frozen(&[&old]);
    let refused = refused(2, &format!("{OPEN}{visits}"), &history);
    assert!(
        refused.contains(
            "`visits` has one for each gate in version 1, and one for each gate that play names in version 2"
        ),
        "{refused}"
    );
    assert!(refused.contains(&format!("say in the migration to version 2: {fill}")), "{refused}");
    let opened = updated(2, &format!("{OPEN}{visits}{}", migration(2, &[fill, rest])), &history);
    let launched = Progress::load(&opened, Some(&saved(&game).0), None).unwrap();
    assert_eq!(shown(&launched.progress, "visits", &["south"]), "3");
    assert_eq!(shown(&launched.progress, "visits", &["east"]), "7");
    assert_eq!(launched.progress.suspend().profile_image("ada").made["gate"].len(), 2, "north was never used");
    assert!(launched.report.dropped.is_empty(), "{}", launched.report);
    // A third that was used has no room.
    game.write("visits", &["north"], Value::Int(1)).unwrap();
    let launched = Progress::load(&opened, Some(&saved(&game).0), None).unwrap();
    let dropped: Vec<String> = launched.report.dropped.iter().map(ToString::to_string).collect();
    assert_eq!(dropped, ["visits[east]: `gate` keeps 2 names at most"]);
    // And back.
    let old = spec(1, &format!("{OPEN}{visits}"));
    let mut game = Progress::fresh(&old);
    for (gate, count) in [("west", 5), ("south", 3)] {
        game.write("visits", &[gate], Value::Int(count)).unwrap();
    }
    let closed = updated(2, &format!("{GATES}{visits}{}", migration(2, &[fill, rest])), &frozen(&[&old]));
    let launched = Progress::load(&closed, Some(&saved(&game).0), None).unwrap();
    assert_eq!(shown(&launched.progress, "visits", &["south"]), "3");
    let dropped: Vec<String> = launched.report.dropped.iter().map(ToString::to_string).collect();
    assert_eq!(dropped, ["visits[west]: no gate is called `west`"]);
}

/// A value that is kept for each level now comes from fills, and from nothing else.
#[test]
fn a_value_that_is_spread_goes_where_the_fill_says() {
    let old = spec(1, &format!("{PATHS}{}", field("best", "int", "")));
    let mut game = Progress::fresh(&old);
    game.write("best", &[], Value::Int(80)).unwrap();
    let rest = format!(
        "{PATHS}{}{}",
        field("best", "int", "per = \"level\""),
        migration(2, &["{ fill = \"best[attic]\", with = \"best\" }"])
    );
    let game = load(&updated(2, &rest, &frozen(&[&old])), &saved(&game));
    assert_eq!(["old_mill", "attic"].map(|level| shown(&game, "best", &[level])), ["0", "80"]);
}

/// The first player's value goes to the device; the others hear that theirs does not.
#[test]
fn a_value_that_the_device_does_not_take_is_told() {
    let volume = |lasts: &str| {
        let after = if lasts == "profile" { "after_failure = \"keep\"\n" } else { "" };
        format!("{PATHS}[field.volume]\ntype = \"int\"\nlasts = \"{lasts}\"\ndefault = 70\n{after}")
    };
    let told = |old: &Spec, spec: &Spec, volumes: [i64; 3]| {
        let mut device = None;
        let mut told = Vec::new();
        for volume in volumes {
            let mut game = Progress::fresh(old);
            game.write("volume", &[], Value::Int(volume)).unwrap();
            let launched = Progress::load(spec, Some(&saved(&game).0), device.as_ref()).unwrap();
            let dropped: Vec<String> = launched.report.dropped.iter().map(ToString::to_string).collect();
            told.push(format!("{} {}", shown(&launched.progress, "volume", &[]), dropped.join("; ")));
            device = Some(saved(&launched.progress).1);
        }
        told
    };
    let first = spec(1, &volume("profile"));
    let second = updated(
        2,
        &format!("{}{}", volume("device"), migration(2, &["{ move = \"volume\", to = \"device\" }"])),
        &frozen(&[&first]),
    );
    let not_taken = "volume: it belongs to the device now, which has a value already";
    assert_eq!(told(&first, &second, [20, 90, 20]), ["20 ".to_owned(), format!("20 {not_taken}"), "20 ".to_owned()]);
    // From the device to the profiles and back: what each of them had comes to one again.
    let first = spec(1, &volume("device"));
    let between = format!("{}{}", volume("profile"), migration(2, &["{ move = \"volume\", to = \"profile\" }"]));
    let second = updated(2, &between, &frozen(&[&first]));
    let history = frozen(&[&first]).freeze(&second).unwrap().history;
    let back = format!(
        "{}{}{}",
        volume("device"),
        migration(2, &["{ move = \"volume\", to = \"profile\" }"]),
        migration(3, &["{ move = \"volume\", to = \"device\" }"])
    );
    let third = updated(3, &back, &history);
    assert_eq!(told(&second, &third, [20, 90, 20]), ["20 ".to_owned(), format!("20 {not_taken}"), "20 ".to_owned()]);
}

/// A checkpoint that a step drops leads to the entry, also where any name would do now.
#[test]
fn a_checkpoint_that_is_gone_is_no_name_for_another() {
    let (old, images) = at("old_mill", "ford");
    let free = PATHS.replace("[level.old_mill]\ncheckpoints = [\"ford\", \"stile\"]\n", "");
    let steps =
        ["ford", "stile"].map(|name| format!("{{ drop = \"checkpoint\", of = \"old_mill\", name = \"{name}\" }}"));
    let steps: Vec<&str> = steps.iter().map(String::as_str).collect();
    let spec = updated(2, &format!("{free}{VISIT}{}", migration(2, &steps)), &frozen(&[&old]));
    let launched = Progress::load(&spec, Some(&images.0), None).unwrap();
    assert_eq!(launched.progress.place().to_string(), "old_mill");
    let place = launched.report.place.expect("it has changed");
    assert_eq!(place.from, "old_mill at ford of version 1");
    assert_eq!(place.why, "`old_mill` has no checkpoint `ford` of version 1 any more");
    // A checkpoint that is called so keeps its player.
    let loose = Spec::from_toml(&text(1, &format!("{free}{VISIT}"))).unwrap();
    let mut game = Progress::fresh(&loose);
    game.enter("old_mill").unwrap();
    game.checkpoint("ford of version 1").unwrap();
    let spec = updated(2, &format!("{free}{VISIT}"), &frozen(&[&loose]));
    assert_eq!(load(&spec, &saved(&game)).place().to_string(), "old_mill at ford of version 1");
}

/// Two made names become one: the first that was made keeps its entry, at its default as anywhere.
#[test]
fn the_name_that_was_made_first_keeps_its_entry() {
    let open = OPEN.replace("max = 2", "max = 9");
    let stones = "[field.stones]\ntype = \"int\"\nper = \"gate\"\nlasts = \"run\"\nafter_failure = \"entry\"\n";
    let old = spec(1, &format!("{PATHS}{open}{stones}"));
    let rename = "{ rename = \"key\", of = \"gate\", from = \"b\", to = \"a\" }";
    let new = updated(2, &format!("{PATHS}{open}{stones}{}", migration(2, &[rename])), &frozen(&[&old]));
    for in_level in [false, true] {
        let mut game = Progress::fresh(&old);
        if in_level {
            game.enter("old_mill").unwrap();
        }
        for (name, count) in [("a", 4), ("b", 9), ("a", 0)] {
            game.write("stones", &[name], Value::Int(count)).unwrap();
        }
        if !in_level {
            assert_eq!(shown(&game, "stones", &["b"]), "9");
        }
        let launched = Progress::load(&new, Some(&saved(&game).0), None).unwrap();
        assert_eq!(shown(&launched.progress, "stones", &["a"]), "0", "in a level: {in_level}");
    }
}

#[test]
fn a_clamp_that_a_fill_writes_over_is_not_told() {
    let old = spec(1, &field("coins", "int", ""));
    let mut game = Progress::fresh(&old);
    game.write("coins", &[], Value::Int(50_000)).unwrap();
    let narrow = |with: &str| {
        let rest = format!(
            "{}{}",
            field("coins", "int", "range = [0, 500]"),
            migration(2, &[&format!("{{ fill = \"coins\", with = \"{with}\" }}")])
        );
        let launched = Progress::load(&updated(2, &rest, &frozen(&[&old])), Some(&saved(&game).0), None).unwrap();
        (shown(&launched.progress, "coins", &[]), launched.report.clamped.len())
    };
    assert_eq!(narrow("coins / 1000"), ("50".into(), 0));
    assert_eq!(narrow("coins / 10"), ("500".into(), 1));
}

#[test]
fn texts_and_floats_have_expressions_and_other_types_a_hook() {
    let old =
        spec(1, &format!("{}{}{}", field("title", "text", ""), field("time", "float", ""), field("note", "text", "")));
    let rank = field("title", "choice", "of = [\"novice\", \"carrier\"]");
    let (time, note) = (field("time", "int", ""), field("note", "vec2", ""));
    let history = frozen(&[&old]);
    let asked = refused(2, &format!("{rank}{time}{note}"), &history);
    let offered = [
        "{ fill = \"title\", with = \"if(title == 'carrier', 'carrier', 'novice')\" }",
        "{ fill = \"time\", with = \"round(time)\" }",
        "{ drop = \"field\", name = \"note\" }",
    ];
    for step in offered {
        assert!(asked.contains(step), "{step}: {asked}");
    }
    assert!(asked.contains("or let the game's code make it: { hook = \"note\" }"), "{asked}");
    let new = updated(2, &format!("{rank}{time}{note}{}", migration(2, &offered)), &history);
    let mut game = Progress::fresh(&old);
    for (title, time, now) in [("carrier", 2.5, "carrier 3"), ("queen", -1e300, "novice -9223372036854775808")] {
        game.write("title", &[], title.into()).unwrap();
        game.write("time", &[], time.into()).unwrap();
        let game = load(&new, &saved(&game));
        assert_eq!(format!("{} {}", shown(&game, "title", &[]), shown(&game, "time", &[])), now);
    }
}

/// `and` and `or` in a fill read only what they need.
#[test]
fn what_a_fill_does_not_come_to_is_not_read() {
    let old = spec(1, &format!("{}{}", field("best", "int", "optional = true"), field("plays", "int", "")));
    let fill = "{ fill = \"fast\", with = \"filled(best) and best < 60 or plays > 3\" }";
    let rest =
        format!("{}{}{}", field("fast", "bool", "optional = true"), field("plays", "int", ""), migration(2, &[fill]));
    let new = updated(2, &rest, &frozen(&[&old]));
    let mut game = Progress::fresh(&old);
    assert_eq!(shown(&load(&new, &saved(&game)), "fast", &[]), "false", "there is no best, and nothing else is asked");
    game.write("plays", &[], Value::Int(4)).unwrap();
    assert_eq!(shown(&load(&new, &saved(&game)), "fast", &[]), "true");
}

#[test]
fn a_hook_that_panics_is_an_error() {
    let old = spec(1, &field("route", "text", ""));
    let rest = format!("{}{}", field("route", "list of text", ""), migration(2, &["{ hook = \"route\" }"]));
    let new =
        updated(2, &rest, &frozen(&[&old])).with_hook(2, |_, _| -> Result<(), HookError> { panic!("no such way") });
    let image = saved(&Progress::fresh(&old)).0;
    let error = Progress::load(&new, Some(&image), None).unwrap_err();
    assert_eq!(
        error.to_string(),
        "the migration to version 2 panicked in the game's code: no such way; nothing was overwritten"
    );
}
