//! A game is played, gets a field more in its next version, and is played on: a promise that is said to hold is broken by no save of
//! the first version, unless the answer names older saves.

use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;

use vestigum_core::{Image, Owner, Spec};
use vestigum_testing::hunting::config;
use vestigum_testing::updates::frozen;
use vestigum_verify::explore::{Ending, Gap, Question, SearchBounds, explore_all, questions};
use vestigum_verify::playthrough::{MemorySaves, Saves, Script, run};

use super::game::{Dice, game};
use super::{broken, broken_from, walk};

/// The game with a field more, and promises that tie it to the others.
fn grown(dice: &mut Dice<'_>, text: &str) -> String {
    let lasts = dice.one_of(&["profile", "profile", "device"]);
    let does = dice.one_of(&["add = 1", "max = 1", "max = \"b\"", "set = \"a\"", "set = 2"]);
    let moment = dice.one_of(&["complete", "death", "launch", "abandon"]);
    let default = dice.roll(2);
    let (head, promises) = text.split_once("[[promise]]").unwrap_or((text, ""));
    let head = head.replacen("id = \"fellpost\"", "id = \"fellpost\"\nversion = 2", 1);
    // Often it has the rules of another field: both are equal, but for what older saves have.
    let twin = head.split("[field.b]").nth(1).and_then(|rest| rest.split('[').next());
    let field = match twin.filter(|_| dice.roll(2) == 0) {
        Some(rules) => format!("[field.d]{rules}"),
        None => format!(
            "[field.d]\ntype = \"int\"\ndefault = {default}\nlasts = \"{lasts}\"\nafter_failure = \"keep\"\n\
             written_by = \"rules\"\non.{moment} = {{ {does} }}\n"
        ),
    };
    let mut grown = head + &field;
    for number in 0..4 {
        let other = dice.one_of(&["a", "b", "b", "c"]);
        let claim = match dice.roll(6) {
            0 => "never_falls = [\"d\"]".to_owned(),
            1 => format!("holds = \"d <= {other}\""),
            2 => format!("holds = \"d == {other} or d >= 1\""),
            3 => format!("holds = \"{other} <= d\""),
            4 => format!("holds = \"d == {other}\""),
            _ => format!("holds = \"d <= {}\"", dice.roll(4)),
        };
        grown.push_str(&format!("[[promise]]\nname = \"q{number}\"\n{claim}\n"));
    }
    if !promises.is_empty() {
        grown.push_str("[[promise]]");
        grown.push_str(promises);
    }
    grown
}

/// The saves that a walk leaves: of the player, and of the device.
fn saves_of(spec: &Spec, lines: &mut Vec<String>, without: &[String]) -> Vec<(&'static str, Image)> {
    lines.push("quit".into());
    // What is broken by the first version is not asked here.
    if broken(spec, lines, without).is_some() {
        return Vec::new();
    }
    let without: String = without.iter().map(|name| format!("without \"{name}\"\n")).collect();
    let text = format!("playthrough \"old\"\n{without}{}\n", lines.join("\n"));
    let Ok(script) = Script::from_text("old.play", &text, spec) else { return Vec::new() };
    let mut saves = MemorySaves::default();
    run(spec, &script.playthroughs()[0], &mut saves);
    let mut of = |owner: Owner| saves.newest(&owner).ok().and_then(|newest| newest.image);
    let player = of(Owner::Profile("player".into())).map(|image| ("player.json", image));
    player.into_iter().chain(of(Owner::Device).map(|image| ("device.json", image))).collect()
}

static ASKED: AtomicUsize = AtomicUsize::new(0);
static HELD: AtomicUsize = AtomicUsize::new(0);
static CAME: AtomicUsize = AtomicUsize::new(0);
static NAMED: AtomicUsize = AtomicUsize::new(0);

proptest! {
    #![proptest_config(config(120, vestigum_testing::kept_in!("walked_older")))]

    #[test]
    fn what_is_said_to_hold_is_broken_by_no_older_save(
        numbers in proptest::collection::vec(any::<u16>(), 140),
        walks in proptest::collection::vec(proptest::collection::vec(any::<u16>(), 120), 6),
    ) {
        let mut dice = Dice(numbers.iter());
        let (text, fields) = game(&mut dice);
        let Ok(old) = Spec::from_toml(&text) else { return Ok(()) };
        let grown = grown(&mut dice, &text);
        let Ok(spec) = Spec::from_named_toml_with_history("spec.toml", &grown, frozen(&[&old])) else { return Ok(()) };
        let asked: Vec<_> = questions(&spec).into_iter().filter(Question::is_promise).collect();
        let bounds = SearchBounds { states: 3_000, ..SearchBounds::default() };
        let answers = explore_all(&spec, &asked, &bounds, None, None, &mut |_, _| {});
        let answers: Vec<(&str, Ending)> =
            asked.iter().map(Question::name).zip(answers.into_iter().map(|answer| answer.ending)).collect();
        ASKED.fetch_add(answers.len(), Ordering::Relaxed);
        HELD.fetch_add(answers.iter().filter(|(_, ending)| ending.holds()).count(), Ordering::Relaxed);
        let named = |ending: &Ending, of: fn(&Gap) -> bool| ending.gaps().iter().any(of);
        let mut without: Vec<String> =
            answers.iter().filter(|(_, ending)| !ending.holds()).map(|(name, _)| (*name).to_owned()).collect();
        let all_of_first: Vec<String> = questions(&old).iter().filter(|of| of.is_promise()).map(|of| of.name().to_owned()).collect();
        for numbers in &walks {
            let mut dice = Dice(numbers.iter());
            let mut first = walk(&mut dice, &old, &fields);
            let saves = saves_of(&old, &mut first, &all_of_first);
            CAME.fetch_add(saves.len(), Ordering::Relaxed);
            let mut second = walk(&mut dice, &spec, &fields);
            second.retain(|line| line != "device d0");
            while let Some((name, told)) = broken_from(&spec, &saves, &mut second, &without) {
                let (_, ending) = answers.iter().find(|(known, _)| *known == name).expect("it was asked");
                let plays = |word: &str| second.iter().any(|line| line.split('\n').any(|line| line.starts_with(word)));
                let is_older = named(ending, |gap| matches!(gap, Gap::OlderSaves(_)));
                let is_named = is_older
                    || named(ending, |gap| matches!(gap, Gap::Players(_))) && plays("profile")
                    || named(ending, |gap| matches!(gap, Gap::Syncs(_))) && plays("sync");
                NAMED.fetch_add(usize::from(is_older), Ordering::Relaxed);
                prop_assert!(is_named, "{name} is said to be {}:\n{told}\n{grown}", ending.how_known());
                without.push(name);
            }
        }
        let [asked, held, came, named] = [&ASKED, &HELD, &CAME, &NAMED].map(|count| count.load(Ordering::Relaxed));
        let seen = held * 10 > asked && came > 50 && named > 0;
        prop_assert!(asked < 300 || seen, "{held} of {asked} are said to hold, {came} saves, {named} named older saves");
    }
}
