//! Random changes of random specs, and what must come through them.

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use proptest::sample::select;

use vestigum_core::{History, Image, Launched, Progress, Spec, Value};
use vestigum_spec::model::field::Field;
use vestigum_testing::{Allowed, FieldSketch, Sketch, apply_all, values};
use vestigum_verify::lint::{Checked, check_with_history};

/// A change that an update makes.
#[derive(Clone, Debug)]
pub(crate) enum Edit {
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

/// Says what an update does to the struct, the choices and the key sets that every sketch has.
pub(crate) const WORDS: [(&str, &[(&str, &str)]); 12] = [
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

/// The one that gives a struct another member.
pub(crate) const GROWN_STRUCT: usize = 2;

/// The last of them: the names of tags are made.
const OPEN_TAG: usize = WORDS.len() - 1;

/// A sketch with other words in its document.
#[derive(Clone, Debug)]
pub(crate) struct Draft {
    pub(crate) sketch: Sketch,
    pub(crate) words: Vec<usize>,
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

pub(crate) fn edit() -> impl Strategy<Value = Edit> {
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

pub(crate) const ALLOWED: Allowed = Allowed { launch_rules: false, priced_failures: true };

pub(crate) fn changed(old: &Draft, edits: &[Edit]) -> Draft {
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

pub(crate) fn versioned(draft: &Draft, version: i64, migrations: &str) -> String {
    let head = format!("id = \"fellpost\"\nversion = {version}\n");
    let text = draft.toml().replacen("id = \"fellpost\"\n", &head, 1);
    let text =
        draft.words.iter().flat_map(|index| WORDS[*index].1).fold(text, |text, (from, to)| text.replace(from, to));
    format!("{text}{migrations}")
}

/// Returns whether a step says what becomes of a value: of its field, its struct, or a key of its entry.
pub(crate) fn said_of(sketch: &Sketch, migrations: &str, name: &str) -> bool {
    let field = name.split('[').next().unwrap_or_default();
    let ty =
        field.strip_prefix('f').and_then(|index| sketch.fields.get(index.parse::<usize>().ok()?)).map(|field| field.ty);
    migrations.contains(&format!("\"{field}\""))
        || migrations.contains(&format!("\"{field}["))
        || (ty == Some("thing") && migrations.contains("\"struct field\""))
        || (ty.is_some_and(|ty| ty.ends_with("being")) && migrations.contains("\"being"))
        || (name.contains("t2") && migrations.contains("\"key\""))
}

pub(crate) fn check(text: &str, history: &History) -> Checked {
    check_with_history("spec.toml", text, history.clone())
}

pub(crate) fn frozen(history: &History, spec: &Spec) -> History {
    history.freeze(spec).unwrap_or_else(|error| panic!("{error}")).history
}

/// The spec with every step that `check` asks for, and those steps.
pub(crate) fn with_steps(sketch: &Draft, version: i64, history: &History, before: &str) -> (Spec, String) {
    let mut migrations = before.to_owned();
    // Once: pasted as a whole, what is offered stands, and nothing more is asked for.
    for _ in 0..2 {
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

pub(crate) fn saved(sketch: &Sketch, spec: &Spec, steps: &[vestigum_testing::Step]) -> (Image, Image) {
    let mut game = Progress::fresh(spec);
    apply_all(sketch, &mut game, steps);
    let suspended = game.suspend();
    (suspended.profile_image("player"), suspended.device_image())
}

pub(crate) fn load(spec: &Spec, (profile, device): &(Image, Image)) -> Launched {
    Progress::load(spec, Some(profile), Some(device)).unwrap_or_else(|error| panic!("{error}"))
}

/// Lists what another load lacks of a load: entries of saved fields for which `named` does not hold, by their names.
pub(crate) fn lost(old: &Sketch, before: &Progress, after: &Progress, named: impl Fn(&str) -> bool) -> Option<String> {
    let after_values = |name: &str| {
        let (field, keys) = name.split_once('[').unwrap_or((name, "]"));
        let keys: Vec<&str> = keys.trim_end_matches(']').split(", ").filter(|key| !key.is_empty()).collect();
        after.value(field, &keys)
    };
    let made_of = |game: &Progress| game.suspend().profile_image("player").made;
    let (made_before, made_after) = (made_of(before), made_of(after));
    let not_made = |made: &BTreeMap<Arc<str>, Vec<Arc<str>>>, name: &str| {
        let keys = name.split(['[', ']', ',']).skip(1).map(str::trim);
        let mut spots = keys.filter(|key| key.len() == 2 && key.starts_with('s'));
        spots.any(|spot| !made.get("spot").is_some_and(|made| made.iter().any(|name| **name == *spot)))
    };
    // A level that nobody has made has no entries.
    let no_level = |name: &str| {
        let mut levels = name.split(['[', ']', ',']).skip(1).map(str::trim).filter(|key| key.starts_with("made_"));
        levels.any(|level| !before.value("made", &[level]).is_ok_and(|made| made.as_bool()))
    };
    // Where a name was dropped, an entry that nobody wrote is gone with it.
    let untouched = |field: &str, name: &str, value: &Value| {
        let default = before.model().find_field(field).map(Field::default);
        default == Some(value) && not_made(&made_after, name)
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
            || not_made(&made_before, &name)
            || no_level(&name)
            // The device keeps nothing for a level that one of its players made.
            || (name.contains("made_") && sketch.is_some_and(|field| field.lasts == "device"))
            || untouched(&field, &name, &value)
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
