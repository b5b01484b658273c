//! Readers against damaged, mutated and made-up input: always an answer, never a panic.

mod support;

use proptest::collection::vec;
use proptest::prelude::*;
use support::{Allowed, apply_all, play, sketch, values};
use vestigum_core::playthrough::{MemoryShelf, Script, run};
use vestigum_core::{Image, Progress, Spec};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");
const EVENING: &str = include_str!("../../../demo/fellpost/plays/evening.play");

/// Pieces that readers trip over.
const PIECES: [&str; 24] = [
    "\"",
    "'",
    "[",
    "]",
    "{",
    "}",
    "(",
    "#",
    "=",
    ".",
    ",",
    "\n",
    "\\",
    "\u{0}",
    "é",
    "🜚",
    "per",
    "when",
    "on.death",
    "9999999999999999999999",
    "-",
    "nan",
    "[field.x]\n",
    "repeat 3\n",
];

#[derive(Clone, Debug)]
enum Edit {
    Cut(usize, usize),
    Insert(usize, usize),
    Double(usize, usize),
}

fn edits() -> impl Strategy<Value = Vec<Edit>> {
    let edit = prop_oneof![
        (any::<usize>(), 0usize..40).prop_map(|(at, len)| Edit::Cut(at, len)),
        (any::<usize>(), 0..PIECES.len()).prop_map(|(at, piece)| Edit::Insert(at, piece)),
        (any::<usize>(), 0usize..60).prop_map(|(at, len)| Edit::Double(at, len)),
    ];
    vec(edit, 1..6)
}

/// The text with some edits, at places where characters begin.
fn edited(text: &str, edits: &[Edit]) -> String {
    let mut chars: Vec<char> = text.chars().collect();
    for edit in edits {
        let len = chars.len().max(1);
        match *edit {
            Edit::Cut(at, count) => {
                let at = at % len;
                chars.drain(at..(at + count).min(chars.len()));
            }
            Edit::Insert(at, piece) => {
                let at = at % len;
                chars.splice(at..at, PIECES[piece].chars());
            }
            Edit::Double(at, count) => {
                let at = at % len;
                let piece: Vec<char> = chars[at..(at + count).min(chars.len())].to_vec();
                chars.splice(at..at, piece);
            }
        }
    }
    chars.into_iter().collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn an_edited_spec_is_taken_or_explained(edits in edits()) {
        match Spec::from_toml(&edited(FELLPOST, &edits)) {
            Ok(spec) => {
                // What was taken can be written and read again, and played.
                let again = Spec::from_toml(&spec.to_toml());
                prop_assert_eq!(again.map(|again| again.to_toml()).map_err(|errors| errors.to_string()), Ok(spec.to_toml()));
                let _ = Progress::fresh(&spec).enter("mill_lane");
            }
            Err(errors) => {
                prop_assert!(errors.errors() > 0);
                prop_assert!(!errors.to_string().is_empty() && !errors.render(true).is_empty());
                for finding in errors.list() {
                    let (line, column) = errors.position(finding);
                    prop_assert!(line > 0 && column > 0);
                }
            }
        }
    }

    #[test]
    fn an_edited_script_is_run_or_explained(edits in edits()) {
        let spec = Spec::from_toml(FELLPOST).expect("the demo is sound");
        match Script::from_text("a.play", &edited(EVENING, &edits), &spec) {
            Ok(script) => {
                for playthrough in script.playthroughs() {
                    let run = run(&spec, playthrough, &mut MemoryShelf::default());
                    prop_assert_eq!(run.timeline.rows.len(), run.statements);
                }
            }
            Err(errors) => prop_assert!(errors.errors() > 0 && !errors.to_string().is_empty()),
        }
    }

    #[test]
    fn edited_bytes_are_no_image_or_the_same(edits in edits(), noise in vec(any::<u8>(), 0..200)) {
        let spec = Spec::from_toml(FELLPOST).expect("the demo is sound");
        let image = Progress::fresh(&spec).suspend().profile_image("ada");
        let text = String::from_utf8(image.to_json()).expect("JSON is UTF-8");
        if let Ok(read) = Image::from_json(edited(&text, &edits).as_bytes()) {
            prop_assert_eq!(read, image);
        }
        prop_assert!(Image::from_json(&noise).is_err());
    }

    /// Whatever another version of a game saved: it is loaded, inside its limits, and the next save is clean.
    #[test]
    fn an_image_of_another_shape_is_loaded_and_reported(
        old in sketch(Allowed { launch_rules: false, priced_failures: true }),
        new in sketch(Allowed { launch_rules: false, priced_failures: true }),
        steps in play(30),
        later in play(10),
    ) {
        let spec = |sketch: &support::Sketch| Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("{errors}"));
        let (old_spec, new_spec) = (spec(&old), spec(&new));
        let mut game = Progress::fresh(&old_spec);
        apply_all(&old, &mut game, &steps);
        let (profile, device) = (game.suspend().profile_image("player"), game.suspend().device_image());
        let launched = Progress::launch(&new_spec, Some(&profile), Some(&device)).expect("it is the same game");
        prop_assert!(!launched.report.to_string().is_empty());
        let mut game = launched.progress;
        for (index, field) in new.fields.iter().enumerate().filter(|(_, field)| field.range) {
            for (name, value) in values(&new, &game).into_iter().filter(|(name, _)| name.split('[').next() == Some(&format!("f{index}"))) {
                prop_assert!(!value.is_filled() || (-40..=60).contains(&value.as_int()), "{} of {:?} is {}", name, field, value);
            }
        }
        let suspended = game.suspend();
        let again = Progress::launch(&new_spec, Some(&suspended.profile_image("player")), Some(&suspended.device_image()));
        prop_assert!(again.expect("its own image").report.is_clean(), "the second load has nothing to report");
        apply_all(&new, &mut game, &later);
    }
}
