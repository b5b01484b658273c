//! `vestigum new`: a commented starter spec and a first playthrough.

use std::fs;
use std::path::PathBuf;

use serde_json::json;

use crate::Verdict;
use crate::show::{Output, QUIET, STRONG, paint};

const FILES: [(&str, &str, &str); 3] = [
    ("progress.toml", include_str!("../../starter/progress.toml"), "the spec: what persists"),
    ("first.play", include_str!("../../starter/first.play"), "a first playthrough"),
    ("vestigum.schema.json", include_str!("../../starter/vestigum.schema.json"), "the schema, for editors"),
];

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The folder to write into; it is made if it is not there
    #[arg(default_value = ".")]
    folder: PathBuf,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    let folder = &arguments.folder;
    // Nothing is written if anything would be overwritten.
    if let Some((name, ..)) = FILES.iter().find(|(name, ..)| folder.join(name).exists()) {
        return out.unusable(&format!("{} is there already; nothing was written", folder.join(name).display()));
    }
    for (name, text, _) in FILES {
        let path = folder.join(name);
        if let Err(error) = fs::create_dir_all(folder).and_then(|()| fs::write(&path, text)) {
            return out.unusable(&format!("cannot write {}: {error}", path.display()));
        }
    }
    if out.json {
        let files: Vec<String> = FILES.iter().map(|(name, ..)| folder.join(name).display().to_string()).collect();
        out.json(&json!({ "files": files }));
        return Verdict::Fine;
    }
    for (name, _, what) in FILES {
        out.line(format_args!("{}  {}", paint(STRONG, folder.join(name).display()), paint(QUIET, what)));
    }
    out.line("Look at it and run it:");
    out.line(format_args!("   vestigum fate {}", folder.join(FILES[0].0).display()));
    out.line(format_args!("   vestigum play {}", folder.join(FILES[0].0).display()));
    Verdict::Fine
}
