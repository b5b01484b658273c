//! The files beside a spec: those that playthroughs import, and those of the levels.

use std::fs;
use std::path::Path;

use crate::playthrough::ImportError;

/// Returns what is in a saved image that a playthrough imports: its path stands relative to the script that names it. Give it to
/// [`Script::from_text_with`](crate::playthrough::Script::from_text_with).
///
/// # Errors
/// If the file cannot be read, with the reason in words.
pub fn imported_file(script: &str, path: &str) -> Result<Vec<u8>, ImportError> {
    let beside = Path::new(script).parent().unwrap_or(Path::new("")).join(path);
    fs::read(&beside).map_err(|error| ImportError(format!("cannot read {}: {error}", beside.display())))
}

/// The names of the files in a folder that stands relative to a spec, as `[levels] assets` names it. Give it to
/// [`check_beside`](crate::lint::check_beside).
///
/// # Errors
/// If the folder cannot be read, with the reason in words.
pub fn asset_files(spec: &Path, folder: &str) -> Result<Vec<String>, String> {
    let beside = spec.parent().unwrap_or(Path::new("")).join(folder);
    let failed = |error| format!("cannot read {}: {error}", beside.display());
    let mut names = Vec::new();
    for entry in fs::read_dir(&beside).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        // A link to a file is one; a name that is not a text is that of no level.
        if fs::metadata(entry.path()).is_ok_and(|meta| meta.is_file()) {
            names.push(entry.file_name().to_string_lossy().into_owned());
        }
    }
    names.sort();
    Ok(names)
}
