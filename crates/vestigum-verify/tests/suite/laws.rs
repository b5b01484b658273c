//! The laws that hold for every spec and every play.

use std::collections::BTreeMap;

use proptest::prelude::*;

use vestigum_core::device::DeviceSnapshot;
use vestigum_core::state::State;
use vestigum_core::suspension::replica::Replica;
use vestigum_core::{Image, Owner, Place, Progress, Reset, Span, Spec, Value};
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, FieldSketch, Sketch, Step, apply, apply_all, play, sketch, values};
use vestigum_verify::fate_table::FateTable;

fn spec(sketch: &Sketch) -> Spec {
    let toml = sketch.toml();
    Spec::from_toml(&toml).unwrap_or_else(|errors| panic!("the generator wrote a bad spec:\n{errors}\n{toml}"))
}

/// Writes what a save would write, for the profile and for the device.
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
    #![proptest_config(config(400, vestigum_testing::kept_in!("laws")))]

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
        prop_assert_eq!(&vestigum_testing::written_and_read(&image), &image);
        // What another tool has laid out anew is the same image.
        let pretty = serde_json::from_slice::<serde_json::Value>(&bytes).and_then(|json| serde_json::to_vec_pretty(&json));
        let read = Image::from_json(&pretty.expect("it is JSON")).map(|read| Image { blobs: image.blobs.clone(), ..read });
        prop_assert_eq!(read.as_ref(), Ok(&image));
        // In one pass from the projection, or by way of the tree: the same bytes.
        let suspended = game.suspend();
        for of in [suspended.profile_image("player"), suspended.device_image()] {
            prop_assert_eq!(suspended.encoded(&of.owner, String::new()), of.encoded());
        }
        prop_assert_eq!(read.map(|read| read.to_json()), Ok(bytes));
    }

    #[test]
    fn a_copy_that_hears_what_changed_is_the_progress(
        sketch in free(),
        steps in play(30),
        saves in proptest::collection::vec(any::<bool>(), 30),
    ) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        let mut copy: Option<Box<Replica>> = None;
        for (step, save) in steps.chunks(1).zip(saves) {
            apply_all(&sketch, &mut game, step);
            if !save {
                continue;
            }
            let now = Replica::after(copy.take(), game.hand_over()).expect("the first hand-over is the whole");
            prop_assert_eq!(now.state().position.named(spec.model()), game.place());
            prop_assert_eq!(&now.state().made, &game.state().made);
            for slot in 0..game.state().slot_count() {
                let of = |state: &State| [state.value(slot), state.at_entry(slot), state.at_checkpoint(slot)].map(Value::clone);
                prop_assert_eq!(of(now.state()), of(game.state()));
            }
            let (theirs, ours) = (now.suspended(), game.suspend());
            for owner in [Owner::Profile("player".into()), Owner::Device] {
                prop_assert_eq!(theirs.encoded(&owner, String::new()), ours.encoded(&owner, String::new()));
            }
            let device = DeviceSnapshot::of(&game);
            prop_assert_eq!(device.encoded(String::new()), ours.encoded(&Owner::Device, String::new()));
            copy = Some(now);
        }
    }

    #[test]
    fn failing_after_resuming_is_failing(sketch in without_price(), steps in play(25)) {
        if sketch.resume == "none" {
            return Ok(());
        }
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

    /// A save made in a level is as a death, or a restart, would leave it, place and values alike: so quitting keeps nothing
    /// that failing takes.
    #[test]
    fn suspending_leaves_what_failing_leaves(sketch in without_price(), steps in play(25)) {
        if sketch.resume == "none" {
            return Ok(());
        }
        let sketch = Sketch { over: None, ..sketch };
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let resumed = relaunched(&spec, &game);
        let failed = if sketch.resume == "entry" { game.restart() } else { game.death() };
        if failed.is_err() {
            return Ok(());
        }
        prop_assert_eq!(resumed.place(), game.place());
        // The device is saved as it is, and a session ends.
        let lasting = |game: &Progress| {
            let kept = |(name, _): &(String, Value)| {
                let index = name.strip_prefix('f').and_then(|rest| rest.split('[').next()?.parse::<usize>().ok());
                index.is_none_or(|index| !matches!(sketch.fields[index].lasts, "device" | "session"))
            };
            values(&sketch, game).into_iter().filter(kept).collect::<Vec<_>>()
        };
        prop_assert_eq!(lasting(&resumed), lasting(&game));
    }

    #[test]
    fn not_resuming_is_giving_up(sketch in free(), steps in play(25)) {
        let sketch = Sketch { resume: "none", ..sketch };
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let (profile, device) = images(&game);
        let kept = game.device_values();
        prop_assert_eq!(Progress::load(&spec, None, Some(&device)).expect("it is sound").progress.device_values(), kept.clone());
        // The device is saved as it is, so where giving up changes it, a condition may open what the save does not have.
        if game.abandon().is_ok() && game.has_device_values(&kept) {
            prop_assert_eq!(images(&game), (profile, device));
        }
    }

    #[test]
    fn what_loses_nothing_changes_no_later_play(sketch in free(), steps in play(20), later in play(20)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let mut resumed = relaunched(&spec, &game);
        let to_entry = sketch.resume == "entry" || sketch.respawn == "entry";
        let no_checkpoint_lost = !to_entry || !matches!(game.place(), Place::InLevel { checkpoint: Some(_), .. });
        if !(no_checkpoint_lost && resumed.place() == game.place()) {
            return Ok(());
        }
        if values(&sketch, &resumed) != values(&sketch, &game) {
            return Ok(());
        }
        for step in &later {
            prop_assert_eq!(apply(&sketch, &mut game, step), apply(&sketch, &mut resumed, step));
            prop_assert_eq!(images(&game), images(&resumed));
        }
    }

    /// A code is a pure read, and who redeems it has what it carries and nothing else of its maker.
    #[test]
    fn a_code_carries_its_values_and_nothing_else(sketch in free(), steps in play(25), other in play(10)) {
        let carried = |field: &FieldSketch| {
            !matches!(field.lasts, "attempt" | "visit")
                && !field.per.contains(&"spot")
                && (matches!(field.ty, "bool" | "choice") || field.ty == "int" && field.range)
        };
        let fields = sketch.fields.iter().enumerate().filter(|(_, field)| carried(field));
        let mut names: Vec<String> = fields.map(|(index, _)| format!("\"f{index}\"")).collect();
        names.extend(["\"completed\"".into(), "\"kind_now\"".into()]);
        let code = format!("[code.card]\ncarries = [{}]\nas = \"text\"\n", names.join(", "));
        // Too much for any code is told when the spec is read.
        let Ok(spec) = Spec::from_toml(&format!("{}{code}", sketch.toml())) else { return Ok(()) };
        let (mut ada, mut bo) = (Progress::fresh(&spec), Progress::fresh(&spec));
        apply_all(&sketch, &mut ada, &steps);
        apply_all(&sketch, &mut bo, &other);
        let card = ada.code("card").expect("a code of anything");
        prop_assert_eq!(ada.code("card"), Ok(card.clone()));
        let before: BTreeMap<String, Value> = values(&sketch, &bo).into_iter().collect();
        let redeemed = bo.redeem("card", &card);
        prop_assert_eq!(redeemed.is_ok(), bo.place() == Place::Menu);
        let told: BTreeMap<String, Value> = spec.read_code("card", &card).expect("it was made").into_iter().collect();
        for (name, value) in values(&sketch, &bo) {
            let expected = if redeemed.is_ok() { told.get(&name).unwrap_or(&before[&name]) } else { &before[&name] };
            prop_assert!(name.starts_with("opened") || value == *expected, "{} is {}", name, value);
        }
        prop_assert!(redeemed.is_err() || bo.code("card") == Ok(card));
    }

    #[test]
    fn outside_a_level_a_relaunch_changes_only_session_fields(sketch in free(), steps in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        if matches!(game.place(), Place::InLevel { .. }) {
            return Ok(());
        }
        let again = relaunched(&spec, &game);
        let kept = |game: &Progress| {
            let mut values = values(&sketch, game);
            values.retain(|(name, _)| {
                let field = spec.fields().find(|field| name.split('[').next() == Some(field.name()));
                field.is_some_and(|field| field.lasts() != Span::Session)
            });
            values
        };
        prop_assert_eq!(kept(&again), kept(&game));
        prop_assert_eq!(again.place(), game.place());
    }

    #[test]
    fn what_was_wiped_plays_like_new(sketch in free(), steps in play(25), later in play(25)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let preview = game.preview_reset(&Reset::Everything);
        let mut told = values(&sketch, &game).into_iter().collect::<BTreeMap<String, Value>>();
        let changes = game.reset(&Reset::Everything);
        prop_assert_eq!(&changes, &preview, "the preview tells what happens");
        for change in changes.unwrap_or_default() {
            told.insert(change.name().to_string(), change.after);
        }
        prop_assert_eq!(told, values(&sketch, &game).into_iter().collect());
        let mut fresh = Progress::fresh(&spec);
        prop_assert_eq!(images(&game), images(&fresh));
        for step in &later {
            prop_assert_eq!(apply(&sketch, &mut game, step), apply(&sketch, &mut fresh, step));
            prop_assert_eq!(images(&game), images(&fresh));
        }
    }

    /// A value that a reset puts back stays back: neither failing nor coming back brings the old value.
    #[test]
    fn a_reset_field_stays_reset(sketch in without_price(), steps in play(25), field in 0usize..7) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        apply_all(&sketch, &mut game, &steps);
        let index = field % sketch.fields.len();
        let name = format!("f{index}");
        let ruled = sketch.fields[index].rules.iter().any(|rule| matches!(rule.moment, "death" | "restart" | "abandon" | "game_over"));
        if ruled || sketch.over.is_some() {
            return Ok(());
        }
        game.reset(&Reset::Field { name: name.clone(), keys: Vec::new() }).expect("it is there");
        let wiped = |game: &Progress| {
            let all = values(&sketch, game);
            let default = spec.fields().find(|field| field.name() == name).map(|field| field.default().clone());
            all.into_iter().filter(|(full, _)| full.split('[').next() == Some(&name)).all(|(_, value)| Some(value) == default)
        };
        prop_assert!(wiped(&game));
        prop_assert!(wiped(&relaunched(&spec, &game)));
        let _ = game.death();
        prop_assert!(wiped(&game));
        let _ = game.restart();
        prop_assert!(wiped(&game));
    }

    /// A display that is told every change shows what is there.
    #[test]
    fn a_display_shows_what_is_there(sketch in free(), steps in play(30)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        let mut shown = values(&sketch, &game).into_iter().collect::<BTreeMap<String, Value>>();
        for (index, step) in steps.iter().enumerate() {
            if index % 3 == 0 {
                for update in game.drain_changes() {
                    shown.insert(update.name().to_string(), update.after);
                }
                prop_assert_eq!(&shown, &values(&sketch, &game).into_iter().collect());
            }
            let _ = apply(&sketch, &mut game, step);
            if index % 7 == 5 {
                game.reset(&Reset::Run).expect("a run can be reset");
            }
        }
    }

    #[test]
    fn what_is_written_is_read_again(sketch in sketch(Allowed { launch_rules: true, priced_failures: true })) {
        let spec = spec(&sketch);
        let read = Spec::from_toml(&spec.to_toml());
        prop_assert_eq!(read.as_ref().map(Spec::to_toml).map_err(ToString::to_string), Ok(spec.to_toml()));
        prop_assert_eq!(FateTable::of(&read.unwrap()), FateTable::of(&spec));
    }

    /// Marks against plain copies: whatever no rule touches comes back exactly.
    #[test]
    fn what_is_rewound_equals_its_mark(sketch in free(), steps in play(40)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        let copy = |game: &Progress| values(&sketch, game).into_iter().collect::<BTreeMap<String, Value>>();
        let (mut entry, mut checkpoint) = (copy(&game), copy(&game));
        for step in steps.iter().filter(|step| !matches!(step, Step::Reset(..))) {
            let outcome = apply(&sketch, &mut game, step);
            match (step, outcome) {
                (Step::Enter { .. }, Ok(_)) => (entry, checkpoint) = (copy(&game), copy(&game)),
                (Step::Checkpoint(_), Ok(Some(outcome))) if outcome.accepted => checkpoint = copy(&game),
                (Step::Moment(moment @ ("death" | "restart" | "abandon")), Ok(Some(outcome))) => {
                    if *moment != "death" || sketch.respawn == "entry" || outcome.game_over {
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
                            for (name, value) in values(&sketch, &game).into_iter().filter(|(name, _)| ours(name)) {
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
            let before = (images(&game), values(&sketch, &game), game.place());
            let ignored = match apply(&sketch, &mut game, step) {
                Err(_) => true,
                Ok(outcome) => outcome.is_some_and(|outcome| !outcome.accepted),
            };
            if ignored {
                prop_assert_eq!(before, (images(&game), values(&sketch, &game), game.place()));
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
        let before = values(&sketch, &game);
        let _ = apply(&sketch, &mut game, &Step::Write { field, level, value, add: false });
        let after = values(&sketch, &game);
        // What is written may open a level, outside of one.
        let changed = before.iter().zip(&after).filter(|(a, b)| a != b && !a.0.starts_with("opened["));
        let changed: Vec<_> = changed.collect();
        prop_assert!(changed.len() <= 1, "one write changed {:?}", changed);
    }

    /// The outcome tells every change, and nothing that did not change.
    #[test]
    fn an_outcome_tells_what_changed(sketch in free(), steps in play(30)) {
        let spec = spec(&sketch);
        let mut game = Progress::fresh(&spec);
        for step in &steps {
            let mut told = values(&sketch, &game).into_iter().collect::<BTreeMap<String, Value>>();
            let outcome = apply(&sketch, &mut game, step);
            if let Ok(Some(outcome)) = outcome {
                for change in outcome.changes {
                    let name = change.name().to_string();
                    prop_assert_eq!(told.insert(name, change.after), Some(change.before));
                }
                prop_assert_eq!(told, values(&sketch, &game).into_iter().collect());
                prop_assert_eq!(outcome.place, game.place());
            }
        }
    }
}
