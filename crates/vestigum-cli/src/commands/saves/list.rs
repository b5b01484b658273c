//! `vestigum saves list`: whose saves there are.

use serde_json::json;

use vestigum::tools::Patience;
use vestigum::{Owner, StoreError, Stray};

use super::places::{AnyStore, Place};
use super::{Key, SaveState, moment_of};
use crate::Verdict;
use crate::show::{BAD, Output, QUIET, STRONG, counted, grouped, paint, plain, table_with_numbers};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The save folder, sqlite:FILE or postgres://…
    #[arg(value_parser = Place::parser())]
    folder: Place,
    /// Also tell how much could go if the newest N generations of each owner are kept
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
    keep: Option<u32>,
    #[command(flatten)]
    key: Key,
}

/// One file.
pub(super) struct File {
    pub owner: Owner,
    pub generation: u64,
    pub newest: bool,
    /// Says how many bytes it has, if that could be told.
    pub bytes: Option<u64>,
    pub state: SaveState,
}

/// Describes what a place holds.
pub(super) struct Listing {
    /// Every file of every owner, the newest first.
    pub files: Vec<File>,
    /// Owners of whom it could not be told which generations they have, each with the reason.
    pub unread: Vec<(Owner, String)>,
    pub strays: Vec<Stray>,
}

impl Listing {
    pub(super) fn of(store: &AnyStore) -> Result<Listing, StoreError> {
        let patience = Patience::with(store);
        let (mut files, mut unread) = (Vec::new(), Vec::new());
        for owner in patience.owners()? {
            let generations = match patience.generations(&owner) {
                Ok(generations) => generations,
                // One owner keeps nobody from looking at the others.
                Err(error) => {
                    unread.push((owner, error.to_string()));
                    continue;
                }
            };
            for generation in generations.iter().rev().copied() {
                let newest = generations.last() == Some(&generation);
                let state = match SaveState::of(store, &patience, &owner, generation) {
                    // A game that runs beside has removed it since it was listed.
                    Err(StoreError::NoGeneration { .. }) => continue,
                    state => state?,
                };
                let bytes = store.size(&owner, generation).ok().flatten();
                files.push(File { owner: owner.clone(), generation, newest, bytes, state });
            }
        }
        Ok(Listing { files, unread, strays: store.strays()? })
    }

    /// Returns how many owners, folders and files nobody could look at.
    pub(super) fn unread(&self) -> usize {
        let files = self.files.iter().filter(|file| file.state.unavailable().is_some()).count();
        self.unread.len() + self.strays.iter().filter(|stray| stray.unread).count() + files
    }

    /// Tells which owners and folders could not be looked at.
    pub(super) fn show_unread(&self, out: &Output) {
        for (owner, why) in &self.unread {
            out.line(format_args!("{} the saves of {owner} could not be listed: {why}", paint(BAD, "✗")));
        }
        for stray in self.strays.iter().filter(|stray| stray.unread) {
            let path = stray.path.display();
            out.line(format_args!("{} {path} may hold saves, and could not be read: {}", paint(BAD, "✗"), stray.why));
        }
    }

    pub(super) fn unread_json(&self) -> Vec<serde_json::Value> {
        let owner = |(owner, why): &(Owner, String)| json!({ "profile": name_of(owner), "why": why });
        let stray = |stray: &Stray| json!({ "path": stray.path, "why": stray.why });
        let strays = self.strays.iter().filter(|stray| stray.unread).map(stray);
        self.unread.iter().map(owner).chain(strays).collect()
    }
}

/// A player's name; none of the device.
pub(super) fn name_of(owner: &Owner) -> Option<&str> {
    match owner {
        Owner::Profile(name) => Some(name),
        Owner::Device => None,
    }
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let store = arguments.key.open(out, &arguments.folder, false)?;
    let failed = |error: StoreError| out.unusable(&error.to_string());
    let listing = Listing::of(&store).map_err(failed)?;
    let Listing { files, strays, .. } = &listing;
    let verdict = if listing.unread() == 0 { Verdict::Fine } else { Verdict::Failed };
    let removable = match arguments.keep {
        Some(keep) => Some((keep, removable(&store, files, keep).map_err(failed)?)),
        None => None,
    };
    if out.json {
        let list = files.iter().map(|file| {
            let image = file.state.image.as_ref();
            json!({
                "profile": name_of(&file.owner),
                "generation": file.generation, "newest": file.newest, "bytes": file.bytes,
                "saved_at": image.map(|image| &image.saved_at), "place": image.map(|image| image.place.to_string()),
                "game": image.map(|image| &image.game), "version": image.map(|image| image.version),
                "damaged": file.state.damaged().map(ToString::to_string), "unavailable": file.state.unavailable(),
                "lost_blobs": file.state.lost_blobs(),
            })
        });
        let removable = removable.map(|(keep, (files, bytes))| json!({ "keep": keep, "files": files, "bytes": bytes }));
        out.json(&json!({
            "folder": arguments.folder.to_string(), "saves": list.collect::<Vec<_>>(), "strays": strays_json(strays),
            "unread": listing.unread_json(), "removable": removable,
        }));
        return Ok(verdict);
    }
    if files.is_empty() {
        if listing.unread() == 0 {
            out.line(format_args!("there are no saves in {}", arguments.folder));
        }
        listing.show_unread(out);
        show_strays(out, strays);
        return Ok(verdict);
    }
    let heading = ["whose", "generation", "version", "saved (UTC)", "where the player stands", "bytes", "state"]
        .map(str::to_owned);
    let mut last = None;
    let rows = files.iter().map(|file| {
        let first = last.replace(&file.owner) != Some(&file.owner);
        let whose = match &file.owner {
            Owner::Profile(name) => plain(name),
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
        vec![
            whose,
            generation,
            version,
            saved,
            place,
            file.bytes.map_or_else(|| paint(QUIET, "·"), |bytes| bytes.to_string()),
            file.state.word(),
        ]
    });
    out.line(table_with_numbers(&heading, rows.collect(), 3, &[1, 2, 5]));
    let told = |file: &&File| !file.state.is_whole() || !file.state.lost_blobs().is_empty();
    for file in files.iter().filter(told) {
        out.line(format_args!("generation {} of {}: {}", file.generation, file.owner, file.state.told()));
    }
    let games: std::collections::BTreeSet<&str> =
        files.iter().filter_map(|file| Some(file.state.image.as_ref()?.game.as_str())).collect();
    let damaged = files.iter().filter(|file| file.state.damaged().is_some()).count();
    let unread = files.iter().filter(|file| file.state.unavailable().is_some()).count();
    let mut not_whole = if damaged == 0 { String::new() } else { format!(", {damaged} of them damaged") };
    if unread > 0 {
        not_whole += &format!(", {unread} not read");
    }
    let games: Vec<&str> = games.into_iter().collect();
    out.line(format_args!("{} of {}{not_whole}", counted(files.len(), "file"), games.join(", ")));
    if let Some((keep, (files, bytes))) = removable {
        let bytes = grouped(usize::try_from(bytes).unwrap_or(usize::MAX));
        out.line(format_args!(
            "{} of {bytes} bytes could go: all but the newest {keep} whole ones of each; the game removes them itself",
            counted(files, "file")
        ));
    }
    listing.show_unread(out);
    show_strays(out, strays);
    Ok(verdict)
}

/// Returns how many files, and how many bytes, a prune would remove, with the blobs that nothing means then.
fn removable(store: &AnyStore, files: &[File], keep: u32) -> Result<(usize, u64), StoreError> {
    let owners: std::collections::BTreeSet<&Owner> = files.iter().map(|file| &file.owner).collect();
    let mut all = (0, 0);
    for owner in owners {
        let one = store.removable(owner, keep)?;
        all = (all.0 + one.files, all.1 + one.bytes);
    }
    let blobs = store.removable_blobs(keep)?;
    Ok((all.0 + blobs.files, all.1 + blobs.bytes))
}

/// Lists what lies in the folder and is not a save of the game.
pub(super) fn show_strays(out: &Output, strays: &[Stray]) {
    for stray in strays.iter().filter(|stray| !stray.unread) {
        out.line(paint(QUIET, format_args!("passed over: {}: {}", stray.path.display(), stray.why)));
    }
}

pub(super) fn strays_json(strays: &[Stray]) -> Vec<serde_json::Value> {
    strays.iter().filter(|stray| !stray.unread).map(|stray| json!({ "path": stray.path, "why": stray.why })).collect()
}
