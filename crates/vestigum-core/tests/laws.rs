//! The laws that hold for every spec and every play.

mod support;

use std::collections::BTreeMap;

use proptest::prelude::*;
use support::{Allowed, Sketch, Step, apply, apply_all, play, sketch, values};
use vestigum_core::{Image, Place, Progress, Span, Spec, Value};

fn spec(sketch: &Sketch) -> Spec {
    let toml = sketch.toml();
    Spec::from_toml(&toml).unwrap_or_else(|errors| panic!("the generator wrote a bad spec:\n{errors}\n{toml}"))
}

/// What a save would write, for the profile and for the device.
fn images(game: &Progress) -> (Image, Image) {
    let suspended = game.suspend();
    (suspended.profile_image("player"), suspended.device_image())
}

fn relaunched(spec: &Spec, game: &Progress) -> Progress {
    let (profile, device) = images(game);
    let launched = Progress::launch(spec, Some(&profile), Some(&device)).expect("its own image loads");
    assert!(launched.report.is_clean(), "loading what was just saved changes nothing: {}", launched.report);
    launched.progress
}

fn free() -> impl Strategy<Value = Sketch> {
    sketch(Allowed { launch_rules: false, priced_failures: true })
}

fn without_price() -> impl Strategy<Value = Sketch> {
    sketch(Allowed { launch_rules: false, priced_failures: false })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn suspending_twice_is_suspending_once(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let again = relaunched(&spec, &game);
        prop_assert_eq!(images(&again), images(&game));
    }

    #[test]
    fn an_image_survives_its_json(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let image = Image { generation: 7, saved_at: "2000-01-01T00:00:00Z".into(), ..images(&game).0 };
        let bytes = image.to_json();
        let read = Image::from_json(&bytes);
        prop_assert_eq!(read.as_ref(), Ok(&image));
        prop_assert_eq!(read.map(|read| read.to_json()), Ok(bytes));
    }

    #[test]
    fn failing_after_resuming_is_failing(sketch in without_price(), steps in play(25)) {
        prop_assume!(sketch.resume != "none");
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let mut resumed = relaunched(&spec, &game);
        let failure = |game: &mut Progress| match sketch.resume {
            "entry" => game.restart().map(drop),
            _ => game.death().map(drop),
        };
        prop_assert_eq!(failure(&mut game), failure(&mut resumed));
        prop_assert_eq!(images(&game), images(&resumed));
    }

    #[test]
    fn not_resuming_is_giving_up(sketch in free(), steps in play(25)) {
        let sketch = Sketch { resume: "none", ..sketch };
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let suspended = images(&game);
        if game.abandon().is_ok() {
            prop_assert_eq!(images(&game), suspended);
        }
    }

    #[test]
    fn what_loses_nothing_changes_no_later_play(sketch in free(), steps in play(20), later in play(20)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let mut resumed = relaunched(&spec, &game);
        let no_checkpoint_lost =
            sketch.resume != "entry" || !matches!(game.place(), Place::InLevel { checkpoint: Some(_), .. });
        prop_assume!(no_checkpoint_lost && resumed.place() == game.place());
        prop_assume!(values(&spec, &resumed) == values(&spec, &game));
        for step in &later {
            prop_assert_eq!(apply(&sketch, &mut game, step), apply(&sketch, &mut resumed, step));
            prop_assert_eq!(images(&game), images(&resumed));
        }
    }

    #[test]
    fn outside_a_level_a_relaunch_changes_only_session_fields(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        prop_assume!(!matches!(game.place(), Place::InLevel { .. }));
        let again = relaunched(&spec, &game);
        for field in spec.fields().filter(|field| field.lasts() != Span::Session) {
            for level in spec.levels().map(|level| level.id()) {
                let level: &[&str] = if field.is_keyed() { &[level] } else { &[] };
                prop_assert_eq!(again.value(field.name(), level), game.value(field.name(), level));
            }
        }
        prop_assert_eq!(again.place(), game.place());
    }

    /// Marks against plain copies: whatever no rule touches comes back exactly.
    #[test]
    fn what_is_rewound_equals_its_mark(sketch in free(), steps in play(40)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        let copy = |game: &Progress| values(&spec, game).into_iter().collect::<BTreeMap<String, Value>>();
        let (mut entry, mut checkpoint) = (copy(&game), copy(&game));
        for step in &steps {
            let outcome = apply(&sketch, &mut game, step);
            match (step, outcome) {
                (Step::Enter { .. }, Ok(_)) => (entry, checkpoint) = (copy(&game), copy(&game)),
                (Step::Checkpoint(_), Ok(Some(outcome))) if outcome.accepted => checkpoint = copy(&game),
                (Step::Moment(moment @ ("death" | "restart" | "abandon")), Ok(Some(_))) => {
                    if *moment != "death" || sketch.respawn == "entry" {
                        checkpoint = entry.clone();
                    }
                    for (index, field) in sketch.fields.iter().enumerate() {
                        let ruled = field.rules.iter().any(|rule| rule.moment == *moment || rule.moment == "game_over");
                        let mark = match field.after_failure {
                            "entry" => &entry,
                            "checkpoint" => &checkpoint,
                            _ => continue,
                        };
                        if !ruled && matches!(field.lasts, "run" | "profile") {
                            let prefix = format!("f{index}[");
                            let ours = |name: &str| name == format!("f{index}") || name.starts_with(&prefix);
                            for (name, value) in values(&spec, &game).into_iter().filter(|(name, _)| ours(name)) {
                                prop_assert_eq!(&value, &mark[&name], "{} after {}", name, moment);
                            }
                        }
                    }
                }
                _ => {}
            }
        }
    }

    #[test]
    fn a_refusal_changes_nothing(sketch in sketch(Allowed { launch_rules: true, priced_failures: true }), steps in play(40)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        for step in &steps {
            let before = (images(&game), values(&spec, &game), game.place());
            let ignored = match apply(&sketch, &mut game, step) {
                Err(_) => true,
                Ok(outcome) => outcome.is_some_and(|outcome| !outcome.accepted),
            };
            if ignored {
                prop_assert_eq!(before, (images(&game), values(&spec, &game), game.place()));
            }
        }
    }

    #[test]
    fn the_order_of_declarations_changes_nothing(
        sketch in sketch(Allowed { launch_rules: true, priced_failures: true }),
        steps in play(25),
        turn in 0usize..7,
    ) {
        let mut order: Vec<usize> = (0..sketch.fields.len()).collect();
        order.rotate_left(turn % sketch.fields.len());
        order.reverse();
        let one = spec(&sketch);
        let other = Spec::from_toml(&sketch.toml_in_order(&order)).expect("the order of fields is free");
        let (mut a, mut b) = (Progress::fresh(&one), Progress::fresh(&other));
        for step in &steps {
            let _ = (apply(&sketch, &mut a, step), apply(&sketch, &mut b, step));
            prop_assert_eq!(images(&a), images(&b));
        }
    }

    #[test]
    fn a_write_touches_one_entry(sketch in free(), steps in play(15), field in 0usize..7, level in 0usize..4, value in -50i64..70) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let before = values(&spec, &game);
        let _ = apply(&sketch, &mut game, &Step::Write { field, level, value, add: false });
        let after = values(&spec, &game);
        let changed: Vec<_> = before.iter().zip(&after).filter(|(a, b)| a != b).collect();
        prop_assert!(changed.len() <= 1, "one write changed {:?}", changed);
    }

    /// The outcome tells every change, and nothing that did not change.
    #[test]
    fn an_outcome_tells_what_changed(sketch in free(), steps in play(30)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        for step in &steps {
            let mut told = values(&spec, &game).into_iter().collect::<BTreeMap<String, Value>>();
            let outcome = apply(&sketch, &mut game, step);
            if let Ok(Some(outcome)) = outcome {
                for change in outcome.changes {
                    let name = match &change.key {
                        Some(key) => format!("{}[{key}]", change.field),
                        None => change.field.to_string(),
                    };
                    prop_assert_eq!(told.insert(name, change.after), Some(change.before));
                }
                prop_assert_eq!(told, values(&spec, &game).into_iter().collect());
                prop_assert_eq!(outcome.place, game.place());
            }
        }
    }
}
