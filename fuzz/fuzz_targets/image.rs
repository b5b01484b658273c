//! Any bytes as a save of the demo: damage, or loaded inside all limits, so that a second load has nothing to report.
#![no_main]

use std::sync::LazyLock;

use vestigum::{Image, Owner, Progress, Spec};

static SPEC: LazyLock<Spec> = LazyLock::new(|| {
    let (text, history) = (
        include_str!("../../demo/fellpost/fellpost.toml"),
        include_str!("../../demo/fellpost/fellpost.history.json"),
    );
    Spec::from_toml_with_history(text, history).expect("the demo is sound")
});

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    for image in [Image::from_json(bytes), Image::decode_unverified(bytes)].into_iter().flatten() {
        let (profile, device) = match image.owner {
            Owner::Profile(_) => (Some(&image), None),
            Owner::Device => (None, Some(&image)),
        };
        if let Ok(launched) = Progress::launch(&SPEC, profile, device) {
            let again = launched.progress.suspend();
            let again = Progress::launch(&SPEC, Some(&again.profile_image("ada")), Some(&again.device_image()));
            assert!(again.expect("its own image").report.is_clean());
        }
    }
});
