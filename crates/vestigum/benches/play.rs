//! Reads, writes and moments, against what a game would have without Vestigum.

use std::collections::HashMap;
use std::fmt::Write;
use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};

use vestigum::{Handle, MemoryStore, Progress, Session, Spec};

/// A game with 64 fields, half of them per level, and 100 levels.
fn large() -> Spec {
    let mut text = String::from("[game]\nid = \"fellpost\"\n[levels]\nopening = \"all\"\norder = [");
    (0..100).for_each(|n| text.push_str(&format!("\"path_{n}\",")));
    text.push_str("]\n");
    for n in 0..16 {
        let _ = writeln!(text, "[field.visit_{n}]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"");
        let _ = writeln!(text, "[field.run_{n}]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"");
        let _ = writeln!(text, "[field.best_{n}]\ntype = \"int\"\nlasts = \"profile\"\nper = \"level\"");
        let _ = writeln!(text, "on.complete = {{ max = \"visit_{n}\" }}");
        let _ = writeln!(
            text,
            "[field.kept_{n}]\ntype = \"int\"\nlasts = \"profile\"\nper = \"level\"\nafter_failure = \"entry\""
        );
    }
    Spec::from_toml(&text).expect("the bench spec is sound")
}

struct Handles {
    score: Handle<i64>,
}

#[derive(Default)]
struct Plain {
    score: i64,
}

fn handles(c: &mut Criterion) {
    let spec = large();
    // As a game keeps them: in a struct of its own.
    let handles = Handles { score: spec.int("visit_0").expect("it is there") };
    let mut game = Progress::fresh(&spec);
    game.enter("path_0").expect("all are open");
    let mut plain = Plain::default();
    let mut map: HashMap<String, serde_json::Value> = HashMap::new();
    for field in spec.fields() {
        map.insert(field.name().to_owned(), 0.into());
    }

    let mut group = c.benchmark_group("read");
    group.bench_function("struct field", |b| b.iter(|| black_box(&plain).score));
    group.bench_function("handle", |b| b.iter(|| black_box(&game).get(black_box(&handles).score)));
    group.bench_function("string map", |b| {
        b.iter(|| black_box(&map).get(black_box("visit_0")).and_then(serde_json::Value::as_i64));
    });
    group.finish();

    let mut group = c.benchmark_group("write");
    group.bench_function("struct field", |b| {
        b.iter(|| {
            let plain = black_box(&mut plain);
            plain.score = plain.score.saturating_add(black_box(1));
        });
    });
    group.bench_function("handle", |b| {
        b.iter(|| black_box(&mut game).add(black_box(&handles).score, black_box(1)).is_ok());
    });
    group.bench_function("string map", |b| {
        b.iter(|| {
            let slot = black_box(&mut map).entry(black_box("visit_0").to_owned()).or_insert_with(|| 0.into());
            let sum = slot.as_i64().unwrap_or(0).saturating_add(black_box(1));
            *slot = sum.into();
        });
    });
    group.finish();
}

/// A session shares the device's values with others of the process. What is not the device's is as fast as without one.
fn sessions(c: &mut Criterion) {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[field.score]\ntype = \"int\"\nlasts = \"run\"\nafter_failure = \"entry\"\n\
         [field.volume]\ntype = \"int\"\nlasts = \"device\"\n",
    )
    .expect("the bench spec is sound");
    let handles = Handles { score: spec.int("score").expect("it is there") };
    let mut progress = Progress::fresh(&spec);
    let mut session = Session::launch(&spec, MemoryStore::default(), "ada").expect("memory can be read");
    let mut group = c.benchmark_group("beside a device field");
    group.bench_function("add to progress", |b| {
        b.iter(|| black_box(&mut progress).add(black_box(&handles).score, black_box(1)).is_ok());
    });
    group.bench_function("add to a session", |b| {
        b.iter(|| black_box(&mut session).add(black_box(&handles).score, black_box(1)).is_ok());
    });
    group.bench_function("write to a session by name", |b| {
        b.iter(|| session.write(black_box("score"), &[], 7.into()).is_ok());
    });
    group.finish();
    session.quit().expect("memory takes everything");
}

fn moments(c: &mut Criterion) {
    let spec = large();
    let fields: Vec<_> = (0..16).map(|n| spec.int(&format!("visit_{n}")).expect("it is there")).collect();
    let mut inside = Progress::fresh(&spec);
    inside.enter("path_7").expect("all are open");
    for field in &fields {
        inside.add(*field, 5).expect("play writes it");
    }
    let mut group = c.benchmark_group("moment at 64 fields x 100 levels");
    // A death changes what the death before it left, so play goes on between two.
    group.bench_function("sixteen writes and a death", |b| {
        let mut game = inside.clone();
        b.iter(|| {
            fields.iter().for_each(|field| drop(game.add(*field, 5)));
            game.death().is_ok()
        });
    });
    group.bench_function("checkpoint", |b| {
        let mut game = inside.clone();
        b.iter(|| game.checkpoint(black_box("ford")).is_ok());
    });
    group.bench_function("enter and complete", |b| {
        let mut game = Progress::fresh(&spec);
        b.iter(|| {
            let entered = game.enter(black_box("path_7")).is_ok();
            entered && game.complete().is_ok()
        });
    });
    group.bench_function("suspend in a level", |b| b.iter(|| black_box(&inside).suspend()));
    group.finish();
}

/// Marks and saves beside a map of ten thousand entries: they share it, they do not copy it.
fn containers(c: &mut Criterion) {
    let spec = Spec::from_toml(
        "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n[field.seen]\ntype = \"map of int\"\n\
         max_len = 20000\nlasts = \"profile\"\nafter_failure = \"entry\"\n",
    )
    .expect("the bench spec is sound");
    let mut game = Progress::fresh(&spec);
    for n in 0..10_000 {
        game.insert_at("seen", &[], &format!("stone_{n}"), n.into()).expect("there is room");
    }
    let mut group = c.benchmark_group("beside a map of 10,000 entries");
    group.bench_function("enter, suspend and leave", |b| {
        b.iter(|| {
            let entered = game.enter("mill_lane").is_ok();
            black_box(game.suspend());
            entered && game.travel().is_ok()
        });
    });
    group.bench_function("insert, no mark sharing it", |b| {
        b.iter(|| game.insert_at("seen", &[], black_box("stone_7"), 3.into()).is_ok());
    });
    group.finish();
}

criterion_group!(benches, handles, sessions, moments, containers);
criterion_main!(benches);
