//! How long an editor waits for the language server, on the demo with all its playthroughs.

use std::path::Path;
use std::thread;

use criterion::{Criterion, criterion_group, criterion_main};
use lsp_server::{Connection, Message, Notification, Request, RequestId};
use serde_json::{Value as Json, json};
use vestigum_editor::server::serve;

struct Editor {
    connection: Connection,
    asked: i32,
}

impl Editor {
    fn ask(&mut self, method: &str, params: Json) -> Json {
        self.asked += 1;
        let id = RequestId::from(self.asked);
        let request = Request::new(id.clone(), method.to_owned(), params);
        self.connection.sender.send(Message::Request(request)).unwrap();
        loop {
            match self.connection.receiver.recv().unwrap() {
                Message::Response(answer) if answer.id == id => return json!(answer),
                Message::Response(_) | Message::Request(_) | Message::Notification(_) => {}
            }
        }
    }

    fn tell(&self, method: &str, params: Json) {
        self.connection.sender.send(Message::Notification(Notification::new(method.to_owned(), params))).unwrap();
    }

    /// Waits until the findings of a document are told.
    fn findings_of(&self, uri: &str) {
        loop {
            if let Message::Notification(told) = self.connection.receiver.recv().unwrap()
                && told.params["uri"] == json!(uri)
            {
                return;
            }
        }
    }
}

fn answers(criterion: &mut Criterion) {
    let (server, connection) = Connection::memory();
    thread::spawn(move || serve(&server).unwrap());
    let mut editor = Editor { connection, asked: 0 };
    editor.ask("initialize", json!({ "capabilities": {} }));
    editor.tell("initialized", json!({}));
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost").canonicalize().unwrap();
    let spec = format!("file://{}", folder.join("fellpost.toml").display());
    let text = std::fs::read_to_string(folder.join("fellpost.toml")).unwrap();
    editor.tell(
        "textDocument/didOpen",
        json!({ "textDocument": { "uri": spec, "languageId": "", "version": 1, "text": text } }),
    );
    let line = text.lines().position(|line| {
        line == "[field.score]                      # falls back to what it was at entry: no point is earned twice"
    });
    let place = json!({ "textDocument": { "uri": spec }, "position": { "line": line.unwrap(), "character": 8 } });
    let with = |more: Json| {
        let mut params = place.clone();
        params.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        params
    };
    let mut group = criterion.benchmark_group("answers");
    for (method, params) in [
        ("hover", place.clone()),
        ("completion", place.clone()),
        ("references", with(json!({ "context": { "includeDeclaration": true } }))),
        ("rename", with(json!({ "newName": "points" }))),
    ] {
        let whole = format!("textDocument/{method}");
        assert!(editor.ask(&whole, params.clone())["error"].is_null());
        group.bench_function(method, |bencher| bencher.iter(|| editor.ask(&whole, params.clone())));
    }
    // What comes back after a key was pressed in the spec.
    let mut version = 1;
    group.bench_function("findings", |bencher| {
        bencher.iter(|| {
            version += 1;
            let changed = format!("{text}{}", "\n".repeat(version % 7));
            let document = json!({ "uri": spec, "version": version });
            editor.tell(
                "textDocument/didChange",
                json!({ "textDocument": document, "contentChanges": [{ "text": changed }] }),
            );
            editor.findings_of(&spec);
        });
    });
    group.finish();
}

criterion_group!(benches, answers);
criterion_main!(benches);
