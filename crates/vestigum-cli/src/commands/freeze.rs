//! `vestigum freeze`: the shape of a version goes into the history when it ships.

use std::fs;
use std::path::PathBuf;

use serde_json::json;

use vestigum::History;
use vestigum::update::Froze;

use crate::show::{GOOD, Output, QUIET, STRONG, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document; its history is kept beside it
    spec: PathBuf,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let path = input::history_path(&arguments.spec);
    let history = spec.history().cloned().unwrap_or_else(History::default);
    let freezing = history.freeze(&spec).map_err(|error| out.unusable(&error.to_string()))?;
    if freezing.done != Froze::Unchanged {
        // A history is worth as much as the saves it reads: it is replaced whole or not at all.
        let beside = path.with_extension("json.new");
        let written = fs::write(&beside, freezing.history.to_json()).and_then(|()| fs::rename(&beside, &path));
        written.map_err(|error| out.unusable(&format!("cannot write {}: {error}", path.display())))?;
    }
    let version = spec.version();
    let (word, told) = match freezing.done {
        Froze::New => ("new", format!("version {version} is frozen")),
        Froze::Grown => (
            "grown",
            format!("version {version} was frozen and has grown since: its shape now is frozen beside the others"),
        ),
        Froze::Steps => (
            "steps",
            format!(
                "version {version} is frozen in this shape already: the steps that lead to it and its codes are recorded anew"
            ),
        ),
        Froze::Unchanged => ("unchanged", format!("version {version} is frozen already, just as it is")),
    };
    if out.json {
        let versions: Vec<i64> = freezing.history.versions().collect();
        out.json(&json!({ "ok": true, "version": version, "done": word, "history": path, "versions": versions }));
        return Ok(Verdict::Fine);
    }
    out.line(format_args!("{}  {}", paint(GOOD, told), paint(QUIET, versions(&freezing.history))));
    if freezing.done != Froze::Unchanged {
        out.line(format_args!("written: {}", paint(STRONG, path.display())));
        out.line(paint(QUIET, "Keep it in version control beside the spec, and build it into the game with the spec."));
    }
    Ok(Verdict::Fine)
}

/// "(the history has versions 1, 2 in 2 shapes and 3)"
fn versions(history: &History) -> String {
    let told = |version: i64| match history.shapes(version) {
        shapes @ 2.. => format!("{version} in {shapes} shapes"),
        _ => version.to_string(),
    };
    let versions: Vec<String> = history.versions().map(told).collect();
    match &versions[..] {
        [only] => format!("(the history has version {only})"),
        [several @ .., last] => format!("(the history has versions {} and {last})", several.join(", ")),
        [] => String::new(),
    }
}
