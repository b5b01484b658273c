//! Images as bytes, but for their number.
//!
//! A file of an image is one JSON object: what the store adds (format, generation, time), the *content*, the digest and the
//! check. The content is canonical: its members stand in one order, the names of maps are sorted, there is no white space,
//! ints are written in full and floats as short as they can be. So equal progress has equal content, and the digest is
//! the hash of its text.

use std::collections::BTreeSet;

use serde::ser::{Serialize, SerializeMap, Serializer};

use crate::image::blobs::{BlobDigest, Blobs, mentioned};
use crate::image::json::{Entries, ImageError};
use crate::image::seal::SealKey;
use crate::image::{FORMAT, Image};
use vestigum_spec::model::members::quote;
use vestigum_spec::value::measure::measure_members;
use vestigum_spec::value::tree::{Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;

/// Limits the bytes of a save to 64 MiB, if a store does not say otherwise. Larger ones are neither read nor written.
pub const MOST_SAVE_BYTES: u64 = 64 << 20;

/// An image in the form that a store writes: the store adds the number.
///
/// Making one takes one pass over the values. A [`crate::Suspended`] gives it without an [`Image`] in between.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EncodedImage {
    owner: Owner,
    saved_at: String,
    /// The members of the content, without the brackets around them.
    content: Vec<u8>,
    digest: String,
    blobs: Blobs,
}

impl EncodedImage {
    pub(super) fn new(owner: Owner, saved_at: String, content: Vec<u8>, blobs: Blobs) -> EncodedImage {
        let digest = digest_of(&content);
        EncodedImage { owner, saved_at, content, digest, blobs }
    }

    /// The blobs that it means, as far as their bytes are known: a store makes them durable before the image. Bytes that
    /// could not be read when the image was loaded are not among them.
    pub fn blobs(&self) -> &Blobs {
        &self.blobs
    }

    /// When it was saved, as the caller's clock told it (RFC 3339).
    pub fn saved_at(&self) -> &str {
        &self.saved_at
    }

    /// The digests of the blobs that it means, those among them whose bytes are not known, too: what a store must keep.
    pub fn blob_digests(&self) -> BTreeSet<BlobDigest> {
        mentioned(&self.content)
    }

    /// Checks that what is written can be read: that it has no more bytes than a store reads, and no more values than reading
    /// takes into memory.
    ///
    /// # Errors
    /// [`ImageError::TooLarge`] if it has more bytes, [`ImageError::Unreadable`] if it has more values.
    pub fn check_size(&self, most: u64) -> Result<(), ImageError> {
        let bytes = (ENVELOPE + self.saved_at.len() + self.content.len()) as u64;
        if bytes > most {
            return Err(ImageError::TooLarge { bytes, most });
        }
        measure_members(&self.content).map_err(|error| ImageError::Unreadable(error.to_string()))
    }

    /// Returns whether it says that the player was deleted.
    pub fn is_deletion(&self) -> bool {
        // The members stand in one order, and no text has a quote in it that is not escaped.
        const PLACE: &[u8] = b",\"place\":";
        let place = self.content.windows(PLACE.len()).position(|at| at == PLACE);
        place.is_some_and(|at| self.content[at + PLACE.len()..].starts_with(b"\"deleted\""))
    }

    /// Returns whether both hold the same and were saved at the same time.
    #[doc(hidden)]
    pub fn says_the_same(&self, other: &EncodedImage) -> bool {
        let of = |image: &EncodedImage| (image.owner.clone(), image.saved_at.clone(), image.digest.clone());
        of(self) == of(other)
    }

    /// Returns whose progress it is.
    pub fn owner(&self) -> &Owner {
        &self.owner
    }

    /// Returns what it holds, in 32 bytes as 64 hexadecimal digits: equal digests mean that there is nothing to write.
    pub fn digest(&self) -> &str {
        &self.digest
    }

    /// The bytes of its file, with the number that the store gives it; with a key the check is a seal.
    pub fn bytes(&self, generation: u64, key: Option<&SealKey>) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(ENVELOPE + self.saved_at.len() + self.content.len());
        let (saved_at, digest) = (&*self.saved_at, &*self.digest);
        let envelope = Envelope { format: FORMAT, generation, saved_at, digest, key };
        envelope.head(&mut bytes);
        bytes.extend_from_slice(&self.content);
        envelope.tail(&mut bytes);
        bytes
    }
}

impl Image {
    /// The image as a store writes it.
    pub fn encoded(&self) -> EncodedImage {
        EncodedImage::new(self.owner.clone(), self.saved_at.clone(), self.content(), self.blobs.clone())
    }

    /// The digest of the content: game, owner, version, shape, place, values, marks and origin. Equal digests mean that there is nothing to
    /// write.
    pub fn digest(&self) -> String {
        digest_of(&self.content())
    }

    fn content(&self) -> Vec<u8> {
        // Writing into memory fails only for maps whose keys are not text, and there are none.
        let mut object = serde_json::to_vec(&Content(self)).unwrap_or_default();
        object.pop();
        object.drain(..1.min(object.len()));
        object
    }
}

pub(super) fn digest_of(content: &[u8]) -> String {
    blake3::hash(content).to_hex().to_string()
}

/// Says what the store's members take at most, but for the time.
const ENVELOPE: usize = 320;

/// Holds what a store adds to the content of an image.
pub(super) struct Envelope<'a> {
    /// The number of the format: older images have older ones.
    pub format: i64,
    pub generation: u64,
    pub saved_at: &'a str,
    pub digest: &'a str,
    pub key: Option<&'a SealKey>,
}

impl Envelope<'_> {
    /// Writes what stands before the content in a file.
    fn head(&self, bytes: &mut Vec<u8>) {
        bytes.extend_from_slice(b"{\"format\":");
        bytes.extend_from_slice(itoa::Buffer::new().format(self.format).as_bytes());
        bytes.extend_from_slice(b",\"generation\":");
        bytes.extend_from_slice(itoa::Buffer::new().format(self.generation).as_bytes());
        bytes.extend_from_slice(b",\"saved_at\":");
        quote(bytes, self.saved_at);
        bytes.push(b',');
    }

    /// Writes what stands behind it.
    fn tail(&self, bytes: &mut Vec<u8>) {
        if self.key.is_some() {
            bytes.extend_from_slice(b",\"sealed\":true");
        }
        bytes.extend_from_slice(b",\"digest\":\"");
        bytes.extend_from_slice(self.digest.as_bytes());
        bytes.extend_from_slice(b"\",\"check\":\"");
        bytes.extend_from_slice(self.check().to_hex().as_bytes());
        bytes.extend_from_slice(b"\"}");
    }

    /// Checks that bytes are what an image is written as, and that its content has the digest: then the content need not be made again.
    pub(super) fn is_as_written(&self, bytes: &[u8]) -> bool {
        let (mut before, mut behind) = (Vec::with_capacity(ENVELOPE), Vec::with_capacity(ENVELOPE));
        self.head(&mut before);
        self.tail(&mut behind);
        let content = bytes.strip_prefix(&before[..]).and_then(|rest| rest.strip_suffix(&behind[..]));
        content.is_some_and(|content| digest_of(content) == self.digest)
    }

    /// The checksum of the digest, the format, the generation and the time: it tells whether the file is as it was written, and with a
    /// key, whether the game wrote it.
    pub(super) fn check(&self) -> blake3::Hash {
        let mut hashed = Vec::with_capacity(160);
        for part in ["vestigum check", self.digest, self.saved_at] {
            hashed.extend_from_slice(&(part.len() as u64).to_le_bytes());
            hashed.extend_from_slice(part.as_bytes());
        }
        hashed.extend_from_slice(&self.format.to_le_bytes());
        hashed.extend_from_slice(&self.generation.to_le_bytes());
        match self.key {
            None => blake3::hash(&hashed),
            Some(key) => blake3::keyed_hash(key.bytes(), &hashed),
        }
    }
}

/// Describes what the digest speaks of.
struct Content<'a>(&'a Image);

impl Serialize for Content<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let image = self.0;
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("game", &image.game)?;
        match &image.owner {
            Owner::Profile(name) => map.serialize_entry("profile", name)?,
            Owner::Device => map.serialize_entry("device", &true)?,
        }
        map.serialize_entry("version", &image.version)?;
        if let Some(shape) = &image.shape {
            map.serialize_entry("shape", &**shape)?;
        }
        map.serialize_entry("place", &image.place)?;
        if !image.made.is_empty() {
            let names = |names: &[std::sync::Arc<str>]| Tree::List(names.iter().cloned().map(Tree::Text).collect());
            let made: Values = image.made.iter().map(|(set, made)| (set.clone(), names(made))).collect();
            map.serialize_entry("made", &Entries(&made))?;
        }
        map.serialize_entry("values", &Entries(&image.values))?;
        if let Some(marks) = &image.marks {
            map.serialize_entry("marks", marks)?;
        }
        if !image.moved.is_empty() {
            let moved = image.moved.iter().map(|(version, values)| (version.to_string(), Entries(values)));
            map.serialize_entry("moved", &moved.collect::<std::collections::BTreeMap<_, _>>())?;
        }
        if let Some(origin) = &image.origin {
            map.serialize_entry("origin", &origin.to_tree())?;
        }
        map.end()
    }
}
