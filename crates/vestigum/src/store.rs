//! One trait for where images live.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use vestigum_core::image::json::ImageError;
use vestigum_core::image::seal::SealKey;
use vestigum_core::{EncodedImage, Image, Owner};

/// A place where images live, each owner's in generations.
///
/// Sessions reach a store through a [`Saver`](crate::Saver), which ties those of one process together.
pub trait Store: Send + Sync {
    /// Everyone who has saves here.
    ///
    /// # Errors
    /// If the place cannot be read.
    fn owners(&self) -> Result<Vec<Owner>, StoreError>;

    /// The numbers of all generations of an owner, the oldest first. Damaged ones count too.
    ///
    /// # Errors
    /// If the place cannot be read.
    fn generations(&self, owner: &Owner) -> Result<Vec<u64>, StoreError>;

    /// Reads and verifies one generation, and looks up its blobs with [`Image::find_blobs`]. One that is gone or damaged is no
    /// error: loading reports it.
    ///
    /// # Errors
    /// If there is none of that number, it is damaged, or the place cannot be read. A launch passes over what is
    /// [damaged](StoreError::Damaged) and takes the save before it; any other error refuses the launch, so an error of a
    /// place that may answer later must not be told as damage.
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError>;

    /// Writes a new generation: atomic, and durable when it returns. Its [blobs](Image::blobs) are durable before it is. The
    /// image gets the next number. `follows` is the newest generation that the caller knows, 0 if there is none. An image
    /// that holds the same progress as the newest generation is not written again. Where it is not known whether it was
    /// written, an error that [may pass](StoreError::may_pass) is right: the saver looks before it writes again.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] if another generation was written meanwhile, or what went wrong with the place. The
    /// older generations are as they were.
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError>;

    /// The same for an image that is encoded already: what savers write. A store that keeps the bytes as they are writes them
    /// without reading them first.
    ///
    /// # Errors
    /// As [`Store::commit`].
    fn commit_encoded(&self, follows: u64, image: &EncodedImage) -> Result<Committed, StoreError> {
        let owner = image.owner().clone();
        let read = Image::from_json(&image.bytes(0, None));
        let read = read.map_err(|damaged| StoreError::Damaged { owner, generation: 0, damaged })?;
        self.commit(follows, &Image { blobs: image.blobs().clone(), ..read })
    }

    /// Removes old generations, but never the newest `keep` of those known to be whole, and never a damaged one; and blobs that
    /// no generation of any owner means any more. Does no
    /// more at a time than others can wait for (reads or removes one file), and says whether there is more to do.
    ///
    /// # Errors
    /// If the place cannot be read or written.
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError>;
}

/// What one step of a prune did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Pruned {
    /// How many generations were removed.
    pub removed: usize,
    /// Whether another step may remove more.
    pub more: bool,
}

/// Prunes to the end; answers how many generations were removed.
///
/// # Errors
/// As [`Store::prune`].
///
/// # Example
///
/// ```
/// # use vestigum::{MemoryStore, Owner, Session, Spec, Store, prune_all};
/// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
/// # let store = MemoryStore::default();
/// # for _ in 0..3 {
/// #     let mut game = Session::launch(&spec, store.clone(), "ada")?;
/// #     game.add(spec.int("score")?, 1)?;
/// #     game.quit()?;
/// # }
/// let ada = Owner::Profile("ada".into());
/// prune_all(&store, &ada, 1)?;
/// assert_eq!(store.generations(&ada)?.len(), 1);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn prune_all(store: &dyn Store, owner: &Owner, keep: u32) -> Result<usize, StoreError> {
    let mut removed = 0;
    loop {
        let pruned = store.prune(owner, keep)?;
        removed += pruned.removed;
        if !pruned.more {
            return Ok(removed);
        }
    }
}

/// The most characters that the name of a profile may have.
pub const PROFILE_NAME_LEN: usize = 60;

/// Whether a text can be the name of a profile: 1 to [`PROFILE_NAME_LEN`] characters of any script.
///
/// # Errors
/// [`StoreError::BadProfile`] if it cannot.
pub fn checked_profile(name: &str) -> Result<(), StoreError> {
    if (1..=PROFILE_NAME_LEN).contains(&name.chars().count()) {
        return Ok(());
    }
    Err(StoreError::BadProfile { name: name.chars().take(80).collect() })
}

/// Proves, where it is cheap enough, that what is about to be written reads as what was to be saved: in debug builds, so
/// in every test.
pub(crate) fn prove(
    image: &EncodedImage,
    generation: u64,
    bytes: &[u8],
    key: Option<&SealKey>,
) -> Result<(), StoreError> {
    if !cfg!(debug_assertions) {
        return Ok(());
    }
    let owner = image.owner().clone();
    let read = Image::decode(bytes, key);
    match read {
        Ok(read) if read.generation == generation && read.encoded().says_the_same(image) => Ok(()),
        Ok(_) => Err(StoreError::Damaged { owner, generation, damaged: ImageError::CheckFailed }),
        Err(damaged) => Err(StoreError::Damaged { owner, generation, damaged }),
    }
}

/// What a commit did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Committed {
    /// The generation that holds the progress now.
    pub generation: u64,
    /// Whether it was written; if not, it held the same progress already.
    pub written: bool,
    /// Whether older saves were found to be gone, so that other owners' may be, too: their sessions write again.
    pub missing: bool,
}

impl Committed {
    /// The image was written as that generation.
    pub const fn written(generation: u64) -> Committed {
        Committed { generation, written: true, missing: false }
    }

    /// That generation holds the same progress already, and is durable.
    pub const fn unchanged(generation: u64) -> Committed {
        Committed { generation, written: false, missing: false }
    }
}

/// Why a store could not do what was asked.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file or folder could not be read or written.
    #[error("cannot {action} {}: {cause}", .path.display())]
    Io {
        /// What was tried.
        action: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// What the system said.
        cause: std::io::Error,
    },
    /// Another process uses the folder.
    #[error("the save folder {} is in use{}; close the other game first", .path.display(), by_process(.holder))]
    InUse {
        /// The folder.
        path: PathBuf,
        /// The number of the other process, if it is known.
        holder: Option<u32>,
    },
    /// Another store of this process uses the folder.
    #[error(
        "a store of this process has the save folder {} open; clone that one, or drop it before opening another",
        .path.display()
    )]
    OpenAlready {
        /// The folder.
        path: PathBuf,
    },
    /// A whole image has the last number that there is.
    #[error("{owner} has a save with the last number that there is, so none can follow; move that file away")]
    NoMoreGenerations {
        /// Whose saves.
        owner: Owner,
    },
    /// Someone else wrote a newer generation.
    #[error(
        "the saves of {owner} were changed by someone else: generation {newest} is there, {follows} was expected; launch again"
    )]
    Conflict {
        /// Whose saves.
        owner: Owner,
        /// The newest generation there.
        newest: u64,
        /// The newest that the caller knew.
        follows: u64,
    },
    /// There is no such generation.
    #[error("{owner} has no generation {generation}")]
    NoGeneration {
        /// Whose saves.
        owner: Owner,
        /// The number asked for.
        generation: u64,
    },
    /// The image is damaged. It stays where it is.
    #[error("generation {generation} of {owner} is damaged: {damaged}")]
    Damaged {
        /// Whose saves.
        owner: Owner,
        /// The generation.
        generation: u64,
        /// What is wrong with it.
        damaged: ImageError,
    },
    /// The store was opened only to read.
    #[error("the save folder {} was opened to look at it, and nothing is written", .path.display())]
    ReadOnly {
        /// The folder.
        path: PathBuf,
    },
    /// The thread that writes is gone: the saver was closed, or the store panicked.
    #[error("nothing is written any more: the saver was closed")]
    Closed,
    /// It took longer than the caller would wait. What was handed over is still being tried.
    #[error("the save was not durable after {} ms{}", .waited.as_millis(), because(.last))]
    TimedOut {
        /// How long the caller waited.
        waited: Duration,
        /// Why the last try failed, if one did.
        last: Option<Arc<StoreError>>,
    },
    /// A profile's name cannot be used.
    #[error("`{}` cannot be the name of a profile: names have 1 to {PROFILE_NAME_LEN} characters", .name.escape_debug())]
    BadProfile {
        /// The name.
        name: String,
    },
}

impl StoreError {
    /// Whether the same commit may succeed later: a full disk is emptied, a folder comes back. A conflict stays.
    pub fn may_pass(&self) -> bool {
        matches!(self, StoreError::Io { .. } | StoreError::InUse { .. } | StoreError::TimedOut { .. })
    }

    /// Whether there was no room for it.
    pub fn is_full(&self) -> bool {
        use std::io::ErrorKind::{QuotaExceeded, StorageFull};
        matches!(self, StoreError::Io { cause, .. } if matches!(cause.kind(), StorageFull | QuotaExceeded))
    }
}

fn because(last: &Option<Arc<StoreError>>) -> String {
    last.as_ref().map(|error| format!(": {error}")).unwrap_or_default()
}

fn by_process(pid: &Option<u32>) -> String {
    pid.map(|pid| format!(" by process {pid}")).unwrap_or_default()
}
