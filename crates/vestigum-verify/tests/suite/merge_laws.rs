//! What holds of every merge, whatever the spec says and whatever was played in several places.

use proptest::prelude::*;

use vestigum_core::contributing::Contributor;
use vestigum_core::image::SavedPlace;
use vestigum_core::merging::report::Side;
use vestigum_core::merging::{Meeting, Merged, join, meet};
use vestigum_core::state::State;
use vestigum_core::suspension::fates::{resembled_failure, suspended_fate};
use vestigum_core::suspension::resuming::leave_level;
use vestigum_core::{Image, Progress, Span, Spec, Type, Value};
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::fate::PlainFate;
use vestigum_testing::hunting::config;
use vestigum_testing::merging::{Parted, parted};

fn merged(spec: &Spec, here: &Image, there: &Image) -> Merged {
    join(spec, here, there).expect("images of the same game are merged")
}

/// Holds what two places have after they met.
fn met(spec: &Spec, here: &Image, there: &Image) -> Image {
    match meet(spec, Some(here), Some(there)).expect("images of the same game meet") {
        Meeting::Takes(Side::There) => there.clone(),
        Meeting::Merged(merged) => merged.image,
        _ => here.clone(),
    }
}

/// Returns what is left of a save when its level is given up without a price.
fn given_up(spec: &Spec, image: &Image) -> State {
    let mut state = held(spec, image);
    if let Some(level) = state.position.level() {
        leave_level(spec.model(), &mut state, Some(level));
    }
    state
}

fn held(spec: &Spec, image: &Image) -> State {
    Progress::load(spec, Some(image), None).expect("it loads").progress.into_state()
}

/// The fields that last a profile and have that law.
fn with_law<'s>(spec: &'s Spec, parted: &'s Parted, law: &'static str) -> impl Iterator<Item = &'s Field> {
    let named = (0..parted.sketch.fields.len()).filter(move |index| parted.law(*index) == Some(law));
    named.filter_map(|index| spec.fields().find(|field| field.name() == format!("f{index}")))
}

/// Returns whether a save inside a level sets a field back to its default, because a failure does: then what came from the other side is
/// set back as well.
fn is_set_back(spec: &Spec, image: &Image, field: &Field) -> bool {
    let model = spec.model();
    let fate = suspended_fate(model, field, resembled_failure(model.resume));
    matches!(image.place, SavedPlace::InLevel { .. }) && [fate.touched, fate.untouched].contains(&PlainFate::Reset)
}

/// A merge in which each entry is where it was in all saves: the names of open key sets are the same, and no level moved.
fn merged_entry_by_entry(spec: &Spec, base: &Image, here: &Image, there: &Image) -> Option<Merged> {
    if base.made != here.made || here.made != there.made {
        return None;
    }
    let of = merged(spec, here, there);
    (of.report.moved_levels.is_empty() && of.report.left_level.is_none()).then_some(of)
}

proptest! {
    #![proptest_config(config(300, vestigum_testing::kept_in!("merge_laws")))]

    #[test]
    fn what_only_one_side_changed_is_taken_over(parted in parted()) {
        let spec = parted.spec();
        let [base, here, there, _] = parted.images(&spec);
        for changed in [&here, &there] {
            // Where nothing was changed it is the same save, at another time.
            prop_assert_eq!(met(&spec, &base, changed).digest(), changed.digest());
            prop_assert_eq!(met(&spec, changed, &base).digest(), changed.digest());
        }
        prop_assert_eq!(met(&spec, &base, &base).digest(), base.digest());
    }

    #[test]
    fn the_order_of_the_sides_does_not_matter(parted in parted()) {
        let spec = parted.spec();
        let [_, here, there, _] = parted.images(&spec);
        let (one, other) = (merged(&spec, &here, &there), merged(&spec, &there, &here));
        prop_assert_eq!(&one.image, &other.image);
        let turned = |side: Side| match side { Side::Here => Side::There, Side::There => Side::Here };
        prop_assert_eq!(one.report.run.side(), other.report.run.side().map(turned));
    }

    #[test]
    fn what_comes_out_loads_and_is_written_as_it_is(parted in parted()) {
        let spec = parted.spec();
        let [_, here, there, _] = parted.images(&spec);
        let first = met(&spec, &here, &there);
        let launched = Progress::load(&spec, Some(&first), None).expect("it loads");
        prop_assert!(launched.report.is_clean(), "{}", launched.report);
        let again = launched.progress.suspend().profile_image("player");
        prop_assert_eq!((&again.values, &again.marks, &again.place), (&first.values, &first.marks, &first.place));
        // The amounts come to the values, and nothing had to be brought in line.
        let contributor = Contributor::new(&spec, Some(&first)).expect("it loads").expect("the spec merges");
        prop_assert_eq!(&contributor.origin(), first.origin.as_deref().expect("a merged save has an origin"));
        // Meeting again changes nothing: both places have it, or one of them has not heard of it yet.
        for known in [&first, &here, &there] {
            prop_assert_eq!(met(&spec, known, &first).digest(), first.digest());
            prop_assert_eq!(met(&spec, &first, known).digest(), first.digest());
        }
    }

    #[test]
    fn three_places_come_to_one_save_in_any_order(parted in parted()) {
        let spec = parted.spec();
        let [_, here, there, third] = parted.images(&spec);
        let ends = [[0, 1, 2], [1, 2, 0], [2, 0, 1]].map(|order| {
            let mut places = [here.clone(), there.clone(), third.clone()];
            for _ in 0..4 {
                for pair in [(order[0], order[1]), (order[1], order[2]), (order[2], order[0])] {
                    let both = met(&spec, &places[pair.0], &places[pair.1]);
                    (places[pair.0], places[pair.1]) = (both.clone(), both);
                }
            }
            places
        });
        for places in &ends {
            prop_assert_eq!(places[0].digest(), places[1].digest());
            prop_assert_eq!(places[1].digest(), places[2].digest());
        }
        // Sums do not even depend on who met first, unless a level moved or was left.
        let [one, other, _] = ends.map(|[place, ..]| place);
        if one.made == other.made && one.place == other.place {
            let sums = |image: &Image| image.origin.as_ref().expect("it has one").sums.clone();
            prop_assert_eq!(sums(&one), sums(&other));
        }
    }

    #[test]
    fn no_record_falls_and_no_completed_level_is_lost(parted in parted()) {
        let spec = parted.spec();
        let [base, here, there, _] = parted.images(&spec);
        let Some(of) = merged_entry_by_entry(&spec, &base, &here, &there) else { return Ok(()) };
        let out = given_up(&spec, &of.image);
        let [base, here, there] = [&base, &here, &there].map(|image| given_up(&spec, image));
        for field in with_law(&spec, &parted, "max").filter(|field| !is_set_back(&spec, &of.image, field)) {
            for slot in field.slots() {
                let was = base.value(slot);
                // A side below the base was set back there, and what was set back is not a record any more.
                if [&here, &there].iter().all(|side| side.value(slot) >= was) && out.has_entry(spec.model(), field, slot) {
                    let best = here.value(slot).max(there.value(slot));
                    prop_assert!(out.value(slot) >= best, "{}: {} of {best}", field.name(), out.value(slot));
                }
            }
        }
        let built_in = spec.fields().filter(|field| field.is_built_in() && field.lasts() == Span::Profile);
        for field in built_in.filter(|field| field.name() == "completed") {
            for slot in field.slots().filter(|slot| out.has_entry(spec.model(), field, *slot)) {
                let [was, one, other] = [&base, &here, &there].map(|state| state.value(slot).as_bool());
                let set_back = was && !(one && other);
                prop_assert!(out.value(slot).as_bool() == (one || other) || set_back);
            }
        }
    }

    #[test]
    fn no_gain_is_lost_and_none_is_counted_twice(parted in parted()) {
        let spec = parted.spec();
        let [base, here, there, _] = parted.images(&spec);
        let Some(of) = merged_entry_by_entry(&spec, &base, &here, &there) else { return Ok(()) };
        let out = given_up(&spec, &of.image);
        let whole = held(&spec, &base);
        let [base, here, there] = [&base, &here, &there].map(|image| given_up(&spec, image));
        for field in with_law(&spec, &parted, "sum").filter(|field| *field.ty() == Type::Int && !is_set_back(&spec, &of.image, field)) {
            for slot in field.slots().filter(|slot| out.has_entry(spec.model(), field, *slot)) {
                let states = [&base, &whole, &here, &there, &out];
                let [was, held, one, other, now] = states.map(|state| match state.value(slot) {
                    Value::Int(int) => Some(*int),
                    _ => None,
                });
                let (Some(was), Some(held), Some(one), Some(other), Some(now)) = (was, held, one, other, now) else {
                    continue;
                };
                let inside = |int: i64| match field.limits().clamp(Value::Int(int)).0 {
                    Value::Int(int) => int,
                    _ => int,
                };
                // What the base held and had not earned for good counts once, whoever banked it.
                let (lowest, highest) = (was.min(held), was.max(held));
                let gains = |from: i64| from + (one - from) + (other - from);
                let (least, most) = if one >= highest && other >= highest {
                    (gains(highest), gains(highest))
                } else if one <= lowest && other <= lowest {
                    (gains(lowest), gains(lowest))
                } else if [one, other].iter().all(|side| (lowest..=highest).contains(side)) {
                    (lowest, highest)
                } else {
                    (one + other - highest, one + other - lowest)
                };
                prop_assert!(inside(least) <= now && now <= inside(most), "{} {now} not in {least}..{most}", field.name());
            }
        }
    }
}
