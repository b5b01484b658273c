//! Every document of the repository written back, and values in few words.

use std::fs;
use std::path::Path;

use vestigum_core::{Progress, Spec, Value};
use vestigum_verify::fate_table::FateTable;

#[test]
fn every_spec_of_the_repository_is_written_back_as_it_was_meant() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let mut count = 0;
    let mut folders = vec![demo];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|ending| ending == "toml") {
                let read = |text: &str| {
                    let history = fs::read_to_string(path.with_extension("history.json"));
                    history
                        .map_or_else(|_| Spec::from_toml(text), |history| Spec::from_toml_with_history(text, &history))
                };
                // A shipped version stands in the history of the newest.
                let text = fs::read_to_string(&path).unwrap();
                // A manifest, or the map of an old save.
                if !text.contains("[game]") {
                    continue;
                }
                let shipped = path.ancestors().any(|folder| folder.ends_with("shipped"));
                let text = if shipped { text.split("[[migration]]").next().unwrap() } else { &text };
                let spec = match read(text) {
                    Ok(spec) => spec,
                    // Some of the mistakes are errors.
                    Err(errors) if path.ends_with("mistake.toml") => {
                        assert!(errors.errors() > 0);
                        continue;
                    }
                    Err(errors) => panic!("{errors}"),
                };
                let again = read(&spec.to_toml()).unwrap_or_else(|errors| panic!("{}: {errors}", path.display()));
                assert_eq!(FateTable::of(&again), FateTable::of(&spec), "{}", path.display());
                assert_eq!(again.to_toml(), spec.to_toml());
                let image = |spec: &Spec| Progress::fresh(spec).suspend().profile_image("ada");
                assert_eq!(image(&again), image(&spec));
                count += 1;
            }
        }
    }
    assert!(count > 20, "{count} specs");
}

#[test]
fn values_print_in_few_words() {
    let list = |ints: &[i64]| Value::List(ints.iter().copied().map(Value::Int).collect::<Vec<_>>().into());
    let map = |keys: &[(&str, i64)]| {
        let entries = keys.iter().map(|(key, int)| ((*key).into(), Value::Int(*int)));
        Value::Map(entries.collect::<std::collections::BTreeMap<_, _>>().into())
    };
    for (before, after, expected) in [
        (Value::Int(1), Value::Int(2), "1 → 2"),
        (Value::Unfilled, Value::Int(2), "none → 2"),
        (Value::Bool(false), Value::Bool(true), "false → true"),
        (list(&[1, 2]), list(&[2, 1]), "another order"),
        (list(&[1, 1]), list(&[1]), "−1"),
        (list(&[]), list(&[1, 2, 3, 4, 5]), "+1 +2 +3 and 2 more"),
        (map(&[("a", 1)]), map(&[("a", 2), ("b", 3)]), "+b a 1 → 2"),
        (map(&[("a", 1)]), map(&[]), "−a"),
        (Value::vec2(0.0, 1.0), Value::vec2(0.5, 1.0), "[0, 1] → [0.5, 1]"),
        (Value::bytes(*b"abc"), Value::bytes(*b"abcd"), "3 bytes → 4 bytes"),
    ] {
        assert_eq!(before.difference(&after), expected);
    }
    assert_eq!(list(&[]).brief(), "empty");
    assert_eq!(map(&[("a", 1), ("b", 2)]).brief(), "2 entries");
    assert_eq!(list(&(0..20).collect::<Vec<_>>()).to_string(), "[0, 1, 2, 3, 4, 5, … 20 in all]");
    assert_eq!(Value::text("x".repeat(100)).to_string(), format!("'{}…' (100 characters)", "x".repeat(40)));
}
