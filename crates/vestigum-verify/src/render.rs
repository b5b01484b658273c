//! Findings over the text of their document.

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};

use vestigum_core::{Diagnostics, Severity};

/// How many findings are shown in full; the rest are counted.
const SHOWN: usize = 100;

/// Renders all findings with their snippets, with terminal colours if `styled`.
///
/// ```
/// use vestigum::Spec;
///
/// let findings = Spec::from_toml("[game]\nid = \"fellpost\"\nversoin = 2").unwrap_err();
/// let shown = vestigum_verify::render(&findings, false);
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
