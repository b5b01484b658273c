//! What an image holds, in 32 bytes.
//!
//! The digest is a BLAKE3 hash over a canonical walk of the content: every text with its length, every value with its
//! kind, every map in the order of its names. It does not depend on how the bytes are laid out, nor on the generation
//! or the time; two images with one digest hold the same progress.

use crate::image::seal::SealKey;
use crate::image::{Gone, Image, SavedPlace};
use crate::value::tree::{Tree, Values};
use crate::vocabulary::owner::Owner;

impl Image {
    /// The digest of the content: game, version, owner, place, values and marks. Equal digests mean that there is
    /// nothing to write.
    pub fn digest(&self) -> String {
        let mut walk = Walk(Vec::with_capacity(1024));
        walk.text(&self.game);
        walk.int(self.version);
        match &self.owner {
            Owner::Profile(name) => {
                walk.kind(b'p');
                walk.text(name);
            }
            Owner::Device => walk.kind(b'd'),
        }
        match &self.place {
            SavedPlace::Menu => walk.kind(b'm'),
            SavedPlace::RunOver => walk.kind(b'o'),
            SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } => {
                walk.kind(b'l');
                walk.text(level);
                walk.maybe(checkpoint.as_deref());
                walk.maybe(entered_at.as_deref());
                walk.kind(*resume as u8);
                match gone {
                    None => {}
                    Some(Gone::Level { version }) => {
                        walk.kind(b'L');
                        walk.int(*version);
                    }
                    Some(Gone::Checkpoint { name, version }) => {
                        walk.kind(b'C');
                        walk.text(name);
                        walk.int(*version);
                    }
                }
            }
        }
        walk.len(self.made.len());
        for (set, names) in &self.made {
            walk.text(set);
            walk.len(names.len());
            names.iter().for_each(|name| walk.text(name));
        }
        walk.values(&self.values);
        match &self.marks {
            None => walk.kind(b'-'),
            Some(marks) => {
                walk.kind(b'+');
                walk.values(&marks.entry);
                walk.values(&marks.checkpoint);
            }
        }
        for (version, values) in &self.moved {
            walk.kind(b'>');
            walk.int(*version);
            walk.values(values);
        }
        blake3::hash(&walk.0).to_hex().to_string()
    }

    /// The checksum of the digest, the generation and the time: it tells whether the file is as it was written, and
    /// with a key, whether the game wrote it.
    pub(super) fn check(&self, generation: u64, digest: &str, key: Option<&SealKey>) -> String {
        let mut walk = Walk(Vec::with_capacity(128));
        walk.text("vestigum check");
        walk.int(super::FORMAT);
        walk.text(digest);
        walk.bytes(&generation.to_le_bytes());
        walk.text(&self.saved_at);
        let hash = match key {
            None => blake3::hash(&walk.0),
            Some(key) => blake3::keyed_hash(key.bytes(), &walk.0),
        };
        hash.to_hex().to_string()
    }
}

/// The walk's bytes are gathered before they are hashed: many small updates cost more than the hash itself.
struct Walk(Vec<u8>);

impl Walk {
    fn bytes(&mut self, bytes: &[u8]) {
        self.0.extend_from_slice(bytes);
    }

    fn kind(&mut self, kind: u8) {
        self.bytes(&[kind]);
    }

    fn len(&mut self, len: usize) {
        self.bytes(&(len as u64).to_le_bytes());
    }

    fn int(&mut self, int: i64) {
        self.bytes(&int.to_le_bytes());
    }

    fn text(&mut self, text: &str) {
        self.len(text.len());
        self.bytes(text.as_bytes());
    }

    fn maybe(&mut self, text: Option<&str>) {
        match text {
            None => self.kind(0),
            Some(text) => {
                self.kind(1);
                self.text(text);
            }
        }
    }

    fn values(&mut self, values: &Values) {
        self.len(values.len());
        for (name, tree) in values {
            self.text(name);
            self.tree(tree);
        }
    }

    fn tree(&mut self, tree: &Tree) {
        match tree {
            Tree::Null => self.kind(b'n'),
            Tree::Bool(bool) => self.bytes(&[b'b', u8::from(*bool)]),
            Tree::Int(int) => {
                self.kind(b'i');
                self.int(*int);
            }
            Tree::Float(float) => {
                self.kind(b'f');
                self.bytes(&float.get().to_bits().to_le_bytes());
            }
            Tree::Text(text) => {
                self.kind(b't');
                self.text(text);
            }
            Tree::List(items) => {
                self.kind(b'l');
                self.len(items.len());
                items.iter().for_each(|item| self.tree(item));
            }
            Tree::Map(entries) => {
                self.kind(b'm');
                self.values(entries);
            }
        }
    }
}
