//! Lints say only what exploring finds, and all of it where they say that they find it: on random specs of the kind that
//! each lint speaks of.

use proptest::prelude::*;
use proptest::sample::select;

use vestigum_core::Spec;
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, sketch};
use vestigum_verify::explore::{Ending, Search, SearchBounds, questions};
use vestigum_verify::lint::check;

/// Returns whether exploring finds the question with that name broken; none where it has not seen everything.
fn broken(text: &str, name: &str) -> Option<bool> {
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}\n{text}"));
    let question = questions(&spec).into_iter().find(|question| question.name() == name)?;
    let ending = Search::new(&spec, &question, SearchBounds { states: 8_000, ..SearchBounds::default() }).run();
    match ending {
        Ending::Broken(_) => Some(true),
        Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) => Some(false),
        Ending::NeverHappened(_) | Ending::Open(..) | Ending::Unknown(..) => None,
    }
}

fn warns(text: &str, code: &str) -> bool {
    check("spec.toml", text).findings.list().iter().any(|finding| finding.code == code)
}

const WORLD: &str =
    "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[checkpoints]\naccept = \"forward\"\n";

fn fate(moment: &str) -> impl Strategy<Value = String> + use<> {
    let moment = moment.to_owned();
    let fates =
        vec!["", "", "", "\"keep\"", "\"reset\"", "\"entry\"", "\"checkpoint\"", "{ add = -4 }", "{ add = -9 }"];
    select(fates).prop_map(move |fate| if fate.is_empty() { String::new() } else { format!("on.{moment} = {fate}\n") })
}

/// A value that a source gives and a record takes.
fn farmed() -> impl Strategy<Value = String> {
    let words = || select(vec!["keep", "checkpoint", "entry"]);
    let coins = (
        select(vec!["visit", "run"]),
        words(),
        fate("death"),
        fate("restart"),
        select(vec!["", "", "range = [0, 10]\n", "range = [0, 1]\n", "range = [-9, 40]\n"]),
    );
    let source = (select(vec![5, 5, 1, -5]), 1..3, select(vec!["attempt", "visit", "run"]), words());
    let record = select(vec![
        "{ max = \"coins\" }",
        "{ add = \"coins\" }",
        "{ set = \"max(most, coins)\" }",
        "{ min = \"coins\" }",
    ]);
    let world = (any::<bool>(), select(vec!["checkpoint", "entry"]), select(vec!["none", "entry", "checkpoint"]));
    (coins, source, record, world).prop_map(|(coins, source, record, (listed, respawn, resume))| {
        let (lasts, after, death, restart, range) = coins;
        let (gift, times, taken, back) = source;
        let stops = if listed { "[level.mill_lane]\ncheckpoints = [\"ford\"]\n" } else { "" };
        let range = if gift > 0 { range } else { "" };
        let back = if taken == "attempt" { String::new() } else { format!("after_failure = \"{back}\"\n") };
        format!(
            "{WORLD}{stops}[field.coins]\ntype = \"int\"\nlasts = \"{lasts}\"\nafter_failure = \"{after}\"\nwritten_by = \"both\"\n\
             {range}{death}{restart}[field.most]\ntype = \"int\"\nlasts = \"profile\"\non.complete = {record}\n\
             [[source]]\nname = \"coin\"\ngives = {{ coins = {gift} }}\ntimes = {times}\nlasts = \"{taken}\"\n{back}\
             [death]\nrespawn = \"{respawn}\"\n[save]\nresume = \"{resume}\"\nat = [\"death\", \"restart\"]\n"
        )
    })
}

/// A record that is written when a level is completed.
fn recorded() -> impl Strategy<Value = String> {
    let operand = select(vec![
        "letters",
        "letters - 5",
        "max(best, letters)",
        "max(letters, best - 1)",
        "if(letters > best, letters, best)",
        "if(letters < best, letters, best)",
        "if(best <= letters, letters, best)",
        "if(letters > 5, letters, best)",
        "best + letters",
        "if(best > 30, best, letters)",
    ]);
    let guard = select(vec![
        "",
        "",
        "letters > 5",
        "letters > best",
        "best < letters and letters > 5",
        "not completed",
        "not (letters <= best)",
    ]);
    let rule = (select(vec!["set", "set", "max"]), operand, guard);
    proptest::collection::vec(rule, 1..3).prop_map(|rules| {
        let rules = rules.iter().map(|(deed, operand, guard)| match *guard {
            "" => format!("{{ {deed} = \"{operand}\" }}"),
            guard => format!("{{ {deed} = \"{operand}\", when = \"{guard}\" }}"),
        });
        let rules = rules.collect::<Vec<_>>().join(", ");
        format!(
            "{WORLD}[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n[field.best]\ntype = \"int\"\nrange = [0, 99]\n\
             per = \"level\"\nlasts = \"profile\"\non.complete = [{rules}]\n[[source]]\nname = \"letter\"\ngives = {{ letters = 8 }}\ntimes = 2\n\
             lasts = \"visit\"\nafter_failure = \"entry\"\n[[promise]]\nname = \"it stays\"\nnever_falls = [\"best\"]\n\
             [[promise]]\nname = \"it is nothing\"\nholds = \"best[mill_lane] == 0\"\n"
        )
    })
}

/// A level that asks for something.
fn asking() -> impl Strategy<Value = String> {
    // Records and stars are made of the same letters: which of them go together only exploring knows.
    let records =
        vec!["best[mill_lane] >= 16", "best[mill_lane] >= 17", "best[mill_lane] < 8", "best[heather_rise] * 2 > 30"];
    let stars = vec![
        "stars[mill_lane] >= 2",
        "stars[mill_lane] < 2",
        "sum(stars) >= 3",
        "sum(stars) >= 5",
        "stars[heather_rise] == 3",
    ];
    let others = vec![
        "count(completed) >= 2",
        "completed[attic]",
        "walked > 1",
        "walked <= 1",
        "lit",
        "not lit",
        "seen",
        "level_count == 3",
    ];
    let part = move |of: Vec<&'static str>| prop_oneof![select(of), select(others.clone())];
    let parts =
        prop_oneof![Just(records), Just(stars)].prop_flat_map(move |of| (part(of.clone()), part(of.clone()), part(of)));
    let joined = (parts, select(vec!["and", "and", "or"]), select(vec!["and", "or"]));
    joined.prop_map(|((a, b, c), first, second)| {
        format!(
            "{}[level.mill_lane]\nsteps.stars = [8, 16]\n[level.attic]\nopens = \"({a} {first} {b}) {second} {c}\"\n[table.stars]\nsteps = [4, 8, 17]\n\
             [field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n[field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\n\
             on.complete = {{ max = \"letters\" }}\n[field.stars]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = {{ max = \"grade(letters, stars)\" }}\n\
             [field.walked]\ntype = \"int\"\nlasts = \"profile\"\nrange = [0, 3]\non.travel = {{ add = 1 }}\n[field.lit]\ntype = \"bool\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
             [field.seen]\ntype = \"bool\"\nlasts = \"profile\"\non.complete = {{ set = true, when = \"level == 'attic'\" }}\n[derived]\nlevel_count = \"count(completed) + 1\"\n\
             [[source]]\nname = \"letter\"\ngives = {{ letters = 8 }}\ntimes = 2\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
             [[source]]\nname = \"lamp\"\nin = [\"attic\"]\ngives = {{ lit = true }}\nafter_failure = \"keep\"\n",
            WORLD.replace("[\"mill_lane\"]", "[\"mill_lane\", \"heather_rise\"]")
        )
    })
}

proptest! {
    #![proptest_config(config(150, vestigum_testing::kept_in!("lints_agree")))]

    /// V101 and "failing gains nothing".
    #[test]
    fn what_can_be_farmed_gains_by_failing(text in farmed()) {
        let farmable = warns(&text, "V101");
        if let Some(gains) = broken(&text, "failing gains nothing for `most`") {
            // Of a sum of what lasts a run, two visits may not show that a third would have more.
            let slow = text.contains("{ add = \"coins\" }") && text.contains("times = ") && text.contains("lasts = \"run\"");
            prop_assert!(farmable == gains || (farmable && slow), "{}", text);
        } else {
            // Of what grows for ever, nothing is asked that has no end.
            prop_assert!(!farmable || text.contains("lasts = \"run\"") || text.contains("{ min ="), "{}", text);
        }
    }

    /// V102 and a record that falls.
    #[test]
    fn what_a_replay_lowers_falls(text in recorded()) {
        let falls = broken(&text, "it stays").expect("it is small");
        // What never rises cannot fall; and where the first result is taken as it is, less may be better.
        let least = text.contains("not completed") && text.contains("if(letters < best");
        if least || broken(&text, "it is nothing") == Some(false) {
            return Ok(());
        }
        prop_assert_eq!(warns(&text, "V102"), falls, "{}", text);
    }

    /// V014 and a level that is never completed.
    #[test]
    fn what_can_never_open_is_never_completed(text in asking()) {
        let never = broken(&text, "every level can be opened and completed");
        let never = never.expect("it is small");
        prop_assert_eq!(warns(&text, "V014"), never, "{}", text);
    }
}

proptest! {
    #![proptest_config(config(200, vestigum_testing::kept_in!("lints_agree_all")))]

    /// On specs of every kind, V014 is never said of a level that play completes.
    #[test]
    fn what_is_completed_can_open(sketch in sketch(Allowed { launch_rules: true, priced_failures: true }), bound in -60i64..70) {
        let mut text = sketch.toml();
        let simple = |field: &vestigum_testing::FieldSketch| field.ty == "int" && field.per.is_empty() && field.written_by != "rules";
        for (index, field) in sketch.fields.iter().enumerate().filter(|(_, field)| simple(field)) {
            let back = field.after_failure;
            text.push_str(&format!("[[source]]\nname = \"s{index}\"\ngives = {{ f{index} = 7 }}\ntimes = 2\nlasts = \"visit\"\nafter_failure = \"{back}\"\n"));
        }
        let asked = sketch.fields.iter().position(|field| simple(field) && matches!(field.lasts, "run" | "profile" | "device"));
        if let Some(index) = asked.filter(|_| sketch.opens.is_none()) {
            let last = format!("[level.path_{}]\n", sketch.levels.len() - 1);
            text = text.replace(&last, &format!("{last}opens = \"f{index} > {bound} or f{index} < -{bound}\"\n"));
        }
        let Ok(spec) = Spec::from_toml(&text) else { return Ok(()) };
        if !warns(&text, "V014") {
            return Ok(());
        }
        let question = questions(&spec).into_iter().find(|question| question.code() == Some("V201")).expect("it is asked");
        let ending = Search::new(&spec, &question, SearchBounds { states: 4_000, ..SearchBounds::default() }).run();
        let opens = matches!(&ending, Ending::Played(..) | Ending::Holds(..));
        prop_assert!(!opens, "{}", text);
    }
}
