//! Images of other shapes: whatever another version of a game saved is loaded, and never panics.

use proptest::prelude::*;

use vestigum_core::{Progress, Span, Spec};
use vestigum_testing::hunting::config;
use vestigum_testing::{Allowed, apply_all, play, sketch, values};

proptest! {
    #![proptest_config(config(300, vestigum_testing::kept_in!("hostile")))]

    /// Whatever another version of a game saved: it is loaded, inside its limits, and the next save is clean.
    #[test]
    fn an_image_of_another_shape_is_loaded_and_reported(
        old in sketch(Allowed { launch_rules: false, priced_failures: true }),
        new in sketch(Allowed { launch_rules: false, priced_failures: true }),
        steps in play(30),
        later in play(10),
    ) {
        let spec = |sketch: &vestigum_testing::Sketch| Spec::from_toml(&sketch.toml()).unwrap_or_else(|errors| panic!("{errors}"));
        let (old_spec, new_spec) = (spec(&old), spec(&new));
        let mut game = Progress::fresh(&old_spec);
        apply_all(&old, &mut game, &steps);
        let (profile, device) = (game.suspend().profile_image("player"), game.suspend().device_image());
        let launched = Progress::launch(&new_spec, Some(&profile), Some(&device)).expect("it is the same game");
        // Every field that the images have and the new spec lacks is told.
        let has = |spec: &Spec, name: &str| spec.fields().any(|field| field.name() == name && field.lasts() != Span::Session);
        for name in profile.values.keys().chain(device.values.keys()).filter(|name| !has(&new_spec, name)) {
            let told = launched.report.dropped.iter().any(|dropped| dropped.what.to_string().starts_with(&**name));
            prop_assert!(told, "{} is not told: {}", name, launched.report);
        }
        let mut game = launched.progress;
        for (index, field) in new.fields.iter().enumerate().filter(|(_, field)| field.range && field.ty == "int") {
            for (name, value) in values(&new, &game).into_iter().filter(|(name, _)| name.split('[').next() == Some(&format!("f{index}"))) {
                prop_assert!(!value.is_filled() || (-40..=60).contains(&value.as_int()), "{} of {:?} is {}", name, field, value);
            }
        }
        let suspended = game.suspend();
        let again = Progress::launch(&new_spec, Some(&suspended.profile_image("player")), Some(&suspended.device_image()));
        prop_assert!(again.expect("its own image").report.is_clean(), "the second load has nothing to report");
        apply_all(&new, &mut game, &later);
    }
}
