//! `vestigum schema`: the JSON Schema of a spec, for editors.

use vestigum_editor::schema::schema;

use crate::Verdict;
use crate::show::Output;

pub(crate) fn run(out: &Output) -> Verdict {
    out.document(text().trim_end());
    Verdict::Fine
}

/// The schema as it is kept in a file.
pub(crate) fn text() -> String {
    serde_json::to_string_pretty(&schema()).unwrap_or_default() + "\n"
}
