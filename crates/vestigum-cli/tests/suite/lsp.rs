//! The language server as an editor meets it: the real process, on its standard input and output.

use std::collections::BTreeMap;
use std::fs;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use crate::program::*;
use lsp_server::{Message, Notification, Request, RequestId};
use serde_json::{Value as Json, json};

struct Editor {
    process: Child,
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    asked: i32,
    /// The newest findings of each document.
    findings: BTreeMap<String, Vec<Json>>,
}

impl Editor {
    fn start(encodings: &[&str]) -> Editor {
        let program = assert_cmd::cargo::cargo_bin("vestigum");
        let mut process =
            Command::new(program).arg("lsp").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let (to, from) = (process.stdin.take().unwrap(), BufReader::new(process.stdout.take().unwrap()));
        let mut editor = Editor { process, to, from, asked: 0, findings: BTreeMap::new() };
        let answer =
            editor.ask("initialize", json!({ "capabilities": { "general": { "positionEncodings": encodings } } }));
        assert_eq!(answer["serverInfo"]["name"], "vestigum");
        editor.tell("initialized", json!({}));
        editor
    }

    fn tell(&mut self, method: &str, params: Json) {
        Message::Notification(Notification::new(method.to_owned(), params)).write(&mut self.to).unwrap();
    }

    fn ask(&mut self, method: &str, params: Json) -> Json {
        let answer = self.answer(method, params);
        assert!(answer["error"].is_null(), "{method}: {answer}");
        answer["result"].clone()
    }

    fn answer(&mut self, method: &str, params: Json) -> Json {
        self.asked += 1;
        let id = RequestId::from(self.asked);
        Message::Request(Request::new(id.clone(), method.to_owned(), params)).write(&mut self.to).unwrap();
        loop {
            match self.next() {
                Message::Response(answer) if answer.id == id => return json!(answer),
                message => self.hear(message),
            }
        }
    }

    fn next(&mut self) -> Message {
        Message::read(&mut self.from).unwrap().expect("the server has ended")
    }

    fn hear(&mut self, message: Message) {
        if let Message::Notification(told) = message
            && told.method == "textDocument/publishDiagnostics"
        {
            let list = told.params["diagnostics"].as_array().unwrap().clone();
            self.findings.insert(told.params["uri"].as_str().unwrap().to_owned(), list);
        }
    }

    /// Waits until the findings of a document are told.
    fn findings_of(&mut self, path: &Path) -> Vec<Json> {
        loop {
            if let Some(found) = self.findings.remove(&uri(path)) {
                return found;
            }
            let message = self.next();
            self.hear(message);
        }
    }

    fn open(&mut self, path: &Path, text: &str) {
        let document = json!({ "uri": uri(path), "languageId": "", "version": 1, "text": text });
        self.tell("textDocument/didOpen", json!({ "textDocument": document }));
    }

    fn change(&mut self, path: &Path, text: &str) {
        let document = json!({ "uri": uri(path), "version": 2 });
        self.tell("textDocument/didChange", json!({ "textDocument": document, "contentChanges": [{ "text": text }] }));
    }

    fn end(mut self) {
        self.ask("shutdown", Json::Null);
        self.tell("exit", Json::Null);
        drop(self.to);
        assert!(self.process.wait().unwrap().success());
    }
}

fn uri(path: &Path) -> String {
    format!("file://{}", path.display())
}

/// The place of a byte, in UTF-16.
fn place(text: &str, offset: usize) -> Json {
    let before = &text[..offset];
    let line = before.matches('\n').count();
    let column = before.rsplit('\n').next().unwrap_or_default().encode_utf16().count();
    json!({ "line": line, "character": column })
}

/// The place in a document, some bytes behind the first `needle`.
fn at(path: &Path, text: &str, needle: &str, behind: usize) -> Json {
    let found = text.find(needle).unwrap_or_else(|| panic!("{needle}"));
    json!({ "textDocument": { "uri": uri(path) }, "position": place(text, found + behind) })
}

/// The demo in a folder of its own: the spec, its text, a file of playthroughs, its text.
fn world() -> (tempfile::TempDir, PathBuf, String, PathBuf, String) {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("plays")).unwrap();
    for file in ["fellpost.toml", "fellpost.history.json", "plays/byways.play", "plays/falls.play"] {
        fs::copy(demo(file), folder.path().join(file)).unwrap();
    }
    let (spec, play) = (folder.path().join("fellpost.toml"), folder.path().join("plays/byways.play"));
    let (spec_text, play_text) = (fs::read_to_string(&spec).unwrap(), fs::read_to_string(&play).unwrap());
    (folder, spec, spec_text, play, play_text)
}

fn labels(items: &Json) -> Vec<String> {
    items.as_array().unwrap().iter().map(|item| item["label"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn findings_come_while_typing_and_go_when_mended() {
    let (_folder, spec, text, play, play_text) = world();
    let mut editor = Editor::start(&[]);
    editor.open(&spec, &text);
    assert_eq!(editor.findings_of(&spec), Vec::<Json>::new());
    editor.change(&spec, &text.replace("max = \"score\"", "max = \"scoer\""));
    let found = editor.findings_of(&spec);
    let wrong = found.iter().find(|found| found["code"] == "V004").unwrap();
    assert!(wrong["message"].as_str().unwrap().contains("did you mean `score`?"), "{wrong}");
    assert_eq!(wrong["range"]["start"], place(&text, text.find("max = \"score\"").unwrap() + 7));
    // A playthrough is told what the spec that is open would say, saved or not.
    editor.open(&play, &play_text.replace("letters += 40", "leters += 40"));
    let found = editor.findings_of(&play);
    assert!(found[0]["message"].as_str().unwrap().contains("did you mean `letters`?"), "{found:?}");
    editor.change(&spec, &text);
    editor.change(&play, &play_text.replace("stars[millrace] == 1", "stars[millrace] == 3"));
    // The change of the spec alone told the old text's findings again.
    let fails = loop {
        let found = editor.findings_of(&play);
        if let Some(fails) = found.into_iter().find(|found| found["code"] == "fails") {
            break fails;
        }
    };
    let message = fails["message"].as_str().unwrap();
    assert!(message.contains("fails here") && message.contains("stars[millrace]"), "{message}");
    editor.end();
}

#[test]
fn hovering_tells_fates_conditions_and_words() {
    let (_folder, spec, text, play, play_text) = world();
    let mut editor = Editor::start(&[]);
    editor.open(&spec, &text);
    editor.open(&play, &play_text);
    let mut hover = |path: &Path, text: &str, needle: &str, behind: usize| {
        let told = editor.ask("textDocument/hover", at(path, text, needle, behind));
        told["contents"]["value"].as_str().unwrap_or_default().to_owned()
    };
    let told = hover(&spec, &text, "[field.letters]", 8);
    assert!(told.contains("**death** goes back to what it was at the last checkpoint"), "{told}");
    assert!(hover(&spec, &text, "max = \"score\"", 9).starts_with("**score**"));
    assert!(hover(&spec, &text, "after_failure", 3).contains("What a failure leaves of it"));
    assert!(hover(&spec, &text, "[save]", 2).contains("When the game saves"));
    assert!(hover(&spec, &text, "code = \"V115\"", 9).contains("V115"));
    let told = hover(&play, &play_text, "stars[millrace]", 8);
    assert!(told.contains("leave Mill Lane by its exit `cellar`") && told.contains("hidden while"), "{told}");
    assert!(hover(&play, &play_text, "total_stars", 2).contains("sum(stars)"));
    assert!(hover(&play, &play_text, "complete cellar", 2).contains("The level was passed"));
    assert!(hover(&play, &play_text, "refuse enter", 2).contains("must be refused"));
    editor.end();
}

#[test]
fn completion_offers_what_can_stand_there() {
    let (_folder, spec, text, play, play_text) = world();
    let mut editor = Editor::start(&[]);
    editor.open(&spec, &text);
    editor.open(&play, &play_text);
    let mut offered = |path: &Path, text: &str, needle: &str, behind: usize| {
        labels(&editor.ask("textDocument/completion", at(path, text, needle, behind)))
    };
    assert_eq!(offered(&spec, &text, "after_failure = \"entry\"", 17), ["keep", "entry", "checkpoint"]);
    let levels = offered(&spec, &text, "completed[heather_rise]", 10);
    assert!(levels.contains(&"mill_lane".to_owned()) && !levels.contains(&"score".to_owned()), "{levels:?}");
    let names = offered(&spec, &text, "max = \"score\"", 7);
    assert!(
        ["score", "letters", "total_stars", "grade", "stars"].iter().all(|name| names.contains(&(*name).to_owned()))
    );
    assert!(offered(&spec, &text, "lasts = \"visit\"", 0).contains(&"after_failure".to_owned()));
    let keys = offered(&spec, &text, "{ add = -1 }", 2);
    assert!(keys.contains(&"when".to_owned()) && keys.contains(&"max".to_owned()), "{keys:?}");
    assert!(offered(&play, &play_text, "enter mill_lane", 6).contains(&"tarn_steps".to_owned()));
    let statements = offered(&play, &play_text, "refuse enter", 1);
    assert!(["expect", "death", "letters"].iter().all(|word| statements.contains(&(*word).to_owned())));
    assert!(offered(&play, &play_text, "complete cellar", 9).contains(&"cellar".to_owned()));
    assert!(offered(&play, &play_text, "# What lies", 5).is_empty());
    editor.end();
}

#[test]
fn a_field_and_a_level_are_found_and_renamed_in_all_files() {
    let (folder, spec, text, play, play_text) = world();
    // Before anything has shipped: what is frozen needs a migration besides, which is a fix of its own.
    let text = text.split("[[migration]]").next().unwrap().to_owned();
    fs::write(&spec, &text).unwrap();
    fs::remove_file(folder.path().join("fellpost.history.json")).unwrap();
    let mut editor = Editor::start(&[]);
    editor.open(&spec, &text);
    editor.open(&play, &play_text);
    let defined = editor.ask("textDocument/definition", at(&play, &play_text, "stars[millrace]", 1));
    assert_eq!(defined[0]["range"]["start"], place(&text, text.find("[field.stars]").unwrap() + 7));
    let params = |place: Json, more: Json| {
        let mut params = place;
        params.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        params
    };
    for (needle, behind, from, to) in
        [("[field.score]", 8, "score", "points"), ("[level.mill_lane]", 8, "mill_lane", "mill_road")]
    {
        let place = at(&spec, &text, needle, behind);
        let used = editor.ask(
            "textDocument/references",
            params(place.clone(), json!({ "context": { "includeDeclaration": true } })),
        );
        let edit = editor.ask("textDocument/rename", params(place, json!({ "newName": to })));
        let changes = edit["changes"].as_object().unwrap();
        let count: usize = changes.values().map(|edits| edits.as_array().unwrap().len()).sum();
        assert_eq!(count, used.as_array().unwrap().len());
        assert!(changes.len() >= 2, "{}", changes.len());
        let other = tempfile::tempdir().unwrap();
        fs::create_dir(other.path().join("plays")).unwrap();
        for file in ["fellpost.toml", "plays/byways.play", "plays/falls.play"] {
            let path = folder.path().join(file);
            let mut text = fs::read_to_string(&path).unwrap();
            let mut edits = changes.get(&uri(&path)).and_then(Json::as_array).cloned().unwrap_or_default();
            edits.sort_by_key(|edit| {
                let start = &edit["range"]["start"];
                std::cmp::Reverse((start["line"].as_u64(), start["character"].as_u64()))
            });
            for edit in edits {
                let (start, end) = (offset(&text, &edit["range"]["start"]), offset(&text, &edit["range"]["end"]));
                assert_eq!(&text[start..end], from);
                text.replace_range(start..end, to);
            }
            fs::write(other.path().join(file), text).unwrap();
        }
        // Everything is understood as before, and plays as before.
        let (code, out, err) = vestigum(other.path(), &["play", "fellpost.toml"]);
        assert_eq!(code, 0, "{out}{err}");
    }
    // What would be another thing's name, or none, is refused with a reason.
    for (name, why) in
        [("letters", "there is a field `letters` already"), ("2nd", "is not a name"), ("death", "could not be read")]
    {
        let place = at(&spec, &text, "[field.score]", 8);
        let answer = editor.answer("textDocument/rename", params(place, json!({ "newName": name })));
        assert!(answer["error"]["message"].as_str().unwrap_or_default().contains(why), "{answer}");
    }
    editor.end();
}

fn offset(text: &str, place: &Json) -> usize {
    let (line, column) = (place["line"].as_u64().unwrap(), place["character"].as_u64().unwrap());
    let start: usize = text.split_inclusive('\n').take(line as usize).map(str::len).sum();
    let mut units = 0;
    for (at, c) in text[start..].char_indices() {
        if units == column {
            return start + at;
        }
        units += c.len_utf16() as u64;
    }
    text.len()
}

#[test]
fn quick_fixes_do_what_the_help_says() {
    let (_folder, spec, text, ..) = world();
    let mut editor = Editor::start(&[]);
    let wrong = text.replace("max = \"score\"", "max = \"scoer\"").replacen("after_failure = \"entry\"\n", "", 1);
    editor.open(&spec, &wrong);
    let mut fixes = |needle: &str| {
        let start = wrong.find(needle).unwrap();
        let range = json!({ "start": place(&wrong, start), "end": place(&wrong, start + needle.len()) });
        let params = json!({ "textDocument": { "uri": uri(&spec) }, "range": range, "context": { "diagnostics": [] } });
        editor.ask("textDocument/codeAction", params).as_array().unwrap().clone()
    };
    let fix = &fixes("scoer")[0];
    assert_eq!(fix["title"], "Replace by `score`");
    assert_eq!(fix["edit"]["changes"][uri(&spec)][0]["newText"], "score");
    let titles: Vec<String> =
        fixes("[field.score]").iter().map(|fix| fix["title"].as_str().unwrap().to_owned()).collect();
    assert!(titles.contains(&"Decide: after_failure = \"entry\"".to_owned()), "{titles:?}");
    // A name that has shipped: the migration is written, too.
    let renamed = text.replace("[field.xp]", "[field.skill]").replace("(xp, ranks)", "(skill, ranks)");
    editor.change(&spec, &renamed);
    let start = renamed.find("version = 4").unwrap();
    let range = json!({ "start": place(&renamed, start), "end": place(&renamed, start + 11) });
    let params = json!({ "textDocument": { "uri": uri(&spec) }, "range": range, "context": { "diagnostics": [] } });
    let fixes = editor.ask("textDocument/codeAction", params);
    let written = fixes.as_array().unwrap().iter().find(|fix| fix["title"] == "Write the migration that is missing");
    let written = &written.unwrap_or_else(|| panic!("{fixes}"))["edit"]["changes"][uri(&spec)][0]["newText"];
    assert!(written.as_str().unwrap().contains("to = 5") && written.as_str().unwrap().contains("\"xp\""), "{written}");
    editor.end();
}

/// A warning can be allowed, with a reason; that something is allowed for nothing cannot.
#[test]
fn allowing_is_offered_where_it_helps() {
    let (_folder, spec, ..) = world();
    let mut editor = Editor::start(&[]);
    let careless = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[field.letters]\ntype = \"int\"\nlasts = \"visit\"\n\
        after_failure = \"entry\"\n[field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\n\
        on.complete = { set = \"letters\" }\n[[allow]]\ncode = \"V115\"\nbecause = \"nobody knows\"\n";
    editor.open(&spec, careless);
    let mut titles = |needle: &str| -> Vec<String> {
        let start = careless.find(needle).unwrap();
        let range = json!({ "start": place(careless, start), "end": place(careless, start + needle.len()) });
        let params = json!({ "textDocument": { "uri": uri(&spec) }, "range": range, "context": { "diagnostics": [] } });
        let fixes = editor.ask("textDocument/codeAction", params);
        fixes.as_array().unwrap().iter().map(|fix| fix["title"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(titles("set = \"letters\""), ["Allow V102, with a reason"]);
    assert_eq!(titles("code = \"V115\""), Vec::<String>::new());
    editor.end();
}

/// Two hundred lines are typed sign by sign; after every sign the findings, the word and what could follow are asked for.
#[test]
fn a_session_of_two_hundred_lines_is_typed_without_a_crash() {
    let (folder, _, text, ..) = world();
    let mut editor = Editor::start(&["utf-16"]);
    let typed: String = text.lines().take(200).map(|line| format!("{line}\n")).collect();
    let path = folder.path().join("typed/typed.toml");
    editor.open(&path, "");
    let mut written = String::new();
    for (index, sign) in typed.chars().enumerate() {
        written.push(sign);
        editor.change(&path, &written);
        // In a debug build each answer takes its time: every seventh sign is asked about, and all are read.
        if index % 7 == 0 {
            let place = json!({ "textDocument": { "uri": uri(&path) }, "position": place(&written, written.len()) });
            editor.ask("textDocument/completion", place.clone());
            editor.ask("textDocument/hover", place);
        }
    }
    assert!(written.lines().count() == 200);
    editor.end();
}

#[test]
fn what_is_no_message_and_no_method_does_not_end_the_server() {
    let (_folder, spec, text, ..) = world();
    let mut editor = Editor::start(&["utf-8"]);
    editor.open(&spec, &text);
    let answer = editor.answer("textDocument/somethingElse", json!({}));
    assert_eq!(answer["error"]["code"], -32601);
    let answer = editor.answer("textDocument/hover", json!({ "nonsense": true }));
    assert_eq!(answer["error"]["code"], -32602);
    editor.tell("textDocument/didOpen", json!({ "nonsense": true }));
    let far =
        json!({ "textDocument": { "uri": uri(&spec) }, "position": { "line": 4_000_000, "character": 4_000_000 } });
    assert!(editor.ask("textDocument/hover", far).is_null());
    let elsewhere = json!({ "textDocument": { "uri": "untitled:one" }, "position": { "line": 0, "character": 0 } });
    assert!(editor.ask("textDocument/hover", elsewhere).is_null());
    editor.end();
}

/// A text that is not a message at all ends the server with a sentence, whatever length it claims to have.
#[test]
fn what_is_no_conversation_ends_it() {
    for said in ["", "garbage\n", "Content-Length: 99999999999\r\n\r\n{}", "Content-Length: 2\r\n\r\n{}"] {
        let done = assert_cmd::Command::cargo_bin("vestigum").unwrap().arg("lsp").write_stdin(said).output().unwrap();
        assert_eq!(done.status.code(), Some(2), "{said}");
        assert!(String::from_utf8(done.stderr).unwrap().contains("do not understand each other"), "{said}");
        // What has the frame of a message is answered, whatever is in it.
        let refused = String::from_utf8(done.stdout).unwrap().contains("-32700");
        assert_eq!(refused, said.ends_with("2\r\n\r\n{}"), "{said}");
    }
}
