//! The steps that `check` offers: pasted as a whole they pass, and what can be kept is kept.

use vestigum_core::{Progress, Spec};
use vestigum_spec::value::tree::Tree;
use vestigum_testing::updates::*;
use vestigum_verify::lint::check_with_history;
use vestigum_verify::proof::{FieldVerdict, Options, prove};

/// The spec of version 2 with what is offered, and the offer.
fn pasted(old: &Spec, rest: &str) -> (Spec, String) {
    let history = frozen(&[old]);
    let offered = check_with_history("fellpost.toml", &text(2, rest), history.clone()).migrations();
    let checked = check_with_history("fellpost.toml", &text(2, &format!("{rest}{offered}")), history);
    let spec = checked.spec.unwrap_or_else(|| panic!("{offered}\n{}", checked.findings));
    (spec, offered)
}

fn run(name: &str, range: &str) -> String {
    format!("[field.{name}]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n{range}\n")
}

const LEVELS: &str = "[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\n";
const KIND: &str = "[keys.kind]\nnames = [\"calm\", \"gale\"]\n";

/// Holds what was played, the values that are written to it, the next version, a step that must be offered and the values that must be there.
type Case<'a> = (
    &'a str,
    String,
    &'a [(&'a str, &'a [&'a str], &'a str)],
    String,
    &'a str,
    &'a [(&'a str, &'a [&'a str], &'a str)],
);

#[test]
fn what_is_offered_keeps_what_it_can() {
    let per = |axes: &str, ty: &str| format!("{LEVELS}{KIND}{}", field("best", ty, &format!("per = {axes}")));
    let thing = |members: &str, ty: &str| format!("[struct.hero]\n{members}\n{}", field("hero", ty, ""));
    let cases: Vec<Case<'_>> = vec![
        (
            "the heir that fits best, whatever stands first",
            run("seed", "") + &field("gems", "int", "range = [0, 99]"),
            &[("gems", &[], "7"), ("seed", &[], "3")],
            field("shards", "int", "range = [0, 99]"),
            "{ rename = \"field\", from = \"gems\", to = \"shards\" }",
            &[("shards", &[], "7")],
        ),
        (
            "a key set under another name",
            format!("[keys.door]\nnames = [\"north\", \"south\"]\n{}", field("seen", "int", "per = \"door\"")),
            &[("seen", &["north"], "4")],
            format!("[keys.gate]\nnames = [\"north\", \"south\"]\n{}", field("seen", "int", "per = \"gate\"")),
            "{ rename = \"key set\", from = \"door\", to = \"gate\" }",
            &[("seen", &["north"], "4")],
        ),
        (
            "a key set under another name, and a key gone with it",
            format!("[keys.door]\nnames = [\"north\", \"south\"]\n{}", field("seen", "int", "per = \"door\"")),
            &[("seen", &["north"], "4")],
            format!("[keys.gate]\nnames = [\"north\"]\n{}", field("seen", "int", "per = \"gate\"")),
            "{ drop = \"key\", of = \"door\", name = \"south\" }",
            &[("seen", &["north"], "4")],
        ),
        (
            "axes in another order",
            per("[\"level\", \"kind\"]", "int"),
            &[("best", &["mill_lane", "gale"], "5")],
            per("[\"kind\", \"level\"]", "int"),
            "{ fill = \"best\", with = \"best\" }",
            &[("best", &["gale", "mill_lane"], "5")],
        ),
        (
            "an axis more",
            per("\"level\"", "int"),
            &[("best", &["mill_lane"], "5")],
            per("[\"level\", \"kind\"]", "int"),
            "{ fill = \"best\", with = \"best\" }",
            &[("best", &["mill_lane", "calm"], "5")],
        ),
        (
            "an axis less",
            per("[\"level\", \"kind\"]", "int"),
            &[("best", &["mill_lane", "gale"], "5"), ("best", &["tarn_steps", "calm"], "2")],
            per("\"level\"", "int"),
            "{ fill = \"best[mill_lane]\", with = \"max(best[mill_lane, calm], best[mill_lane, gale])\" }",
            &[("best", &["mill_lane"], "5"), ("best", &["tarn_steps"], "2")],
        ),
        (
            "no axis any more, of bools",
            per("\"level\"", "bool"),
            &[("best", &["tarn_steps"], "true")],
            field("best", "bool", ""),
            "{ fill = \"best\", with = \"count(best) > 0\" }",
            &[("best", &[], "true")],
        ),
        (
            "a bool as a number",
            field("lit", "bool", ""),
            &[("lit", &[], "true")],
            field("lit", "int", ""),
            "if(lit, 1, 0)",
            &[("lit", &[], "1")],
        ),
        (
            "a number as a bool",
            field("lit", "int", ""),
            &[("lit", &[], "3")],
            field("lit", "bool", ""),
            "lit != 0",
            &[("lit", &[], "true")],
        ),
        (
            "one member of another type",
            thing("name = \"text\"\nbag = \"list of int\"", "hero"),
            &[("hero", &[], r#"{"name": "ada", "bag": [1]}"#)],
            thing("name = \"text\"\nbag = \"text\"", "hero"),
            "{ drop = \"struct field\", of = \"hero\", name = \"bag\" }",
            &[("hero", &[], "{ name = 'ada', bag = '' }")],
        ),
        (
            "a struct taken apart",
            thing("name = \"text\"\nrank = \"int\"", "hero"),
            &[("hero", &[], r#"{"name": "ada", "rank": 4}"#)],
            field("hero_name", "text", "") + &field("hero_rank", "int", ""),
            "{ fill = \"hero_rank\", with = \"hero.rank\" }",
            &[("hero_name", &[], "'ada'"), ("hero_rank", &[], "4")],
        ),
        (
            "fields put together",
            field("hero_name", "text", "") + &field("hero_rank", "int", ""),
            &[("hero_name", &[], "\"ada\""), ("hero_rank", &[], "4")],
            thing("name = \"text\"\nrank = \"int\"", "hero"),
            "{ fill = \"hero\", with = \"{ name = hero_name, rank = hero_rank }\" }",
            &[("hero", &[], "{ name = 'ada', rank = 4 }")],
        ),
        (
            "members put into a struct of their own",
            thing("x = \"int\"\ny = \"int\"", "hero"),
            &[("hero", &[], r#"{"x": 3, "y": 4}"#)],
            format!("[struct.at]\nx = \"int\"\ny = \"int\"\n{}", thing("at = \"at\"", "hero")),
            "{ fill = \"hero.at\", with = \"{ x = x, y = y }\" }",
            &[("hero", &[], "{ at = { x = 3, y = 4 } }")],
        ),
        (
            "a device's value that now lasts a visit",
            format!("{LEVELS}[field.vol]\ntype = \"int\"\nlasts = \"device\"\n{}", field("xp", "int", "")),
            &[("xp", &[], "3")],
            format!(
                "{LEVELS}[field.vol]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n{}",
                field("xp", "int", "")
            ),
            "{ drop = \"field\", name = \"vol\" }",
            &[("xp", &[], "3")],
        ),
    ];
    for (name, was, values, now, step, expected) in cases {
        let old = spec(1, &was);
        let mut images = saved(&Progress::fresh(&old));
        for (field, keys, json) in values {
            let value: Tree = serde_json::from_str(json).unwrap_or_else(|error| panic!("{name}: {error}"));
            // From the inside out, a map for each key.
            let tree =
                keys.iter().rev().fold(value, |tree, key| Tree::Map([((*key).into(), tree)].into_iter().collect()));
            match (images.0.values.get_mut(*field), tree) {
                (Some(Tree::Map(there)), Tree::Map(more)) if !keys.is_empty() => there.extend(more),
                (_, tree) => drop(images.0.values.insert((*field).into(), tree)),
            }
        }
        assert!(Progress::load(&old, Some(&images.0), Some(&images.1)).unwrap().report.is_clean(), "{name}");
        let (spec, offered) = pasted(&old, &now);
        assert!(offered.contains(step), "{name}: {offered}");
        let loaded = load(&spec, &images);
        for (field, keys, value) in expected {
            assert_eq!(shown(&loaded, field, keys), *value, "{name}: {field}\n{offered}");
        }
        let proof = prove(&spec, &Options { random: 10, seed: 3 });
        assert!(proof.holds(), "{name}: {:#?}", proof.versions[0].fields);
    }
}

/// A step that stands stays: where it renames a field that no expression makes, the game's code does.
#[test]
fn no_drop_is_offered_beside_a_rename() {
    let old = spec(1, &field("notes", "list of int", ""));
    let rename = migration(2, &["{ rename = \"field\", from = \"notes\", to = \"papers\" }"]);
    let offered =
        check_with_history("fellpost.toml", &text(2, &(field("papers", "text", "") + &rename)), frozen(&[&old]))
            .migrations();
    assert!(offered.contains("{ hook = \"papers\" }") && !offered.contains("drop"), "{offered}");
}

#[test]
fn the_proof_knows_what_a_step_takes_of_names_and_members() {
    let open = |names: &str| format!("[keys.spot]\n{names}\n{}", field("seen", "int", "per = \"spot\""));
    let verdicts = |old: &Spec, rest: &str| {
        let (spec, offered) = pasted(old, rest);
        let proof = prove(&spec, &Options { random: 10, seed: 3 });
        assert!(proof.holds(), "{offered}\n{:#?}", proof.versions[0]);
        (offered, proof.versions[0].fields[0].verdict)
    };
    // Names that play made and that have no place are given up by a step, and by nothing else.
    let old = spec(1, &open("open = true\nmax = 4"));
    for rest in [open("open = true\nmax = 2"), open("names = [\"mill\", \"tarn\"]")] {
        let (offered, verdict) = verdicts(&old, &rest);
        assert!(offered.contains("{ drop = \"key\", of = \"spot\", name = \"*\" }"), "{offered}");
        assert_eq!(verdict, FieldVerdict::Kept);
        let told = refused(2, &rest, &frozen(&[&old]));
        assert!(told.contains("V304"), "{told}");
    }
    let drop =
        migration(2, &["{ drop = \"field\", name = \"seen\" }", "{ drop = \"key\", of = \"spot\", name = \"*\" }"]);
    let proof =
        prove(&updated(2, &(open("open = true\nmax = 2") + &drop), &frozen(&[&old])), &Options { random: 10, seed: 3 });
    assert!(proof.holds(), "{:#?}", proof.versions[0]);

    // What a fill tests of a member shows; so does one that reads a member into another field.
    let hero = |members: &str| format!("[struct.hero]\n{members}\n{}", field("hero", "hero", ""));
    let old = spec(
        1,
        &hero("mode = { type = \"choice\", of = [\"calm\", \"hard\"] }\nbag = \"set of text\"\nname = \"text\""),
    );
    let fills = [
        "{ fill = \"hero.hard\", with = \"mode == 'hard'\" }",
        "{ fill = \"hero.armed\", with = \"has(bag, 'sword')\" }",
        "{ fill = \"hero_name\", with = \"hero.name\" }",
    ];
    let rest = hero("hard = \"bool\"\narmed = \"bool\"") + &field("hero_name", "text", "");
    let spec = updated(2, &format!("{rest}{}", migration(2, &fills)), &frozen(&[&old]));
    let proof = prove(&spec, &Options { random: 10, seed: 3 });
    assert!(proof.holds(), "{:#?}", proof.versions[0].fields);
    // A step that drops a struct takes its members along, and one that drops all choices but one says so.
    let old = vestigum_testing::updates::spec(
        1,
        &format!(
            "[struct.gear]\nweight = \"int\"\n{}",
            hero("gear = \"gear\"\nmode = { type = \"choice\", of = [\"calm\", \"hard\"] }")
        ),
    );
    let rest = hero("mode = { type = \"choice\", of = [\"calm\"] }");
    let drops = [
        "{ drop = \"struct field\", of = \"hero\", name = \"gear\" }",
        "{ drop = \"choice\", of = \"hero.mode\", name = \"hard\" }",
    ];
    let spec = updated(2, &format!("{rest}{}", migration(2, &drops)), &frozen(&[&old]));
    let proof = prove(&spec, &Options { random: 10, seed: 3 });
    assert!(proof.holds(), "{:#?}", proof.versions[0].fields);
}

/// The value beside which an entry is told is one that shows it.
#[test]
fn examples_are_of_entries_that_belong_together() {
    let old = spec(1, &format!("{LEVELS}{}", field("stars", "int", "per = \"level\"")));
    let fill = migration(
        2,
        &["{ fill = \"best[mill_lane]\", with = \"stars[tarn_steps]\" }", "{ drop = \"field\", name = \"stars\" }"],
    );
    let told = refused(2, &format!("{LEVELS}{}{fill}", field("best", "int", "per = \"level\"")), &frozen(&[&old]));
    assert!(told.contains("`stars` is dropped here, and a fill reads it"), "{told}");
    let fill = migration(
        2,
        &[
            "{ fill = \"best[mill_lane]\", with = \"stars[tarn_steps]\" }",
            "{ fill = \"best[tarn_steps]\", with = \"stars[mill_lane]\" }",
        ],
    );
    let spec = updated(2, &format!("{LEVELS}{}{fill}", field("best", "int", "per = \"level\"")), &frozen(&[&old]));
    let proof = prove(&spec, &Options { random: 10, seed: 3 });
    let example = proof.versions[0].fields[0].example.as_ref();
    let crossed = example.is_none_or(|example| {
        example.from.to_string() != "stars[mill_lane]" || example.to.to_string() == "best[tarn_steps]"
    });
    assert!(crossed, "{example:?}");
}

/// Many fields that are gone are matched one by one, and beyond that nothing is guessed; neither takes long.
#[test]
fn many_fields_that_are_gone_have_an_answer() {
    let fields =
        |name: &str, count: usize| (0..count).map(|n| field(&format!("{name}{n}"), "int", "")).collect::<String>();
    for (count, renamed) in [(60, true), (600, false)] {
        let old = spec(1, &fields("coin", count));
        let (_, offered) = pasted(&old, &fields("coins_", count));
        assert_eq!(offered.contains("{ rename ="), renamed, "{count}");
        assert!(offered.len() < 400 * count, "{} bytes for {count} fields", offered.len());
    }
}

/// A shape that was frozen again with more steps is proved once.
#[test]
fn a_shape_is_proved_once() {
    let one = spec(1, &field("coins", "int", ""));
    let history = frozen(&[&one]);
    let two = updated(2, &field("coins", "int", ""), &history);
    let history = history.freeze(&two).unwrap().history;
    let hotfix = updated(1, &(field("coins", "int", "") + &field("gems", "int", "")), &frozen(&[&one]));
    let history = history.freeze(&hotfix).unwrap().history;
    let step = migration(2, &["{ drop = \"field\", name = \"gems\" }"]);
    let two = updated(2, &(field("coins", "int", "") + &step), &history);
    let history = history.freeze(&two).unwrap().history;
    let three = updated(3, &(field("coins", "int", "") + &step), &history);
    let proof = prove(&three, &Options { random: 2, seed: 1 });
    let proved: Vec<(i64, bool)> =
        proof.versions.iter().map(|version| (version.version, version.shape.is_some())).collect();
    assert_eq!(proved, [(1, true), (1, true), (2, false)]);
}
