//! `vestigum lsp`: the language server, for editors.

use vestigum_editor::server::Ended;

use crate::Verdict;
use crate::show::Output;

pub(crate) fn run(out: &Output) -> Verdict {
    match vestigum_editor::server::serve_stdio() {
        Ok(Ended::Shutdown) => Verdict::Fine,
        Ok(Ended::Exit) => {
            out.error_line(format_args!("expected `shutdown` before `exit`"));
            Verdict::Failed
        }
        Err(error) => {
            // Standard output is the editor's.
            out.error_line(format_args!("the editor and the server do not understand each other: {error}"));
            Verdict::Unusable
        }
    }
}
