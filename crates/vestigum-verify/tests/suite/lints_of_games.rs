//! Warnings about keys, openings, prices and farms: each finds its mistake, and nothing where one word is another.

use vestigum_verify::lint::check;

const GAME: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
    [keys.country]\nnames = [\"fell\", \"marsh\"]\n[moments]\nnames = [\"buy\", \"meet\"]\n\
    [field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n";

fn codes(text: &str) -> Vec<&'static str> {
    let checked = check("spec.toml", &format!("{GAME}{text}"));
    assert!(checked.spec.is_some(), "{}\n{text}", checked.findings);
    checked.findings.list().iter().map(|finding| finding.code).collect()
}

/// Returns the findings in a text, and those that go where a part of it is replaced.
fn only_as_it_stands(text: &str, code: &str, fixed: &[(&str, &str)]) {
    assert_eq!(codes(text), [code], "{text}");
    for (from, to) in fixed {
        let other = text.replace(from, to);
        assert_ne!(other, text, "`{from}` does not stand there");
        assert_eq!(codes(&other), [""; 0], "with `{to}`:\n{other}");
    }
}

#[test]
fn a_value_per_key_reads_the_key() {
    let text = "[field.seals]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
        [derived]\ndone = { per = \"country\", value = \"seals > 2\" }\n";
    only_as_it_stands(
        text,
        "V119",
        &[
            ("lasts = \"profile\"", "lasts = \"profile\"\nper = \"country\""),
            ("{ per = \"country\", value = \"seals > 2\" }", "\"seals > 2\""),
        ],
    );
    let fixed = text
        .replace("lasts = \"profile\"", "lasts = \"profile\"\nper = \"country\"")
        .replace("seals >", "seals[fell] >");
    assert_eq!(codes(&fixed), ["V119"]);
}

#[test]
fn a_rule_says_which_key_it_writes() {
    let text = "[field.met]\ntype = \"bool\"\nper = \"country\"\nlasts = \"profile\"\non.meet = { set = true }\n";
    let current = "[field.now]\ntype = \"choice\"\nof = [\"fell\", \"marsh\"]\nlasts = \"run\"\nafter_failure = \"keep\"\n\
        [field.met]";
    only_as_it_stands(
        text,
        "V120",
        &[("on.meet", "on.new_run"), ("set = true", "set = false"), ("per = \"country\"\n", "")],
    );
    // The key set stands before the field in the document; so both are replaced.
    let named = format!("{GAME}{text}")
        .replace("names = [\"fell\", \"marsh\"]\n", "names = [\"fell\", \"marsh\"]\ncurrent = \"now\"\n")
        .replace("[field.met]", current);
    assert!(check("spec.toml", &named).findings.list().is_empty(), "{}", check("spec.toml", &named).findings);
    let number = text.replace("\"bool\"", "\"int\"");
    assert_eq!(codes(&number.replace("set = true", "add = 1")), [""; 0]);
    assert_eq!(codes(&number.replace("meet", "complete").replace("set = true", "max = \"letters\"")), ["V120"]);
}

#[test]
fn an_opening_holds_once_it_holds() {
    let text = "[level.cloud_pass]\nopens = \"total == 4\"\n[field.stars]\ntype = \"int\"\nrange = [0, 3]\nper = \"level\"\n\
        lasts = \"profile\"\non.complete = { max = \"letters / 10\" }\n[derived]\ntotal = \"sum(stars)\"\n";
    only_as_it_stands(
        text,
        "V121",
        &[
            ("total == 4", "total >= 4"),
            // It can be no more than that, it holds before anything is played, or no number is asked for.
            ("total == 4", "stars[mill_lane] == 3"),
            ("total == 4", "total < 4"),
            ("total == 4", "completed[mill_lane] == true"),
            ("total == 4", "count(completed) >= 1"),
        ],
    );
    assert_eq!(codes(&text.replace("total == 4", "total >= 1 and total < 4")), ["V121"; 0], "it moves both ways");
    assert_eq!(codes(&text.replace("total == 4", "count(completed) == 1")), ["V121"]);
}

#[test]
fn what_is_bought_is_paid_for() {
    let text = "[field.coins]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"profile\"\nwritten_by = \"both\"\nafter_failure = \"entry\"\n\
        on.buy = { add = -30, when = \"coins >= 30\" }\n[field.lamp]\ntype = \"bool\"\nlasts = \"profile\"\n\
        on.buy = { set = true, when = \"coins >= 30\" }\n";
    only_as_it_stands(
        text,
        "V122",
        &[
            ("after_failure = \"entry\"\non", "after_failure = \"keep\"\non"),
            ("lasts = \"profile\"\non.buy", "lasts = \"profile\"\nafter_failure = \"entry\"\non.buy"),
            ("lasts = \"profile\"\non.buy", "lasts = \"session\"\non.buy"),
            ("add = -30", "add = 30"),
            ("on.buy = { set", "on.meet = { set"),
        ],
    );
    let restart = text.replace("after_failure = \"entry\"\non", "after_failure = \"keep\"\non.restart = \"entry\"\non");
    assert_eq!(codes(&restart), ["V122"], "a restart gives it back, too");
}

#[test]
fn a_farm_is_found_wherever_it_leads() {
    let coins = |more: &str, after: &str, lasts: &str, back: &str| {
        format!(
            "[field.coins]\ntype = \"int\"\nlasts = \"profile\"\nwritten_by = \"both\"\nafter_failure = \"{after}\"\n{more}\
             [[source]]\nname = \"coin\"\ngives = {{ coins = 5 }}\ntimes = 2\nlasts = \"{lasts}\"\n{back}"
        )
    };
    let entry = "after_failure = \"entry\"\n";
    let most = "[field.most]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"coins\" }\n";
    // Quitting brings back what lasts a session.
    assert_eq!(codes(&coins(most, "keep", "session", "")), ["V101"]);
    assert_eq!(codes(&coins(most, "keep", "profile", "after_failure = \"keep\"\n")), [""; 0]);
    // It is the record itself.
    assert_eq!(codes(&coins("on.complete = { add = 1 }\n", "keep", "visit", entry)), ["V101"]);
    assert_eq!(codes(&coins("on.complete = { add = 1 }\n", "entry", "visit", entry)), [""; 0]);
    // A ranking takes it.
    let ranking = "[field.best]\ntype = \"ranking of walk\"\nlasts = \"profile\"\nmax_len = 3\nby = \"highest coins\"\n\
        on.complete = { rank = \"{ coins = coins }\" }\n[struct.walk]\ncoins = \"int\"\n";
    assert_eq!(codes(&coins(ranking, "keep", "visit", entry)), ["V101"]);
    // What it buys opens a level.
    let key = "[field.key]\ntype = \"bool\"\nlasts = \"profile\"\non.buy = { set = true, when = \"coins >= 8\" }\n\
        [level.cloud_pass]\nopens = \"key\"\n";
    assert_eq!(codes(&coins(key, "keep", "visit", entry)), ["V101"]);
    assert_eq!(codes(&coins(&key.replace(">= 8", "<= 8"), "keep", "visit", entry)), [""; 0]);
}

#[test]
fn lives_and_clocks_in_other_dresses() {
    let lives = "[field.lives]\ntype = \"int\"\ndefault = 3\nrange = [0, 9]\nlasts = \"run\"\non.death = { add = -1 }\n[save]\nat = [\"death\"]\n";
    assert_eq!(codes(lives), ["V104"]);
    let asked =
        "[field.score]\ntype = \"int\"\nlasts = \"run\"\non.death = [{ set = 0, when = \"lives == 0\" }, \"keep\"]\n";
    assert_eq!(codes(&format!("{asked}{lives}")), [""; 0], "who has none left loses the score");
    let clock = "[field.played]\ntype = \"int\"\ncounts = \"ms\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n";
    assert_eq!(codes(clock), [""; 0]);
    assert_eq!(codes(&format!("{clock}on.death = \"entry\"\n")), ["V110"]);
}
