//! `vestigum saves list`: whose saves there are.

use std::path::PathBuf;

use serde_json::json;
use vestigum::{DirStore, Owner, Store, StoreError};

use crate::Verdict;
use crate::show::{Output, QUIET, STRONG, counted, paint, table_with_numbers};

use super::{Key, State, moment_of};

#[derive(clap::Args)]
pub struct Arguments {
    /// The save folder
    folder: PathBuf,
    #[command(flatten)]
    key: Key,
}

/// One file.
pub(super) struct File {
    pub owner: Owner,
    pub generation: u64,
    pub newest: bool,
    pub bytes: usize,
    pub state: State,
}

/// Every file of every owner, the newest first.
pub(super) fn files(store: &DirStore) -> Result<Vec<File>, StoreError> {
    let mut files = Vec::new();
    for owner in store.owners()? {
        let generations = store.generations(&owner)?;
        for generation in generations.iter().rev().copied() {
            let newest = generations.last() == Some(&generation);
            let (bytes, state) = (store.bytes(&owner, generation)?.len(), State::of(store, &owner, generation)?);
            files.push(File { owner: owner.clone(), generation, newest, bytes, state });
        }
    }
    Ok(files)
}

pub fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let store = arguments.key.open(out, &arguments.folder, false)?;
    let files = files(&store).map_err(|error| out.unusable(&error.to_string()))?;
    if out.json {
        let list = files.iter().map(|file| {
            let image = file.state.image.as_ref();
            json!({
                "profile": match &file.owner { Owner::Profile(name) => Some(name), Owner::Device => None },
                "generation": file.generation, "newest": file.newest, "bytes": file.bytes,
                "saved_at": image.map(|image| &image.saved_at), "place": image.map(|image| image.place.to_string()),
                "game": image.map(|image| &image.game), "version": image.map(|image| image.version),
                "damaged": file.state.damaged.as_ref().map(ToString::to_string),
            })
        });
        out.json(&json!({ "folder": arguments.folder, "saves": list.collect::<Vec<_>>() }));
        return Ok(Verdict::Fine);
    }
    if files.is_empty() {
        out.line(format_args!("there are no saves in {}", arguments.folder.display()));
        return Ok(Verdict::Fine);
    }
    let heading = ["whose", "generation", "version", "saved (UTC)", "where the player stands", "bytes", "state"]
        .map(str::to_owned);
    let mut last = None;
    let rows = files.iter().map(|file| {
        let first = last.replace(&file.owner) != Some(&file.owner);
        let whose = match &file.owner {
            Owner::Profile(name) => name.clone(),
            Owner::Device => "the device".into(),
        };
        let image = file.state.image.as_ref();
        let place = match (image, &file.owner) {
            (Some(image), Owner::Profile(_)) => image.place.to_string(),
            _ => paint(QUIET, "·"),
        };
        let generation = if file.newest { paint(STRONG, file.generation) } else { file.generation.to_string() };
        let version = image.map_or_else(|| paint(QUIET, "·"), |image| image.version.to_string());
        let saved = image.map_or_else(|| paint(QUIET, "·"), |image| moment_of(&image.saved_at));
        let whose = if first { paint(STRONG, whose) } else { String::new() };
        vec![whose, generation, version, saved, place, file.bytes.to_string(), file.state.word()]
    });
    out.line(table_with_numbers(&heading, rows.collect(), 3, &[1, 2, 5]));
    for file in files.iter().filter(|file| file.state.is_bad()) {
        out.line(format_args!("generation {} of {}: {}", file.generation, file.owner, file.state.told()));
    }
    let games: std::collections::BTreeSet<&str> =
        files.iter().filter_map(|file| Some(file.state.image.as_ref()?.game.as_str())).collect();
    let damaged = files.iter().filter(|file| file.state.is_bad()).count();
    let damaged = if damaged == 0 { String::new() } else { format!(", {damaged} of them not whole") };
    let games: Vec<&str> = games.into_iter().collect();
    out.line(format_args!("{} of {}{damaged}", counted(files.len(), "file"), games.join(", ")));
    Ok(Verdict::Fine)
}
