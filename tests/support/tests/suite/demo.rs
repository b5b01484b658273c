//! The demo's own playthroughs, promises and updates, each as a test, as a game has them in one line.

vestigum_verify::tests!("../../demo/fellpost/fellpost.toml");
