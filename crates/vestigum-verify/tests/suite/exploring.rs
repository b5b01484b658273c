//! Exploring: what is left out changes no answer, and a counterexample is a playthrough that fails.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use proptest::prelude::*;

use vestigum_core::{Progress, Spec};
use vestigum_testing::asking::{GAME, ask, broken, fails};
use vestigum_testing::hunting::config;
use vestigum_testing::promises::{Dice, promising, promising_text};
use vestigum_testing::{Allowed, apply_all, play, sketch, values};
use vestigum_verify::explore::{Counterexample, Ending, Search, SearchBounds, explore_all, questions};

fn steps(ending: &Ending) -> Option<usize> {
    ending.broken().map(Counterexample::steps)
}

proptest! {
    #![proptest_config(config(60, vestigum_testing::kept_in!("exploring")))]

    /// However little time there is: what is said to be known is what more time says.
    #[test]
    fn little_time_gives_no_answer_that_more_time_takes_back(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }), millis in 0u64..50,
    ) {
        let spec = promising(&sketch);
        let asked = questions(&spec);
        let bounds = SearchBounds { states: 5_000, ..SearchBounds::default() };
        let explored = |budget| explore_all(&spec, &asked, &bounds, budget, None, &mut |_, _| {});
        let (quick, slow) = (explored(Some(Duration::from_millis(millis))), explored(None));
        for (question, (quick, slow)) in asked.iter().zip(quick.iter().zip(&slow)) {
            let (quick, slow) = (&quick.ending, &slow.ending);
            if quick.is_known() && slow.is_known() {
                prop_assert_eq!(quick.broken().is_some(), slow.broken().is_some(), "{}", question.name());
            }
            prop_assert_eq!(quick.is_known(), quick.why_open().is_none());
            prop_assert!(!matches!(quick, Ending::Holds(seen, _) if !seen.all || seen.stopped), "{}", question.name());
        }
    }

    #[test]
    fn what_cannot_matter_changes_no_answer(sketch in sketch(Allowed { launch_rules: true, priced_failures: true })) {
        let spec = promising(&sketch);
        let bounds = |reduce| SearchBounds { depth: 4, states: 20_000, reduce, ..SearchBounds::default() };
        for question in questions(&spec) {
            let reduced = Search::new(&spec, &question, bounds(true)).run();
            let plain = Search::new(&spec, &question, bounds(false)).run();
            if reduced.broken().is_none() && plain.broken().is_none() {
                prop_assert!(reduced.seen().states <= plain.seen().states);
            }
            prop_assert_eq!(steps(&reduced), steps(&plain), "{}", question.name());
            if let Ending::Broken(counterexample) = &reduced {
                fails(&spec, counterexample);
            }
        }
    }

    /// Whatever a promise may say: where it is broken, the playthrough is read, and fails at its last line, with the
    /// promise said again and not with something else.
    #[test]
    fn every_broken_promise_is_a_playthrough_that_fails(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        numbers in proptest::collection::vec(any::<u16>(), 200),
    ) {
        const AFTER: [&str; 10] =
            ["", "death", "restart", "game_over", "launch", "enter", "complete", "checkpoint", "abandon", "new_day"];
        let text = promising_text(&sketch);
        for (number, numbers) in numbers.chunks(40).enumerate() {
            let after = AFTER[usize::from(numbers[0]) % AFTER.len()];
            let marks = matches!(after, "death" | "restart" | "complete" | "checkpoint" | "abandon");
            let mut dice = Dice::new(&sketch, &numbers[1..], !after.is_empty(), marks);
            let holds = dice.bool(3);
            let when = if after.is_empty() { String::new() } else { format!("after = \"{after}\"\n") };
            let promise = format!("[[promise]]\nname = \"random {number}\"\nholds = \"{holds}\"\n{when}");
            // What the language does not take is no promise.
            let Ok(spec) = Spec::from_toml(&format!("{text}{promise}")) else { continue };
            let name = format!("random {number}");
            let question = questions(&spec).into_iter().find(|question| question.name() == name).expect("it is asked");
            let bounds = SearchBounds { depth: 4, states: 1_500, ..SearchBounds::default() };
            if let Ending::Broken(counterexample) = Search::new(&spec, &question, bounds).run() {
                fails(&spec, &counterexample);
                TOLD.fetch_add(1, Ordering::Relaxed);
                if counterexample.play().ends_with("expect false\n") && holds.contains("f") {
                    WORDLESS.fetch_add(1, Ordering::Relaxed);
                }
            }
        }
        let (told, wordless) = (TOLD.load(Ordering::Relaxed), WORDLESS.load(Ordering::Relaxed));
        prop_assert!(wordless * 2 <= told + 20, "{wordless} of {told} have no words of their own");
    }

    /// Quitting and coming back is worked out without an image where that is quicker.
    #[test]
    fn a_relaunch_without_images_is_one_through_them(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        steps in play(30),
    ) {
        let spec = Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("{errors}"));
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let suspended = game.suspend();
        let quick = suspended.relaunched();
        let through = Progress::launch(&spec, Some(&suspended.profile_image("a")), Some(&suspended.device_image()));
        let through = through.expect("it is its own image").progress;
        prop_assert_eq!(quick.place(), through.place());
        prop_assert_eq!(values(&sketch, &quick), values(&sketch, &through));
        prop_assert_eq!(quick.suspend().profile_image("a").digest(), through.suspend().profile_image("a").digest());
        prop_assert_eq!(quick.entries(), through.entries(), "the marks too");
    }
}

static TOLD: AtomicUsize = AtomicUsize::new(0);
static WORDLESS: AtomicUsize = AtomicUsize::new(0);

#[test]
fn a_record_that_is_set_is_broken_by_the_shortest_replay() {
    let promise = "[[promise]]\nname = \"no record falls\"\nnever_falls = [\"best_letters\"]\n";
    let play = broken(&(GAME.replace("max = \"letters\"", "set = \"letters\"") + promise), "no record falls");
    insta::assert_snapshot!(play, @r#"
    # Broken promise: no record falls
    # `best_letters[mill_lane]` fell from 10 to 0 at `complete`.
    # There is no shorter way than these 5 steps.

    playthrough "no record falls"
    launch
    enter mill_lane
      letters += 10                      # takes `letter`
      score += 10
    complete
    enter mill_lane
    complete
    expect best_letters[mill_lane] >= 10
    "#);
    let (_, ending) = ask(&(GAME.to_owned() + promise), "no record falls");
    assert!(ending.broken().is_none() && ending.seen().all, "{ending:?}");
}

#[test]
fn a_promise_about_a_moment_is_judged_there_and_told_with_numbers() {
    let promise = "[[promise]]\nname = \"death takes nothing\"\nafter = \"death\"\nholds = \"score == was(score)\"\n";
    let play = broken(&(GAME.to_owned() + promise), "death takes nothing");
    assert!(
        play.contains("# After `death` `score == was(score)` does not hold: score is 0, was(score) is 10."),
        "{play}"
    );
    assert!(play.ends_with("  death\nexpect score == 10\n"), "{play}");
    // The last death ends the run, and is judged before that.
    let promise =
        "[[promise]]\nname = \"death costs one\"\nafter = \"death\"\nholds = \"lanterns == was(lanterns) - 1\"\n";
    let (_, ending) = ask(&(GAME.to_owned() + promise), "death costs one");
    assert!(matches!(ending, Ending::Proved(_) | Ending::Holds(..)), "{ending:?}");
}

#[test]
fn what_must_always_hold_is_asked_of_a_fresh_profile_too() {
    let play = broken(&(GAME.to_owned() + "[[promise]]\nname = \"few\"\nholds = \"lanterns < 3\"\n"), "few");
    assert!(play.ends_with("launch\nexpect lanterns < 3\n"), "{play}");
}

#[test]
fn what_a_source_or_promise_says_is_checked() {
    let errors = Spec::from_toml(
        &(GAME.to_owned()
            + r#"
[[source]]
name = "kite"
in = ["attic"]
gives = { best_letters = 1, letters = "many", sco = 1 }
times = 0
lasts = "session"
after_failure = "entry"
[[promise]]
name = "nothing"
[[promise]]
name = "both"
never_falls = ["letters"]
holds = "score >= 0"
[[promise]]
name = "marks"
after = "enter"
holds = "score == entry(score)"
[[promise]]
name = "before"
holds = "was(score) <= score"
[[allow]]
code = "V003"
because = "I say so"
[[allow]]
code = "V102"
because = " "
"#),
    )
    .unwrap_err();
    let told: Vec<String> = errors.list().iter().map(|error| format!("{} {}", error.code, error.message)).collect();
    insta::assert_snapshot!(told.join("\n"), @"
    V004 no level is called `attic`
    V011 only rules write `best_letters`, so no source can give it
    V005 `letters` is of type int, and 'many' is not
    V004 no field is called `sco`
    V009 a source can be taken from 1 to 1000000 times
    V002 a source that lasts a session does not say `after_failure`
    V002 this promises nothing
    V002 a promise has either `never_falls` or `holds`
    V011 `entry(…)` means something only in rules and promises inside a level
    V011 `was(…)` means something only in a promise about a moment
    V002 `V003` is an error, and no error is allowed
    V002 say why it is meant; whoever reads this next will ask
    ");
}

/// Returns what a planted counterexample must say: the text of its expectation.
fn expected(promise: &str) -> String {
    let play = broken(&format!("{GAME}{promise}"), "p");
    play.lines().last().unwrap_or_default().to_owned()
}

#[test]
fn what_is_expected_is_the_promise_said_again() {
    let promise = |after: &str, holds: &str| {
        let after = if after.is_empty() { String::new() } else { format!("after = \"{after}\"\n") };
        expected(&format!("[[promise]]\nname = \"p\"\n{after}holds = \"{holds}\"\n"))
    };
    // A field over all its entries keeps no key, an entry that is meant gets the level's.
    assert_eq!(promise("complete", "sum(best_letters) < 20"), "expect sum(best_letters) < 20");
    assert_eq!(promise("complete", "best_letters == 0"), "expect best_letters[mill_lane] == 0");
    // Texts are left alone, and what names the level that was left is said as it was.
    assert_eq!(promise("complete", "level != 'mill_lane'"), "expect false");
    assert_eq!(promise("complete", "level == 'best_letters' and score >= 0"), "expect false");
    assert_eq!(promise("complete", "score > 10 * level_index or score == 0"), "expect score > 10 or score == 0");
    // The state before the moment is bound to its value, wherever it stands.
    assert_eq!(promise("death", "not (score < was(score))"), "expect not (score < 10)");
    assert_eq!(promise("death", "if(was(score) > 5, score >= 5, true)"), "expect score >= 5");
}

/// Every moment that happens is judged, whoever said it.
#[test]
fn a_game_over_that_follows_a_death_is_judged_too() {
    let promise = "[[promise]]\nname = \"p\"\nafter = \"game_over\"\nholds = \"lanterns == 1\"\n";
    let play = broken(&format!("{GAME}{promise}"), "p");
    assert!(play.ends_with("  death\n  death\n  death\nexpect lanterns == 1\n"), "{play}");
    // A death that ends the run is judged before that, and what it left cannot be read any more.
    let eased = GAME.replace("on.death = { add = -1 }", "on.death = { add = -1 }\non.game_over = \"reset\"");
    let promise = "[[promise]]\nname = \"p\"\nafter = \"death\"\nholds = \"lanterns > 0\"\n";
    let play = broken(&format!("{eased}{promise}"), "p");
    assert!(
        play.contains("# It is judged before the game over that follows, so its values are written out."),
        "{play}"
    );
    assert!(play.ends_with("  death\nexpect false\n"), "{play}");
    // What must always hold is judged where a player can see it: after the game over, not before it.
    let promise = "[[promise]]\nname = \"p\"\nholds = \"lanterns > 0\"\n";
    let (_, ending) = ask(&format!("{eased}{promise}"), "p");
    assert!(matches!(ending, Ending::Proved(_) | Ending::Holds(..)), "{ending:?}");
}

#[test]
fn the_first_launch_is_judged_like_any_other() {
    let counted = "[field.starts]\ntype = \"int\"\nlasts = \"profile\"\non.launch = { add = 1 }\n";
    let promise = "[[promise]]\nname = \"p\"\nafter = \"launch\"\nholds = \"starts == was(starts) + 2\"\n";
    let play = broken(&format!("{GAME}{counted}{promise}"), "p");
    assert!(play.ends_with("launch\nexpect starts == 2\n"), "{play}");
}
