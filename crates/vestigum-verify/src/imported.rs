//! The files of playthroughs, and those that they import.

use std::fs;
use std::path::Path;

use crate::playthrough::ImportError;

/// What is in a saved image that a playthrough imports: its path stands relative to the script that names it. Give it to
/// [`Script::from_text_with`](crate::playthrough::Script::from_text_with).
///
/// # Errors
/// If the file cannot be read, with the reason in words.
pub fn imported_file(script: &str, path: &str) -> Result<Vec<u8>, ImportError> {
    let beside = Path::new(script).parent().unwrap_or(Path::new("")).join(path);
    fs::read(&beside).map_err(|error| ImportError(format!("cannot read {}: {error}", beside.display())))
}
