//! Specs built in Rust, and every document written back.

use std::fs;
use std::path::Path;

use vestigum_core::spec::builder::{FieldBuilder, LevelBuilder, MigrationBuilder, RuleBuilder};
use vestigum_core::vocabulary::fate::PlainFate;
use vestigum_core::vocabulary::policy::{Accept, Respawn, Resume};
use vestigum_core::vocabulary::span::WrittenBy;
use vestigum_core::{History, Progress, Span, Spec, Value};
use vestigum_verify::fate_table::FateTable;
use vestigum_verify::render;

#[test]
fn everything_a_document_says_can_be_built() {
    let spec = Spec::builder("fellpost")
        .title("Fellpost")
        .version(3)
        .order(["mill_lane", "heather_rise"])
        .level(
            LevelBuilder::new("mill_lane")
                .title("Mill \"Lane\"")
                .checkpoints(["ford", "stile"])
                .steps("stars", [10i64, 20]),
        )
        .level(LevelBuilder::new("night_round").opens("completed[mill_lane]").next("heather_rise"))
        .keys("gate", ["mill_gate"])
        .keys_by("weather", ["fair", "storm"], "weather_now")
        .open_keys("stone", 4)
        .structure("parcel", [("weight", "int"), ("fragile", "bool")])
        .table("stars", [40i64, 80], false)
        .table("times", [60.5, 90.0], true)
        .formula("ranks", 500.0, 1.5, 250.0, 5)
        .moments(["new_day"])
        .field(
            FieldBuilder::new("weather_now", "choice")
                .of(["fair", "storm"])
                .lasts(Span::Run)
                .after_failure(PlainFate::Keep),
        )
        .field(
            FieldBuilder::new("letters", "int")
                .lasts(Span::Visit)
                .after_failure(PlainFate::Checkpoint)
                .range(0i64, 999i64),
        )
        .field(
            FieldBuilder::new("lanterns", "int")
                .default(3i64)
                .lasts(Span::Run)
                .after_failure(PlainFate::Keep)
                .written_by(WrittenBy::Both)
                .on("death", RuleBuilder::fate(PlainFate::Keep).when("level == 'mill_lane'"))
                .on("death", RuleBuilder::add("-1")),
        )
        .field(
            FieldBuilder::new("best", "int")
                .per(["level", "weather"])
                .optional()
                .lasts(Span::Profile)
                .on("complete", RuleBuilder::min("letters")),
        )
        .field(
            FieldBuilder::new("stars", "int")
                .per(["level"])
                .lasts(Span::Profile)
                .on("complete", RuleBuilder::max("grade(letters, stars)")),
        )
        .field(
            FieldBuilder::new("tools", "set of text")
                .max_len(8)
                .lasts(Span::Profile)
                .on("new_run", RuleBuilder::union("['rope']")),
        )
        .field(FieldBuilder::new("motto", "text").default("it's \"far\"\n").lasts(Span::Device))
        .derived("total_stars", "sum(stars)")
        .over_when("lanterns == 0")
        .respawn(Respawn::Entry)
        .accept(Accept::Forward)
        .save_at(["complete"])
        .resume(Resume::Entry)
        .keep(5)
        .build()
        .unwrap_or_else(|errors| panic!("{errors}"));
    assert_eq!((spec.title(), spec.version(), spec.keep(), spec.resume()), ("Fellpost", 3, 5, Resume::Entry));
    let mut game = Progress::fresh(&spec);
    assert_eq!(game.value("motto", &[]).unwrap().as_text(), "it's \"far\"\n");
    game.new_run().unwrap();
    assert_eq!(game.value("tools", &[]).unwrap().to_string(), "{'rope'}");
    game.enter("mill_lane").unwrap();
    game.write("letters", &[], 15.into()).unwrap();
    game.death().unwrap();
    assert_eq!(game.value("lanterns", &[]), Ok(Value::Int(3)), "the first rule whose condition holds decides");
    game.write("letters", &[], 15.into()).unwrap();
    game.complete().unwrap();
    assert_eq!(game.value("stars", &["mill_lane"]), Ok(Value::Int(1)), "the level has its own steps");
    assert_eq!(game.value("best", &["mill_lane", "fair"]), Ok(Value::Int(15)));
    assert_eq!(Spec::from_toml(&spec.to_toml()).unwrap().to_toml(), spec.to_toml());
}

#[test]
fn mistakes_are_shown_on_the_document_that_says_the_same() {
    let errors = Spec::builder("fellpost")
        .order(["mill_lane"])
        .field(FieldBuilder::new("score", "int").lasts(Span::Run))
        .field(FieldBuilder::new("best", "int").lasts(Span::Profile).on("complete", RuleBuilder::max("scor")))
        .build()
        .unwrap_err();
    insta::assert_snapshot!(render(&errors, false), @r#"
    error[V003]: `score` does not say what a failure does to it
     --> the spec that was built:7:8
      |
    7 | [field.score]
      |        ^^^^^ play writes it, and it lasts a run
      |
      = help: add `after_failure`: "keep", "checkpoint" (as at the last checkpoint) or "entry" (as when the level was entered)

    error[V004]: nothing is called `scor`
      --> the spec that was built:14:24
       |
    14 | on.complete = { max = "scor" }
       |                        ^^^^
       |
       = help: did you mean `score`?
    "#);
}

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

#[test]
fn migrations_are_built_as_they_are_written() {
    let field = |name: &str| FieldBuilder::new(name, "int").lasts(Span::Profile).after_failure(PlainFate::Keep);
    let old = Spec::builder("fellpost")
        .order(["old_mill", "attic"])
        .level(LevelBuilder::new("old_mill").checkpoints(["ford", "stile"]))
        .keys("gate", ["upper", "lower"])
        .field(field("coins"))
        .field(field("time"))
        .field(field("volume"))
        .field(field("toll").per(["gate"]))
        .field(FieldBuilder::new("route", "text").lasts(Span::Profile).after_failure(PlainFate::Keep))
        .build()
        .unwrap();
    let history = History::default().freeze(&old).unwrap().history;
    let new = Spec::builder("fellpost")
        .version(2)
        .order(["mill_lane"])
        .level(LevelBuilder::new("mill_lane").checkpoints(["bridge"]))
        .keys("gate", ["top"])
        .field(field("stamps"))
        .field(field("time"))
        .field(FieldBuilder::new("volume", "int").lasts(Span::Device))
        .field(field("toll").per(["gate"]))
        .field(FieldBuilder::new("route", "list of text").lasts(Span::Profile).after_failure(PlainFate::Keep))
        .migration(
            MigrationBuilder::to(2)
                .rename("field", "coins", "stamps")
                .rename("level", "old_mill", "mill_lane")
                .rename_of("checkpoint", "old_mill", "ford", "bridge")
                .rename_of("key", "gate", "upper", "top")
                .drop("level", "attic")
                .drop_of("checkpoint", "old_mill", "stile")
                .drop_of("key", "gate", "lower")
                .fill("time", "time * 1000")
                .moved("volume", "device")
                .hook("route"),
        )
        .build_with_history(history.clone())
        .unwrap_or_else(|errors| panic!("{errors}"));
    let again = Spec::from_named_toml_with_history("again.toml", &new.to_toml(), history).unwrap();
    assert_eq!(again.to_toml(), new.to_toml());
    let mut game = Progress::fresh(&old);
    game.write("time", &[], 7.into()).unwrap();
    game.write("toll", &["upper"], 5.into()).unwrap();
    let new = new.with_hook(2, |_, _| Ok(()));
    let game = Progress::launch(&new, Some(&game.suspend().profile_image("ada")), None).unwrap().progress;
    assert_eq!((game.value("time", &[]), game.value("toll", &["top"])), (Ok(7000.into()), Ok(5.into())));
}
