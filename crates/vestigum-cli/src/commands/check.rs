//! `vestigum check`: everything that is wrong with a spec.

use std::path::PathBuf;

use clap::ValueEnum;
use serde_json::json;

use vestigum::{Spec, codes};
use vestigum_verify::lint::{self, Allowed, Checked};
use vestigum_verify::{asset_files, render};

use crate::show::{GOOD, Output, QUIET, STRONG, counted, findings, paint, summary, wrapped};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document
    #[arg(required_unless_present = "explain")]
    spec: Option<PathBuf>,
    /// Explain a code, as V003
    #[arg(long, value_name = "CODE", conflicts_with = "spec")]
    explain: Option<String>,
    /// Fail on these findings too
    #[arg(long, value_enum, value_name = "WHAT")]
    deny: Option<Deny>,
    /// The form of the findings
    #[arg(long, value_enum, default_value_t = Format::Text, conflicts_with = "explain")]
    format: Format,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// SARIF, for forges
    Sarif,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Deny {
    /// Everything that is probably not meant
    Warnings,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    if let Some(code) = &arguments.explain {
        return explain(out, code);
    }
    let Some(path) = &arguments.spec else { return Verdict::Unusable };
    let text = match input::text(path) {
        Ok(text) => text,
        Err(message) => return unusable(out, arguments.format, out.unusable(&message)),
    };
    let name = path.display().to_string();
    let checked = match input::history(out, path) {
        Ok(history) => lint::check_beside(&name, &text, history, &|folder| asset_files(path, folder)),
        Err(verdict) => return unusable(out, arguments.format, verdict),
    };
    let found = &checked.findings;
    let failed = found.errors() > 0 || (arguments.deny.is_some() && found.warnings() > 0);
    let verdict = if failed { Verdict::Failed } else { Verdict::Fine };
    if arguments.format == Format::Sarif {
        out.document(vestigum_report::sarif::log(&[found], &checked.allowed));
        return verdict;
    }
    if out.json {
        let allowed = checked.allowed.iter().map(|allowed| {
            json!({ "code": allowed.finding.code, "message": allowed.finding.message, "because": allowed.because })
        });
        out.json(&json!({
            "ok": !failed, "findings": findings(found), "allowed": allowed.collect::<Vec<_>>(),
            "migrations": checked.migrations(), "grown": grown(&checked),
        }));
        return verdict;
    }
    if !found.list().is_empty() {
        out.line(render(found, true));
        out.line("");
    }
    for Allowed { finding, because } in &checked.allowed {
        out.line(format_args!("{} {}: {}", paint(QUIET, "allowed"), finding.code, finding.message));
        out.line(paint(QUIET, format_args!("        because {because}")));
    }
    if !checked.missing.is_empty() {
        out.line(paint(STRONG, "ready to paste, if this is what the update means:"));
        out.line("");
        checked.migrations().lines().for_each(|line| out.line(format_args!("    {line}")));
        out.line("");
    }
    match (&checked.spec, found.list()) {
        (Some(spec), []) => out.line(format_args!(
            "{}: {}  {}",
            found.name(),
            paint(GOOD, if checked.allowed.is_empty() { "no errors, no warnings" } else { "nothing else to find" }),
            paint(QUIET, size(spec)),
        )),
        _ => out.line(summary(found)),
    }
    if let Some(spec) = &checked.spec {
        frozen(out, spec, &grown(&checked));
    }
    verdict
}

/// Writes a log also where the spec cannot be read: a forge would take no log for no findings.
fn unusable(out: &Output, format: Format, verdict: Verdict) -> Verdict {
    match format {
        Format::Text => {}
        Format::Sarif => out.document(vestigum_report::sarif::unusable(&out.all_unusable())),
    }
    verdict
}

/// Lists what the spec's saves can hold beyond the shapes that are frozen under its version's number.
fn grown(checked: &Checked) -> Vec<String> {
    let spec = checked.spec.as_ref();
    spec.and_then(|spec| Some(spec.history()?.grown(spec))).unwrap_or_default()
}

/// Says how far the spec is from what has shipped.
fn frozen(out: &Output, spec: &Spec, grown: &[String]) {
    let Some(history) = spec.history() else { return };
    let Some(newest) = history.versions().next_back() else { return };
    let version = spec.version();
    if !grown.is_empty() {
        let told = format!(
            "version {version} has grown since it was frozen: {}; `vestigum freeze` when it ships",
            grown.join(", ")
        );
        wrapped(&told, 110).iter().for_each(|line| out.line(paint(STRONG, line)));
        return;
    }
    out.line(paint(
        QUIET,
        if newest < version {
            format!("version {version} is not frozen yet: `vestigum freeze` when it ships")
        } else {
            format!("version {version} is frozen, and everything that its saves hold has its place")
        },
    ));
}

/// "5 levels", and how many players can make
fn levels(spec: &Spec) -> String {
    let made = spec.made_levels().len();
    let shipped = counted(spec.levels().len() - made, "level");
    if made == 0 { shipped } else { format!("{shipped} and {made} that players can make") }
}

/// "(5 levels, 15 fields, 5 derived values)"
fn size(spec: &Spec) -> String {
    let built_in = spec.fields().filter(|field| field.is_built_in()).count();
    format!(
        "({}, {}, {})",
        levels(spec),
        counted(spec.fields().len() - built_in, "field"),
        counted(spec.derived_values().count(), "derived value"),
    )
}

fn explain(out: &Output, code: &str) -> Verdict {
    let Some(entry) = codes::explain(code) else {
        let known: Vec<&str> = codes::ALL.iter().map(|entry| entry.code).collect();
        return out.unusable(&format!(
            "there is no code `{}`; the codes are: {}",
            code.escape_debug(),
            known.join(", ")
        ));
    };
    if out.json {
        out.json(&json!({
            "code": entry.code, "title": entry.title, "text": entry.text, "wrong": entry.wrong, "right": entry.right,
        }));
        return Verdict::Fine;
    }
    out.line(paint(STRONG, format_args!("{}: {}", entry.code, entry.title)));
    out.line("");
    for line in wrapped(entry.text, 100) {
        out.line(line);
    }
    for (heading, piece) in [("wrong", entry.wrong), ("right", entry.right)] {
        out.line("");
        out.line(paint(QUIET, heading));
        piece.lines().for_each(|line| out.line(format_args!("    {line}")));
    }
    Verdict::Fine
}
