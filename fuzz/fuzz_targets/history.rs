//! Any text as a history: refused, or written again as the same.
#![no_main]

use vestigum::History;

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(history) = History::from_json("fuzz.history.json", text) {
        let written = history.to_json();
        let again = History::from_json("fuzz.history.json", &written).expect("it was just written");
        assert_eq!(again.to_json(), written);
    }
});
