//! The disk of this machine.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::{Disk, DiskFile, EntryKind, HeldLock, Lock};

/// The disk of this machine. Every operation is one or two system calls.
#[derive(Clone, Copy, Debug, Default)]
pub struct RealDisk;

impl Disk for RealDisk {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        fs::create_dir(path)
    }

    fn is_folder(&self, path: &Path) -> io::Result<bool> {
        Ok(there(fs::metadata(path))?.is_some_and(|metadata| metadata.is_dir()))
    }

    fn kind(&self, path: &Path) -> io::Result<Option<EntryKind>> {
        let Some(metadata) = there(fs::symlink_metadata(path))? else { return Ok(None) };
        let kind = metadata.file_type();
        Ok(Some(if kind.is_symlink() {
            EntryKind::Link
        } else if kind.is_dir() {
            EntryKind::Folder
        } else if kind.is_file() {
            EntryKind::File(metadata.len())
        } else {
            EntryKind::Other
        }))
    }

    fn list(&self, folder: &Path) -> io::Result<Vec<String>> {
        let names = fs::read_dir(folder)?.map(|entry| Ok(entry?.file_name().into_string().ok()));
        names.filter_map(io::Result::transpose).collect()
    }

    fn read(&self, path: &Path, most: u64) -> io::Result<Vec<u8>> {
        let file = open(path, OpenOptions::new().read(true))?;
        let metadata = file.metadata()?;
        if !metadata.is_file() {
            return Err(io::Error::other("it is not a regular file"));
        }
        let mut bytes = Vec::with_capacity(usize::try_from(metadata.len().min(most)).unwrap_or_default());
        file.take(most).read_to_end(&mut bytes)?;
        Ok(bytes)
    }

    fn create_new(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let file = OpenOptions::new().write(true).create_new(true).open(path)?;
        Ok(Box::new(file))
    }

    fn create(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let file = open(path, OpenOptions::new().write(true).create(true).truncate(true))?;
        Ok(Box::new(file))
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        // A second name, and then the first one goes: a name that is taken is never replaced.
        match fs::hard_link(from, to) {
            Ok(()) => fs::remove_file(from),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(error),
            // Some file systems give a file one name only. Processes that respect the lock do not meet here.
            Err(_) if self.kind(to)?.is_none() => fs::rename(from, to),
            Err(_) => Err(io::ErrorKind::AlreadyExists.into()),
        }
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }

    /// The number of the file, when it was made, and the machine. The number of the device is left out: it may be another one after
    /// each start.
    fn identity(&self, path: &Path) -> io::Result<String> {
        let metadata = fs::symlink_metadata(path)?;
        let made = metadata.created().ok().and_then(|made| made.duration_since(SystemTime::UNIX_EPOCH).ok());
        let machine = fs::read_to_string("/etc/machine-id").unwrap_or_default();
        Ok(format!("{} {:?} {}", number_of(&metadata), made, machine.trim()))
    }

    /// Systems that cannot sync a folder make renames durable by themselves.
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        if cfg!(unix) { File::open(path)?.sync_all() } else { Ok(()) }
    }

    fn lock(&self, path: &Path) -> io::Result<Lock> {
        let mut file = open(path, OpenOptions::new().read(true).write(true).create(true).truncate(false))?;
        if !file.metadata()?.is_file() {
            return Err(io::Error::other("it is not a regular file"));
        }
        match file.try_lock() {
            Ok(()) => {
                // The number only helps a message, so failing to write it stops nothing. It is as wide as any, because a file
                // that was emptied is written to the disk before the system goes on: a millisecond at every launch. A file that
                // has another name elsewhere is somebody's, and is not written into.
                if !has_other_names(&file.metadata()?) {
                    let _ = write!(file, "{:<10}", std::process::id());
                }
                Ok(Lock::Held(Box::new(RealLock { file, path: path.to_path_buf() })))
            }
            Err(TryLockError::WouldBlock) => {
                let mut text = String::new();
                // Whatever somebody has put there, a number is no longer.
                let _ = file.rewind().and_then(|()| (&file).take(LONGEST_NUMBER).read_to_string(&mut text).map(drop));
                Ok(Lock::Taken(text.trim().parse().ok()))
            }
            Err(TryLockError::Error(error)) => Err(error),
        }
    }
}

#[cfg(unix)]
fn number_of(metadata: &fs::Metadata) -> u64 {
    std::os::unix::fs::MetadataExt::ino(metadata)
}

#[cfg(not(unix))]
fn number_of(_: &fs::Metadata) -> u64 {
    0
}

/// Returns what the system says of a name, or none if nothing has it. A name below a file has nothing, either.
fn there(found: io::Result<fs::Metadata>) -> io::Result<Option<fs::Metadata>> {
    match found {
        Ok(metadata) => Ok(Some(metadata)),
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Opens what is to be a regular file below a save folder. A link is not followed, and a pipe is not waited for: a save
/// folder may come from somebody else.
fn open(path: &Path, options: &mut OpenOptions) -> io::Result<File> {
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::custom_flags(options, libc::O_NOFOLLOW | libc::O_NONBLOCK);
    #[cfg(not(unix))]
    if fs::symlink_metadata(path).is_ok_and(|metadata| metadata.file_type().is_symlink()) {
        return Err(is_a_link());
    }
    options.open(path).map_err(|error| if is_loop(&error) { is_a_link() } else { error })
}

/// Says how many characters of a lock file are read as the number of a process.
const LONGEST_NUMBER: u64 = 20;

fn is_a_link() -> io::Error {
    io::Error::other("it is a link, and links below a save folder are not followed")
}

/// Returns whether the system refused to follow a link.
fn is_loop(error: &io::Error) -> bool {
    cfg!(unix) && error.raw_os_error() == Some(libc::ELOOP)
}

/// Returns whether a file has more than one name.
fn has_other_names(metadata: &fs::Metadata) -> bool {
    #[cfg(unix)]
    {
        std::os::unix::fs::MetadataExt::nlink(metadata) > 1
    }
    #[cfg(not(unix))]
    {
        let _ = metadata;
        false
    }
}

struct RealLock {
    file: File,
    path: PathBuf,
}

impl HeldLock for RealLock {
    fn is_in_place(&self) -> bool {
        #[cfg(unix)]
        {
            use std::os::unix::fs::MetadataExt;
            let (Ok(held), Ok(there)) = (self.file.metadata(), fs::symlink_metadata(&self.path)) else { return false };
            (held.dev(), held.ino()) == (there.dev(), there.ino())
        }
        #[cfg(not(unix))]
        {
            self.file.metadata().is_ok() && self.path.is_file()
        }
    }
}

impl DiskFile for File {
    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.write_all(bytes)
    }

    fn sync(&mut self) -> io::Result<()> {
        self.sync_all()
    }
}
