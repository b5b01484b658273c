//! A session: progress that is loaded from a store and saved into it.

mod launch;
mod peek;
mod play;
mod reads;

pub use launch::Launch;
pub use peek::Peek;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;

use vestigum_core::image::report::Origin;
use vestigum_core::{
    AccessError, Image, Launched, LoadError, LoadReport, Outcome, Owner, Progress, Span, Spec, Written,
};

use crate::error::SessionError;
use crate::recovery::{NewestImage, newest_readable};
use crate::saver::{FollowError, Following, SaveTicket, Saved, Saver};
use crate::store::{Patience, Store, StoreError, checked_profile};
use launch::Decisions;

/// Says how long `quit` waits for the last save.
const QUIT_WAITS: Duration = Duration::from_secs(3);

/// One player's session: from `launch` to `quit`.
///
/// There is no way to the [`Progress`] itself: what plays is the session, and a copy of it that does not save cannot be
/// made by accident.
///
/// ```compile_fail
/// # use vestigum::{MemoryStore, Session, Spec};
/// # let spec = Spec::from_toml("[game]\nid = \"fellpost\"").unwrap();
/// let game = Session::launch(&spec, MemoryStore::default(), "ada").unwrap();
/// let mut copy = game.clone();
/// copy.new_run();
/// ```
///
/// It reads as a [`Progress`] does and saves when the spec's `[save] at` asks for it: the moment hands over what a save
/// writes, and the saver's thread makes it durable. A save that fails never stops play: [`Session::save_failure`]
/// tells, and it is tried again. Dropping a session without `quit` is a crash: what was not handed over is lost.
///
/// Two players can have sessions at once, on clones of one [`Saver`]. They share the device's values: each of them
/// sees what the other made of them from its next call that takes `&mut self` on.
pub struct Session {
    spec: Spec,
    progress: Progress,
    running: Running,
    report: LoadReport,
    launched: Outcome,
    has_device: bool,
    /// Whether a field of the device counts time.
    counts_on_device: bool,
    /// Whether there is something to save for the device.
    saves_device: bool,
    /// The version of the device's values that the progress holds.
    seen: u64,
}

/// Describes how a session takes what was saved: with the moment `launch` or without.
type Load = fn(&Spec, Option<&Image>, Option<&Image>) -> Result<Launched, LoadError>;

/// The place of a session among the others on its store, or of a change of its player. Dropping it gives the place up.
pub(crate) struct Running {
    saver: Saver,
    owner: Arc<Owner>,
    joined: bool,
}

impl Running {
    /// Takes the place, if no session of that player runs.
    pub(crate) fn begin(saver: Saver, owner: Owner) -> Result<Running, SessionError> {
        let owner = Arc::new(owner);
        saver.begin(&owner)?;
        Ok(Running { saver, owner, joined: false })
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if self.joined {
            self.saver.device().part();
        }
        self.saver.queue().end(&self.owner);
    }
}

impl Session {
    /// Loads a profile's progress, or begins it, and launches. A profile's name has 1 to 60 characters of any script.
    ///
    /// `saves` is a store, or a [`Saver`] where several sessions of a process use the same one.
    ///
    /// # Errors
    /// If the store cannot be read, the newest save cannot be read now ([`StoreError::Unavailable`], see [`Launch`]), the newest
    /// image is of another game or a newer version, or all are damaged. No file is changed then. Also if a session of that player runs
    /// in this process already.
    pub fn launch(spec: &Spec, saves: impl Into<Saver>, profile: &str) -> Result<Session, SessionError> {
        Launch::new(spec, saves, profile).begin()
    }

    /// As [`Session::launch`], but where there are saves and none can be read, a new game begins over them: for a game
    /// that has asked its player after [`SessionError::AllDamaged`]. The damaged files stay where they are.
    ///
    /// # Errors
    /// As [`Session::launch`], except for damage.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, SessionError, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let store = MemoryStore::default();
    /// let game = match Session::launch(&spec, store.clone(), "ada") {
    ///     Err(SessionError::AllDamaged { .. }) => Session::launch_anew(&spec, store, "ada")?,   // after asking the player
    ///     other => other?,
    /// };
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn launch_anew(spec: &Spec, saves: impl Into<Saver>, profile: &str) -> Result<Session, SessionError> {
        Launch::new(spec, saves, profile).anew().begin()
    }

    /// Loads a profile's progress without the moment `launch`, to change and save it: for tools that repair saves. To look at it,
    /// [`Session::peek`] is enough.
    ///
    /// # Errors
    /// As [`Session::launch`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let store = MemoryStore::default();
    /// # Session::launch(&spec, store.clone(), "ada")?.quit()?;
    /// let score = spec.int("score")?;
    /// let mut ada = Session::repair(&spec, store, "ada")?;   // as it was saved: no rule of `launch` has run
    /// ada.set(score, 120)?;
    /// ada.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn repair(spec: &Spec, saves: impl Into<Saver>, profile: &str) -> Result<Session, SessionError> {
        Launch::new(spec, saves, profile).open(Progress::load)
    }

    /// Looks at what is saved of a player: the board, values, the place. Nothing is launched and nothing is written.
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
    /// # let store = MemoryStore::default();
    /// # Session::launch(&spec, store.clone(), "ada")?.quit()?;
    /// let ada = Session::peek(&spec, &store, "ada")?;
    /// println!("{} stands at: {}", "ada", ada.place());
    /// for row in ada.board() {
    ///     println!("{row}");
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// As [`Session::launch`].
    pub fn peek(spec: &Spec, store: &dyn Store, profile: &str) -> Result<Peek, SessionError> {
        checked_profile(profile)?;
        let patience = Patience::with(store);
        let found = newest_readable(&patience, &Owner::Profile(profile.to_owned()), &[])?;
        let device = newest_readable(&patience, &Owner::Device, &[])?;
        let Launched { progress, mut report, .. } = Progress::load(spec, found.image.as_ref(), device.image.as_ref())?;
        (report.origin, report.device_origin) = (found.origin, device.origin);
        let (generation, saved_at) = found.image.map(|image| (image.generation, image.saved_at)).unzip();
        Ok(Peek { spec: spec.clone(), progress, report, generation: generation.unwrap_or(0), saved_at })
    }

    fn open(
        spec: &Spec,
        saver: Saver,
        profile: &str,
        load: Load,
        decisions: &Decisions,
    ) -> Result<Session, SessionError> {
        checked_profile(profile)?;
        let mut running = Running::begin(saver, Owner::Profile(profile.to_owned()))?;
        let saver = running.saver.clone();
        let patience = Patience::with(saver.store());
        let found = decisions.find(&patience, &running.owner)?;
        // The store is read without the lock, which other sessions take at their moments. If another one began meanwhile, what
        // was read may be old, and is read again.
        let (device, mut live) = loop {
            let joined = saver.device().joined();
            let device = decisions.find(&patience, &Owner::Device)?;
            // Held until this session has joined, so that no other changes the values in between.
            let live = saver.device();
            if live.joined() == joined {
                break (device, live);
            }
        };
        if !live.fits(spec) {
            return Err(SessionError::OtherSpec);
        }
        let device_image = live.image(spec, device.image.as_ref())?;
        let Launched { progress, mut report, outcome } = load(spec, found.image.as_ref(), device_image.as_ref())?;
        let following = following(spec, &patience, &running.owner, &found)?;
        let merges = following.is_some();
        (report.origin, report.device_origin) = (found.origin, device.origin);
        saver.queue().found(&running.owner, found.newest, spec.keep(), true);
        saver.queue().follow(&running.owner, following);
        if !live.is_live() {
            saver.queue().found(&Arc::new(Owner::Device), device.newest, spec.keep(), true);
        }
        if report.migrated.iter().any(|step| step.device_first) {
            saver.queue().device_first(&running.owner);
        }
        let seen = live.join(&progress);
        saver.publish_device(seen);
        running.joined = true;
        drop(live);
        let has_device = spec.fields().any(|field| field.lasts() == Span::Device);
        let save_due = outcome.save_due;
        // The image of a device that the spec has nothing of any more is brought to its version once, with what it keeps for
        // players of older versions; until then every launch would migrate it again.
        let older = device.image.as_ref().is_some_and(|image| image.version < spec.version());
        let saves_device = has_device || older;
        let mut session = Session {
            spec: spec.clone(),
            progress,
            running,
            report,
            launched: outcome,
            has_device,
            counts_on_device: spec.fields().any(|field| field.lasts() == Span::Device && field.counts().is_some()),
            saves_device,
            seen,
        };
        if merges {
            session.progress.follow_visits();
        }
        if save_due {
            session.save();
        }
        Ok(session)
    }

    /// Launches a player of a roster, whose lease the saver has. A server has no device: values of one begin anew, and are not saved.
    pub(crate) fn open_for_roster(spec: &Spec, saver: &Saver, profile: &str) -> Result<Session, SessionError> {
        checked_profile(profile)?;
        let running = Running::begin(saver.clone(), Owner::Profile(profile.to_owned()))?;
        let patience = Patience::with(saver.store());
        let found = newest_readable(&patience, &running.owner, &[])?;
        let Launched { progress, mut report, outcome } = Progress::launch(spec, found.image.as_ref(), None)?;
        if report.migrated.iter().any(|step| step.device_first) {
            return Err(SessionError::MovesToDevice { owner: (*running.owner).clone() });
        }
        let following = following(spec, &patience, &running.owner, &found)?;
        let merges = following.is_some();
        report.origin = found.origin;
        saver.queue().found(&running.owner, found.newest, spec.keep(), false);
        saver.queue().follow(&running.owner, following);
        let save_due = outcome.save_due;
        let mut session = Session {
            spec: spec.clone(),
            progress,
            running,
            report,
            launched: outcome,
            has_device: false,
            counts_on_device: false,
            saves_device: false,
            seen: 0,
        };
        if merges {
            session.progress.follow_visits();
        }
        if save_due {
            session.save();
        }
        Ok(session)
    }

    /// Ends the session without saving. What was handed over is written.
    pub(crate) fn close(mut self) {
        let _ = self.progress.quit();
    }

    /// The newest generation of the profile that is durable; 0 if nothing was saved yet.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// assert_eq!(game.generation(), 0);           // nothing was saved yet
    /// game.save().wait()?;
    /// assert_eq!(game.generation(), 1);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn generation(&self) -> u64 {
        self.running.saver.queue().generation(&self.running.owner)
    }

    /// Returns what loading did.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let report = game.load_report();
    /// if !report.is_clean() {
    ///     println!("{report}");                    // what was passed over, migrated, dropped or brought into limits
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn load_report(&self) -> &LoadReport {
        &self.report
    }

    /// Returns what the rules of `launch` did, and where to put the player.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// // The screen to begin with: a level with its checkpoint, or the menu.
    /// println!("{}", game.launch_outcome().place);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn launch_outcome(&self) -> &Outcome {
        &self.launched
    }

    /// The player.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// assert_eq!(game.profile(), "ada");
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn profile(&self) -> &str {
        match &*self.running.owner {
            Owner::Profile(name) => name,
            Owner::Device => "",
        }
    }

    /// Returns why the last save failed, while none has succeeded since.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// if let Some(why) = game.save_failure() {
    ///     println!("your progress is not saved: {why}");   // play goes on, and the save is tried again
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn save_failure(&self) -> Option<Arc<StoreError>> {
        self.running.saver.queue().failure(&[&self.running.owner, &Owner::Device])
    }

    /// Returns whether everything that was handed over is durable, of this player and of the device: the gate before a level
    /// change.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.save();
    /// while !game.settled() {
    ///     // Draw the loading screen.
    ///     # std::thread::yield_now();
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn settled(&self) -> bool {
        self.running.saver.queue().settled(&[&self.running.owner, &Owner::Device])
    }

    /// Waits until everything that was handed over is durable, of this player and of the device.
    ///
    /// # Errors
    /// If that takes longer than `timeout`, with the reason why the last try failed. It is still being tried.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use std::time::Duration;
    /// game.save();
    /// game.settle(Duration::from_secs(3))?;        // behind a loading screen
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn settle(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        self.running.saver.queue().settle(&[&self.running.owner, &Owner::Device], timeout)
    }

    /// Saves what the player would have if they quit now: works it out, hands it over and returns. The ticket tells
    /// when it is durable; dropping the ticket changes nothing.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let ticket = game.save();                    // returns at once
    /// let saved = ticket.wait()?;
    /// assert_eq!(saved.generation, 1);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn save(&mut self) -> SaveTicket {
        self.sync_device();
        self.running.saver.hand_over(&self.running.owner, &mut self.progress, self.saves_device)
    }

    /// Saves and ends the session. Waits up to 3 seconds for the save to be durable.
    ///
    /// # Errors
    /// As [`Session::quit_within`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// game.checkpoint("ford")?;
    /// game.quit()?;                                // the next launch goes on at the ford
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn quit(self) -> Result<Saved, QuitError> {
        self.quit_within(QUIT_WAITS)
    }

    /// Saves and ends the session, and waits for the save to be durable, but not longer than `timeout`.
    ///
    /// # Errors
    /// If the save is not durable by then, or cannot become so. The session comes back with the error, nothing is
    /// lost, play can go on and `quit` can be tried again.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// use std::time::Duration;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// match game.quit_within(Duration::from_secs(1)) {
    ///     Ok(saved) => println!("generation {} is durable", saved.generation),
    ///     Err(failed) => {
    ///         println!("{failed}");                      // "quit without saving?"
    ///         let mut game = *failed.session;            // play can go on
    ///         game.save();
    ///     }
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn quit_within(mut self, timeout: Duration) -> Result<Saved, QuitError> {
        let ticket = self.save();
        match self.running.saver.queue().insist(ticket.targets(), timeout) {
            Ok(saved) => {
                self.running.saver.queue().prune(&self.running.owner);
                // A session that has saved everything can only be quit once, here.
                let _ = self.progress.quit();
                Ok(saved)
            }
            Err(error) => Err(QuitError { error, session: Box::new(self) }),
        }
    }

    /// Takes over what other sessions of this process made of the device's values. Everything that takes `&mut self`
    /// does that first; a game that only reads can do it once a frame.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Saver, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// let saver = Saver::new(MemoryStore::default());
    /// let mut ada = Session::launch(&spec, &saver, "ada")?;
    /// let mut bo = Session::launch(&spec, &saver, "bo")?;
    /// let volume = spec.int("volume")?;
    /// ada.set(volume, 20)?;
    /// bo.sync_device();
    /// assert_eq!(bo.get(volume), 20);
    /// # ada.quit()?;
    /// # bo.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline(always)]
    pub fn sync_device(&mut self) {
        if self.has_device && !self.running.saver.is_newest_device(self.seen) {
            self.take_device_values();
        }
    }

    #[cold]
    #[inline(never)]
    fn take_device_values(&mut self) {
        self.running.saver.device().take_values(&mut self.progress, &mut self.seen);
    }

    /// Does something to the progress, on the newest values of the device and for all to see.
    fn act<T>(&mut self, act: impl FnOnce(&mut Progress) -> T) -> T {
        if !self.has_device {
            return act(&mut self.progress);
        }
        let mut live = self.running.saver.device();
        live.take_values(&mut self.progress, &mut self.seen);
        let result = act(&mut self.progress);
        self.seen = live.leave_values(&self.progress);
        self.running.saver.publish_device(self.seen);
        result
    }

    /// Does something to the progress that changes no value of the device, on the newest of them: nobody else has to hear of it.
    #[inline(always)]
    fn act_alone<T>(&mut self, act: impl FnOnce(&mut Progress) -> T) -> T {
        self.sync_device();
        act(&mut self.progress)
    }

    /// Writes a field by name.
    fn write_field(
        &mut self,
        field: &str,
        write: impl FnOnce(&mut Progress) -> Result<Written, AccessError>,
    ) -> Result<Written, AccessError> {
        let written = match self.has_device && self.progress.is_device_field(field) {
            true => self.act(write),
            false => self.act_alone(write),
        };
        self.saved(written)
    }
}

/// A quit that could not save, and the session it left as it was.
#[derive(Error)]
#[error("{error}")]
pub struct QuitError {
    /// Says why.
    pub error: Arc<StoreError>,
    /// The session, to play on or to try again.
    pub session: Box<Session>,
}

impl fmt::Debug for QuitError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("QuitError").field("error", &self.error).finish_non_exhaustive()
    }
}

impl fmt::Debug for Session {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let place = self.progress.place();
        f.debug_struct("Session").field("profile", &self.profile()).field("place", &place).finish_non_exhaustive()
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        if !self.progress.is_closed() {
            tracing::warn!(profile = %self.profile(), "the session was dropped without quit: what was not saved is lost");
        }
    }
}

/// The origins of the saves to come, in a game that merges.
fn following(
    spec: &Spec,
    patience: &Patience<'_>,
    owner: &Owner,
    found: &NewestImage,
) -> Result<Option<Following>, SessionError> {
    // Numbers that saves had which cannot be read now are not given again.
    let lost = match &found.origin {
        Origin::Recovered { .. } => true,
        Origin::Fresh => found.image.is_none() && found.deletion.is_none() && found.newest > 0,
        Origin::Loaded { .. } => false,
    };
    let newest = found.image.as_ref().or(found.deletion.as_ref());
    Following::begin(spec, patience, owner, newest, lost).map_err(|error| match error {
        FollowError::Load(error) => error.into(),
        FollowError::Store(error) => error.into(),
    })
}
