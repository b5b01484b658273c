//! Any text as a spec: an answer or a list of findings, each inside the text.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    let checked = vestigum_verify::lint::check("fuzz.toml", text);
    for finding in checked.findings.list() {
        assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len());
    }
    if let Some(spec) = checked.spec {
        let again = vestigum::Spec::from_toml(&spec.to_toml()).map(|spec| spec.to_toml());
        assert!(again.is_err() || again.is_ok_and(|again| again == spec.to_toml()));
    }
});
