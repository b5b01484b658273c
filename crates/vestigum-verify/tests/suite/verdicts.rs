//! A verdict says what it looked at: what an answer leaves out, it names.

use vestigum_core::{History, Spec};
use vestigum_testing::asking::{ask, broken};
use vestigum_verify::explore::{Ending, Search, SearchBounds, questions};
use vestigum_verify::playthrough::{MemorySaves, Script, Why, run};

const LEVELS: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n";

/// The fields and promises of a game with two levels.
fn game(rest: &str) -> String {
    format!("{LEVELS}{rest}")
}

fn promise(name: &str, what: &str) -> String {
    format!("[[promise]]\nname = \"{name}\"\n{what}\n")
}

fn why_open(toml: &str, name: &str) -> String {
    ask(toml, name).1.why_open().unwrap_or_default()
}

const DEVICE_AND_PROFILE: &str = "[field.a]\ntype = \"int\"\nlasts = \"device\"\non.complete = { max = \"1\" }\n\
    [field.b]\ntype = \"int\"\nlasts = \"profile\"\non.complete = { max = \"1\" }\n";

#[test]
fn another_player_breaks_what_one_player_keeps() {
    let spec = game(DEVICE_AND_PROFILE) + &promise("a is no more than b", "holds = \"a <= b\"");
    insta::assert_snapshot!(broken(&spec, "a is no more than b"), @r#"
    # Broken promise: a is no more than b
    # `a <= b` does not hold: a is 1, b is 0.
    # There is no shorter way than these 3 steps.

    playthrough "a is no more than b"
    launch
    enter mill_lane
    complete
    quit
    profile player_2
    launch
    expect a <= b
    "#);
    // What only somebody who comes back can break is named.
    let spec = game(DEVICE_AND_PROFILE) + &promise("b is no more than a", "holds = \"b <= a\"");
    assert_eq!(why_open(&spec, "b is no more than a"), "left out: another player on this device changes `a`");
    let spec = game(DEVICE_AND_PROFILE) + &promise("a is small", "holds = \"a <= 1\"");
    assert_eq!(why_open(&spec, "a is small"), "", "all players keep it");
}

#[test]
fn a_sync_is_named_where_its_law_can_break_a_promise() {
    let spec = |law: &str, what: &str| {
        let fields = format!(
            "[merge]\n[field.r]\ntype = \"int\"\nlasts = \"profile\"\nmerge = \"{law}\"\nrange = [0, 9]\non.complete = {{ max = \"2\" }}\n"
        );
        game(&fields) + &promise("p", what)
    };
    for (law, what, open) in [
        ("newer", "never_falls = [\"r\"]", true),
        ("max", "never_falls = [\"r\"]", false),
        ("newer", "holds = \"r <= 2\"", false),
        ("sum", "holds = \"r <= 2\"", true),
        ("sum", "holds = \"r <= 9\"", false),
    ] {
        let expected = if open { "left out: a sync brings `r` from another installation" } else { "" };
        assert_eq!(why_open(&spec(law, what), "p"), expected, "{law}: {what}");
    }
}

#[test]
fn a_save_from_before_a_field_is_named() {
    let field =
        |name: &str| format!("[field.{name}]\ntype = \"int\"\nlasts = \"profile\"\non.complete = {{ max = \"3\" }}\n");
    let old = Spec::from_toml(&game(&field("a"))).unwrap();
    let history = History::default().freeze(&old).unwrap().history;
    let text = game(&(field("a") + &field("b"))) + &promise("p", "holds = \"a == b\"");
    let proof = |history: Option<History>| {
        let spec = match history {
            Some(history) => Spec::from_named_toml_with_history("spec.toml", &text, history).unwrap(),
            None => Spec::from_toml(&text).unwrap(),
        };
        let question = &questions(&spec)[0];
        Search::new(&spec, question, SearchBounds::default()).run()
    };
    assert_eq!(proof(None).why_open(), None, "no version has shipped");
    let ending = proof(Some(history));
    assert_eq!(ending.why_open().unwrap(), "left out: a save of an earlier version has other values of `b`");
    assert!(ending.proof().unwrap().from_default);
}

#[test]
fn what_play_writes_at_will_is_tried() {
    let mode = game("[field.mode]\ntype = \"int\"\nrange = [0, 9]\nlasts = \"profile\"\nafter_failure = \"keep\"\n");
    let play = broken(&(mode.clone() + &promise("p", "holds = \"mode <= 3\"")), "p");
    assert!(play.contains("\nmode = 4 "), "{play}");
    let (_, ending) = ask(&(mode + &promise("p", "holds = \"mode * mode != 50\"")), "p");
    assert!(matches!(&ending, Ending::Holds(seen, gaps) if seen.all && gaps.is_empty()), "{ending:?}");
    let many = game("[field.big]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n");
    assert_eq!(
        why_open(&(many + &promise("p", "holds = \"big * 2 <= 900\"")), "p"),
        "not known: play writes `big`, and no [[source]] says what it gives"
    );
}

#[test]
fn what_no_search_follows_is_not_known() {
    let clock = game("[field.t]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\ncounts = \"ms\"\n");
    assert_eq!(why_open(&(clock + &promise("p", "holds = \"t <= 9\"")), "p"), "not known: time passes in `t`");
    let made = LEVELS.replace("[levels]\n", "[levels]\nmade = { max = 2 }\n");
    let made = made + &promise("p", "holds = \"count(made) == 0\"");
    assert_eq!(why_open(&made, "p"), "not known: players make and remove levels, which have entries of `made`");
    let code = game(
        "[field.k]\ntype = \"int\"\nrange = [0, 99]\nlasts = \"profile\"\non.complete = { max = \"3\" }\n[code.gift]\ncarries = [\"k\"]\nmax = 9999\n",
    );
    assert_eq!(why_open(&(code + &promise("p", "holds = \"k <= 9\"")), "p"), "not known: a code carries `k`");
}

#[test]
fn what_was_never_judged_is_no_answer() {
    for (after, fields) in [("game_over", ""), ("checkpoint", "")] {
        let spec = game(fields) + &promise("p", &format!("after = \"{after}\"\nholds = \"false\""));
        let (_, ending) = ask(&spec, "p");
        assert!(matches!(ending, Ending::NeverHappened(_)), "{after}: {ending:?}");
        assert!(!ending.is_known() && ending.why_open().unwrap().starts_with("never happened"));
    }
}

#[test]
fn with_locks_lifted_as_much_is_said_to_be_seen_as_was() {
    let mut spec =
        game("[field.n]\ntype = \"int\"\nrange = [0, 9]\nlasts = \"profile\"\non.complete = { add = \"1\" }\n");
    spec += &promise("p", "holds = \"n * n <= 15\"");
    let spec = Spec::from_toml(&spec).unwrap();
    let question = &questions(&spec)[0];
    let ending = vestigum_verify::explore::explore_with(&spec, question, &SearchBounds::default(), None, &mut |_| {});
    let broken = ending.broken().expect("it is broken");
    assert!(broken.seen().states >= broken.steps(), "{:?} for {} steps", broken.seen(), broken.steps());
}

/// Says why a playthrough fails.
fn failure(spec: &str, play: &str) -> Option<(usize, Why)> {
    let spec = Spec::from_toml(spec).unwrap_or_else(|errors| panic!("{errors}"));
    let play = format!("playthrough \"p\"\n{play}");
    let script = Script::from_text("p.play", &play, &spec).unwrap_or_else(|errors| panic!("{errors}"));
    let failure = run(&spec, &script.playthroughs()[0], &mut MemorySaves::default()).failure?;
    Some((failure.line, failure.why))
}

#[test]
fn a_playthrough_judges_the_promises() {
    let streak = game("[field.streak]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n")
        + "[[source]]\nname = \"door\"\ngives = { streak = 1 }\nafter_failure = \"keep\"\n"
        + &promise("the streak never falls", "never_falls = [\"streak\"]");
    // A write alone is no moment: what it leaves counts at the next one.
    let play = "launch\nenter mill_lane\nstreak += 3\ndeath\nstreak -= 2\ndeath\n";
    assert_eq!(failure(&streak, play), None, "between two moments play may do what it likes");
    let reset = streak.replace("after_failure = \"keep\"", "after_failure = \"entry\"");
    let (line, why) = failure(&reset, play).expect("the death takes it");
    let Why::Promise(told) = why else { panic!("{why:?}") };
    assert_eq!((line, &*told.name, &*told.what), (5, "the streak never falls", "`streak` fell from 3 to 0 at `death`"));
    assert_eq!(told.beyond.unwrap(), "line 4 gives 3 `streak` at once; no [[source]] gives more than 1");
    assert_eq!(failure(&reset, &format!("without \"the streak never falls\"\n{play}")), None);
    // Nothing is compared across what takes progress back by intention.
    let saved = "launch\nenter mill_lane\nstreak += 1\ncomplete\nquit\n";
    assert_eq!(failure(&streak, &format!("{saved}launch\nreset field streak\nenter mill_lane\n")), None);
    assert_eq!(failure(&streak, &format!("{saved}launch\nstreak += 1\ncrash\nlaunch\n")), None);
    assert_eq!(failure(&streak, &format!("{saved}profile ben\nlaunch\nquit\nprofile player\nlaunch\n")), None);
}

#[test]
fn a_launch_is_compared_with_the_quit_before() {
    let spec = game("[field.n]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"entry\"\n")
        + &promise("n never falls", "never_falls = [\"n\"]");
    let (line, why) = failure(&spec, "launch\nenter mill_lane\nn += 1\nquit\nlaunch\n").expect("quitting takes it");
    assert!(matches!(why, Why::Promise(_)) && line == 6, "{line}: {why:?}");
}

#[test]
fn a_promise_after_a_death_is_judged_before_the_game_over_that_follows() {
    let spec = game(
        "[run]\nover_when = \"lives == 0\"\n[field.lives]\ntype = \"int\"\ndefault = 1\nrange = [0, 3]\nlasts = \"run\"\nafter_failure = \"keep\"\non.death = { add = -1 }\n",
    );
    let kept =
        spec.clone() + &promise("a death costs a life", "after = \"death\"\nholds = \"lives == was(lives) - 1\"");
    assert_eq!(failure(&kept, "launch\nnew_run\nenter mill_lane\ndeath\n"), None);
    let broken = spec + &promise("a death costs two", "after = \"death\"\nholds = \"lives == was(lives) - 2\"");
    assert_eq!(failure(&broken, "launch\nnew_run\nenter mill_lane\ndeath\n").map(|(line, _)| line), Some(5));
}

#[test]
fn without_names_a_promise_of_the_spec() {
    let spec = game("") + &promise("nothing is opened", "holds = \"true\"");
    let spec = Spec::from_toml(&spec).unwrap();
    let read = |line: &str| {
        let errors = Script::from_text("p.play", &format!("playthrough \"p\"\n{line}\nlaunch\n"), &spec);
        errors.err().map(|errors| errors.to_string()).unwrap_or_default()
    };
    assert!(read("without \"nothing is opend\"").contains("did you mean `nothing is opened`?"));
    assert!(read("without").contains("which promise is not judged?"));
    assert!(read("without nothing").contains("write its name in double quotes"));
}

const STAMPS: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\n\
    [level.tarn_steps]\nopens = \"stamps >= 3\"\n[moments]\nnames = [\"post\"]\n\
    [field.stamps]\ntype = \"int\"\nrange = [0, 9]\ndefault = 2\nlasts = \"profile\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"\n\
    on.complete = { add = 1, when = \"level == 'mill_lane' and not completed\" }\non.post = { add = -1 }\n";

const STILL: &str = "every level can still be completed";

#[test]
fn a_price_that_locks_a_level_for_good_is_a_trap() {
    insta::assert_snapshot!(broken(STAMPS, STILL), @r#"
    # Asked of every game: every level can still be completed
    # `tarn_steps` can never be completed from there on.
    # No play leads on from here to what the last line expects. When the spec is changed, let it be played before that line.
    # It takes one step.

    playthrough "every level can still be completed"
    launch
    post
    expect completed[tarn_steps]
    "#);
    // Where every visit earns it, there is a way on.
    let earned = STAMPS.replace(" and not completed", "");
    let (_, ending) = ask(&earned, STILL);
    assert!(matches!(ending, Ending::Holds(..)), "{ending:?}");
    // What never falls needs no search.
    let kept = earned.replace("on.post = { add = -1 }\n", "");
    let (_, ending) = ask(&kept, STILL);
    assert!(matches!(ending, Ending::Proved(_)), "{ending:?}");
    // A level that nothing opens is another question.
    let never = STAMPS.replace("stamps >= 3", "stamps >= 8").replace("on.post = { add = -1 }\n", "");
    let (_, ending) = ask(&never, STILL);
    assert!(ending.broken().is_none(), "{ending:?}");
}

#[test]
fn what_can_still_hold_is_asked_of_every_state() {
    let lamp = game(
        "[moments]\nnames = [\"burn\"]\n[field.lamp]\ntype = \"int\"\ndefault = 1\nrange = [0, 1]\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"\non.burn = { set = \"0\" }\n",
    );
    let (_, ending) = ask(&(lamp.clone() + &promise("p", "can = \"lamp == 1\"")), "p");
    assert!(matches!(ending, Ending::Holds(..)), "a new run brings it back: {ending:?}");
    let play = broken(&(lamp + &promise("p", "can = \"lamp == 1\"\nwithout = [\"new_run\"]")), "p");
    assert!(play.contains("launch\nburn\nexpect lamp == 1\n"), "{play}");
}

#[test]
fn can_stands_alone() {
    let errors = |what: &str| Spec::from_toml(&game(&promise("p", what))).unwrap_err().to_string();
    assert!(
        errors("can = \"true\"\nholds = \"true\"").contains("a promise has one of `never_falls`, `holds` and `can`")
    );
    assert!(errors("holds = \"true\"\nwithout = [\"death\"]").contains("`without` belongs to `can`"));
    assert!(errors("can = \"was(completed[mill_lane])\"").contains("V011"));
    assert!(errors("can = \"true\"\nwithout = [\"deth\"]").contains("did you mean `death`?"));
}

const TOTALS: &str = "[field.stars]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"2\" }\n\
    [struct.being]\nlevel = \"int\"\n[field.hero]\ntype = \"being\"\nlasts = \"profile\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"\n\
    [derived]\ntotal = \"sum(stars)\"\nleft = \"9 - total\"\neach = { value = \"stars * 2\", per = \"level\" }\n";

#[test]
fn derived_values_entries_and_members_never_fall_either() {
    for of in ["total", "stars[mill_lane]", "each", "each[mill_lane]"] {
        let (_, ending) = ask(&(game(TOTALS) + &promise("p", &format!("never_falls = \"{of}\""))), "p");
        assert!(matches!(&ending, Ending::Proved(proof) if proof.gaps.is_empty()), "{of}: {ending:?}");
    }
    let (_, ending) = ask(&(game(TOTALS) + &promise("p", "never_falls = \"hero.level\"")), "p");
    assert!(matches!(ending, Ending::Holds(..)), "{ending:?}");
    let play = broken(&(game(TOTALS) + &promise("p", "never_falls = \"left\"")), "p");
    assert!(
        play.contains("# `left` fell from 9 to 7 at `complete`.") && play.ends_with("expect left >= 9\n"),
        "{play}"
    );
    let unknown = Spec::from_toml(&(game(TOTALS) + &promise("p", "never_falls = \"totl\""))).unwrap_err().to_string();
    assert!(
        unknown.contains("no field and no derived value is called `totl`") && unknown.contains("did you mean `total`?")
    );
}

#[test]
fn what_was_is_asked_of_whatever_can_be_read() {
    let (_, ending) =
        ask(&(game(TOTALS) + &promise("p", "after = \"complete\"\nholds = \"total >= was(total)\"")), "p");
    assert!(matches!(ending, Ending::Holds(..)), "{ending:?}");
    let play = broken(&(game(TOTALS) + &promise("p", "after = \"complete\"\nholds = \"total == was(total)\"")), "p");
    assert!(play.ends_with("complete\nexpect total == 0\n"), "{play}");
    let (_, ending) =
        ask(&(game(TOTALS) + &promise("p", "after = \"death\"\nholds = \"hero.level == was(hero.level)\"")), "p");
    assert!(ending.holds(), "{ending:?}");
    let inside =
        Spec::from_toml(&(game(TOTALS) + &promise("p", "after = \"death\"\nholds = \"was(was(total)) == 1\"")));
    assert!(inside.unwrap_err().to_string().contains("V011"));
}

/// `check` asked for `after_failure` where it then refused it.
#[test]
fn a_source_of_the_device_is_told_once() {
    let source = "[field.n]\ntype = \"int\"\nlasts = \"device\"\nafter_failure = \"keep\"\n[[source]]\nname = \"s\"\ngives = { n = 1 }\nlasts = \"device\"\n";
    let errors = Spec::from_toml(&game(source)).unwrap_err();
    let told: Vec<&str> = errors.list().iter().map(|error| error.message.as_str()).collect();
    assert_eq!(told, ["a source is of a level, and no level is of the device"]);
}

/// The rule asks for what a first visit without letters sets for good: a proof that let it pass said that there is no trap.
#[test]
fn what_only_a_first_visit_gives_can_be_missed_for_good() {
    let spec = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"tarn_steps\"]\n\
        [level.tarn_steps]\nopens = \"stars >= 1\"\n[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"entry\"\n\
        [field.stars]\ntype = \"int\"\nrange = [0, 9]\nlasts = \"profile\"\non.complete = { add = 1, when = \"not completed and letters >= 1\" }\n\
        [[source]]\nname = \"letter\"\ngives = { letters = 1 }\nafter_failure = \"entry\"\n";
    let play = broken(spec, STILL);
    assert!(play.contains("enter mill_lane\ncomplete\nexpect completed[tarn_steps]"), "{play}");
    let (_, ending) = ask(&spec.replace("not completed and ", ""), STILL);
    assert!(matches!(ending, Ending::Proved(_)), "{ending:?}");
}

/// Asks where a visit gives what may end the run before the level is completed.
#[test]
fn what_a_visit_takes_can_end_every_run() {
    let spec = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[run]\nover_when = \"breath == 0\"\n\
        [field.breath]\ntype = \"int\"\ndefault = 1\nrange = [0, 3]\nlasts = \"run\"\nafter_failure = \"keep\"\nwritten_by = \"both\"\n\
        [[source]]\nname = \"dive\"\ngives = { breath = -1 }\nafter_failure = \"entry\"\n";
    let (_, ending) = ask(spec, STILL);
    assert!(!matches!(ending, Ending::Proved(_)), "{ending:?}");
}

/// Another player who begins anew is no way out of a trap, and a level that may be locked for good is asked about by nobody.
#[test]
fn a_newcomer_leads_nobody_out_of_a_trap() {
    let device = "[field.seen]\ntype = \"int\"\nrange = [0, 1]\nlasts = \"device\"\nafter_failure = \"keep\"\nwritten_by = \"rules\"\non.launch = { max = 1 }\n";
    let spec = STAMPS.replace("stamps >= 3", "stamps >= 3 and seen >= 0") + device;
    let play = broken(&spec, STILL);
    assert!(play.contains("post\nexpect completed[tarn_steps]"), "{play}");
    let allow = "[[allow]]\ncode = \"V204\"\nof = \"tarn_steps\"\nbecause = \"the steps are for savers\"\n";
    let (_, ending) = ask(&(STAMPS.to_owned() + allow), STILL);
    assert!(ending.holds(), "{ending:?}");
}

/// Without a value it reads as zero, and the first one may be less.
#[test]
fn an_optional_value_may_fall_when_it_comes() {
    let field = "[field.depth]\ntype = \"int\"\nrange = [-9, 0]\noptional = true\nlasts = \"profile\"\non.complete = { max = \"-5\" }\n[derived]\nd = \"depth + 1\"\n";
    let play = broken(&(game(field) + &promise("p", "never_falls = \"d\"")), "p");
    assert!(play.contains("`d` fell from 1 to -4 at `complete`"), "{play}");
}

/// Only an optional value comes and goes: `filled` of another is always true, and closes no lock.
#[test]
fn a_lock_may_ask_whether_a_level_that_opens_is_filled() {
    let spec =
        LEVELS.to_owned() + "[level.heather_rise]\nopens = \"not filled(opened[mill_lane]) or completed[mill_lane]\"\n";
    Spec::from_toml(&spec).unwrap();
}
