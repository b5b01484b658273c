//! A durable commit against the bare system calls that any durable save needs.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;
use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};

use vestigum::{DirStore, Image, Owner, Progress, Spec, Store, Value};

const FELLPOST: &str = include_str!("../../../demo/fellpost/fellpost.toml");

/// The demo as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

fn demo_image() -> (Progress, Image) {
    let spec = Spec::from_toml(fellpost()).expect("the demo is sound");
    let game = Progress::fresh(&spec);
    let image = game.suspend().profile_image("ada");
    (game, image)
}

/// Temp file, write, sync, rename to a new name, sync the folder.
fn bare(folder: &Path, number: u64, bytes: &[u8]) -> std::io::Result<()> {
    let temp = folder.join("saving");
    let mut file = File::create(&temp)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&temp, folder.join(format!("{number}.json")))?;
    File::open(folder)?.sync_all()
}

/// Both loops take turns, so that what the disk does meanwhile hits both alike; the ratio is printed.
fn commit(c: &mut Criterion) {
    let (mut game, image) = demo_image();
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder for the bench");
    let store = DirStore::open(folder.path().join("saves")).expect("a store for the bench");
    let plain = folder.path().join("plain");
    fs::create_dir(&plain).expect("a folder for the bench");
    let bytes = image.to_json();
    let owner = Owner::Profile("ada".into());
    let mut number = 0i64;
    let mut follows = store.commit(0, &image).expect("the first commit").generation;
    let mut turn = || {
        number += 1;
        game.write("xp", &[], Value::Int(number)).expect("play writes it");
        let image = game.suspend().profile_image("ada");
        let start = Instant::now();
        follows = store.commit(follows, &image).expect("a commit").generation;
        let ours = start.elapsed();
        let start = Instant::now();
        bare(&plain, number as u64, &bytes).expect("a bare save");
        (ours, start.elapsed())
    };
    let turns: Vec<(Duration, Duration)> = (0..400).map(|_| turn()).collect();
    let median = |pick: fn(&(Duration, Duration)) -> Duration| {
        let mut times: Vec<Duration> = turns.iter().map(pick).collect();
        times.sort();
        times[times.len() / 2]
    };
    let (ours, theirs) = (median(|turn| turn.0), median(|turn| turn.1));
    println!("durable commit: {:.2}x the bare loop (median of 400 turns)", ours.as_secs_f64() / theirs.as_secs_f64());
    assert!(store.generations(&owner).is_ok());

    let mut group = c.benchmark_group("image of the demo");
    group.bench_function("encode", |b| b.iter(|| image.to_json()));
    group.bench_function("decode and verify", |b| b.iter(|| Image::from_json(&bytes).is_ok()));
    group.finish();
}

criterion_group!(benches, commit);
criterion_main!(benches);
