//! The language server: a loop over the editor's messages.
//!
//! Requests are answered in their order. Findings are published when no message came for 20 milliseconds, so that an editor that sends
//! every key gets the findings of the last one only.
//!
//! The life of a connection is that of the protocol: before `initialize` every other request is an error, after `shutdown`, too, and
//! notifications that come too early or too late change nothing. `exit` ends the server, and [`Ended`] says whether a `shutdown` came before it.

mod actions;
mod complete;
mod diagnose;
mod hover;
mod navigate;
mod stdio;
mod words;
mod workspace;

use std::error::Error;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crossbeam_channel::RecvTimeoutError;
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::{
    CodeActionKind, CodeActionOptions, CodeActionParams, CodeActionProviderCapability, CompletionOptions,
    CompletionParams, CompletionResponse, DidChangeTextDocumentParams, DidCloseTextDocumentParams,
    DidOpenTextDocumentParams, DocumentSymbolParams, DocumentSymbolResponse, GotoDefinitionParams,
    GotoDefinitionResponse, Hover, HoverContents, HoverParams, HoverProviderCapability, InitializeParams,
    MarkupContent, MarkupKind, OneOf, Position, PublishDiagnosticsParams, ReferenceParams, RenameOptions, RenameParams,
    ServerCapabilities, TextDocumentPositionParams, TextDocumentSyncCapability, TextDocumentSyncKind,
    TextDocumentSyncOptions, TextDocumentSyncSaveOptions, Uri,
};
use serde_json::{Value as Json, json};

use crate::lines::Units;
use crate::spec_view::SpecView;
use navigate::Found;
use workspace::{FOLDERS_UP, Project, Role, Workspace, path_of, uri_of};

/// Findings wait for as long as messages come closer together than this.
const SETTLES: Duration = Duration::from_millis(20);

/// Describes how the editor ended the server. A process that serves exits with 1 for all but the first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ended {
    /// It said `shutdown` and `exit`, or closed the connection.
    Shutdown,
    /// It said `exit` without a `shutdown` before it.
    Exit,
}

/// Describes why the server ended before the editor asked it to.
pub type ServerError = Box<dyn Error + Send + Sync>;

/// Serves an editor on the process's standard input and output, until it says that that is all.
///
/// # Errors
/// If the editor breaks the protocol or the pipe.
pub fn serve_stdio() -> Result<Ended, ServerError> {
    let (connection, writer) = stdio::connect();
    let served = serve(&connection);
    // The writer ends when nothing can be sent any more.
    drop(connection);
    match writer.join() {
        Ok(written) => written?,
        Err(_) => return Err("the answers could not be written".into()),
    }
    served
}

/// Serves an editor on a connection.
///
/// # Errors
/// If the connection ends before `initialize`, or breaks.
pub fn serve(connection: &Connection) -> Result<Ended, ServerError> {
    let Some(client) = initialized(connection)? else { return Ok(Ended::Exit) };
    let workspace = Workspace::new(client.units);
    Server { connection, workspace, stale: Vec::new(), watches: client.watches, is_down: false }.run()
}

/// Describes what the server has to know of the editor.
struct Client {
    units: Units,
    /// Whether the editor watches files for a server that asks it to.
    watches: bool,
}

/// Waits for `initialize` and answers it; nothing if the editor says `exit` before.
fn initialized(connection: &Connection) -> Result<Option<Client>, ServerError> {
    loop {
        let message = connection.receiver.recv().map_err(|_| "expected `initialize`, found the end of the input")?;
        let request = match message {
            Message::Request(request) => request,
            Message::Notification(notification) if notification.method == "exit" => return Ok(None),
            Message::Notification(_) | Message::Response(_) => continue,
        };
        let id = request.id.clone();
        if request.method != "initialize" {
            let why = format!("expected `initialize`, found `{}`", request.method);
            connection.sender.send(Response::new_err(id, ErrorCode::ServerNotInitialized as i32, why).into())?;
            continue;
        }
        let params: InitializeParams = match parsed(request) {
            Ok(params) => params,
            Err(why) => {
                connection.sender.send(Response::new_err(id, ErrorCode::InvalidParams as i32, why).into())?;
                continue;
            }
        };
        let offered = params.capabilities.general.and_then(|general| general.position_encodings);
        let units = Units::agreed(offered.as_deref());
        let watched = params.capabilities.workspace.and_then(|workspace| workspace.did_change_watched_files);
        let watches = watched.and_then(|watched| watched.dynamic_registration).unwrap_or_default();
        let answer = json!({
            "capabilities": capabilities(units),
            "serverInfo": { "name": "vestigum", "version": env!("CARGO_PKG_VERSION") },
        });
        connection.sender.send(Response::new_ok(id, answer).into())?;
        return Ok(Some(Client { units, watches }));
    }
}

/// The files whose changes on the disk change findings.
const WATCHED: [&str; 3] = ["**/*.toml", "**/*.play", "**/*.history.json"];

fn capabilities(units: Units) -> ServerCapabilities {
    ServerCapabilities {
        position_encoding: Some(units.kind()),
        text_document_sync: Some(TextDocumentSyncCapability::Options(TextDocumentSyncOptions {
            open_close: Some(true),
            change: Some(TextDocumentSyncKind::FULL),
            save: Some(TextDocumentSyncSaveOptions::Supported(true)),
            ..TextDocumentSyncOptions::default()
        })),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(["\"", "[", "(", " ", ".", "="].map(str::to_owned).into()),
            ..CompletionOptions::default()
        }),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        rename_provider: Some(OneOf::Right(RenameOptions {
            prepare_provider: Some(true),
            work_done_progress_options: lsp_types::WorkDoneProgressOptions::default(),
        })),
        document_symbol_provider: Some(OneOf::Left(true)),
        code_action_provider: Some(CodeActionProviderCapability::Options(CodeActionOptions {
            code_action_kinds: Some(vec![CodeActionKind::QUICKFIX]),
            ..CodeActionOptions::default()
        })),
        ..ServerCapabilities::default()
    }
}

struct Server<'c> {
    connection: &'c Connection,
    workspace: Workspace,
    /// The documents whose findings are to be published.
    stale: Vec<PathBuf>,
    watches: bool,
    /// Whether the editor has said `shutdown`.
    is_down: bool,
}

impl Server<'_> {
    fn run(&mut self) -> Result<Ended, ServerError> {
        loop {
            let waiting = match self.stale.is_empty() {
                true => self.connection.receiver.recv().map_err(|_| RecvTimeoutError::Disconnected),
                false => self.connection.receiver.recv_timeout(SETTLES),
            };
            let message = match waiting {
                Ok(message) => message,
                Err(RecvTimeoutError::Timeout) => {
                    self.publish_findings()?;
                    continue;
                }
                // The editor is gone without a word.
                Err(RecvTimeoutError::Disconnected) => return Ok(Ended::Shutdown),
            };
            match message {
                Message::Request(request) => {
                    let response = self.answer(request);
                    self.connection.sender.send(Message::Response(response))?;
                }
                Message::Notification(notification) if notification.method == "exit" => {
                    return Ok(if self.is_down { Ended::Shutdown } else { Ended::Exit });
                }
                Message::Notification(notification) if !self.is_down => self.hear(notification)?,
                Message::Notification(_) | Message::Response(_) => {}
            }
        }
    }

    fn hear(&mut self, notification: Notification) -> Result<(), ServerError> {
        // What cannot be understood is passed over: nobody waits for an answer.
        match notification.method.as_str() {
            "initialized" if self.watches => self.watch_files()?,
            // A file that the editor does not have open may be the spec or the history of one that it has.
            "textDocument/didSave" | "workspace/didChangeWatchedFiles" => {
                self.stale = self.workspace.open_paths().cloned().collect();
            }
            "textDocument/didOpen" => {
                if let Ok(params) = serde_json::from_value::<DidOpenTextDocumentParams>(notification.params) {
                    self.take(&params.text_document.uri, params.text_document.text);
                }
            }
            "textDocument/didChange" => {
                if let Ok(params) = serde_json::from_value::<DidChangeTextDocumentParams>(notification.params)
                    && let Some(change) = params.content_changes.into_iter().next_back()
                {
                    self.take(&params.text_document.uri, change.text);
                }
            }
            "textDocument/didClose" => {
                if let Ok(params) = serde_json::from_value::<DidCloseTextDocumentParams>(notification.params)
                    && let Some(path) = path_of(&params.text_document.uri)
                {
                    self.workspace.close(&path);
                    self.stale.retain(|stale| *stale != path);
                    self.publish(&path, Vec::new())?;
                    // What the disk has counts from now on.
                    self.concern(&path);
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Asks the editor to report when a file changes on the disk.
    fn watch_files(&self) -> Result<(), ServerError> {
        let watchers: Vec<Json> = WATCHED.iter().map(|pattern| json!({ "globPattern": pattern })).collect();
        let registration = json!({
            "id": "files",
            "method": "workspace/didChangeWatchedFiles",
            "registerOptions": { "watchers": watchers },
        });
        let params = json!({ "registrations": [registration] });
        let request = Request::new("files".to_owned().into(), "client/registerCapability".to_owned(), params);
        self.connection.sender.send(Message::Request(request))?;
        Ok(())
    }

    /// Takes a document as it is now.
    fn take(&mut self, uri: &Uri, text: String) {
        let Some(path) = path_of(uri) else { return };
        self.workspace.open(path.clone(), text);
        self.concern(&path);
    }

    /// Notes the open documents whose findings may change with a document: the document, and where it is TOML the playthroughs beside it
    /// and below it, also if it is not a spec any more.
    fn concern(&mut self, path: &Path) {
        let may_be_spec = Role::of(path) == Some(Role::Spec);
        let is_near =
            |other: &Path| other.ancestors().skip(1).take(FOLDERS_UP).any(|folder| path.parent() == Some(folder));
        let concerned = self.workspace.open_paths().filter(|other| *other == path || (may_be_spec && is_near(other)));
        let concerned: Vec<PathBuf> = concerned.filter(|other| !self.stale.contains(other)).cloned().collect();
        self.stale.extend(concerned);
    }

    fn publish_findings(&mut self) -> Result<(), ServerError> {
        for path in std::mem::take(&mut self.stale) {
            // A document that nothing can be said about, such as one that is not a spec any more, has none.
            let findings = diagnose::diagnose(&mut self.workspace, &path).unwrap_or_default();
            self.publish(&path, findings)?;
        }
        Ok(())
    }

    fn publish(&self, path: &Path, diagnostics: Vec<lsp_types::Diagnostic>) -> Result<(), ServerError> {
        let Some(uri) = uri_of(path) else { return Ok(()) };
        let params = PublishDiagnosticsParams { uri, diagnostics, version: None };
        let told = Notification::new("textDocument/publishDiagnostics".to_owned(), params);
        self.connection.sender.send(Message::Notification(told))?;
        Ok(())
    }

    fn answer(&mut self, request: Request) -> Response {
        let id = request.id.clone();
        if self.is_down || request.method == "initialize" {
            let why = if self.is_down { "the server is shut down" } else { "the server is initialized already" };
            return Response::new_err(id, ErrorCode::InvalidRequest as i32, why.to_owned());
        }
        let answer = match request.method.as_str() {
            "shutdown" => {
                self.is_down = true;
                self.stale.clear();
                Ok(Json::Null)
            }
            "textDocument/hover" => parsed(request).map(|params: HoverParams| self.hover(&params)),
            "textDocument/completion" => parsed(request).map(|params: CompletionParams| self.complete(&params)),
            "textDocument/definition" => parsed(request).map(|params: GotoDefinitionParams| self.define(&params)),
            "textDocument/references" => parsed(request).map(|params: ReferenceParams| self.refer(&params)),
            "textDocument/prepareRename" => {
                parsed(request).map(|params: TextDocumentPositionParams| self.prepare_rename(&params))
            }
            "textDocument/rename" => match parsed(request).map(|params: RenameParams| self.rename(&params)) {
                Ok(Err(why)) => return Response::new_err(id, ErrorCode::RequestFailed as i32, why),
                Ok(Ok(edit)) => Ok(edit),
                Err(why) => Err(why),
            },
            "textDocument/documentSymbol" => parsed(request).map(|params: DocumentSymbolParams| self.symbols(&params)),
            "textDocument/codeAction" => parsed(request).map(|params: CodeActionParams| self.actions(&params)),
            method => {
                let why = format!("this server does not know {method}");
                return Response::new_err(id, ErrorCode::MethodNotFound as i32, why);
            }
        };
        match answer {
            Ok(answer) => Response::new_ok(id, answer),
            Err(why) => Response::new_err(id, ErrorCode::InvalidParams as i32, why),
        }
    }

    /// The project of a document, its names, and the byte that a place means.
    fn place(&self, uri: &Uri, position: Position) -> Option<(PathBuf, Project, SpecView, usize)> {
        let path = path_of(uri)?;
        let project = self.workspace.project(&path)?;
        let view = SpecView::new(&project.spec_text.text);
        let offset = project.text(&path)?.offset(position, self.workspace.units);
        Some((path, project, view, offset))
    }

    fn found(&self, at: &TextDocumentPositionParams) -> Option<(PathBuf, Project, SpecView, Found)> {
        let (path, project, view, offset) = self.place(&at.text_document.uri, at.position)?;
        let found = navigate::found(&project, &view, &path, offset)?;
        Some((path, project, view, found))
    }

    fn hover(&mut self, params: &HoverParams) -> Json {
        let at = &params.text_document_position_params;
        let told = self.place(&at.text_document.uri, at.position).and_then(|(path, project, view, offset)| {
            let spec = self.workspace.spec(&project.spec);
            let (value, span) = hover::hover(&project, spec.as_ref(), &view, &path, offset)?;
            let range = project.text(&path).map(|lines| lines.range(span, self.workspace.units));
            let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value });
            Some(Hover { contents, range })
        });
        json!(told)
    }

    fn complete(&self, params: &CompletionParams) -> Json {
        let at = &params.text_document_position;
        let items = self
            .place(&at.text_document.uri, at.position)
            .map(|(path, project, view, offset)| complete::complete(&project, &view, &path, offset));
        json!(CompletionResponse::Array(items.unwrap_or_default()))
    }

    fn define(&self, params: &GotoDefinitionParams) -> Json {
        let places = self
            .found(&params.text_document_position_params)
            .map(|(_, project, view, found)| navigate::definition(&self.workspace, &project, &view, &found));
        json!(GotoDefinitionResponse::Array(places.unwrap_or_default()))
    }

    fn refer(&self, params: &ReferenceParams) -> Json {
        let places = self.found(&params.text_document_position).map(|(_, project, view, found)| {
            let with_declaration = params.context.include_declaration;
            navigate::references(&self.workspace, &project, &view, &found, with_declaration)
        });
        json!(places.unwrap_or_default())
    }

    fn prepare_rename(&self, at: &TextDocumentPositionParams) -> Json {
        let range = self
            .found(at)
            .filter(|(_, _, _, found)| navigate::can_rename(found.kind))
            .and_then(|(path, project, _, found)| Some(project.text(&path)?.range(found.span, self.workspace.units)));
        json!(range)
    }

    fn rename(&self, params: &RenameParams) -> Result<Json, String> {
        let (_, project, view, found) =
            self.found(&params.text_document_position).ok_or("there is no name here that the spec gives")?;
        navigate::rename(&self.workspace, &project, &view, &found, &params.new_name).map(|edit| json!(edit))
    }

    fn symbols(&self, params: &DocumentSymbolParams) -> Json {
        let symbols = path_of(&params.text_document.uri).and_then(|path| {
            let lines = self.workspace.text(&path)?;
            Some(navigate::symbols(&self.workspace, &path, &lines))
        });
        json!(DocumentSymbolResponse::Nested(symbols.unwrap_or_default()))
    }

    fn actions(&mut self, params: &CodeActionParams) -> Json {
        let actions =
            path_of(&params.text_document.uri).map(|path| actions::actions(&mut self.workspace, &path, params.range));
        json!(actions.unwrap_or_default())
    }
}

fn parsed<P: serde::de::DeserializeOwned>(request: Request) -> Result<P, String> {
    serde_json::from_value(request.params).map_err(|error| error.to_string())
}
