//! `vestigum new`: a commented starter spec and a first playthrough.

use std::fs;
use std::path::{Component, Path, PathBuf};

use serde_json::json;
use toml::de::DeTable;

use crate::Verdict;
use crate::show::{Output, QUIET, STRONG, paint};

const FILES: [(&str, &str, &str); 3] = [
    ("progress.toml", include_str!("../../starter/progress.toml"), "the spec: what persists"),
    ("first.play", include_str!("../../starter/first.play"), "a first playthrough"),
    ("vestigum.schema.json", include_str!("../../starter/vestigum.schema.json"), "the schema, for editors"),
];

/// Says what is written besides where a Rust crate is.
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
    let named = game_name(&folder);
    for (name, text, _) in &files {
        let text = match &named {
            Some(Named { id, title }) => text
                .replace("id = \"my_game\"   ", &format!("id = \"{id}\"   "))
                .replace("\"My Game\"", &format!("\"{title}\"")),
            None => (*text).to_owned(),
        };
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

/// The id and the title of a new game.
struct Named {
    id: String,
    title: String,
}

/// Names the game after the crate in the folder, or else after the folder; none if neither has a name that can be an id.
fn game_name(folder: &Path) -> Option<Named> {
    let manifest = fs::read_to_string(folder.join("Cargo.toml")).unwrap_or_default();
    let table = DeTable::parse(&manifest).ok();
    let package = table.as_ref().and_then(|table| table.get_ref().get("package")?.get_ref().get("name"));
    let named = package.and_then(|name| Some(name.get_ref().as_str()?.to_owned()));
    // A folder that is still to be made has its name already; `.` gets one by where it is.
    let of_folder = || {
        let whole = fs::canonicalize(folder.join("."));
        whole.as_deref().unwrap_or(folder).file_name()?.to_str().map(str::to_owned)
    };
    let name = named.or_else(of_folder)?;
    let words: Vec<&str> = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()).collect();
    let id = words.join("_").to_ascii_lowercase();
    // An id begins with a letter.
    id.starts_with(|c: char| c.is_ascii_lowercase()).then(|| {
        let capital = |word: &&str| word[..1].to_ascii_uppercase() + &word[1..];
        Named { id, title: words.iter().map(capital).collect::<Vec<_>>().join(" ") }
    })
}
