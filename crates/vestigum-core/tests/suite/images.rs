//! Images that are damaged, edited, hostile, or of another game.

use vestigum_core::image::json::ImageError;
use vestigum_core::image::seal::SealKey;
use vestigum_core::{Image, LoadError, Progress, Spec, Value};
use vestigum_spec::value::tree::Tree;

const FELLPOST: &str = include_str!("../../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

fn demo_image() -> (Spec, Image) {
    let spec = Spec::from_toml(fellpost()).unwrap();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    game.write("letters", &[], Value::Int(85)).unwrap();
    game.complete().unwrap();
    game.enter("heather_rise").unwrap();
    game.checkpoint("bothy").unwrap();
    let image =
        Image { generation: 12, saved_at: "2026-01-01T10:00:00Z".into(), ..game.suspend().profile_image("ada") };
    (spec, image)
}

#[test]
fn every_single_byte_change_is_detected_or_means_the_same() {
    let (_, image) = demo_image();
    let bytes = image.to_json();
    for at in 0..bytes.len() {
        for change in [1u8, 0x20, 0x80, b' ' ^ bytes[at]] {
            let mut changed = bytes.clone();
            changed[at] ^= change;
            if let Ok(read) = Image::from_json(&changed) {
                assert_eq!(read, image, "byte {at} changed by {change:#x} went unnoticed");
            }
        }
    }
}

#[test]
fn every_truncation_is_detected() {
    let (_, image) = demo_image();
    let bytes = image.to_json();
    for len in 0..bytes.len() {
        assert!(matches!(Image::from_json(&bytes[..len]), Err(ImageError::Unreadable(_))), "{len} bytes were taken");
    }
}

#[test]
fn an_edited_image_is_told_apart() {
    let (_, image) = demo_image();
    let text = String::from_utf8(image.to_json()).unwrap();
    let edited = text.replace("\"xp\":0", "\"xp\":99999");
    assert_ne!(edited, text);
    assert_eq!(Image::from_json(edited.as_bytes()), Err(ImageError::CheckFailed));
}

#[test]
fn a_seal_is_made_with_the_games_key_alone() {
    let (_, image) = demo_image();
    let key = SealKey::from_text("the lanterns of Cloud Pass");
    let sealed = image.encoded().bytes(12, Some(&key));
    assert_eq!(Image::decode(&sealed, Some(&key)), Ok(image.clone()));
    assert_eq!(Image::from_json(&sealed), Err(ImageError::Sealed));
    assert_eq!(Image::decode(&sealed, Some(&SealKey::new([7; 32]))), Err(ImageError::Tampered));
    // Whoever edits it can make the digest fit, and the check of an image that is not sealed, but not the seal.
    let forged = Image { values: [("xp".into(), Tree::Int(99_999))].into(), ..image.clone() };
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    let (unsealed, check) = (text(forged.to_json()), text(sealed.clone()));
    let check = &check[check.find("\"check\"").unwrap()..];
    let patched =
        unsealed[..unsealed.find("\"check\"").unwrap()].replace("\"digest\"", "\"sealed\":true,\"digest\"") + check;
    assert_eq!(Image::decode(patched.as_bytes(), Some(&key)), Err(ImageError::Tampered));
    assert_eq!(Image::decode(unsealed.as_bytes(), Some(&key)), Err(ImageError::NotSealed));
    assert_eq!(
        Image::decode(unsealed.as_bytes(), Some(&key.clone().or_unsealed())),
        Ok(Image { generation: 12, ..forged })
    );
    assert!(!format!("{key:?}").contains("key:"), "a key is never shown");
    // The seal of one generation fits no other: an image cannot be put forward.
    let renumbered = text(sealed).replace("\"generation\":12", "\"generation\":13");
    assert_eq!(Image::decode(renumbered.as_bytes(), Some(&key)), Err(ImageError::Tampered));
}

#[test]
fn a_newer_format_is_not_damage() {
    let (_, image) = demo_image();
    let text = String::from_utf8(image.to_json()).unwrap().replace("{\"format\":2,", "{\"format\":3,\"what\":[],");
    assert_eq!(Image::from_json(text.as_bytes()), Err(ImageError::NewerFormat(3)));
    // The number alone is damage.
    let text = String::from_utf8(image.to_json()).unwrap().replace("{\"format\":2,", "{\"format\":3,");
    assert_eq!(Image::from_json(text.as_bytes()), Err(ImageError::CheckFailed));
}

#[test]
fn hostile_bytes_are_an_error_in_words() {
    let deep = "[".repeat(1_000_000);
    let cases: Vec<(Vec<u8>, &str)> = vec![
        (b"".to_vec(), "EOF"),
        (deep.into_bytes(), "recursion limit"),
        (b"\xff\xfe{}".to_vec(), "expected value"),
        (b"[]".to_vec(), "an object is wanted, and this is a list"),
        (b"{}".to_vec(), "`format` is missing"),
        (b"{\"format\":1,\"format\":1}".to_vec(), "`format` stands twice"),
        (b"{\"format\":1e999}".to_vec(), "number out of range"),
        (b"{\"format\":18446744073709551615}".to_vec(), "is too large"),
        (b"{\"format\":\"1\"}".to_vec(), "`format` is a text where an int is wanted"),
    ];
    for (bytes, expected) in cases {
        let message = Image::from_json(&bytes).unwrap_err().to_string();
        assert!(message.contains(expected), "{message} does not say {expected}");
    }
}

#[test]
fn other_games_and_newer_versions_are_refused() {
    let (spec, image) = demo_image();
    let other = Image { game: "hillpost".into(), ..image.clone() };
    let refused = Progress::launch(&spec, Some(&other), None).map(drop);
    assert_eq!(refused, Err(LoadError::OtherGame { found: "hillpost".into(), wanted: "fellpost".into() }));
    let newer = Image { version: 5, ..image.clone() };
    let refused = Progress::launch(&spec, Some(&newer), None).map(drop);
    assert_eq!(refused, Err(LoadError::NewerVersion { owner: "profile `ada`".into(), found: 5, known: 4 }));
    let refused = Progress::launch(&spec, None, Some(&image)).map(drop);
    assert!(matches!(refused, Err(LoadError::OtherOwner { .. })));
}

#[test]
fn what_does_not_fit_is_brought_inside_and_reported() {
    let (spec, mut image) = demo_image();
    image.values.insert("lanterns".into(), Tree::Int(70));
    image.values.insert("xp".into(), Tree::Text("many".into()));
    image.values.insert("old_coins".into(), Tree::Int(3));
    image.values.remove("best_score");
    let launched = Progress::launch(&spec, Some(&image), None).unwrap();
    assert_eq!(
        launched.report.to_string(),
        "loaded generation 12\n  \
         new, at the default: best_score\n  \
         dropped xp: it is a text, and the field is of type int\n  \
         dropped old_coins: the spec saves no such field\n  \
         lanterns was 70, outside its limits; it is 9 now"
    );
    assert_eq!(launched.progress.value("lanterns", &[]), Ok(Value::Int(9)));
    assert_eq!(launched.progress.place().to_string(), "heather_rise at bothy");
}

/// A spec with a field of every type and axis, and an image in which each of them holds something.
fn full_image() -> (Spec, Image) {
    let spec = Spec::from_toml(
        r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane"]
[level.mill_lane]
checkpoints = ["ford"]
[keys.stone]
open = true
max = 3
[struct.parcel]
weight = "int"
fragile = "bool"
[field.blob]
type = "bytes"
lasts = "profile"
after_failure = "keep"
[field.at]
type = "vec2"
lasts = "profile"
after_failure = "keep"
[field.mood]
type = "choice"
of = ["low", "high"]
lasts = "profile"
after_failure = "keep"
[field.bag]
type = "map of list of parcel"
lasts = "profile"
after_failure = "keep"
[field.tools]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.painted]
type = "float"
per = ["stone", "level"]
lasts = "profile"
after_failure = "keep"
[field.seen]
type = "bool"
per = "checkpoint"
lasts = "profile"
after_failure = "keep"
"#,
    )
    .unwrap_or_else(|errors| panic!("{errors}"));
    let mut game = Progress::fresh(&spec);
    let list = |items: Vec<Value>| Value::List(items.into());
    let parcel = Value::Map(
        [("weight".into(), Value::Int(3)), ("fragile".into(), Value::Bool(false))]
            .into_iter()
            .collect::<std::collections::BTreeMap<_, _>>()
            .into(),
    );
    game.write("blob", &[], Value::bytes(*b"\x00\xff{}")).unwrap();
    game.write("at", &[], list(vec![Value::Int(1), Value::from(-2.5)])).unwrap();
    game.write("mood", &[], "high".into()).unwrap();
    game.insert_at("bag", &[], "ring", list(vec![parcel])).unwrap();
    game.insert("tools", &[], "rope".into()).unwrap();
    game.write("painted", &["red_hen", "mill_lane"], 0.1.into()).unwrap();
    game.write("seen", &["mill_lane", "ford"], true.into()).unwrap();
    let image = Image { generation: 1, saved_at: "now".into(), ..game.suspend().profile_image("ada") };
    (spec, image)
}

#[test]
fn every_type_has_its_json() {
    let (_, image) = full_image();
    let text = String::from_utf8(image.to_json()).unwrap();
    for piece in [
        r#""made":{"stone":["red_hen"]}"#,
        r#""at":[1.0,-2.5]"#,
        r#""bag":{"ring":[{"fragile":false,"weight":3}]}"#,
        r#""blob":"AP97fQ==""#,
        r#""mood":"high""#,
        r#""painted":{"red_hen":{"mill_lane":0.1}}"#,
        r#""seen":{"mill_lane":{"ford":true}}"#,
        r#""tools":["rope"]"#,
    ] {
        assert!(text.contains(piece), "{piece} is not in {text}");
    }
}

#[test]
fn what_a_type_cannot_hold_is_dropped_piece_by_piece() {
    let (spec, image) = full_image();
    let loaded = |name: &str, json: &str| {
        let mut image = image.clone();
        image.values.insert(name.into(), serde_json::from_str::<Tree>(json).unwrap());
        let launched = Progress::launch(&spec, Some(&image), None).unwrap();
        let dropped: Vec<String> = launched.report.dropped.iter().map(ToString::to_string).collect();
        (dropped.join("; "), launched.progress)
    };
    let bag = r#"{"ring":[{"weight":"heavy","fragile":true,"colour":1},7],"clock":true}"#;
    let (dropped, game) = loaded("bag", bag);
    assert_eq!(
        dropped,
        "bag['clock']: it is a bool, and the field is of type list of parcel; \
         bag['ring'], item 1.colour: a parcel has no such member; \
         bag['ring'], item 1.weight: it is a text, and the field is of type int; \
         bag['ring'], item 2: it is an int, and the field is of type parcel"
    );
    assert_eq!(game.value("bag", &[]).unwrap().to_string(), "{ring: [{ weight = 0, fragile = true }]}");
    for (name, json, expected) in [
        ("mood", r#""sad""#, "mood: there is no choice `sad`"),
        ("blob", r#""%%%""#, "blob: it is a text, and the field is of type bytes"),
        ("at", "[1]", "at: it is a list, and the field is of type vec2"),
        ("tools", r#"{"rope":1}"#, "tools: it is a map, and the field is of type set of text"),
        ("painted", r#"{"grey_cat":{"mill_lane":1.0}}"#, "painted[grey_cat, mill_lane]: its key was not made"),
        ("painted", r#"{"red_hen":{"attic":1.0}}"#, "painted[red_hen, attic]: no level is called `attic`"),
        ("painted", r#"{"red_hen":4}"#, "painted[red_hen]: it is an int, and a value for each key is wanted"),
        ("seen", r#"{"mill_lane":{"cairn":true}}"#, "seen[mill_lane, cairn]: no checkpoint is called `cairn`"),
    ] {
        assert_eq!(loaded(name, json).0, expected);
    }
}

#[test]
fn names_made_at_run_time_are_taken_as_far_as_there_is_room() {
    let (spec, mut image) = full_image();
    let names = ["red_hen", "a", "b", "c", "not a name"];
    image.made.insert("stone".into(), names.into_iter().map(Into::into).collect());
    image.made.insert("rock".into(), vec!["x".into()]);
    let report = Progress::launch(&spec, Some(&image), None).unwrap().report;
    let dropped: Vec<String> = report.dropped.iter().map(|dropped| dropped.what.to_string()).collect();
    assert_eq!(dropped, ["rock", "c", "not a name"]);
}

#[test]
fn every_byte_change_of_a_full_image_is_detected_too() {
    let (_, image) = full_image();
    let bytes = image.to_json();
    for at in 0..bytes.len() {
        let mut changed = bytes.clone();
        changed[at] ^= 0x01;
        assert!(Image::from_json(&changed).is_ok_and(|read| read == image) || Image::from_json(&changed).is_err());
    }
}

#[test]
fn the_digest_is_of_the_content_alone() {
    let (_, image) = full_image();
    let later = Image { generation: 9, saved_at: "later".into(), ..image.clone() };
    assert_eq!(image.digest(), later.digest());
    assert_ne!(image.to_json(), later.to_json());
    let mut other = image.clone();
    other.values.insert("mood".into(), Tree::Text("low".into()));
    assert_ne!(image.digest(), other.digest());
    let renamed = Image { owner: vestigum_core::Owner::Profile("ben".into()), ..image.clone() };
    assert_ne!(image.digest(), renamed.digest(), "another player's progress is another's");
}
