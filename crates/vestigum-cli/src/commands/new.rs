//! `vestigum new`: a commented starter spec and a first playthrough.

use std::fs;
use std::path::{Component, PathBuf};

use serde_json::json;

use crate::Verdict;
use crate::show::{Output, QUIET, STRONG, paint};

const FILES: [(&str, &str, &str); 3] = [
    ("progress.toml", include_str!("../../starter/progress.toml"), "the spec: what persists"),
    ("first.play", include_str!("../../starter/first.play"), "a first playthrough"),
    ("vestigum.schema.json", include_str!("../../starter/vestigum.schema.json"), "the schema, for editors"),
];

/// What is written besides where a Rust crate is.
const FILES_OF_A_CRATE: [(&str, &str, &str); 2] = [
    ("tests/progress.rs", include_str!("../../starter/tests.rs"), "the playthroughs as tests of the crate"),
    ("examples/progress.rs", include_str!("../../starter/example.rs"), "a session, to run and to copy from"),
];

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The folder to write into; it is made if it is not there
    #[arg(default_value = ".")]
    folder: PathBuf,
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    let folder: PathBuf = arguments.folder.components().filter(|part| *part != Component::CurDir).collect();
    let is_crate = folder.join("Cargo.toml").is_file();
    let files: Vec<_> = FILES.iter().chain(FILES_OF_A_CRATE.iter().filter(|_| is_crate)).collect();
    // Nothing is written if anything would be overwritten.
    if let Some((name, ..)) = files.iter().find(|(name, ..)| folder.join(name).exists()) {
        return out.unusable(&format!("{} is there already; nothing was written", folder.join(name).display()));
    }
    for (name, text, _) in &files {
        let path = folder.join(name);
        let made = path.parent().map_or(Ok(()), fs::create_dir_all);
        if let Err(error) = made.and_then(|()| fs::write(&path, text)) {
            return out.unusable(&format!("cannot write {}: {error}", path.display()));
        }
    }
    if out.json {
        let files: Vec<String> = files.iter().map(|(name, ..)| folder.join(name).display().to_string()).collect();
        out.json(&json!({ "files": files }));
        return Verdict::Fine;
    }
    for (name, _, what) in &files {
        out.line(format_args!("{}  {}", paint(STRONG, folder.join(name).display()), paint(QUIET, what)));
    }
    out.line("Look at it and run it:");
    out.line(format_args!("   vestigum fate {}", folder.join(FILES[0].0).display()));
    out.line(format_args!("   vestigum play {}", folder.join(FILES[0].0).display()));
    if is_crate {
        out.line("In the crate:");
        for command in [
            "cargo add vestigum",
            "cargo add --dev vestigum-verify",
            "cargo run --example progress",
            "cargo test --test progress",
        ] {
            out.line(format_args!("   {command}"));
        }
    }
    Verdict::Fine
}
