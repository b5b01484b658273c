//! Findings over the text of their document, and the playthroughs that belong to a spec: what the program, a game's tests and the
//! compiler have in common.
#![forbid(unsafe_code)]

use std::path::{Path, PathBuf};
use std::{fs, io};

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};

use vestigum_spec::{Diagnostics, Severity};

/// Says how many findings are shown in full; the rest are counted.
const SHOWN: usize = 100;

/// Renders all findings with their snippets, with terminal colours if `styled`.
///
/// ```
/// use vestigum_spec::CheckedSpec;
///
/// let findings = CheckedSpec::from_named_toml("fellpost.toml", "[game]\nid = \"fellpost\"\nversoin = 2").unwrap_err();
/// let shown = vestigum_render::render(&findings, false);
/// assert!(shown.contains("versoin = 2"), "{shown}");
/// assert!(shown.contains("did you mean `version`?"));
/// ```
pub fn render(findings: &Diagnostics, styled: bool) -> String {
    let renderer = if styled { Renderer::styled() } else { Renderer::plain() };
    let source = findings.source();
    let mut out = String::new();
    for finding in findings.list().iter().take(SHOWN) {
        let level = match finding.severity {
            Severity::Error => Level::ERROR,
            Severity::Warning => Level::WARNING,
        };
        let end = finding.span.end.min(source.len());
        let span = finding.span.start.min(end)..end;
        let snippet = Snippet::source(source)
            .path(findings.name())
            .annotation(AnnotationKind::Primary.span(span).label(finding.label.as_str()));
        let mut group: Group<'_> = level.primary_title(finding.message.as_str()).id(finding.code).element(snippet);
        if let Some(help) = &finding.help {
            group = group.element(Level::HELP.message(help.as_str()));
        }
        out.push_str(&renderer.render(&[group]));
        out.push_str("\n\n");
    }
    let more = findings.list().len().saturating_sub(SHOWN);
    if more > 0 {
        out.push_str(&format!("… and {more} more\n\n"));
    }
    out.truncate(out.trim_end().len());
    out
}
/// The scripts that belong to a spec: all `.play` files in its folder and in the folders beside it, in the order of their paths.
///
/// # Errors
/// If a folder cannot be read.
pub fn scripts_beside(spec: &Path) -> io::Result<Vec<PathBuf>> {
    let folder = spec.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let in_folder = |folder: &Path| -> io::Result<Vec<PathBuf>> {
        Ok(fs::read_dir(folder)?.flatten().map(|entry| entry.path()).collect())
    };
    let mut found = in_folder(folder)?;
    for entry in fs::read_dir(folder)?.flatten() {
        // A link is not followed.
        if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            found.extend(in_folder(&entry.path())?);
        }
    }
    found.retain(|path| path.extension().is_some_and(|ending| ending == "play") && path.is_file());
    found.sort();
    Ok(found)
}
