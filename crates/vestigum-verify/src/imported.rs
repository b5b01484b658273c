//! The files of playthroughs, and those that they import.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

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
