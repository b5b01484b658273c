//! What the probe asks for is a playthrough that passes on the spec and fails on the weakened one.

use std::fs;
use std::path::{Path, PathBuf};

use vestigum::{History, Spec};
use vestigum_verify::imported_file;
use vestigum_verify::playthrough::{MemorySaves, Script, run};
use vestigum_verify::probe::{Probe, ProbeVerdict, Weakened, probe_all};

fn demo(path: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(path)
}

fn spec(path: &Path) -> Spec {
    let text = fs::read_to_string(path).unwrap();
    Spec::from_named_toml(&path.display().to_string(), &text).unwrap_or_else(|errors| panic!("{errors}"))
}

fn passes(spec: &Spec, play: &str) -> bool {
    let script = Script::from_text("asked.play", play, spec).unwrap_or_else(|errors| panic!("{errors}"));
    script.playthroughs().iter().all(|playthrough| run(spec, playthrough, &mut MemorySaves::default()).passed())
}

#[test]
fn every_playthrough_that_the_probe_asks_for_notices_the_change() {
    let patterns = fs::read_dir(demo("patterns")).unwrap().flatten().map(|entry| entry.path());
    let mut asked = 0;
    for folder in patterns.filter(|path| path.is_dir()) {
        let spec = spec(&folder.join(folder.file_name().unwrap()).with_extension("toml"));
        // What nobody notices is looked for to the end, which takes minutes for a game of many levels. The demo has 12.
        if spec.model().levels.len() > 12 {
            continue;
        }
        let probe = Probe::new(&spec, Vec::new()).unwrap();
        for (weakened, verdict) in probe_all(&probe, None, &|_, _| {}) {
            let ProbeVerdict::Unnoticed(play) = verdict else { continue };
            asked += 1;
            assert!(passes(&spec, &play), "{}: {}\n{play}", folder.display(), weakened.what());
            assert!(!passes(weakened.spec(), &play), "{}: {}\n{play}", folder.display(), weakened.what());
        }
    }
    assert!(asked > 100, "only {asked} changes were tried");
}

/// A level that lists no checkpoints takes any, so a mark that is brought back there can be another one than that of the entry.
#[test]
fn a_checkpoint_without_a_list_is_tried() {
    let spec = spec(&demo("patterns/star_gate/star_gate.toml"));
    let probe = Probe::new(&spec, Vec::new()).unwrap();
    let verdicts = probe_all(&probe, None, &|_, _| {});
    let change = "letters: after_failure = \"checkpoint\" instead of \"entry\"";
    let (_, verdict) = verdicts.iter().find(|(weakened, _)| weakened.what() == change).unwrap();
    let ProbeVerdict::Unnoticed(play) = verdict else { panic!("{verdict:?}") };
    assert!(play.contains("checkpoint somewhere"), "{play}");
}

#[test]
fn the_demo_leaves_nothing_unnoticed() {
    let plays = fs::read_dir(demo("fellpost/plays")).unwrap().flatten().map(|entry| entry.path());
    let scripts = plays.map(|path| (path.display().to_string(), fs::read_to_string(&path).unwrap())).collect();
    let file = |name: &str| fs::read_to_string(demo("fellpost").join(name)).unwrap();
    let history = History::from_json("history", &file("fellpost.history.json")).unwrap();
    let spec = Spec::from_named_toml_with_history("fellpost.toml", &file("fellpost.toml"), history).unwrap();
    let probe = Probe::with_files(&spec, scripts, Box::new(imported_file)).unwrap();
    let verdicts = probe_all(&probe, None, &|_, _| {});
    let unnoticed = verdicts.iter().filter(|(_, verdict)| matches!(verdict, ProbeVerdict::Unnoticed(_)));
    let unnoticed: Vec<&str> = unnoticed.map(|(weakened, _)| weakened.what()).collect();
    assert!(unnoticed.is_empty(), "{unnoticed:#?}");
    let changes: Vec<&str> = verdicts.iter().map(|(weakened, _)| Weakened::what(weakened)).collect();
    for change in [
        "lanterns: without `on.death = { add = \"-1\" }`",
        "best_letters: `set` in `on.complete = { max = \"letters\" }`",
        "xp: after_failure = \"entry\" instead of \"keep\"",
        "streak: lasts a visit instead of an attempt",
        "scree_gate: opens when `completed[heather_rise] and total_stars >= 5`",
        "the run is never over",
    ] {
        assert!(changes.contains(&change), "`{change}` was not tried: {changes:#?}");
    }
}
