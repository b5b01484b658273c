//! Images that are damaged, edited, hostile, or of another game.

use vestigum_core::image::{Damaged, Tree};
use vestigum_core::{Image, LoadError, Progress, Spec, Value};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");

fn demo_image() -> (Spec, Image) {
    let spec = Spec::from_toml(FELLPOST).unwrap();
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
        assert!(matches!(Image::from_json(&bytes[..len]), Err(Damaged::Unreadable(_))), "{len} bytes were taken");
    }
}

#[test]
fn an_edited_image_is_told_apart() {
    let (_, image) = demo_image();
    let text = String::from_utf8(image.to_json()).unwrap();
    let edited = text.replace("\"xp\":0", "\"xp\":99999");
    assert_ne!(edited, text);
    assert_eq!(Image::from_json(edited.as_bytes()), Err(Damaged::CheckFailed));
}

#[test]
fn a_newer_format_is_not_damage() {
    let (_, image) = demo_image();
    let text = String::from_utf8(image.to_json()).unwrap().replace("{\"format\":1,", "{\"format\":2,\"what\":[],");
    assert_eq!(Image::from_json(text.as_bytes()), Err(Damaged::NewerFormat(2)));
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
    let newer = Image { version: 2, ..image.clone() };
    let refused = Progress::launch(&spec, Some(&newer), None).map(drop);
    assert_eq!(refused, Err(LoadError::NewerVersion { found: 2, known: 1 }));
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
