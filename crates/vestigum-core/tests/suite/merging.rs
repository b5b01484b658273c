//! What a merge makes of single values, by their laws.

use vestigum_core::contributing::{Contribution, Contributor, Visits};
use vestigum_core::merging::join;
use vestigum_core::{Image, Progress, Spec, Value};
use vestigum_spec::value::tree::Tree;

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

/// A save of one installation on top of another save, with these values.
fn image(by: &str, from: Option<&Image>, values: &[(&str, &str)], at: i64) -> Image {
    let spec = spec();
    let mut contributor = Contributor::new(&spec, from).unwrap().unwrap();
    let mut image = match from {
        Some(image) => Image { origin: None, ..image.clone() },
        None => Progress::fresh(&spec).suspend().profile_image("ada"),
    };
    for (name, json) in values {
        image.values.insert((*name).into(), Tree::from_json(json.as_bytes()).unwrap());
    }
    let saved = Progress::load(&spec, Some(&image), None).unwrap().progress.suspend();
    let by = Contribution { by: by.into(), last: 0, tag: "t".into(), at };
    let origin = contributor.contribute(&saved, &Visits::default(), &by);
    Image { origin: Some(Box::new(origin)), ..saved.profile_image("ada") }
}

/// Merges, whichever side is called which.
fn merged(one: &Image, other: &Image) -> Progress {
    let spec = spec();
    let of = |here: &Image, there: &Image| {
        let image = join(&spec, here, there).unwrap().image;
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
    let base = image("a", None, &[("met", r#"["ada", "bo"]"#)], 1);
    let here = image("a", Some(&base), &[("met", r#"["bo", "cy"]"#)], 2);
    let there = image("b", Some(&base), &[("met", r#"["ada", "bo", "dee"]"#)], 3);
    let progress = merged(&here, &there);
    assert_eq!(progress.value("met", &[]).unwrap().len(), 3, "{}", shown(&progress, "met"));
    for met in ["bo", "cy", "dee"] {
        assert!(shown(&progress, "met").contains(met), "{met}");
    }
}

#[test]
fn of_a_key_that_both_changed_the_newer_change_counts() {
    let base = image("a", None, &[("satchel", r#"{"pen": 1}"#)], 1);
    let here = image("a", Some(&base), &[("satchel", r#"{"pen": 2, "map": 1}"#)], 2);
    let there = image("b", Some(&base), &[("satchel", r#"{"pen": 3, "ink": 1}"#)], 3);
    let progress = merged(&here, &there);
    for (key, value) in [("pen", 3), ("map", 1), ("ink", 1)] {
        let Value::Map(satchel) = progress.value("satchel", &[]).unwrap() else { panic!("a map") };
        assert_eq!(satchel.get(key), Some(&Value::Int(value)), "{key}");
    }
    // What one side took out, and the other changed, stays.
    let gone = image("b", Some(&base), &[("satchel", "{}")], 4);
    let progress = merged(&here, &gone);
    assert!(shown(&progress, "satchel").contains("pen"), "{}", shown(&progress, "satchel"));
}

/// The lowest value of a range that leaves out 0 was taken for a record that nobody could beat.
#[test]
fn a_record_that_nobody_has_stays_unfilled() {
    let base = image("a", None, &[("met", r#"["bo"]"#)], 1);
    let here = image("a", Some(&base), &[("met", r#"["cy"]"#)], 2);
    let there = image("b", Some(&base), &[("met", r#"["dee"]"#)], 3);
    let progress = merged(&here, &there);
    assert!(!progress.value("best_time", &[]).unwrap().is_filled());
    let there = image("b", Some(&base), &[("best_time", "40")], 3);
    assert_eq!(merged(&here, &there).value("best_time", &[]), Ok(Value::Int(40)));
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
