//! Everything that two players on two devices can do in a small game, visit by visit, to the end: a promise that is said to hold holds in
//! all of it.
//!
//! Each step begins and ends in the menu. Two plays of one device that leave the same saves go on alike, so one of them is enough.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use proptest::prelude::*;
use rustc_hash::FxHashSet;
use xxhash_rust::xxh3::xxh3_128;

use vestigum_core::{Owner, Spec};
use vestigum_testing::hunting::config;
use vestigum_verify::explore::{Ending, Gap, Question, SearchBounds, explore_all, questions};
use vestigum_verify::playthrough::{MemorySaves, Saves, Script, Why, run};

use super::game::{Dice, Field, game};

/// The most plays of one game, and the most steps of one play.
const PLAYS: usize = 2_500;
const STEPS: usize = 12;

/// The steps that can be tried in a game.
fn steps(spec: &Spec, fields: &[Field]) -> Vec<String> {
    let mut steps: Vec<String> =
        ["new_run", "quit\nlaunch", "quit\nprofile ben\nlaunch", "quit\nprofile player\nlaunch"]
            .map(str::to_owned)
            .to_vec();
    let made = spec.made_levels().len() > 0;
    if made {
        steps.extend(["make_level".to_owned(), "remove_level made_1".to_owned()]);
    }
    let takes: Vec<String> = fields
        .iter()
        .filter(|field| field.has_source)
        .map(|field| format!("{} += 1\n", field.name))
        .chain([String::new()])
        .collect();
    let levels: &[&str] = if made { &["l0", "l1", "made_1"] } else { &["l0", "l1"] };
    for level in levels {
        for take in &takes {
            let ends = ["complete", "travel", "abandon", "death\ntravel", "crash\nlaunch", "quit\nlaunch"];
            steps.extend(ends.iter().map(|end| format!("enter {level}\n{take}{end}")));
        }
    }
    for field in fields.iter().filter(|field| field.played && !field.has_source) {
        let entry = if field.keyed { "[l0]" } else { "" };
        steps.extend((0..3).map(|value| format!("{}{entry} = {value}", field.name)));
    }
    if spec.model().merging.is_some() {
        let both = ["d0", "d1"].map(|device| format!("quit\nsync\ndevice {device}\nsync\nlaunch"));
        steps.extend(both);
    }
    steps
}

/// Returns what a play of these steps comes to.
enum Came {
    /// A promise is broken: its name, and what is wrong.
    Broken(String, String),
    /// A step cannot be done.
    Refused,
    /// The saves that it leaves.
    To(u128),
}

fn play(spec: &Spec, without: &str, played: &[&str]) -> Came {
    let first = if spec.model().merging.is_some() { "device d0\nlaunch" } else { "launch" };
    let text = format!("playthrough \"play\"\n{without}{first}\n{}\nquit\n", played.join("\n"));
    let Ok(script) = Script::from_text("play.play", &text, spec) else { return Came::Refused };
    let mut saves = MemorySaves::default();
    match run(spec, &script.playthroughs()[0], &mut saves).failure {
        // Of two devices only the one is seen that play ended on, so each play of theirs is one of its own.
        None if spec.model().merging.is_some() => Came::To(xxh3_128(text.as_bytes())),
        None => {
            let owners = [Owner::Device, Owner::Profile("player".into()), Owner::Profile("ben".into())];
            let newest = owners.map(|owner| saves.newest(&owner).unwrap().image.map(|image| image.digest()));
            Came::To(xxh3_128(format!("{newest:?}").as_bytes()))
        }
        Some(failure) => match failure.why {
            Why::Promise(broken) => {
                Came::Broken(broken.name, format!("line {}: {}\n{text}", failure.line, broken.what))
            }
            _ => Came::Refused,
        },
    }
}

static ASKED: AtomicUsize = AtomicUsize::new(0);
static ENDED: AtomicUsize = AtomicUsize::new(0);
static GAMES: AtomicUsize = AtomicUsize::new(0);

proptest! {
    #![proptest_config(config(12, vestigum_testing::kept_in!("walked")))]

    #[test]
    fn what_is_said_to_hold_holds_in_all_there_is(
        numbers in proptest::collection::vec(any::<u16>(), 120),
        millis in proptest::option::of(0u64..50),
    ) {
        let (text, fields) = game(&mut Dice(numbers.iter()));
        let Ok(spec) = Spec::from_toml(&text) else { return Ok(()) };
        let asked: Vec<_> = questions(&spec).into_iter().filter(Question::is_promise).collect();
        let bounds = SearchBounds { states: 3_000, ..SearchBounds::default() };
        let answers = explore_all(&spec, &asked, &bounds, millis.map(Duration::from_millis), None, &mut |_, _| {});
        let answers: Vec<(&str, Ending)> =
            asked.iter().map(Question::name).zip(answers.into_iter().map(|answer| answer.ending)).collect();
        ASKED.fetch_add(answers.len(), Ordering::Relaxed);
        let mut without: String = String::new();
        for (name, _) in answers.iter().filter(|(_, ending)| !ending.holds()) {
            without += &format!("without \"{name}\"\n");
        }
        let steps = steps(&spec, &fields);
        let (mut known, mut plays) = (FxHashSet::default(), 0);
        let mut frontier: Vec<Vec<usize>> = vec![Vec::new()];
        while !frontier.is_empty() && plays < PLAYS && frontier[0].len() < STEPS {
            let mut next = Vec::new();
            for path in &frontier {
                for step in 0..steps.len() {
                    let path: Vec<usize> = path.iter().copied().chain([step]).collect();
                    let played: Vec<&str> = path.iter().map(|step| steps[*step].as_str()).collect();
                    plays += 1;
                    match play(&spec, &without, &played) {
                        Came::Refused => {}
                        Came::To(saves) if known.insert(saves) => next.push(path),
                        Came::To(_) => {}
                        Came::Broken(name, told) => {
                            let (_, ending) = answers.iter().find(|(known, _)| *known == name).expect("it was asked");
                            let does = |word: &str| played.iter().any(|step| step.contains(word));
                            let named = ending.gaps().iter().any(|gap| match gap {
                                Gap::Players(_) => does("profile"),
                                Gap::Syncs(_) => does("sync"),
                                _ => false,
                            });
                            prop_assert!(named, "{name} is said to be {}:\n{told}\n{text}", ending.how_known());
                            without += &format!("without \"{name}\"\n");
                        }
                    }
                }
            }
            frontier = next;
        }
        ENDED.fetch_add(usize::from(frontier.is_empty()), Ordering::Relaxed);
        GAMES.fetch_add(1, Ordering::Relaxed);
        let (ended, games) = (ENDED.load(Ordering::Relaxed), GAMES.load(Ordering::Relaxed));
        prop_assert!(ended * 10 > games || games < 100, "only {ended} of {games} games were played to the end");
    }
}
