//! How often `save()` allocates on the game's thread.

use std::alloc::System;
use std::time::Duration;

use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

use vestigum::{MemoryStore, Session, Spec, Value};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

/// Counts what a projection of the demo takes: its values, its notes, and the queue.
const MOST: usize = 12;

fn main() {
    let spec = Spec::from_toml(fellpost()).expect("the demo is sound");
    let mut game = Session::launch(&spec, MemoryStore::default(), "ada").expect("memory can be read");
    game.enter("mill_lane").expect("it is open");
    game.checkpoint("ford").expect("it is there");
    let counts = (1..=200).map(|letters| {
        game.write("letters", &[], Value::Int(letters)).expect("play writes it");
        game.settle(Duration::from_secs(5)).expect("memory takes everything");
        let region = Region::new(ALLOCATOR);
        let ticket = game.save();
        let count = region.change().allocations;
        drop(ticket);
        count
    });
    // The writer's thread allocates as well, if it wakes while we count: the least is what the game's thread does.
    let least = counts.min().unwrap_or_default();
    println!("save() on the game's thread, the demo: {least} allocations");
    assert!(least <= MOST, "{MOST} are the most");
    game.quit().expect("memory takes everything");
}
