//! The language server: a loop over the editor's messages.
//!
//! Requests are answered in their order. Findings are told when no message waits, so that whoever types fast is not answered for every
//! key that is already history.

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

use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::{
    CodeActionKind, CodeActionOptions, CodeActionParams, CodeActionProviderCapability, CompletionOptions,
    CompletionParams, CompletionResponse, DidChangeTextDocumentParams, DidCloseTextDocumentParams,
    DidOpenTextDocumentParams, DocumentSymbolParams, DocumentSymbolResponse, GotoDefinitionParams,
    GotoDefinitionResponse, Hover, HoverContents, HoverParams, HoverProviderCapability, InitializeParams,
    MarkupContent, MarkupKind, OneOf, Position, PublishDiagnosticsParams, ReferenceParams, RenameOptions, RenameParams,
    ServerCapabilities, TextDocumentPositionParams, TextDocumentSyncCapability, TextDocumentSyncKind, Uri,
};
use serde_json::{Value as Json, json};

use crate::lines::Units;
use crate::spec_view::SpecView;
use navigate::Found;
use workspace::{Project, Workspace, path_of, uri_of};

/// Describes why the server ended before the editor asked it to.
pub type ServerError = Box<dyn Error + Send + Sync>;

/// Serves an editor on the process's standard input and output, until it says that that is all.
///
/// # Errors
/// If the editor breaks the protocol or the pipe.
pub fn serve_stdio() -> Result<(), ServerError> {
    let (connection, writer) = stdio::connect();
    serve(&connection)?;
    // The writer ends when nothing can be sent any more.
    drop(connection);
    match writer.join() {
        Ok(written) => Ok(written?),
        Err(_) => Err("the answers could not be written".into()),
    }
}

/// Serves an editor on a connection.
///
/// # Errors
/// If the editor breaks the protocol.
pub fn serve(connection: &Connection) -> Result<(), ServerError> {
    let (id, params) = connection.initialize_start()?;
    let params: InitializeParams = serde_json::from_value(params)?;
    let offered = params.capabilities.general.and_then(|general| general.position_encodings);
    let units = Units::agreed(offered.as_deref());
    connection.initialize_finish(
        id,
        json!({
            "capabilities": capabilities(units),
            "serverInfo": { "name": "vestigum", "version": env!("CARGO_PKG_VERSION") },
        }),
    )?;
    Server { connection, workspace: Workspace::new(units), stale: Vec::new() }.run()
}

fn capabilities(units: Units) -> ServerCapabilities {
    ServerCapabilities {
        position_encoding: Some(units.kind()),
        text_document_sync: Some(TextDocumentSyncCapability::Kind(TextDocumentSyncKind::FULL)),
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
    /// The documents whose findings are to be told.
    stale: Vec<PathBuf>,
}

impl Server<'_> {
    fn run(&mut self) -> Result<(), ServerError> {
        loop {
            let message = match self.connection.receiver.try_recv() {
                Ok(message) => message,
                Err(_) => {
                    self.tell_findings()?;
                    match self.connection.receiver.recv() {
                        Ok(message) => message,
                        // The editor is gone without a word.
                        Err(_) => return Ok(()),
                    }
                }
            };
            match message {
                Message::Request(request) => {
                    if self.connection.handle_shutdown(&request)? {
                        return Ok(());
                    }
                    let response = self.answer(request);
                    self.connection.sender.send(Message::Response(response))?;
                }
                Message::Notification(notification) => self.hear(notification),
                Message::Response(_) => {}
            }
        }
    }

    fn hear(&mut self, notification: Notification) {
        // What cannot be understood is passed over: there is nobody to tell.
        match notification.method.as_str() {
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
                    let _ = self.publish(&path, Vec::new());
                }
            }
            _ => {}
        }
    }

    /// Takes a document as it is now. A spec that changes may change what is wrong with its playthroughs.
    fn take(&mut self, uri: &Uri, text: String) {
        let Some(path) = path_of(uri) else { return };
        self.workspace.open(path.clone(), text);
        let open: Vec<PathBuf> = self.workspace.open_paths().cloned().collect();
        let concerned = open
            .into_iter()
            .filter(|other| *other == path || self.workspace.spec_of(other).is_some_and(|spec| spec == path));
        for path in concerned.collect::<Vec<_>>() {
            if !self.stale.contains(&path) {
                self.stale.push(path);
            }
        }
    }

    fn tell_findings(&mut self) -> Result<(), ServerError> {
        for path in std::mem::take(&mut self.stale) {
            if let Some(findings) = diagnose::diagnose(&mut self.workspace, &path) {
                self.publish(&path, findings)?;
            }
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
        let answer = match request.method.as_str() {
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
