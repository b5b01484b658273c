//! Any text as playthroughs of the demo: read, and run if it can be.
#![no_main]

use std::sync::LazyLock;

use vestigum::Spec;
use vestigum_verify::playthrough::{MemorySaves, Script, run};

static SPEC: LazyLock<Spec> = LazyLock::new(|| {
    let text = include_str!("../../demo/fellpost/fellpost.toml");
    Spec::from_toml(text.split("[[migration]]").next().unwrap_or_default()).expect("the demo is sound")
});

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(script) = Script::from_text("fuzz.play", text, &SPEC) {
        for playthrough in script.playthroughs() {
            run(&SPEC, playthrough, &mut MemorySaves::default());
        }
    }
});
