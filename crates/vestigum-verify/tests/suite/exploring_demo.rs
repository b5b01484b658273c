//! The tools find the classic mistakes, find nothing once they are fixed, and raise no false alarm.

use std::fs;
use std::num::NonZero;
use std::path::{Path, PathBuf};

use vestigum::{History, Spec};
use vestigum_verify::explore::{SearchBounds, explore_with, questions};
use vestigum_verify::playthrough::{MemorySaves, Script, run};
use vestigum_verify::{asset_files, lint};

fn demo(folder: &str) -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(folder);
    let mut found: Vec<PathBuf> = fs::read_dir(&folder).unwrap().flatten().map(|entry| entry.path()).collect();
    found.retain(|path| path.is_dir());
    found.sort();
    assert!(found.len() >= 15, "{} is not what it was", folder.display());
    found
}

fn bounds(states: usize) -> SearchBounds {
    SearchBounds { states, ..SearchBounds::default() }
}

/// The questions that are answered with no, and the playthroughs that say so.
fn broken(spec: &Spec, states: usize) -> Vec<(String, String)> {
    let ask = |question: &vestigum_verify::explore::Question| {
        let answer = |threads| explore_with(spec, question, &bounds(states), NonZero::new(threads), &mut |_| {});
        let (one, two) = (answer(1), answer(2));
        assert_eq!(format!("{one:?}"), format!("{two:?}"), "the answer depends on the threads");
        let answered = two.broken().is_some() || two.seen().all;
        assert!(answered || !question.is_promise(), "`{}` is seen up to a bound only", question.name());
        two.broken().map(|counterexample| (question.name().to_owned(), counterexample.play().to_owned()))
    };
    questions(spec).iter().filter_map(ask).collect()
}

#[test]
fn each_classic_mistake_is_found_and_gone_when_it_is_mended() {
    for folder in demo("mistakes") {
        let read = |name: &str| fs::read_to_string(folder.join(name)).unwrap();
        let (mistake, fixed) = (read("mistake.toml"), read("fixed.toml"));
        let shown = folder.display();
        let expected = |what: &str| -> Vec<String> {
            let begin = format!("# {what}: ");
            mistake.lines().filter_map(|line| line.strip_prefix(&begin)).map(str::to_owned).collect()
        };
        let files = |inner: &str| asset_files(&folder.join("mistake.toml"), inner);
        let checked = lint::check_beside("mistake.toml", &mistake, None, &files);
        let codes: Vec<&str> = checked.findings.list().iter().map(|finding| finding.code).collect();
        for code in expected("check") {
            assert!(codes.contains(&code.as_str()), "{shown}: {code} was not found: {codes:?}");
        }
        assert!(!expected("check").is_empty() || codes.is_empty(), "{shown} has {codes:?} too");
        if let Some(spec) = &checked.spec {
            let found = broken(spec, 20_000);
            for question in expected("explore") {
                let (_, play) = found
                    .iter()
                    .find(|(name, _)| *name == question)
                    .unwrap_or_else(|| panic!("{shown}: `{question}` was not found to be broken: {found:?}"));
                let script = Script::from_text("broken.play", play, spec).unwrap_or_else(|errors| panic!("{errors}"));
                let run = run(spec, &script.playthroughs()[0], &mut MemorySaves::default());
                assert!(!run.passed(), "{shown}: it passes:\n{play}");
            }
        }
        let checked = lint::check_beside("fixed.toml", &fixed, None, &files);
        assert!(checked.findings.list().is_empty(), "{shown}, fixed: {}", checked.findings);
        assert_eq!(broken(&checked.spec.unwrap(), 20_000), [], "{shown}, fixed");
    }
}

#[test]
fn the_patterns_and_the_demo_raise_no_alarm() {
    let mut specs: Vec<PathBuf> =
        demo("patterns").iter().map(|folder| folder.join(folder.file_name().unwrap()).with_extension("toml")).collect();
    specs.push(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost/fellpost.toml"));
    for path in specs {
        let (name, text) = (path.display().to_string(), fs::read_to_string(&path).unwrap());
        let checked = match fs::read_to_string(path.with_extension("history.json")) {
            Ok(history) => lint::check_with_history(&name, &text, History::from_json("history", &history).unwrap()),
            Err(_) => lint::check(&name, &text),
        };
        assert!(checked.findings.list().is_empty(), "{}", checked.findings);
        assert_eq!(broken(&checked.spec.unwrap(), 10_000), [], "{}", path.display());
    }
}

/// `explore --deny open` passes on the demo, however long that takes.
#[test]
fn the_demo_leaves_nothing_open() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/fellpost/fellpost.toml");
    let (text, history) =
        (fs::read_to_string(&path).unwrap(), fs::read_to_string(path.with_extension("history.json")).unwrap());
    let history = History::from_json("history", &history).unwrap();
    let spec = Spec::from_named_toml_with_history("fellpost.toml", &text, history).unwrap();
    for question in &questions(&spec) {
        let ending = explore_with(&spec, question, &SearchBounds::default(), None, &mut |_| {});
        assert_eq!(ending.why_open(), None, "{}", question.name());
        assert!(ending.holds(), "{}", question.name());
    }
}
