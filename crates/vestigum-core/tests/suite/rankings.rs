//! Rankings: the place of every entry, what is refused, and what becomes of saves that are not in order.

use proptest::prelude::*;
use vestigum_core::{Edit, Image, Part, Progress, Spec, Value};
use vestigum_testing::hunting::config;

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\", \"heather_rise\"]\n\
    [struct.walk]\ncarrier = { type = \"text\", max_len = 4 }\nletters = { type = \"int\", range = [0, 60] }\ntime = \"int\"\n\
    weather = { type = \"choice\", of = [\"fair\", \"storm\"] }\nnotes = \"list of text\"\n";
const BEST: &str = "[field.best]\ntype = \"ranking of walk\"\nby = [\"highest letters\", \"lowest time\"]\nmax_len = 4\nper = \"level\"\n\
    lasts = \"profile\"\nwritten_by = \"both\"\nafter_failure = \"keep\"\n";

fn spec(text: &str) -> Spec {
    Spec::from_toml(&format!("{HEAD}{text}")).unwrap_or_else(|errors| panic!("{errors}"))
}

#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
struct Walk {
    carrier: String,
    letters: i64,
    time: i64,
    weather: String,
    notes: Vec<String>,
}

fn walk(letters: i64, time: i64, nth: usize) -> Walk {
    Walk { carrier: format!("{nth}"), letters, time, weather: "storm".into(), notes: vec!["a long remark".into()] }
}

proptest! {
    #![proptest_config(config(100, vestigum_testing::kept_in!("rankings")))]

    /// The model sorts everything that was ever ranked and keeps the best.
    #[test]
    fn a_ranking_is_the_best_of_all_that_was_ranked(
        walks in prop::collection::vec((prop_oneof![0i64..4, 58i64..64], 0i64..3), 0..14),
    ) {
        let spec = spec(BEST);
        let best = spec.field_per::<Vec<Walk>, 1>("best").unwrap().at("mill_lane").unwrap();
        let mut game = Progress::fresh(&spec);
        let mut all: Vec<Walk> = Vec::new();
        for (nth, (letters, time)) in walks.into_iter().enumerate() {
            let new = walk(letters, time, nth);
            let told = game.place_in(best, &new).unwrap();
            // The place is that of the entry as it is kept, and expressions tell the same.
            let asked = format!("place_in(best[mill_lane], {{ letters = {letters}, time = {time} }})");
            let asked = Spec::from_toml(&format!("{HEAD}{BEST}[derived]\nasked = \"{asked}\"\n")).unwrap();
            let same = Progress::load(&asked, Some(&game.suspend().profile_image("ada")), None).unwrap().progress;
            prop_assert_eq!(same.derived("asked").unwrap().as_int(), told.map_or(0, |place| place as i64));
            let new = Walk { letters: new.letters.min(60), ..new };
            let ranked = game.rank(best, walk(letters, time, nth)).unwrap().ranked().expect("it was ranked");
            all.push(new.clone());
            all.sort_by_key(|walk| (-walk.letters, walk.time));
            all.truncate(4);
            let place = all.iter().position(|known| *known == new).map(|at| at + 1);
            prop_assert_eq!((told, ranked.place(), ranked.of()), (place, place, all.len()));
            prop_assert_eq!(game.list(best).iter().collect::<Vec<_>>(), all.clone());
        }
        let loaded = Progress::load(&spec, Some(&game.suspend().profile_image("ada")), None).unwrap();
        prop_assert!(loaded.report.clamped.is_empty() && loaded.report.dropped.is_empty());
        prop_assert_eq!(loaded.progress.list(best).iter().collect::<Vec<_>>(), all);
    }
}

#[test]
fn an_entry_is_named_and_corrected_afterwards_and_what_is_no_entry_is_refused() {
    let spec = spec(&format!(
        "{BEST}[field.plain]\ntype = \"ranking of int\"\nlasts = \"device\"\noptional = true\n\
        [field.days]\ntype = \"list of int\"\nlasts = \"device\"\n"
    ));
    let best = spec.field_per::<Vec<Walk>, 1>("best").unwrap().at("mill_lane").unwrap();
    let plain = spec.field::<Option<Vec<i64>>>("plain").unwrap();
    let days = spec.field::<Vec<i64>>("days").unwrap();
    let mut game = Progress::fresh(&spec);
    for (nth, letters) in [30, 20, 10].into_iter().enumerate() {
        game.rank(best, walk(letters, 9, nth)).unwrap();
    }
    game.list_mut(best).update(2, |walk| walk.carrier = "Solveig".into()).unwrap();
    assert_eq!(game.list(best).get(2).unwrap().carrier, "Solv", "a name has its own limit, and moves nothing");
    game.edit("best", &["mill_lane"], &[Part::Item(3), Part::member("letters")], Edit::Set(99.into())).unwrap();
    let first = game.list(best).get(0).unwrap();
    assert_eq!((first.letters, first.carrier.as_str()), (60, "Solv"), "corrected, it moves to its place");
    game.list_mut(best).remove(0).unwrap();
    assert_eq!(game.list(best).iter().map(|walk| walk.letters).collect::<Vec<_>>(), [30, 20]);
    // A whole list is put in order, and cut at its end.
    let unsorted = [5, 40, 7, 50, 6].map(|letters| walk(letters, 1, 0)).to_vec();
    assert!(game.set(best, unsorted).unwrap().clamped());
    assert_eq!(game.list(best).iter().map(|walk| walk.letters).collect::<Vec<_>>(), [50, 40, 7, 6]);

    let ranked = game.edit("plain", &[], &[], Edit::Insert(7.into())).unwrap().ranked().unwrap();
    assert_eq!((ranked.to_string(), game.get(plain)), ("place 1 of 1".into(), Some(vec![7])));
    assert_eq!(game.list_mut(best).push(walk(8, 1, 1)).unwrap().ranked().unwrap().place(), Some(3));
    let before = game.suspend().profile_image("ada").to_json();
    let wrong = Value::Map([("lettres".into(), Value::Int(1))].into_iter().collect());
    for (field, keys, edit, expected) in [
        ("best", &["mill_lane"][..], Edit::Insert(1.into()), "best"),
        ("best", &["mill_lane"], Edit::Insert(wrong), "lettres"),
        ("plain", &[], Edit::Insert("a".into()), "plain"),
    ] {
        let said = game.edit(field, keys, &[], edit).unwrap_err().to_string();
        assert!(said.contains(expected), "`{expected}` is not said: {said}");
    }
    assert!(game.rank(days, 3).unwrap_err().to_string().contains("it is not a ranking"));
    assert!(game.place_in(days, &3).is_err());
    assert_eq!(game.suspend().profile_image("ada").to_json(), before, "what is refused changes nothing");
}

#[test]
fn a_saved_ranking_that_is_not_in_order_is_put_in_order_and_reported() {
    let spec = spec(BEST);
    let best = spec.field_per::<Vec<Walk>, 1>("best").unwrap().at("mill_lane").unwrap();
    let mut game = Progress::fresh(&spec);
    game.rank(best, walk(30, 9, 1)).unwrap();
    game.rank(best, walk(20, 9, 2)).unwrap();
    let image = game.suspend().profile_image("ada");
    let values = serde_json::to_string(&image.values).unwrap().replace("\"letters\":20", "\"letters\":40");
    let edited = Image { values: serde_json::from_str(&values).unwrap(), ..image.clone() };
    let loaded = Progress::load(&spec, Some(&edited), None).unwrap();
    assert_eq!(loaded.progress.list(best).get(0), Some(Walk { letters: 40, ..walk(20, 9, 2) }));
    assert!(loaded.report.to_string().contains("best[mill_lane] was"), "{}", loaded.report);
    // Another order in a later build is another order of the same entries.
    let turned = self::spec(&BEST.replace("highest letters", "lowest letters").replace("max_len = 4", "max_len = 1"));
    let loaded = Progress::load(&turned, Some(&image), None).unwrap();
    let best = turned.field_per::<Vec<Walk>, 1>("best").unwrap().at("mill_lane").unwrap();
    assert_eq!(loaded.progress.list(best).iter().map(|walk| walk.letters).collect::<Vec<_>>(), [20]);
}

#[test]
fn what_cannot_be_ranked_has_its_sentence() {
    let field = |rest: &str| {
        format!("[field.f]\nlasts = \"profile\"\nwritten_by = \"both\"\nafter_failure = \"keep\"\n{rest}\n")
    };
    let of_walks = |rest: &str| field(&format!("type = \"ranking of walk\"\n{rest}"));
    let cases = [
        (of_walks(""), "add `by`, as in `by = [\"highest letters\"]`"),
        (of_walks("by = \"highest lettres\""), "did you mean `letters`?"),
        (of_walks("by = \"higest letters\""), "did you mean `highest`?"),
        (of_walks("by = \"carrier\""), "`carrier` is of type text, which has no order"),
        (of_walks("by = \"highest\""), "this does not say which member of walk"),
        (of_walks("by = [\"letters\", \"lowest letters\"]"), "`f` sorts by this already"),
        (of_walks("by = \"letters\"\nmax_len = 10001"), "`max_len` of a ranking goes from 1 to 10000"),
        (of_walks("by = \"letters\"\nrange = [1, 2]"), "only numbers have a range"),
        (of_walks("by = \"letters\"\non.complete = { union = \"f\" }"), "of type ranking of walk; `union` needs"),
        (of_walks("by = \"letters\"\non.complete = { rank = \"f\" }"), "a walk is wanted here"),
        (of_walks("by = \"letters\"\non.complete = { rank = \"{ time = 'a' }\" }"), "an int is wanted here"),
        (field("type = \"ranking of text\""), "rank numbers, or a struct that has some"),
        (field("type = \"ranking of int\"\nby = \"letters\""), "values of type int have no member `letters`"),
        (field("type = \"ranking of bool\"\nby = \"highest\""), "values of type bool have no order"),
        (field("type = \"list of ranking of int\""), "only a whole field is a ranking"),
        (field("type = \"list of int\"\nby = \"highest\""), "only a ranking is sorted"),
        (field("type = \"list of int\"\non.complete = { rank = \"1\" }"), "`rank` needs a ranking"),
        ("[struct.a]\nb = \"ranking of int\"\n".to_owned(), "only a whole field is a ranking"),
        (field("type = \"int\"") + "[derived]\nd = \"place_in(f, 3)\"", "`place_in` takes a ranking"),
        (of_walks("by = \"letters\"") + "[derived]\nd = \"place_in(f, { letters = 'a' })\"", "an int is wanted here"),
    ];
    for (more, expected) in cases {
        let shown = match Spec::from_toml(&format!("{HEAD}{more}")) {
            Ok(_) => panic!("this has no error:\n{more}"),
            Err(errors) => errors.to_string(),
        };
        assert!(shown.contains(expected), "`{expected}` is not said of {more}:\n{shown}");
    }
}
