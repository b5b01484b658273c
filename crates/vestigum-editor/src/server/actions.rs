//! Quick fixes: what a finding says to do, done.

use std::collections::HashMap;
use std::path::Path;

use lsp_types::{CodeAction, CodeActionKind, CodeActionOrCommand, Position, Range, TextEdit, Uri, WorkspaceEdit};
use vestigum_core::{Diagnostic, Severity};
use vestigum_spec::codes;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_verify::playthrough::Script;
use vestigum_verify::{asset_files, imported_file, lint};

use super::workspace::{Role, Workspace, uri_of};
use crate::lines::Lines;

/// The fixes for what is wrong in a part of a document.
pub(crate) fn actions(workspace: &mut Workspace, path: &Path, range: Range) -> Vec<CodeActionOrCommand> {
    let Some(lines) = workspace.text(path) else { return Vec::new() };
    let mut actions = Vec::new();
    let name = path.display().to_string();
    let (findings, migrations) = match Role::of(path) {
        Some(Role::Spec) => {
            let history = workspace.history(path);
            let checked = lint::check_beside(&name, &lines.text, history, &|folder| asset_files(path, folder));
            let migrations = checked.migrations();
            (checked.findings.list().to_vec(), migrations)
        }
        Some(Role::Play) => {
            let spec = workspace.spec_of(path).and_then(|spec| workspace.spec(&spec));
            let errors = spec.and_then(|spec| Script::from_text_with(&name, &lines.text, &spec, &imported_file).err());
            (errors.map(|errors| errors.list().to_vec()).unwrap_or_default(), String::new())
        }
        None => return Vec::new(),
    };
    let edits = Edits { workspace, path, lines: &lines };
    let mut needs_migration = false;
    for finding in &findings {
        let at = lines.range(finding.span, workspace.units);
        if at.start <= range.end && range.start <= at.end {
            actions.extend(fixes(&edits, finding));
            needs_migration |= finding.code == codes::NEEDS_MIGRATION || finding.code == codes::NEEDS_VERSION;
        }
    }
    if needs_migration && !migrations.is_empty() {
        actions.extend(edits.insert_at_end("Write the migration that is missing", &format!("\n{migrations}")));
    }
    actions
}

fn fixes(edits: &Edits<'_>, finding: &Diagnostic) -> Vec<CodeActionOrCommand> {
    let mut fixes: Vec<Option<CodeActionOrCommand>> = Vec::new();
    if let Some(name) = finding.help.as_deref().and_then(meant) {
        fixes.push(edits.replace(&format!("Replace by `{name}`"), finding, name));
    }
    if finding.code == codes::UNDECIDED {
        for fate in PlainFate::after_failures() {
            let line = format!("after_failure = \"{}\"\n", fate.word());
            fixes.push(edits.insert_below(&format!("Decide: after_failure = \"{}\"", fate.word()), finding, &line));
        }
    }
    match finding.severity {
        // To allow that something is allowed for nothing would be one more of them.
        Severity::Warning if finding.code != codes::IDLE_ALLOW => {
            let entry = format!("\n[[allow]]\ncode = \"{}\"\nbecause = \"\"\n", finding.code);
            fixes.push(edits.insert_at_end(&format!("Allow {}, with a reason", finding.code), &entry));
        }
        Severity::Warning | Severity::Error => {}
    }
    fixes.into_iter().flatten().collect()
}

/// The name in "did you mean `name`?".
fn meant(help: &str) -> Option<&str> {
    let (_, rest) = help.split_once("did you mean `")?;
    rest.split_once('`').map(|(name, _)| name)
}

struct Edits<'w> {
    workspace: &'w Workspace,
    path: &'w Path,
    lines: &'w Lines,
}

impl Edits<'_> {
    fn action(&self, title: &str, edit: TextEdit) -> Option<CodeActionOrCommand> {
        let uri = uri_of(self.path)?;
        #[allow(
            clippy::mutable_key_type,
            reason = "the addresses of lsp-types can change inside, and nothing changes them"
        )]
        let changes: HashMap<Uri, Vec<TextEdit>> = HashMap::from([(uri, vec![edit])]);
        Some(CodeActionOrCommand::CodeAction(CodeAction {
            title: title.to_owned(),
            kind: Some(CodeActionKind::QUICKFIX),
            edit: Some(WorkspaceEdit { changes: Some(changes), ..WorkspaceEdit::default() }),
            ..CodeAction::default()
        }))
    }

    fn replace(&self, title: &str, finding: &Diagnostic, by: &str) -> Option<CodeActionOrCommand> {
        let text = &self.lines.text
            [finding.span.start.min(self.lines.text.len())..finding.span.end.min(self.lines.text.len())];
        // The span of a text has its quotes.
        let by = match text.chars().next() {
            Some(quote @ ('"' | '\'')) if text.len() > 1 && text.ends_with(quote) => format!("{quote}{by}{quote}"),
            _ => by.to_owned(),
        };
        let range = self.lines.range(finding.span, self.workspace.units);
        self.action(title, TextEdit::new(range, by))
    }

    /// Inserts a line below the one where a finding ends.
    fn insert_below(&self, title: &str, finding: &Diagnostic, line: &str) -> Option<CodeActionOrCommand> {
        let end = self.lines.line_end(finding.span.end);
        let at = self.lines.position(end, self.workspace.units);
        let text = format!("\n{}", line.trim_end());
        self.action(title, TextEdit::new(Range::new(at, at), text))
    }

    fn insert_at_end(&self, title: &str, text: &str) -> Option<CodeActionOrCommand> {
        let at: Position = self.lines.position(self.lines.text.len(), self.workspace.units);
        let text = if self.lines.text.ends_with('\n') { text.to_owned() } else { format!("\n{text}") };
        self.action(title, TextEdit::new(Range::new(at, at), text))
    }
}
