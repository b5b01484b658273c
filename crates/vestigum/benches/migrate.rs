//! Migrating and loading saves of version 1, against loading the same players' saves of version 4: 10,000 of each, in
//! turns. Both begin with the bytes of a file.

use std::hint::black_box;
use std::time::{Duration, Instant};

use vestigum::{Image, Progress, Spec, Value};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");
const HISTORY: &str = include_str!("../../../demo/fellpost/fellpost.history.json");
const SHIPPED: &str = include_str!("../../../demo/fellpost/shipped/v1/fellpost.toml");

/// Evenings with version 1, each a little different; every third stops on the way.
fn played(spec: &Spec, n: i64) -> Progress {
    let mut game = Progress::fresh(spec);
    for (level, letters) in [("old_mill", 40 + n % 90), ("heather_rise", 20 + n % 70), ("cloud_pass", n % 50)] {
        game.enter(level).expect("it is open");
        for (field, value) in [("letters", letters), ("score", 10 + n % 400), ("time", 50 + n % 60), ("pennies", n)] {
            game.write(field, &[], Value::Int(value)).expect("play writes it");
        }
        if n % 3 == 0 && level == "heather_rise" {
            game.checkpoint("hut").expect("it is listed");
            return game;
        }
        game.complete().expect("it is being played");
    }
    game
}

fn load(spec: &Spec, bytes: &[u8]) -> Progress {
    let image = Image::from_json(bytes).expect("it is whole");
    Progress::launch(spec, Some(&image), None).expect("it is of a known version").progress
}

fn main() {
    let count = if std::env::args().any(|argument| argument == "--test") { 100 } else { 10_000 };
    let spec = Spec::from_toml_with_history(FELLPOST, HISTORY).expect("the demo is sound");
    let shipped = Spec::from_toml(SHIPPED).expect("version 1 is sound");
    let old: Vec<Vec<u8>> = (0..count).map(|n| played(&shipped, n).suspend().profile_image("ada").to_json()).collect();
    let new: Vec<Vec<u8>> =
        old.iter().map(|bytes| load(&spec, bytes).suspend().profile_image("ada").to_json()).collect();
    let mut spent = [Duration::ZERO; 2];
    for turn in 0..10 {
        // In turns, and in another order each time, so that neither has the warmer machine.
        for which in if turn % 2 == 0 { [0, 1] } else { [1, 0] } {
            let begun = Instant::now();
            for bytes in if which == 0 { &old } else { &new } {
                black_box(load(&spec, black_box(bytes)));
            }
            spent[which] += begun.elapsed();
        }
    }
    let images = (count * 10) as f64;
    let [migrated, loaded] = spent.map(|time| images / time.as_secs_f64());
    println!("migrate and load version 1: {migrated:>9.0} images a second");
    println!("load version 4:             {loaded:>9.0} images a second");
    println!("loading is {:.2} times as fast as migrating and loading", loaded / migrated);
}
