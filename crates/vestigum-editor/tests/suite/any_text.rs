//! Whatever stands in the documents, every question is answered and the server lives on.

use proptest::prelude::*;
use serde_json::{Value as Json, json};
use vestigum_testing::hunting;

use crate::client::Client;

const SPEC: &str = include_str!("../../../../demo/fellpost/fellpost.toml");
const PLAYS: &str = include_str!("../../../../demo/fellpost/plays/byways.play");

/// Asks everything that can be asked at some places of a document.
fn ask_everything(documents: &[(&str, &str)], asked: &str, places: &[(u32, u32)]) -> Vec<Json> {
    let mut client = Client::start();
    let call = |client: &mut Client, method: &str, params: Json| client.answer(method, params);
    for (uri, text) in documents {
        client.tell(
            "textDocument/didOpen",
            json!({ "textDocument": { "uri": uri, "languageId": "", "version": 1, "text": text } }),
        );
    }
    let document = json!({ "uri": asked });
    let mut answers = vec![call(&mut client, "textDocument/documentSymbol", json!({ "textDocument": document }))];
    for (line, character) in places {
        let at = json!({ "line": line, "character": character });
        let place = json!({ "textDocument": document, "position": at });
        let with = |more: Json| {
            let mut params = place.clone();
            params.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            params
        };
        answers.push(call(&mut client, "textDocument/hover", place.clone()));
        answers.push(call(&mut client, "textDocument/completion", place.clone()));
        answers.push(call(&mut client, "textDocument/definition", place.clone()));
        answers.push(call(&mut client, "textDocument/prepareRename", place.clone()));
        answers.push(call(
            &mut client,
            "textDocument/references",
            with(json!({ "context": { "includeDeclaration": true } })),
        ));
        answers.push(call(&mut client, "textDocument/rename", with(json!({ "newName": "other_name" }))));
        let range = json!({ "start": at, "end": at });
        answers.push(call(
            &mut client,
            "textDocument/codeAction",
            json!({ "textDocument": document, "range": range, "context": { "diagnostics": [] } }),
        ));
    }
    client.end();
    answers
}

/// The demo with a piece cut out and another put in.
fn mangled(text: &'static str) -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just(String::new()),
        "[\\[\\]{}\"'=,.#\n a-z_ü😀]{0,12}",
        Just("\"\"\"".to_owned()),
        Just("[field.".to_owned()),
        Just("\nexpect ".to_owned()),
    ];
    (any::<prop::sample::Index>(), 0usize..200, piece).prop_map(move |(at, len, piece)| {
        let mut starts: Vec<usize> = text.char_indices().map(|(at, _)| at).collect();
        starts.push(text.len());
        let from = at.index(starts.len());
        let to = (from + len).min(starts.len() - 1);
        format!("{}{piece}{}", &text[..starts[from]], &text[starts[to]..])
    })
}

proptest! {
    #![proptest_config(hunting::config(24, file!()))]

    #[test]
    fn any_spec(text in mangled(SPEC), places in prop::collection::vec((0u32..300, 0u32..60), 3)) {
        let folder = tempfile::tempdir().unwrap();
        let (spec, play) = names(folder.path());
        ask_everything(&[(&spec, &text), (&play, PLAYS)], &spec, &places);
    }

    #[test]
    fn any_playthrough(text in mangled(PLAYS), places in prop::collection::vec((0u32..120, 0u32..60), 3)) {
        let folder = tempfile::tempdir().unwrap();
        let (spec, play) = names(folder.path());
        ask_everything(&[(&spec, SPEC), (&play, &text)], &play, &places);
    }

    #[test]
    fn any_signs(text in "\\PC{0,80}", toml in any::<bool>(), places in prop::collection::vec((0u32..3, 0u32..90), 2)) {
        let folder = tempfile::tempdir().unwrap();
        let (spec, play) = names(folder.path());
        let head = "[game]\nid = \"x\"\n";
        let (first, second) = if toml { (format!("{head}{text}"), String::new()) } else { (head.to_owned(), text) };
        ask_everything(&[(&spec, &first), (&play, &second)], if toml { &spec } else { &play }, &places);
    }
}

/// A spec and a playthrough beside it, which are open in the editor only.
fn names(folder: &std::path::Path) -> (String, String) {
    let uri = |name: &str| format!("file://{}", folder.join(name).display());
    (uri("fellpost.toml"), uri("byways.play"))
}

#[test]
fn a_document_that_is_no_spec_is_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let uri = format!("file://{}", folder.path().join("Cargo.toml").display());
    let answers = ask_everything(&[(&uri, "[package]\nname = \"x\"\n")], &uri, &[(1, 2)]);
    assert!(
        answers.iter().skip(1).all(|answer| {
            let result = &answer["result"];
            result.is_null() || result == &json!([]) || !answer["error"].is_null()
        }),
        "{answers:?}"
    );
}
