//! Images as files in a folder.
//!
//! ```text
//! saves/
//!   .lock                    held while a process uses the folder
//!   device/7.json            the device's progress
//!   profiles/ada/41.json     one player's progress, newest generation
//!   profiles/ada/40.json     the one before
//! ```
//!
//! A commit writes a temporary file beside the others, syncs it, renames it to a *new* number and syncs the folder. So a
//! power cut leaves the old generations as they were and the new one either whole or not there.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use tempfile::Builder;
use vestigum_core::{Image, Owner};

use crate::store::{Committed, Store, StoreError};

/// The default store: one folder for each profile, one file for each generation.
#[derive(Clone, Debug)]
pub struct DirStore {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    root: PathBuf,
    /// Held as long as the store lives. The file is never removed: whoever opened it before would hold a lock on
    /// nothing.
    _lock: File,
    /// The newest generation of each owner and its digest, so that an unchanged save reads no file.
    newest: Mutex<BTreeMap<Owner, (u64, String)>>,
}

impl DirStore {
    /// Opens a save folder and makes it if it is not there.
    ///
    /// # Errors
    /// If another process uses it, or it cannot be made or written.
    pub fn open(root: impl AsRef<Path>) -> Result<DirStore, StoreError> {
        let root = root.as_ref().to_path_buf();
        fs::create_dir_all(&root).map_err(io_error("make the save folder", &root))?;
        let lock = lock(&root)?;
        Ok(DirStore { inner: Arc::new(Inner { root, _lock: lock, newest: Mutex::default() }) })
    }

    /// The folder.
    pub fn root(&self) -> &Path {
        &self.inner.root
    }

    /// The folder of one owner's generations.
    ///
    /// # Errors
    /// If a profile's name is empty or too long.
    pub fn folder(&self, owner: &Owner) -> Result<PathBuf, StoreError> {
        Ok(match owner {
            Owner::Device => self.inner.root.join("device"),
            Owner::Profile(name) => self.inner.root.join("profiles").join(folder_name(name)?),
        })
    }

    fn newest(&self, owner: &Owner) -> Option<(u64, String)> {
        let newest = self.inner.newest.lock().unwrap_or_else(PoisonError::into_inner);
        newest.get(owner).cloned()
    }

    fn note_newest(&self, owner: &Owner, generation: u64, digest: String) {
        let mut newest = self.inner.newest.lock().unwrap_or_else(PoisonError::into_inner);
        newest.insert(owner.clone(), (generation, digest));
    }

    fn write(&self, folder: &Path, generation: u64, bytes: &[u8]) -> Result<(), StoreError> {
        if !folder.is_dir() {
            make_folder(folder, &self.inner.root)?;
        }
        let target = folder.join(format!("{generation}.json"));
        let mut file = temporary().tempfile_in(folder).map_err(io_error("write into", folder))?;
        file.write_all(bytes).map_err(io_error("write", file.path()))?;
        file.as_file().sync_all().map_err(io_error("sync", file.path()))?;
        file.persist_noclobber(&target).map_err(|error| io_error("write", &target)(error.error))?;
        sync_folder(folder)
    }
}

impl Store for DirStore {
    fn owners(&self) -> Result<Vec<Owner>, StoreError> {
        let mut owners = Vec::new();
        if !self.generations(&Owner::Device)?.is_empty() {
            owners.push(Owner::Device);
        }
        let profiles = self.inner.root.join("profiles");
        let entries = match fs::read_dir(&profiles) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(owners),
            Err(error) => return Err(io_error("read", &profiles)(error)),
        };
        for entry in entries {
            let name = entry.map_err(io_error("read", &profiles))?.file_name();
            owners.extend(name.to_str().and_then(profile_of).map(Owner::Profile));
        }
        owners.sort();
        Ok(owners)
    }

    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError> {
        let folder = self.folder(owner)?;
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(io_error("read", &folder)(error)),
        };
        let mut generations = Vec::new();
        for entry in entries {
            let name = entry.map_err(io_error("read", &folder))?.file_name();
            generations.extend(name.to_str().and_then(generation_of));
        }
        generations.sort_unstable();
        Ok(generations)
    }

    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError> {
        let path = self.folder(owner)?.join(format!("{generation}.json"));
        let bytes = match fs::read(&path) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(StoreError::NoGeneration { owner: owner.clone(), generation });
            }
            Err(error) => return Err(io_error("read", &path)(error)),
        };
        let image = Image::from_json(&bytes);
        image.map_err(|damaged| StoreError::Damaged { owner: owner.clone(), generation, damaged })
    }

    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError> {
        let owner = &image.owner;
        let digest = image.digest();
        let (number, same) = match self.newest(owner) {
            // The lock keeps others out, so what this process wrote last is the newest.
            Some((generation, newest)) => (generation, newest == digest),
            None => {
                let number = self.generations(owner)?.last().copied().unwrap_or(0);
                (number, number > 0 && self.read(owner, number).is_ok_and(|newest| newest.digest() == digest))
            }
        };
        if same {
            self.note_newest(owner, number, digest);
            return Ok(Committed { generation: number, written: false });
        }
        if number != follows {
            return Err(StoreError::Conflict { owner: owner.clone(), newest: number, follows });
        }
        let generation = number + 1;
        let bytes = Image { generation, ..image.clone() }.to_json();
        self.write(&self.folder(owner)?, generation, &bytes)?;
        self.note_newest(owner, generation, digest);
        Ok(Committed { generation, written: true })
    }

    fn prune(&self, owner: &Owner, keep: u32) -> Result<usize, StoreError> {
        let folder = self.folder(owner)?;
        let (mut whole, mut removed) = (0, 0);
        for generation in self.generations(owner)?.into_iter().rev() {
            if self.read(owner, generation).is_err() {
                continue;
            }
            whole += 1;
            if whole > keep.max(1) {
                let path = folder.join(format!("{generation}.json"));
                fs::remove_file(&path).map_err(io_error("remove", &path))?;
                removed += 1;
            }
        }
        Ok(removed)
    }
}

fn generation_of(name: &str) -> Option<u64> {
    let digits = name.strip_suffix(".json")?;
    let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) && !digits.starts_with('0');
    digits.parse().ok().filter(|_| plain)
}

/// A profile's name as a file name: lower-case letters, digits, `-` and `_` stand for themselves, every other byte is
/// written as `%` and two hex digits. So no name leaves the folder, and no two names meet on a file system that
/// does not tell upper from lower case.
fn folder_name(name: &str) -> Result<String, StoreError> {
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::BadProfile { name: name.chars().take(80).collect() });
    }
    let mut out = String::new();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' => out.push(char::from(byte)),
            other => out.push_str(&format!("%{other:02x}")),
        }
    }
    Ok(out)
}

/// The profile whose folder has that name.
fn profile_of(folder: &str) -> Option<String> {
    let mut bytes = Vec::new();
    let mut rest = folder.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            plain => plain,
        });
    }
    String::from_utf8(bytes).ok().filter(|name| folder_name(name).is_ok_and(|made| made == folder))
}

fn io_error(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.to_path_buf();
    move |source| StoreError::Io { action, path, source }
}

/// Locks the folder for this process and writes its number into the lock file, for the message that others get.
fn lock(root: &Path) -> Result<File, StoreError> {
    let path = root.join(".lock");
    let open = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path);
    let mut file = open.map_err(io_error("lock the save folder with", &path))?;
    match file.try_lock() {
        Ok(()) => {
            // The number only helps a message, so failing to write it stops nothing.
            let _ = file.set_len(0).and_then(|()| write!(file, "{}", std::process::id()));
            Ok(file)
        }
        Err(fs::TryLockError::WouldBlock) => {
            let mut text = String::new();
            let _ = file.rewind().and_then(|()| file.read_to_string(&mut text).map(drop));
            Err(StoreError::InUse { path: root.to_path_buf(), holder: text.trim().parse().ok() })
        }
        Err(fs::TryLockError::Error(error)) => Err(io_error("lock the save folder with", &path)(error)),
    }
}

/// Makes a folder and syncs every folder above it up to the root, so that the folder itself survives a power cut.
fn make_folder(folder: &Path, root: &Path) -> Result<(), StoreError> {
    fs::create_dir_all(folder).map_err(io_error("make", folder))?;
    for above in folder.ancestors().skip(1).take_while(|above| above.starts_with(root)) {
        sync_folder(above)?;
    }
    Ok(())
}

/// A rename is durable when its folder is synced. Systems that cannot sync a folder make renames durable by themselves.
fn sync_folder(folder: &Path) -> Result<(), StoreError> {
    if cfg!(unix) {
        File::open(folder).and_then(|file| file.sync_all()).map_err(io_error("sync", folder))?;
    }
    Ok(())
}

/// Temporary files are made for their owner's eyes only; a save is an ordinary file.
#[cfg(unix)]
fn temporary() -> Builder<'static, 'static> {
    use std::os::unix::fs::PermissionsExt;
    let mut builder = Builder::new();
    builder.prefix(".saving-").permissions(fs::Permissions::from_mode(0o644));
    builder
}

#[cfg(not(unix))]
fn temporary() -> Builder<'static, 'static> {
    let mut builder = Builder::new();
    builder.prefix(".saving-");
    builder
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_never_leave_the_folder() {
        assert_eq!(folder_name("ada_2").unwrap(), "ada_2");
        assert_eq!(folder_name("../Ada").unwrap(), "%2e%2e%2f%41da");
        assert!(folder_name("").is_err());
        for name in ["ada_2", "../Ada", "ü %"] {
            assert_eq!(profile_of(&folder_name(name).unwrap()).as_deref(), Some(name));
        }
        assert_eq!(profile_of("Ada"), None);
        assert_eq!(generation_of("12.json"), Some(12));
        assert_eq!(generation_of("012.json"), None);
        assert_eq!(generation_of(".saving-1.json"), None);
    }
}
