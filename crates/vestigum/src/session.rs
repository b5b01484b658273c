//! A session: progress that is loaded from a store and saved into it.

use std::ops::Deref;
use std::sync::Arc;

use serde::Serialize;
use thiserror::Error;
use vestigum_core::handle::{Number, Scalar};
use vestigum_core::{
    AccessError, Change, Handle, Image, Launched, LoadError, LoadReport, Outcome, Owner, Progress, Refused, Reset,
    Spec, Suspended, Update, Value, Written,
};

use crate::recovery::{Found, newest_readable};
use crate::store::{Store, StoreError};

/// One player's session: from `launch` to `quit`.
///
/// It reads like a [`Progress`] and saves when the spec's `[save] at` asks for it. A save that fails never stops play:
/// the moment has happened, [`Session::save_failure`] tells, and the next save tries again. Dropping a session without
/// `quit` is a crash: what was not saved is lost.
pub struct Session {
    progress: Progress,
    store: Arc<dyn Store>,
    profile: String,
    report: LoadReport,
    launched: Outcome,
    follows: Newest,
    failure: Option<StoreError>,
    has_device: bool,
}

/// How a session takes what was saved: with the moment `launch` or without.
type Load = fn(&Spec, Option<&Image>, Option<&Image>) -> Result<Launched, LoadError>;

/// The newest generations this session knows.
#[derive(Clone, Copy, Debug, Default)]
struct Newest {
    profile: u64,
    device: u64,
}

/// A save that is durable.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Saved {
    /// The generation of the profile that holds the progress.
    pub generation: u64,
    /// Whether anything had to be written.
    pub written: bool,
}

/// Why a session could not begin or end.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SessionError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The newest image cannot be loaded by this game. Nothing was overwritten.
    #[error(transparent)]
    Load(#[from] LoadError),
    /// A newer game wrote the newest image. Nothing was overwritten.
    #[error(
        "generation {generation} of {owner} has format {format}, which a newer version of the game wrote; update the game to play on, nothing was overwritten"
    )]
    NewerFormat {
        /// Whose image.
        owner: Owner,
        /// Its generation.
        generation: u64,
        /// Its format.
        format: i64,
    },
    /// There are images, and none can be read. Nothing was overwritten.
    #[error("no save of {owner} can be read:{}\nthe files are where they were; to begin anew, move them away", damaged_list(.damaged))]
    AllDamaged {
        /// Whose images.
        owner: Owner,
        /// The generations and what is wrong with each.
        damaged: Vec<(u64, String)>,
    },
}

fn damaged_list(damaged: &[(u64, String)]) -> String {
    damaged.iter().map(|(generation, why)| format!("\n  generation {generation}: {why}")).collect()
}

impl Session {
    /// Loads a profile's progress, or begins it, and launches.
    ///
    /// # Errors
    /// If the store cannot be read, the newest image is of another game or a newer version, or all are damaged. No
    /// file is changed then.
    pub fn launch(spec: &Spec, store: impl Store + 'static, profile: &str) -> Result<Session, SessionError> {
        let opened = Session::open(spec, Arc::new(store), profile, Progress::launch)?;
        opened.prune();
        Ok(opened)
    }

    /// Loads a profile's progress without launching it: for tools that look at saves and repair them.
    ///
    /// # Errors
    /// As [`Session::launch`].
    pub fn inspect(spec: &Spec, store: impl Store + 'static, profile: &str) -> Result<Session, SessionError> {
        Session::open(spec, Arc::new(store), profile, Progress::load)
    }

    fn open(spec: &Spec, store: Arc<dyn Store>, profile: &str, load: Load) -> Result<Session, SessionError> {
        let found = newest_readable(&*store, &Owner::Profile(profile.to_owned()))?;
        let device = newest_readable(&*store, &Owner::Device)?;
        let follows = Newest { profile: found.newest, device: device.newest };
        let Found { image, origin, .. } = found;
        let Launched { progress, mut report, outcome } = load(spec, image.as_ref(), device.image.as_ref())?;
        (report.origin, report.device_origin) = (origin, device.origin);
        let has_device = progress.suspend().has_device();
        let profile = profile.to_owned();
        Ok(Session { progress, store, profile, report, launched: outcome, follows, failure: None, has_device })
    }

    /// The newest generation of the profile that this session knows; 0 if nothing was saved yet.
    pub fn generation(&self) -> u64 {
        self.follows.profile
    }

    /// What loading did.
    pub fn load_report(&self) -> &LoadReport {
        &self.report
    }

    /// What the rules of `launch` did, and where to put the player.
    pub fn launch_outcome(&self) -> &Outcome {
        &self.launched
    }

    /// The player.
    pub fn profile(&self) -> &str {
        &self.profile
    }

    /// Why the last save failed, if it did.
    pub fn save_failure(&self) -> Option<&StoreError> {
        self.failure.as_ref()
    }

    /// Saves what the player would have if they quit now. It is durable when this returns.
    ///
    /// # Errors
    /// If the store fails; play can go on, and the next save tries again.
    pub fn save(&mut self) -> Result<Saved, StoreError> {
        let suspended = self.progress.suspend();
        self.commit(&suspended)
    }

    fn commit(&mut self, suspended: &Suspended) -> Result<Saved, StoreError> {
        let at = jiff::Timestamp::now().to_string();
        let mut image = suspended.profile_image(&self.profile);
        image.saved_at.clone_from(&at);
        let committed = self.store.commit(self.follows.profile, &image)?;
        self.follows.profile = committed.generation;
        let mut written = committed.written;
        if self.has_device {
            let mut device = suspended.device_image();
            device.saved_at = at;
            let committed = self.store.commit(self.follows.device, &device)?;
            self.follows.device = committed.generation;
            written |= committed.written;
        }
        self.failure = None;
        Ok(Saved { generation: self.follows.profile, written })
    }

    fn prune(&self) {
        let profile = Owner::Profile(self.profile.clone());
        for owner in [profile, Owner::Device] {
            if let Err(error) = self.store.prune(&owner, self.progress.spec().keep()) {
                tracing::warn!(%owner, %error, "old saves could not be removed");
            }
        }
    }

    /// Saves and ends the session.
    ///
    /// # Errors
    /// If the store fails. The session comes back with the error, nothing is lost, and `quit` can be tried again.
    pub fn quit(mut self) -> Result<Saved, QuitError> {
        match self.save() {
            Ok(saved) => {
                self.prune();
                // A session that has saved everything can only be quit once, here.
                let _ = self.progress.quit();
                Ok(saved)
            }
            Err(error) => Err(QuitError { error, session: Box::new(self) }),
        }
    }

    fn after(&mut self, outcome: Outcome) -> Outcome {
        if outcome.save_due
            && let Err(error) = self.save()
        {
            tracing::warn!(profile = %self.profile, %error, "the save failed; play goes on");
            self.failure = Some(error);
        }
        outcome
    }
}

/// Why a reset did not happen, or was not saved.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ResetError {
    /// There is no such level, field or key. Nothing has changed.
    #[error(transparent)]
    Access(#[from] AccessError),
    /// The progress is reset and could not be saved.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A quit that could not save, and the session it left as it was.
#[derive(Error)]
#[error("{error}")]
pub struct QuitError {
    /// Why.
    #[source]
    pub error: StoreError,
    /// The session, to play on or to try again.
    pub session: Box<Session>,
}

impl std::fmt::Debug for QuitError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("QuitError").field("error", &self.error).finish_non_exhaustive()
    }
}

impl std::fmt::Debug for Session {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let place = self.progress.place();
        f.debug_struct("Session").field("profile", &self.profile).field("place", &place).finish_non_exhaustive()
    }
}

/// Everything that reads progress works on a session too. Writes and moments go through the session, which saves.
impl Deref for Session {
    type Target = Progress;

    fn deref(&self) -> &Progress {
        &self.progress
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        if !self.progress.is_closed() {
            tracing::warn!(profile = %self.profile, "the session was dropped without quit: what was not saved is lost");
        }
    }
}

macro_rules! moments {
    ($($(#[$doc:meta])* $name:ident($($argument:ident: $ty:ty),*);)*) => {
        impl Session {
            $($(#[$doc])*
            ///
            /// # Errors
            #[doc = concat!("As [`Progress::", stringify!($name), "`].")]
            pub fn $name(&mut self $(, $argument: $ty)*) -> Result<Outcome, Refused> {
                let outcome = self.progress.$name($($argument),*)?;
                Ok(self.after(outcome))
            })*
        }
    };
}

moments! {
    /// "New game": a new run begins.
    new_run();
    /// Play begins in a level that has finished loading.
    enter(level: &str);
    /// Play begins at a checkpoint of a level.
    enter_at(level: &str, checkpoint: &str);
    /// Enters a level whether it is open or not.
    enter_any(level: &str, checkpoint: Option<&str>);
    /// A checkpoint was reached.
    checkpoint(name: &str);
    /// The player died.
    death();
    /// The player starts the level again.
    restart();
    /// The level was passed.
    complete();
    /// The level was left without passing it and without failing.
    travel();
    /// The level was given up.
    abandon();
    /// The run is over.
    game_over();
    /// One of the game's own moments.
    own_moment(name: &str);
}

impl Session {
    /// Writes a value; see [`Progress::set`].
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn set<T: Scalar + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        self.progress.set(at, value)
    }

    /// Adds to a number; see [`Progress::add`].
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn add<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        self.progress.add(at, by)
    }

    /// Writes a field by name; see [`Progress::write`].
    ///
    /// # Errors
    /// As [`Progress::write`].
    pub fn write(&mut self, field: &str, keys: &[&str], value: Value) -> Result<Written, AccessError> {
        self.progress.write(field, keys, value)
    }

    /// Adds to a field by name; see [`Progress::write_add`].
    ///
    /// # Errors
    /// As [`Progress::write_add`].
    pub fn write_add(&mut self, field: &str, keys: &[&str], by: Value) -> Result<Written, AccessError> {
        self.progress.write_add(field, keys, by)
    }

    /// Puts a value into a list or a set; see [`Progress::insert`].
    ///
    /// # Errors
    /// As [`Progress::insert`].
    pub fn insert(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.progress.insert(field, keys, item)
    }

    /// Puts a value under a key of a map; see [`Progress::insert_at`].
    ///
    /// # Errors
    /// As [`Progress::insert_at`].
    pub fn insert_at(&mut self, field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError> {
        self.progress.insert_at(field, keys, at, item)
    }

    /// Takes a value out of a list, a set or a map; see [`Progress::remove`].
    ///
    /// # Errors
    /// As [`Progress::remove`].
    pub fn remove(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.progress.remove(field, keys, item)
    }

    /// Writes a Rust value into a field; see [`Progress::write_from`].
    ///
    /// # Errors
    /// As [`Progress::write_from`].
    pub fn write_from<T: Serialize>(&mut self, field: &str, keys: &[&str], value: &T) -> Result<Written, AccessError> {
        self.progress.write_from(field, keys, value)
    }

    /// What changed since the last call, for a display; see [`Progress::drain_changes`].
    pub fn drain_changes(&mut self) -> Vec<Update> {
        self.progress.drain_changes()
    }

    /// Resets and saves at once, as a new generation: the one before can be restored.
    ///
    /// # Errors
    /// If there is no such level, field or key, or the store fails; then the progress is reset and not yet saved.
    pub fn reset(&mut self, reset: &Reset) -> Result<Vec<Change>, ResetError> {
        let changes = self.progress.reset(reset)?;
        self.save()?;
        Ok(changes)
    }
}
