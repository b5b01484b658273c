//! Random updates of random specs: what shipped saves hold is kept, or somebody is asked.

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use vestigum_core::{History, Image, Launched, Progress, Spec, Value};
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, FieldSketch, Sketch, apply_all, play, sketch, values};
use vestigum_verify::lint::{Checked, check_with_history};
use vestigum_verify::proof::{Options, prove};

/// A change that an update makes.
#[derive(Clone, Debug)]
enum Edit {
    AddField(FieldSketch),
    DropField,
    Lasts(usize, &'static str),
    Type(usize, &'static str),
    Per(usize, &'static [&'static str]),
    Range(usize),
    Optional(usize),
    AddLevel,
    DropLevel,
    Checkpoints(usize, usize),
    LevelsLast(&'static str),
    Made(usize),
    /// Words of the document that are others now.
    Words(usize),
}

/// What an update does to the struct, the choices and the key sets that every sketch has.
const WORDS: [(&str, &[(&str, &str)]); 12] = [
    ("thing", &[("n = \"int\"\nname = \"text\"", "n = \"int\"\nways = \"list of int\"")]),
    ("thing", &[("\nn = \"int\"", "\nnumber = \"int\""), ("{ n =", "{ number ="), (".n >", ".number >")]),
    ("thing", &[("n = \"int\"\nname = \"text\"", "n = \"int\"\nname = \"text\"\nlit = \"bool\"")]),
    ("being", &[("note =", "remark =")]),
    ("being", &[("range = [-30, 40]", "range = [-3, 40]")]),
    (
        "being",
        &[
            ("level = { type = \"int\", range = [-30, 40], default = 3 }", "rank = \"float\""),
            ("level = ", "rank = "),
            ("highest level", "highest rank"),
            (".level", ".rank"),
        ],
    ),
    ("choice", &[("[\"a\", \"b\", \"c\"]", "[\"a\", \"b\"]"), ("'c'", "'b'")]),
    ("choice", &[("[\"a\", \"b\", \"c\"]", "[\"a\", \"b\", \"d\"]"), ("'c'", "'d'")]),
    ("spot", &[("[keys.spot]\nopen = true\nmax = 3", "[keys.spot]\nnames = [\"s0\", \"s1\", \"s2\", \"s3\", \"s4\"]")]),
    ("spot", &[("[keys.spot]\nopen = true\nmax = 3", "[keys.spot]\nopen = true\nmax = 2")]),
    ("tag", &[("\"t1\", \"t2\"]", "\"t1\"]"), ("t2]", "t1]"), ("t2,", "t1,")]),
    ("tag", &[("[keys.tag]\nnames = [\"t0\", \"t1\", \"t2\"]", "[keys.tag]\nopen = true\nmax = 3")]),
];

/// The last of them: the names of tags are made.
const OPEN_TAG: usize = WORDS.len() - 1;

/// A sketch with other words in its document.
#[derive(Clone, Debug)]
struct Draft {
    sketch: Sketch,
    words: Vec<usize>,
}

impl std::ops::Deref for Draft {
    type Target = Sketch;
    fn deref(&self) -> &Sketch {
        &self.sketch
    }
}

impl From<&Sketch> for Draft {
    fn from(sketch: &Sketch) -> Draft {
        Draft { sketch: sketch.clone(), words: Vec::new() }
    }
}

fn edit() -> impl Strategy<Value = Edit> {
    let lasts = select(vec!["attempt", "visit", "session", "run", "profile", "device"]);
    let types = select(vec!["int", "float", "bool", "text", "choice", "list of int"]);
    let per: Vec<&'static [&'static str]> =
        vec![&[], &["level"], &["tag"], &["spot"], &["level", "kind"], &["spot", "level"]];
    prop_oneof![
        3 => vestigum_testing::field().prop_map(Edit::AddField),
        1 => Just(Edit::DropField),
        2 => (0usize..7, lasts).prop_map(|(index, lasts)| Edit::Lasts(index, lasts)),
        1 => (0usize..7, types).prop_map(|(index, ty)| Edit::Type(index, ty)),
        1 => (0usize..7, select(per)).prop_map(|(index, per)| Edit::Per(index, per)),
        2 => (0usize..7).prop_map(Edit::Range),
        2 => (0usize..7).prop_map(Edit::Optional),
        2 => Just(Edit::AddLevel),
        1 => Just(Edit::DropLevel),
        2 => (0usize..4, 0usize..4).prop_map(|(level, count)| Edit::Checkpoints(level, count)),
        1 => select(vec!["profile", "run"]).prop_map(Edit::LevelsLast),
        1 => (0usize..3).prop_map(Edit::Made),
        4 => (0..WORDS.len()).prop_map(Edit::Words),
    ]
}

const ALLOWED: Allowed = Allowed { launch_rules: false, priced_failures: true };

fn changed(old: &Draft, edits: &[Edit]) -> Draft {
    let mut words = old.words.clone();
    let mut new = old.sketch.clone();
    for edit in edits {
        let count = new.fields.len();
        match edit {
            Edit::AddField(field) => new.fields.push(field.clone()),
            Edit::DropField if count > 1 => drop(new.fields.pop()),
            Edit::Lasts(index, lasts) => new.fields[index % count].lasts = lasts,
            Edit::Type(index, ty) => new.fields[index % count].ty = ty,
            Edit::Per(index, per) => new.fields[index % count].per = per.to_vec(),
            Edit::Range(index) => new.fields[index % count].range ^= true,
            Edit::Optional(index) => new.fields[index % count].optional ^= true,
            Edit::AddLevel => new.levels.push(2),
            Edit::DropLevel if new.levels.len() > 1 => drop(new.levels.pop()),
            Edit::Checkpoints(level, stops) => {
                let levels = new.levels.len();
                new.levels[level % levels] = *stops;
            }
            Edit::LevelsLast(lasts) => new.opened_last = lasts,
            Edit::Made(count) => new.made = *count,
            // What one edit has changed another does not change again.
            Edit::Words(index) if words.iter().any(|known| WORDS[*known].0 == WORDS[*index].0) => {}
            Edit::Words(index) => words.push(*index),
            Edit::DropField | Edit::DropLevel => {}
        }
    }
    new.tidy(ALLOWED);
    // The device has no entries of names that play makes.
    if words.contains(&OPEN_TAG) {
        for field in new.fields.iter_mut().filter(|field| field.lasts == "device" && field.per.contains(&"tag")) {
            field.per.clear();
        }
    }
    Draft { sketch: new, words }
}

fn versioned(draft: &Draft, version: i64, migrations: &str) -> String {
    let head = format!("id = \"fellpost\"\nversion = {version}\n");
    let text = draft.toml().replacen("id = \"fellpost\"\n", &head, 1);
    let text =
        draft.words.iter().flat_map(|index| WORDS[*index].1).fold(text, |text, (from, to)| text.replace(from, to));
    format!("{text}{migrations}")
}

/// Whether a step says what becomes of a value: of its field, its struct, or a key of its entry.
fn said_of(sketch: &Sketch, migrations: &str, name: &str) -> bool {
    let field = name.split('[').next().unwrap_or_default();
    let ty =
        field.strip_prefix('f').and_then(|index| sketch.fields.get(index.parse::<usize>().ok()?)).map(|field| field.ty);
    migrations.contains(&format!("\"{field}\""))
        || (ty == Some("thing") && migrations.contains("\"struct field\""))
        || (ty.is_some_and(|ty| ty.ends_with("being")) && migrations.contains("\"being"))
        || (name.contains("t2") && migrations.contains("\"key\""))
}

fn check(text: &str, history: &History) -> Checked {
    check_with_history("spec.toml", text, history.clone())
}

fn frozen(history: &History, spec: &Spec) -> History {
    history.freeze(spec).unwrap_or_else(|error| panic!("{error}")).history
}

/// The spec with every step that `check` asks for, and those steps.
fn with_steps(sketch: &Draft, version: i64, history: &History, before: &str) -> (Spec, String) {
    let mut migrations = before.to_owned();
    for _ in 0..4 {
        let checked = check(&versioned(sketch, version, &migrations), history);
        if let Some(spec) = checked.spec {
            return (spec, migrations);
        }
        // Steps for the same version are put into the migration that is there.
        let more = checked.migrations();
        let head = format!("[[migration]]\nto = {version}\nsteps = [\n");
        match (migrations.contains(&head), more.strip_prefix(&head)) {
            (true, Some(steps)) => {
                migrations =
                    migrations.replacen(&head, &format!("{head}{}", steps.trim_end().trim_end_matches(']')), 1);
            }
            _ => migrations.push_str(&more),
        }
    }
    panic!(
        "the steps that are asked for are not enough:\n{}",
        check(&versioned(sketch, version, &migrations), history).findings
    );
}

fn saved(sketch: &Sketch, spec: &Spec, steps: &[vestigum_testing::Step]) -> (Image, Image) {
    let mut game = Progress::fresh(spec);
    apply_all(sketch, &mut game, steps);
    let suspended = game.suspend();
    (suspended.profile_image("player"), suspended.device_image())
}

fn load(spec: &Spec, (profile, device): &(Image, Image)) -> Launched {
    Progress::load(spec, Some(profile), Some(device)).unwrap_or_else(|error| panic!("{error}"))
}

/// The same document with other names for everything that saves hold, and the steps that say so.
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

/// What of a load another load does not have: entries of saved fields for which `named` does not hold, by their names.
fn lost(old: &Sketch, before: &Progress, after: &Progress, named: impl Fn(&str) -> bool) -> Option<String> {
    let after_values = |name: &str| {
        let (field, keys) = name.split_once('[').unwrap_or((name, "]"));
        let keys: Vec<&str> = keys.trim_end_matches(']').split(", ").filter(|key| !key.is_empty()).collect();
        after.value(field, &keys)
    };
    let made = before.suspend().profile_image("player").made;
    let not_made = |name: &str| {
        let keys = name.split(['[', ']', ',']).skip(1).map(str::trim);
        let mut spots = keys.filter(|key| key.len() == 2 && key.starts_with('s'));
        spots.any(|spot| !made.get("spot").is_some_and(|made| made.iter().any(|name| **name == *spot)))
    };
    values(old, before).into_iter().find_map(|(name, value)| {
        let field = name.split('[').next().unwrap_or_default().to_owned();
        let sketch = field.strip_prefix('f').and_then(|index| old.fields.get(index.parse::<usize>().ok()?));
        let is_saved = sketch.is_none_or(|field| matches!(field.lasts, "run" | "profile" | "device"));
        let clamped =
            sketch.is_some_and(|field| field.ty == "int" && !field.range) && !(-40..=60).contains(&value.as_int());
        // A shorter limit cuts what is longer.
        let cut = sketch.is_some_and(|field| vestigum_testing::has_length(field.ty) && !field.range)
            && (value.len() > 2
                || sketch.is_some_and(|field| matches!(field.ty, "thing" | "being" | "list of being" | "set of text")));
        // So does a narrower range of a member.
        let cut = cut || value.to_string().contains("level = -");
        if !is_saved
            || cut
            || not_made(&name)
            || named(&name)
            || clamped
            || value == Value::Bool(false)
            || name.starts_with("opened")
        {
            return None;
        }
        let now = after_values(&name);
        // A struct may have more members than before.
        let like = |now: &Value| {
            now.to_string() == value.to_string()
                || now.to_string() == value.to_string().replace(" }", ", lit = false }")
        };
        let same = now.as_ref().is_ok_and(|now| *now == value || like(now));
        (!same).then(|| format!("{name} was {value} and is {now:?}"))
    })
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
        prop_assert_eq!(Image { version: 1, ..after.profile_image("player") }, before.profile_image("player"));
        prop_assert_eq!(Image { version: 1, ..after.device_image() }, before.device_image());
    }

    /// Where everything bears another name, everything is there under it: after loading, and after going on.
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
                prop_assert_eq!(lost(&changed(&second, &later), &direct.progress, &played.progress, |name| name.contains("t2")), None);
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
