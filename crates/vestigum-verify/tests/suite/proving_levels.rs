//! What ties levels, records and prices together is proved where it holds, and not where it nearly does.

use std::num::NonZero;

use vestigum_core::{History, Moment, Spec};
use vestigum_verify::explore::{Ending, Gap, Search, SearchBounds, explore_with, questions};

const LEVELS: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\", \"rise\", \"gate\"]\n\
    [level.lane]\nexits = { cellar = \"race\" }\n[level.race]\ntitle = \"The Millrace\"\n";

const RECORDS: &str = "[field.gems]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
    [field.best]\ntype = \"int\"\nrange = [0, 99]\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"gems\" }\n\
    [field.stars]\ntype = \"int\"\nrange = [0, 3]\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"grade(gems, stars)\" }\n\
    [table.stars]\nsteps = [1, 2, 3]\n[derived]\ntotal = \"sum(stars)\"\ndone = \"count(completed)\"\n\
    [[source]]\nname = \"gem\"\ngives = { gems = 1 }\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"entry\"\n";

/// Says what is found out of a promise of a spec: whether it is proved, or broken.
fn found(text: &str) -> (bool, bool) {
    let spec = Spec::from_toml(text).unwrap_or_else(|errors| panic!("{errors}\n{text}"));
    let all = questions(&spec);
    let question = all.iter().find(|question| question.name().starts_with("asked")).unwrap();
    let proved = matches!(Search::new(&spec, question, SearchBounds::default()).into_ending(), Ending::Proved(_));
    let bounds = SearchBounds { by_rules: false, states: 30_000, ..SearchBounds::default() };
    let broken = Search::new(&spec, question, bounds).run().broken().is_some();
    (proved, broken)
}

fn promise(claim: &str) -> String {
    format!("[[promise]]\nname = \"asked\"\n{claim}\n")
}

#[test]
fn an_open_level_meets_its_condition() {
    let gate = |opens: &str| format!("{LEVELS}[level.gate]\nopens = \"{opens}\"\n{RECORDS}");
    let proved = [
        ("total >= 2", "holds = \"not open(gate) or total >= 2\""),
        ("total >= 2", "holds = \"not open(gate) or total > 0\""),
        ("total >= 2 and completed[rise]", "holds = \"not open(gate) or completed[rise]\""),
        ("completed[race] or best[lane] >= 2", "holds = \"not open(gate) or completed[race] or best[lane] >= 1\""),
        ("total >= 2", "holds = \"not open(rise) or completed[lane]\""),
    ];
    for (opens, claim) in proved {
        assert_eq!(found(&(gate(opens) + &promise(claim))), (true, false), "{opens}: {claim}");
    }
    let broken = [
        // It asks for less, for another level, for what may stop holding.
        ("total >= 2", "holds = \"not open(gate) or total >= 3\""),
        ("total >= 2 or completed[rise]", "holds = \"not open(gate) or completed[rise]\""),
        ("total < 2", "holds = \"not open(gate) or total < 2\""),
        ("total >= 2", "holds = \"not open(race) or completed[rise]\""),
    ];
    for (opens, claim) in broken {
        assert_eq!(found(&(gate(opens) + &promise(claim))), (false, true), "{opens}: {claim}");
    }
    // An exit leads there, too.
    let exit = gate("total >= 2").replace("cellar = \"race\"", "cellar = \"race\", back = \"gate\"");
    assert_eq!(found(&(exit + &promise("holds = \"not open(gate) or total >= 2\""))), (false, true));
    // What the condition reads goes with the run, and what is open does not.
    let falls = gate("total >= 2")
        .replace("per = \"level\"\nlasts = \"profile\"", "per = \"level\"\nlasts = \"run\"\nafter_failure = \"keep\"");
    assert_eq!(found(&(falls + &promise("holds = \"not open(gate) or total >= 2\""))), (false, true));
}

#[test]
fn a_level_behind_an_exit_needs_it() {
    let found_by = |when: &str| {
        format!(
            "{LEVELS}{RECORDS}[field.seen]\ntype = \"bool\"\nper = \"level\"\nlasts = \"profile\"\non.complete = {{ set = \"true\", when = \"{when}\" }}\n"
        )
    };
    let behind = promise("holds = \"not open(race) or seen[lane]\"");
    assert_eq!(found(&(found_by("exit == 'cellar'") + &behind)), (true, false));
    assert_eq!(found(&(found_by("exit == 'cellar' and gems > 0") + &behind)), (false, true));
    let two = found_by("exit == 'cellar'").replace("cellar = \"race\"", "cellar = \"race\", well = \"race\"");
    assert_eq!(found(&(two + &behind)), (false, true));
    let elsewhere = found_by("exit == 'cellar'") + "[level.rise]\nexits = { cellar = \"race\" }\n";
    assert_eq!(found(&(elsewhere + &behind)), (false, true));
}

#[test]
fn what_all_levels_have_together_is_counted() {
    let xp = |rule: &str, range: &str| {
        format!(
            "{LEVELS}{RECORDS}[field.xp]\ntype = \"int\"\n{range}lasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\non.complete = {rule}\n"
        )
    };
    let first = "{ add = 10, when = \"not completed\" }";
    for range in ["", "range = [0, 999]\n"] {
        for claim in ["xp >= 10 * done", "xp == 10 * done", "done <= 4", "xp >= 9 * done"] {
            let proved = claim != "xp == 10 * done" || !range.is_empty();
            let (is_proved, broken) = found(&(xp(first, range) + &promise(&format!("holds = \"{claim}\""))));
            assert!(!broken && (is_proved || !proved), "{claim} with {range:?}");
        }
    }
    let broken = [
        (first, "xp >= 11 * done"),
        (first, "xp > 10 * done - 1 and xp <= 30"),
        ("{ add = 10, when = \"completed\" }", "xp >= 10 * done"),
        ("{ add = 10, when = \"gems > 0\" }", "xp >= 10 * done"),
        ("{ add = 10 }", "xp <= 10 * done"),
    ];
    for (rule, claim) in broken {
        assert_eq!(
            found(&(xp(rule, "") + &promise(&format!("holds = \"{claim}\"")))),
            (false, true),
            "{rule}: {claim}"
        );
    }
    // The highest that it can be is less than what is promised.
    let short = xp(first, "range = [0, 20]\n");
    assert_eq!(found(&(short + &promise("holds = \"xp >= 10 * done\""))), (false, true));
    for (claim, proved) in [("total <= 3 * size(stars)", true), ("total <= 3 * size(stars) - 1", false)] {
        assert_eq!(
            found(&(format!("{LEVELS}{RECORDS}") + &promise(&format!("holds = \"{claim}\"")))).0,
            proved,
            "{claim}"
        );
    }
    assert_eq!(found(&(format!("{LEVELS}{RECORDS}") + &promise("holds = \"total <= 2 * done\""))), (false, true));
    // The levels are locked again, and what was earned in them stays.
    let most = xp(first, "range = [0, 999]\n") + &promise("holds = \"xp <= 10 * done\"");
    assert_eq!(found(&most), (true, false));
    assert_eq!(found(&most.replace("[level.lane]", "lasts = \"run\"\n[level.lane]")), (false, true));
    let again = format!("{LEVELS}{RECORDS}").replace("[level.lane]", "lasts = \"run\"\n[level.lane]");
    assert_eq!(found(&(again + &promise("holds = \"total <= 3 * done\""))), (false, true));
}

#[test]
fn a_grade_goes_with_its_record() {
    let of = |claim: &str| found(&(format!("{LEVELS}{RECORDS}") + &promise(&format!("holds = \"{claim}\""))));
    for claim in ["stars < 3 or best >= 3", "stars == grade(best, stars)", "stars <= best", "best < 2 or stars >= 2"] {
        let (proved, broken) = of(claim);
        assert!(!broken && (proved || claim == "stars <= best"), "{claim}");
    }
    for claim in ["stars < 2 or best >= 3", "stars > grade(best, stars) or stars == 0", "best >= 3 or stars < 1"] {
        assert_eq!(of(claim), (false, true), "{claim}");
    }
}

/// A table that falls counts the other way round.
#[test]
fn a_falling_grade_is_not_a_rising_one() {
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n\
        [field.time]\ntype = \"int\"\nrange = [1, 9]\ndefault = 9\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\n\
        on.complete = { min = \"6\" }\non.death = { min = \"3\" }\n\
        [field.medal]\ntype = \"int\"\nrange = [0, 2]\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\n\
        on.complete = { max = \"grade(6, medals)\" }\non.death = { max = \"grade(3, medals)\" }\n\
        [table.medals]\nsteps = [4, 7]\nfalling = true\n";
    for (claim, both) in [
        ("medal == grade(time, medals)", (true, false)),
        ("medal < 2 or time <= 4", (true, false)),
        ("medal < 1 or time <= 7", (true, false)),
        ("medal < 1 or time <= 5", (false, true)),
        ("time > 4 or medal < 2", (false, true)),
    ] {
        assert_eq!(found(&format!("{text}{}", promise(&format!("holds = \"{claim}\"")))), both, "{claim}");
    }
}

#[test]
fn a_guard_says_what_is_there_to_be_taken() {
    let shop = |when: &str| {
        format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n[moments]\nnames = [\"buy\"]\n\
             [field.price]\ntype = \"int\"\ndefault = 3\nrange = [1, 9]\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\non.buy = {{ add = 1 }}\n\
             [field.coins]\ntype = \"int\"\ndefault = 2\nlasts = \"profile\"\nwritten_by = \"both\"\nafter_failure = \"keep\"\non.buy = {{ add = \"-price\"{when} }}\n\
             [[source]]\nname = \"coin\"\ngives = {{ coins = 1 }}\ntimes = 9\nlasts = \"visit\"\nafter_failure = \"keep\"\n{}",
            promise("holds = \"coins >= 0\"")
        )
    };
    assert_eq!(found(&shop(", when = \"coins >= price\"")), (true, false));
    assert_eq!(found(&shop(", when = \"coins >= price - 1\"")), (false, true));
    assert_eq!(found(&shop("")), (false, true));
}

/// One promise needs the other: neither holds from every state in which it holds itself.
#[test]
fn a_promise_that_is_proved_helps_to_prove_another() {
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n[moments]\nnames = [\"day\"]\n\
        [field.a]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\non.day = { set = \"b\" }\n\
        [field.b]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\non.complete = { min = \"5\" }\n";
    let asked = promise("holds = \"a <= 5\"");
    assert!(!found(&format!("{text}{asked}")).0, "`b` may be more");
    let lemma = "[[promise]]\nname = \"b is low\"\nholds = \"b <= 5\"\n";
    let spec = Spec::from_toml(&format!("{text}{asked}{lemma}")).unwrap();
    let ending = Search::new(&spec, &questions(&spec)[0], SearchBounds::default()).into_ending();
    assert_eq!(ending.proof().unwrap().promises, ["b is low".into()]);
    // One that is not so helps nobody.
    let false_lemma = lemma.replace("<= 5", "<= 5 and a <= 4 and b == 7");
    assert!(!found(&format!("{text}{asked}{false_lemma}")).0);
}

#[test]
fn leaving_is_compared_with_dying() {
    let xp = |rules: &str| {
        format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n[level.lane]\ncheckpoints = [\"ford\"]\n[save]\nresume = \"checkpoint\"\n\
             [field.xp]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"both\"\n{rules}\n\
             [[source]]\nname = \"ring\"\ngives = {{ xp = 1 }}\ntimes = 2\nlasts = \"visit\"\nafter_failure = \"entry\"\n"
        )
    };
    let of = |rules: &str| {
        let spec = Spec::from_toml(&xp(rules)).unwrap();
        let all = questions(&spec);
        let question = all.iter().find(|question| question.code() == Some("V203")).unwrap_or_else(|| panic!("{rules}"));
        let ending = Search::new(&spec, question, SearchBounds::default()).run();
        (matches!(ending, Ending::Proved(_)), ending.broken().is_some())
    };
    assert_eq!(of("after_failure = \"entry\"\non.death = \"checkpoint\""), (true, false));
    assert_eq!(of("after_failure = \"entry\"\non.death = \"keep\""), (true, false));
    assert_eq!(of("after_failure = \"keep\"\non.death = \"checkpoint\""), (false, true));
    // In the level it can fall below what it was at the entry.
    let falls = xp("after_failure = \"entry\"\non.death = \"keep\"").replace("xp = 1 }", "xp = -1 }");
    let spec = Spec::from_toml(&falls).unwrap();
    let all = questions(&spec);
    let question = all.iter().find(|question| question.code() == Some("V203")).unwrap();
    assert!(Search::new(&spec, question, SearchBounds::default()).run().broken().is_some());
}

#[test]
fn a_key_that_stays_where_its_source_is_taken_locks_nobody_out() {
    let game = |key: &str, source: &str| {
        format!(
            "{LEVELS}[level.gate]\nopens = \"key[blue]\"\n[keys.color]\nnames = [\"blue\"]\n\
             [field.key]\ntype = \"bool\"\nper = \"color\"\nlasts = \"profile\"\nafter_failure = \"{key}\"\n\
             [[source]]\nname = \"ring\"\nin = [\"rise\"]\ngives = {{ \"key[blue]\" = true }}\nlasts = \"profile\"\nafter_failure = \"{source}\"\n"
        )
    };
    let of = |key: &str, source: &str| {
        let spec = Spec::from_toml(&game(key, source)).unwrap();
        let all = questions(&spec);
        let question = all.iter().find(|question| question.code() == Some("V204")).unwrap();
        let ending = Search::new(&spec, question, SearchBounds::default()).run();
        (matches!(ending, Ending::Proved(_)), ending.broken().is_some())
    };
    assert_eq!(of("keep", "keep"), (true, false));
    assert_eq!(of("entry", "keep"), (false, true), "the key is lost, and its source is taken");
    // Both go back, and not to the same mark.
    let marks = game("entry", "checkpoint") + "[level.rise]\ncheckpoints = [\"ford\"]\n";
    let spec = Spec::from_toml(&marks).unwrap();
    let all = questions(&spec);
    let question = all.iter().find(|question| question.code() == Some("V204")).unwrap();
    assert!(Search::new(&spec, question, SearchBounds::default()).run().broken().is_some());
}

#[test]
fn in_a_level_no_run_is_over() {
    let lives = |rules: &str, rest: &str| {
        format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n[run]\nover_when = \"lives == 0\"\n\
             [field.lives]\ntype = \"int\"\ndefault = 3\nrange = [0, 9]\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"both\"\n{rules}\n\
             [[source]]\nname = \"ring\"\ngives = {{ lives = 1 }}\ntimes = 2\nlasts = \"visit\"\nafter_failure = \"keep\"\n{rest}{}",
            promise("after = \"death\"\nholds = \"lives == was(lives) - 1\"")
        )
    };
    assert_eq!(found(&lives("on.death = { add = -1 }", "")), (true, false));
    // The state after a death is judged before the run is over.
    let more =
        lives("on.death = { add = -1 }\non.game_over = \"reset\"", "").replace("lives == was(lives) - 1", "lives > 0");
    assert_eq!(found(&more), (false, true));
    // Something else takes lives, and the run is not judged then.
    assert_eq!(found(&lives("on.death = { add = -1 }\non.complete = { add = -1 }", "")), (false, true));
    let source =
        "[[source]]\nname = \"hole\"\ngives = { lives = -1 }\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"keep\"\n";
    assert_eq!(found(&lives("on.death = { add = -1 }", source)), (false, true));
    // A new run begins with none.
    assert_eq!(found(&lives("on.death = { add = -1 }\non.new_run = { set = \"0\" }", "")), (false, true));
    let twice = lives("on.death = { add = -2 }", "").replace("- 1\"", "- 2\"");
    assert_eq!(found(&twice), (false, true), "one is left, and two are taken");
}

/// A save that is left in a level is what giving up leaves, though the game never says that it is given up.
#[test]
fn giving_up_is_followed_where_quitting_does_it() {
    let text = |resume: &str| {
        format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\"]\n[save]\nresume = \"{resume}\"\n\
             [field.a]\ntype = \"int\"\nrange = [0, 9]\nlasts = \"profile\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\non.abandon = {{ set = \"7\" }}\n{}",
            promise("holds = \"a <= 5\"")
        )
    };
    for (resume, broken) in [("none", true), ("entry", false)] {
        let spec = Spec::from_toml(&text(resume)).unwrap();
        let bounds = SearchBounds { without: vec![Moment::Abandon], ..SearchBounds::default() };
        let ending = Search::new(&spec, &questions(&spec)[0], bounds).run();
        assert_eq!(ending.broken().is_some(), broken, "{resume}: {ending:?}");
    }
}

/// A count over all levels is not decided by one of them alone.
#[test]
fn a_search_of_one_level_counts_no_others() {
    let text = format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"lane\", \"rise\", \"gate\"]\n\
         [field.most]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = {{ max = \"count(completed)\" }}\n{}",
        promise("holds = \"most <= 1\"")
    );
    let spec = Spec::from_toml(&text).unwrap();
    let bounds = SearchBounds { by_rules: false, ..SearchBounds::default() };
    let ending = explore_with(&spec, &questions(&spec)[0], &bounds, NonZero::new(1), &mut |_| {});
    assert!(ending.broken().is_some(), "{ending:?}");
}

/// An earlier version may have asked for less, so that what an open level meets is not said of its saves.
#[test]
fn saves_of_earlier_versions_are_named() {
    let text = format!(
        "{LEVELS}[level.gate]\nopens = \"total >= 2\"\n{RECORDS}{}",
        promise("holds = \"not open(gate) or total >= 2\"")
    );
    let spec = Spec::from_toml(&text).unwrap();
    let gaps =
        |spec: &Spec| Search::new(spec, &questions(spec)[0], SearchBounds::default()).into_ending().gaps().to_vec();
    assert_eq!(gaps(&spec), []);
    let history = History::default().freeze(&spec).unwrap().history;
    let frozen = Spec::from_toml_with_history(&text, &history.to_json()).unwrap();
    assert!(matches!(&gaps(&frozen)[..], [Gap::OlderSaves(_)]));
}
