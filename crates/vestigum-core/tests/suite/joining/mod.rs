//! Random histories of a player on several devices, and the crate's join beside the model's.

mod model;
mod world;

/// Rounds of histories; `VESTIGUM_HISTORIES` asks for more of them.
fn histories() -> u64 {
    std::env::var("VESTIGUM_HISTORIES").ok().and_then(|said| said.parse().ok()).unwrap_or(1_500)
}

#[test]
fn the_join_agrees_with_the_model_and_everybody_comes_to_the_same_save() {
    for seed in 0..histories() {
        world::history(seed);
    }
}
