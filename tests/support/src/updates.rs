//! Specs of several versions and the saves of their players, for the tests of updates.

use vestigum_core::{History, Image, Progress, Spec, Value};
use vestigum_verify::lint::check_with_history;

/// A spec of some version: everything but `[game]`.
pub fn text(version: i64, rest: &str) -> String {
    format!("[game]\nid = \"fellpost\"\nversion = {version}\n{rest}")
}

pub fn spec(version: i64, rest: &str) -> Spec {
    Spec::from_toml(&text(version, rest)).unwrap_or_else(|errors| panic!("{errors}"))
}

pub fn frozen(specs: &[&Spec]) -> History {
    specs.iter().fold(History::default(), |history, spec| history.freeze(spec).unwrap().history)
}

pub fn updated(version: i64, rest: &str, history: &History) -> Spec {
    let spec = Spec::from_named_toml_with_history("fellpost.toml", &text(version, rest), history.clone());
    spec.unwrap_or_else(|errors| panic!("{errors}"))
}

/// Returns what is said about an update that does not fit.
pub fn refused(version: i64, rest: &str, history: &History) -> String {
    vestigum_verify::render(&check_with_history("fellpost.toml", &text(version, rest), history.clone()).findings, false)
}

pub fn field(name: &str, ty: &str, more: &str) -> String {
    format!("[field.{name}]\ntype = \"{ty}\"\nlasts = \"profile\"\nafter_failure = \"keep\"\n{more}\n")
}

pub fn migration(to: i64, steps: &[&str]) -> String {
    format!("[[migration]]\nto = {to}\nsteps = [\n  {},\n]\n", steps.join(",\n  "))
}

pub fn saved(game: &Progress) -> (Image, Image) {
    let suspended = game.suspend();
    (suspended.profile_image("ada"), suspended.device_image())
}

pub fn load(spec: &Spec, images: &(Image, Image)) -> Progress {
    Progress::load(spec, Some(&images.0), Some(&images.1)).unwrap_or_else(|error| panic!("{error}")).progress
}

pub fn shown(game: &Progress, name: &str, keys: &[&str]) -> String {
    game.value(name, keys).unwrap_or_else(|error| panic!("{error}")).to_string()
}

pub const PATHS: &str = "[levels]\norder = [\"old_mill\", \"attic\", \"heather_rise\"]\n\
    [level.old_mill]\ncheckpoints = [\"ford\", \"stile\"]\n[level.heather_rise]\ncheckpoints = [\"hut\", \"cairn\"]\n";
pub const VISIT: &str = "[field.letters]\ntype = \"int\"\nlasts = \"visit\"\nafter_failure = \"checkpoint\"\n\
    [field.best]\ntype = \"int\"\nper = \"level\"\nlasts = \"profile\"\non.complete = { max = \"letters\" }\n";

/// A player of the first version at a checkpoint, with letters from before and after it, and Old Mill behind her.
pub fn at(level: &str, checkpoint: &str) -> (Spec, (Image, Image)) {
    let old = spec(1, &format!("{PATHS}{VISIT}"));
    let mut game = Progress::fresh(&old);
    game.enter("old_mill").unwrap();
    game.write("letters", &[], Value::Int(70)).unwrap();
    game.complete().unwrap();
    game.enter_any(level, None).unwrap();
    game.write("letters", &[], Value::Int(30)).unwrap();
    game.checkpoint(checkpoint).unwrap();
    game.write("letters", &[], Value::Int(50)).unwrap();
    (old.clone(), saved(&game))
}
