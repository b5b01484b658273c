//! Specs and scripts that are made to break their reader: answered in words, soon, and without a crash.
#![allow(clippy::float_cmp, reason = "values are kept exactly")]

use std::fmt::Write;

use vestigum_core::{Progress, Spec};
use vestigum_verify::explore::{SearchBounds, explore_with, questions};
use vestigum_verify::lint;
use vestigum_verify::playthrough::{MemorySaves, Script, run};

const WORLD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n\
    [field.n]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"keep\"\n\
    [field.tools]\ntype = \"list of int\"\nmax_len = 100000\nlasts = \"run\"\nafter_failure = \"keep\"\n";

#[test]
fn statements_are_refused_once() {
    let spec = Spec::from_toml(WORLD).unwrap();
    let text = format!("playthrough \"deep\"\nlaunch\n{}enter mill_lane", "refuse ".repeat(10_000));
    let errors = Script::from_text("deep.play", &text, &spec).unwrap_err().to_string();
    assert!(errors.contains("`refuse` stands once"), "{errors}");
    let text = "playthrough \"often\"\nlaunch\nrepeat 99999999999\nend";
    let errors = Script::from_text("often.play", text, &spec).unwrap_err().to_string();
    assert!(errors.contains("this would repeat more than 1000000 times"), "{errors}");
}

#[test]
fn a_byte_order_mark_begins_a_script_as_it_begins_a_spec() {
    let spec = Spec::from_toml(&format!("\u{feff}{WORLD}")).unwrap();
    let text = "\u{feff}playthrough \"marked\"\nlaunch\nexpect m == 0";
    let errors = Script::from_text("marked.play", text, &spec).unwrap_err();
    assert_eq!(errors.position(&errors.list()[0]).0, 3, "{errors}");
    assert!(Script::from_text("marked.play", &text.replace("m ==", "n =="), &spec).is_ok());
}

/// A quantifier over all items may not stand inside another, and a value per level may ask all levels: neither may
/// be compiled again and again.
#[test]
fn what_asks_for_all_of_something_is_compiled_once() {
    let team = "[struct.hound]\nlevel = \"int\"\n[field.team]\ntype = \"list of hound\"\nlasts = \"run\"\nafter_failure = \"keep\"\n";
    let nested = (0..30).fold("1".to_owned(), |inner, _| format!("sum(team[{inner}].level)"));
    let errors = Spec::from_toml(&format!("{WORLD}{team}[derived]\nd = \"{nested}\"\n")).unwrap_err().to_string();
    assert!(errors.contains("`sum` takes a field"), "{errors}");
    let levels: Vec<String> = (0..1_500).map(|level| format!("\"l{level}\"")).collect();
    let head = format!("[game]\nid = \"fellpost\"\n[levels]\norder = [{}]\n", levels.join(", "));
    let best = "[field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n[derived]\n\
                a = { per = \"level\", value = \"best + 1\" }\n";
    let each = "b = { per = \"level\", value = \"sum(a)\" }\nc = \"sum(b)\"\nd = \"any(b)\"\n";
    let errors = Spec::from_toml(&format!("{head}{best}{each}")).unwrap_err();
    assert_eq!(errors.list().len(), 1, "what reads it has nothing more to say: {errors}");
    assert!(errors.to_string().contains("let the game work it out"), "{errors}");
    let once = "in_all = \"sum(a)\"\nb = { per = \"level\", value = \"in_all - a\" }\nc = \"highest(b)\"\n";
    assert!(Spec::from_toml(&format!("{head}{best}{once}")).is_err(), "each of them reads all others through one");
    let few = head.replace(", \"l600\"", "]#").split('#').next().unwrap_or_default().to_owned() + "\n";
    let spec = Spec::from_toml(&format!("{few}{best}{once}")).unwrap();
    assert_eq!(Progress::fresh(&spec).derived("c").unwrap().as_int(), 599);
}

#[test]
fn many_derived_values_are_worked_out_once_and_never_too_deep() {
    // Each reads the one before twice: 2^40 steps if they were worked out again and again.
    let mut doubling = format!("{WORLD}[derived]\nd0 = \"n + 1\"\n");
    for index in 1..40 {
        let _ = writeln!(doubling, "d{index} = \"d{0} + d{0}\"", index - 1);
    }
    let _ = writeln!(doubling, "[level.tarn]\nopens = \"d39 > 1\"\n[run]\nover_when = \"d39 < 0\"");
    let checked = lint::check("spec.toml", &doubling);
    let spec = checked.spec.unwrap_or_else(|| panic!("{}", checked.findings));
    let mut game = Progress::fresh(&spec);
    assert_eq!(game.derived("d39").unwrap().as_int(), 1 << 39);
    game.enter("mill_lane").unwrap();
    game.death().unwrap();
    assert!(game.board()[1].open);
    // In a row, or against it, thousands that read each other are refused in words.
    for backwards in [false, true] {
        let mut chained = format!("{WORLD}[derived]\n");
        let line = |index: usize| match index {
            0 => "e0 = \"n\"\n".to_owned(),
            index => format!("e{index} = \"e{} + 1\"\n", index - 1),
        };
        let lines: Vec<String> = (0..30_000).map(line).collect();
        chained.extend(if backwards { lines.into_iter().rev().collect::<Vec<_>>() } else { lines });
        let errors = Spec::from_toml(&chained).unwrap_err();
        assert!(
            errors.list()[0].message.contains("read each other more than 100 deep"),
            "{}",
            errors.list()[0].message
        );
    }
}

#[test]
fn long_rows_are_no_deep_nesting() {
    let mut text = format!("{WORLD}[derived]\n");
    let row = |word: &str, part: &str| vec![part; 1_000].join(word);
    let _ = writeln!(text, "total = \"{}\"", row(" + ", "n"));
    let _ = writeln!(text, "mixed = \"{} * 2 - 7\"", row(" - ", "n"));
    let _ = writeln!(text, "halves = \"1 + n + 0.5{}\"", " + 0.5".repeat(998));
    let _ = writeln!(text, "[level.tarn]\nopens = \"{}\"", row(" and ", "n >= 1"));
    let _ = writeln!(text, "[run]\nover_when = \"{}\"", row(" or ", "n == 77"));
    let checked = lint::check("spec.toml", &text);
    let spec = checked.spec.unwrap_or_else(|| panic!("{}", checked.findings));
    let mut game = Progress::fresh(&spec);
    assert!(!game.board()[1].open);
    game.write("n", &[], 3.into()).unwrap();
    assert_eq!(game.derived("total").unwrap().as_int(), 3_000);
    assert_eq!(game.derived("mixed").unwrap().as_int(), 3 - 3 * 998 - 6 - 7);
    assert_eq!(game.derived("halves").unwrap().as_float(), 4.0 + 0.5 * 999.0);
    game.enter("mill_lane").unwrap();
    game.complete().unwrap();
    assert!(game.board()[1].open);
    for deep in
        [format!("{}n{}", "(".repeat(20_000), ")".repeat(20_000)), row(" + ", "n").repeat(3).replace("nn", "n + n")]
    {
        let errors = Spec::from_toml(&format!("{WORLD}[derived]\nx = \"{deep}\"\n")).unwrap_err();
        let told = &errors.list()[0].message;
        assert!(told.contains("nested more than 100 deep") || told.contains("more than 2000 terms"), "{told}");
    }
}

#[test]
fn checking_many_levels_is_soon_done() {
    let mut text = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"p0\"]\n".to_owned();
    for index in 1..2_000 {
        let _ = writeln!(text, "[level.p{index}]\nopens = \"count(completed) >= {index}\"");
    }
    let _ = writeln!(text, "[level.never]\nopens = \"count(completed) >= 2001\"");
    let checked = lint::check("spec.toml", &text);
    let told: Vec<&str> = checked.findings.list().iter().map(|finding| finding.message.as_str()).collect();
    assert_eq!(told, ["`never` can never open"]);
}

/// A timeline keeps what came and went, not the containers: else its rows take memory by the square of their number.
#[test]
fn a_timeline_of_many_inserts_keeps_what_came() {
    let spec = Spec::from_toml(WORLD).unwrap();
    let text = "playthrough \"tools\"\nwatch tools, n\nlaunch\nrepeat 3000\n  insert tools n\n  n += 1\nend\nremove tools 7\nexpect len(tools) == 2999";
    let script = Script::from_text("tools.play", text, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    let run = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default());
    assert!(run.passed(), "{:?}", run.failure);
    let rows = &run.timeline.rows;
    let cells = || rows.iter().map(|row| &row.cells[0]);
    assert!(cells().all(|cell| cell.after.as_ref().is_none_or(|after| after.len() <= 1)));
    let last = &rows[rows.len() - 2].cells[0];
    assert_eq!(last.before.as_ref().unwrap().difference(last.after.as_ref().unwrap()), "−7");
    assert_eq!((last.brief().as_deref(), last.len), (Some("2999 values"), Some(2999)));
}

/// A proof is looked for in expressions with their derived values written out, which have no end here.
#[test]
fn a_proof_is_not_looked_for_without_end() {
    let mut text = format!("{WORLD}[derived]\nd0 = \"n + 1\"\ndeep0 = \"n\"\n");
    for index in 1..90 {
        let before = index - 1;
        let _ = writeln!(text, "d{index} = \"d{before} + if(d{before} > {index}, d{before}, 3)\"");
        let _ = writeln!(text, "deep{index} = \"{}deep{before}{}\"", "max(1, ".repeat(60), ")".repeat(60));
    }
    let row = vec!["n"; 1500].join(" + ");
    let any: Vec<String> = (0..90).map(|bound| format!("(n < {bound} and d3 > {bound})")).collect();
    for (name, holds) in ["d89 > 1", "deep89 >= 1", &format!("{row} >= n"), &any.join(" or ")].iter().enumerate() {
        let _ = writeln!(text, "[[promise]]\nname = \"always {name}\"\nholds = \"{holds}\"");
        let _ = writeln!(text, "[[promise]]\nname = \"later {name}\"\nholds = \"{holds}\"\nafter = \"death\"");
    }
    let spec = Spec::from_toml(&text).unwrap_or_else(|errors| panic!("{errors}"));
    for question in questions(&spec).iter().filter(|question| question.is_promise()) {
        let bounds = SearchBounds { depth: 1, states: 10, ..SearchBounds::default() };
        explore_with(&spec, question, &bounds, None, &mut |_| {});
    }
}

/// Many levels that nothing but exits leads to, each of them hidden, and a code that would carry a million values: answered soon.
#[test]
fn many_exits_and_large_codes_are_read_in_time() {
    let mut text = String::from("[game]\nid = \"fellpost\"\n[levels]\norder = [\"l0\"]\n");
    for level in 0..20_000 {
        let _ = write!(text, "[level.l{level}]\nexits = {{ on = \"l{}\" }}\n", level + 1);
        if level > 0 {
            text.push_str("hidden = \"not open(l1)\"\n");
        }
    }
    text.push_str("[level.l20000]\n[field.stars]\ntype = \"int\"\nrange = [0, 3]\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n");
    let checked = lint::check("many.toml", &text);
    assert!(checked.findings.list().is_empty(), "{}", checked.findings);
    let mut game = Progress::fresh(&checked.spec.unwrap());
    assert_eq!((game.board().len(), game.full_board().len()), (2, 20_001), "the last one is not hidden");
    game.enter("l0").unwrap();
    assert_eq!(game.complete_by("on").unwrap().next_level(), Some("l1"));
    let code = "[code.all]\ncarries = [\"stars\", \"completed\"]\nas = \"text\"\n";
    let errors = Spec::from_toml(&format!("{text}{code}")).unwrap_err().to_string();
    assert!(errors.contains("`all` carries more than 1000 values"), "{errors}");
}
