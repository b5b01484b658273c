//! The disk of this machine.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::Path;

use super::{Disk, DiskFile, Lock};

/// The disk of this machine. Every operation is one or two system calls.
#[derive(Clone, Copy, Debug, Default)]
pub struct RealDisk;

impl Disk for RealDisk {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        fs::create_dir(path)
    }

    fn is_folder(&self, path: &Path) -> bool {
        path.is_dir()
    }

    fn list(&self, folder: &Path) -> io::Result<Vec<String>> {
        let names = fs::read_dir(folder)?.map(|entry| Ok(entry?.file_name().into_string().ok()));
        names.filter_map(io::Result::transpose).collect()
    }

    fn read(&self, path: &Path, most: u64) -> io::Result<Vec<u8>> {
        let file = File::open(path)?;
        let len = file.metadata()?.len().min(most);
        let mut bytes = Vec::with_capacity(usize::try_from(len).unwrap_or_default());
        file.take(most).read_to_end(&mut bytes)?;
        Ok(bytes)
    }

    fn create(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        File::create(path).map(|file| Box::new(file) as Box<dyn DiskFile>)
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        let file = tempfile::TempPath::try_from_path(from)?;
        file.persist_noclobber(to).map_err(|failed| {
            // Only whoever made the file removes it.
            let _ = failed.path.keep();
            failed.error
        })
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }

    /// Systems that cannot sync a folder make renames durable by themselves.
    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        if cfg!(unix) { File::open(path)?.sync_all() } else { Ok(()) }
    }

    fn lock(&self, path: &Path) -> io::Result<Lock> {
        let mut file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path)?;
        match file.try_lock() {
            Ok(()) => {
                // The number only helps a message, so failing to write it stops nothing.
                let _ = file.set_len(0).and_then(|()| write!(file, "{}", std::process::id()));
                Ok(Lock::Held(Box::new(file)))
            }
            Err(TryLockError::WouldBlock) => {
                let mut text = String::new();
                let _ = file.rewind().and_then(|()| file.read_to_string(&mut text).map(drop));
                Ok(Lock::Taken(text.trim().parse().ok()))
            }
            Err(TryLockError::Error(error)) => Err(error),
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
