//! Renames in every spec of the demo: each is possible, and what passes before passes after.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use serde_json::{Value as Json, json};

use crate::client::{Client, uri};

fn specs(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            specs(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "toml")
            && fs::read_to_string(&path).is_ok_and(|text| text.starts_with("[game]") || text.contains("\n[game]"))
        {
            found.push(path);
        }
    }
}

/// Of 513 renames 34 were refused, as a field and a table, or a member and a field, have one name.
#[test]
fn every_name_of_the_patterns_can_be_renamed() {
    // The one of the demo has older versions and migrations, too.
    let shipped = ["../../demo/game/progress.toml", "../../demo/fellpost/fellpost.toml"];
    let mut found: Vec<PathBuf> = shipped.map(|path| Path::new(env!("CARGO_MANIFEST_DIR")).join(path)).into();
    specs(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/patterns"), &mut found);
    let mut renamed = 0;
    for path in found {
        let path = fs::canonicalize(path).unwrap();
        let mut client = Client::start();
        client.open(&path, &fs::read_to_string(&path).unwrap());
        let document = json!({ "uri": uri(&path) });
        let symbols = client.ask("textDocument/documentSymbol", json!({ "textDocument": document }));
        for symbol in symbols.as_array().unwrap() {
            let place = json!({ "textDocument": document, "position": symbol["selectionRange"]["start"] });
            let mut asked = place.clone();
            asked["newName"] = json!("quite_another_name");
            let answer = client.answer("textDocument/rename", asked);
            assert!(answer["error"].is_null(), "{}: {} {answer}", path.display(), symbol["name"]);
            renamed += 1;
        }
        client.end();
    }
    assert!(renamed > 100, "{renamed}");
}

/// The texts of the documents after a rename of what stands at `needle`, or why it is refused.
fn renamed(spec: &str, play: &str, needle: &str, to: &str) -> Result<BTreeMap<String, String>, String> {
    let folder = tempfile::tempdir().unwrap();
    let paths = [folder.path().join("progress.toml"), folder.path().join("it.play")];
    let mut client = Client::start();
    for (path, text) in paths.iter().zip([spec, play]) {
        fs::write(path, text).unwrap();
        client.open(path, text);
    }
    let offset = spec.find(needle).unwrap() + needle.find(|c: char| c.is_alphabetic()).unwrap();
    let before = &spec[..offset];
    let line = before.matches('\n').count();
    let position = json!({ "line": line, "character": before.rsplit('\n').next().unwrap().len() });
    let asked = json!({ "textDocument": { "uri": uri(&paths[0]) }, "position": position, "newName": to });
    let answer = client.answer("textDocument/rename", asked);
    client.end();
    if let Some(why) = answer["error"]["message"].as_str() {
        return Err(why.to_owned());
    }
    let mut texts = BTreeMap::new();
    for (path, text) in paths.iter().zip([spec, play]) {
        let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
        let edits = answer["result"]["changes"][uri(path)].as_array().cloned().unwrap_or_default();
        let mut edits: Vec<&Json> = edits.iter().collect();
        edits.sort_by_key(|edit| std::cmp::Reverse(edit["range"]["start"]["character"].as_u64()));
        for edit in edits {
            let at = |end: &str, of: &str| edit["range"][end][of].as_u64().unwrap() as usize;
            lines[at("start", "line")].replace_range(at("start", "character")..at("end", "character"), to);
        }
        texts.insert(path.file_name().unwrap().to_str().unwrap().to_owned(), lines.join("\n"));
    }
    Ok(texts)
}

const SPEC: &str = r#"[game]
id = "fellpost"
[levels]
order = ["ford", "stile"]
[keys.gate]
names = ["ford", "upper"]
[struct.walk]
letters = "int"
[table.stars]
steps = [1, 2, 3]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "entry"
[field.stars]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "grade(letters, stars)" }
[field.doors]
type = "bool"
per = "gate"
lasts = "profile"
after_failure = "keep"
[field.best]
type = "ranking of walk"
by = "highest letters"
lasts = "profile"
on.complete = { rank = "{ letters = letters }" }
[field.came_from]
type = "text"
lasts = "profile"
on.complete = { set = "level" }
[[source]]
name = "letter"
gives = { letters = 1 }
after_failure = "entry"
"#;

const PLAY: &str = "playthrough \"a walk\"
launch
enter ford
doors[ford] = true
letters += 2
complete
expect came_from == 'ford' and stars[ford] == 2
quit
";

#[test]
fn a_name_is_what_its_place_says() {
    let field = renamed(SPEC, PLAY, "letters]\ntype", "post").unwrap();
    let spec = &field["progress.toml"];
    assert!(spec.contains("rank = \"{ letters = post }\"") && spec.contains("letters = \"int\""), "{spec}");
    assert!(spec.contains("grade(post, stars)") && spec.contains("gives = { post = 1 }"), "{spec}");
    let table = renamed(SPEC, PLAY, "stars]\nsteps", "marks").unwrap();
    assert!(table["progress.toml"].contains("grade(letters, marks)"), "{table:?}");
    assert!(table["it.play"].contains("stars[ford] == 2"));
    let field = renamed(SPEC, PLAY, "stars]\ntype", "marks").unwrap();
    assert!(field["progress.toml"].contains("grade(letters, stars)"), "{field:?}");
    assert!(field["it.play"].contains("marks[ford] == 2"));
}

/// A rename of the level passed by a text that is compared, and took the key of the same name with it.
#[test]
fn a_level_is_renamed_where_a_text_names_it_and_a_key_of_its_name_stays() {
    let level = renamed(SPEC, PLAY, "ford\", \"stile", "bridge").unwrap();
    let play = &level["it.play"];
    assert!(play.contains("enter bridge\n") && play.contains("doors[ford] = true"), "{play}");
    assert!(play.contains("came_from == 'bridge' and stars[bridge] == 2"), "{play}");
    assert!(level["progress.toml"].contains("names = [\"ford\", \"upper\"]"), "{level:?}");
}

/// With any error in the spec the rename was not tried, and wrong.
#[test]
fn a_rename_that_cannot_be_tried_is_refused_with_the_reason() {
    let broken = SPEC.replace("lasts = \"visit\"", "lasts = \"for ever\"");
    let why = renamed(&broken, PLAY, "stars]\ntype", "marks").unwrap_err();
    assert!(why.contains("expected a spec without errors"), "{why}");
    let why = renamed(SPEC, &PLAY.replace("quit", "quti"), "stars]\ntype", "marks").unwrap_err();
    assert!(why.contains("expected a playthrough without errors"), "{why}");
    // What is said of a level by its name in a text that no rule compares is seen by playing.
    let play = PLAY.replace("came_from == 'ford'", "len(came_from) == 4");
    let why = renamed(SPEC, &play, "ford\", \"stile", "bridge").unwrap_err();
    assert!(why.contains("\"a walk\"") && why.contains("would fail"), "{why}");
}
