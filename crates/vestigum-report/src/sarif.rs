//! Findings as SARIF 2.1.0, which forges show beside the lines of a change.
//!
//! Only what a finding has is written: the rule with its explanation, the message, the place. What a spec allows is there, too, as a
//! result that is suppressed, with its reason.

use std::collections::BTreeSet;

use serde::Serialize;
use vestigum_core::{Diagnostic, Diagnostics, Severity};
use vestigum_spec::codes;
use vestigum_spec::diagnostic::position;
use vestigum_verify::lint::Allowed;

use crate::Unusable;

const SCHEMA: &str = "https://json.schemastore.org/sarif-2.1.0.json";

/// Writes the findings of some documents, and what their specs allow, as one SARIF log.
///
/// ```
/// use vestigum_verify::lint;
///
/// let checked = lint::check("spec.toml", "[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"");
/// let log = vestigum_report::sarif::log(&[&checked.findings], &checked.allowed);
/// assert!(log.contains("\"version\": \"2.1.0\"") && log.contains("\"uri\": \"spec.toml\""));
/// ```
pub fn log(documents: &[&Diagnostics], allowed: &[Allowed]) -> String {
    let found = documents.iter().flat_map(|found| found.list().iter().map(|finding| (*found, finding, None)));
    let meant = documents
        .first()
        .into_iter()
        .flat_map(|found| allowed.iter().map(|allowed| (*found, &allowed.finding, Some(allowed.because.as_str()))));
    let all: Vec<(&Diagnostics, &Diagnostic, Option<&str>)> = found.chain(meant).collect();
    let rules: BTreeSet<&str> = all.iter().map(|(_, finding, _)| finding.code).collect();
    let log = Log {
        schema: SCHEMA,
        version: "2.1.0",
        runs: [Run {
            tool: Tool {
                driver: Driver {
                    name: "vestigum",
                    version: env!("CARGO_PKG_VERSION"),
                    rules: rules.iter().filter_map(|code| rule(code)).collect(),
                },
            },
            column_kind: "unicodeCodePoints",
            invocations: None,
            results: all.iter().map(|(found, finding, because)| result(found, finding, *because)).collect(),
        }],
    };
    serde_json::to_string_pretty(&log).unwrap_or_default()
}

/// Writes a SARIF log of a check that could not be made, with the reasons.
///
/// ```
/// use vestigum_report::Unusable;
///
/// let missing = Unusable { name: "spec.toml".into(), why: "cannot read spec.toml".into() };
/// let log = vestigum_report::sarif::unusable(&[missing]);
/// assert!(log.contains("\"executionSuccessful\": false") && log.contains("cannot read spec.toml"));
/// ```
pub fn unusable(inputs: &[Unusable]) -> String {
    let notification = |input: &Unusable| Notification { level: "error", message: Text { text: input.why.clone() } };
    let invocation = Invocation {
        execution_successful: false,
        tool_execution_notifications: inputs.iter().map(notification).collect(),
    };
    let driver = Driver { name: "vestigum", version: env!("CARGO_PKG_VERSION"), rules: Vec::new() };
    let run = Run {
        tool: Tool { driver },
        column_kind: "unicodeCodePoints",
        invocations: Some([invocation]),
        results: Vec::new(),
    };
    let log = Log { schema: SCHEMA, version: "2.1.0", runs: [run] };
    serde_json::to_string_pretty(&log).unwrap_or_default()
}

fn rule(code: &str) -> Option<Rule> {
    let entry = codes::explain(code)?;
    Some(Rule {
        id: entry.code,
        short_description: Text { text: entry.title.to_owned() },
        full_description: Text { text: entry.text.to_owned() },
        help: Text { text: format!("wrong:\n{}\n\nright:\n{}", entry.wrong, entry.right) },
    })
}

fn result(found: &Diagnostics, finding: &Diagnostic, because: Option<&str>) -> Finding {
    let (start_line, start_column) = position(found.source(), finding.span.start);
    let (end_line, end_column) = position(found.source(), finding.span.end.max(finding.span.start));
    let help = finding.help.as_ref().map(|help| format!("\n{help}")).unwrap_or_default();
    Finding {
        rule_id: finding.code,
        level: match finding.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
        },
        message: Text { text: format!("{}{help}", finding.message) },
        locations: [Location {
            physical_location: PhysicalLocation {
                artifact_location: ArtifactLocation { uri: uri(found.name()) },
                region: Region { start_line, start_column, end_line, end_column },
            },
        }],
        suppressions: because.map(|because| [Suppression { kind: "inSource", justification: because.to_owned() }]),
    }
}

/// The name of a file as a URI: relative ones stay relative, to wherever the log is read.
fn uri(name: &str) -> String {
    let name = name.replace('\\', "/");
    let mut uri = if name.starts_with('/') { "file://".to_owned() } else { String::new() };
    for byte in name.trim_start_matches("./").bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => uri.push(char::from(byte)),
            byte => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    uri
}

#[derive(Serialize)]
struct Log {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: [Run; 1],
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Run {
    tool: Tool,
    column_kind: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    invocations: Option<[Invocation; 1]>,
    results: Vec<Finding>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Invocation {
    execution_successful: bool,
    tool_execution_notifications: Vec<Notification>,
}

#[derive(Serialize)]
struct Notification {
    level: &'static str,
    message: Text,
}

#[derive(Serialize)]
struct Tool {
    driver: Driver,
}

#[derive(Serialize)]
struct Driver {
    name: &'static str,
    version: &'static str,
    rules: Vec<Rule>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Rule {
    id: &'static str,
    short_description: Text,
    full_description: Text,
    help: Text,
}

#[derive(Serialize)]
struct Text {
    text: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Finding {
    rule_id: &'static str,
    level: &'static str,
    message: Text,
    locations: [Location; 1],
    #[serde(skip_serializing_if = "Option::is_none")]
    suppressions: Option<[Suppression; 1]>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Location {
    physical_location: PhysicalLocation,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct PhysicalLocation {
    artifact_location: ArtifactLocation,
    region: Region,
}

#[derive(Serialize)]
struct ArtifactLocation {
    uri: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Region {
    start_line: usize,
    start_column: usize,
    end_line: usize,
    end_column: usize,
}

#[derive(Serialize)]
struct Suppression {
    kind: &'static str,
    justification: String,
}
