//! A spec, its playthroughs, its promises and its migrations in a game's own `cargo test`.
//!
//! This crate is a dev-dependency of the game, and a file in its `tests/` has one line, which makes a test of the spec, of each
//! playthrough, of each promise and of the saves of older versions:
//!
//! ```text
//! vestigum_verify::tests!("progress.toml");
//! ```
//!
//! With functions, it has four tests:
//!
//! ```no_run
//! use vestigum_verify::testing::{assert_migrates, assert_plays, assert_promises, assert_sound};
//!
//! #[test]
//! fn the_spec_is_sound() {
//!     assert_sound("progress.toml");
//! }
//!
//! #[test]
//! fn every_playthrough_passes() {
//!     assert_plays("progress.toml");
//! }
//!
//! #[test]
//! fn every_promise_is_kept() {
//!     assert_promises("progress.toml");
//! }
//!
//! #[test]
//! fn no_update_loses_a_save() {
//!     assert_migrates("progress.toml");
//! }
//! # fn main() {}
//! ```
//!
//! A path is that of the spec; the history is read from beside it, as `vestigum check` does. What a test prints when it fails is
//! what the program `vestigum` prints.

use std::fs;
use std::path::Path;

use vestigum_core::{History, Severity, Spec};

use crate::explore::{Explored, Question, SearchBounds, explore_all, questions};
use crate::playthrough::{MemorySaves, Script, run};
use crate::proof::{FieldVerdict, Options, prove};
use crate::{asset_files, imported_file, lint, render, scripts_beside};

/// Says how long all promises together may be searched for what breaks them. Most need no search.
const TIME: std::time::Duration = std::time::Duration::from_secs(60);

/// The spec in a file, with its history if there is one beside it.
///
/// # Panics
/// If it cannot be read or is wrong, with the findings over its text.
///
/// # Example
///
/// ```no_run
/// let spec = vestigum_verify::testing::spec_in("progress.toml");   // with the history beside it
/// ```
#[track_caller]
pub fn spec_in(path: impl AsRef<Path>) -> Spec {
    let path = path.as_ref();
    let (name, text) = (path.display().to_string(), text_of(path));
    let spec = match history_of(path) {
        Some(history) => Spec::from_named_toml_with_history(&name, &text, history),
        None => Spec::from_named_toml(&name, &text),
    };
    spec.unwrap_or_else(|findings| panic!("{}", render(&findings, false)))
}

/// Asserts that `vestigum check --deny warnings` finds nothing.
///
/// # Panics
/// If it does, with the findings over the text.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_sound("progress.toml");
/// ```
#[track_caller]
pub fn assert_sound(path: impl AsRef<Path>) {
    let path = path.as_ref();
    let (name, text) = (path.display().to_string(), text_of(path));
    let checked = lint::check_beside(&name, &text, history_of(path), &|folder| asset_files(path, folder));
    let found = checked.findings.list().iter().any(|finding| match finding.severity {
        Severity::Error | Severity::Warning => true,
    });
    assert!(!found, "{}", render(&checked.findings, false));
}

/// Asserts that every playthrough passes which belongs to the spec: all `.play` files in its folder and in the folders beside it.
///
/// # Panics
/// If one fails, with what was expected, what was found and which statement changed it last; and if there is none.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_plays("progress.toml");
/// ```
#[track_caller]
pub fn assert_plays(path: impl AsRef<Path>) {
    let path = path.as_ref();
    let spec = spec_in(path);
    let scripts = scripts_beside(path).unwrap_or_else(|error| panic!("cannot read {}: {error}", path.display()));
    let mut failures = Vec::new();
    let mut count = 0;
    for file in &scripts {
        let name = file.display().to_string();
        let script = Script::from_text_with(&name, &text_of(file), &spec, &imported_file);
        let script = script.unwrap_or_else(|findings| panic!("{}", render(&findings, false)));
        for playthrough in script.playthroughs() {
            count += 1;
            if let Some(failure) = run(&spec, playthrough, &mut MemorySaves::default()).failure {
                failures.push(format!("{name}: {}\n{failure}", playthrough.name()));
            }
        }
    }
    assert!(count > 0, "there are no playthroughs beside {}", path.display());
    assert!(failures.is_empty(), "{} of {count} playthroughs failed\n\n{}", failures.len(), failures.join("\n\n"));
}

/// Asserts that one playthrough of a file passes.
///
/// # Panics
/// If it fails, as [`assert_plays`] tells it; and if the file has none of that name.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_play("progress.toml", "plays/deaths.play", "a death takes what the walk earned");
/// ```
#[track_caller]
pub fn assert_play(path: impl AsRef<Path>, file: impl AsRef<Path>, playthrough: &str) {
    let (spec, file) = (spec_in(path), file.as_ref());
    let name = file.display().to_string();
    let script = Script::from_text_with(&name, &text_of(file), &spec, &imported_file);
    let script = script.unwrap_or_else(|findings| panic!("{}", render(&findings, false)));
    let found = script.playthroughs().iter().find(|known| known.name() == playthrough);
    let found = found.unwrap_or_else(|| panic!("{name} has no playthrough \"{playthrough}\""));
    if let Some(failure) = run(&spec, found, &mut MemorySaves::default()).failure {
        panic!("{name}: {playthrough}\n{failure}");
    }
}

/// Asserts that one promise of the spec is not broken.
///
/// # Panics
/// If it is, with the shortest play that breaks it; and if the spec has none of that name.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_promise("progress.toml", "a replay never lowers a record");
/// ```
#[track_caller]
pub fn assert_promise(path: impl AsRef<Path>, promise: &str) {
    let (asked, answers) = answered(path, promise);
    tell_open(&asked, &answers);
    let broken: Vec<String> = broken(&answers).collect();
    assert!(broken.is_empty(), "{}", broken.join("\n"));
}

/// Asserts that one promise of the spec is not broken, and that the answer is known and leaves nothing out: `vestigum explore --deny open`.
///
/// # Panics
/// As [`assert_promise`]; and if the answer is open, with the reason.
#[track_caller]
pub fn assert_promise_known(path: impl AsRef<Path>, promise: &str) {
    let (asked, answers) = answered(path, promise);
    let failed: Vec<String> = broken(&answers).chain(open(&asked, &answers)).collect();
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}

/// Asserts that no promise of the spec is broken, and nothing that is asked of every game: what `vestigum explore` asks, within a minute.
///
/// # Panics
/// If one is broken, with the shortest play that breaks it.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_promises("progress.toml");
/// ```
#[track_caller]
pub fn assert_promises(path: impl AsRef<Path>) {
    let spec = spec_in(path);
    let asked: Vec<_> = questions(&spec).into_iter().filter(|question| question.allowed(&spec).is_none()).collect();
    let answers = answers(&spec, &asked);
    tell_open(&asked, &answers);
    let broken: Vec<String> = broken(&answers).collect();
    assert!(broken.is_empty(), "{} of {} are broken\n\n{}", broken.len(), asked.len(), broken.join("\n"));
}

/// Asserts that no promise of the spec is broken, nor what is asked of every game, and that all answers are known and leave nothing out:
/// `vestigum explore --deny open`.
///
/// # Panics
/// As [`assert_promises`]; and if an answer is open, with the reason.
#[track_caller]
pub fn assert_promises_known(path: impl AsRef<Path>) {
    let spec = spec_in(path);
    let asked: Vec<_> = questions(&spec).into_iter().filter(|question| question.allowed(&spec).is_none()).collect();
    let answers = answers(&spec, &asked);
    let failed: Vec<String> = broken(&answers).chain(open(&asked, &answers)).collect();
    assert!(failed.is_empty(), "{} of {} are broken or open\n\n{}", failed.len(), asked.len(), failed.join("\n"));
}

/// Asks one promise of a spec.
#[track_caller]
fn answered(path: impl AsRef<Path>, promise: &str) -> (Vec<Question>, Vec<Explored>) {
    let spec = spec_in(path);
    let asked: Vec<_> = questions(&spec).into_iter().filter(|question| question.is_of(promise)).collect();
    assert!(!asked.is_empty(), "the spec has no promise \"{promise}\"");
    let answers = answers(&spec, &asked);
    (asked, answers)
}

fn answers(spec: &Spec, asked: &[Question]) -> Vec<Explored> {
    explore_all(spec, asked, &SearchBounds::default(), Some(TIME), None, &mut |_, _| {})
}

/// The promises that are broken, each with the play that breaks it.
fn broken(answers: &[Explored]) -> impl Iterator<Item = String> {
    answers.iter().filter_map(|answer| answer.ending.broken()).map(|counterexample| {
        format!("{}: {}\n\n{}", counterexample.name(), counterexample.what(), counterexample.play())
    })
}

/// The answers that are open, each with the reason.
fn open(asked: &[Question], answers: &[Explored]) -> impl Iterator<Item = String> {
    asked.iter().zip(answers).filter_map(|(question, answer)| {
        let why = answer.ending.why_open()?;
        Some(format!("{}: {why}", question.name()))
    })
}

/// A test has only two answers, so what is open is said where its output stands.
fn tell_open(asked: &[Question], answers: &[Explored]) {
    open(asked, answers).for_each(|told| println!("{told}"));
}

/// Asserts that saves of every version which shipped come to this one and lose nothing that no step drops: `vestigum migrate --prove`.
///
/// # Panics
/// If something is lost, with its name and its version; and if there is no history beside the spec.
///
/// # Example
///
/// ```no_run
/// vestigum_verify::testing::assert_migrates("progress.toml");
/// ```
#[track_caller]
pub fn assert_migrates(path: impl AsRef<Path>) {
    let path = path.as_ref();
    let spec = spec_in(path);
    assert!(spec.history().is_some_and(|history| !history.is_empty()), "there is no history beside {}", path.display());
    let mut lost = Vec::new();
    for version in &prove(&spec, &Options::default()).versions {
        let number = version.version;
        lost.extend(version.failures.iter().map(|failure| format!("version {number}: {failure}")));
        for field in version.lost() {
            let name = &field.field;
            if field.verdict == FieldVerdict::Lost {
                lost.push(format!("version {number}: `{name}` is lost, and no step drops it"));
            }
            lost.extend(field.lost.iter().map(|part| format!("version {number}: `{part}` is lost")));
        }
    }
    assert!(lost.is_empty(), "{}", lost.join("\n"));
}

#[track_caller]
fn text_of(path: &Path) -> String {
    fs::read_to_string(path).unwrap_or_else(|error| panic!("cannot read {}: {error}", path.display()))
}

#[track_caller]
fn history_of(spec: &Path) -> Option<History> {
    let path = spec.with_extension("history.json");
    let text = path.exists().then(|| text_of(&path))?;
    let history = History::from_json(&path.display().to_string(), &text);
    Some(history.unwrap_or_else(|findings| panic!("{}", render(&findings, false))))
}
