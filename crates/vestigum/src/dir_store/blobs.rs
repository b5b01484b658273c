//! The blobs of a save folder, which all its images share.
//!
//! A commit makes the blobs of its image durable before the image has a name, so no image is ever found without them. What no
//! generation of anybody means any more is removed when there is time, in steps: every generation is read once to see what it
//! means; the folders in which generations were removed are synced, so that a power cut brings none back; and then one blob goes
//! with each step. What a commit on its way needs stays.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use vestigum_core::image::blobs::{BlobDigest, BlobError, BlobRef, Blobs, mentioned};

use super::names::{TEMPORARY, generation_of};
use super::{DirStore, io_error, lock};
use crate::disk::EntryKind;
use crate::store::StoreError;

/// Describes what this process knows of the blobs.
#[derive(Debug)]
pub(super) struct BlobShelf {
    /// Those that were read or written, and are whole.
    whole: BTreeSet<BlobDigest>,
    /// Counts the names that were given in the folder of blobs. They begin with one: a process before may have left names
    /// that were never made durable.
    named: u64,
    /// The count up to which they are durable.
    durable: u64,
    /// Says how many commits on their way need each.
    needed: BTreeMap<BlobDigest, usize>,
    /// Says what each generation mentions, by its folder.
    mentions: BTreeMap<PathBuf, BTreeMap<u64, BTreeSet<BlobDigest>>>,
    /// Says what is left to do of the removal that was begun.
    sweep: Option<Sweep>,
    /// Says how many generations were removed from a folder.
    removed: BTreeMap<PathBuf, u64>,
    /// Says how many of those removals are durable.
    settled: BTreeMap<PathBuf, u64>,
}

/// A removal of the blobs that nothing means, as far as it is.
#[derive(Debug)]
struct Sweep {
    /// Generations that nobody has looked through.
    unread: Vec<(PathBuf, u64)>,
    /// Folders from which a generation may have been removed without that being durable.
    unsettled: Vec<PathBuf>,
    /// The blobs that are there.
    blobs: BTreeSet<BlobDigest>,
    /// Those that go, once it is known.
    going: Option<BTreeSet<BlobDigest>>,
}

/// Describes how a sweep begins.
enum Begun {
    /// There is nothing to remove.
    Nothing,
    /// Leftovers of a crash were removed first.
    Removed,
    Sweep(Sweep),
}

impl Default for BlobShelf {
    fn default() -> BlobShelf {
        BlobShelf {
            whole: BTreeSet::new(),
            named: 1,
            durable: 0,
            needed: BTreeMap::new(),
            mentions: BTreeMap::new(),
            sweep: None,
            removed: BTreeMap::new(),
            settled: BTreeMap::new(),
        }
    }
}

impl BlobShelf {
    fn removed_from(&self, folder: &Path) -> u64 {
        self.removed.get(folder).copied().unwrap_or(0)
    }

    fn is_settled(&self, folder: &Path) -> bool {
        self.settled.get(folder).is_some_and(|settled| *settled == self.removed_from(folder))
    }

    /// A folder from which a generation was removed since that was made durable.
    fn first_unsettled(&self) -> Option<PathBuf> {
        self.removed.keys().find(|folder| !self.is_settled(folder)).cloned()
    }

    /// Returns whether a generation, or a commit on its way, means a blob.
    fn is_mentioned(&self, digest: &BlobDigest) -> bool {
        self.needed.contains_key(digest)
            || self.mentions.values().flat_map(BTreeMap::values).any(|means| means.contains(digest))
    }

    /// Those of some blobs that nothing is known to mean.
    fn unmentioned(&self, mut blobs: BTreeSet<BlobDigest>) -> BTreeSet<BlobDigest> {
        let mentioned = self.mentions.values().flat_map(BTreeMap::values).flatten();
        for digest in mentioned.chain(self.needed.keys()) {
            blobs.remove(digest);
        }
        blobs
    }
}

/// The blobs of an image on its way: none of them is removed until this is dropped.
pub(super) struct NeededBlobs<'a> {
    store: &'a DirStore,
    digests: Vec<BlobDigest>,
}

impl Drop for NeededBlobs<'_> {
    fn drop(&mut self) {
        let mut shelf = lock(&self.store.inner.blobs);
        for digest in &self.digests {
            let count = shelf.needed.get_mut(digest).map(|count| {
                *count -= 1;
                *count
            });
            if count == Some(0) {
                shelf.needed.remove(digest);
            }
        }
    }
}

impl DirStore {
    pub(super) fn blob_folder(&self) -> PathBuf {
        self.inner.root.join("blobs")
    }

    /// Makes blobs durable. Those that are there already are not written again.
    pub(super) fn write_blobs(&self, blobs: &Blobs) -> Result<NeededBlobs<'_>, StoreError> {
        let digests: Vec<BlobDigest> = blobs.iter().map(|(digest, _)| *digest).collect();
        {
            let mut shelf = lock(&self.inner.blobs);
            digests.iter().for_each(|digest| *shelf.needed.entry(*digest).or_default() += 1);
        }
        let needed = NeededBlobs { store: self, digests };
        if needed.digests.is_empty() {
            return Ok(needed);
        }
        let folder = self.blob_folder();
        for (digest, bytes) in blobs.iter() {
            if !self.has_blob(&folder, digest, bytes)? {
                self.settle(&folder).map_err(io_error("make", &folder))?;
                self.write_blob(&folder, digest, bytes)?;
                let mut shelf = lock(&self.inner.blobs);
                shelf.whole.insert(*digest);
                shelf.named += 1;
            }
        }
        let (named, durable) = {
            let shelf = lock(&self.inner.blobs);
            (shelf.named, shelf.durable)
        };
        if durable < named {
            self.sync(&folder)?;
            let mut shelf = lock(&self.inner.blobs);
            shelf.durable = shelf.durable.max(named);
        }
        Ok(needed)
    }

    /// Returns whether a blob is there and whole. Somebody may have removed it since it was seen last, so that it is there is asked
    /// each time; its bytes are read once.
    fn has_blob(&self, folder: &Path, digest: &BlobDigest, bytes: &[u8]) -> Result<bool, StoreError> {
        let path = folder.join(digest.to_string());
        let len = bytes.len() as u64;
        if self.kind_of(folder)? != Some(EntryKind::Folder) || self.kind_of(&path)? != Some(EntryKind::File(len)) {
            return Ok(false);
        }
        let known = lock(&self.inner.blobs).whole.contains(digest);
        // One that cannot be read now is written again: the bytes are here.
        let whole = known || self.inner.disk.read(&path, len + 1).is_ok_and(|found| found == bytes);
        if whole && !known {
            lock(&self.inner.blobs).whole.insert(*digest);
        }
        Ok(whole)
    }

    /// Replaces what lies under the name of a blob: it was found to be something else.
    fn write_blob(&self, folder: &Path, digest: &BlobDigest, bytes: &[u8]) -> Result<(), StoreError> {
        let disk = &*self.inner.disk;
        let target = folder.join(digest.to_string());
        let (temporary, mut file) = self.temporary(folder, &digest.to_string()[..16])?;
        let written = file.write(bytes).map_err(io_error("write", &temporary));
        let written = written.and_then(|()| file.sync().map_err(io_error("sync", &temporary)));
        drop(file);
        let named = written.and_then(|()| disk.rename(&temporary, &target).map_err(io_error("write", &target)));
        if named.is_err() {
            // What cannot be removed now is removed by a later prune.
            let _ = disk.remove(&temporary);
        }
        named
    }

    /// Returns the bytes of a blob. One that cannot be read to its end now is [`BlobError::NotRead`], which is not a loss.
    pub(super) fn find_blob(&self, blob: &BlobRef) -> Result<Arc<[u8]>, BlobError> {
        let disk = &*self.inner.disk;
        let folder = self.blob_folder();
        let path = folder.join(blob.digest.to_string());
        let not_read = |error: io::Error| BlobError::NotRead(error.to_string());
        if disk.kind(&folder).map_err(not_read)? != Some(EntryKind::Folder) {
            return Err(BlobError::Missing);
        }
        match disk.kind(&path).map_err(not_read)? {
            None => return Err(BlobError::Missing),
            Some(EntryKind::File(len)) if len != blob.len => return Err(BlobError::Damaged),
            Some(EntryKind::File(bytes)) if bytes > self.most => {
                return Err(BlobError::TooLarge { most: self.most });
            }
            Some(EntryKind::File(_)) => {}
            Some(EntryKind::Folder | EntryKind::Link | EntryKind::Other) => return Err(BlobError::NoFile),
        }
        let bytes = match disk.read(&path, blob.len + 1) {
            Ok(bytes) if (bytes.len() as u64) < blob.len => {
                return Err(BlobError::NotRead(format!("expected {} bytes, found {}", blob.len, bytes.len())));
            }
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(BlobError::Missing),
            Err(error) => return Err(not_read(error)),
        };
        blob.verify(&bytes)?;
        lock(&self.inner.blobs).whole.insert(blob.digest);
        Ok(bytes.into())
    }

    /// Notes what a generation means that was just written, before its blobs are no longer needed by the commit.
    pub(super) fn note_mentions(&self, folder: &Path, generation: u64, bytes: &[u8], blobs: &Blobs) {
        let mut shelf = lock(&self.inner.blobs);
        // Until blobs are looked through for the first time, only what has some is worth the look.
        if !blobs.is_empty() || !shelf.mentions.is_empty() {
            shelf.mentions.entry(folder.to_path_buf()).or_default().insert(generation, mentioned(bytes));
        }
    }

    /// Removes the file of a generation. What it meant may be given up, but not before the removal is durable.
    pub(super) fn remove_generation(&self, folder: &Path, generation: u64, path: &Path) -> Result<(), StoreError> {
        let mut shelf = lock(&self.inner.blobs);
        *shelf.removed.entry(folder.to_path_buf()).or_default() += 1;
        self.inner.disk.remove(path).map_err(io_error("remove", path))?;
        if let Some(mentions) = shelf.mentions.get_mut(folder) {
            mentions.remove(&generation);
        }
        Ok(())
    }

    /// One step of removing the blobs that nothing means. Says whether there is more to do. A generation that cannot be read
    /// now may mean any of them: then none is removed.
    ///
    /// The folders of all players are listed once for a sweep, and not at each of its steps: there may be thousands.
    pub(super) fn prune_blobs(&self) -> Result<bool, StoreError> {
        let begun = lock(&self.inner.blobs).sweep.take();
        let mut sweep = match begun {
            Some(sweep) => sweep,
            None => match self.begin_sweep()? {
                Begun::Nothing => return Ok(false),
                Begun::Removed => return Ok(true),
                Begun::Sweep(sweep) => sweep,
            },
        };
        // A step that fails ends the sweep: the next one begins anew.
        let more = self.sweep_on(&mut sweep)?;
        if more {
            lock(&self.inner.blobs).sweep = Some(sweep);
        }
        Ok(more)
    }

    fn begin_sweep(&self) -> Result<Begun, StoreError> {
        let folder = self.blob_folder();
        let names = self.names(&folder)?;
        if self.remove_temporary(&folder, &names)? {
            return Ok(Begun::Removed);
        }
        let blobs: BTreeSet<BlobDigest> = names.iter().filter_map(|name| BlobDigest::from_hex(name)).collect();
        if lock(&self.inner.blobs).unmentioned(blobs.clone()).is_empty() {
            return Ok(Begun::Nothing);
        }
        let owners = self.owner_folders()?;
        let unread = self.unread(&owners)?;
        let shelf = lock(&self.inner.blobs);
        let unsettled = owners.into_iter().filter(|folder| !shelf.is_settled(folder)).collect();
        Ok(Begun::Sweep(Sweep { unread, unsettled, blobs, going: None }))
    }

    /// Reads one generation, syncs one folder, or removes one blob.
    fn sweep_on(&self, sweep: &mut Sweep) -> Result<bool, StoreError> {
        if let Some((folder, generation)) = sweep.unread.pop() {
            return Ok(self.look_for_mentions(&folder, generation));
        }
        if let Some(folder) = sweep.unsettled.pop() {
            let removed = lock(&self.inner.blobs).removed_from(&folder);
            self.sync(&folder)?;
            lock(&self.inner.blobs).settled.insert(folder, removed);
            return Ok(true);
        }
        // Looked at under the lock: commits and prunes of other owners go on.
        let mut shelf = lock(&self.inner.blobs);
        if sweep.going.is_none() {
            sweep.going = Some(shelf.unmentioned(std::mem::take(&mut sweep.blobs)));
        }
        // Removals since are durable before what they meant goes.
        if let Some(folder) = shelf.first_unsettled() {
            sweep.unsettled.push(folder);
            return Ok(true);
        }
        let Some(digest) = sweep.going.as_mut().and_then(BTreeSet::pop_first) else { return Ok(false) };
        if shelf.is_mentioned(&digest) {
            return Ok(true);
        }
        let path = self.blob_folder().join(digest.to_string());
        shelf.whole.remove(&digest);
        // What is not a file was not written by this store, and removing it would fail for ever.
        if matches!(self.kind_of(&path)?, Some(EntryKind::File(_))) {
            self.inner.disk.remove(&path).map_err(io_error("remove", &path))?;
        }
        Ok(true)
    }

    /// Removes one file that a crash has left half written, unless somebody writes just now.
    fn remove_temporary(&self, folder: &Path, names: &[String]) -> Result<bool, StoreError> {
        let disk = &*self.inner.disk;
        let shelf = lock(&self.inner.blobs);
        let mut left = names.iter().filter(|name| name.starts_with(TEMPORARY)).map(|name| folder.join(name));
        let left = left.find(|path| matches!(disk.kind(path), Ok(Some(EntryKind::File(_) | EntryKind::Link))));
        let Some(path) = left.filter(|_| shelf.needed.is_empty()) else { return Ok(false) };
        disk.remove(&path).map_err(io_error("remove", &path))?;
        Ok(true)
    }

    /// The folders that have generations, whoever they belong to.
    fn owner_folders(&self) -> Result<Vec<PathBuf>, StoreError> {
        let profiles = self.profiles();
        let mut folders = vec![self.inner.root.join("device")];
        folders.extend(self.names(&profiles)?.iter().map(|name| profiles.join(name)));
        let mut there = Vec::with_capacity(folders.len());
        for folder in folders {
            if self.kind_of(&folder)? == Some(EntryKind::Folder) {
                there.push(folder);
            }
        }
        Ok(there)
    }

    /// Lists the generations in some folders that could not be read: what they mention is not known.
    fn unread(&self, folders: &[PathBuf]) -> Result<Vec<(PathBuf, u64)>, StoreError> {
        let mut unread = Vec::new();
        for folder in folders {
            let names = self.names(folder)?;
            let shelf = lock(&self.inner.blobs);
            let known = shelf.mentions.get(folder);
            let generations = names.iter().filter_map(|name| generation_of(name));
            let generations =
                generations.filter(|generation| known.is_none_or(|known| !known.contains_key(generation)));
            unread.extend(generations.map(|generation| (folder.clone(), generation)));
        }
        Ok(unread)
    }

    /// Reads what a generation mentions, whole or not. Answers whether it could be read.
    fn look_for_mentions(&self, folder: &Path, generation: u64) -> bool {
        let path = folder.join(format!("{generation}.json"));
        let Some(mentions) = self.mentions_of(&path) else { return false };
        lock(&self.inner.blobs).mentions.entry(folder.to_path_buf()).or_default().insert(generation, mentions);
        true
    }

    fn mentions_of(&self, path: &Path) -> Option<BTreeSet<BlobDigest>> {
        let Some(EntryKind::File(len)) = self.inner.disk.kind(path).ok()? else { return Some(BTreeSet::new()) };
        if len > self.most {
            return None;
        }
        match self.inner.disk.read(path, self.most + 1) {
            Ok(bytes) if bytes.len() as u64 == len => Some(mentioned(&bytes)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Some(BTreeSet::new()),
            Ok(_) | Err(_) => None,
        }
    }

    /// The sizes of the blobs that nothing would mean if these files were not there.
    pub(super) fn blobs_without(&self, without: &BTreeSet<PathBuf>) -> Result<Vec<u64>, StoreError> {
        let folder = self.blob_folder();
        let names = self.names(&folder)?;
        let mut blobs: BTreeSet<BlobDigest> = names.iter().filter_map(|name| BlobDigest::from_hex(name)).collect();
        for owner in self.owner_folders()? {
            for generation in self.names(&owner)?.iter().filter_map(|name| generation_of(name)) {
                let path = owner.join(format!("{generation}.json"));
                if blobs.is_empty() || without.contains(&path) {
                    continue;
                }
                let Some(mentions) = self.mentions_of(&path) else { return Ok(Vec::new()) };
                blobs.retain(|digest| !mentions.contains(digest));
            }
        }
        let mut sizes = Vec::with_capacity(blobs.len());
        for digest in &blobs {
            if let Some(EntryKind::File(len)) = self.kind_of(&folder.join(digest.to_string()))? {
                sizes.push(len);
            }
        }
        Ok(sizes)
    }
}
