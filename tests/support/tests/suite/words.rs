//! Words that this project does not use: `words.toml` lists them with what to write instead.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use regex::Regex;
use serde::Deserialize;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn list() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("words.toml")
}

#[derive(Deserialize)]
struct Listed {
    pattern: Vec<Pattern>,
}

#[derive(Deserialize)]
struct Pattern {
    find: String,
    instead: String,
    /// Only the first line of what is said of an item is looked at.
    #[serde(default)]
    openings: bool,
}

/// A piece of text and where it stands.
struct Piece {
    place: String,
    text: String,
    is_opening: bool,
}

/// The files of the repository with an ending, but for what is generated or written by another program.
fn files(ending: &str) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![root()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            let name = entry.file_name().to_string_lossy().into_owned();
            if path.is_dir() && !["target", ".git", "api"].contains(&name.as_str()) {
                folders.push(path);
            } else if path.extension().is_some_and(|found| found == ending) && name != "CHANGELOG.md" {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// The path from the folder of the repository on.
fn inside(path: &Path) -> &Path {
    path.strip_prefix(root()).unwrap_or(path)
}

fn piece(path: &Path, line: usize, text: &str, is_opening: bool) -> Piece {
    let path = inside(path);
    Piece { place: format!("{}:{}", path.display(), line + 1), text: text.to_owned(), is_opening }
}

/// The lines of the documents, without code and without the table of CONTRIBUTING.md, which names old words beside the new ones.
fn documents() -> Vec<Piece> {
    let mut pieces = Vec::new();
    for path in files("md") {
        let text = fs::read_to_string(&path).unwrap();
        let mut is_code = false;
        for (line, text) in text.lines().enumerate() {
            is_code ^= text.trim_start().starts_with("```");
            let names_old_words = path.ends_with("CONTRIBUTING.md") && text.starts_with('|');
            if !is_code && !names_old_words {
                pieces.push(piece(&path, line, text, false));
            }
        }
    }
    pieces
}

/// The lines of the comments, without code; and the texts in the code that people may read.
fn sources() -> (Vec<Piece>, Vec<Piece>) {
    let (mut comments, mut messages) = (Vec::new(), Vec::new());
    let quoted = Regex::new(r#""((?:[^"\\]|\\.)*)""#).unwrap();
    for path in files("rs") {
        let text = fs::read_to_string(&path).unwrap();
        let is_test =
            inside(&path).components().any(|part| part.as_os_str() == "tests" || part.as_os_str() == "benches");
        let (mut is_code, mut was_item) = (false, false);
        for (line, text) in text.lines().enumerate() {
            let text = text.trim();
            let Some(comment) = text.strip_prefix("//") else {
                was_item = false;
                let texts = quoted.captures_iter(text).map(|found| found[1].to_owned());
                messages.extend(
                    texts.filter(|text| text.contains(' ') && !is_test).map(|text| piece(&path, line, &text, false)),
                );
                continue;
            };
            let is_item = comment.starts_with('/');
            let comment = comment.trim_start_matches(['/', '!']).trim();
            is_code ^= comment.starts_with("```");
            if !is_code {
                comments.push(piece(&path, line, comment, is_item && !was_item));
            }
            was_item = is_item;
        }
    }
    (comments, messages)
}

/// The subjects of the commits since the list is there; none outside a repository.
fn subjects() -> Vec<Piece> {
    let git = |arguments: &[&str]| {
        let done = Command::new("git").current_dir(root()).args(arguments).output();
        done.ok().filter(|done| done.status.success()).map(|done| String::from_utf8_lossy(&done.stdout).into_owned())
    };
    let list = list();
    let added = git(&["log", "--diff-filter=A", "--format=%H", "-1", "--", &list.display().to_string()]);
    let Some(added) = added.as_deref().map(str::trim).filter(|added| !added.is_empty()) else { return Vec::new() };
    let log = git(&["log", "--format=%h %s", &format!("{added}..HEAD")]).unwrap_or_default();
    let split = log.lines().filter_map(|line| line.split_once(' '));
    split.map(|(place, text)| Piece { place: place.to_owned(), text: text.to_owned(), is_opening: false }).collect()
}

#[test]
fn no_text_has_words_that_are_not_used() {
    let listed: Listed = toml::from_str(&fs::read_to_string(list()).unwrap()).unwrap();
    let (comments, messages) = sources();
    let places = [("docs", documents()), ("comments", comments), ("messages", messages), ("subjects", subjects())];
    assert!(places[..3].iter().all(|(_, pieces)| pieces.len() > 1000), "the texts were not found");
    let mut wrong = Vec::new();
    for pattern in &listed.pattern {
        let regex = Regex::new(&pattern.find).unwrap();
        for (name, pieces) in &places {
            let found = pieces.iter().filter(|piece| piece.is_opening || !pattern.openings);
            for Piece { place, text, .. } in found.filter(|piece| regex.is_match(&piece.text)) {
                wrong.push(format!("{place} ({name}): {text}\n    {}", pattern.instead));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
