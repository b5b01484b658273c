//! SARIF and JUnit, as the programs that read them expect them.

use std::time::Duration;

use quick_junit::Report;
use serde_json::Value as Json;
use vestigum_core::Spec;
use vestigum_report::page::PlayedRun;
use vestigum_report::{Unusable, junit, sarif};
use vestigum_testing::asking::ask;
use vestigum_verify::lint;
use vestigum_verify::playthrough::{MemorySaves, Script, run};

const FINDINGS: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[field.letters]\ntype = \"int\"\nlasts = \"visit\"\n\
    after_failure = \"entry\"\n[field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { set = \"letters\" }\n";

fn validated(log: &str) -> Json {
    let schema: Json = serde_json::from_str(include_str!("../sarif.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let log: Json = serde_json::from_str(log).unwrap();
    let errors: Vec<String> =
        validator.iter_errors(&log).map(|error| format!("{}: {error}", error.instance_path)).collect();
    assert_eq!(errors, Vec::<String>::new());
    log
}

#[test]
fn findings_and_what_is_allowed_are_results_with_their_places() {
    let name = "odd name/späc.toml";
    let checked = lint::check(name, FINDINGS);
    let log = validated(&sarif::log(&[&checked.findings], &checked.allowed));
    let result = &log["runs"][0]["results"][0];
    assert_eq!((result["ruleId"].as_str(), result["level"].as_str()), (Some("V102"), Some("warning")));
    let place = &result["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "odd%20name/sp%C3%A4c.toml");
    assert_eq!((place["region"]["startLine"].as_u64(), place["region"]["startColumn"].as_u64()), (Some(13), Some(17)));
    assert_eq!(log["runs"][0]["tool"]["driver"]["rules"][0]["id"], "V102");

    let allowed = format!("{FINDINGS}[[allow]]\ncode = \"V102\"\nbecause = \"the last one counts\"\n");
    let checked = lint::check(name, &allowed);
    let log = validated(&sarif::log(&[&checked.findings], &checked.allowed));
    let result = &log["runs"][0]["results"][0];
    assert_eq!(result["suppressions"][0]["justification"], "the last one counts");

    let broken = lint::check(name, "[game\n\"");
    let log = validated(&sarif::log(&[&broken.findings], &[]));
    assert_eq!(log["runs"][0]["results"][0]["level"], "error");
    validated(&sarif::log(&[], &[]));
    let missing = Unusable { name: "spec.toml".into(), why: "cannot read spec.toml".into() };
    validated(&sarif::unusable(&[missing]));
}

#[test]
fn playthroughs_are_cases_and_failures_say_why() {
    let spec = Spec::from_toml_with_history(
        include_str!("../../../../demo/fellpost/fellpost.toml"),
        include_str!("../../../../demo/fellpost/fellpost.history.json"),
    )
    .unwrap();
    let text = "playthrough \"kept & <told>\"\nlaunch\nexpect score == 0\nplaythrough \"lost\"\nlaunch\nenter mill_lane\n  score += 60\n  death\n  expect score == 60\n";
    let script = Script::from_text("falls.play", text, &spec).unwrap();
    let runs: Vec<_> = script.playthroughs().iter().map(|play| run(&spec, play, &mut MemorySaves::default())).collect();
    let played: Vec<_> =
        runs.iter().map(|run| (PlayedRun { file: "falls.play", run }, Duration::from_millis(5))).collect();
    let report = Report::deserialize_from_str(&junit::played(&played).unwrap()).unwrap();
    assert_eq!((report.tests, report.failures, report.test_suites.len()), (2, 1, 1));
    let suite = &report.test_suites[0];
    assert_eq!(suite.name.as_str(), "falls.play");
    assert_eq!(suite.test_cases[0].name.as_str(), "kept & <told>");
    let told = format!("{:?}", suite.test_cases[1].status);
    assert!(told.contains("line 9: expect score == 60") && told.contains("line 8: death"), "{told}");
}

#[test]
fn broken_promises_are_failures_with_the_play_that_breaks_them() {
    let toml = include_str!("../../../../demo/mistakes/record_by_set/mistake.toml");
    let (spec, ending) = ask(toml, "a replay does not lower a record");
    let question = vestigum_verify::explore::questions(&spec);
    let question =
        question.iter().find(|question| question.name().contains("a replay does not lower a record")).unwrap();
    let text = junit::explored("mistake.toml", &[(question, &ending, Duration::ZERO)]).unwrap();
    let report = Report::deserialize_from_str(&text).unwrap();
    assert_eq!((report.tests, report.failures), (1, 1));
    assert!(text.contains("expect best_letters[mill_lane] &gt;= 10"), "{text}");
}
