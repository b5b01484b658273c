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

/// Runs the program as in a terminal of that number of columns.
pub(crate) fn in_columns(columns: usize, arguments: &[&str]) -> (i32, String, String) {
    run(Command::cargo_bin("vestigum").unwrap().env("COLUMNS", columns.to_string()).args(arguments))
}

fn run(command: &mut Command) -> (i32, String, String) {
    let output = command.output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

/// Runs the program as a user who may not read everything; `None` where there is no way to be one.
#[cfg(unix)]
pub(crate) fn as_a_stranger(arguments: &[&str]) -> Option<(i32, String, String)> {
    let program = assert_cmd::cargo::cargo_bin("vestigum");
    let is_root = std::process::Command::new("id").arg("-u").output().is_ok_and(|id| id.stdout == b"0\n");
    if !is_root {
        return Some(run(Command::new(program).env_remove("COLUMNS").args(arguments)));
    }
    let as_nobody = ["--reuid=65534", "--regid=65534", "--clear-groups"];
    let mut command = std::process::Command::new("setpriv");
    let may = command.args(as_nobody).arg(&program).arg("--version").output();
    if !may.is_ok_and(|output| output.status.success()) {
        println!("SKIPPED: this program cannot be run as somebody else here");
        return None;
    }
    let mut command = Command::new("setpriv");
    Some(run(command.args(as_nobody).arg(program).env_remove("COLUMNS").args(arguments)))
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
