//! What a save costs the game's thread, and images against a derived struct that holds the same.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use criterion::{Criterion, criterion_group, criterion_main};
use serde::{Deserialize, Serialize};

use vestigum::{Image, MemoryStore, Owner, Progress, Session, Spec, Type, Value};

const FELLPOST: &str = include_str!("../../../demo/fellpost/shipped/v3/fellpost.toml");

/// Version 3 of the demo, whose fields the plain struct below lists, as a new game: what became of its older versions is not read here, so it needs no history.
fn fellpost() -> &'static str {
    FELLPOST.split("[[migration]]").next().unwrap_or_default()
}

#[derive(Serialize, Deserialize)]
struct Place {
    level: String,
    checkpoint: Option<String>,
    entered_at: Option<String>,
    resume: String,
}

/// Holds what an image says beside its values and marks.
#[derive(Serialize, Deserialize)]
struct Plain<V, M> {
    format: i64,
    game: String,
    version: i64,
    shape: String,
    profile: String,
    generation: u64,
    saved_at: String,
    place: Place,
    values: V,
    marks: BTreeMap<String, M>,
    digest: String,
    check: String,
}

type PerKey<T> = BTreeMap<String, T>;

#[derive(Serialize, Deserialize)]
struct DemoValues {
    best_letters: PerKey<i64>,
    best_score: i64,
    best_streak: i64,
    best_time: PerKey<i64>,
    completed: PerKey<bool>,
    falls: i64,
    gate_open: PerKey<bool>,
    lanterns: i64,
    letters: i64,
    opened: PerKey<bool>,
    score: i64,
    stamps: i64,
    stars: PerKey<i64>,
    time: i64,
    xp: i64,
}

#[derive(Serialize, Deserialize)]
struct DemoMarks {
    letters: i64,
    score: i64,
    streak: i64,
    time: i64,
}

fn demo() -> (Spec, Progress) {
    let spec = Spec::from_toml(fellpost()).expect("the demo is sound");
    let mut game = Progress::fresh(&spec);
    for level in ["mill_lane", "heather_rise", "tarn_steps", "mill_lane"] {
        game.enter(level).expect("it is open");
        game.write("letters", &[], Value::Int(90)).expect("play writes it");
        game.write("score", &[], Value::Int(120)).expect("play writes it");
        game.write("time", &[], Value::Int(52_000)).expect("play writes it");
        if level == "mill_lane" && game.value("best_letters", &[level]) == Ok(Value::Int(90)) {
            break;
        }
        game.complete().expect("it is being played");
    }
    (spec, game)
}

macro_rules! large {
    ($($visit:ident $run:ident $best:ident $kept:ident),*) => {
        #[derive(Serialize, Deserialize)]
        struct LargeValues {
            $($visit: i64, $run: i64, $best: PerKey<i64>, $kept: PerKey<i64>,)*
            completed: PerKey<bool>,
            opened: PerKey<bool>,
        }

        #[derive(Serialize, Deserialize)]
        struct LargeMarks {
            $($visit: i64, $run: i64, $kept: PerKey<i64>,)*
        }
    };
}

large!(
    visit_0 run_0 best_0 kept_0, visit_1 run_1 best_1 kept_1, visit_2 run_2 best_2 kept_2, visit_3 run_3 best_3 kept_3,
    visit_4 run_4 best_4 kept_4, visit_5 run_5 best_5 kept_5, visit_6 run_6 best_6 kept_6, visit_7 run_7 best_7 kept_7,
    visit_8 run_8 best_8 kept_8, visit_9 run_9 best_9 kept_9, visit_10 run_10 best_10 kept_10,
    visit_11 run_11 best_11 kept_11, visit_12 run_12 best_12 kept_12, visit_13 run_13 best_13 kept_13,
    visit_14 run_14 best_14 kept_14, visit_15 run_15 best_15 kept_15
);

/// A game with 64 fields, half of them per level, and 100 levels, all of them played.
fn large() -> (Spec, Progress) {
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
    let spec = Spec::from_toml(&text).expect("the bench spec is sound");
    let mut game = Progress::fresh(&spec);
    for level in 0..100 {
        let level = format!("path_{level}");
        game.enter(&level).expect("all are open");
        for n in 0..16 {
            game.write(&format!("visit_{n}"), &[], Value::Int(1000 + n)).expect("play writes it");
            game.write(&format!("run_{n}"), &[], Value::Int(5000 + n)).expect("play writes it");
            game.write(&format!("kept_{n}"), &[&level], Value::Int(70 + n)).expect("play writes it");
        }
        game.complete().expect("it is being played");
    }
    game.enter("path_7").expect("all are open");
    game.write("visit_3", &[], Value::Int(12)).expect("play writes it");
    (spec, game)
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// Two pieces of work that take turns, so that what the machine does meanwhile hits both alike; their ratio is printed.
fn ratio(what: &str, mut ours: impl FnMut(), mut theirs: impl FnMut()) {
    let (mut our_times, mut their_times) = (Vec::new(), Vec::new());
    // `cargo bench -- --test` only sees that it runs.
    let (rounds, times_each) = if std::env::args().any(|argument| argument == "--test") { (1, 1) } else { (41, 20) };
    for _ in 0..rounds {
        for (work, times) in [(&mut ours as &mut dyn FnMut(), &mut our_times), (&mut theirs, &mut their_times)] {
            let start = Instant::now();
            (0..times_each).for_each(|_| work());
            times.push(start.elapsed() / times_each);
        }
    }
    let (ours, theirs) = (median(our_times), median(their_times));
    println!("{what}: {ours:.1?}, the derived struct {theirs:.1?}: {:.2}x", ours.as_secs_f64() / theirs.as_secs_f64());
}

fn against<V: Serialize + for<'de> Deserialize<'de>, M: Serialize + for<'de> Deserialize<'de>>(
    name: &str,
    spec: &Spec,
    game: &Progress,
) {
    let suspended = game.suspend();
    let owner = Owner::Profile("ada".into());
    let image = suspended.profile_image("ada");
    let bytes = image.to_json();
    let plain: Plain<V, M> = serde_json::from_slice(&bytes).expect("the struct has the shape of the image");
    assert_eq!(serde_json::to_vec(&plain).map(|plain| plain.len()).ok(), Some(bytes.len()), "and holds the same");
    println!("{name}: {} bytes", bytes.len());
    ratio(
        "  encode with digest, from the projection",
        || drop(black_box(suspended.encoded(&owner, String::new()).bytes(0, None))),
        || drop(black_box(serde_json::to_vec(black_box(&plain)))),
    );
    ratio(
        "  encode with digest, from the image",
        || drop(black_box(image.to_json())),
        || drop(black_box(serde_json::to_vec(black_box(&plain)))),
    );
    ratio(
        "  load and verify",
        || drop(black_box(Image::from_json(black_box(&bytes)))),
        || drop(black_box(serde_json::from_slice::<Plain<V, M>>(black_box(&bytes)))),
    );
    ratio(
        "  from bytes to a launched game",
        || {
            let image = Image::from_json(black_box(&bytes)).ok();
            drop(black_box(Progress::launch(spec, image.as_ref(), None)));
        },
        || drop(black_box(serde_json::from_slice::<Plain<V, M>>(black_box(&bytes)))),
    );
}

/// Measures what `save()` does on the game's thread after sixteen writes.
fn hand_over(name: &str, c: &mut Criterion, spec: &Spec, game: &Progress) {
    let mut session = Session::launch(spec, MemoryStore::default(), "ada").expect("memory can be read");
    // The same place and values as the other, through an image.
    let suspended = game.suspend();
    drop(session.quit());
    let store = MemoryStore::default();
    vestigum::Store::commit(&store, 0, &suspended.profile_image("ada")).expect("memory takes it");
    session = Session::launch(spec, store, "ada").expect("it was saved");
    session.save().wait().ok();
    let written = |field: &&vestigum::spec::Field| field.axes().is_empty() && *field.ty() == Type::Int;
    let names = spec.fields().filter(written).map(|field| field.name().to_owned());
    let mut fields: Vec<String> =
        names.filter(|name| session.write(name, &[], Value::Int(1)).is_ok()).take(16).collect();
    fields.sort();
    let mut round = 0;
    // A writer that sleeps has to be woken, which is a call of the system; one that still writes takes the next save by itself.
    for sleeps in [false, true] {
        let writer = if sleeps { "wakes the writer" } else { "the writer is at work" };
        c.bench_function(&format!("save() on the game's thread, {name}, {writer}"), |b| {
            b.iter_custom(|times| {
                let mut total = Duration::ZERO;
                for _ in 0..times {
                    round += 1;
                    for field in &fields {
                        session.write(field, &[], Value::Int(round % 1000)).expect("play writes it");
                    }
                    let start = Instant::now();
                    let ticket = session.save();
                    total += start.elapsed();
                    if sleeps {
                        ticket.wait().ok();
                    }
                }
                total
            });
        });
    }
    drop(session.quit());
}

fn images(c: &mut Criterion) {
    let ((demo_spec, demo), (large_spec, large)) = (demo(), large());
    against::<DemoValues, DemoMarks>("the demo", &demo_spec, &demo);
    against::<LargeValues, LargeMarks>("64 fields x 100 levels", &large_spec, &large);
    hand_over("the demo", c, &demo_spec, &demo);
    hand_over("64 fields x 100 levels", c, &large_spec, &large);
}

criterion_group!(benches, images);
criterion_main!(benches);
