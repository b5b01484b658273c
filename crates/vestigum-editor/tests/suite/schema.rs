//! The schema and the reader agree on which tables and keys there are.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value as Json;
use vestigum_core::Spec;
use vestigum_editor::keys::{Form, Holds, SpecKey, TABLES};
use vestigum_editor::schema::schema;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All specs below a folder: what is TOML, but for manifests and the maps of old saves.
fn specs(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() && !path.ends_with("adopted") {
            specs(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "toml") && !path.ends_with("Cargo.toml") {
            found.push(path);
        }
    }
}

fn as_json(text: &str) -> Json {
    toml::from_str(text).unwrap()
}

/// The schema is read by somebody else's crate, and so are the documents.
#[test]
fn every_spec_of_the_demo_is_valid_and_a_misspelt_key_is_not() {
    let validator = jsonschema::validator_for(&schema()).unwrap();
    let mut found = vec![root().join("crates/vestigum-cli/starter/progress.toml")];
    specs(&root().join("demo"), &mut found);
    assert!(found.len() > 60, "{}", found.len());
    for path in found {
        let text = fs::read_to_string(&path).unwrap();
        let document = as_json(&text);
        let errors: Vec<String> =
            validator.iter_errors(&document).map(|error| format!("{}: {error}", error.instance_path)).collect();
        assert!(errors.is_empty(), "{}: {errors:?}", path.display());
    }
    for wrong in [
        "[game]\nid = \"x\"\ntitel = \"X\"",
        "[game]\ntitle = \"X\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"int\"\nlasts = \"for ever\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"int\"\nlasts = \"run\"\non.death = { plus = 1 }",
        "[game]\nid = \"x\"\n[[source]]\nname = \"letter\"",
        "[game]\nid = \"x\"\n[save]\nkeep = \"3\"",
        "[gmae]\nid = \"x\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"integer\"\nlasts = \"run\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"list of string\"\nlasts = \"run\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"text\"\nlasts = \"run\"\nmax_len = -1",
        "[game]\nid = \"x\"\n[field.\"two words\"]\ntype = \"int\"\nlasts = \"run\"",
        "[game]\nid = \"x\"\n[field.xp]\ntype = \"int\"\nlasts = \"run\"\non.death = { add = 1, max = \"xp\" }",
        "[game]\nid = \"x\"\n[levels]\norder = [\"mill lane\"]",
        "[game]\nid = \"x\"\n[save]\nkeep = 0",
        "[game]\nid = \"x\"\n[[promise]]\nname = \"nothing is claimed\"",
        "[game]\nid = \"x\"\n[[promise]]\nname = \"two claims\"\nholds = \"true\"\ncan = \"true\"",
    ] {
        assert!(!validator.is_valid(&as_json(wrong)), "{wrong}");
    }
}

/// Returns the keys that the reader says a place has, where it finds a key that it does not know.
fn reader_has(document: &str) -> Vec<String> {
    let errors = Spec::from_toml(document).unwrap_err();
    let unknown = errors.list().iter().find(|error| error.message.contains("has no key `zzzz`"));
    let unknown = unknown.unwrap_or_else(|| panic!("{document}\n{errors}"));
    let help = unknown.help.as_deref().unwrap_or_default();
    let listed = help.strip_prefix("it has: ").unwrap_or_else(|| panic!("{document}: {help}"));
    let mut names: Vec<String> = listed.split(", ").map(str::to_owned).collect();
    names.sort();
    names
}

fn listed(keys: &[SpecKey]) -> Vec<String> {
    let mut names: Vec<String> = keys.iter().map(|key| key.name.to_owned()).collect();
    names.sort();
    names
}

/// The reader has its own list of keys, in its code; both must be the same.
#[test]
fn the_keys_are_those_of_the_reader() {
    let mut tables: Vec<String> = TABLES.iter().map(|table| table.name.to_owned()).collect();
    tables.sort();
    assert_eq!(reader_has("zzzz = 1"), tables);
    for table in TABLES {
        let name = table.name;
        let (heading, keys) = match &table.form {
            Form::One(keys) => (format!("[{name}]"), *keys),
            Form::Named(keys) => (format!("[{name}.some]"), *keys),
            Form::Several(keys) => (format!("[[{name}]]"), *keys),
            Form::Free(_) | Form::NamedFree(_) => continue,
        };
        // A table with one key says no list.
        if keys.len() > 1 {
            assert_eq!(reader_has(&format!("{heading}\nzzzz = 1")), listed(keys), "{name}");
        }
        // Tables inside it.
        for key in keys {
            if let Holds::Table(inner) = &key.holds {
                assert_eq!(reader_has(&format!("{heading}\n{} = {{ zzzz = 1 }}", key.name)), listed(inner));
            }
        }
    }
    let keys_of = |table: &str, key: &str| -> Vec<String> {
        let table = TABLES.iter().find(|known| known.name == table).unwrap();
        let holds = match &table.form {
            Form::Named(keys) => &keys.iter().find(|known| known.name == key).unwrap().holds,
            Form::Free(holds) | Form::NamedFree(holds) => *holds,
            Form::One(_) | Form::Several(_) => panic!("not asked"),
        };
        listed(holds.keys().unwrap())
    };
    assert_eq!(reader_has("[field.xp]\non.death = { zzzz = 1 }"), keys_of("field", "on"));
    assert_eq!(reader_has("[derived]\nx = { zzzz = 1 }"), keys_of("derived", ""));
    assert_eq!(reader_has("[struct.walk]\nx = { zzzz = 1 }"), keys_of("struct", ""));
}

/// The file in docs is what `vestigum schema` prints; `VESTIGUM_WRITE_DOCS=1` writes it anew.
#[test]
fn the_schema_in_docs_is_this_one() {
    let path = root().join("docs/vestigum.schema.json");
    let text = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
    if std::env::var_os("VESTIGUM_WRITE_DOCS").is_some() {
        fs::write(&path, &text).unwrap();
    }
    assert!(fs::read_to_string(&path).unwrap_or_default() == text, "docs/vestigum.schema.json is out of date");
}

/// The grammar colours every word with which a statement can begin, and every function.
#[test]
fn the_grammar_knows_the_words_of_the_language() {
    let text = fs::read_to_string(root().join("docs/vestigum-play.tmLanguage.json")).unwrap();
    let grammar: Json = serde_json::from_str(&text).unwrap();
    let mut patterns = Vec::new();
    let mut open = vec![&grammar];
    while let Some(next) = open.pop() {
        match next {
            Json::Object(members) => {
                let has = |key: &str| members.get(key).and_then(Json::as_str);
                patterns.extend(has("match").or(has("begin")).map(str::to_owned));
                open.extend(members.values());
            }
            Json::Array(items) => open.extend(items),
            Json::Null | Json::Bool(_) | Json::Number(_) | Json::String(_) => {}
        }
    }
    let functions = vestigum_spec::vocabulary::function::Function::all();
    let words = vestigum_spec::vocabulary::keyword::statement_words();
    for word in words.chain(functions.map(vestigum_spec::vocabulary::function::Function::word)) {
        let stands = |pattern: &String| pattern.split(['(', '|', ')']).any(|part| part == word);
        assert!(patterns.iter().any(stands), "the grammar does not know `{word}`");
    }
}
