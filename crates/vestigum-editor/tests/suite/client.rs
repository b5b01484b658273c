//! An editor that talks to the server within the test.

use std::path::Path;
use std::thread::{self, JoinHandle};
use std::time::Duration;

use lsp_server::{Connection, Message, Notification, Request, RequestId};
use serde_json::{Value as Json, json};
use vestigum_editor::server::{Ended, serve};

pub(crate) struct Client {
    connection: Connection,
    served: JoinHandle<Result<Ended, String>>,
    asked: i32,
    /// The findings that were published, each with its document, in order.
    pub(crate) published: Vec<(String, Vec<Json>)>,
}

impl Client {
    /// Connects, and says nothing yet.
    pub(crate) fn connect() -> Client {
        let (server, connection) = Connection::memory();
        let served = thread::spawn(move || serve(&server).map_err(|error| error.to_string()));
        Client { connection, served, asked: 0, published: Vec::new() }
    }

    pub(crate) fn start() -> Client {
        let mut client = Client::connect();
        let encodings = json!({ "general": { "positionEncodings": ["utf-8"] } });
        client.ask("initialize", json!({ "capabilities": encodings }));
        client.tell("initialized", json!({}));
        client
    }

    pub(crate) fn tell(&self, method: &str, params: Json) {
        self.connection.sender.send(Notification::new(method.to_owned(), params).into()).unwrap();
    }

    pub(crate) fn open(&self, path: &Path, text: &str) {
        let document = json!({ "uri": uri(path), "languageId": "", "version": 1, "text": text });
        self.tell("textDocument/didOpen", json!({ "textDocument": document }));
    }

    pub(crate) fn change(&self, path: &Path, text: &str) {
        let document = json!({ "uri": uri(path), "version": 2 });
        self.tell("textDocument/didChange", json!({ "textDocument": document, "contentChanges": [{ "text": text }] }));
    }

    /// Asks, and returns the whole answer.
    pub(crate) fn answer(&mut self, method: &str, params: Json) -> Json {
        self.asked += 1;
        let id = RequestId::from(self.asked);
        self.connection.sender.send(Request::new(id.clone(), method.to_owned(), params).into()).unwrap();
        loop {
            match self.connection.receiver.recv_timeout(Duration::from_secs(60)).unwrap() {
                Message::Response(answer) if answer.id == id => return json!(answer),
                message => self.hear(message),
            }
        }
    }

    pub(crate) fn ask(&mut self, method: &str, params: Json) -> Json {
        let answer = self.answer(method, params);
        assert!(answer["error"].is_null(), "{method}: {answer}");
        answer["result"].clone()
    }

    fn hear(&mut self, message: Message) {
        if let Message::Notification(told) = message
            && told.method == "textDocument/publishDiagnostics"
        {
            let found = told.params["diagnostics"].as_array().unwrap().clone();
            self.published.push((told.params["uri"].as_str().unwrap().to_owned(), found));
        }
    }

    /// Waits for the next findings of a document.
    pub(crate) fn findings(&mut self, path: &Path) -> Vec<Json> {
        let wanted = uri(path);
        loop {
            if let Some(at) = self.published.iter().position(|(of, _)| *of == wanted) {
                return self.published.remove(at).1;
            }
            let message = self.connection.receiver.recv_timeout(Duration::from_secs(60)).unwrap();
            self.hear(message);
        }
    }

    /// Says `exit`, and returns how the server ended.
    pub(crate) fn exit(self) -> Result<Ended, String> {
        self.tell("exit", Json::Null);
        self.served.join().unwrap()
    }

    pub(crate) fn end(mut self) {
        self.ask("shutdown", Json::Null);
        assert_eq!(self.exit(), Ok(Ended::Shutdown));
    }
}

pub(crate) fn uri(path: &Path) -> String {
    format!("file://{}", path.display())
}
