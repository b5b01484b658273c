//! That the spec is sound, and a test for each playthrough and promise.

vestigum_verify::tests!("progress.toml");
