//! What an answer says is compared with what players do: two of them, on two devices that sync, who make levels and remove them, redeem
//! codes, crash and come back.
//!
//! The walks share nothing with a search: they are statements of a playthrough, and go through saves, launches and merges. A promise that
//! is said to hold is broken by none of them, unless by something that the answer names.

mod exhausted;
mod game;
mod older;

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use proptest::prelude::*;

use vestigum_core::{Image, Spec};
use vestigum_testing::hunting::config;
use vestigum_verify::explore::{Ending, Gap, Question, SearchBounds, explore_all, questions};
use vestigum_verify::playthrough::{MemorySaves, Script, Why, run};

use game::{Dice, Field, game};

/// A random walk, line by line; each source is taken once at most, so that no walk takes more than there is.
fn walk(dice: &mut Dice<'_>, spec: &Spec, fields: &[Field]) -> Vec<String> {
    let merges = spec.model().merging.is_some();
    let mut lines: Vec<String> = if merges { vec!["device d0".into()] } else { Vec::new() };
    lines.push("launch".into());
    let mut taken: Vec<&str> = Vec::new();
    for _ in 0..24 {
        let levels = ["l0", "l1", "made_1"];
        lines.push(match dice.roll(17) {
            0 => format!("enter {}", dice.one_of(&levels)),
            1..=3 => format!("enter {}\ncomplete", dice.one_of(&levels)),
            4 => "complete".into(),
            5 => "death".into(),
            6 => dice.one_of(&["abandon", "travel", "restart", "new_run"]).into(),
            7 => "quit\nlaunch".into(),
            8 => "crash\nlaunch".into(),
            9 => format!("quit\nprofile {}\nlaunch", dice.one_of(&["player", "ben"])),
            // Both play at once, in one process.
            10 => format!("profile {}\nlaunch", dice.one_of(&["player", "ben"])),
            11 if merges => "quit\nsync\nlaunch".into(),
            12 if merges => format!("quit\nsync\ndevice {}\nsync\nlaunch", dice.one_of(&["d0", "d1"])),
            13 => dice.one_of(&["make_level", "remove_level made_1"]).into(),
            _ => {
                let field = &fields[dice.roll(fields.len())];
                let name = field.name;
                match (field.played, field.has_source) {
                    (true, true) if !taken.contains(&name) => {
                        taken.push(name);
                        format!("{name} += 1")
                    }
                    (true, false) if field.keyed => format!("{name}[l0] = {}", dice.roll(4)),
                    (true, false) => format!("{name} = {}", dice.roll(4)),
                    (true, true) | (false, _) => format!("enter {}", dice.one_of(&levels)),
                }
            }
        });
    }
    lines
}

/// Runs a walk and says what it breaks, after what cannot be done in it was left out.
fn broken(spec: &Spec, lines: &mut Vec<String>, without: &[String]) -> Option<(String, String)> {
    broken_from(spec, &[], lines, without)
}

/// Runs a walk that goes on from saves, which have names.
fn broken_from(
    spec: &Spec,
    saves: &[(&'static str, Image)],
    lines: &mut Vec<String>,
    without: &[String],
) -> Option<(String, String)> {
    let without: String = without.iter().map(|name| format!("without \"{name}\"\n")).collect();
    let imports: String = saves.iter().map(|(name, _)| format!("import \"{name}\"\n")).collect();
    // The device that a walk begins on is the one that has the saves.
    let device = if saves.is_empty() || spec.model().merging.is_none() { "" } else { "device d0\n" };
    let head = format!("playthrough \"walk\"\n{without}{device}{imports}");
    let saves = saves.to_vec();
    let files = move |_: &str, path: &str| match saves.iter().find(|(name, _)| *name == path) {
        Some((_, image)) => Ok(image.to_json()),
        None => Err(format!("there is no {path}").into()),
    };
    loop {
        let body = lines.iter().map(|line| format!("{line}\n")).collect::<String>();
        let play = format!("{head}{body}");
        let refused = match Script::from_text_with("walk.play", &play, spec, &files) {
            Err(errors) => errors.position(&errors.list()[0]).0,
            Ok(script) => {
                let failure = run(spec, &script.playthroughs()[0], &mut MemorySaves::default()).failure?;
                match failure.why {
                    Why::Promise(broken) => {
                        let (name, what) = (broken.name, broken.what);
                        return Some((name, format!("line {}: {what}\n{play}", failure.line)));
                    }
                    _ => failure.line,
                }
            }
        };
        // The step in which that line stands.
        let mut line = head.lines().count();
        let at = lines.iter().position(|step| {
            line += step.lines().count();
            refused <= line
        });
        assert!(refused > head.lines().count(), "the saves can be imported:\n{play}");
        lines.remove(at.unwrap_or_default());
    }
}

static ASKED: AtomicUsize = AtomicUsize::new(0);
static HELD: AtomicUsize = AtomicUsize::new(0);
static NAMED: AtomicUsize = AtomicUsize::new(0);

proptest! {
    #![proptest_config(config(150, vestigum_testing::kept_in!("walked")))]

    #[test]
    fn what_is_said_to_hold_is_broken_by_nobody(
        numbers in proptest::collection::vec(any::<u16>(), 120),
        walks in proptest::collection::vec(proptest::collection::vec(any::<u16>(), 60), 8),
        millis in proptest::option::of(0u64..50),
    ) {
        let (text, fields) = game(&mut Dice(numbers.iter()));
        // What the language does not take is no game.
        let Ok(spec) = Spec::from_toml(&text) else { return Ok(()) };
        let asked: Vec<_> = questions(&spec).into_iter().filter(Question::is_promise).collect();
        let bounds = SearchBounds { states: 3_000, ..SearchBounds::default() };
        let answers = explore_all(&spec, &asked, &bounds, millis.map(Duration::from_millis), None, &mut |_, _| {});
        let answers: Vec<(&str, Ending)> =
            asked.iter().map(Question::name).zip(answers.into_iter().map(|answer| answer.ending)).collect();
        ASKED.fetch_add(answers.len(), Ordering::Relaxed);
        HELD.fetch_add(answers.iter().filter(|(_, ending)| ending.holds()).count(), Ordering::Relaxed);
        // Nothing is claimed of the others.
        let mut without: Vec<String> =
            answers.iter().filter(|(_, ending)| !ending.holds()).map(|(name, _)| (*name).to_owned()).collect();
        for numbers in &walks {
            let mut lines = walk(&mut Dice(numbers.iter()), &spec, &fields);
            while let Some((name, told)) = broken(&spec, &mut lines, &without) {
                let (_, ending) = answers.iter().find(|(known, _)| *known == name).expect("it was asked");
                let plays = |word: &str| lines.iter().any(|line| line.split('\n').any(|line| line.starts_with(word)));
                let named = ending.gaps().iter().any(|gap| match gap {
                    Gap::Players(_) => plays("profile"),
                    Gap::Syncs(_) => plays("sync"),
                    _ => false,
                });
                prop_assert!(named, "{name} is said to be {}:\n{told}\n{text}", ending.how_known());
                NAMED.fetch_add(1, Ordering::Relaxed);
                without.push(name);
            }
        }
        let (asked, held) = (ASKED.load(Ordering::Relaxed), HELD.load(Ordering::Relaxed));
        prop_assert!(held * 10 > asked || asked < 300, "only {held} of {asked} are said to hold");
    }
}
