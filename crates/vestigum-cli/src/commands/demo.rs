//! `vestigum demo`: the demo game in a folder, and a whole example on it.

use std::error::Error;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use serde_json::json;

use vestigum::image::Tree;
use vestigum::{DirStore, History, Image, Place, Session, Spec, StoreError, Value};
use vestigum_verify::playthrough::{ImportError, Run, Script};

use crate::Verdict;
use crate::commands::{fate, play};
use crate::show::{self, BACK, GOOD, Output, QUIET, RULE, STRONG, paint, table};

/// A save of a version that shipped.
macro_rules! shipped {
    ($path:literal) => {
        (concat!("shipped/", $path), include_str!(concat!("../../demo/shipped/", $path)))
    };
}

/// The files of the demo game.
const FILES: [(&str, &str); 20] = [
    ("fellpost.toml", include_str!("../../demo/fellpost.toml")),
    ("fellpost.history.json", include_str!("../../demo/fellpost.history.json")),
    ("plays/falls.play", include_str!("../../demo/plays/falls.play")),
    ("plays/records.play", include_str!("../../demo/plays/records.play")),
    ("plays/paths.play", include_str!("../../demo/plays/paths.play")),
    ("plays/lanterns.play", include_str!("../../demo/plays/lanterns.play")),
    ("plays/sessions.play", include_str!("../../demo/plays/sessions.play")),
    ("plays/lasting.play", include_str!("../../demo/plays/lasting.play")),
    ("plays/carrying.play", include_str!("../../demo/plays/carrying.play")),
    ("plays/resets.play", include_str!("../../demo/plays/resets.play")),
    ("plays/rankings.play", include_str!("../../demo/plays/rankings.play")),
    ("plays/byways.play", include_str!("../../demo/plays/byways.play")),
    ("plays/updates.play", include_str!("../../demo/plays/updates.play")),
    ("plays/evening.play", include_str!("../../demo/plays/evening.play")),
    shipped!("v1/saves/profiles/ada/3.json"),
    shipped!("v1/saves/profiles/bert/4.json"),
    shipped!("v2/saves/device/2.json"),
    shipped!("v2/saves/profiles/cora/3.json"),
    shipped!("v2/saves/profiles/dan/4.json"),
    shipped!("v3/saves/profiles/finn/2.json"),
];

/// A value of Ada's save of version 1, and where it is now.
const UPDATED: [(&str, &str, &[&str]); 6] = [
    ("best", "best_letters", &["mill_lane"]),
    ("pennies", "stamps", &[]),
    ("lives", "lanterns", &[]),
    ("letters", "letters", &[]),
    ("time", "time", &[]),
    ("volume", "volume", &[]),
];

/// The values that the session on disk compares.
const WATCHED: [(&str, &[&str]); 8] = [
    ("letters", &[]),
    ("score", &[]),
    ("lanterns", &[]),
    ("xp", &[]),
    ("time", &[]),
    ("picture", &[]),
    ("best_letters", &["mill_lane"]),
    ("stars", &["mill_lane"]),
];

pub(crate) fn run(out: &Output) -> Verdict {
    match demo(out) {
        Ok(verdict) => verdict,
        Err(error) => out.unusable(&error.to_string()),
    }
}

fn demo(out: &Output) -> Result<Verdict, Box<dyn Error>> {
    let folder = unpack()?;
    let spec_file = folder.join(FILES[0].0);
    let history = History::from_json(FILES[1].0, FILES[1].1)?;
    let spec = Spec::from_named_toml_with_history(&spec_file.display().to_string(), FILES[0].1, history)?;
    let plays = FILES.iter().filter(|(name, _)| name.ends_with(".play"));
    let scripts = plays.map(|(name, text)| Script::from_text_with(name, text, &spec, &unpacked));
    let scripts = scripts.collect::<Result<Vec<Script>, _>>()?;
    let mut runs = Vec::new();
    for playthrough in scripts.iter().flat_map(Script::playthroughs) {
        runs.push((playthrough, play::run_on(&spec, playthrough, play::Kept::InMemory)?));
    }
    let passed = runs.iter().all(|(_, run): &(_, Run)| run.passed());

    if !out.json {
        out.line(fate::as_text(&spec, show::width()));
        heading(out, "1", "The playthroughs, each a promise about what persists");
        play::show(out, &runs, false);
    }
    let scenes = on_disk(&spec, &folder.join("saves"))?;
    let update = update(&spec, &folder)?;
    if out.json {
        let scenes = scenes.iter().map(|scene| {
            let rows = scene.rows.iter().map(|row| json!({ "value": row.0, "before": row.1, "after": row.2 }));
            json!({ "scene": scene.title, "values": rows.collect::<Vec<_>>() })
        });
        let files = FILES.map(|(name, _)| folder.join(name).display().to_string());
        out.json(&json!({
            "ok": passed, "folder": folder, "files": files,
            "playthroughs": runs.len(), "scenes": scenes.collect::<Vec<_>>(), "update": update,
        }));
    } else {
        heading(out, "2", "A session on disk: play, quit, crash, come back, compare");
        scenes.iter().for_each(|scene| scene.show(out));
        heading(out, "3", "An update: a save of version 1 under version 4");
        show_update(out, &update);
        heading(out, "4", "What you have seen");
        closing(out, &folder);
    }
    Ok(if passed { Verdict::Fine } else { Verdict::Failed })
}

/// Writes the demo into the first folder `vestigum-demo`, `vestigum-demo-2` … that is not there yet, so that nothing of
/// an earlier visit is overwritten.
fn unpack() -> Result<PathBuf, String> {
    let names = (2..1000).map(|n| format!("vestigum-demo-{n}"));
    let free = std::iter::once("vestigum-demo".to_owned()).chain(names).find(|name| !Path::new(name).exists());
    let folder = PathBuf::from(free.ok_or("there are 1000 folders vestigum-demo already; remove some")?);
    for (name, text) in FILES {
        let path = folder.join(name);
        let written = fs::create_dir_all(path.parent().unwrap_or(&folder)).and_then(|()| fs::write(&path, text));
        written.map_err(|error| format!("cannot write {}: {error}", path.display()))?;
    }
    Ok(folder)
}

/// Returns what is in a file that a playthrough of the demo imports.
fn unpacked(script: &str, path: &str) -> Result<Vec<u8>, ImportError> {
    let plays = script.rsplit_once('/').map_or("", |(folder, _)| folder);
    let beside = format!("{plays}/{path}").replace("plays/../", "");
    let found = FILES.iter().find(|(name, _)| *name == beside);
    found.map(|(_, text)| text.as_bytes().to_vec()).ok_or_else(|| format!("the demo has no file {beside}").into())
}

/// Loads Ada's save of version 1 from a folder of its own: each value then and now.
fn update(spec: &Spec, folder: &Path) -> Result<Vec<[String; 4]>, Box<dyn Error>> {
    let bytes = unpacked("plays/updates.play", "../shipped/v1/saves/profiles/ada/3.json")?;
    let old = Image::from_json(&bytes)?;
    let saves = folder.join("saves_of_version_1");
    fs::create_dir_all(saves.join("profiles/ada"))?;
    fs::write(saves.join("profiles/ada/3.json"), &bytes)?;
    let game = Session::launch(spec, DirStore::open(&saves)?, "ada")?;
    let mut rows = vec![["the place".into(), old.place.to_string(), "the place".into(), game.place().to_string()]];
    for (was, is, keys) in UPDATED {
        let before = match old.values.get(was) {
            Some(Tree::Int(int)) => int.to_string(),
            _ => String::new(),
        };
        let name = if keys.is_empty() { is.to_owned() } else { format!("{is}[{}]", keys.join(", ")) };
        rows.push([was.to_owned(), before, name, game.value(is, keys)?.to_string()]);
    }
    game.quit()?;
    Ok(rows)
}

fn show_update(out: &Output, rows: &[[String; 4]]) {
    let heading = ["in version 1", "", "in version 4", ""].map(str::to_owned);
    let rows = rows.iter().map(|row| row.to_vec());
    let shown = table(&heading, rows.collect(), 4);
    shown.lines().for_each(|line| out.line(format_args!("   {line}")));
    out.line(
        "   Paths and fields have new names, the time is in milliseconds, the volume belongs to the device: the spec",
    );
    out.line("   says each step, and `vestigum migrate --prove` tries them on saves of every version that shipped.");
}

fn heading(out: &Output, number: &str, text: &str) {
    out.line(format_args!("\n{}\n", paint(STRONG, format_args!("{number}. {text}"))));
}

/// One scene of the session: what happened, and the values before and after.
struct Scene {
    title: String,
    words: String,
    rows: Vec<(String, String, String)>,
    place: String,
}

impl Scene {
    fn show(&self, out: &Output) {
        out.line(format_args!("{}  {}", paint(RULE, "▸"), self.title));
        let heading = ["value", "before", "after", ""].map(str::to_owned);
        let rows = self.rows.iter().map(|(name, before, after)| {
            let (verdict, style) = if before == after { ("● the same", GOOD) } else { ("○ changed", BACK) };
            vec![name.clone(), before.clone(), after.clone(), paint(style, verdict)]
        });
        let shown = table(&heading, rows.collect(), 4);
        shown.lines().for_each(|line| out.line(format_args!("   {line}")));
        out.line(format_args!("   {} {}", paint(QUIET, "the carrier stands at:"), self.place));
        out.line(format_args!("   {}\n", self.words));
    }
}

/// Returns what the watched values are, as text.
fn values(session: &Session) -> Vec<String> {
    let read = |(name, level): &(&str, &[&str])| session.value(name, level).map(|value| value.to_string());
    WATCHED.iter().map(|watched| read(watched).unwrap_or_default()).collect()
}

fn compare(title: &str, before: &[String], session: &Session, words: &str) -> Scene {
    let names = WATCHED.iter().map(|(name, keys)| match keys {
        [] => (*name).to_owned(),
        keys => format!("{name}[{}]", keys.join(", ")),
    });
    let rows = names.zip(before).zip(values(session)).map(|((name, before), after)| (name, before.clone(), after));
    let place = match session.place() {
        Place::InLevel { level, checkpoint: Some(checkpoint) } => format!("{level}, checkpoint {checkpoint}"),
        place @ (Place::Menu | Place::InLevel { .. } | Place::RunOver) => place.to_string(),
    };
    Scene { title: title.into(), words: words.into(), rows: rows.collect(), place }
}

/// Waits for the last save, as a loading screen does. Without it, a demo as quick as this one would have its saves
/// overtaken by newer ones before they are written.
fn settle(game: &Session) -> Result<(), Arc<StoreError>> {
    game.settle(Duration::from_secs(10))
}

/// Plays on real files. Every relaunch opens the folder anew, as a new process would.
fn on_disk(spec: &Spec, folder: &Path) -> Result<Vec<Scene>, Box<dyn Error>> {
    let letters = spec.int("letters")?;
    let score = spec.int("score")?;
    let time = spec.int("time")?;
    let xp = spec.int("xp")?;
    let launch = || -> Result<Session, Box<dyn Error>> { Ok(Session::launch(spec, DirStore::open(folder)?, "ada")?) };

    let mut game = launch()?;
    game.enter("mill_lane")?;
    game.add(letters, 40)?;
    game.add(score, 40)?;
    game.add(xp, 15)?;
    game.checkpoint("ford")?;
    settle(&game)?;
    game.add(letters, 25)?;
    game.add(time, 52_000)?;
    game.write("picture", &[], Value::bytes(*b"the ford, in the evening"))?;
    let before = values(&game);
    game.quit()?;
    let game = launch()?;
    let quit = compare(
        "Ada delivers 40 letters, reaches the ford, delivers 25 more and quits.",
        &before,
        &game,
        "Quitting banks nothing that a fall would take: letters are back at the ford's, the score at the entry's.",
    );

    let mut game = game;
    game.add(letters, 50)?;
    game.add(score, 90)?;
    game.complete()?;
    settle(&game)?;
    game.enter("heather_rise")?;
    game.add(letters, 70)?;
    game.add(xp, 30)?;
    let before = values(&game);
    drop(game);
    let game = launch()?;
    let crash = compare(
        "She completes Mill Lane, sets out for Heather Rise — and the power fails.",
        &before,
        &game,
        "A crash loses what came after the last save, which the completed path was. The record stands.",
    );

    let mut game = game;
    game.enter("heather_rise")?;
    game.add(score, 60)?;
    game.add(letters, 30)?;
    let before = values(&game);
    game.death()?;
    settle(&game)?;
    let fall = compare(
        "She sets out again and falls.",
        &before,
        &game,
        "A fall takes a lantern and what was earned since the path was entered. Experience and records stay.",
    );
    game.abandon()?;
    let before = values(&game);
    game.quit()?;
    let game = launch()?;
    let again = compare(
        "Enough for today: she gives up, quits and comes back.",
        &before,
        &game,
        "Outside a level, quitting and coming back changes nothing.",
    );
    game.quit()?;
    Ok(vec![quit, crash, fall, again])
}

fn closing(out: &Output, folder: &Path) {
    let shown = folder.display();
    let spec = folder.join(FILES[0].0);
    out.line("One document says what persists; the table, the playthroughs and the session all run from it.");
    out.line(format_args!("Everything is in {} to look at and to change:", paint(STRONG, &shown)));
    let rows = [
        (spec.display().to_string(), "the spec"),
        (format!("{shown}/plays/"), "the playthroughs"),
        (format!("{shown}/saves/profiles/ada/"), "Ada's saves, one JSON file for each generation"),
    ];
    let width = rows.iter().map(|(path, _)| path.chars().count()).max().unwrap_or(0);
    rows.iter().for_each(|(path, what)| out.line(format_args!("   {path:width$}  {}", paint(QUIET, what))));
    out.line("Change a rule in the spec and see which promise breaks:");
    let program = std::env::args().next().unwrap_or_else(|| "vestigum".into());
    out.line(format_args!("   {program} play {}", spec.display()));
    out.line("Look at what was saved, and at what happens to it when the power fails:");
    out.line(format_args!("   {program} saves show {} {shown}/saves", spec.display()));
    out.line(format_args!("   {program} faults {}", spec.display()));
    out.line("Look at all of it in a browser, and at the map of the levels:");
    out.line(format_args!("   {program} report {} --saves {shown}/saves", spec.display()));
    out.line(format_args!("   {program} map {} --saves {shown}/saves", spec.display()));
    out.line("Change what is saved, and see what the saves of earlier versions would need:");
    out.line(format_args!("   {program} check {}", spec.display()));
    out.line(format_args!("   {program} migrate {} --prove", spec.display()));
}
