//! Codes that players were given, and what a later spec makes of them.

use vestigum_core::{Progress, Spec};
use vestigum_testing::updates::*;
use vestigum_verify::lint::check_with_history;

fn fields(a: &str, weather: &str) -> String {
    field("a", "int", &format!("range = {a}"))
        + &field("b", "int", "range = [0, 9]")
        + &field("weather", "choice", &format!("of = {weather}"))
}

const NUMBER: &str = "[code.crossing]\ncarries = [\"a\", \"b\"]\nmax = 1000000\n";
const TEXT: &str = "[code.postcard]\ncarries = [\"a\", \"weather\"]\nas = \"text\"\n";
const WEATHER: &str = "[\"calm\", \"gale\"]";

fn findings(old: &Spec, rest: &str) -> Vec<String> {
    let checked = check_with_history("fellpost.toml", &text(2, rest), frozen(&[old]));
    let codes = checked.findings.list().iter().filter(|finding| finding.code == "V118");
    codes.map(|finding| finding.message.clone()).collect()
}

#[test]
fn a_code_that_would_mean_something_else_is_found() {
    let old = spec(1, &(fields("[0, 9]", WEATHER) + NUMBER + TEXT));
    let same = |rest: &str| assert_eq!(findings(&old, rest), Vec::<String>::new());
    same(&(fields("[0, 9]", WEATHER) + NUMBER + TEXT));
    // Under new names the same values are the same.
    let renamed =
        fields("[0, 9]", WEATHER).replace("field.b", "field.bag") + &NUMBER.replace("\"b\"", "\"bag\"") + TEXT;
    same(&(renamed + &migration(2, &["{ rename = \"field\", from = \"b\", to = \"bag\" }"])));
    // One value more, at the end and at its first, changes nothing for those who have no such code.
    same(&(fields("[0, 9]", WEATHER) + &NUMBER.replace("\"a\", \"b\"", "\"a\", \"b\", \"weather\"") + TEXT));

    let wider = findings(&old, &(fields("[0, 99]", WEATHER) + NUMBER + TEXT));
    assert!(wider.iter().any(|told| told.contains("`crossing` that are read as others: 90 (a = 0, b = 9) is read as a = 90, b = 0")), "{wider:?}");
    assert!(wider.iter().any(|told| told.contains("`postcard` that are refused")), "{wider:?}");
    let swapped = findings(&old, &(fields("[0, 9]", WEATHER) + &NUMBER.replace("\"a\", \"b\"", "\"b\", \"a\"") + TEXT));
    assert!(swapped.iter().any(|told| told.contains("crossing")), "{swapped:?}");
}

/// Another order of choices is another layout: what was issued is refused, and never redeemed as something else.
#[test]
fn a_text_code_knows_its_choices() {
    let old = spec(1, &(fields("[0, 9]", WEATHER) + TEXT));
    let mut ada = Progress::fresh(&old);
    ada.write("weather", &[], "gale".into()).unwrap();
    let code = ada.code("postcard").unwrap();
    for other in ["[\"gale\", \"calm\"]", "[\"calm\", \"snow\"]"] {
        let mut bo = Progress::fresh(&spec(1, &(fields("[0, 9]", other) + TEXT)));
        assert!(bo.redeem("postcard", &code).is_err(), "{other}");
    }
}
