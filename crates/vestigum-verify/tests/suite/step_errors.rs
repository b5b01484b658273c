//! Steps that name what is not there, or say what cannot be: each alone, and what is said about it.

use vestigum_core::{History, Spec};
use vestigum_verify::lint::check_with_history;

const OLD: &str = r#"
[levels]
order = ["old_mill", "attic", "heather_rise"]
[level.heather_rise]
checkpoints = ["hut", "cairn"]
[keys.gate]
names = ["upper", "lower"]
[keys.note]
open = true
max = 8
[struct.parcel]
grams = "int"
label = "text"
[field.coins]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.rank]
type = "choice"
of = ["novice", "carrier"]
lasts = "profile"
after_failure = "keep"
[field.load]
type = "parcel"
lasts = "profile"
after_failure = "keep"
[field.passed]
type = "bool"
per = "gate"
lasts = "profile"
after_failure = "keep"
[field.read]
type = "bool"
per = "note"
lasts = "profile"
after_failure = "keep"
[field.volume]
type = "int"
lasts = "device"
[field.mood]
type = "int"
lasts = "session"
after_failure = "keep"
"#;

fn text(version: i64, rest: &str) -> String {
    format!("[game]\nid = \"fellpost\"\nversion = {version}\n{rest}")
}

fn history() -> History {
    let old = Spec::from_toml(&text(1, OLD)).unwrap_or_else(|errors| panic!("{errors}"));
    History::default().freeze(&old).unwrap().history
}

/// Lists the findings about an update of the old spec, a line for each.
fn said(version: i64, rest: &str) -> String {
    let findings = check_with_history("fellpost.toml", &text(version, rest), history()).findings;
    let said = findings.list().iter().map(|finding| match &finding.help {
        Some(help) => format!("{} {}\n     {help}\n", finding.code, finding.message),
        None => format!("{} {}\n", finding.code, finding.message),
    });
    said.collect()
}

/// Lists the findings about steps, each pair alone in a migration of a spec that has a new level, checkpoint and field.
fn said_of(steps: &[&str]) -> String {
    let rest =
        OLD.replace("\"attic\",", "\"attic\", \"mill_lane\",").replace("\"cairn\"]", "\"cairn\", \"bothy\"]").replace(
            "[field.coins]",
            "[field.stamps]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n[field.coins]",
        );
    let mut out = String::new();
    for step in steps {
        let said = said(2, &format!("{rest}[[migration]]\nto = 2\nsteps = [{step}]\n"));
        out.push_str(&format!("{step}\n{}\n", if said.is_empty() { "nothing\n" } else { &said }));
    }
    out
}

#[test]
fn names_that_are_not_there() {
    insta::assert_snapshot!(said_of(&[
        r#"{ rename = "level", from = "mill_lane", to = "attic" }"#,
        r#"{ rename = "level", from = "attic", to = "mill_lain" }"#,
        r#"{ rename = "checkpoint", of = "attics", from = "hut", to = "bothy" }"#,
        r#"{ rename = "checkpoint", of = "heather_rise", from = "hat", to = "bothy" }"#,
        r#"{ rename = "checkpoint", of = "heather_rise", from = "hut", to = "both" }"#,
        r#"{ rename = "key set", from = "gates", to = "gate" }"#,
        r#"{ rename = "key set", from = "gate", to = "gates" }"#,
        r#"{ drop = "key", of = "gate", name = "uper" }"#,
        r#"{ drop = "key", of = "gates", name = "upper" }"#,
        r#"{ drop = "choice", of = "rank", name = "novise" }"#,
        r#"{ drop = "choice", of = "ranks", name = "novice" }"#,
        r#"{ drop = "struct field", of = "parcels", name = "grams" }"#,
        r#"{ drop = "struct field", of = "parcel", name = "gramms" }"#,
        r#"{ rename = "key", of = "gate", from = "upper", to = "top" }"#,
        r#"{ rename = "choice", of = "rank", from = "novice", to = "courier" }"#,
        r#"{ rename = "struct field", of = "parcel", from = "label", to = "name" }"#,
        r#"{ drop = "field", name = "coin" }"#,
        r#"{ move = "coin", to = "device" }"#,
        r#"{ fill = "stamps", with = "coins + passed[uper]" }"#,
    ]), @r#"
    { rename = "level", from = "mill_lane", to = "attic" }
    V305 version 1 has no level `mill_lane`
         version 2 has one; a step comes from the names of version 1

    { rename = "level", from = "attic", to = "mill_lain" }
    V305 version 2 has no level `mill_lain`
         did you mean `mill_lane`?

    { rename = "checkpoint", of = "attics", from = "hut", to = "bothy" }
    V305 version 1 has no level `attics`
         did you mean `attic`?

    { rename = "checkpoint", of = "heather_rise", from = "hat", to = "bothy" }
    V305 version 1 has no checkpoint `hat` of `heather_rise`
         known here: hut, cairn

    { rename = "checkpoint", of = "heather_rise", from = "hut", to = "both" }
    V305 version 2 has no checkpoint `both` of `heather_rise`
         did you mean `bothy`?

    { rename = "key set", from = "gates", to = "gate" }
    V305 version 1 has no key set `gates`
         did you mean `gate`?

    { rename = "key set", from = "gate", to = "gates" }
    V305 version 2 has no key set `gates`
         did you mean `gate`?

    { drop = "key", of = "gate", name = "uper" }
    V305 version 1 has no gate `uper`
         did you mean `upper`?

    { drop = "key", of = "gates", name = "upper" }
    V305 version 1 has no key set `gates`
         did you mean `gate`?

    { drop = "choice", of = "rank", name = "novise" }
    V305 version 1 has no choice `novise` of `rank`
         did you mean `novice`?

    { drop = "choice", of = "ranks", name = "novice" }
    V305 version 1 has no field `ranks`
         did you mean `rank`?

    { drop = "struct field", of = "parcels", name = "grams" }
    V305 version 1 has no struct `parcels`
         did you mean `parcel`?

    { drop = "struct field", of = "parcel", name = "gramms" }
    V305 version 1 has no struct field `gramms` of `parcel`
         did you mean `grams`?

    { rename = "key", of = "gate", from = "upper", to = "top" }
    V305 version 2 has no key `top` of `gate`
         known here: upper, lower

    { rename = "choice", of = "rank", from = "novice", to = "courier" }
    V305 version 2 has no choice `courier` of `rank`
         did you mean `carrier`?

    { rename = "struct field", of = "parcel", from = "label", to = "name" }
    V305 version 2 has no struct field `name` of `parcel`
         known here: grams, label

    { drop = "field", name = "coin" }
    V305 version 1 has no field `coin`
         did you mean `coins`?

    { move = "coin", to = "device" }
    V305 version 1 has no field `coin`
         did you mean `coins`?

    { fill = "stamps", with = "coins + passed[uper]" }
    V004 no gate is called `uper`
         did you mean `upper`?
    "#);
}

#[test]
fn steps_that_cannot_be() {
    insta::assert_snapshot!(said_of(&[
        r#"{ drop = "field", name = "mood" }"#,
        r#"{ fill = "mood", with = "coins" }"#,
        r#"{ drop = "key set", name = "gate" }"#,
        r#"{ drop = "choice", of = "coins", name = "one" }"#,
        r#"{ rename = "key", of = "note", from = "a", to = "b" }"#,
        r#"{ drop = "level", name = "attic" }, { rename = "level", from = "attic", to = "mill_lane" }"#,
        r#"{ fill = "stamps", with = "coins" }, { fill = "stamps", with = "coins * 2" }"#,
        r#"{ fill = "coins", with = "volume" }"#,
        r#"{ move = "volume", to = "device" }"#,
        r#"{ move = "coins", to = "device" }, { move = "coins", to = "device" }"#,
        r#"{ drop = "level", name = "heather_rise" }, { rename = "checkpoint", of = "heather_rise", from = "hut", to = "bothy" }"#,
        r#"{ hook = "coins" }, { drop = "field", name = "coins" }"#,
    ]), @r#"
    { drop = "field", name = "mood" }
    V305 version 1 has no field `mood`
         it lasts a session in version 2, so no save holds it

    { fill = "mood", with = "coins" }
    V305 `mood` lasts a session, so no save holds it

    { drop = "key set", name = "gate" }
    V305 a key set is not dropped by itself
         drop or fill the fields that are kept for each of its keys

    { drop = "choice", of = "coins", name = "one" }
    V305 version 1 has no choice `one` of `coins`

    { rename = "key", of = "note", from = "a", to = "b" }
    nothing

    { drop = "level", name = "attic" }, { rename = "level", from = "attic", to = "mill_lane" }
    V305 another step says already what becomes of the level `attic`

    { fill = "stamps", with = "coins" }, { fill = "stamps", with = "coins * 2" }
    V305 another step fills `stamps` already

    { fill = "coins", with = "volume" }
    V305 `coins` is a player's and `volume` is the device's: the two are saved apart
         move the value as well: add `{ move = "volume", to = "profile" }`

    { move = "volume", to = "device" }
    V305 `volume` belongs to the device already in version 1

    { move = "coins", to = "device" }, { move = "coins", to = "device" }
    V305 `coins` is moved, and lasts a profile in version 2
         let it last as long as its new owner, or take this step out
    V305 another step moves `coins` already

    { drop = "level", name = "heather_rise" }, { rename = "checkpoint", of = "heather_rise", from = "hut", to = "bothy" }
    V305 `heather_rise` is dropped here, and its checkpoints with it
         take this step out

    { hook = "coins" }, { drop = "field", name = "coins" }
    nothing
    "#);
}

/// An update that takes things away or narrows them must say so.
#[test]
fn what_wants_a_step_or_a_raised_version() {
    let narrower = OLD
        .replace("max = 8", "max = 4")
        .replace("\"upper\", \"lower\"", "\"top\", \"under\"")
        .replace("\"novice\", \"carrier\"", "\"carrier\", \"courier\", \"clerk\"")
        .replace("label = \"text\"", "name = \"text\"")
        .replace("per = \"gate\"", "per = \"gate\"\ndefault = true");
    insta::assert_snapshot!(said(1, &narrower), @r#"
    V304 `note` can have 4 names now, and could have 8
         raise `version` to 2 and say in its migration: { drop = "key", of = "note", name = "*" }
    V304 version 1 was frozen with the gate `lower`, and the spec has none of that name now
         raise `version` to 2 and say in its migration: { drop = "key", of = "gate", name = "lower" }; or rename it, if it is `top` or `under` now
    V304 version 1 was frozen with the gate `upper`, and the spec has none of that name now
         raise `version` to 2 and say in its migration: { drop = "key", of = "gate", name = "upper" }; or rename it, if it is `top` or `under` now
    V304 version 1 was frozen with the choice `novice` of `rank`, and the spec has none of that name now
         raise `version` to 2 and say in its migration: { drop = "choice", of = "rank", name = "novice" }; or rename it, if it is `courier` or `clerk` now
    V304 version 1 was frozen with the field `label` of the struct `parcel`, and the spec has none of that name now
         raise `version` to 2 and say in its migration: { rename = "struct field", of = "parcel", from = "label", to = "name" }
    V303 the default of `passed` is true now, and was false: saves leave out the entries that are at it
         raise `version` to 2; older saves are then read by the default that they were written with
    "#);
    insta::assert_snapshot!(said(2, &narrower), @r#"
    V304 `note` can have 4 names in version 2, and could have 8
         say in the migration to version 2: { drop = "key", of = "note", name = "*" }
    V304 version 1 has the gate `lower`, and version 2 has none of that name
         say in the migration to version 2: { drop = "key", of = "gate", name = "lower" }; or rename it, if it is `top` or `under` now
    V304 version 1 has the gate `upper`, and version 2 has none of that name
         say in the migration to version 2: { drop = "key", of = "gate", name = "upper" }; or rename it, if it is `top` or `under` now
    V304 version 1 has the choice `novice` of `rank`, and version 2 has none of that name
         say in the migration to version 2: { drop = "choice", of = "rank", name = "novice" }; or rename it, if it is `courier` or `clerk` now
    V304 version 1 has the field `label` of the struct `parcel`, and version 2 has none of that name
         say in the migration to version 2: { rename = "struct field", of = "parcel", from = "label", to = "name" }
    "#);
}
