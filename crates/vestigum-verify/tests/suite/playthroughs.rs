//! Scripts: the demo's pass, wrong ones say where, failing ones say why.

use vestigum_core::{Image, Progress, Spec};
use vestigum_verify::playthrough::{MemorySaves, Run, Script, Why, run};

const FELLPOST: &str = include_str!("../../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

fn spec() -> Spec {
    Spec::from_toml(fellpost()).unwrap()
}

fn played(text: &str) -> Run {
    let spec = spec();
    let script = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec);
    let script = script.unwrap_or_else(|errors| panic!("{errors}"));
    run(&spec, &script.playthroughs()[0], &mut MemorySaves::default())
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
        Some(Why::Refused(why) | Why::Unjudged(why)) => why,
        other => panic!("{text}: {other:?}"),
    };
    assert_eq!(why("enter mill_lane"), "no session runs; `launch` begins one");
    assert_eq!(why("launch\nlaunch"), "a session runs already; quit or crash first");
    assert_eq!(why("launch\ndeath"), "death happens only inside a level, and the player is in the menu");
    assert_eq!(why("launch\nenter heather_rise"), "`heather_rise` is locked: complete Mill Lane");
    assert_eq!(why("launch\nenter scree_gate"), "`scree_gate` is locked: complete Heather Rise; 4 stars, 0 so far");
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
    13:10 only moments, writes and syncs can be refused
    14:3 how often?
    16:3 this `end` ends nothing
    17:3 this `repeat` has no `end`
    18:6 a value is missing after this operator
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

const YARD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[field.tools]
type = "set of text"
lasts = "profile"
after_failure = "keep"
[field.queue]
type = "list of int"
lasts = "profile"
after_failure = "entry"
[field.bag]
type = "map of int"
lasts = "profile"
after_failure = "keep"
[field.best]
type = "int"
per = "level"
lasts = "profile"
after_failure = "keep"
"#;

fn in_the_yard(text: &str) -> Run {
    let spec = Spec::from_toml(YARD).unwrap();
    let script = Script::from_text("a.play", &format!("playthrough \"a\"\nlaunch\n{text}"), &spec);
    let script = script.unwrap_or_else(|errors| panic!("{errors}"));
    run(&spec, &script.playthroughs()[0], &mut MemorySaves::default())
}

#[test]
fn containers_are_filled_and_emptied_by_statements() {
    let run = in_the_yard(
        "insert tools 'rope'\ninsert tools 'rope'\ninsert tools 'hook'\nremove tools 'rope'\nremove tools 'axe'\n\
         expect tools == ['hook']\n\
         insert queue 3\ninsert queue 1\ninsert queue 3\nremove queue 3\nexpect queue == [1, 3]\n\
         insert bag 'letters' 4\ninsert bag 'letters' 5\ninsert bag 'post' 1\nremove bag 'post'\n\
         expect bag['letters'] == 5 and len(bag) == 1 and not has(bag, 'post')\n\
         queue = []\nexpect len(queue) == 0",
    );
    assert_eq!(run.failure, None);
}

#[test]
fn resets_are_statements_and_are_saved_at_once() {
    let run = in_the_yard(
        "enter mill_lane\nbest = 4\ncomplete\nsave\nbest[heather_rise] = 2\nreset level mill_lane\ncrash\nlaunch\n\
         expect best[mill_lane] == 0 and best[heather_rise] == 2 and not completed[mill_lane] and open(heather_rise)\n\
         reset field best[heather_rise]\nexpect sum(best) == 0\ninsert tools 'rope'\nreset everything\nexpect len(tools) == 0\n\
         refuse reset level attic\nrefuse reset field nothing\nrefuse reset field best[attic]",
    );
    assert_eq!(run.failure, None);
    let note = run.timeline.rows.iter().find(|row| row.statement.starts_with("reset level")).unwrap().note.clone();
    assert_eq!(note, "2 values reset, saved 2");
}

#[test]
fn the_board_is_part_of_the_story() {
    let run = in_the_yard("enter mill_lane\nbest = 4\ncomplete\nboard");
    let board = &run.timeline.rows.last().unwrap().board;
    let told: Vec<String> = board.iter().map(ToString::to_string).collect();
    assert_eq!(told, ["mill_lane      completed  best 4", "heather_rise   open  best 0"]);
}

#[test]
fn statements_on_containers_are_checked_before_they_run() {
    let spec = Spec::from_toml(YARD).unwrap();
    for (text, expected) in [
        ("insert tools 3", "a text is wanted here, and this is an int"),
        ("insert tools", "what should be inserted?"),
        ("insert bag 3", "is a map: say under which key, in quotes"),
        ("insert tools 'a' 'b'", "values are inserted into lists, sets and maps"),
        ("insert best 3", "is of type int; values are inserted into lists, sets and maps"),
        ("remove best 3", "is of type int; values are removed from lists, sets and maps"),
        ("remove", "which field?"),
        ("tools += 'a'", "is of type set of text; only numbers are added to"),
        ("best[mill_lane, heather_rise] = 1", "`best` takes a level, found 2"),
        ("best[] = 1", "the names of keys or a position are wanted in these brackets"),
        ("reset", "what should be reset?"),
        ("reset score", "`score` cannot be reset"),
        ("reset run now", "nothing stands behind this"),
        ("reset level", "which level?"),
        ("reset level attic", "no level is called `attic`"),
        ("board now", "nothing stands behind this statement"),
    ] {
        let errors = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec).unwrap_err();
        let errors = vestigum_verify::render(&errors, false);
        assert!(errors.contains(expected), "{text}: `{expected}` is not said:\n{errors}");
    }
}

const TEAM: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
    [struct.hound]\nname = \"text\"\nlevel = { type = \"int\", default = 1, range = [1, 9] }\ntricks = \"list of text\"\n\
    [field.team]\ntype = \"list of hound\"\nlasts = \"run\"\nafter_failure = \"entry\"\n\
    [field.packs]\ntype = \"map of hound\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.best]\ntype = \"int\"\nper = \"level\"\noptional = true\nlasts = \"profile\"\nafter_failure = \"keep\"\n\
    [field.given]\ntype = \"hound\"\nlasts = \"run\"\non.complete = { set = \"team[1]\" }\n";

#[test]
fn statements_write_parts_of_values() {
    let spec = Spec::from_toml(TEAM).unwrap_or_else(|errors| panic!("{errors}"));
    let text = "launch\ninsert team { name = 'Rook' }\nenter mill_lane\nteam[1].level += 4\ninsert team { name = 'Wren' }\n\
                insert team[2].tricks 'fetch'\nexpect team[1].level == 5 and has(team[2].tricks, 'fetch')\n\
                remove team[2].tricks 'fetch'\nteam[2] = { name = 'Lark', level = 2 }\nexpect sum(team.level) == 7\n\
                insert packs['ring'] 'no' { name = 'x' }";
    // A key of a map that stands alone is a part, so this is not an entry of the field.
    let errors = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec).unwrap_err().to_string();
    assert!(errors.contains("`packs['ring']` is of type hound"), "{errors}");
    let text = text.replace("insert packs['ring'] 'no' { name = 'x' }", "insert packs[heather_rise] 'ring' { name = 'Heron' }\n\
                packs[heather_rise]['ring'].level = 12\nexpect packs[heather_rise]['ring'].level == 9\n\
                insert packs 'crate' { name = 'Owl' }\npacks['crate'].level -= 5\nexpect packs[mill_lane]['crate'].level == 1\n\
                raise best[mill_lane] to 40\nraise best to 30\nexpect best == 40\nlower best to 20\nexpect best[mill_lane] == 20\n\
                refuse team[3].level = 2\nrefuse packs['none'].level = 2\nrefuse given.level = 2\ndeath\n\
                expect len(team) == 1 and team[1].level == 1\nquit\nlaunch\nexpect packs[heather_rise]['ring'].name == 'Heron'");
    let script = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec);
    let script = script.unwrap_or_else(|errors| panic!("{errors}"));
    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
    assert_eq!(run.failure, None);
    let notes = |word: &str| {
        let rows = run.timeline.rows.iter().filter(|row| row.statement.starts_with(word));
        rows.map(|row| row.note.clone()).collect::<Vec<_>>()
    };
    assert_eq!(notes("raise"), ["beaten", "not beaten"]);
    assert_eq!(notes("packs[heather_rise]"), ["brought into its limits"]);
    for (text, expected) in [
        ("team[0].level = 1", "positions count from 1"),
        ("team[-1].level = 1", "the names of keys or a position are wanted"),
        ("team.level = 1", "`.level` is a part of a struct, and this is of type list of hound"),
        ("team[1].levl = 1", "a hound has no member `levl`; it has: name, level, tricks"),
        ("team[1].name += 1", "`team[1].name` is of type text; only numbers are added to"),
        ("team[1, 2].level = 1", "one position or one key is wanted here"),
        ("team[1].level = 'a'", "an int is wanted here, and this is a text"),
        ("team[1]. = 1", "the name of a member is missing"),
        ("given.level = 1", "only rules write `given`"),
        ("raise team to 3", "numbers and choices are raised and lowered"),
        ("raise best 3", "to which value?"),
        ("team[99999999999999999999].level = 1", "this number is too large"),
    ] {
        let errors = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec).unwrap_err();
        let errors = vestigum_verify::render(&errors, false);
        assert!(errors.contains(expected), "{text}: `{expected}` is not said:\n{errors}");
    }
}

/// A script whose imports find these images, by their names.
fn importing(text: &str, images: Vec<(&'static str, Image)>) -> Result<Run, String> {
    let spec = spec();
    let files = move |script: &str, path: &str| match images.iter().find(|(name, _)| *name == path) {
        Some((_, image)) if script == "plays/a.play" => Ok(image.to_json()),
        _ => Err(format!("there is no {path} beside {script}").into()),
    };
    let text = format!("playthrough \"a\"\n{text}");
    let script = Script::from_text_with("plays/a.play", &text, &spec, &files)
        .map_err(|errors| vestigum_verify::render(&errors, false))?;
    Ok(run(&spec, &script.playthroughs()[0], &mut MemorySaves::default()))
}

#[test]
fn a_saved_image_is_imported_as_this_players_newest() {
    let mut game = Progress::fresh(&spec());
    game.write("xp", &[], 30.into()).unwrap();
    game.write("volume", &[], 15.into()).unwrap();
    let suspended = game.suspend();
    let images = || vec![("ada.json", suspended.profile_image("ada")), ("device.json", suspended.device_image())];
    let play = "profile ben\nlaunch\nxp += 5\nquit\nimport \"ada.json\"\nimport \"device.json\"\nlaunch\n\
        expect xp == 30 and volume == 15\nprofile cora\nlaunch\nexpect xp == 0 and volume == 15";
    let run = importing(play, images()).unwrap();
    assert!(run.passed(), "{:?}", run.failure);
    let run = importing("launch\nimport \"ada.json\"", images()).unwrap();
    assert!(matches!(run.failure.unwrap().why, Why::Refused(why) if why.contains("a session runs")));
    // An image of a newer version is there, and the launch refuses it.
    let newer = vec![("newer.json", Image { version: 9, ..suspended.profile_image("ada") })];
    let run = importing("import \"newer.json\"\nrefuse launch", newer).unwrap();
    assert!(run.passed(), "{:?}", run.failure);
    let other = vec![("other.json", Image { game: "hillpost".into(), ..suspended.profile_image("ada") })];
    let wrong =
        importing("import \"nowhere.json\"\nimport \"other.json\"\nimport ada.json\nimport", other).unwrap_err();
    insta::assert_snapshot!(wrong, @r#"
    error[V020]: `nowhere.json` cannot be imported: there is no nowhere.json beside plays/a.play
     --> plays/a.play:2:8
      |
    2 | import "nowhere.json"
      |        ^^^^^^^^^^^^^^

    error[V020]: `other.json` cannot be imported: it is of the game `hillpost`
     --> plays/a.play:3:8
      |
    3 | import "other.json"
      |        ^^^^^^^^^^^^

    error[V020]: which saved image?
     --> plays/a.play:4:8
      |
    4 | import ada.json
      |        ^^^^^^^^
      |
      = help: name its file in double quotes, as in `import "v1/ada.json"`

    error[V020]: which saved image?
     --> plays/a.play:5:1
      |
    5 | import
      | ^^^^^^
      |
      = help: name its file in double quotes, as in `import "v1/ada.json"`
    "#);
}

#[test]
fn devices_have_saves_of_their_own_and_come_together_by_syncs() {
    let play = "device laptop\nlaunch\nxp += 5\nrefuse sync\nquit\nsync\nprofile ben\n\
        sync\nprofile player\ndevice hand_held\nlaunch\nexpect xp == 0\ncrash\ndevice laptop\nlaunch\nexpect xp == 5\n\
        volume = 20\nquit\ndevice hand_held\nsync\nlaunch\nexpect xp == 5 and volume == 70\nquit\nsync";
    let run = played(play);
    assert!(run.passed(), "{:?}", run.failure);
    let notes: Vec<(&str, &str)> = run
        .timeline
        .rows
        .iter()
        .filter(|row| row.statement.ends_with("sync"))
        .map(|row| (row.device.as_deref().unwrap_or_default(), row.note.as_str()))
        .collect();
    assert_eq!(
        notes,
        [
            ("laptop", "refused: a session runs; quit or crash before a sync"),
            ("laptop", "taken there as save 1"),
            ("laptop", "there is nothing to sync"),
            ("hand_held", "taken from there as save 1"),
            ("hand_held", "in sync"),
        ]
    );
    let errors = |text: &str, spec: &Spec| {
        let errors = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), spec).unwrap_err();
        errors.list().iter().map(|finding| finding.message.clone()).collect::<Vec<_>>()
    };
    let late = errors("launch\ndevice laptop\nquit", &spec());
    assert_eq!(late, ["something was played on no device before"]);
    assert_eq!(errors("device\nsync now", &spec()), ["which one?", "nothing stands behind this statement"]);
    let plain = Spec::from_toml(YARD).unwrap();
    assert!(errors("sync", &plain)[0].contains("the spec has no `[merge]`"));
}
