//! What lies in a save folder and is not ours.

use std::path::PathBuf;

use vestigum_core::image::blobs::BlobDigest;
use vestigum_core::{Image, Owner};

use super::DirStore;
use super::names::{TEMPORARY, folder_name, generation_of, is_hashed, profile_of};
use crate::disk::EntryKind;
use crate::store::StoreError;

/// Something in a save folder that is not of this store: it is left alone, and never counted.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Stray {
    /// Where it is.
    pub path: PathBuf,
    /// Why it is passed over, in words.
    pub why: &'static str,
}

impl DirStore {
    /// What lies in the save folder and is passed over: names that this store does not give, links, folders that do not
    /// say whose they are.
    ///
    /// # Errors
    /// If the save folder cannot be read.
    pub fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        let mut strays = Vec::new();
        self.strays_of(&Owner::Device, &mut strays);
        let profiles = self.profiles();
        let Ok(names) = self.names(&profiles) else {
            strays.push(Stray { path: profiles, why: "it is no folder that can be read" });
            return Ok(strays);
        };
        for name in names {
            let path = profiles.join(&name);
            match self.profile_in(&name) {
                Some(profile) => self.strays_of(&Owner::Profile(profile), &mut strays),
                None => {
                    let why = match self.inner.disk.kind(&path) {
                        Some(EntryKind::Folder) if is_hashed(&name) => "no image in it says whose folder it is",
                        Some(EntryKind::Folder) => "it is named as no profile's folder is",
                        Some(EntryKind::Link) => "it is a link, and links are not followed",
                        Some(EntryKind::File(_) | EntryKind::Other) | None => "it is no folder",
                    };
                    strays.push(Stray { path, why });
                }
            }
        }
        let blobs = self.blob_folder();
        for name in self.names(&blobs).unwrap_or_default() {
            if BlobDigest::from_hex(&name).is_none() && !name.starts_with(TEMPORARY) {
                strays.push(Stray { path: blobs.join(name), why: "it is no blob" });
            }
        }
        strays.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(strays)
    }

    fn strays_of(&self, owner: &Owner, strays: &mut Vec<Stray>) {
        let Ok(folder) = self.folder(owner) else { return };
        let Ok(names) = self.names(&folder) else {
            strays.push(Stray { path: folder, why: "it is no folder that can be read" });
            return;
        };
        // A file that is numbered as a generation is none of these: where it cannot be read it is damaged.
        for name in names.into_iter().filter(|name| generation_of(name).is_none() && !name.starts_with(TEMPORARY)) {
            let json = name.strip_suffix(".json").is_some_and(|digits| digits.bytes().all(|b| b.is_ascii_digit()));
            let why = if json { "this store gives no such number" } else { "it is no save" };
            strays.push(Stray { path: folder.join(name), why });
        }
    }

    /// The profile of a folder, by its name or, where that is a hash, by what is inside.
    pub(super) fn profile_in(&self, folder: &str) -> Option<String> {
        let path = self.profiles().join(folder);
        if self.inner.disk.kind(&path) != Some(EntryKind::Folder) {
            return None;
        }
        if !is_hashed(folder) {
            return profile_of(folder);
        }
        let names = self.names(&path).ok()?;
        let mut files: Vec<u64> = names.iter().filter_map(|name| generation_of(name)).collect();
        files.sort_unstable();
        // Only the name is taken from it, and the folder vouches for that: reading the saves verifies them.
        let named = |generation: &u64| {
            let bytes = self.inner.disk.read(&path.join(format!("{generation}.json")), self.most).ok()?;
            match Image::decode_unverified(&bytes).ok()?.owner {
                Owner::Profile(name) if folder_name(&name).is_ok_and(|made| made == folder) => Some(name),
                Owner::Profile(_) | Owner::Device => None,
            }
        };
        files.iter().rev().find_map(named)
    }
}
