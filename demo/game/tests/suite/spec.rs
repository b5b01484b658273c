//! What persists: the spec, its playthroughs and its promises.

vestigum_verify::tests!("progress.toml");
