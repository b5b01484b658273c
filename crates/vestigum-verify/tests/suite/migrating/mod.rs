//! Random updates of random specs: what shipped saves hold is kept, or somebody is asked.

mod edits;
mod growing;

use proptest::collection::vec;
use proptest::prelude::*;

use edits::*;
use vestigum_core::{History, Image, Progress, Spec};
use vestigum_testing::hunting::config;
use vestigum_testing::{Sketch, play, sketch, values};
use vestigum_verify::proof::{Options, prove};

/// Gives everything that saves hold other names in a document, and the steps that say so.
fn renamed(sketch: &Sketch) -> (String, String) {
    let mut text = sketch.toml();
    let mut steps = Vec::new();
    let mut step = |what: &str, of: &str, from: &str, to: &str| {
        let of = if of.is_empty() { String::new() } else { format!("of = \"{of}\", ") };
        steps.push(format!("{{ rename = \"{what}\", {of}from = \"{from}\", to = \"{to}\" }}"));
    };
    for (level, stops) in sketch.levels.iter().enumerate() {
        let level = sketch.level(level);
        step("level", "", &level, &level.replace("path", "way"));
        (0..*stops).for_each(|stop| step("checkpoint", &level, &format!("stop_{stop}"), &format!("halt_{stop}")));
    }
    for (index, field) in sketch.fields.iter().enumerate() {
        if field.lasts != "session" {
            step("field", "", &format!("f{index}"), &format!("g{index}"));
        }
        if field.lasts != "session" && field.ty == "choice" {
            ["a", "b", "c"].iter().for_each(|name| step("choice", &format!("f{index}"), name, &format!("{name}2")));
        }
    }
    step("key set", "", "tag", "label");
    (0..3).for_each(|n| step("key", "tag", &format!("t{n}"), &format!("l{n}")));
    (0..5).for_each(|n| step("key", "spot", &format!("s{n}"), &format!("p{n}")));
    step("struct field", "thing", "n", "number");
    step("struct field", "being", "note", "remark");
    ["a", "b", "c"].iter().for_each(|name| step("choice", "being.kind", name, &format!("{name}2")));
    // Words of the document, as they stand there: names, and keys in brackets.
    for (from, to) in [
        ("path_", "way_"),
        ("stop_", "halt_"),
        ("tag", "label"),
        ("field.f", "field.g"),
        (".n >", ".number >"),
        ("note =", "remark ="),
    ] {
        text = text.replace(from, to);
    }
    text = text.replace("{ n =", "{ number =").replace("\nn = \"int\"", "\nnumber = \"int\"");
    let mut out = String::new();
    let mut rest = text.as_str();
    while let Some(at) = rest.find(|c: char| c.is_ascii_alphanumeric() || c == '_') {
        out.push_str(&rest[..at]);
        let word: String = rest[at..].chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
        rest = &rest[at + word.len()..];
        let number = word[1..].parse::<u32>().is_ok();
        let quoted = out.ends_with(['"', '\'']) && rest.starts_with(['"', '\'']);
        match (word.chars().next(), number) {
            (Some('f'), true) => out.push_str(&word.replacen('f', "g", 1)),
            (Some('t'), true) => out.push_str(&word.replacen('t', "l", 1)),
            (Some('s'), true) => out.push_str(&word.replacen('s', "p", 1)),
            _ if quoted && ["a", "b", "c"].contains(&word.as_str()) => out.push_str(&format!("{word}2")),
            _ => out.push_str(&word),
        }
    }
    out.push_str(rest);
    (out, format!("[[migration]]\nto = 2\nsteps = [\n{},\n]\n", steps.join(",\n")))
}

/// The new name of a value's old one, as `values` writes it.
fn new_name(name: &str) -> (String, Vec<String>) {
    let (field, keys) = name.split_once('[').unwrap_or((name, "]"));
    let keys = keys.trim_end_matches(']').split(", ").filter(|key| !key.is_empty());
    let key = |key: &str| match (key.split_once('_'), &key[..1]) {
        (Some(("path", n)), _) => format!("way_{n}"),
        (Some(("stop", n)), _) => format!("halt_{n}"),
        (_, "t") => key.replacen('t', "l", 1),
        (_, "s") => key.replacen('s', "p", 1),
        _ => key.to_owned(),
    };
    let is_own = field.len() < 4 && field.starts_with('f');
    (if is_own { field.replacen('f', "g", 1) } else { field.to_owned() }, keys.map(key).collect())
}

fn cases(cases: u32) -> ProptestConfig {
    config(cases, vestigum_testing::kept_in!("migrating"))
}

proptest! {
    #![proptest_config(cases(400))]

    /// For any two specs: either `check` asks for something, or loading loses nothing.
    #[test]
    fn what_passes_loses_nothing(
        old in sketch(ALLOWED), edits in vec(edit(), 1..4), steps in play(40), raised in any::<bool>(),
    ) {
        let old_spec = Spec::from_toml(&versioned(&Draft::from(&old), 1, "")).expect("a sound spec");
        let history = frozen(&History::default(), &old_spec);
        let new = changed(&Draft::from(&old), &edits);
        let checked = check(&versioned(&new, if raised { 2 } else { 1 }, ""), &history);
        let Some(spec) = checked.spec else {
            for finding in checked.findings.list().iter().filter(|finding| finding.code < "V100" || finding.code > "V200") {
                prop_assert!(["V303", "V304"].contains(&finding.code), "{}", checked.findings);
            }
            return Ok(());
        };
        let images = saved(&old, &old_spec, &steps);
        let (before, after) = (load(&old_spec, &images), load(&spec, &images));
        if !raised {
            prop_assert!(after.report.clamped.is_empty() && after.report.dropped.is_empty(), "{}", after.report);
        }
        if after.report.place.is_none() {
            let told = |name: &str| after.report.dropped.iter().any(|dropped| dropped.what.to_string() == name);
            prop_assert_eq!(lost(&old, &before.progress, &after.progress, told), None);
        }
    }

    /// The steps that `check` offers are the ones it wants, and they touch no field that they do not name.
    #[test]
    fn the_steps_that_are_asked_for_are_enough(
        old in sketch(ALLOWED), edits in vec(edit(), 1..6), steps in play(40),
    ) {
        let old_spec = Spec::from_toml(&versioned(&Draft::from(&old), 1, "")).expect("a sound spec");
        let history = frozen(&History::default(), &old_spec);
        let new = changed(&Draft::from(&old), &edits);
        let (spec, migrations) = with_steps(&new, 2, &history, "");
        let images = saved(&old, &old_spec, &steps);
        let (before, after) = (load(&old_spec, &images), load(&spec, &images));
        prop_assert_eq!(after.report.migrated.len(), 1);
        if after.report.place.is_none() && !migrations.contains("\"level\"") && !migrations.contains("\"checkpoint\"") {
            let told = |name: &str| after.report.dropped.iter().any(|dropped| dropped.what.to_string() == name);
            let named = |name: &str| told(name) || said_of(&old, &migrations, name);
            prop_assert_eq!(lost(&old, &before.progress, &after.progress, named), None);
        }
        // Migrating what was migrated changes nothing.
        let suspended = after.progress.suspend();
        let again = load(&spec, &(suspended.profile_image("player"), suspended.device_image()));
        prop_assert!(again.report.is_clean(), "{}", again.report);
        prop_assert_eq!(again.progress.suspend().profile_image("player").digest(), suspended.profile_image("player").digest());
        prop_assert_eq!(History::from_json("history", &history.to_json()).expect("what was written").to_json(), history.to_json());
    }

    /// A raised version alone changes nothing: values, marks, names and places are as they were.
    #[test]
    fn a_raised_version_changes_nothing(sketch in sketch(ALLOWED), steps in play(40)) {
        let old_spec = Spec::from_toml(&versioned(&Draft::from(&sketch), 1, "")).expect("a sound spec");
        let spec = check(&versioned(&Draft::from(&sketch), 2, ""), &frozen(&History::default(), &old_spec)).spec.expect("the same shape");
        let images = saved(&sketch, &old_spec, &steps);
        let (before, after) = (load(&old_spec, &images), load(&spec, &images));
        prop_assert!(after.report.place.is_none() && after.report.filled.is_empty());
        let (before, after) = (before.progress.suspend(), after.progress.suspend());
        // Another version is another shape, whatever it holds.
        let shape = before.device_image().shape;
        let as_before = |image: Image| Image { version: 1, shape: shape.clone(), ..image };
        prop_assert_eq!(as_before(after.profile_image("player")), before.profile_image("player"));
        prop_assert_eq!(as_before(after.device_image()), before.device_image());
    }

    /// Renames everything: all of it is there under its new name after loading, and after going on.
    #[test]
    fn everything_can_be_renamed_at_once(sketch in sketch(ALLOWED), steps in play(40)) {
        let old_spec = Spec::from_toml(&versioned(&Draft::from(&sketch), 1, "")).expect("a sound spec");
        let (text, migration) = renamed(&sketch);
        let text = text.replacen("id = \"fellpost\"\n", "id = \"fellpost\"\nversion = 2\n", 1);
        let checked = check(&format!("{text}{migration}"), &frozen(&History::default(), &old_spec));
        let Some(spec) = checked.spec else { panic!("{}\n{text}{migration}", checked.findings) };
        let images = saved(&sketch, &old_spec, &steps);
        let (mut before, mut after) = (load(&old_spec, &images).progress, load(&spec, &images).progress);
        for moment in ["", "death", "restart", "complete"] {
            let say = |game: &mut Progress| match moment {
                "death" => drop(game.death()),
                "restart" => drop(game.restart()),
                "complete" => drop(game.complete()),
                _ => {}
            };
            say(&mut before);
            say(&mut after);
            for (name, value) in values(&sketch, &before) {
                let (field, keys) = new_name(&name);
                let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
                let now = after.value(&field, &keys).unwrap_or_default().to_string();
                let was = value.to_string();
                let being = ["a", "b", "c"].iter().fold(was.replace("note =", "remark ="), |text, name| {
                    text.replace(&format!("kind = {name},"), &format!("kind = {name}2,"))
                });
                let same = now == was || now == being || now == format!("{was}2") || now == was.replace("{ n =", "{ number =");
                prop_assert!(same, "after `{}`: {} was {} and {} is {}", moment, name, was, field, now);
            }
        }
    }

    /// A player who skipped a version has what one has who did not: from any version, all at once and one by one.
    #[test]
    fn the_chain_is_the_direct_way(
        first in sketch(ALLOWED), edits in vec(edit(), 1..4), later in vec(edit(), 1..4), steps in play(40),
    ) {
        let first_spec = Spec::from_toml(&versioned(&Draft::from(&first), 1, "")).expect("a sound spec");
        let history = frozen(&History::default(), &first_spec);
        let second = changed(&Draft::from(&first), &edits);
        let (second_spec, migrations) = with_steps(&second, 2, &history, "");
        let history = frozen(&history, &second_spec);
        let (third_spec, _) = with_steps(&changed(&second, &later), 3, &history, &migrations);
        // What has shipped stays as it was: one step less is told.
        let mut lines: Vec<&str> = migrations.lines().collect();
        if let Some(step) = lines.iter().rposition(|line| line.trim_start().starts_with('{')) {
            lines.remove(step);
            let edited = check(&versioned(&changed(&second, &later), 3, &(lines.join("\n") + "\n")), &history);
            prop_assert!(edited.findings.list().iter().any(|finding| finding.code == "V306"), "{}", edited.findings);
        }
        let images = saved(&first, &first_spec, &steps);
        let to = |spec: &Spec, version: i64, (profile, device): &(Image, Image)| {
            let upgraded = spec.upgrade(version, Some(profile), Some(device)).unwrap_or_else(|error| panic!("{error}"));
            // As saves do, through their bytes.
            let written = |image: Option<Image>| vestigum_testing::written_and_read(&image.expect("an image"));
            (written(upgraded.profile), written(upgraded.device))
        };
        let direct = to(&third_spec, 3, &images);
        let chain = to(&third_spec, 3, &to(&second_spec, 2, &images));
        prop_assert_eq!(&chain, &direct);
        prop_assert_eq!(load(&third_spec, &images).progress.suspend().profile_image("p"), load(&third_spec, &chain).progress.suspend().profile_image("p"));
        // One who launched the version between, and quit again. In a level, fields that now rewind are rewound there.
        let between = load(&second_spec, &images);
        if images.0.marks.is_none() {
            let suspended = between.progress.suspend();
            let played = to(&third_spec, 3, &(suspended.profile_image("player"), suspended.device_image()));
            let (played, direct) = (load(&third_spec, &played), load(&third_spec, &direct));
            if direct.report.place.is_none() {
                // A field that the version between has added had its default there, and is a new one for who skipped it.
                let later = changed(&second, &later);
                let added = |name: &str| {
                    let index = name.strip_prefix('f').and_then(|name| name.split('[').next()?.parse::<usize>().ok());
                    index.is_some_and(|index| index >= first.fields.len())
                };
                let named = |name: &str| name.contains("t2") || added(name);
                prop_assert_eq!(lost(&later, &direct.progress, &played.progress, named), None);
            }
        }
    }
}

proptest! {
    #![proptest_config(cases(120))]

    /// With the steps that are asked for, the proof finds nothing lost that no step drops.
    #[test]
    fn the_proof_holds_for_the_steps_that_are_asked_for(
        first in sketch(ALLOWED), edits in vec(edit(), 1..5), later in vec(edit(), 1..4), seed in any::<u64>(),
    ) {
        let first_spec = Spec::from_toml(&versioned(&Draft::from(&first), 1, "")).expect("a sound spec");
        let history = frozen(&History::default(), &first_spec);
        let second = changed(&Draft::from(&first), &edits);
        let (second_spec, migrations) = with_steps(&second, 2, &history, "");
        let history = frozen(&history, &second_spec);
        let (third_spec, migrations) = with_steps(&changed(&second, &later), 3, &history, &migrations);
        let proof = prove(&third_spec, &Options { random: 3, seed });
        let lost: Vec<_> = proof.versions.iter().flat_map(|version| version.lost().map(|field| (version.version, field))).collect();
        prop_assert!(proof.holds(), "{:#?}\n{:#?}\n{migrations}", lost, proof.versions.iter().map(|version| &version.failures).collect::<Vec<_>>());
    }
}
