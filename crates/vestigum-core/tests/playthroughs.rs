//! Scripts: the demo's pass, wrong ones say where, failing ones say why.

use vestigum_core::Spec;
use vestigum_core::playthrough::{MemoryShelf, Run, Script, Why, run};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");

fn spec() -> Spec {
    Spec::from_toml(FELLPOST).unwrap()
}

fn played(text: &str) -> Run {
    let spec = spec();
    let script = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec);
    let script = script.unwrap_or_else(|errors| panic!("{errors}"));
    run(&spec, &script.playthroughs()[0], &mut MemoryShelf::default())
}

#[test]
fn a_failing_expectation_tells_its_parts_and_their_last_changes() {
    let run = played("launch\nenter mill_lane\nletters += 30\nscore += 60\ndeath\nexpect score == 60 and xp == 0");
    let failure = run.failure.unwrap();
    assert_eq!((failure.line, failure.statement.as_str()), (7, "expect score == 60 and xp == 0"));
    let Why::Expectation { parts, changes } = failure.why else { panic!("{:?}", failure.why) };
    let parts: Vec<_> = parts.iter().map(|part| (part.part.as_str(), part.holds)).collect();
    assert_eq!(parts, [("score == 60", false), ("xp == 0", true)]);
    let changes: Vec<_> = changes.iter().map(|c| (c.name.as_str(), c.line, c.statement.as_str())).collect();
    assert_eq!(changes, [("score", 6, "death")]);
    assert_eq!(run.statements, 6, "nothing runs after a failure");
}

#[test]
fn refused_statements_say_why_in_a_sentence() {
    let why = |text: &str| match played(text).failure.map(|failure| failure.why) {
        Some(Why::Refused(why)) => why,
        other => panic!("{text}: {other:?}"),
    };
    assert_eq!(why("enter mill_lane"), "no session runs; `launch` begins one");
    assert_eq!(why("launch\nlaunch"), "a session runs already; quit or crash first");
    assert_eq!(why("launch\ndeath"), "death happens only inside a level, and the player is in the menu");
    assert_eq!(why("launch\nenter heather_rise"), "`heather_rise` is locked: needs completed[mill_lane]");
    assert_eq!(
        why("launch\nenter scree_gate"),
        "`scree_gate` is locked: needs completed[heather_rise]; needs total_stars >= 4, has 0"
    );
    assert_eq!(
        why("launch\nletters += 1"),
        "`letters` lasts one visit, so it can be written only inside a level; the player is in the menu"
    );
    assert_eq!(
        why("launch\nexpect stars == 0"),
        "`stars` has a value for each level; name one, as in `stars[mill_lane]`"
    );
    assert_eq!(
        why("launch\nenter mill_lane\ncheckpoint frod"),
        "`mill_lane` has no checkpoint `frod`; did you mean `ford`?"
    );
    assert_eq!(
        why("launch\nenter mill_lane\nenter mill_lane"),
        "enter happens only from the menu, and the player is in mill_lane"
    );
    assert_eq!(
        why("launch\nenter mill_lane\nnew_run"),
        "new_run happens only outside a level, and the player is in mill_lane"
    );
}

#[test]
fn what_is_refused_where_it_should_be_passes() {
    let run = played(
        "launch\nrefuse enter nowhere\nrefuse best_score = 1\nrefuse stars[nowhere] = 1\nrefuse letters += 1\n\
         refuse launch\nrefuse death\nenter mill_lane\nrefuse checkpoint nowhere\nrefuse complete",
    );
    let failure = run.failure.unwrap();
    assert_eq!((failure.line, failure.why), (11, Why::NotRefused));
}

#[test]
fn scripts_with_mistakes_are_shown_at_once_with_their_places() {
    let text = "\
launch
playthrough \"a\"
  lauch
  enter mil_lane
  enter mill_lane at frod
  leters += 3
  letters == 3
  score += 'many'
  best_score = 4
  expect scor == 1
  expect
  refuse
  refuse save
  repeat
  end
  end
  repeat 3
  xp +=
  watch
  death now
playthrough nameless
";
    let errors = Script::from_text("a.play", text, &spec()).unwrap_err();
    let found: Vec<String> = errors
        .list()
        .iter()
        .map(|finding| {
            let (line, column) = errors.position(finding);
            format!("{line}:{column} {}", finding.message)
        })
        .collect();
    insta::assert_snapshot!(found.join("\n"), @r"
    1:1 this stands before the first playthrough
    3:3 there is no statement `lauch`
    4:9 no level is called `mil_lane`
    5:22 `mill_lane` has no checkpoint `frod`
    6:3 no field is called `leters`
    7:11 a statement does not compare
    8:12 an int is wanted here, and this is a text
    9:3 only rules write `best_score`
    10:10 nothing is called `scor`
    11:3 what should hold?
    12:3 which statement should be refused?
    13:10 only moments and writes can be refused
    14:3 how often?
    16:3 this `end` ends nothing
    17:3 this `repeat` has no `end`
    18:6 a value is missing behind this sign
    19:3 what should be watched?
    20:9 nothing stands behind this statement
    21:13 a playthrough needs a name in double quotes
    ");
}

#[test]
fn hostile_scripts_are_errors_and_never_a_panic() {
    let spec = spec();
    let deep = "repeat 2\n".repeat(500) + &"end\n".repeat(500);
    for text in [
        String::new(),
        "\u{feff}\u{0}".into(),
        format!("playthrough \"a\"\n{deep}"),
        "playthrough \"a\"\nrepeat 4294967295\nrepeat 4294967295\nlaunch\nend\nend".into(),
        format!("playthrough \"a\"\nexpect {}1", "(".repeat(10_000)),
        format!("playthrough \"a\"\nletters[{}", "[".repeat(10_000)),
        "playthrough \"".into(),
        "é += 1".into(),
    ] {
        assert!(Script::from_text("a.play", &text, &spec).is_err(), "{text:.60} was taken");
    }
}
