//! What is asked of every game: levels that are completed, failing that gains nothing, leaving that keeps no more.

use vestigum_core::Spec;
use vestigum_testing::asking::{GAME, ask, broken};
use vestigum_verify::explore::{Ending, Search, SearchBounds, questions};

#[test]
fn what_can_be_farmed_is_found() {
    let kept = GAME.replace(
        "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"",
        "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n[field.best_score]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"score\" }",
    );
    let play = broken(&kept, "failing gains nothing for `best_score`");
    assert!(play.contains("and without failing it is 30 at most in 1 visit"), "{play}");
    assert!(play.contains("  death\n") || play.contains("  restart\n"), "{play}");
    let (_, ending) = ask(
        &kept.replace(
            "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"",
            "[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"",
        ),
        "failing gains nothing for `best_score`",
    );
    assert!(ending.broken().is_none() && ending.seen().all, "{ending:?}");
}

/// Proves without a search where every failure brings back what a record depends on. One word changed, and the proof is not there.
#[test]
fn a_failure_that_brings_everything_back_is_proved_to_gain_nothing() {
    let game = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
        [level.mill_lane]\ncheckpoints = [\"ford\"]\n[death]\nrespawn = \"checkpoint\"\n\
        [field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n\
        [field.lives]\ntype = \"int\"\ndefault = 3\nrange = [0, 9]\nlasts = \"run\"\nwritten_by = \"rules\"\nafter_failure = \"keep\"\n\
        on.death = { add = -1 }\n[run]\nover_when = \"lives == 0\"\n\
        [field.most]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }\n\
        [[source]]\nname = \"letter\"\ngives = { letters = 1 }\ntimes = 3\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n";
    let name = "failing gains nothing for `most`";
    let proved = |text: &str| matches!(ask(text, name).1, Ending::Proved(_));
    assert!(proved(game), "{:?}", ask(game, name).1);
    // A condition on levels that are open reads what it opens.
    let next = "[level.heather_rise]\nopens = \"count(opened) >= 1\"\n[level.mill_lane]";
    assert!(proved(&game.replace("[level.mill_lane]", next)));
    // What lasts a run is brought back, too; a source that stays taken gives nothing twice.
    let of_run = game.replacen("lasts = \"visit\"", "lasts = \"run\"", 1);
    assert!(proved(&of_run), "{:?}", ask(&of_run, name).1);
    let taken = "times = 3\nlasts = \"visit\"\nafter_failure = \"keep\"";
    assert!(proved(&game.replace("times = 3\nlasts = \"visit\"\nafter_failure = \"checkpoint\"", taken)));
    // What is kept while its source comes back is a farm.
    let kept = of_run.replacen("after_failure = \"checkpoint\"", "after_failure = \"keep\"", 1);
    broken(&kept, name);
    // The letters go back to the checkpoint, and their sources to the entry.
    let mixed =
        game.replace("times = 3\nlasts = \"visit\"\nafter_failure = \"checkpoint\"", "times = 3\nlasts = \"attempt\"");
    broken(&mixed, name);
    // These gain nothing, or nothing that the search sees; the rules alone do not say so.
    for (from, to) in [
        (
            "after_failure = \"checkpoint\"",
            "after_failure = \"checkpoint\"\non.death = { add = 1 }\nwritten_by = \"both\"",
        ),
        ("{ max = \"letters\" }", "{ max = \"letters + lives\" }"),
        ("{ max = \"letters\" }", "{ max = \"checkpoint(letters)\" }"),
        ("lasts = \"profile\"\non.complete", "lasts = \"profile\"\non.restart = { add = 1 }\non.complete"),
    ] {
        let changed = game.replacen(from, to, 1);
        assert_ne!(changed, game, "{from}");
        assert!(!proved(&changed), "{to}: {:?}", ask(&changed, name).1);
    }
}

/// A play that was not followed to its end may have more than what failing was seen to give.
#[test]
fn a_bound_raises_no_alarm() {
    // A fall gives ten at once; collecting gives thirty, and takes longer.
    let eased = GAME.replace(
        "after_failure = \"entry\"",
        "after_failure = \"keep\"\nwritten_by = \"both\"\non.death = { max = 10 }",
    ) + "[field.best_score]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"score\" }\n";
    let spec = Spec::from_toml(
        &eased
            .replace(
                "lasts = \"visit\"\nafter_failure = \"checkpoint\"\n",
                "lasts = \"visit\"\nafter_failure = \"keep\"\n",
            )
            .replace("score = 10 }", "score = 5 }"),
    )
    .unwrap();
    for question in questions(&spec) {
        for depth in 1..6 {
            let ending = Search::new(&spec, &question, SearchBounds { depth, ..SearchBounds::default() }).run();
            assert!(ending.broken().is_none(), "{} in {depth} steps: {ending:?}", question.name());
        }
    }
}

#[test]
fn a_level_that_is_never_completed_is_found() {
    let needs = GAME.replace(
        "[level.mill_lane]",
        "[level.heather_rise]\nopens = \"best_letters[mill_lane] >= 40\"\n[level.mill_lane]",
    );
    let play = broken(&needs, "every level can be opened and completed");
    assert!(play.contains("`heather_rise` is never completed, whatever is played"), "{play}");
    let (_, ending) = ask(GAME, "every level can be opened and completed");
    assert!(ending.broken().is_none() && ending.seen().all, "{ending:?}");
}

/// The game with another field, and a source of it.
fn with(rest: &str) -> String {
    format!("{GAME}{rest}")
}

fn holds(toml: &str, name: &str) {
    let (_, ending) = ask(toml, name);
    assert!(ending.broken().is_none() && ending.seen().all, "{ending:?}");
}

#[test]
fn a_level_that_may_stay_locked_is_allowed_by_its_name() {
    let needs = GAME.replace(
        "[level.mill_lane]",
        "[level.heather_rise]\nopens = \"best_letters[mill_lane] >= 40\"\n[level.mill_lane]",
    );
    let allow =
        |of: &str| format!("{needs}[[allow]]\ncode = \"V201\"\n{of}because = \"it opens with the next update\"\n");
    holds(&allow("of = \"heather_rise\"\n"), "every level can be opened and completed");
    broken(&allow("of = \"mill_lane\"\n"), "every level can be opened and completed");
    let checked = vestigum_verify::lint::check("spec.toml", &allow("of = \"heather_rise\"\n"));
    assert!(checked.findings.list().is_empty() && checked.allowed.len() == 1, "{}", checked.findings);
    let checked = vestigum_verify::lint::check("spec.toml", &allow("of = \"heather_ris\"\n"));
    let told: Vec<String> = checked.findings.list().iter().map(|finding| finding.message.clone()).collect();
    assert_eq!(told, ["`heather_rise` can never open", "V201 is never asked of `heather_ris`"]);
    let spec = Spec::from_toml(&allow("of = \"heather_rise\"\n")).unwrap();
    let question = questions(&spec).into_iter().find(|question| question.code() == Some("V201")).unwrap();
    let allowed: Vec<_> = question.allowed_levels(&spec).collect();
    assert_eq!(allowed, [("heather_rise", "it opens with the next update")]);
}

/// Lives are a price, and so is the game over that the last of them brings: leaving is compared with the death alone.
#[test]
fn leaving_is_not_compared_with_a_game_over_that_follows() {
    let purse = "[field.purse]\ntype = \"int\"\nrange = [0, 2]\nlasts = \"run\"\nafter_failure = \"keep\"\non.abandon = \"keep\"\n\
        on.death = \"checkpoint\"\non.game_over = \"reset\"\nwritten_by = \"both\"\n[save]\nresume = \"none\"\n\
        [[source]]\nname = \"coin\"\ngives = { purse = 1 }\nafter_failure = \"keep\"\n";
    let once = GAME.replace("[save]\nat = [\"complete\", \"death\"]\n", "").replace("default = 3", "default = 1");
    let play = broken(&format!("{once}{purse}"), "leaving keeps no more of `purse` than dying");
    assert!(play.contains("`purse` is 1 after"), "what a death takes: {play}");
    // Where a death takes nothing but a life, leaving keeps nothing more, though the run ends with it.
    let same = purse
        .replace("on.death = \"checkpoint\"\n", "on.death = \"keep\"\n")
        .replace("on.abandon = \"keep\"\n", "on.abandon = \"entry\"\n");
    holds(&format!("{once}{same}"), "leaving keeps no more of `purse` than dying");
}

/// The words are the same, and the marks that they mean are not.
#[test]
fn leaving_is_asked_by_what_is_left_and_not_by_words() {
    let tab = "[field.tab]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"checkpoint\"\n\
        [[source]]\nname = \"debt\"\ngives = { tab = -1 }\nafter_failure = \"keep\"\n";
    // A death goes back to the checkpoint, and giving up to the entry.
    let play = broken(&with(tab), "leaving keeps no more of `tab` than dying");
    assert!(play.contains("`tab` is 0 after giving up, and would be -1 after a death in its place"), "{play}");
    // With `respawn = "entry"` both go to the entry, and so does a save.
    let entry = with(&format!("{tab}[death]\nrespawn = \"entry\"\n"));
    let spec = Spec::from_toml(&entry).unwrap();
    assert!(questions(&spec).iter().all(|question| !question.name().contains("`tab` than dying")));
}

/// A visit adds to the number without end, and no condition can tell how much there is of it above 100.
#[test]
fn a_number_that_is_only_compared_is_seen_to_its_end() {
    let steps = "[field.steps]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
        [[source]]\nname = \"path\"\nlasts = \"visit\"\nafter_failure = \"keep\"\ngives = { steps = 30 }\n\
        [level.heather_rise]\nopens = \"steps >= 100\"\n\
        [[promise]]\nname = \"it opens late\"\nholds = \"steps >= 100 or not opened[heather_rise]\"\n";
    for name in ["it opens late", "every level can be opened and completed"] {
        let (_, ending) = ask(&with(steps), name);
        assert!(ending.broken().is_none() && ending.seen().all, "`{name}`: {ending:?}");
    }
    // What something else takes over as it is, what falls, and what is asked for itself is not cut.
    let taken = steps.replace("[level.heather_rise]", "[field.most]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"rules\"\non.complete = { max = \"steps\" }\n[level.heather_rise]");
    let play = broken(&format!("{}[[promise]]\nname = \"asked\"\nholds = \"most < 150\"\n", with(&taken)), "asked");
    assert!(play.contains("expect most < 150"), "{play}");
}

/// Keys are entries of one field; each is given on its own.
#[test]
fn a_source_gives_the_entry_that_it_names() {
    let keys = "[keys.door]\nnames = [\"north\", \"south\"]\n\
        [field.key_taken]\ntype = \"bool\"\nper = \"door\"\nlasts = \"run\"\nafter_failure = \"keep\"\n\
        [field.crates]\ntype = \"int\"\nper = [\"level\", \"door\"]\nlasts = \"run\"\nafter_failure = \"keep\"\n\
        [[source]]\nname = \"hook\"\nin = \"mill_lane\"\nlasts = \"run\"\nafter_failure = \"keep\"\ntimes = 2\n\
        gives = { \"key_taken[north]\" = true, \"crates[level, south]\" = 2 }\n";
    let promise = |holds: &str| format!("{}[[promise]]\nname = \"asked\"\nholds = \"{holds}\"\n", with(keys));
    holds(&promise("not key_taken[south]"), "asked");
    holds(&promise("crates[heather_rise, south] + crates[mill_lane, north] == 0"), "asked");
    let play = broken(&promise("not key_taken[north]"), "asked");
    assert!(play.contains("  key_taken[north] = true "), "{play}");
    let play = broken(&promise("crates[mill_lane, south] < 4"), "asked");
    assert_eq!(play.matches("  crates[mill_lane, south] += 2").count(), 2, "{play}");
    // What opens by such a key is known to open, and what needs a key that nobody finds is known not to.
    let gated = |key: &str| format!("{}[level.heather_rise]\nopens = \"key_taken[{key}]\"\n", with(keys));
    holds(&gated("north"), "every level can be opened and completed");
    let checked = vestigum_verify::lint::check("spec.toml", &gated("south"));
    let told: Vec<String> = checked.findings.list().iter().map(|finding| finding.message.clone()).collect();
    assert_eq!(told, ["`heather_rise` can never open"]);
}

#[test]
fn a_game_over_in_the_menu_is_no_failure() {
    let bonus = GAME.replace("[run]\nover_when = \"lanterns == 0\"\n", "")
        + "[field.purse]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"\non.game_over = { set = 5 }\n\
           [field.most]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"purse\" }\n";
    // Five at a game over, and they are gone with a new run: nobody has them at the end of a level.
    holds(&bonus, "failing gains nothing for `most`");
    let kept = bonus.replace(
        "lasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"",
        "lasts = \"profile\"\nwritten_by = \"rules\"",
    );
    // Said in the menu, it gives the same as in a level.
    holds(&kept, "failing gains nothing for `most`");
}

#[test]
fn a_record_is_what_can_grow_when_a_level_is_completed() {
    let farmed = "[field.coins]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\nrange = [0, 90]\n\
        [[source]]\nname = \"coin\"\ngives = { coins = 30 }\nlasts = \"visit\"\nafter_failure = \"entry\"\n";
    let record = |lasts: &str, rule: &str| {
        with(&format!("{farmed}[field.most]\ntype = \"int\"\nlasts = \"{lasts}\"\non.complete = {rule}\n"))
    };
    for rule in [
        "{ max = \"coins\" }",
        "{ set = \"max(most, coins)\" }",
        "{ set = \"coins\", when = \"coins > most\" }",
        "[{ do = \"keep\", when = \"coins < 60\" }, { add = 1 }]",
    ] {
        broken(&record("profile", rule), "failing gains nothing for `most`");
        broken(&record("device", rule), "failing gains nothing for `most`");
    }
    for rule in ["{ min = \"coins\" }", "{ set = \"min(most, coins)\" }", "{ add = -1 }", "\"reset\""] {
        let spec = Spec::from_toml(&record("profile", rule)).unwrap_or_else(|errors| panic!("{errors}"));
        assert!(questions(&spec).iter().all(|question| !question.name().contains("`most`")), "{rule}");
    }
}
