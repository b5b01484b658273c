//! The documents that an editor has open, and the files beside them.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use lsp_types::Uri;
use vestigum_core::{History, Spec};
use vestigum_spec::checked::{CheckedSpec, ReadSpec};
use vestigum_verify::playthrough::Script;
use vestigum_verify::{imported_file, scripts_beside};

use crate::lines::{Lines, Units};
use crate::toml_view::has_table;

/// Larger files are not what they seem.
const MAX_BYTES: u64 = 4 << 20;
/// A spec is looked for in 2 folders: that of the playthrough and the one above, as `play` finds it.
pub(crate) const FOLDERS_UP: usize = 2;

/// Describes what a document is, by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Role {
    Spec,
    Play,
}

impl Role {
    pub(crate) fn of(path: &Path) -> Option<Role> {
        match path.extension()?.to_str()? {
            "toml" => Some(Role::Spec),
            "play" => Some(Role::Play),
            _ => None,
        }
    }
}

/// A spec and the playthroughs that belong to it.
pub(crate) struct Project {
    pub spec: PathBuf,
    pub spec_text: Lines,
    pub plays: Vec<(PathBuf, Lines)>,
}

impl Project {
    /// The text of one of its files.
    pub(crate) fn text(&self, path: &Path) -> Option<&Lines> {
        if path == self.spec {
            return Some(&self.spec_text);
        }
        self.plays.iter().find(|(play, _)| play == path).map(|(_, text)| text)
    }
}

pub(crate) struct Workspace {
    pub units: Units,
    open: HashMap<PathBuf, Lines>,
    /// The last text of each spec that could be read, and what it was read as.
    read: HashMap<PathBuf, (String, Spec)>,
}

impl Workspace {
    pub(crate) fn new(units: Units) -> Workspace {
        Workspace { units, open: HashMap::new(), read: HashMap::new() }
    }

    pub(crate) fn open(&mut self, path: PathBuf, text: String) {
        self.open.insert(path, Lines::new(text));
    }

    pub(crate) fn close(&mut self, path: &Path) {
        self.open.remove(path);
    }

    pub(crate) fn open_paths(&self) -> impl Iterator<Item = &PathBuf> {
        self.open.keys()
    }

    pub(crate) fn opened(&self, path: &Path) -> Option<&Lines> {
        self.open.get(path)
    }

    /// The text of a file as the editor has it, or as it is on the disk.
    pub(crate) fn text(&self, path: &Path) -> Option<Lines> {
        match self.open.get(path) {
            Some(lines) => Some(lines.clone()),
            None => {
                let small = fs::metadata(path).is_ok_and(|meta| meta.is_file() && meta.len() <= MAX_BYTES);
                small.then(|| fs::read_to_string(path).ok().map(Lines::new)).flatten()
            }
        }
    }

    /// The spec to which a document belongs: itself, or the one beside it or above it.
    pub(crate) fn spec_of(&self, path: &Path) -> Option<PathBuf> {
        if Role::of(path)? == Role::Spec {
            return self.is_spec(path).then(|| path.to_owned());
        }
        self.specs_of_play(path).into_iter().next()
    }

    /// The specs to which a playthrough belongs: those of the nearest folder that has any. Of several it belongs to the one with its own name,
    /// else to each under which it can be read, else to the first.
    fn specs_of_play(&self, path: &Path) -> Vec<PathBuf> {
        let mut folders = path.ancestors().skip(1).take(FOLDERS_UP).map(|folder| self.specs_in(folder));
        let specs = folders.find(|specs| !specs.is_empty()).unwrap_or_default();
        if specs.len() < 2 {
            return specs;
        }
        if let Some(named) = specs.iter().find(|spec| spec.file_stem() == path.file_stem()) {
            return vec![named.clone()];
        }
        let Some(text) = self.text(path) else { return specs };
        let reads = |file: &PathBuf| {
            let name = file.display().to_string();
            let spec = self.text(file).and_then(|lines| without_history(&lines.text).ok());
            spec.is_some_and(|spec| Script::from_text_with(&name, &text.text, &spec, &imported_file).is_ok())
        };
        let reading: Vec<PathBuf> = specs.iter().filter(|spec| reads(spec)).cloned().collect();
        if reading.is_empty() { specs[..1].to_vec() } else { reading }
    }

    fn specs_in(&self, folder: &Path) -> Vec<PathBuf> {
        let on_disk = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let open = self.open.keys().filter(|path| path.parent() == Some(folder)).cloned();
        let mut specs: Vec<PathBuf> =
            on_disk.chain(open).filter(|path| Role::of(path) == Some(Role::Spec) && self.is_spec(path)).collect();
        specs.sort();
        specs.dedup();
        specs
    }

    /// Returns whether a TOML document is a spec: there are many that are not.
    fn is_spec(&self, path: &Path) -> bool {
        self.text(path).is_some_and(|lines| has_table(&lines.text, "game"))
    }

    /// The spec of a document and all its playthroughs.
    pub(crate) fn project(&self, path: &Path) -> Option<Project> {
        let spec = self.spec_of(path)?;
        let spec_text = self.text(&spec)?;
        let mut plays = scripts_beside(&spec).unwrap_or_default();
        // What was not saved yet is open only.
        plays.extend(self.open.keys().filter(|path| Role::of(path) == Some(Role::Play)).cloned());
        plays.sort();
        plays.dedup();
        let plays = plays.into_iter().filter(|play| self.specs_of_play(play).contains(&spec));
        let plays = plays.filter_map(|play| self.text(&play).map(|text| (play, text))).collect();
        Some(Project { spec, spec_text, plays })
    }

    /// The history beside a spec, if there is one that can be read.
    pub(crate) fn history(&self, spec: &Path) -> Option<History> {
        let path = spec.with_extension("history.json");
        let text = self.text(&path)?;
        History::from_json(&path.display().to_string(), &text.text).ok()
    }

    /// The spec as it can be read now; while it cannot, as it last could.
    pub(crate) fn spec(&mut self, path: &Path) -> Option<Spec> {
        let text = self.text(path)?.text;
        let known = self.read.get(path);
        if let Some((read, spec)) = known
            && *read == text
        {
            return Some(spec.clone());
        }
        let name = path.display().to_string();
        let read = match self.history(path) {
            Some(history) => Spec::from_named_toml_with_history(&name, &text, history),
            None => Spec::from_named_toml(&name, &text),
        };
        // Until a migration has its steps, the spec says how the game is played all the same: playthroughs are read by it.
        let spec = read.ok().or_else(|| without_history(&text).ok());
        match spec {
            Some(spec) => {
                self.read.insert(path.to_owned(), (text, spec.clone()));
                Some(spec)
            }
            None => known.map(|(_, spec)| spec.clone()),
        }
    }
}

/// The spec of a text as the game is played by it. What becomes of older saves is not looked at.
///
/// # Errors
/// The first thing that is wrong with the text.
pub(crate) fn without_history(text: &str) -> Result<Spec, String> {
    let ReadSpec { spec, errors, .. } = CheckedSpec::read(text, None);
    match (spec, errors.into_iter().next()) {
        (Some(spec), None) => Ok(Spec::of_checked(spec)),
        (_, first) => Err(first.map(|error| error.message).unwrap_or_default()),
    }
}

/// The path of a document; none if it is not a file.
pub(crate) fn path_of(uri: &Uri) -> Option<PathBuf> {
    let text = uri.as_str();
    let rest = text.strip_prefix("file://")?;
    // A host may stand before the path; only this machine's files are read.
    let path = rest.strip_prefix("localhost").unwrap_or(rest);
    let mut bytes = Vec::with_capacity(path.len());
    let mut at = 0;
    while at < path.len() {
        let escaped = path.get(at + 1..at + 3).and_then(|pair| u8::from_str_radix(pair, 16).ok());
        match (path.as_bytes()[at], escaped) {
            (b'%', Some(byte)) => {
                bytes.push(byte);
                at += 3;
            }
            (byte, _) => {
                bytes.push(byte);
                at += 1;
            }
        }
    }
    let path = String::from_utf8(bytes).ok()?;
    // Where paths begin with a drive, a slash stands before it.
    let drive = path.as_bytes().get(2) == Some(&b':') && path.starts_with('/');
    Some(PathBuf::from(if drive { &path[1..] } else { &path }))
}

/// A path as editors name it.
pub(crate) fn uri_of(path: &Path) -> Option<Uri> {
    let path = path.to_str()?.replace('\\', "/");
    let mut uri = String::from(if path.starts_with('/') { "file://" } else { "file:///" });
    for byte in path.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => uri.push(char::from(byte)),
            byte => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    Uri::from_str(&uri).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_with_odd_signs_comes_back() {
        for path in ["/a b/c#d/ü%41.toml", "/plain.play"] {
            let uri = uri_of(Path::new(path)).unwrap();
            assert_eq!(path_of(&uri).unwrap(), PathBuf::from(path));
        }
        assert_eq!(path_of(&Uri::from_str("untitled:one").unwrap()), None);
    }
}
