//! What is wrong with a document, while it is written.

use std::path::Path;

use lsp_types::{Diagnostic, DiagnosticSeverity, NumberOrString, Range};
use vestigum_core::{Diagnostics, Severity};
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_verify::playthrough::{MemorySaves, Playthrough, Script, run};
use vestigum_verify::{asset_files, imported_file, lint};

use super::workspace::{Role, Workspace};
use crate::lines::Lines;

const SOURCE: &str = "vestigum";
/// A file that says more statements than this is not run while it is written.
const MOST_STATEMENTS: u64 = 20_000;
/// The code of an expectation that fails: it is not a finding of `check`.
const FAILS: &str = "fails";

/// The findings of an open document; none if nothing can be said of it.
pub(crate) fn diagnose(workspace: &mut Workspace, path: &Path) -> Option<Vec<Diagnostic>> {
    let lines = workspace.opened(path)?.clone();
    match Role::of(path)? {
        Role::Spec => {
            workspace.spec_of(path)?;
            // Its playthroughs, and hovering, go on with the last one that could be read.
            workspace.spec(path);
            let history = workspace.history(path);
            let name = path.display().to_string();
            let checked = lint::check_beside(&name, &lines.text, history, &|folder| asset_files(path, folder));
            Some(shown(workspace, &lines, &checked.findings))
        }
        Role::Play => {
            let spec = workspace.spec_of(path).and_then(|spec| workspace.spec(&spec));
            let Some(spec) = spec else {
                let message = "no spec that can be read is beside this file or above it, so it is not checked";
                return Some(vec![said(Range::default(), DiagnosticSeverity::INFORMATION, None, message.into())]);
            };
            match Script::from_text_with(&path.display().to_string(), &lines.text, &spec, &imported_file) {
                Err(errors) => Some(shown(workspace, &lines, &errors)),
                Ok(script) => Some(failures(workspace, &lines, &spec, &script)),
            }
        }
    }
}

fn shown(workspace: &Workspace, lines: &Lines, found: &Diagnostics) -> Vec<Diagnostic> {
    let shown = found.list().iter().map(|finding| {
        let severity = match finding.severity {
            Severity::Error => DiagnosticSeverity::ERROR,
            Severity::Warning => DiagnosticSeverity::WARNING,
        };
        let mut message = finding.message.clone();
        if !finding.label.is_empty() {
            message.push_str(&format!(": {}", finding.label));
        }
        if let Some(help) = &finding.help {
            message.push_str(&format!("\nhelp: {help}"));
        }
        said(lines.range(finding.span, workspace.units), severity, Some(finding.code), message)
    });
    shown.collect()
}

/// The playthroughs of a file that fail.
fn failures(workspace: &Workspace, lines: &Lines, spec: &vestigum_core::Spec, script: &Script) -> Vec<Diagnostic> {
    let statements: u64 = script.playthroughs().iter().map(Playthrough::statements).sum();
    if statements > MOST_STATEMENTS {
        return Vec::new();
    }
    let failed = script.playthroughs().iter().filter_map(|playthrough| {
        let run = run(spec, playthrough, &mut MemorySaves::default());
        let failure = run.failure?;
        let mut message = format!("\"{}\" fails here", run.name);
        failure.told(&|_, text| text).iter().for_each(|line| message.push_str(&format!("\n{line}")));
        let start = lines.text.split_inclusive('\n').take(failure.line.saturating_sub(1)).map(str::len).sum();
        let end = lines.line_end(start);
        let begin = end - lines.text[start..end].trim_start().len();
        let range = lines.range(SourceSpan::new(begin, end), workspace.units);
        Some(said(range, DiagnosticSeverity::ERROR, Some(FAILS), message))
    });
    failed.collect()
}

fn said(range: Range, severity: DiagnosticSeverity, code: Option<&str>, message: String) -> Diagnostic {
    Diagnostic {
        range,
        severity: Some(severity),
        code: code.map(|code| NumberOrString::String(code.to_owned())),
        source: Some(SOURCE.to_owned()),
        message,
        ..Diagnostic::default()
    }
}
