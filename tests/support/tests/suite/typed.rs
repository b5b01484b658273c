//! Handles from `spec!` and handles from names are the same, on every type and every kind of key.
#![allow(clippy::float_cmp, reason = "values are kept exactly")]

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::str::FromStr;

use vestigum::{MemoryStore, Session};
use vestigum_testing::fellpost::{self as post, Gate, Level, MillLaneCheckpoint};
use vestigum_testing::kennel::{self, Code, Exit, Hound, HoundKind, Own, Sky, Weapon};

/// One play of the demo, with handles from names and with those of the macro: the same at every step.
#[test]
fn the_demo_is_played_the_same_both_ways() {
    let spec = post::spec();
    let launch = || Session::launch(spec, MemoryStore::default(), "ada").unwrap();
    let (mut named, mut typed) = (launch(), launch());
    let letters = spec.int("letters").unwrap();
    let best = spec.int_per_level("best_letters").unwrap().at("mill_lane").unwrap();
    let gate = spec.field_per::<bool, 1>("gate_open").unwrap().at("upper_gate").unwrap();
    let same = |named: &Session, typed: &Session| {
        let shown = |game: &Session| game.entries().iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(shown(named), shown(typed));
        assert_eq!(named.get(letters), typed.get(post::LETTERS));
        assert_eq!(named.get(best), typed.get(post::BEST_LETTERS.at(Level::MillLane)));
        assert_eq!(named.get(gate), typed.get(post::GATE_OPEN.at(Gate::UpperGate)));
        assert_eq!(named.derived("rank").unwrap(), typed.get(post::RANK).into());
        assert_eq!(named.get(spec.derived::<i64>("total_stars").unwrap()), typed.get(post::TOTAL_STARS));
        assert_eq!(named.board(), typed.board());
    };
    same(&named, &typed);
    named.enter("mill_lane").unwrap();
    typed.enter(Level::MillLane).unwrap();
    named.add(letters, 60).unwrap();
    typed.add(post::LETTERS, 60).unwrap();
    same(&named, &typed);
    named.checkpoint("ford").unwrap();
    typed.checkpoint(MillLaneCheckpoint::Ford).unwrap();
    named.set(letters, 90).unwrap();
    typed.set(post::LETTERS, 90).unwrap();
    named.death().unwrap();
    typed.death().unwrap();
    same(&named, &typed);
    named.set(gate, true).unwrap();
    typed.set(post::GATE_OPEN.at(Gate::UpperGate), true).unwrap();
    named.complete().unwrap();
    typed.complete().unwrap();
    same(&named, &typed);
    assert!(typed.get(post::COMPLETED.at(Level::MillLane)));
    assert_eq!((letters, best), (post::LETTERS, post::BEST_LETTERS.at(Level::MillLane)));
    assert!(spec.history().is_some_and(|history| !history.is_empty()), "the history beside the spec is read");
    named.quit().unwrap();
    typed.quit().unwrap();
}

/// A ranking takes the struct that the macro makes, and a level that a player made is a variant as every other.
#[test]
fn rankings_and_own_paths_are_typed() {
    let mut game = Session::launch(post::spec(), MemoryStore::default(), "ada").unwrap();
    assert_eq!(*game.make_level().unwrap(), *Level::Made1.name());
    game.set(post::PATH_TITLE.at(Level::Made1), "Bog Loop").unwrap();
    assert!(game.set(post::PATH_TITLE.at(Level::Made2), "Fen Loop").is_err(), "it is not made");
    let walks = post::BEST_WALKS.at(Level::Made1);
    let walk = |letters| post::Walk { letters, ..post::Walk::default() };
    for (letters, place) in [(40, 1), (60, 1), (50, 2)] {
        assert_eq!(game.place_in(walks, &walk(letters)).unwrap(), Some(place));
        assert_eq!(game.rank(walks, walk(letters)).unwrap().ranked().unwrap().place(), Some(place));
    }
    game.list_mut(walks).update(0, |walk| walk.carrier = "Ib".into()).unwrap();
    assert_eq!(game.list(walks).get(0), Some(post::Walk { carrier: "Ib".into(), ..walk(60) }));
    assert_eq!(game.board().last().map(|row| row.title.clone()).as_deref(), Some("Bog Loop"));
    game.quit().unwrap();
}

#[test]
fn enums_are_names_in_declared_order() {
    assert_eq!(Level::ALL.map(Level::name)[..2], ["mill_lane", "heather_rise"]);
    assert_eq!((Level::MillLane.title(), format!("{:>10}", Level::MillLane)), ("Mill Lane", " mill_lane".to_owned()));
    assert!(Level::MillLane < Level::CloudPass);
    assert_eq!(Level::from_str("tarn_steps"), Ok(Level::TarnSteps));
    assert_eq!(Level::from_str("tarn").unwrap_err().to_string(), "no level is called `tarn`");
    let json = serde_json::to_string(&[Sky::Storm, Sky::Fair]).unwrap();
    assert_eq!(json, "[\"storm\",\"fair\"]");
    assert_eq!(serde_json::from_str::<Vec<Sky>>(&json).unwrap(), [Sky::Storm, Sky::Fair]);
    assert_eq!(HashSet::from([kennel::SCORE]).len(), 1, "handles can be keys");
    let _: fn() -> &'static vestigum::Spec = kennel::spec;
}

/// Every type and axis through constants, read again by name.
#[test]
fn constants_read_and_write_what_names_do() {
    let mut game = Session::launch(kennel::spec(), MemoryStore::default(), "ada").unwrap();
    let rook = Hound { name: "Rook".into(), at: [0.5, 2.0], ..Hound::default() };
    assert_eq!((rook.level, rook.kind, rook.r#type), (1, HoundKind::DeepSea, false));
    game.list_mut(kennel::TEAM).push(rook.clone()).unwrap();
    game.list_mut(kennel::TEAM).update(0, |hound| hound.level = 7).unwrap();
    assert_eq!(game.get(kennel::TEAM)[0].level, 7);
    game.map_mut(kennel::KENNEL).insert("ring", rook.clone()).unwrap();
    assert_eq!(game.get(kennel::KENNEL), BTreeMap::from([("ring".to_owned(), rook)]));
    game.set_of_mut(kennel::STAMPS).insert("owl".into()).unwrap();
    assert_eq!(game.get(kennel::STAMPS), BTreeSet::from(["owl".to_owned()]));
    game.set(kennel::SKY, Sky::Storm).unwrap();
    assert_eq!(game.value("sky", &[]).unwrap().to_string(), "storm");
    assert_eq!(game.get(kennel::CALM), "wild");
    game.set(kennel::REPLAY, &[1, 2]).unwrap();
    assert_eq!(game.get(kennel::REPLAY), [1, 2]);
    game.set(kennel::MOTTO, "Post by day").unwrap();
    assert_eq!(game.get(kennel::MOTTO), "Post by day");
    let time = kennel::BEST_TIME.at(kennel::Level::HeatherRise);
    assert!(game.lower(time, Some(59_000)).unwrap().beaten());
    assert_eq!((game.get(time), game.get(kennel::QUICK.at(kennel::Level::HeatherRise))), (Some(59_000), true));
    assert!(!game.get(kennel::QUICK.at(kennel::Level::MillLane)));
    game.set(kennel::RESTED.at(kennel::MillLaneCheckpoint::Stile), true).unwrap();
    assert_eq!(game.value("rested", &["mill_lane", "stile"]).unwrap(), true.into());
    assert_eq!(game.value("rested", &["mill_lane", "ford"]).unwrap(), false.into());
    game.set(kennel::WEAR.at((kennel::Level::HeatherRise, Weapon::Staff)), 0.25).unwrap();
    assert_eq!(game.value("wear", &["heather_rise", "staff"]).unwrap(), 0.25.into());
    game.own_moment(Own::NewDay).unwrap();
    game.quit().unwrap();
}

/// Exits, codes and moments that begin a run have their enums, and time is counted in an ordinary field.
#[test]
fn exits_codes_and_new_runs_have_their_names() {
    let mut game = Session::launch(kennel::spec(), MemoryStore::default(), "ada").unwrap();
    game.enter("mill_lane").unwrap();
    game.tick(std::time::Duration::from_secs(2)).unwrap();
    game.set(kennel::SKY, Sky::Storm).unwrap();
    assert_eq!(game.complete_by(Exit::SideGate).unwrap().next_level(), Some("heather_rise"));
    let tag = game.code(Code::Tag.name()).unwrap();
    game.own_moment(Own::NewLitter).unwrap();
    assert_eq!((game.get(kennel::SKY), game.get(kennel::ASLEEP)), (Sky::Fair, 2000));
    game.redeem(Code::Tag.name(), tag).unwrap();
    assert_eq!(game.get(kennel::SKY), Sky::Storm);
    game.quit().unwrap();
}
