//! Reading the files that a command names.

use std::fs;
use std::path::{Path, PathBuf};

use vestigum::{History, Spec};
use vestigum_verify::playthrough::{Playthrough, Script};
use vestigum_verify::{imported_file, scripts_beside};

use crate::Verdict;
use crate::show::Output;

/// Documents larger than this are not what they seem.
const MAX_BYTES: u64 = 64 << 20;

/// The text of a file, or a message that says what is wrong with it.
pub(crate) fn text(path: &Path) -> Result<String, String> {
    let shown = path.display();
    let meta = fs::metadata(path).map_err(|error| format!("cannot read {shown}: {error}"))?;
    if meta.is_dir() {
        return Err(format!("cannot read {shown}: it is a folder"));
    }
    if meta.len() > MAX_BYTES {
        return Err(format!("cannot read {shown}: it has more than {MAX_BYTES} bytes"));
    }
    let bytes = fs::read(path).map_err(|error| format!("cannot read {shown}: {error}"))?;
    String::from_utf8(bytes).map_err(|error| {
        let line = error.as_bytes()[..error.utf8_error().valid_up_to()].iter().filter(|b| **b == b'\n').count() + 1;
        format!("cannot read {shown}: line {line} is not UTF-8 text")
    })
}

/// Reads a spec, with its history if it has one. What is wrong with it is shown, and the verdict says so.
pub(crate) fn spec(out: &Output, path: &Path) -> Result<Spec, Verdict> {
    let text = text(path).map_err(|message| out.unusable(&message))?;
    let name = path.display().to_string();
    let spec = match history(out, path)? {
        Some(history) => Spec::from_named_toml_with_history(&name, &text, history),
        None => Spec::from_named_toml(&name, &text),
    };
    spec.map_err(|errors| out.unreadable(&errors))
}

/// Returns where the history of a spec is kept: `fellpost.history.json` beside `fellpost.toml`.
pub(crate) fn history_path(spec: &Path) -> PathBuf {
    spec.with_extension("history.json")
}

/// Reads the history of a spec, if there is one.
pub(crate) fn history(out: &Output, spec: &Path) -> Result<Option<History>, Verdict> {
    let path = history_path(spec);
    if !path.exists() {
        return Ok(None);
    }
    let text = text(&path).map_err(|message| out.unusable(&message))?;
    let history = History::from_json(&path.display().to_string(), &text);
    history.map(Some).map_err(|errors| out.unreadable(&errors))
}

/// Reads the scripts that a command names, or all that belong to the spec. What is wrong with any of them is shown, and so is that
/// there are none.
pub(crate) fn scripts(out: &Output, spec_file: &Path, named: &[PathBuf], spec: &Spec) -> Result<Vec<Script>, Verdict> {
    let scripts = scripts_or_none(out, spec_file, named, spec)?;
    if scripts.is_empty() {
        return Err(out.unusable(&format!("there are no .play files beside {}", spec_file.display())));
    }
    Ok(scripts)
}

/// Reads the playthroughs of a spec, or none.
pub(crate) fn scripts_or_none(
    out: &Output,
    spec_file: &Path,
    named: &[PathBuf],
    spec: &Spec,
) -> Result<Vec<Script>, Verdict> {
    let paths = match named {
        [] => scripts_beside(spec_file)
            .map_err(|error| out.unusable(&format!("cannot read the folder of {}: {error}", spec_file.display())))?,
        named => named.to_vec(),
    };
    let mut scripts = Vec::new();
    let mut unusable = None;
    for path in &paths {
        let read = text(path).map_err(|message| out.unusable(&message)).and_then(|text| {
            let script = Script::from_text_with(&path.display().to_string(), &text, spec, &imported_file);
            script.map_err(|errors| out.unreadable(&errors))
        });
        match read {
            Ok(script) => scripts.push(script),
            // For machines there is one answer; people see all that is wrong.
            Err(verdict) if out.json => return Err(verdict),
            Err(verdict) => unusable = Some(verdict),
        }
    }
    unusable.map_or(Ok(scripts), Err)
}

/// The name and the text of each script.
pub(crate) fn texts_of(out: &Output, scripts: &[Script]) -> Result<Vec<(String, String)>, Verdict> {
    let texts = scripts.iter().map(|script| {
        let text = text(script.name().as_ref()).map_err(|message| out.unusable(&message))?;
        Ok((script.name().to_owned(), text))
    });
    texts.collect()
}

/// The playthroughs with a text in their names, or all of them.
pub(crate) fn chosen<'a>(
    out: &Output,
    scripts: &'a [Script],
    only: Option<&str>,
) -> Result<Vec<&'a Playthrough>, Verdict> {
    let all = scripts.iter().flat_map(Script::playthroughs);
    let chosen: Vec<_> = all.filter(|play| only.is_none_or(|text| play.name().contains(text))).collect();
    if chosen.is_empty() { Err(out.unusable("no playthrough has that in its name")) } else { Ok(chosen) }
}
