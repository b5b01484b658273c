//! Lints: what is found, where, and what is not.

use vestigum_core::lint::{Checked, check};
use vestigum_core::{Severity, codes};

/// Three levels, the last of which opens when `opens` holds.
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
        assert!(checked.findings.list().is_empty(), "{opens}: {}", checked.findings);
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
    insta::assert_snapshot!(checked.findings, @r#"
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
    insta::assert_snapshot!(checked.findings, @r#"
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

/// What is close to a mistake and none.
#[test]
fn near_misses_are_not_reported() {
    let base = world("total >= 3");
    for (what, from, to) in [
        (
            "a guarded set is decided",
            "on.complete = { max = \"grade",
            "on.complete = { when = \"letters > 0\", set = \"grade",
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
