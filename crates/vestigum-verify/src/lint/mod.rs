//! Lints: what a sound spec says, and probably does not mean.
//!
//! `reach` finds levels that can never open, by what `possible` says that there can be; `warnings` knows the mistakes of the
//! trade, and `kept` what a failure leaves of a value. Every finding has a code that
//! [`vestigum_spec::codes`] explains, and a subject, so that a spec can allow it with a reason.
//!
//! ```
//! use vestigum_verify::lint;
//!
//! let checked = lint::check("spec.toml", r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane"]
//!     [field.letters]
//!     type = "int"
//!     lasts = "visit"
//!     after_failure = "entry"
//!     [field.best_letters]
//!     type = "int"
//!     per = "level"
//!     lasts = "profile"
//!     on.complete = { set = "letters" }
//! "#);
//! assert_eq!(checked.findings.list()[0].code, "V102");
//! ```

mod assets;
mod blobs;
mod closing;
mod issued;
mod kept;
mod keyed;
mod large;
mod made;
mod possible;
mod prices;
mod rankings;
mod reach;
mod records;
mod warnings;

use std::sync::Arc;

use vestigum_core::{Diagnostic, Diagnostics, History, Spec};
use vestigum_spec::codes;
use vestigum_spec::migration::Offer;
use vestigum_spec::migration::either;
use vestigum_spec::{CheckedSpec, ReadSpec};

use crate::explore::subjects;

/// A document that was checked.
#[derive(Clone, Debug)]
pub struct Checked {
    /// The spec, if it can be used.
    pub spec: Option<Spec>,
    /// Errors and warnings.
    pub findings: Diagnostics,
    /// The findings that the spec allows, and why.
    pub allowed: Vec<Allowed>,
    /// The steps that no migration says, by the version that they lead to: see [`Checked::migrations`].
    pub missing: Vec<MissingStep>,
}

/// A step that no migration says.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct MissingStep {
    /// The version that it leads to.
    pub to: i64,
    /// The step as it is written.
    pub step: String,
    /// If it drops something: new names that it may have instead, as none of them is near enough to guess.
    pub or: Vec<String>,
    /// If a field is dropped that may have been split into several new ones: the steps that fill each of them from it.
    pub split: Vec<String>,
    /// If no expression makes the new values of the old ones: the step that has the game's code make them.
    pub or_code: Option<String>,
    /// Says what makes the guess doubtful, as a question.
    pub doubt: Option<String>,
}

/// A finding that is meant.
#[derive(Clone, Debug, PartialEq)]
pub struct Allowed {
    /// The finding.
    pub finding: Diagnostic,
    /// Says why it is meant.
    pub because: String,
}

/// A finding, and the field, level or table that it is about.
pub(crate) struct Finding {
    pub subject: String,
    pub diagnostic: Diagnostic,
}

/// Reads a spec and finds everything that is wrong with it or probably not meant.
///
/// # Example
///
/// ```
/// let checked = vestigum_verify::lint::check("progress.toml", "[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"");
/// assert!(checked.spec.is_none());              // nothing says how long `xp` lasts
/// println!("{}", vestigum_verify::render(&checked.findings, false));
/// ```
pub fn check(name: &str, text: &str) -> Checked {
    check_against(name, text, None, None)
}

/// Checks a spec, and everything that saves of older versions would lose.
pub fn check_with_history(name: &str, text: &str, history: History) -> Checked {
    check_against(name, text, Some(history), None)
}

/// Checks a spec with its history, and whether every level has its file: `files` tells the names of the files in a folder, as the spec names it, or why
/// it cannot be read. [`crate::asset_files`] does that for a spec in a file.
pub fn check_beside(name: &str, text: &str, history: Option<History>, files: &AssetFiles<'_>) -> Checked {
    check_against(name, text, history, Some(files))
}

/// The names of the files in a folder, or why it cannot be read.
pub type AssetFiles<'f> = dyn Fn(&str) -> Result<Vec<String>, String> + 'f;

fn check_against(name: &str, text: &str, history: Option<History>, files: Option<&AssetFiles<'_>>) -> Checked {
    let ReadSpec { spec, errors: mut findings, needs, .. } = CheckedSpec::read(text, history.map(Arc::new));
    let spec = spec.map(Spec::of_checked);
    let sound = findings.is_empty() && needs.is_empty();
    let mut allowed = Vec::new();
    if let Some(spec) = &spec {
        let mut found = reach::unreachable(spec);
        let closing = closing::closing(spec.model());
        // What can never open is not closed by anything.
        let never = |level: &str| found.iter().any(|finding| finding.subject == level);
        let closing: Vec<Finding> = closing.into_iter().filter(|finding| !never(&finding.subject)).collect();
        found.extend(closing);
        found.extend(warnings::warnings(spec));
        found.extend(unchecked_migrations(spec));
        found.extend(files.iter().flat_map(|files| assets::findings(spec, files)));
        let (meant, others) = sorted_out(spec, found);
        findings.extend(meant);
        allowed = others;
    }
    let missing = needs.iter().filter_map(|need| {
        let Offer { step, or, split, or_code, doubt, .. } = need.offer.clone()?;
        Some(MissingStep { to: need.to, step, or, split, or_code, doubt })
    });
    let missing = missing.collect();
    findings.extend(needs.into_iter().filter(|need| !need.follows).map(|need| need.diagnostic));
    let findings = Diagnostics::new(name, text, findings);
    Checked { spec: spec.filter(|_| sound), findings, allowed, missing }
}

/// The levels that can never open, whatever is played, by their ids.
pub fn never_open(spec: &Spec) -> Vec<String> {
    reach::unreachable(spec).into_iter().map(|finding| finding.subject).collect()
}

/// Migrations of a spec without a history: nothing says what they come from.
fn unchecked_migrations(spec: &Spec) -> Option<Finding> {
    if spec.history().is_some() {
        return None;
    }
    let document = &spec.model().document;
    let (span, message) = match (document.migrations.first(), &document.game.version) {
        (Some(first), _) => {
            (first.to.span, "there are migrations, and no history that tells what saves they come from".to_owned())
        }
        (None, Some(version)) if version.value > 1 => {
            let older = match version.value {
                2 => "version 1".to_owned(),
                version => format!("versions 1 to {}", version - 1),
            };
            (version.span, format!("there is no history, so a game of this spec refuses the saves of {older}"))
        }
        (None, _) => return None,
    };
    let help = "`freeze` writes it beside the spec when a version ships; keep the two together";
    let diagnostic = Diagnostic::warning(codes::NO_HISTORY, span, message).help(help);
    Some(Finding { subject: "migration".into(), diagnostic })
}

impl MissingStep {
    /// The step on a line of its own, and what may be meant instead.
    fn line(&self) -> String {
        match &self.or[..] {
            [] => match &self.or_code {
                None => {
                    let doubt = self.doubt.as_ref().map(|doubt| format!("  # {doubt}")).unwrap_or_default();
                    format!("  {},{doubt}\n", self.step)
                }
                Some(hook) => format!("  {},  # or let the game's code make it: {hook}\n", self.step),
            },
            names => {
                let step = format!("  {},  # or is it {} now? then rename it\n", self.step, either(names, '"'));
                let split = self.split.iter().map(|step| format!("  # {step},\n"));
                let heading = if self.split.is_empty() { "" } else { "  # or was it split? then fill each instead:\n" };
                format!("{step}{heading}{}", split.collect::<String>())
            }
        }
    }
}

impl Checked {
    /// The missing steps as they are written into the spec, one `[[migration]]` for each version.
    pub fn migrations(&self) -> String {
        let mut out = String::new();
        let mut versions: Vec<i64> = self.missing.iter().map(|missing| missing.to).collect();
        versions.dedup();
        for version in versions {
            let steps = self.missing.iter().filter(|missing| missing.to == version).map(MissingStep::line);
            let gap = if out.is_empty() { "" } else { "\n" };
            out.push_str(&format!("{gap}[[migration]]\nto = {version}\nsteps = [\n{}]\n", steps.collect::<String>()));
        }
        out
    }
}

/// Takes out what the spec allows, and finds allowances that allow nothing.
fn sorted_out(spec: &Spec, found: Vec<Finding>) -> (Vec<Diagnostic>, Vec<Allowed>) {
    let entries = &spec.model().document.allowed;
    let mut used = vec![false; entries.len()];
    let (mut findings, mut allowed) = (Vec::new(), Vec::new());
    for Finding { subject, diagnostic } in found {
        let entry = entries.iter().position(|entry| {
            let allows = |code: &str| entry.allows(code, Some(&subject));
            // What may stay locked for ever is not completed either.
            allows(diagnostic.code) || (diagnostic.code == codes::UNREACHABLE && allows(codes::NEVER_COMPLETED))
        });
        match entry {
            Some(index) => {
                used[index] = true;
                let because = entries[index].because.value.clone();
                allowed.push(Allowed { finding: diagnostic, because });
            }
            None => findings.push(diagnostic),
        }
    }
    for (entry, used) in entries.iter().zip(used) {
        // What exploring finds is not known here, but what it can be about is.
        let code = entry.code.value.to_ascii_uppercase();
        let explored = code.starts_with("V2");
        let about = if explored { subjects(spec, &code) } else { Vec::new() };
        let unknown = entry.of.as_ref().filter(|of| !about.contains(&of.value.as_str()));
        if used || (explored && unknown.is_none()) {
            continue;
        }
        let of = entry.of.as_ref().map(|of| format!(" of `{}`", of.value)).unwrap_or_default();
        let (message, span) = match unknown.filter(|_| explored) {
            Some(of) => (format!("{code} is never asked of `{}`", of.value), of.span),
            None => (format!("nothing has the finding {code}{of} that is allowed here"), entry.code.span),
        };
        let warning = Diagnostic::warning(codes::IDLE_ALLOW, span, message)
            .help("take it out, so that it cannot hide the next one");
        findings.push(match unknown {
            Some(of) => warning.suggest(&of.value, about),
            None => warning,
        });
    }
    (findings, allowed)
}
