//! A launch with decisions: what a game has asked its player before.

use vestigum_core::{Owner, Progress, Spec};

use super::{Load, Session};
use crate::error::SessionError;
use crate::recovery::{NewestImage, PassingOver, anew, newest_readable};
use crate::saver::Saver;
use crate::store::Patience;

/// Launches a player with decisions that only a person can make. [`Session::launch`] takes none of them.
///
/// A save that cannot be read now may be whole, and newer than every other: so a launch asks for it for less than a second, and is
/// refused then ([`StoreError::Unavailable`](crate::StoreError::Unavailable)). Trying again later is right where a program holds the
/// file. Where the disk will never read it again, the player decides to go on with an older save:
///
/// ```
/// use vestigum::{Launch, MemoryStore, Session, SessionError, Spec, StoreError};
///
/// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
/// # let store = MemoryStore::default();
/// let game = match Session::launch(&spec, store.clone(), "ada") {
///     Err(SessionError::Store(StoreError::Unavailable { generation, .. })) => {
///         // After asking the player.
///         Launch::new(&spec, store, "ada").passing_over(generation).begin()?
///     }
///     launched => launched?,
/// };
/// # game.quit()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
#[must_use = "it begins with `begin`"]
pub struct Launch<'a> {
    spec: &'a Spec,
    saver: Saver,
    profile: &'a str,
    decisions: Decisions,
}

/// Describes what was decided about saves that are not whole.
#[derive(Debug, Default)]
pub(super) struct Decisions {
    anew: bool,
    over: Vec<u64>,
    over_of_device: Vec<u64>,
}

impl Decisions {
    pub(super) fn find(&self, patience: &Patience<'_>, owner: &Owner) -> Result<NewestImage, SessionError> {
        let over: PassingOver<'_> = match owner {
            Owner::Profile(_) => &self.over,
            Owner::Device => &self.over_of_device,
        };
        if self.anew { anew(patience, owner, over) } else { newest_readable(patience, owner, over) }
    }
}

impl<'a> Launch<'a> {
    /// Returns a launch of a player without decisions. `saves` is a store, or a [`Saver`] where several sessions of a process use the
    /// same one.
    pub fn new(spec: &'a Spec, saves: impl Into<Saver>, profile: &'a str) -> Launch<'a> {
        Launch { spec, saver: saves.into(), profile, decisions: Decisions::default() }
    }

    /// Passes over that generation of the player where it cannot be read now: the newest one before it is loaded, and the report says
    /// so. Where only a picture or another blob of it cannot be read, the rest of it is loaded. One that can be read is loaded all the
    /// same.
    pub fn passing_over(mut self, generation: u64) -> Launch<'a> {
        self.decisions.over.push(generation);
        self
    }

    /// Passes over that generation of the device in the same way.
    pub fn passing_over_of_device(mut self, generation: u64) -> Launch<'a> {
        self.decisions.over_of_device.push(generation);
        self
    }

    /// Begins a new game where there are saves and none is whole: see [`Session::launch_anew`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{Launch, MemoryStore, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let store = MemoryStore::default();
    /// let game = Launch::new(&spec, store, "ada").anew().begin()?;
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn anew(mut self) -> Launch<'a> {
        self.decisions.anew = true;
        self
    }

    /// Loads or begins, and launches.
    ///
    /// # Errors
    /// As [`Session::launch`], but for what was decided.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{Launch, MemoryStore, SessionError, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let store = MemoryStore::default();
    /// let game = match Launch::new(&spec, store.clone(), "ada").begin() {
    ///     // Only where the player was asked: the newest save is there, and cannot be read now.
    ///     Err(SessionError::Store(why)) if why.may_pass() => Launch::new(&spec, store, "ada").passing_over(7).begin()?,
    ///     other => other?,
    /// };
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn begin(self) -> Result<Session, SessionError> {
        self.open(Progress::launch)
    }

    pub(super) fn open(self, load: Load) -> Result<Session, SessionError> {
        Session::open(self.spec, self.saver, self.profile, load, &self.decisions)
    }
}
