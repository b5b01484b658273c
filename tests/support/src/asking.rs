//! A game with a source and promises, and the answers to what is asked of it.

use vestigum_core::Spec;
use vestigum_verify::explore::{Counterexample, Ending, Search, SearchBounds, questions};
use vestigum_verify::playthrough::{MemorySaves, Script, Why, run};

pub const GAME: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford"]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "checkpoint"
[field.score]
type = "int"
lasts = "run"
after_failure = "entry"
[field.lanterns]
type = "int"
default = 3
range = [0, 9]
lasts = "run"
after_failure = "keep"
on.death = { add = -1 }
written_by = "rules"
[field.best_letters]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[run]
over_when = "lanterns == 0"
[save]
at = ["complete", "death"]
[[source]]
name = "letter"
gives = { letters = 10, score = 10 }
times = 3
lasts = "visit"
after_failure = "checkpoint"
"#;

/// The playthrough of a counterexample fails: where a promise is broken, or, with the promises left out, at its last line, which
/// is the expectation.
pub fn fails(spec: &Spec, counterexample: &Counterexample) {
    let failure = |play: &str| {
        let script =
            Script::from_text(&counterexample.file_name(), play, spec).unwrap_or_else(|errors| panic!("{errors}"));
        let run = run(spec, &script.playthroughs()[0], &mut MemorySaves::default());
        run.failure.unwrap_or_else(|| panic!("it passes:\n{play}"))
    };
    let play = counterexample.play();
    let judged = failure(play);
    assert!(matches!(judged.why, Why::Expectation { .. } | Why::Promise(_)), "{:?}\n{play}", judged.why);
    let promises = spec.model().promises.iter().map(|promise| format!("without \"{}\"\n", promise.name()));
    let unjudged = format!("{play}{}", promises.collect::<String>());
    let failure = failure(&unjudged);
    assert!(matches!(failure.why, Why::Expectation { .. }), "{:?}\n{play}", failure.why);
    assert_eq!(failure.line, play.lines().count(), "{play}");
}

/// The answer to the question with that name.
pub fn ask(toml: &str, name: &str) -> (Spec, Ending) {
    let spec = Spec::from_toml(toml).unwrap_or_else(|errors| panic!("{errors}"));
    let asked = questions(&spec).into_iter().find(|question| question.name() == name);
    let question = asked.unwrap_or_else(|| panic!("nobody asks `{name}`"));
    let ending = Search::new(&spec, &question, SearchBounds { states: 200_000, ..SearchBounds::default() }).run();
    (spec, ending)
}

/// The playthrough that breaks it, after it has failed as it should.
pub fn broken(toml: &str, name: &str) -> String {
    let (spec, ending) = ask(toml, name);
    let Ending::Broken(counterexample) = ending else { panic!("`{name}` holds: {ending:?}") };
    fails(&spec, &counterexample);
    counterexample.play().to_owned()
}
