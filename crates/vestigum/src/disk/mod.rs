//! What a store needs from a disk, and nothing more.
//!
//! [`RealDisk`] passes everything on to the system. `vestigum-verify` has a disk in memory that can lose power at any
//! operation and come back in every state that the operations before allow: it tries what no test on a real disk can.

mod real;

pub use real::RealDisk;

use std::path::Path;
use std::time::Duration;
use std::{fmt, io};

/// A disk with folders and files. Every operation is one that a system call offers, so that what is promised about the
/// calls can be told apart from what a store makes of them.
///
/// What is written, made, renamed or removed is *seen* at once. It is *durable* only after a sync: of the file for its
/// content, of the folder for its names.
pub trait Disk: fmt::Debug + Send + Sync {
    /// Makes a folder inside one that is there.
    ///
    /// # Errors
    /// What the system says; also if something of that name is there.
    fn make_folder(&self, path: &Path) -> io::Result<()>;

    /// Returns whether there is a folder of that name, also through a link.
    ///
    /// # Errors
    /// What the system says where it cannot tell: a name that is not there is an answer, no error.
    fn is_folder(&self, path: &Path) -> io::Result<bool>;

    /// Tells what has that name; none if nothing has. A link is a link, wherever it leads.
    ///
    /// # Errors
    /// What the system says where it cannot tell: a name that is not there is an answer, no error.
    fn kind(&self, path: &Path) -> io::Result<Option<EntryKind>>;

    /// The names in a folder, in any order. Names that are not Unicode are left out: no store gives such names.
    ///
    /// # Errors
    /// What the system says.
    fn list(&self, folder: &Path) -> io::Result<Vec<String>>;

    /// Reads at most `most` bytes of a regular file. Never waits for anything else that has the
    /// name, and never follows a link.
    ///
    /// # Errors
    /// The error of the system, or that it is not a regular file.
    fn read(&self, path: &Path, most: u64) -> io::Result<Vec<u8>>;

    /// Makes an empty file to write into, under a name that nothing has yet.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::AlreadyExists`] if something of that name is there, a link included.
    fn create_new(&self, path: &Path) -> io::Result<Box<dyn DiskFile>>;

    /// Makes an empty file, or empties the one that is there, to write into. Never follows a link.
    ///
    /// # Errors
    /// What the system says.
    fn create(&self, path: &Path) -> io::Result<Box<dyn DiskFile>>;

    /// Gives a file another name. A file that had that name is replaced.
    ///
    /// # Errors
    /// What the system says.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()>;

    /// Gives a file a name that no file has yet.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::AlreadyExists`] if there is a file of that name.
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()>;

    /// Removes a file.
    ///
    /// # Errors
    /// What the system says.
    fn remove(&self, path: &Path) -> io::Result<()>;

    /// Makes durable which names the folder holds.
    ///
    /// # Errors
    /// What the system says.
    fn sync_folder(&self, path: &Path) -> io::Result<()>;

    /// Takes a lock that other processes respect, through a file of that name that is never removed. Never follows a
    /// link.
    ///
    /// # Errors
    /// What the system says. That somebody else holds it is an answer, no error.
    fn lock(&self, path: &Path) -> io::Result<Lock>;

    /// Returns a text that no other file has, nor a copy of this one elsewhere, and that stays the same while the file is there: what
    /// the disk knows of it besides its content. Empty where nothing of the kind is known.
    ///
    /// # Errors
    /// What the system says.
    fn identity(&self, _path: &Path) -> io::Result<String> {
        Ok(String::new())
    }

    /// Waits before an operation is tried again that failed and may work soon. Left out, the thread sleeps; a disk in memory,
    /// where nothing changes by itself, need not.
    fn pause(&self, how_long: Duration) {
        std::thread::sleep(how_long);
    }
}

/// A file that is being written.
pub trait DiskFile: Send {
    /// Writes at the end.
    ///
    /// # Errors
    /// What the system says; a part may have been written then.
    fn write(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Makes the content durable.
    ///
    /// # Errors
    /// What the system says. The content is lost then, even if a later sync of this file succeeds.
    fn sync(&mut self) -> io::Result<()>;
}

/// Describes what a name in a folder stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum EntryKind {
    /// A regular file, and its length in bytes.
    File(u64),
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// Anything else: a pipe, a socket, a device.
    Other,
}

/// Describes what asking for a lock gave.
pub enum Lock {
    /// It is held until this is dropped.
    Held(Box<dyn HeldLock>),
    /// Somebody else holds it: the process, if it is known.
    Taken(Option<u32>),
}

/// A lock that is held. Dropping it gives it up.
pub trait HeldLock: Send + Sync {
    /// Returns whether it still keeps others out: the file that they would ask for is the locked one. It is not if the file was
    /// removed.
    fn is_in_place(&self) -> bool;
}
