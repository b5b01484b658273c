//! The real program, and the demo it runs on.
#![allow(dead_code, reason = "each test uses a part of it")]

use std::fs;
use std::path::{Path, PathBuf};

use assert_cmd::Command;

pub(crate) fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost").join(name)
}

/// Exit code, standard output, standard error.
pub(crate) fn vestigum(folder: &Path, arguments: &[&str]) -> (i32, String, String) {
    run(Command::cargo_bin("vestigum").unwrap().env_remove("COLUMNS").current_dir(folder).args(arguments))
}

/// The same, as in a terminal of so many columns.
pub(crate) fn in_columns(columns: usize, arguments: &[&str]) -> (i32, String, String) {
    run(Command::cargo_bin("vestigum").unwrap().env("COLUMNS", columns.to_string()).args(arguments))
}

fn run(command: &mut Command) -> (i32, String, String) {
    let output = command.output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

pub(crate) fn here(arguments: &[&str]) -> (i32, String, String) {
    vestigum(Path::new("."), arguments)
}

pub(crate) fn json(folder: &Path, arguments: &[&str]) -> (i32, serde_json::Value) {
    let (code, out, err) = vestigum(folder, &[arguments, &["--json"]].concat());
    (code, serde_json::from_str(&out).unwrap_or_else(|error| panic!("{arguments:?}: {error}\n{out}\n{err}")))
}

/// A folder with the demo's spec under another name, its history and the saves of a shipped version.
pub(crate) fn shipped(version: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for file in ["fellpost.toml", "fellpost.history.json"] {
        fs::copy(demo(file), folder.path().join(file)).unwrap();
    }
    let from = demo("shipped").join(version).join("saves");
    let mut open = vec![from.clone()];
    while let Some(next) = open.pop() {
        let to = folder.path().join("saves").join(next.strip_prefix(&from).unwrap());
        if next.is_dir() {
            fs::create_dir_all(to).unwrap();
            open.extend(fs::read_dir(&next).unwrap().flatten().map(|entry| entry.path()));
        } else {
            fs::copy(&next, to).unwrap();
        }
    }
    folder
}
