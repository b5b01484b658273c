//! What is proved by the rules alone is never broken by a search.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;

use vestigum_core::{Moment, Spec};
use vestigum_testing::asking::fails;
use vestigum_testing::hunting::config;
use vestigum_testing::promises::{Dice, promising_text};
use vestigum_testing::{Allowed, Sketch, sketch};
use vestigum_verify::explore::{Counterexample, Ending, Search, SearchBounds, explore_with, questions};
use vestigum_verify::playthrough::{MemorySaves, Script, run};

/// A condition of the kind that is often true of a rule, and as often nearly.
fn likely(dice: &mut Dice<'_>, before: bool, marks: bool) -> Option<String> {
    let field = dice.read("int")?;
    let name = field.trim_start_matches("was(").trim_start_matches("entry(").trim_start_matches("checkpoint(");
    let name = name.trim_end_matches(')').to_owned();
    let number = dice.roll(9) as i64 - 4;
    let old = match dice.roll(4) {
        1 if marks => format!("entry({name})"),
        2 if marks => format!("checkpoint({name})"),
        _ if before => format!("was({name})"),
        _ => dice.int(0),
    };
    let other = dice.int(1);
    let sign = ["==", ">=", "<=", "!=", ">", "<"][dice.roll(6)];
    Some(match dice.roll(7) {
        0 | 1 => format!("{name} {sign} {old}"),
        2 => format!("{name} {sign} {old} + {number}"),
        3 => format!("{name} {sign} max({old}, {other})"),
        4 => format!("{name} {sign} {number} or {name} == {old}"),
        5 => format!("({}) or {name} {sign} {old} - {number}", dice.bool(1)),
        _ => format!("{name} {sign} if({}, {old} + {number}, {old})", dice.bool(1)),
    })
}

/// A condition that says what a rule does, or nearly, and the moment of the rule.
fn of_rule(sketch: &Sketch, dice: &mut Dice<'_>) -> Option<(String, &'static str)> {
    let ints: Vec<usize> = (0..sketch.fields.len()).filter(|index| sketch.fields[*index].ty == "int").collect();
    let index = *ints.get(dice.roll(ints.len().max(1)))?;
    let field = &sketch.fields[index];
    let rule = field.rules.get(dice.roll(field.rules.len().max(1)))?;
    let entries = sketch.entries(field);
    let keys = entries.get(dice.roll(entries.len().max(1)))?;
    let own = dice.roll(2) == 0 || keys.is_empty();
    let name = if own { format!("f{index}") } else { format!("f{index}[{}]", keys.join(", ")) };
    let operand = was(&sketch.operand("int", rule.moment, rule.operand));
    let old = format!("was({name})");
    let made = match rule.effect {
        "add" => format!("{old} + ({operand})"),
        "max" => format!("max({old}, {operand})"),
        "min" => format!("min({old}, {operand})"),
        "set" => operand,
        "reset" => "0".into(),
        mark @ ("entry" | "checkpoint") if rule.moment != "launch" => format!("{mark}({name})"),
        _ => old.clone(),
    };
    let sign = ["==", ">=", "<="][dice.roll(3)];
    let holds = format!("{name} {sign} {made}");
    let holds = if dice.roll(2) == 0 { holds } else { format!("{holds} or {name} == {old}") };
    Some((holds, rule.moment))
}

/// A condition that ties what is open or completed to fields and to other levels, as games do.
fn of_state(sketch: &Sketch, dice: &mut Dice<'_>) -> Option<String> {
    let level = sketch.level(dice.roll(7));
    let other = sketch.level(dice.roll(7));
    let number = dice.roll(7) as i64 - 2;
    let field = |dice: &mut Dice<'_>, keyed: bool| {
        let fields = sketch.fields.iter().enumerate();
        let found: Vec<usize> = fields
            .filter(|(_, field)| field.ty == "int" && if keyed { field.per == ["level"] } else { field.per.is_empty() })
            .map(|(index, _)| index)
            .collect();
        found.get(dice.roll(found.len().max(1))).map(|index| format!("f{index}"))
    };
    let sign = [">=", "<=", ">", "=="][dice.roll(4)];
    Some(match dice.roll(8) {
        0 => format!("not open({level}) or {}", sketch.condition()?),
        1 => format!("not open({level}) or count(opened) > {number}"),
        2 => format!("not open({level}) or completed[{other}]"),
        3 => format!("not open({level}) or {} {sign} {number}", field(dice, false)?),
        4 => format!("{} {sign} {number} * count(completed)", field(dice, false)?),
        5 => format!("sum({}) {sign} {number} * count(completed) + {}", field(dice, true)?, dice.roll(40)),
        6 => format!("not completed[{level}] or {}[{level}] {sign} {number}", field(dice, true)?),
        _ => format!("completed or {} {sign} max({}, {number})", field(dice, true)?, field(dice, true)?),
    })
}

/// Reads the state before the moment.
fn was(operand: &str) -> String {
    let mut said = String::new();
    let mut rest = operand;
    while let Some(at) = rest.find('f') {
        let name = rest[at..].len() - rest[at + 1..].trim_start_matches(|c: char| c.is_ascii_digit()).len();
        let keys = rest[at + name..].strip_prefix('[').and_then(|keys| keys.find(']')).map_or(0, |end| end + 2);
        let (before, token) = (&rest[..at], &rest[at..at + name + keys]);
        said.push_str(before);
        said.push_str(&if name > 1 { format!("was({token})") } else { token.to_owned() });
        rest = &rest[at + name + keys..];
    }
    said + rest
}

const AFTER: [&str; 14] = [
    "",
    "",
    "death",
    "restart",
    "game_over",
    "launch",
    "enter",
    "complete",
    "checkpoint",
    "abandon",
    "travel",
    "new_day",
    "new_run",
    "new_cycle",
];

static COMPARED: AtomicUsize = AtomicUsize::new(0);
static UNLOCKED: AtomicUsize = AtomicUsize::new(0);
static PROVED: AtomicUsize = AtomicUsize::new(0);
static ASKED: AtomicUsize = AtomicUsize::new(0);

/// Asks what the search says to everything that the rules prove.
fn agree(text: &str, depth: usize, states: usize) -> Result<(), TestCaseError> {
    let Ok(spec) = Spec::from_toml(text) else { return Ok(()) };
    // The promises that all have are asked once.
    let all = questions(&spec);
    let likely = all.iter().find(|question| question.name() == "likely");
    for question in likely.map_or(&all[..], std::slice::from_ref) {
        let bounds = SearchBounds { depth, states, ..SearchBounds::default() };
        let search = Search::new(&spec, question, bounds.clone());
        ASKED.fetch_add(1, Ordering::Relaxed);
        if search.frontier() > 0 {
            continue;
        }
        let Ending::Proved(_) = search.into_ending() else { continue };
        PROVED.fetch_add(1, Ordering::Relaxed);
        let bounds = SearchBounds { by_rules: false, reduce: false, ..bounds };
        let searched = Search::new(&spec, question, bounds).run();
        let broken = searched.broken().map(Counterexample::play);
        prop_assert!(
            broken.is_none(),
            "`{}` is proved, and broken:\n{}\n{text}",
            question.name(),
            broken.unwrap_or("")
        );
    }
    Ok(())
}

fn with_promises(sketch: &Sketch, numbers: &[u16]) -> Vec<String> {
    let mut text = promising_text(sketch);
    // In some games the sources take something away.
    if numbers[1].is_multiple_of(3) {
        text = text.replace(" = 1 }\ntimes", " = -2 }\ntimes").replace(" = 7 }\ntimes", " = -3 }\ntimes");
    }
    let mut texts = vec![text.clone()];
    for numbers in numbers.chunks(40) {
        let after = AFTER[usize::from(numbers[0]) % AFTER.len()];
        let before = !after.is_empty();
        let marks = matches!(after, "death" | "restart" | "complete" | "checkpoint" | "abandon" | "travel");
        let mut dice = Dice::new(sketch, &numbers[1..], before, marks);
        let likely = match dice.roll(5) {
            0 | 1 => of_rule(sketch, &mut dice),
            2 => of_state(sketch, &mut dice).map(|holds| (holds, "")),
            _ => likely(&mut dice, before, marks).map(|holds| (holds, after)),
        };
        let Some((holds, after)) = likely else { continue };
        let before = !after.is_empty();
        let when = if before { format!("after = \"{after}\"\n") } else { String::new() };
        texts.push(format!("{text}[[promise]]\nname = \"likely\"\nholds = \"{holds}\"\n{when}"));
    }
    texts
}

proptest! {
    #![proptest_config(config(40, vestigum_testing::kept_in!("proving")))]

    #[test]
    fn nothing_is_proved_that_a_search_breaks(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        numbers in proptest::collection::vec(any::<u16>(), 400),
    ) {
        for text in with_promises(&sketch, &numbers) {
            agree(&text, 5, 3_000)?;
        }
        let (asked, proved) = (ASKED.load(Ordering::Relaxed), PROVED.load(Ordering::Relaxed));
        prop_assert!(proved * 10 > asked || asked < 300, "only {proved} of {asked} were proved");
    }

    /// Lifting locks gives the same answers as leaving them on, and counterexamples as short.
    #[test]
    fn lifted_locks_change_no_answer(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        numbers in proptest::collection::vec(any::<u16>(), 120),
    ) {
        // Every second game opens its levels one after the other, so that there are locks.
        let order = numbers[0] % 2 == 0;
        let sketch = if order { Sketch { opening: "in order", opens: None, ..sketch } } else { sketch };
        for text in with_promises(&sketch, &numbers) {
            let Ok(spec) = Spec::from_toml(&text) else { continue };
            let all = questions(&spec);
            let likely = all.iter().find(|question| question.name() == "likely");
            for question in likely.map_or(&all[..], std::slice::from_ref) {
                let bounds = |unlocked| SearchBounds { states: 4_000, by_rules: false, unlocked, ..SearchBounds::default() };
                let one = NonZero::new(1);
                let relaxed = explore_with(&spec, question, &bounds(true), one, &mut |_| {});
                let exact = explore_with(&spec, question, &bounds(false), one, &mut |_| {});
                COMPARED.fetch_add(1, Ordering::Relaxed);
                if relaxed.seen().unlocked {
                    UNLOCKED.fetch_add(1, Ordering::Relaxed);
                    prop_assert!(exact.broken().is_none(), "{}\n{text}", question.name());
                }
                if let Some(broken) = relaxed.broken() {
                    fails(&spec, broken);
                    let steps = exact.broken().map(Counterexample::steps);
                    prop_assert!(steps == Some(broken.steps()) || !exact.seen().all && steps.is_none(),
                        "{}: {} and {steps:?}\n{text}", question.name(), broken.steps());
                }
                if exact.broken().is_some() {
                    prop_assert!(relaxed.broken().is_some(), "{}\n{text}", question.name());
                }
            }
        }
        let (compared, unlocked) = (COMPARED.load(Ordering::Relaxed), UNLOCKED.load(Ordering::Relaxed));
        prop_assert!(unlocked * 100 > compared || compared < 300, "only {unlocked} of {compared} with lifted locks");
    }

    /// The plays that show that every level can be completed are played as they are told.
    #[test]
    fn a_play_that_completes_all_is_one(sketch in sketch(Allowed { launch_rules: true, priced_failures: true })) {
        let Ok(spec) = Spec::from_toml(&promising_text(&sketch)) else { return Ok(()) };
        for question in questions(&spec).iter().filter(|question| question.code() == Some("V201")) {
            for by_rules in [true, false] {
                let bounds = SearchBounds { states: 1_500, by_rules, ..SearchBounds::default() };
                let ending = Search::new(&spec, question, bounds).run();
                for witness in ending.witnesses() {
                    // What a play does may break a promise of the game; what it shows is that it can be done.
                    let promises = spec.model().promises.iter();
                    let without = promises.map(|promise| format!("without \"{}\"\n", promise.name())).collect::<String>();
                    let script = Script::from_text("witness.play", &format!("{}{without}", witness.play()), &spec);
                    let script = script.unwrap_or_else(|errors| panic!("{errors}\n{}", witness.play()));
                    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
                    prop_assert!(run.passed(), "{:?}\n{}", run.failure, witness.play());
                }
            }
        }
    }
}

/// A run can be over though the game never says so, and a save made in a level is what giving up leaves.
#[test]
fn moments_that_nobody_says_happen_all_the_same() {
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n\
        [field.most]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"both\"\non.game_over = \"reset\"\nafter_failure = \"keep\"\n\
        [field.seen]\ntype = \"bool\"\nlasts = \"profile\"\nwritten_by = \"both\"\non.abandon = \"reset\"\nafter_failure = \"keep\"\n\
        [run]\nover_when = \"most >= 2\"\n[save]\nresume = \"none\"\n\
        [[source]]\nname = \"ring\"\ngives = { most = 1, seen = true }\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"keep\"\n\
        [[promise]]\nname = \"falls\"\nnever_falls = [\"most\", \"seen\"]\n";
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}"));
    for question in questions(&spec).iter().filter(|question| question.is_promise()) {
        let without = vec![Moment::GameOver, Moment::Abandon];
        let bounds = SearchBounds { without, states: 2_000, ..SearchBounds::default() };
        let ending = Search::new(&spec, question, bounds).run();
        assert!(ending.broken().is_some(), "{}: {ending:?}", question.name());
    }
}

/// Promises that are broken, each by one thing that a proof must not forget.
#[test]
fn what_is_nearly_so_is_not_proved() {
    const WORLD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\", \"rise\"]\n\
        [moments]\nnames = [\"new_day\"]\n[keys.kind]\nnames = [\"k0\", \"k1\"]\ncurrent = \"now\"\n\
        [field.now]\ntype = \"choice\"\nof = [\"k0\", \"k1\"]\nlasts = \"profile\"\nwritten_by = \"both\"\n\
        after_failure = \"keep\"\non.new_day = { set = \"'k1'\" }\n\
        [field.kept]\ntype = \"int\"\nper = \"kind\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
        [[source]]\nname = \"ring\"\ngives = { \"kept[k0]\" = 1 }\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"keep\"\n";
    let cases = [
        // The rule counts the levels before the one that is completed.
        ("complete", "{ set = \"if(count(completed) > 0, 5, 4)\" }", "f == if(count(completed) > 0, 5, 4)"),
        // A level opens after the rules.
        ("complete", "{ set = \"if(open(rise), 1, 0)\" }", "f == if(open(rise), 1, 0)"),
        // The rule reads the key that was current.
        ("new_day", "{ set = \"kept\" }", "f == kept"),
        // The marks are those of the state before.
        ("death", "{ add = -1 }", "f == entry(f)"),
        // Of a list only one rule decides.
        ("death", "[{ set = \"1\", when = \"kept[k0] > 0\" }, { set = \"2\" }]", "f == 2"),
        ("death", "[{ set = \"1\", when = \"kept[k0] > 0\" }]", "f == 1"),
    ];
    for (moment, rule, holds) in cases {
        let text = format!(
            "{WORLD}[field.f]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"entry\"\n\
             on.{moment} = {rule}\n[[promise]]\nname = \"nearly\"\nafter = \"{moment}\"\nholds = \"{holds}\"\n"
        );
        assert!(is_broken(&text), "{holds} after {moment}");
    }
    let promised = [
        ("on.death = { add = -1 }", "never_falls = [\"f\"]"),
        ("on.complete = { max = \"kept[k0] - 4\" }\non.new_run = \"reset\"", "never_falls = [\"f\"]"),
        // Of a level that was never completed it does not hold at first.
        ("per = \"level\"\non.complete = { max = \"5\" }", "holds = \"f >= 1\""),
        ("on.complete = { set = \"kept[k0]\" }", "holds = \"f <= 0\""),
        // A float does not tell these two numbers apart.
        (
            "range = [0, 9007199254740993]\non.complete = { set = \"9007199254740993\" }",
            "holds = \"f <= 9007199254740992\"",
        ),
        (
            "range = [0, 9007199254740993]\non.complete = { max = \"9007199254740993\" }\n\
             on.death = { set = \"9007199254740992\" }",
            "never_falls = [\"f\"]",
        ),
        (
            "range = [0, 9007199254740993]\ndefault = 9007199254740992\non.complete = { max = \"9007199254740993\" }\n\
             on.death = \"reset\"",
            "never_falls = [\"f\"]",
        ),
    ];
    for (rules, promise) in promised {
        let text = format!(
            "{WORLD}[field.f]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"rules\"\n{rules}\n\
             [[promise]]\nname = \"nearly\"\n{promise}\n"
        );
        assert!(is_broken(&text), "{promise} with {rules}");
    }
    // A rule at `launch` writes the marks of one field and leaves those of the other.
    let field = "type = \"int\"\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"checkpoint\"\non.new_day = { set = \"5\" }";
    let text = format!(
        "{WORLD}[level.lane]\ncheckpoints = [\"ford\"]\n[save]\nresume = \"checkpoint\"\n\
         [field.f]\n{field}\non.launch = \"keep\"\n[field.g]\n{field}\n\
         [[promise]]\nname = \"nearly\"\nholds = \"f == g\"\n"
    );
    assert!(is_broken(&text), "marks that a launch has written");
    // Only quitting in a level takes something back: a death has a rule, and what a save counts is a death without its price.
    let kept = "on.restart = \"keep\"\non.abandon = \"keep\"\non.game_over = \"keep\"\non.death = { set = \"f\" }";
    let more = "type = \"int\"\nlasts = \"profile\"\nwritten_by = \"rules\"\non.new_day = { max = \"5\" }";
    for promise in ["never_falls = [\"f\"]", "holds = \"f == g\""] {
        let text = format!(
            "{WORLD}[save]\nresume = \"checkpoint\"\n[field.f]\n{more}\nafter_failure = \"checkpoint\"\n{kept}\n\
             [field.g]\n{more}\nafter_failure = \"keep\"\n[[promise]]\nname = \"nearly\"\n{promise}\n"
        );
        assert!(is_broken(&text), "{promise} after quitting");
    }
    // What a rule reads of one level says nothing of the others.
    let rules = [("[{ set = \"1\", when = \"f > 0\" }]", "u == 0 or f > 0"), ("{ set = \"f\" }", "u == 0 or u <= f")];
    for (rule, holds) in rules {
        let text = format!(
            "{WORLD}[field.f]\ntype = \"int\"\nrange = [0, 99]\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
             [field.u]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"profile\"\nwritten_by = \"rules\"\non.complete = {rule}\n\
             [[source]]\nname = \"letter\"\ngives = {{ f = 1 }}\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"keep\"\n\
             [[promise]]\nname = \"nearly\"\nholds = \"{holds}\"\n"
        );
        assert!(is_broken(&text), "{holds} of every level");
    }
    // What lasts a visit is not there in the menu, so no rule writes it.
    let text = format!(
        "{WORLD}[field.f]\ntype = \"int\"\nlasts = \"visit\"\nwritten_by = \"both\"\nafter_failure = \"keep\"\n\
         on.new_day = {{ set = \"5\" }}\n[[promise]]\nname = \"nearly\"\nafter = \"new_day\"\nholds = \"f == 5\"\n"
    );
    assert!(is_broken(&text), "a visit in the menu");
}

/// A condition that asks which levels are open is tried with the locks on.
#[test]
fn locks_stay_where_they_are_asked_for() {
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\", \"rise\"]\n\
        [[promise]]\nname = \"nearly\"\nholds = \"count(opened) <= 1\"\n\
        [[promise]]\nname = \"so\"\nholds = \"opened[rise] == completed[lane] or not opened[rise]\"\n";
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}"));
    let bounds = SearchBounds { by_rules: false, ..SearchBounds::default() };
    let all = questions(&spec);
    let answer = |at: usize| explore_with(&spec, &all[at], &bounds, NonZero::new(1), &mut |_| {});
    assert_eq!(answer(0).broken().map(Counterexample::steps), Some(2));
    assert!(answer(1).broken().is_none() && answer(1).seen().all && !answer(1).seen().unlocked);
}

fn is_broken(text: &str) -> bool {
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}\n{text}"));
    let question = questions(&spec).into_iter().find(|question| question.name() == "nearly").expect("it is asked");
    let bounds = SearchBounds { states: 2_000, ..SearchBounds::default() };
    Search::new(&spec, &question, bounds).run().broken().is_some()
}
