//! What lies in a save folder and is not ours.

use std::path::PathBuf;

use vestigum_core::image::blobs::BlobDigest;
use vestigum_core::{Image, Owner};

use super::folders::is_in_the_way;
use super::line::is_of_line;
use super::names::{TEMPORARY, folder_name, generation_of, is_hashed, profile_of};
use super::{DirStore, io_error};
use crate::disk::EntryKind;
use crate::store::StoreError;

/// Something in a save folder that is not of this store, or that nobody can tell: it is left alone, and never counted.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Stray {
    /// Says where it is.
    pub path: PathBuf,
    /// Says why it is passed over, in words.
    pub why: String,
    /// Whether it may hold saves: it could not be read now, so nobody has looked at what is in it.
    pub unread: bool,
}

impl Stray {
    /// Returns something that is not of a store: where it is, and why it is passed over.
    pub fn new(path: impl Into<PathBuf>, why: &str) -> Stray {
        Stray { path: path.into(), why: why.to_owned(), unread: false }
    }

    fn unread(path: PathBuf, error: &StoreError) -> Stray {
        Stray { path, why: error.to_string(), unread: true }
    }
}

/// Whose folder one below `profiles` is.
pub(super) enum FolderOf {
    Profile(String),
    /// Of no player, and why.
    Nobody(&'static str),
    /// Named by a hash, and the saves that would tell whose it is could not be read now.
    Unread(StoreError),
}

impl DirStore {
    /// Returns what lies in the save folder and is passed over: names that this store does not give, links, folders that do not
    /// say whose they are, and folders that could not be read.
    ///
    /// # Errors
    /// If the save folder itself cannot be read.
    pub fn strays(&self) -> Result<Vec<Stray>, StoreError> {
        let mut strays = Vec::new();
        self.strays_of(&Owner::Device, &mut strays)?;
        let profiles = self.profiles();
        match self.names(&profiles) {
            Err(StoreError::Io { cause, .. }) if is_in_the_way(&cause) => {
                strays.push(Stray::new(profiles, &cause.to_string()));
            }
            names => {
                for name in names? {
                    let path = profiles.join(&name);
                    match self.folder_of(&name) {
                        FolderOf::Profile(profile) => self.strays_of(&Owner::Profile(profile), &mut strays)?,
                        FolderOf::Nobody(why) => strays.push(Stray::new(path, why)),
                        FolderOf::Unread(error) => strays.push(Stray::unread(path, &error)),
                    }
                }
            }
        }
        let blobs = self.blob_folder();
        match self.names(&blobs) {
            Err(StoreError::Io { cause, .. }) if is_in_the_way(&cause) => {
                strays.push(Stray::new(blobs, &cause.to_string()));
            }
            Err(error) => strays.push(Stray::unread(blobs, &error)),
            Ok(names) => {
                for name in names {
                    if BlobDigest::from_hex(&name).is_none() && !name.starts_with(TEMPORARY) {
                        strays.push(Stray::new(blobs.join(name), "it is not a blob"));
                    }
                }
            }
        }
        strays.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(strays)
    }

    fn strays_of(&self, owner: &Owner, strays: &mut Vec<Stray>) -> Result<(), StoreError> {
        let folder = self.folder(owner)?;
        let names = match self.names(&folder) {
            Ok(names) => names,
            Err(StoreError::Io { cause, .. }) if is_in_the_way(&cause) => {
                strays.push(Stray::new(folder, &cause.to_string()));
                return Ok(());
            }
            // Listing the owner's generations tells it, with the owner's name.
            Err(_) => return Ok(()),
        };
        // A file that is numbered as a generation is not a stray: where it cannot be read it is damaged.
        let is_known = |name: &String| generation_of(name).is_some() || name.starts_with(TEMPORARY) || is_of_line(name);
        for name in names.into_iter().filter(|name| !is_known(name)) {
            let json = name.strip_suffix(".json").is_some_and(|digits| digits.bytes().all(|b| b.is_ascii_digit()));
            let why = if json { "this store gives no such number" } else { "it is not a save" };
            strays.push(Stray::new(folder.join(name), why));
        }
        Ok(())
    }

    /// Tells whose a folder is, by its name or, where that is a hash, by what is inside.
    pub(super) fn folder_of(&self, folder: &str) -> FolderOf {
        let path = self.profiles().join(folder);
        match self.kind_of(&path) {
            Ok(Some(EntryKind::Folder)) => {}
            Ok(Some(EntryKind::Link)) => return FolderOf::Nobody("it is a link, and links are not followed"),
            Ok(Some(EntryKind::File(_) | EntryKind::Other) | None) => return FolderOf::Nobody("it is not a folder"),
            // The name tells whose it is all the same.
            Err(_) if !is_hashed(folder) => {}
            Err(error) => return FolderOf::Unread(error),
        }
        if !is_hashed(folder) {
            return match profile_of(folder) {
                Some(profile) => FolderOf::Profile(profile),
                None => FolderOf::Nobody("it is named as no profile's folder is"),
            };
        }
        let mut files: Vec<u64> = match self.names(&path) {
            Ok(names) => names.iter().filter_map(|name| generation_of(name)).collect(),
            Err(error) => return FolderOf::Unread(error),
        };
        files.sort_unstable();
        // Only the name is taken from it, and the folder vouches for that: reading the saves verifies them.
        let mut unread = None;
        for generation in files.iter().rev() {
            let file = path.join(format!("{generation}.json"));
            match self.inner.disk.read(&file, self.most) {
                Ok(bytes) => match Image::decode_unverified(&bytes).map(|image| image.owner) {
                    Ok(Owner::Profile(name)) if folder_name(&name).is_ok_and(|made| made == folder) => {
                        return FolderOf::Profile(name);
                    }
                    Ok(Owner::Profile(_) | Owner::Device) | Err(_) => {}
                },
                Err(error) => unread = Some(io_error("read", &file)(error)),
            }
        }
        match unread {
            Some(error) => FolderOf::Unread(error),
            None => FolderOf::Nobody("no image in it says whose folder it is"),
        }
    }
}
