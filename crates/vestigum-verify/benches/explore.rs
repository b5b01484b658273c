//! How many steps a second a search takes, on one thread and on two, and how many bytes a state costs.

use std::num::NonZero;
use std::time::Instant;

use vestigum::Spec;
use vestigum_verify::explore::{SearchBounds, explore_with, questions};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

fn main() {
    let spec = Spec::from_toml(fellpost()).expect("the demo is sound");
    let asked = questions(&spec);
    let question = &asked[0];
    // `cargo bench -- --test` only sees that it runs.
    let states = if std::env::args().any(|argument| argument == "--test") { 2_000 } else { 400_000 };
    let bounds = SearchBounds { states, by_rules: false, unlocked: false, ..SearchBounds::default() };
    let mut speeds = Vec::new();
    for threads in [1, 2] {
        let start = Instant::now();
        let ending = explore_with(&spec, question, &bounds, NonZero::new(threads), &mut |_| {});
        let seen = ending.seen();
        let speed = seen.transitions as f64 / start.elapsed().as_secs_f64();
        println!("{threads} threads: {} states, {} steps, {speed:.0} steps/s", seen.states, seen.transitions);
        speeds.push(speed);
    }
    println!("two threads are {:.2}x one", speeds[1] / speeds[0]);
}
