//! Specs with mistakes: what is said, where, and what help is given.

use std::fmt::Write;

use vestigum_core::{Diagnostics, Spec};
use vestigum_spec::codes;
use vestigum_verify::render;

fn errors(text: &str) -> Diagnostics {
    Spec::from_toml(text).err().unwrap_or_else(|| panic!("this spec has no error:\n{text}"))
}

/// The codes and first lines of help, one finding a line.
fn brief(text: &str) -> String {
    let errors = errors(text);
    let lines = errors.list().iter().map(|finding| {
        let (line, column) = errors.position(finding);
        format!("{line}:{column} {} {} | {}", finding.code, finding.message, finding.help.as_deref().unwrap_or("-"))
    });
    lines.collect::<Vec<_>>().join("\n")
}

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n";

#[test]
fn an_undecided_failure_is_shown_as_a_compiler_shows_it() {
    let text = format!("{HEAD}[field.score]\ntype = \"int\"\nlasts = \"run\"\n");
    insta::assert_snapshot!(render(&errors(&text), false), @r#"
    error[V003]: `score` does not say what a failure does to it
     --> spec.toml:5:8
      |
    5 | [field.score]
      |        ^^^^^ play writes it, and it lasts a run
      |
      = help: add `after_failure`: "keep", "checkpoint" (as at the last checkpoint) or "entry" (as when the level was entered)
    "#);
}

#[test]
fn names_are_suggested_where_they_stand_in_an_expression() {
    let text = format!(
        "{HEAD}[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n\
         [field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = {{ max = \"leters + 1\" }}\n"
    );
    insta::assert_snapshot!(render(&errors(&text), false), @r#"
    error[V004]: nothing is called `leters`
      --> spec.toml:13:24
       |
    13 | on.complete = { max = "leters + 1" }
       |                        ^^^^^^
       |
       = help: did you mean `letters`?
    "#);
}

#[test]
fn an_empty_spec_says_what_it_needs() {
    assert_eq!(
        brief(""),
        "1:1 V002 the spec does not say which game it is of | add `[game]` with an `id`, as in `id = \"fellpost\"`; saves of other games are refused"
    );
}

#[test]
fn every_kind_of_mistake_has_its_sentence() {
    let field = |rest: &str| {
        format!(
            "{HEAD}[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"keep\"\n\
             [field.stars]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{rest}"
        )
    };
    let over = |condition: &str| field(&format!("[run]\nover_when = \"{condition}\"\n"));
    let rule = |rule: &str| {
        field(&format!("[field.x]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{rule}\n"))
    };
    let cases = [
        (over("letters = 0"), "write `==`"),
        (over("letters == 0 && true"), "write `and`"),
        (over("stars > 2"), "name one, as in `stars[mill_lane]`, or take them all, as in `sum(stars)`"),
        (over("letters + 1"), "a bool is wanted here, and this is an int"),
        (over("1 < letters < 3"), "comparisons do not chain"),
        (over("letters / 0 > 1"), "only a number other than zero"),
        (over("letters / letters > 1"), "only a number other than zero"),
        (over("(letters > 1"), "this bracket is never closed"),
        (over("letters >"), "something is missing here"),
        (over("'abc"), "this text has no closing quote"),
        (over("stars[mil_lane] > 1"), "did you mean `mill_lane`?"),
        (over("mill_lane"), "put a level in brackets"),
        (over("total(stars) > 1"), "there is no function `total`"),
        (over("entry(letters) > 1"), "means something only in rules and promises inside a level"),
        (over("99999999999999999999 > 1"), "this number is too large"),
        (rule("on.deth = \"keep\""), "did you mean `death`?"),
        (rule("on.quit = \"reset\""), "a crash never says it"),
        (rule("on.death = \"rset\""), "did you mean `reset`?"),
        (rule("on.launch = \"entry\""), "there may be no mark to come back to"),
        (rule("on.enter = { add = \"letters\" }"), "there is none before this moment"),
        (rule("on.death = { }"), "this rule does nothing"),
        (rule("on.death = { add = 1, set = 2 }"), "a rule does one thing"),
        (rule("on.death = { add = 1, wen = \"true\" }"), "did you mean `when`?"),
        (rule("on.death = { add = true }"), "an int is wanted here, and this is a bool"),
        (rule("range = [9, 0]"), "write `range = [0, 9]`"),
        (rule("range = [5, 9]"), "begins at 0, which is outside its range"),
        (rule("default = \"many\""), "expected a value of type int"),
        (rule("last = \"run\""), "did you mean `lasts`?"),
        (rule("max_len = 3"), "a field of type int has no length"),
        (field("[field.level]\ntype = \"int\"\nlasts = \"device\"\n"), "is a word of the language"),
        (field("[field.completed]\ntype = \"int\"\nlasts = \"device\"\n"), "every game has it"),
        (field("[field.\"a b\"]\ntype = \"int\"\nlasts = \"device\"\n"), "letters, digits and underscores"),
        (field("[field.y]\ntype = \"hat\"\nlasts = \"device\"\n"), "the types are: bool, int, float, text"),
        (field("[field.y]\ntype = \"number\"\nlasts = \"device\"\n"), "did you mean `int`?"),
        (field("[field.y]\ntype = \"string\"\nlasts = \"device\"\n"), "did you mean `text`?"),
        (field("[field.y]\ntype = \"array of integer\"\nlasts = \"device\"\n"), "did you mean `list of int`?"),
        (field("[field.y]\ntype = \"dictionary\"\nlasts = \"device\"\n"), "did you mean `map of …`?"),
        (field("[level.attic]\ntitle = \"Attic\"\n"), "does not say when it opens"),
        (field("[level.mill_lane]\nnext = \"atic\"\n"), "`next` names no level"),
        (field("[level.mill_lane]\nopens = \"letters > 1\"\n"), "`opens` cannot read `letters`, which lasts a visit"),
        (field("[derived]\na = \"b\"\nb = \"a\"\n"), "these derived values need each other: a → b → a"),
        (field("[save]\nat = [\"chekpoint\"]\n"), "did you mean `checkpoint`?"),
        (field("[save]\nkeep = 0\n"), "`keep` goes from 1 to 1000"),
        (field("[death]\nrespawn = \"start\"\n"), "`respawn` is one of: checkpoint, entry"),
        (field("[lives]\n"), "it has: game, levels, level"),
        (HEAD.replace("\"heather_rise\"", "\"mill_lane\""), "stands in `order` twice"),
        (format!("{HEAD}[field.x\n"), "this is not TOML"),
    ];
    for (text, expected) in cases {
        let shown = errors(&text).to_string();
        assert!(shown.contains(expected), "`{expected}` is not said:\n{shown}");
    }
}

#[test]
fn fifty_mistakes_are_all_shown_at_once() {
    let mut text = String::from(HEAD);
    for n in 0..50 {
        let _ = writeln!(text, "[field.f{n}]\ntype = \"int\"\nlasts = \"device\"\non.complete = {{ max = \"g{n}\" }}");
    }
    let errors = errors(&text);
    assert_eq!(errors.list().len(), 50);
    assert_eq!(errors.to_string().matches("error[V004]").count(), 50);
}

#[test]
fn ten_thousand_fields_are_a_spec() {
    let mut text = String::from(HEAD);
    for n in 0..10_000 {
        let _ = writeln!(
            text,
            "[field.f{n}]\ntype = \"int\"\nlasts = \"profile\"\nper = \"level\"\non.complete = {{ add = \"f{n} + 1\" }}"
        );
    }
    let spec = Spec::from_toml(&text).unwrap();
    assert_eq!(spec.fields().len(), 10_002);
}

#[test]
fn hostile_documents_are_errors_and_never_a_panic() {
    let deep = "(".repeat(50_000);
    let chain = "1 + ".repeat(50_000);
    let nested = "[".repeat(50_000);
    let inline = "a = { ".repeat(50_000);
    for text in [
        format!("{HEAD}[run]\nover_when = \"{deep}\"\n"),
        format!("{HEAD}[run]\nover_when = \"{chain}1 > 2\"\n"),
        format!("{HEAD}[run]\nover_when = \"{}true\"\n", "not ".repeat(50_000)),
        format!("{HEAD}[field.x]\nrange = {nested}\n"),
        format!("{HEAD}{inline}"),
        "\u{0}\u{1}\u{feff}".into(),
        format!("{HEAD}[field.\"\\u0000\"]\n"),
        "game = 3\nlevels = 4\nfield = 5\nsave = []\n".into(),
    ] {
        assert!(errors(&text).errors() > 0);
    }
}

#[test]
fn every_code_is_explained_and_its_right_example_differs() {
    for entry in codes::ALL {
        assert_eq!(codes::explain(entry.code).map(|found| found.title), Some(entry.title));
        assert_ne!(entry.wrong, entry.right);
        assert!(!entry.text.is_empty());
    }
}
