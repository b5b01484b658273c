//! Messages that once sent people the wrong way.

use vestigum_core::{History, Progress, Spec};
use vestigum_verify::lint::check_with_history;
use vestigum_verify::playthrough::{MemorySaves, Script, Why, run};

const WORLD: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford"]
[keys.weather]
names = ["fair", "storm"]
[field.score]
type = "int"
lasts = "run"
after_failure = "entry"
[field.best]
type = "int"
per = ["level", "weather"]
lasts = "profile"
after_failure = "keep"
[field.team]
type = "list of int"
lasts = "profile"
after_failure = "keep"
[field.rested]
type = "bool"
per = "checkpoint"
lasts = "profile"
after_failure = "keep"
[derived]
rank = "1 + score / 10"
"#;

fn spec(more: &str) -> Result<Spec, String> {
    Spec::from_toml(&format!("{WORLD}{more}")).map_err(|errors| errors.to_string())
}

#[test]
fn a_handle_says_which_call_reads_the_field() {
    let spec = spec("").unwrap();
    let said = spec.int("best").unwrap_err().to_string();
    assert!(
        said.contains("has a value for each level and each weather: read it with `spec.field_per::<i64, 2>(\"best\")`"),
        "{said}"
    );
    assert!(spec.int("rank").unwrap_err().to_string().contains("read it with `spec.derived::<i64>(\"rank\")`"));
    assert!(
        spec.int_per_level("score")
            .unwrap_err()
            .to_string()
            .contains("has one value: read it with `spec.field::<i64>(\"score\")`")
    );
    let game = Progress::fresh(&spec);
    let said = game.value("rank", &[]).unwrap_err().to_string();
    assert!(said.contains("`derived(\"rank\")` computes it"), "{said}");
    assert!(
        game.derived("score").unwrap_err().to_string().contains("`score` is a field: `value(\"score\", …)` reads it")
    );
    let said = game.value("rested", &[]).unwrap_err().to_string();
    assert!(said.contains("as in `rested[mill_lane, ford]`"), "{said}");
}

#[test]
fn an_expression_says_what_is_meant_for_containers() {
    let said = |derived: &str| spec(&format!("x = \"{derived}\"\n")).unwrap_err();
    assert!(said("count(team)").contains("`len(team)` tells how much is in it"), "{}", said("count(team)"));
    let first = said("team[0]");
    assert!(first.contains("positions count from 1"), "{first}");
    let opens = format!("[level.tarn]\nopens = \"rested\"\n{}", &WORLD[..0]);
    assert!(spec(&opens).unwrap_err().contains("as in `rested[mill_lane, ford]`"));
}

#[test]
fn what_cannot_be_judged_is_not_refused_and_what_comes_next_is_told() {
    let spec = spec("").unwrap();
    let played = |text: &str| {
        let script = Script::from_text("a.play", &format!("playthrough \"a\"\n{text}"), &spec).unwrap();
        run(&spec, &script.playthroughs()[0], &mut MemorySaves::default())
    };
    let run = played("launch\nexpect completed == true");
    assert!(
        matches!(run.failure.map(|failure| failure.why), Some(Why::Unjudged(why)) if why.contains("completed[mill_lane]"))
    );
    let run = played("launch\nenter mill_lane\ncomplete\nenter heather_rise\ncomplete");
    let notes: Vec<&str> = run.timeline.rows.iter().map(|row| row.note.as_str()).collect();
    assert_eq!(notes[2..], ["opens heather_rise, next: heather_rise, saved 1", "", "nothing comes after it, saved 2"]);
}

#[test]
fn a_field_that_may_have_been_split_is_offered_its_fills() {
    let old = spec("").unwrap();
    let history = History::default().freeze(&old).unwrap().history;
    let new = WORLD
        .replace("id = \"fellpost\"", "id = \"fellpost\"\nversion = 2")
        .replace(
            "[field.score]",
            "[field.walked]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"\n[field.carried]",
        )
        .replace("score / 10", "walked / 10");
    let steps = check_with_history("fellpost.toml", &new, history).migrations();
    assert!(steps.contains("# or was it split? then fill each instead:"), "{steps}");
    assert!(steps.contains("# { fill = \"walked\", with = \"score\" },"), "{steps}");
}
