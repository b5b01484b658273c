//! Lints: what is found, where, and what is not.

use vestigum_core::Severity;
use vestigum_spec::codes;
use vestigum_verify::lint::{Checked, check, check_beside};
use vestigum_verify::render;

/// Three levels; the last opens when `opens` holds.
fn world(opens: &str) -> String {
    format!(
        r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.cloud_pass]
opens = "{opens}"
[field.letters]
type = "int"
range = [0, 50]
lasts = "visit"
after_failure = "entry"
[field.stars]
type = "int"
range = [0, 3]
per = "level"
lasts = "profile"
on.complete = {{ max = "grade(letters, stars)" }}
[field.xp]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.rank]
type = "choice"
of = ["novice", "carrier"]
lasts = "profile"
after_failure = "keep"
[table.stars]
steps = [10, 20, 30]
[derived]
total = "sum(stars)"
"#
    )
}

fn codes_of(checked: &Checked) -> Vec<&str> {
    checked.findings.list().iter().map(|finding| finding.code).collect()
}

#[test]
fn a_condition_that_can_hold_opens_a_level_and_one_that_cannot_does_not() {
    let can = [
        "total >= 6",
        "sum(stars) == 6 or xp < 0",
        "completed[mill_lane] and not completed[cloud_pass]",
        "stars[heather_rise] >= 3",
        "count(completed) >= 2",
        "xp >= 1000000",
        "rank == 'carrier'",
        "max(stars[mill_lane], 2) > 2",
        "if(open(mill_lane), 1, 0) >= 1",
        "grade(xp, stars) == 3",
        "-stars[mill_lane] <= -3",
        "stars[mill_lane] * 2 >= 6",
        "highest(stars) - lowest(stars) >= 3",
    ];
    let cannot = [
        "total >= 7",
        "completed[cloud_pass]",
        "stars[cloud_pass] >= 1",
        "count(completed) >= 3",
        "stars[mill_lane] > 3",
        "stars[mill_lane] < 0",
        "total >= 4 and stars[heather_rise] >= 4",
        "completed[cloud_pass] or total > 6",
        "not (stars[mill_lane] <= 3)",
        "grade(xp, stars) >= 4",
        "min(stars[mill_lane], 2) > 2",
        "open(cloud_pass)",
        "stars[mill_lane] - 4 >= 0",
    ];
    for opens in can {
        let checked = check("spec.toml", &world(opens));
        assert!(!codes_of(&checked).contains(&codes::UNREACHABLE), "{opens}: {}", checked.findings);
    }
    for opens in cannot {
        let checked = check("spec.toml", &world(opens));
        assert_eq!(codes_of(&checked), [codes::UNREACHABLE], "{opens}: {}", checked.findings);
        assert!(checked.spec.is_some(), "it can be played all the same");
    }
}

#[test]
fn a_finding_has_its_place_and_a_way_out() {
    let checked = check("spec.toml", &world("total >= 7 and completed[mill_lane]"));
    insta::assert_snapshot!(render(&checked.findings, false), @r#"
    error[V014]: `cloud_pass` can never open
     --> spec.toml:7:9
      |
    7 | opens = "total >= 7 and completed[mill_lane]"
      |         ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ `total >= 7` can never hold
      |
      = help: ask for less, or give more: what all levels before it can give does not suffice
    "#);
    let mistaken = world("total >= 3").replace("max = \"grade", "set = \"grade");
    let checked = check("spec.toml", &mistaken);
    assert_eq!(codes_of(&checked), [codes::LOWERED_RECORD]);
    assert_eq!((checked.findings.errors(), checked.findings.warnings()), (0, 1));
    assert_eq!(checked.findings.list()[0].severity, Severity::Warning);
    insta::assert_snapshot!(render(&checked.findings, false), @r#"
    warning[V102]: a replay can lower this record: `stars` takes whatever the last visit brought
      --> spec.toml:18:17
       |
    18 | on.complete = { set = "grade(letters, stars)" }
       |                 ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ this overwrites a better one
       |
       = help: write `max = "grade(letters, stars)"`, or `min` where less is better; if the last one is meant, allow it
    "#);
}

#[test]
fn an_allowance_is_for_one_subject_or_for_all() {
    let mistaken = world("total >= 3").replace("max = \"grade", "set = \"grade");
    let with = |allow: &str| check("spec.toml", &format!("{mistaken}\n[[allow]]\n{allow}because = \"it is meant\"\n"));
    let checked = with("code = \"v102\"\n");
    assert!(checked.findings.list().is_empty() && checked.allowed[0].because == "it is meant", "{}", checked.findings);
    let checked = with("code = \"V102\"\nof = \"stars\"\n");
    assert!(checked.findings.list().is_empty(), "{}", checked.findings);
    let checked = with("code = \"V102\"\nof = \"xp\"\n");
    assert_eq!(codes_of(&checked), [codes::LOWERED_RECORD, codes::IDLE_ALLOW], "{}", checked.findings);
    // What exploring finds is not known here, so its allowance is never idle.
    let checked = with("code = \"V202\"\n");
    assert_eq!(codes_of(&checked), [codes::LOWERED_RECORD]);
}

/// A spec that is close to a mistake has no finding.
#[test]
fn near_misses_are_not_reported() {
    let base = world("total >= 3");
    for (what, from, to) in [
        (
            "a guarded set is decided",
            "on.complete = { max = \"grade",
            "on.complete = { when = \"not completed\", set = \"grade",
        ),
        (
            "a set that never lowers",
            "{ max = \"grade(letters, stars)\" }",
            "{ set = \"max(stars, grade(letters, stars))\" }",
        ),
        (
            "a set of the better one",
            "{ max = \"grade(letters, stars)\" }",
            "{ set = \"if(letters / 10 > stars, letters / 10, stars)\" }",
        ),
        (
            "a guard that says so",
            "{ max = \"grade(letters, stars)\" }",
            "{ set = \"letters / 10\", when = \"letters / 10 > stars and letters > 3\" }",
        ),
        ("a set of a constant is a mark", "{ max = \"grade(letters, stars)\" }", "{ set = 3 }"),
        (
            "a death that is saved",
            "[table.stars]",
            "[field.falls]\ntype = \"int\"\nlasts = \"profile\"\non.death = { add = 1 }\n[save]\nat = [\"death\"]\n[table.stars]",
        ),
        (
            "a record of a death is no price",
            "[table.stars]",
            "[field.most]\ntype = \"int\"\nlasts = \"profile\"\non.death = { max = \"letters\" }\n[table.stars]",
        ),
        ("checkpoints may have any name", "after_failure = \"entry\"", "after_failure = \"checkpoint\""),
        (
            "the device takes a record",
            "[table.stars]",
            "[field.most]\ntype = \"int\"\nlasts = \"device\"\non.complete = { max = \"letters\" }\n[save]\nat = [\"complete\"]\n[table.stars]",
        ),
    ] {
        let text = base.replace(from, to);
        assert_ne!(text, base, "{what}");
        let checked = check("spec.toml", &text);
        assert!(checked.findings.list().is_empty(), "{what}: {}", checked.findings);
    }
}

/// A game with sources, lives and a device, and with one more field.
fn game(field: &str) -> Checked {
    let text = format!(
        r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford"]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "entry"
[field.best]
type = "int"
per = "level"
lasts = "profile"
on.complete = {{ max = "letters" }}
{field}
"#
    );
    let checked = check("spec.toml", &text);
    assert!(checked.spec.is_some(), "{}", checked.findings);
    checked
}

#[test]
fn each_warning_knows_its_mistake_in_every_dress() {
    let source = |back: &str, gift: &str| {
        format!(
            "[[source]]\nname = \"coin\"\ngives = {{ coins = {gift} }}\ntimes = 2\nlasts = \"visit\"\nafter_failure = \"{back}\"\n"
        )
    };
    let coins = |after: &str, more: &str, back: &str, gift: &str| {
        format!(
            "[field.coins]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"{after}\"\nwritten_by = \"both\"\n{more}\n\
             [field.most]\ntype = \"int\"\nlasts = \"profile\"\non.complete = {{ max = \"coins\" }}\n{}[save]\nat = [\"death\", \"restart\", \"abandon\"]\n",
            source(back, gift)
        )
    };
    let lives = |more: &str, rule: &str, rest: &str| {
        format!(
            "[field.lives]\ntype = \"int\"\ndefault = 3\nrange = [0, 9]\nlasts = \"run\"\n{more}\non.death = {rule}\n[save]\nat = [\"death\"]\n{rest}"
        )
    };
    let tally = |lasts: &str, rules: &str, at: &str| {
        let keeps = if lasts == "device" { "" } else { "after_failure = \"keep\"\nwritten_by = \"both\"\n" };
        format!("[field.tally]\ntype = \"int\"\nlasts = \"{lasts}\"\n{keeps}{rules}\n[save]\nat = [{at}]\n")
    };
    let cost = "[field.cost]\ntype = \"int\"\ndefault = 1\nlasts = \"session\"\n";
    for (text, found) in [
        // Farming: the value and its source by what is left of each.
        (coins("keep", "", "entry", "5"), "V101"),
        (coins("checkpoint", "", "entry", "5"), "V101"),
        (coins("entry", "on.death = \"keep\"", "entry", "5"), "V101"),
        (coins("entry", "on.death = { add = -4 }", "entry", "5"), "V101"),
        (coins("entry", "on.death = { add = -10 }", "entry", "5"), ""),
        (coins("checkpoint", "", "checkpoint", "5"), ""),
        (coins("keep", "range = [0, 10]", "entry", "5"), ""),
        (coins("keep", "range = [0, 1]", "entry", "1"), ""),
        (coins("keep", "range = [-90, 0]", "entry", "-5"), ""),
        // Records: which rule overwrites.
        (
            tally(
                "profile",
                "on.complete = [{ max = \"letters\", when = \"letters > 40\" }, { set = \"letters\" }]",
                "",
            ),
            "V102",
        ),
        (tally("profile", "on.complete = { set = \"letters\" }", ""), "V102"),
        (tally("run", "on.complete = { set = \"letters\" }", ""), ""),
        (tally("profile", "on.complete = { set = \"min(tally, letters)\" }", ""), ""),
        // Failures that are not saved.
        (tally("run", "on.death = \"reset\"", "\"complete\""), "V103"),
        (tally("run", "on.death = \"reset\"", "\"enter\""), ""),
        (tally("run", "on.death = \"entry\"", "\"complete\""), ""),
        (tally("run", "on.restart = { add = -1 }", "\"death\""), "V103"),
        (tally("profile", "on.abandon = { add = -1 }", "\"death\""), "V103"),
        (tally("visit", "on.death = { add = 1 }", ""), "V103"),
        (tally("visit", "on.death = { add = 1 }", "").replace("[save]", "[save]\nresume = \"none\""), ""),
        // Lives.
        (lives("", "{ add = -1 }", ""), "V104"),
        (lives("", "{ set = \"lives - 1\" }", ""), "V104"),
        (lives("", "{ set = \"max(lives - 1, 0)\" }", ""), "V104"),
        (lives("", "{ add = \"-cost\" }", cost), "V104"),
        (lives("", "{ add = -1 }", "[run]\nover_when = \"lives == 0\"\n"), ""),
        (lives("on.game_over = \"reset\"", "{ add = -1 }", ""), ""),
        (lives("", "{ add = -1 }", "[level.cloud_pass]\nopens = \"lives >= 2\"\n"), ""),
        (lives("", "{ add = -1 }", "").replace("default = 3\n", ""), ""),
        // Checkpoints that no level has.
        (
            tally("run", "on.death = \"checkpoint\"", "\"death\"")
                .replace("[save]", "[checkpoints]\naccept = \"any\"\n[save]"),
            "",
        ),
        // The device.
        (tally("device", "on.complete = { set = \"tally + letters\" }", "\"complete\""), "V107"),
        (tally("device", "on.complete = { max = \"tally + 1\" }", "\"complete\""), "V107"),
        (tally("device", "on.complete = { max = \"letters\" }", "\"complete\""), ""),
        (
            tally("device", "on.game_over = { add = 1 }", "\"death\"")
                + "[run]\nover_when = \"count(completed) > 9\"\n",
            "V107",
        ),
        (
            tally("device", "on.game_over = { add = 1 }", "\"complete\"")
                + "[run]\nover_when = \"count(completed) > 9\"\n",
            "",
        ),
    ] {
        let checked = game(&text);
        let expected: Vec<&str> = if found.is_empty() { Vec::new() } else { vec![found] };
        assert_eq!(codes_of(&checked), expected, "{text}\n{}", checked.findings);
    }
    let listed = tally("run", "on.death = \"checkpoint\"", "\"death\"");
    let text = format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[checkpoints]\naccept = \"forward\"\n{listed}"
    );
    assert_eq!(codes_of(&check("spec.toml", &text)), ["V105"]);
}

/// Thresholds that steps, ranges and sources do not reach are found, and conditions that contradict themselves.
#[test]
fn a_level_that_asks_for_more_than_there_is_never_opens() {
    let text = |opens: &str| {
        format!(
            r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
steps.stars = [10, 20]
[level.cloud_pass]
opens = "{opens}"
[table.stars]
steps = [10, 20, 90]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "entry"
[field.best]
type = "int"
per = "level"
lasts = "profile"
on.complete = {{ max = "letters" }}
[field.stars]
type = "int"
per = "level"
lasts = "profile"
on.complete = {{ max = "grade(letters, stars)" }}
[field.parcels]
type = "int"
lasts = "profile"
after_failure = "keep"
[field.wandered]
type = "int"
lasts = "profile"
on.travel = {{ add = 1 }}
[field.seen]
type = "bool"
lasts = "profile"
on.complete = {{ set = true, when = "level == 'cloud_pass'" }}
[field.lit]
type = "bool"
lasts = "profile"
after_failure = "keep"
[field.rank]
type = "choice"
of = ["novice", "carrier"]
lasts = "profile"
after_failure = "keep"
[[source]]
name = "letter"
gives = {{ letters = 10 }}
times = 3
after_failure = "entry"
[[source]]
name = "lamp"
in = ["cloud_pass"]
gives = {{ lit = true }}
after_failure = "keep"
[[source]]
name = "parcel"
gives = {{ parcels = 1 }}
times = 2
lasts = "profile"
after_failure = "keep"
"#
        )
    };
    let can = [
        "best[mill_lane] >= 30",
        "stars[mill_lane] == 2",
        "sum(stars) >= 4",
        "parcels == 4",
        "wandered >= 900",
        "rank == 'carrier' and rank != 'novice'",
        "stars[mill_lane] >= 1 and stars[mill_lane] < 2",
        "best[mill_lane] * 2 > 50",
        "stars[mill_lane] > 1 or stars[mill_lane] > 2",
    ];
    let cannot = [
        "best[mill_lane] >= 40",
        "stars[mill_lane] >= 3",
        "stars[heather_rise] >= 3",
        "sum(stars) >= 5",
        "parcels > 4",
        "seen",
        "lit",
        "wandered < 0",
        "stars[mill_lane] >= 2 and stars[mill_lane] < 2",
        "wandered > 3 and wandered < 4",
        "rank == 'carrier' and rank == 'novice'",
        "rank == 'carrier' and not (rank == 'carrier')",
        "wandered > 3 and (wandered < 2 or sum(stars) > 4)",
        "best[mill_lane] * 2 > 60",
    ];
    for opens in can {
        let checked = check("spec.toml", &text(opens));
        assert!(!codes_of(&checked).contains(&codes::UNREACHABLE), "{opens}: {}", checked.findings);
    }
    for opens in cannot {
        let checked = check("spec.toml", &text(opens));
        assert_eq!(codes_of(&checked), [codes::UNREACHABLE], "{opens}: {}", checked.findings);
    }
}

/// Returns the findings about the files of two levels; one of the two names its own.
fn of_files(asset: &str, files: &[(&str, &[&str])]) -> Vec<(String, String)> {
    let text = format!(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\nassets = \"maps\"\n[level.tarn_steps]\n{asset}\n"
    );
    let listed = |folder: &str| {
        let found = files.iter().find(|(name, _)| *name == folder).ok_or(format!("{folder} is not there"))?;
        Ok(found.1.iter().map(|name| (*name).to_owned()).collect())
    };
    let checked = check_beside("spec.toml", &text, None, &listed);
    let told = |finding: &vestigum_core::Diagnostic| {
        format!("{} | {}", finding.message, finding.help.clone().unwrap_or_default())
    };
    checked.findings.list().iter().map(|finding| (finding.code.to_owned(), told(finding))).collect()
}

#[test]
fn every_level_has_its_file_and_every_file_its_level() {
    let codes_of = |asset: &str, files: &[(&str, &[&str])]| -> Vec<String> {
        of_files(asset, files).into_iter().map(|(code, _)| code).collect()
    };
    let both: &[&str] = &["mill_lane.ron", "tarn_steps.map.ron", "tarn_steps.png", ".hidden"];
    assert_eq!(codes_of("", &[("maps", both)]), [""; 0]);
    assert_eq!(
        codes_of("asset = \"inner/t.ron\"", &[("maps", &["mill_lane"]), ("maps/inner", &["t.ron", "u.ron"])]),
        [""; 0]
    );
    assert_eq!(codes_of("asset = \"inner/t.ron\"", &[("maps", &["mill_lane"])]), [codes::NO_ASSET]);
    assert_eq!(codes_of("", &[]), [codes::NO_ASSET], "the folder is not there");
    let told = of_files("", &[("maps", &["mill_lane.ron", "Tarn_Steps.ron"])]);
    let of =
        |wanted: &str| told.iter().find(|(code, _)| code == wanted).map(|(_, told)| told.as_str()).unwrap_or_default();
    assert_eq!(told.len(), 2);
    assert!(of(codes::NO_ASSET).contains("no file in `maps` is called `tarn_steps`"), "{told:?}");
    assert!(of(codes::UNUSED_ASSET).contains("`maps/Tarn_Steps.ron`"), "{told:?}");
    let told = of_files("asset = \"steps.ron\"", &[("maps", &["mill_lane.ron", "step.ron"])]);
    assert!(told.iter().any(|(_, told)| told.contains("is it `step.ron`?")), "{told:?}");
    // Where nobody can look, nothing is said.
    let text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\nassets = \"maps\"\n";
    assert_eq!(codes_of_text(text), [""; 0]);
}

fn codes_of_text(text: &str) -> Vec<&'static str> {
    check("spec.toml", text).findings.list().iter().map(|finding| finding.code).collect()
}

#[test]
fn a_level_that_only_its_own_exit_leads_to_never_opens() {
    let world = |exits: &str| {
        format!(
            "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n{exits}\n[level.attic]\nexits = {{ back = \"attic\" }}\n"
        )
    };
    assert_eq!(codes_of_text(&world("")), [codes::UNREACHABLE]);
    assert_eq!(codes_of_text(&world("[level.mill_lane]\nexits = { up = \"attic\" }")), [""; 0]);
    let alone = check("spec.toml", &world(""));
    assert!(render(&alone.findings, false).contains("only the exits of `attic` lead to it"));
}
