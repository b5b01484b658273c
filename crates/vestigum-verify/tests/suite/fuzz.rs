//! Readers against mutated input: always an answer, never a panic.
//!
//! Each reader has a corpus in `tests/corpus`: documents to begin with, and every input that was ever answered wrongly.
//! All of it is read first; then documents are drawn from it, cut up, glued together and read, for a second each, or for
//! as long as `VESTIGUM_FUZZ_SECONDS` says. An input that fails is put into the corpus before the test fails, so that
//! it is tried for ever after.

use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use vestigum_core::{History, Image, Owner, Progress, Spec};
use vestigum_verify::playthrough::{MemorySaves, Script, run};

const FELLPOST: &str = include_str!("../../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}
const HISTORY: &str = include_str!("../../../../demo/fellpost/fellpost.history.json");
/// Saves of players of the first two versions.
const OLDER: [&[u8]; 3] = [
    include_bytes!("../../../../demo/fellpost/shipped/v1/saves/profiles/ada/3.json"),
    include_bytes!("../../../../demo/fellpost/shipped/v2/saves/profiles/cora/3.json"),
    include_bytes!("../../../../demo/fellpost/shipped/v2/saves/device/2.json"),
];

/// Loads an image, whatever it holds, and finds nothing more to report about what came of it.
fn loaded(spec: &Spec, image: &Image) {
    let (profile, device) = match image.owner {
        Owner::Profile(_) => (Some(image), None),
        Owner::Device => (None, Some(image)),
    };
    if let Ok(launched) = Progress::launch(spec, profile, device) {
        let again = launched.progress.suspend();
        let again = Progress::launch(spec, Some(&again.profile_image("ada")), Some(&again.device_image()));
        assert!(again.unwrap().report.is_clean(), "the second load has nothing to report");
    }
}

/// Pieces that readers trip over.
const PIECES: [&str; 30] = [
    "\"",
    "'",
    "[",
    "]",
    "{",
    "}",
    "(",
    ")",
    "#",
    "=",
    ".",
    ",",
    "\n",
    "\r\n",
    "\\",
    "\u{0}",
    "\u{feff}",
    "é",
    "🜚",
    "per",
    "when",
    "on.death",
    "9999999999999999999999",
    "-9223372036854775808",
    "1e999",
    "-",
    "nan",
    "[field.x]\n",
    "repeat 3\n",
    "damage all\n",
];

#[derive(Clone, Debug)]
enum Edit {
    Cut(usize, usize),
    Insert(usize, usize),
    Double(usize, usize),
    Flip(usize, u8),
    /// The end of another document of the corpus.
    Splice(usize, usize, usize),
}

fn edits() -> impl Strategy<Value = (usize, Vec<Edit>)> {
    let at = any::<usize>;
    let edit = prop_oneof![
        (at(), 0usize..60).prop_map(|(at, len)| Edit::Cut(at, len)),
        (at(), 0..PIECES.len()).prop_map(|(at, piece)| Edit::Insert(at, piece)),
        (at(), 0usize..90).prop_map(|(at, len)| Edit::Double(at, len)),
        (at(), 0u8..8).prop_map(|(at, bit)| Edit::Flip(at, bit)),
        (at(), at(), at()).prop_map(|(at, other, from)| Edit::Splice(at, other, from)),
    ];
    (at(), vec(edit, 1..7))
}

fn edited(corpus: &[Vec<u8>], (base, edits): &(usize, Vec<Edit>)) -> Vec<u8> {
    let mut bytes = corpus[base % corpus.len()].clone();
    for edit in edits {
        let len = bytes.len().max(1);
        let within =
            |at: usize, count: usize, bytes: &[u8]| (at % len).min(bytes.len())..(at % len + count).min(bytes.len());
        match *edit {
            Edit::Cut(at, count) => drop(bytes.drain(within(at, count, &bytes))),
            Edit::Insert(at, piece) => drop(bytes.splice(within(at, 0, &bytes), PIECES[piece].bytes())),
            Edit::Double(at, count) => {
                let piece = bytes[within(at, count, &bytes)].to_vec();
                bytes.splice(within(at, 0, &bytes), piece);
            }
            Edit::Flip(at, bit) => {
                if let Some(byte) = bytes.get_mut(at % len) {
                    *byte ^= 1 << bit;
                }
            }
            Edit::Splice(at, other, from) => {
                let other = &corpus[other % corpus.len()];
                bytes.truncate(at % len);
                bytes.extend_from_slice(&other[from % other.len().max(1)..]);
            }
        }
    }
    bytes
}

/// Tries a reader on its corpus, and on what becomes of it.
fn fuzz(reader: &str, more: Vec<Vec<u8>>, read: impl Fn(&[u8])) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus").join(reader);
    let mut paths: Vec<PathBuf> = fs::read_dir(&folder).unwrap().flatten().map(|entry| entry.path()).collect();
    paths.sort();
    assert!(paths.len() >= 5, "the corpus of the {reader} reader is gone");
    let mut corpus: Vec<Vec<u8>> = paths.iter().map(|path| fs::read(path).unwrap()).collect();
    corpus.extend(more);
    for (bytes, path) in corpus.iter().zip(&paths) {
        let answered = catch_unwind(AssertUnwindSafe(|| read(bytes)));
        assert!(answered.is_ok(), "{} is answered wrongly", path.display());
    }
    let seconds = std::env::var("VESTIGUM_FUZZ_SECONDS").ok().and_then(|seconds| seconds.parse().ok()).unwrap_or(1);
    let until = Instant::now() + Duration::from_secs(seconds);
    // The same inputs each time for the same duration, more of them for a longer one.
    let (mut runner, edits) = (TestRunner::deterministic(), edits());
    let mut tried = 0u64;
    while Instant::now() < until {
        let input = edited(&corpus, &edits.new_tree(&mut runner).unwrap().current());
        tried += 1;
        if catch_unwind(AssertUnwindSafe(|| read(&input))).is_err() {
            let found = folder.join(format!("found-{tried}"));
            fs::write(&found, &input).unwrap();
            panic!("input {tried} is answered wrongly; it is kept in {}", found.display());
        }
    }
    println!("{reader}: {tried} inputs");
}

#[test]
fn the_spec_reader_answers_every_input() {
    let history = History::from_json("history", HISTORY).unwrap();
    fuzz("spec", vec![fellpost().into()], |bytes| match Spec::from_toml(&String::from_utf8_lossy(bytes)) {
        Ok(spec) => {
            // As an update of what has shipped it takes the older saves, or says what it would lose.
            let text = String::from_utf8_lossy(bytes);
            match Spec::from_named_toml_with_history("a.toml", &text, history.clone()) {
                Ok(spec) => OLDER.iter().for_each(|bytes| loaded(&spec, &Image::from_json(bytes).unwrap())),
                Err(errors) => assert!(errors.errors() > 0 && !errors.to_string().is_empty()),
            }
            // What was taken can be written and read again, and played.
            let again = Spec::from_toml(&spec.to_toml()).unwrap_or_else(|errors| panic!("{errors}"));
            assert_eq!(again.to_toml(), spec.to_toml());
            let mut game = Progress::fresh(&spec);
            let first = spec.levels().next().map(|level| level.id().to_owned());
            let _ = first.map(|level| game.enter_any(&level, None));
            assert!(Image::from_json(&game.suspend().profile_image("ada").to_json()).is_ok());
        }
        Err(errors) => {
            assert!(
                errors.errors() > 0
                    && !errors.to_string().is_empty()
                    && !vestigum_verify::render(&errors, true).is_empty()
            );
            for finding in errors.list() {
                let (line, column) = errors.position(finding);
                assert!(line > 0 && column > 0);
            }
        }
    });
}

#[test]
fn the_playthrough_reader_answers_every_input() {
    let spec = Spec::from_toml(fellpost()).unwrap();
    let evening = include_bytes!("../../../../demo/fellpost/plays/evening.play").to_vec();
    fuzz("playthrough", vec![evening], |bytes| {
        match Script::from_text("a.play", &String::from_utf8_lossy(bytes), &spec) {
            Ok(script) => {
                for playthrough in script.playthroughs().iter().filter(|playthrough| playthrough.statements() < 10_000)
                {
                    let run = run(&spec, playthrough, &mut MemorySaves::default());
                    assert_eq!(run.timeline.rows.len(), run.statements);
                }
            }
            Err(errors) => assert!(errors.errors() > 0 && !errors.to_string().is_empty()),
        }
    });
}

/// Whatever passes for an image holds what one of the corpus holds, and can be loaded.
#[test]
fn the_image_reader_answers_every_input() {
    let spec = Spec::from_toml_with_history(FELLPOST, HISTORY).unwrap();
    let mut game = Progress::fresh(&spec);
    game.enter("mill_lane").unwrap();
    game.checkpoint("ford").unwrap();
    let suspended = game.suspend();
    let mut images = vec![suspended.profile_image("ada"), suspended.device_image()];
    images.extend(OLDER.map(|bytes| Image::from_json(bytes).unwrap()));
    let bytes = images.iter().map(Image::to_json).collect();
    fuzz("image", bytes, |bytes| {
        if let Ok(image) = Image::from_json(bytes) {
            assert!(images.contains(&image), "an edited image was taken: {image:?}");
        }
        // Even what nobody can vouch for is loaded or refused, and brought inside its limits.
        if let Ok(image) = Image::decode_unverified(bytes) {
            loaded(&spec, &image);
        }
    });
}

#[test]
fn the_history_reader_answers_every_input() {
    fuzz("history", vec![HISTORY.into()], |bytes| {
        match History::from_json("a.json", &String::from_utf8_lossy(bytes)) {
            Ok(history) => assert!(History::from_json("a.json", &history.to_json()).is_ok()),
            Err(errors) => assert!(errors.errors() == 1 && !errors.to_string().is_empty()),
        }
    });
}
