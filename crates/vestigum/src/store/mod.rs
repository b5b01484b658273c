//! One trait for where images live.

mod error;
mod lease;
mod line;
mod patience;
mod pruning;

pub use error::{RemoteTrouble, StoreError};
pub use lease::{Lease, leased_to};
pub(crate) use lease::{LeaseBook, ends_at};
pub use line::{GivenSave, Line, random_installation, random_tag};
pub(crate) use line::{in_signs, random};
pub use patience::Patience;
pub use pruning::{PruneStep, SaveVerdict, prune_step, removable_generations};

use std::sync::Arc;
use std::time::Duration;

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

    /// Reads and verifies one generation, and looks up its blobs with [`Image::find_blobs`]. A blob that is gone or damaged is no
    /// error: loading reports it. One that cannot be read now is [`BlobError::NotRead`](vestigum_core::image::blobs::BlobError), which
    /// refuses a launch.
    ///
    /// # Errors
    /// If no save has that number, it is damaged, or the place cannot be read. A launch passes over what is
    /// [damaged](StoreError::Damaged), that is: was read in full and does not verify, and takes the save before it. What cannot be
    /// read now is an error that [may pass](StoreError::may_pass): the launch asks again for less than a second, and is refused
    /// then.
    fn read(&self, owner: &Owner, generation: u64) -> Result<Image, StoreError>;

    /// Reads the newest generation in one go; none if the owner has none. A store beyond a network does it in one round trip.
    ///
    /// # Errors
    /// If the place cannot be read. What reading that generation said is in the answer.
    fn newest(&self, owner: &Owner) -> Result<Option<Newest>, StoreError> {
        let newest = self.generations(owner)?.last().copied();
        Ok(newest.map(|generation| Newest { generation, image: self.read(owner, generation) }))
    }

    /// Writes a new generation: atomic, and durable when it returns. Its [blobs](Image::blobs) are durable before it is. The
    /// image gets the next number. `follows` is the newest generation that the caller knows, 0 if there is none. An image
    /// that holds the same progress as the newest generation is not written again. Where it is not known whether it was
    /// written, an error that [may pass](StoreError::may_pass) is right: the saver looks before it writes again.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] if another generation was written meanwhile, or what went wrong with the place. The
    /// older generations are as they were.
    fn commit(&self, follows: u64, image: &Image) -> Result<Committed, StoreError>;

    /// Commits an image that is encoded already: what savers write. A store that keeps the bytes as they are writes them
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

    /// Commits several images, each of another owner, and answers for each of them, in their order. Each counts by itself: one
    /// that is refused keeps none of the others from being written. Where they wait for one another, as on a disk that syncs,
    /// one transaction for all is quicker.
    ///
    /// A commit that carries a [lease](Store::lease) is refused with [`StoreError::LeaseLost`] if a newer lease on that owner
    /// was given, or that one was given back. One that carries none is refused with [`StoreError::Leased`] while a lease runs.
    /// Left out, the commits are made one after the other and leases are not looked at, which is right for a store whose leases
    /// are left out, too.
    fn commit_all(&self, commits: &[Commit<'_>]) -> Vec<Result<Committed, StoreError>> {
        commits.iter().map(|commit| self.commit_encoded(commit.follows, commit.image)).collect()
    }

    /// Returns how many commits [`Store::commit_all`] makes at little more than the price of one. Left out, it is 1: the saver makes
    /// several at a time from several threads instead.
    fn batch_size(&self) -> usize {
        1
    }

    /// Takes an owner for `lasts`, for a holder: one of several processes that play on the same store. While the lease runs, no other
    /// holder gets one, and only commits that carry it are taken. When it has run out it still holds until somebody else takes
    /// one. Each lease on an owner has a higher [token](Lease::token) than all before it.
    ///
    /// The holder that has the running lease gets a new one at once, and the old one is lost: a process that was started again takes
    /// its players back. A lease is used through the store that gave it, and the newest generation is read after it was taken.
    ///
    /// Left out, every lease is given. That is right for a store that one process at a time has open: a folder is locked, and memory
    /// is nobody else's.
    ///
    /// # Errors
    /// [`StoreError::Leased`] if another holder's runs, or what went wrong with the place.
    fn lease(&self, owner: &Owner, holder: &str, lasts: Duration) -> Result<Lease, StoreError> {
        let _ = lasts;
        Ok(Lease::new(owner.clone(), holder, 0))
    }

    /// Lets leases run for `lasts` from now, and answers for each of them.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] for one that is not the newest on its owner, or what went wrong with the place.
    fn renew(&self, leases: &[Lease], lasts: Duration) -> Vec<Result<(), StoreError>> {
        let _ = lasts;
        leases.iter().map(|_| Ok(())).collect()
    }

    /// Gives leases back. One that is lost already is passed over.
    ///
    /// # Errors
    /// If the place cannot be written: then they run out by themselves.
    fn release(&self, leases: &[Lease]) -> Result<(), StoreError> {
        let _ = leases;
        Ok(())
    }

    /// Removes old generations, but never the newest `keep` of those known to be whole, and never a damaged one; and blobs that
    /// no generation of any owner means any more. An image that says that the player was deleted takes the place of no save;
    /// [`prune_step`] has the rule. Does no more at a time than others can wait for (reads or removes one file), and says whether
    /// there is more to do.
    ///
    /// # Errors
    /// If the place cannot be read or written.
    fn prune(&self, owner: &Owner, keep: u32) -> Result<Pruned, StoreError>;

    /// Writes a generation under the number that the image says, where nothing has that number: for copying a place. It is atomic and
    /// durable when it returns, its blobs before it. One that holds the same progress under that number is not written again. So a
    /// copy that writes the newest generation of each owner first can be cut short at any time, and be gone on with: what a launch
    /// finds there meanwhile is nothing, or the newest.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] if another image has that number, [`StoreError::Leased`] while a lease runs, or what went wrong with the
    /// place.
    fn insert(&self, image: &Image) -> Result<Committed, StoreError>;

    /// Removes every generation of an owner below a number, whole or damaged, the oldest first, and answers how many were there. The
    /// removal is durable when this returns. It serves a purge: what a player asked to be gone is gone.
    ///
    /// # Errors
    /// If the place cannot be read or written. Some may be removed then; none above them is.
    fn remove_before(&self, owner: &Owner, generation: u64) -> Result<usize, StoreError>;

    /// Returns the line of saves that this place writes for an owner; none if nothing was saved by play here yet, in a game that merges.
    ///
    /// # Errors
    /// If the place cannot be read.
    fn line(&self, _owner: &Owner) -> Result<Option<Line>, StoreError> {
        Ok(None)
    }

    /// Begins a line, under an id that no other place has and that nobody has used: at the first save by play, and after saves were
    /// lost, so that no number is given twice. It is durable when it returns. Left out, the store keeps no lines, and games that merge
    /// saves cannot save in it.
    ///
    /// # Errors
    /// If the place cannot be written.
    fn begin_line(&self, owner: &Owner) -> Result<Line, StoreError> {
        Err(StoreError::NoLines { owner: owner.clone() })
    }

    /// Remembers that a save of the line was given to another place. Durable when it returns; where there is no line, nothing is done.
    ///
    /// # Errors
    /// If the place cannot be written.
    fn give(&self, _owner: &Owner, _save: &GivenSave) -> Result<(), StoreError> {
        Ok(())
    }

    /// Tells which store this is, for as long as it is there: clones of one answer the same, and no other store does. Sessions that are
    /// launched on clones of one store share the threads that write, and the values of the device. Left out, none is known to be the
    /// same as another: the game then makes one [`Saver`](crate::Saver) and gives each session a clone of it.
    fn identity(&self) -> Option<StoreIdentity> {
        None
    }

    /// Waits before something is asked again that could not be read. Left out, the thread sleeps.
    fn pause(&self, how_long: Duration) {
        std::thread::sleep(how_long);
    }
}

/// Identifies a store among those of this process: see [`Store::identity`].
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct StoreIdentity {
    address: usize,
    opened: String,
}

impl StoreIdentity {
    /// Returns the identity of a store whose clones share what `shared` points to. `opened` tells apart clones that read or write in
    /// another way, such as with another key.
    pub fn of<T: ?Sized>(shared: &Arc<T>, opened: impl Into<String>) -> StoreIdentity {
        StoreIdentity { address: Arc::as_ptr(shared).cast::<()>().addr(), opened: opened.into() }
    }
}

/// The newest generation of an owner.
#[derive(Debug)]
pub struct Newest {
    /// Its number.
    pub generation: u64,
    /// Says what reading it said.
    pub image: Result<Image, StoreError>,
}

/// One of several commits.
#[derive(Clone, Copy, Debug)]
pub struct Commit<'a> {
    /// The newest generation that the caller knows, 0 if there is none.
    pub follows: u64,
    /// Says what is written.
    pub image: &'a EncodedImage,
    /// The caller's lease on the owner, if it has one.
    pub lease: Option<&'a Lease>,
}

/// Describes what one step of a prune did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Pruned {
    /// Says how many generations were removed.
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

/// Returns whether a text can be the name of a profile: 1 to [`PROFILE_NAME_LEN`] characters of any script.
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

/// Checks that a save can be read by whoever reads at most that number of bytes: what a store does before it writes.
///
/// # Errors
/// [`StoreError::TooLarge`] if it has more bytes, or more values than [`Image::decode`] takes into memory.
pub fn checked_size(image: &EncodedImage, most: u64) -> Result<(), StoreError> {
    image.check_size(most).map_err(|why| StoreError::TooLarge { owner: image.owner().clone(), why })
}

/// Describes what a commit did.
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
