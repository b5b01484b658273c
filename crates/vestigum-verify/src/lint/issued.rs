//! Codes that a version issued which shipped, and that the spec reads as something else.

use vestigum_core::{Diagnostic, Spec};
use vestigum_spec::codes;
use vestigum_spec::document::MigrationEntry;

use super::Finding;

pub(super) fn misread(spec: &Spec) -> Vec<Finding> {
    let Some(history) = spec.history() else { return Vec::new() };
    let model = spec.model();
    let mut found: Vec<Finding> = Vec::new();
    for version in history.versions().rev() {
        let since = model.document.migrations.iter().filter(|entry| entry.to.value > version);
        let mut since: Vec<&MigrationEntry> = since.collect();
        since.sort_by_key(|entry| entry.to.value);
        for code in history.shapes_of(version).flat_map(|frozen| &frozen.shape.codes) {
            let told = found.iter().any(|finding| finding.subject == code.name);
            let Some(misread) = code.misread(model, &since).filter(|_| !told) else { continue };
            let entry = model.document.codes.iter().find(|(name, _)| name.value == code.name);
            let span = entry.map_or(model.document.game.span, |(name, _)| name.span);
            let message = format!("version {version} has given players codes `{}` that {misread}", code.name);
            let help = format!(
                "let `{0}` carry what it did, and give what it carries now another name, as `[code.{0}_two]`",
                code.name
            );
            let diagnostic = Diagnostic::warning(codes::ISSUED_CODE, span, message).help(help);
            found.push(Finding { subject: code.name.clone(), diagnostic });
        }
    }
    found
}
