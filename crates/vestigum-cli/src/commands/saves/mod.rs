//! `vestigum saves`: looking at saves and repairing them.

mod copy;
mod diff;
mod list;
mod merge;
mod migrate;
mod places;
mod prepare;
mod profile;
mod reset;
mod restore;
mod seal;
mod show;
mod shown;
mod verify;

use std::path::PathBuf;

use clap::Subcommand;

use vestigum::image::{ImageError, SealKey};
use vestigum::tools::Patience;
use vestigum::{Image, Owner, Store, StoreError};

use places::{AnyStore, Place};
pub(crate) use shown::{Shown, ShownPlayer};

use crate::show::{BACK, BAD, GOOD, Output, paint};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// List players and generations: when, where the player stands, whether each file is whole
    #[command(after_help = "Examples:\n  vestigum saves list saves\n  vestigum saves list sqlite:saves.db --keep 3")]
    List(list::Arguments),
    /// Show a player's progress: the board and every value
    #[command(
        after_help = "Examples:\n  vestigum saves show progress.toml saves\n  vestigum saves show progress.toml saves 12 --profile ada"
    )]
    Show(show::Arguments),
    /// Compare two generations by what they mean
    #[command(
        after_help = "Examples:\n  vestigum saves diff progress.toml saves\n  vestigum saves diff progress.toml saves 3 12 --profile ada"
    )]
    Diff(diff::Arguments),
    /// Verify every file
    #[command(
        after_help = "Examples:\n  vestigum saves verify saves\n  vestigum saves verify sqlite:saves.db --key-file key"
    )]
    Verify(verify::Arguments),
    /// Reset a player's saved progress: first what would change, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves reset progress.toml saves level mill_lane\n  vestigum saves reset progress.toml saves field stars --yes"
    )]
    Reset(reset::Arguments),
    /// Make an older generation the newest again: first what would happen, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves restore saves 12 --profile ada\n  vestigum saves restore saves 12 --profile ada --yes"
    )]
    Restore(restore::Arguments),
    /// List players, or make, copy, rename, delete, restore or purge one: with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves profile progress.toml saves\n  vestigum saves profile progress.toml saves --yes copy ada ada_test"
    )]
    Profile(profile::Arguments),
    /// Bring all players' saves to the spec's version: first what would happen, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves migrate progress.toml saves\n  vestigum saves migrate progress.toml saves --yes"
    )]
    Migrate(migrate::Arguments),
    /// Make a place ready for saves: a folder, a file, the tables of a database
    #[command(after_help = "Examples:\n  vestigum saves prepare saves\n  vestigum saves prepare sqlite:saves.db")]
    Prepare(prepare::Arguments),
    /// Copy saves to another place: first what would happen, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves copy saves sqlite:saves.db\n  vestigum saves copy saves backup --profile ada --yes"
    )]
    Copy(copy::Arguments),
    /// Merge what became of one save in two places: first a table of every value, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves merge progress.toml saves other --profile ada\n  vestigum saves merge progress.toml saves other --profile ada --yes"
    )]
    Merge(merge::Arguments),
    /// Take up an image that was edited by hand, as a new generation: first what would change, with --yes for real
    #[command(
        after_help = "Examples:\n  vestigum saves seal progress.toml saves 12\n  vestigum saves seal progress.toml saves 12 --yes"
    )]
    Seal(seal::Arguments),
}

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    let done = match &arguments.command {
        Command::List(arguments) => list::run(out, arguments),
        Command::Show(arguments) => show::run(out, arguments),
        Command::Diff(arguments) => diff::run(out, arguments),
        Command::Verify(arguments) => verify::run(out, arguments),
        Command::Reset(arguments) => reset::run(out, arguments),
        Command::Restore(arguments) => restore::run(out, arguments),
        Command::Profile(arguments) => profile::run(out, arguments),
        Command::Migrate(arguments) => migrate::run(out, arguments),
        Command::Prepare(arguments) => prepare::run(out, arguments),
        Command::Copy(arguments) => copy::run(out, arguments),
        Command::Merge(arguments) => merge::run(out, arguments),
        Command::Seal(arguments) => seal::run(out, arguments),
    };
    done.unwrap_or_else(|verdict| verdict)
}

/// Names the player that a command is about.
#[derive(clap::Args)]
struct Player {
    /// The player; not needed if there is only one
    #[arg(long, value_name = "NAME")]
    profile: Option<String>,
}

/// Whose saves a command is about.
#[derive(clap::Args)]
struct Whose {
    #[command(flatten)]
    player: Player,
    /// The device instead of a player
    #[arg(long, conflicts_with = "profile")]
    device: bool,
}

impl Whose {
    fn owner(&self, out: &Output, store: &dyn Store) -> Result<Owner, Verdict> {
        if self.device { Ok(Owner::Device) } else { self.player.name(out, store).map(Owner::Profile) }
    }
}

impl Player {
    fn name(&self, out: &Output, store: &dyn Store) -> Result<String, Verdict> {
        if let Some(name) = &self.profile {
            return Ok(name.clone());
        }
        let owners = store.owners().map_err(|error| out.unusable(&error.to_string()))?;
        let mut names: Vec<String> = owners
            .into_iter()
            .filter_map(|owner| match owner {
                Owner::Profile(name) => Some(name),
                Owner::Device => None,
            })
            .collect();
        match (names.pop(), names.len()) {
            (Some(only), 0) => Ok(only),
            (Some(last), _) => {
                names.push(last);
                Err(out.unusable(&format!("whose saves? there are: {}; say --profile NAME", names.join(", "))))
            }
            (None, _) => Err(out.unusable("there are no saves of any player")),
        }
    }
}

/// The key of a game that seals its saves.
#[derive(clap::Args)]
struct Key {
    /// The game's key, if it seals its saves: a file with 64 hex digits (32 bytes), or any other text
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
}

impl Key {
    fn read(&self, out: &Output) -> Result<Option<SealKey>, Verdict> {
        let Some(path) = &self.key_file else { return Ok(None) };
        let text = input::text(path).map_err(|message| out.unusable(&message))?;
        let text = text.trim();
        if text.is_empty() {
            return Err(out.unusable(&format!("there is no key in {}", path.display())));
        }
        let digits: Vec<u8> = (0..text.len())
            .step_by(2)
            .map_while(|at| text.get(at..at + 2).and_then(|pair| u8::from_str_radix(pair, 16).ok()))
            .collect();
        let bytes: Option<[u8; 32]> = (text.len() == 64).then_some(digits).and_then(|digits| digits.try_into().ok());
        Ok(Some(bytes.map_or_else(|| SealKey::from_text(text), SealKey::new)))
    }

    /// Opens a place that is there.
    fn open(&self, out: &Output, place: &Place, to_write: bool) -> Result<AnyStore, Verdict> {
        let store = place.open(to_write).map_err(|why| out.unusable(&why))?;
        self.seal(out, store)
    }

    fn seal(&self, out: &Output, store: AnyStore) -> Result<AnyStore, Verdict> {
        Ok(match self.read(out)? {
            Some(key) => store.sealed(key),
            None => store,
        })
    }
}

/// The generations of an owner that has some.
fn generations(out: &Output, store: &dyn Store, owner: &Owner) -> Result<Vec<u64>, Verdict> {
    let failed = |error: StoreError| out.unusable(&error.to_string());
    let generations = store.generations(owner).map_err(failed)?;
    if generations.is_empty() {
        let there: Vec<String> = store.owners().map_err(failed)?.iter().map(Owner::to_string).collect();
        let there = if there.is_empty() { "no saves at all".into() } else { there.join(", ") };
        return Err(out.unusable(&format!("there are no saves of {owner}; there are: {there}")));
    }
    Ok(generations)
}

/// A generation that is there.
fn known(out: &Output, owner: &Owner, generations: &[u64], wanted: u64) -> Result<u64, Verdict> {
    if generations.contains(&wanted) {
        return Ok(wanted);
    }
    let there: Vec<String> = generations.iter().map(u64::to_string).collect();
    Err(out.unusable(&format!("{owner} has no generation {wanted}; there are: {}", there.join(", "))))
}

/// Describes what a file is worth, and the image if it can be shown at all.
struct SaveState {
    image: Option<Image>,
    worth: Worth,
}

/// Describes what reading a save said.
enum Worth {
    /// It was read in full and verifies; a blob that it means may be gone.
    Whole,
    /// It was read in full and does not verify.
    Damaged(ImageError),
    /// It, or a blob of it, could not be read now: nobody knows.
    Unavailable(String),
}

impl SaveState {
    fn of(store: &AnyStore, patience: &Patience<'_>, owner: &Owner, generation: u64) -> Result<SaveState, StoreError> {
        match patience.read(owner, generation) {
            Ok(image) => Ok(SaveState { image: Some(image), worth: Worth::Whole }),
            Err(StoreError::Damaged { damaged, .. }) => {
                // What nobody can vouch for can be shown all the same; what is not an image cannot.
                let shown = matches!(
                    damaged,
                    ImageError::CheckFailed
                        | ImageError::Tampered
                        | ImageError::NotSealed
                        | ImageError::Sealed
                        | ImageError::Misplaced(..)
                );
                let bytes = if shown { store.bytes(owner, generation).ok() } else { None };
                let mut image = bytes.and_then(|bytes| Image::decode_unverified(&bytes).ok());
                image.iter_mut().for_each(|image| store.find_blobs(image));
                Ok(SaveState { image, worth: Worth::Damaged(damaged) })
            }
            Err(error @ StoreError::NoGeneration { .. }) => Err(error),
            // One file that cannot be read stops nobody from looking at the others.
            Err(StoreError::Unavailable { why, .. }) => Ok(SaveState { image: None, worth: Worth::Unavailable(why) }),
            Err(error) => Ok(SaveState { image: None, worth: Worth::Unavailable(error.to_string()) }),
        }
    }

    /// In a word, for a table.
    fn word(&self) -> String {
        let word = match &self.worth {
            Worth::Whole if !self.lost_blobs().is_empty() => "blob lost",
            Worth::Whole => return paint(GOOD, "whole"),
            Worth::Unavailable(_) => "not read",
            Worth::Damaged(ImageError::Sealed) => return paint(BACK, "sealed"),
            Worth::Damaged(ImageError::CheckFailed) => "changed",
            Worth::Damaged(ImageError::Tampered) => "tampered",
            Worth::Damaged(ImageError::NotSealed) => "not sealed",
            Worth::Damaged(ImageError::Misplaced(..)) => "misplaced",
            Worth::Damaged(ImageError::NewerFormat(_)) => "newer format",
            Worth::Damaged(_) => "damaged",
        };
        paint(BAD, word)
    }

    /// In full.
    fn told(&self) -> String {
        match &self.worth {
            Worth::Whole => match self.lost_blobs().first() {
                None => paint(GOOD, "whole"),
                Some(lost) => paint(BAD, lost),
            },
            // Nothing is known to be wrong with it.
            Worth::Damaged(damaged @ ImageError::Sealed) => paint(BACK, format_args!("{damaged}: say --key-file FILE")),
            Worth::Damaged(damaged) => paint(BAD, damaged),
            Worth::Unavailable(why) => paint(BAD, format_args!("it cannot be read now: {why}")),
        }
    }

    /// Each blob that the image means and that cannot be had, in words. A launch takes the image all the same.
    fn lost_blobs(&self) -> Vec<String> {
        let lost = self.image.as_ref().map(Image::lost_blobs).unwrap_or_default();
        lost.iter().map(|(blob, why)| format!("its blob {} of {} bytes {why}", blob.digest, blob.len)).collect()
    }

    /// Returns why it is damaged.
    fn damaged(&self) -> Option<&ImageError> {
        match &self.worth {
            Worth::Damaged(damaged) => Some(damaged),
            Worth::Whole | Worth::Unavailable(_) => None,
        }
    }

    /// Returns why it could not be read now.
    fn unavailable(&self) -> Option<&str> {
        match &self.worth {
            Worth::Unavailable(why) => Some(why),
            Worth::Whole | Worth::Damaged(_) => None,
        }
    }

    /// Returns whether it was read and verified.
    fn is_whole(&self) -> bool {
        match self.worth {
            Worth::Whole => true,
            Worth::Damaged(_) | Worth::Unavailable(_) => false,
        }
    }
}

/// A time for people: to the second, in UTC.
pub(crate) fn moment_of(saved_at: &str) -> String {
    match saved_at.split_once('T') {
        Some((day, time)) if time.len() >= 8 && time.is_char_boundary(8) => format!("{day} {}", &time[..8]),
        _ => saved_at.to_owned(),
    }
}

/// The save of an owner that a launch would load: the newest that is whole. None if there is none.
fn newest(store: &AnyStore, owner: &Owner) -> Result<Option<Image>, StoreError> {
    let patience = Patience::with(store);
    for generation in patience.generations(owner)?.into_iter().rev() {
        match patience.read(owner, generation) {
            Ok(image) => return Ok(Some(image)),
            // A launch passes over what is damaged, and tells it.
            Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(None)
}
