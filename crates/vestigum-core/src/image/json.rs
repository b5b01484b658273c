//! Images as JSON: one object that any JSON tool opens.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::ser::{Serialize, SerializeMap, Serializer};
use thiserror::Error;

use crate::image::blobs::Blobs;
use crate::image::encoded::Envelope;
use crate::image::seal::SealKey;
use crate::image::{FORMAT, Gone, Image, SavedMarks, SavedPlace};
use crate::origin::SavedOrigin;
use vestigum_spec::value::tree::{Moved, Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::policy::Resume;

/// Describes why bytes are not an image that can be used.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ImageError {
    /// The bytes are not JSON, or end too early.
    #[error("it is truncated or malformed: {0}")]
    Unreadable(String),
    /// It has more bytes than the store reads.
    #[error("it has {bytes} bytes, and at most {most} are read")]
    TooLarge {
        /// Says how many it has.
        bytes: u64,
        /// Says how many are read.
        most: u64,
    },
    /// It is a folder, a link, a pipe or the like.
    #[error("it is not a regular file")]
    NoFile,
    /// The JSON is not that of an image.
    #[error("it is not an image: {0}")]
    NoImage(String),
    /// Something was changed after it was written.
    #[error("it was changed after it was saved: its checksum does not match")]
    CheckFailed,
    /// The game's key did not seal it as it is now.
    #[error("it was changed after the game sealed it, or another key sealed it")]
    Tampered,
    /// The game seals its saves, and this one is not sealed.
    #[error("it is not sealed, and this game seals its saves")]
    NotSealed,
    /// It is sealed, and no key was given.
    #[error("it is sealed, and cannot be verified without the game's key")]
    Sealed,
    /// It is a whole image of something else: a file that was copied or renamed.
    #[error("it is generation {1} of {0}, under a name that is not its own")]
    Misplaced(Owner, u64),
    /// A newer game wrote it, in a format that this one does not know.
    #[error("it has format {0}, and this game reads formats up to {FORMAT}; a newer version of the game wrote it")]
    NewerFormat(i64),
}

impl Image {
    /// The image as JSON, with its digest and check.
    pub fn to_json(&self) -> Vec<u8> {
        self.encoded().bytes(self.generation, None)
    }

    /// Reads an image that is not sealed, and verifies its digest and check.
    ///
    /// # Errors
    /// As [`Image::decode`].
    pub fn from_json(bytes: &[u8]) -> Result<Image, ImageError> {
        Image::decode(bytes, None)
    }

    /// Reads an image and verifies its digest and check, with the key that sealed it if the game has one. That takes at
    /// most ten times as much memory as there are bytes, and 64 MiB more.
    ///
    /// # Errors
    /// If the bytes are damaged, were edited, or are of a newer format. Hostile bytes are an error like any other.
    pub fn decode(bytes: &[u8], key: Option<&SealKey>) -> Result<Image, ImageError> {
        Read::from(bytes, key)?.verify(bytes, key)
    }

    /// Reads an image whatever its digest and check say: for tools that show an image nobody can vouch for, or that
    /// accept an edit. Never load one into a game.
    ///
    /// # Errors
    /// If the bytes are no image, or of a newer format.
    pub fn decode_unverified(bytes: &[u8]) -> Result<Image, ImageError> {
        Read::from(bytes, None).map(|read| read.image)
    }
}

/// Describes what bytes say, before it is verified.
#[derive(Clone)]
struct Read {
    /// The format by which its check is made.
    format: i64,
    image: Image,
    digest: String,
    check: String,
    sealed: bool,
}

impl Read {
    fn from(bytes: &[u8], key: Option<&SealKey>) -> Result<Read, ImageError> {
        let tree = Tree::from_json(bytes).map_err(|error| ImageError::Unreadable(error.to_string()))?;
        let Tree::Map(map) = tree else {
            return Err(ImageError::NoImage(format!("an object is wanted, and this is {}", tree.kind())));
        };
        let mut parts = ImageParts { map, path: "" };
        let format = parts.int("format")?;
        // The numbers of formats begin with 1, and none was ever given up.
        if format < 1 {
            return Err(ImageError::NoImage(format!("`format` is {format}, and formats begin with 1")));
        }
        if format <= FORMAT {
            return Read::parts(format, parts);
        }
        // What verifies as a format that is known but for the number is damage of the number, and no reason to refuse a launch.
        let read = Read::parts(FORMAT, parts).ok();
        let verifies = |read: &Read, format| Read { format, ..read.clone() }.verify(bytes, key).is_ok();
        let damaged = read.is_some_and(|read| (1..=FORMAT).any(|format| verifies(&read, format)));
        Err(if damaged { ImageError::CheckFailed } else { ImageError::NewerFormat(format) })
    }

    fn parts(format: i64, mut parts: ImageParts) -> Result<Read, ImageError> {
        let image = Image {
            game: parts.text("game")?,
            version: parts.int("version")?,
            shape: if parts.map.contains_key("shape") { Some(parts.text("shape")?.into()) } else { None },
            owner: owner(&mut parts)?,
            generation: u64::try_from(parts.int("generation")?)
                .map_err(|_| ImageError::NoImage("`generation` is below 0".into()))?,
            saved_at: parts.text("saved_at")?,
            place: place(&mut parts)?,
            made: made(&mut parts)?,
            values: parts.values("values")?,
            marks: marks(&mut parts)?,
            moved: moved(&mut parts)?,
            origin: origin(&mut parts)?,
            blobs: Blobs::default(),
        };
        let sealed = parts.map.contains_key("sealed") && parts.truth("sealed")?;
        let (digest, check) = (parts.text("digest")?, parts.text("check")?);
        parts.end()?;
        Ok(Read { format, image, digest, check, sealed })
    }

    fn verify(self, bytes: &[u8], key: Option<&SealKey>) -> Result<Image, ImageError> {
        let Read { format, image, digest, check, sealed } = self;
        let key = match (sealed, key) {
            (true, None) => return Err(ImageError::Sealed),
            (false, Some(key)) if !key.takes_unsealed() => return Err(ImageError::NotSealed),
            (false, _) => None,
            (true, key) => key,
        };
        let (generation, saved_at, digest) = (image.generation, &*image.saved_at, &*digest);
        let envelope = Envelope { format, generation, saved_at, digest, key };
        let checked = envelope.check().to_hex().as_str() == check;
        // What another tool laid out anew holds the same content.
        if checked && (envelope.is_as_written(bytes) || image.digest() == digest) {
            return Ok(image);
        }
        Err(if sealed { ImageError::Tampered } else { ImageError::CheckFailed })
    }
}

pub(super) struct Entries<'a>(pub &'a Values);

impl Serialize for Entries<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, tree)| (&**name, tree)))
    }
}

impl Serialize for SavedMarks {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(2))?;
        map.serialize_entry("entry", &Entries(&self.entry))?;
        map.serialize_entry("checkpoint", &Entries(&self.checkpoint))?;
        map.end()
    }
}

impl Serialize for SavedPlace {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            SavedPlace::Menu => serializer.serialize_str("menu"),
            SavedPlace::RunOver => serializer.serialize_str("run_over"),
            SavedPlace::Deleted => serializer.serialize_str("deleted"),
            SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } => {
                let mut map = serializer.serialize_map(None)?;
                map.serialize_entry("level", level)?;
                map.serialize_entry("checkpoint", checkpoint)?;
                map.serialize_entry("entered_at", entered_at)?;
                map.serialize_entry("resume", resume.word())?;
                match gone {
                    None => {}
                    Some(Gone::Level { version }) => map.serialize_entry("level_gone_after", version)?,
                    Some(Gone::Checkpoint { name, version }) => {
                        map.serialize_entry("checkpoint_gone", name)?;
                        map.serialize_entry("checkpoint_gone_after", version)?;
                    }
                }
                map.end()
            }
        }
    }
}

/// The parts of an object, taken out one by one; what is left at the end is not part of an image.
struct ImageParts {
    map: BTreeMap<Arc<str>, Tree>,
    path: &'static str,
}

impl ImageParts {
    fn take(&mut self, name: &str) -> Result<Tree, ImageError> {
        let missing = || ImageError::NoImage(format!("`{}{name}` is missing", self.path));
        self.map.remove(name).ok_or_else(missing)
    }

    fn wrong<T>(&self, name: &str, wanted: &str, found: &Tree) -> Result<T, ImageError> {
        Err(ImageError::NoImage(format!("`{}{name}` is {} where {wanted} is wanted", self.path, found.kind())))
    }

    fn int(&mut self, name: &str) -> Result<i64, ImageError> {
        match self.take(name)? {
            Tree::Int(int) => Ok(int),
            other => self.wrong(name, "an int", &other),
        }
    }

    fn text(&mut self, name: &str) -> Result<String, ImageError> {
        match self.take(name)? {
            Tree::Text(text) => Ok(text.to_string()),
            other => self.wrong(name, "a text", &other),
        }
    }

    /// A part that is `true` or not there at all.
    fn truth(&mut self, name: &str) -> Result<bool, ImageError> {
        match self.take(name)? {
            Tree::Bool(true) => Ok(true),
            other => self.wrong(name, "true", &other),
        }
    }

    fn maybe_text(&mut self, name: &str) -> Result<Option<String>, ImageError> {
        match self.take(name)? {
            Tree::Null => Ok(None),
            Tree::Text(text) => Ok(Some(text.to_string())),
            other => self.wrong(name, "a text or null", &other),
        }
    }

    fn values(&mut self, name: &str) -> Result<Values, ImageError> {
        match self.take(name)? {
            Tree::Map(map) => Ok(map),
            other => self.wrong(name, "a map", &other),
        }
    }

    fn end(self) -> Result<(), ImageError> {
        match self.map.first_key_value() {
            None => Ok(()),
            Some((name, _)) => Err(ImageError::NoImage(format!("`{}{name}` is not part of an image", self.path))),
        }
    }
}

fn owner(parts: &mut ImageParts) -> Result<Owner, ImageError> {
    if parts.map.contains_key("profile") {
        return parts.text("profile").map(Owner::Profile);
    }
    parts.truth("device").map(|_| Owner::Device)
}

fn place(parts: &mut ImageParts) -> Result<SavedPlace, ImageError> {
    let map = match parts.take("place")? {
        Tree::Text(word) if &*word == "menu" => return Ok(SavedPlace::Menu),
        Tree::Text(word) if &*word == "run_over" => return Ok(SavedPlace::RunOver),
        Tree::Text(word) if &*word == "deleted" => return Ok(SavedPlace::Deleted),
        Tree::Map(map) => map,
        other => return parts.wrong("place", "menu, run_over, deleted or a level", &other),
    };
    let mut parts = ImageParts { map, path: "place." };
    let place = SavedPlace::InLevel {
        level: parts.text("level")?,
        checkpoint: parts.maybe_text("checkpoint")?,
        entered_at: parts.maybe_text("entered_at")?,
        resume: {
            let word = parts.text("resume")?;
            Resume::from_word(&word)
                .ok_or_else(|| ImageError::NoImage(format!("`place.resume` says `{}`", word.escape_default())))?
        },
        gone: gone(&mut parts)?,
    };
    parts.end().map(|()| place)
}

fn gone(parts: &mut ImageParts) -> Result<Option<Gone>, ImageError> {
    if parts.map.contains_key("level_gone_after") {
        return Ok(Some(Gone::Level { version: parts.int("level_gone_after")? }));
    }
    if parts.map.contains_key("checkpoint_gone") {
        let (name, version) = (parts.text("checkpoint_gone")?, parts.int("checkpoint_gone_after")?);
        return Ok(Some(Gone::Checkpoint { name, version }));
    }
    Ok(None)
}

fn made(parts: &mut ImageParts) -> Result<BTreeMap<Arc<str>, Vec<Arc<str>>>, ImageError> {
    if !parts.map.contains_key("made") {
        return Ok(BTreeMap::new());
    }
    let mut made = BTreeMap::new();
    for (set, names) in parts.values("made")? {
        let Tree::List(names) = names else { return parts.wrong("made", "a list of names for each set", &names) };
        let names = names.into_iter().map(|name| match name {
            Tree::Text(name) => Ok(name),
            other => parts.wrong("made", "a list of names for each set", &other),
        });
        made.insert(set, names.collect::<Result<_, _>>()?);
    }
    Ok(made)
}

fn moved(parts: &mut ImageParts) -> Result<Moved, ImageError> {
    if !parts.map.contains_key("moved") {
        return Ok(Moved::new());
    }
    let mut moved = Moved::new();
    for (version, values) in parts.values("moved")? {
        let (Ok(version), Tree::Map(values)) = (version.parse(), values) else {
            return Err(ImageError::NoImage("`moved` holds values by version".into()));
        };
        moved.insert(version, values);
    }
    Ok(moved)
}

fn origin(parts: &mut ImageParts) -> Result<Option<Box<SavedOrigin>>, ImageError> {
    if !parts.map.contains_key("origin") {
        return Ok(None);
    }
    SavedOrigin::of_tree(parts.take("origin")?).map(|origin| Some(Box::new(origin))).map_err(ImageError::NoImage)
}

fn marks(parts: &mut ImageParts) -> Result<Option<SavedMarks>, ImageError> {
    if !parts.map.contains_key("marks") {
        return Ok(None);
    }
    let mut parts = ImageParts { map: parts.values("marks")?, path: "marks." };
    let marks = SavedMarks { entry: parts.values("entry")?, checkpoint: parts.values("checkpoint")? };
    parts.end().map(|()| Some(marks))
}
