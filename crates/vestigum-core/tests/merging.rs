//! What a merge makes of single values, by their laws.

use vestigum_core::merging::merge;
use vestigum_core::value::tree::Tree;
use vestigum_core::{Image, Progress, Spec, Value};

const SPEC: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[merge]
[field.met]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.satchel]
type = "map of int"
lasts = "profile"
after_failure = "keep"
max_len = 3
merge = "union"
[field.best_time]
type = "int"
range = [1, 99]
optional = true
lasts = "profile"
after_failure = "keep"
merge = "min"
[field.letters]
type = "int"
lasts = "visit"
after_failure = "keep"
[field.streak]
type = "int"
lasts = "run"
after_failure = "keep"
on.abandon = "reset"
written_by = "both"
"#;

fn spec() -> Spec {
    Spec::from_toml(SPEC).unwrap_or_else(|errors| panic!("{errors}"))
}

fn image(values: &[(&str, &str)], saved_at: &str) -> Image {
    let mut image = Progress::fresh(&spec()).suspend().profile_image("ada");
    image.saved_at = saved_at.into();
    for (name, json) in values {
        image.values.insert((*name).into(), Tree::from_json(json.as_bytes()).unwrap());
    }
    image
}

/// What comes out, whichever side is called which.
fn merged(base: &Image, one: &Image, other: &Image) -> Progress {
    let spec = spec();
    let of = |here: &Image, there: &Image| {
        let image = merge(&spec, Some(base), here, there).unwrap().suspended.profile_image("ada");
        (image.digest(), Progress::load(&spec, Some(&image), None).unwrap().progress)
    };
    let ((one_way, progress), (other_way, _)) = (of(one, other), of(other, one));
    assert_eq!(one_way, other_way, "the order of the sides does not matter");
    progress
}

fn shown(progress: &Progress, field: &str) -> String {
    progress.value(field, &[]).unwrap().to_string()
}

#[test]
fn a_union_keeps_what_either_side_added_and_gives_up_what_one_took_out() {
    let base = image(&[("met", r#"["ada", "bo"]"#)], "1");
    let here = image(&[("met", r#"["bo", "cy"]"#)], "2");
    let there = image(&[("met", r#"["ada", "bo", "dee"]"#)], "3");
    let progress = merged(&base, &here, &there);
    assert_eq!(progress.value("met", &[]).unwrap().len(), 3, "{}", shown(&progress, "met"));
    for met in ["bo", "cy", "dee"] {
        assert!(shown(&progress, "met").contains(met), "{met}");
    }
}

#[test]
fn of_a_key_that_both_changed_the_newer_save_decides() {
    let base = image(&[("satchel", r#"{"pen": 1}"#)], "1");
    let here = image(&[("satchel", r#"{"pen": 2, "map": 1}"#)], "2");
    let there = image(&[("satchel", r#"{"pen": 3, "ink": 1}"#)], "3");
    let progress = merged(&base, &here, &there);
    for (key, value) in [("pen", 3), ("map", 1), ("ink", 1)] {
        let Value::Map(satchel) = progress.value("satchel", &[]).unwrap() else { panic!("a map") };
        assert_eq!(satchel.get(key), Some(&Value::Int(value)), "{key}");
    }
    // What one side took out, and the other changed, stays.
    let gone = image(&[("satchel", "{}")], "4");
    let progress = merged(&base, &here, &gone);
    assert!(shown(&progress, "satchel").contains("pen"), "{}", shown(&progress, "satchel"));
}

/// The lowest value of a range that leaves out 0 was taken for a record that nobody could beat.
#[test]
fn a_record_that_nobody_has_stays_unfilled() {
    let base = image(&[], "1");
    let here = image(&[("met", r#"["cy"]"#)], "2");
    let there = image(&[("met", r#"["dee"]"#)], "3");
    let progress = merged(&base, &here, &there);
    assert!(!progress.value("best_time", &[]).unwrap().is_filled());
    let there = image(&[("best_time", "40")], "3");
    assert_eq!(merged(&base, &here, &there).value("best_time", &[]), Ok(Value::Int(40)));
}

/// A level that a load leaves is given up, as `abandon` says it: what is plainly reset there is reset.
#[test]
fn a_level_that_is_gone_is_left_with_what_abandon_resets() {
    let spec = spec();
    let mut progress = Progress::launch(&spec, None, None).unwrap().progress;
    progress.enter("mill_lane").unwrap();
    progress.write("streak", &[], Value::Int(7)).unwrap();
    let image = progress.suspend().profile_image("ada");
    let kept = Progress::load(&spec, Some(&image), None).unwrap().progress;
    assert_eq!(kept.value("streak", &[]), Ok(Value::Int(7)), "suspending has no price");
    let without = SPEC.replace("\"mill_lane\", ", "");
    let without = Spec::from_toml(&without).unwrap_or_else(|errors| panic!("{errors}"));
    let left = Progress::load(&without, Some(&image), None).unwrap().progress;
    assert_eq!(left.value("streak", &[]), Ok(Value::Int(0)));
}
