//! Blobs: bytes that are kept beside an image, under the digest of what they are.
//!
//! An image says of each blob the digest and the length, as `{"blob": "9f86d0…", "len": 1024}`. So a save whose blobs have not
//! changed writes none of them, and generations and players share those that are equal. A store writes the blobs of an image
//! before the image, and looks them up when it reads one.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

use thiserror::Error;

use crate::image::Image;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Tree;

/// The names of the two members with which an image says which blob is meant.
const DIGEST: &str = "blob";
const LEN: &str = "len";

/// Says how many hexadecimal digits a digest has.
const DIGITS: usize = 64;

/// Describes what a blob is known by: the BLAKE3 hash of its bytes, shown as 64 hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BlobDigest([u8; 32]);

impl BlobDigest {
    /// The digest of bytes.
    pub fn of(bytes: &[u8]) -> BlobDigest {
        BlobDigest(*blake3::hash(bytes).as_bytes())
    }

    /// The digest that 64 hexadecimal digits say, in lower case.
    pub fn from_hex(hex: &str) -> Option<BlobDigest> {
        if hex.len() != DIGITS || !hex.bytes().all(is_digit) {
            return None;
        }
        blake3::Hash::from_hex(hex).ok().map(|hash| BlobDigest(*hash.as_bytes()))
    }
}

fn is_digit(byte: u8) -> bool {
    matches!(byte, b'0'..=b'9' | b'a'..=b'f')
}

impl fmt::Display for BlobDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&blake3::Hash::from_bytes(self.0).to_hex())
    }
}

impl fmt::Debug for BlobDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// Describes which blob an image means.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub struct BlobRef {
    /// The digest of its bytes.
    pub digest: BlobDigest,
    /// Says how many bytes it has.
    pub len: u64,
}

impl BlobRef {
    /// Returns what a tree of an image says, if it says that a blob is meant.
    pub(crate) fn of(tree: &Tree) -> Option<BlobRef> {
        let Tree::Map(entries) = tree else { return None };
        match (entries.len(), entries.get(DIGEST), entries.get(LEN)) {
            (2, Some(Tree::Text(digest)), Some(Tree::Int(len))) => {
                Some(BlobRef { digest: BlobDigest::from_hex(digest)?, len: u64::try_from(*len).ok()? })
            }
            _ => None,
        }
    }

    /// As an image says it.
    pub fn tree(self) -> Tree {
        let len = i64::try_from(self.len).unwrap_or(i64::MAX);
        Tree::Map([(DIGEST.into(), Tree::Text(self.digest.to_string().into())), (LEN.into(), Tree::Int(len))].into())
    }

    /// Returns whether these are the bytes that are meant.
    ///
    /// # Errors
    /// [`BlobError::Damaged`] if they are not.
    pub fn verify(&self, bytes: &[u8]) -> Result<(), BlobError> {
        let same = bytes.len() as u64 == self.len && BlobDigest::of(bytes) == self.digest;
        if same { Ok(()) } else { Err(BlobError::Damaged) }
    }
}

/// Describes why the bytes of a blob are not there, in words that follow `the blob`.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum BlobError {
    /// The store has none of that digest.
    #[error("is gone")]
    Missing,
    /// The bytes are not those that were written.
    #[error("was changed after it was saved")]
    Damaged,
    /// It has more bytes than the store reads.
    #[error("is larger than the {most} bytes that are read")]
    TooLarge {
        /// Says how many are read.
        most: u64,
    },
    /// It is a folder, a link, a pipe or the like.
    #[error("is not a regular file")]
    NoFile,
    /// The place could not give its bytes now: it may be whole.
    #[error("cannot be read now: {0}")]
    NotRead(String),
}

impl BlobError {
    /// Returns whether nobody knows what has become of it: the place could not read it now, and may later.
    pub fn is_unavailable(&self) -> bool {
        match self {
            BlobError::NotRead(_) => true,
            BlobError::Missing | BlobError::Damaged | BlobError::TooLarge { .. } | BlobError::NoFile => false,
        }
    }
}

/// The blobs of an image: the bytes, or why they are not there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Blobs {
    found: BTreeMap<BlobDigest, Result<Arc<[u8]>, BlobError>>,
}

impl Blobs {
    /// Puts a blob in, and answers how the image names it.
    pub fn insert(&mut self, bytes: Arc<[u8]>) -> BlobRef {
        let blob = BlobRef { digest: BlobDigest::of(&bytes), len: bytes.len() as u64 };
        self.found.insert(blob.digest, Ok(bytes));
        blob
    }

    /// The bytes of a blob.
    ///
    /// # Errors
    /// Why they are not there. A blob that nobody has looked for is missing.
    pub fn get(&self, digest: &BlobDigest) -> Result<&Arc<[u8]>, BlobError> {
        self.found.get(digest).unwrap_or(&Err(BlobError::Missing)).as_ref().map_err(BlobError::clone)
    }

    /// Those whose bytes are there, in the order of their digests.
    pub fn iter(&self) -> impl Iterator<Item = (&BlobDigest, &Arc<[u8]>)> {
        self.found.iter().filter_map(|(digest, found)| Some((digest, found.as_ref().ok()?)))
    }

    /// Returns whether no bytes are there.
    pub fn is_empty(&self) -> bool {
        self.iter().next().is_none()
    }
}

impl Image {
    /// The blobs that the image means, each once.
    pub fn blob_refs(&self) -> BTreeSet<BlobRef> {
        let marks = self.marks.iter().flat_map(|marks| [&marks.entry, &marks.checkpoint]);
        let mut refs = BTreeSet::new();
        for values in [&self.values].into_iter().chain(marks).chain(self.moved.values()) {
            values.values().for_each(|tree| collect(tree, &mut refs));
        }
        refs
    }

    /// Looks up every blob that the image means. What `find` gives is verified; what it cannot give is remembered, and loading
    /// reports it. A store does this when it reads an image.
    pub fn find_blobs(&mut self, mut find: impl FnMut(&BlobRef) -> Result<Arc<[u8]>, BlobError>) {
        for blob in self.blob_refs() {
            let found = find(&blob).and_then(|bytes| blob.verify(&bytes).map(|()| bytes));
            self.blobs.found.insert(blob.digest, found);
        }
    }

    /// The blobs that the image means and whose bytes are not there, and why.
    pub fn lost_blobs(&self) -> Vec<(BlobRef, BlobError)> {
        let refs = self.blob_refs().into_iter();
        refs.filter_map(|blob| self.blobs.get(&blob.digest).err().map(|why| (blob, why))).collect()
    }
}

fn collect(tree: &Tree, refs: &mut BTreeSet<BlobRef>) {
    match tree {
        Tree::Map(entries) => match BlobRef::of(tree) {
            Some(blob) => drop(refs.insert(blob)),
            None => entries.values().for_each(|inner| collect(inner, refs)),
        },
        // Only a whole field is a blob, and the entries of one stand in maps.
        Tree::List(_) | Tree::Null | Tree::Bool(_) | Tree::Int(_) | Tree::Float(_) | Tree::Text(_) => {}
    }
}

/// Returns how an image writes a value of a field of blobs. The bytes go to the others; no bytes are written as such.
pub(crate) fn blob_tree(value: &Value, blobs: &RefCell<Blobs>) -> Tree {
    match value {
        Value::Bytes(bytes) if !bytes.is_empty() => blobs.borrow_mut().insert(bytes.clone()).tree(),
        value => Tree::of(value),
    }
}

/// All digests that stand in the bytes of an image, whatever else the bytes are worth: a blob that a damaged image may mean is
/// not given up. Digests of other things are among them.
#[doc(hidden)]
pub fn mentioned(bytes: &[u8]) -> BTreeSet<BlobDigest> {
    let runs = bytes.split(|byte| !is_digit(*byte)).filter(|run| run.len() == DIGITS);
    runs.filter_map(|run| std::str::from_utf8(run).ok().and_then(BlobDigest::from_hex)).collect()
}
