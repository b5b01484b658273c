//! A session: progress that is loaded from a store and saved into it.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use thiserror::Error;
use vestigum_core::handle::{Number, Scalar};
use vestigum_core::{
    AccessError, BoardRow, Change, Entry, Handle, Image, Launched, LoadError, LoadReport, Outcome, Owner, Place,
    Progress, Refused, Reset, Span, Spec, Suspended, Update, Value, Written,
};

use crate::peek::Peek;
use crate::recovery::{Found, anew, newest_readable};
use crate::saver::{SaveTicket, Saver};
use crate::store::{Store, StoreError, checked_profile};

/// How long `quit` waits for the last save.
const QUIT_WAITS: Duration = Duration::from_secs(3);

/// One player's session: from `launch` to `quit`.
///
/// It reads as a [`Progress`] does and saves when the spec's `[save] at` asks for it: the moment hands over what a save
/// writes, and the saver's thread makes it durable. A save that fails never stops play: [`Session::save_failure`]
/// tells, and it is tried again. Dropping a session without `quit` is a crash: what was not handed over is lost.
///
/// Two players can have sessions at once, on handles of the same store. They share the device's values: each of them
/// sees what the other made of them from its next call that takes `&mut self` on.
pub struct Session {
    spec: Spec,
    progress: Progress,
    running: Running,
    report: LoadReport,
    launched: Outcome,
    has_device: bool,
    /// Whether there is something to save for the device.
    saves_device: bool,
    /// The version of the device's values that the progress holds.
    seen: u64,
}

/// How a session takes what was saved: with the moment `launch` or without.
type Load = fn(&Spec, Option<&Image>, Option<&Image>) -> Result<Launched, LoadError>;

/// How a session looks for what was saved: refusing over damage, or beginning anew.
type Find = fn(&dyn Store, &Owner) -> Result<Found, SessionError>;

/// A save that is durable.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Saved {
    /// The generation of the profile that holds the progress.
    pub generation: u64,
    /// Whether anything had to be written.
    pub written: bool,
}

/// The place of a session among the others on its store. Dropping it gives the place up.
struct Running {
    saver: Saver,
    owner: Owner,
    joined: bool,
}

impl Drop for Running {
    fn drop(&mut self) {
        if self.joined {
            self.saver.device().part();
        }
        self.saver.desk().end(&self.owner);
    }
}

/// Why a session could not begin or end.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SessionError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A session of this process runs for that player already.
    #[error("a session of {owner} runs already; quit it first")]
    AlreadyRunning {
        /// The player.
        owner: Owner,
    },
    /// A session of this process runs on the same store, by another spec.
    #[error("another session of this process uses these saves with another spec; all sessions on a store share one")]
    OtherSpec,
    /// An earlier session of that player in this process handed a save over that is still not durable.
    #[error("the last session's save is not durable yet, so it cannot be loaded: {0}")]
    Unsettled(Arc<StoreError>),
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
    #[error("no save of {owner} can be read:{}\nnothing was overwritten; `saves verify` tells more, and a game begins anew only if it is asked to", damaged_list(.damaged))]
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
    /// Loads a profile's progress, or begins it, and launches. A profile's name has 1 to 60 characters of any script.
    ///
    /// # Errors
    /// If the store cannot be read, the newest image is of another game or a newer version, or all are damaged. No
    /// file is changed then. Also if a session of that player runs in this process already.
    pub fn launch(spec: &Spec, store: impl Store + 'static, profile: &str) -> Result<Session, SessionError> {
        Session::open(spec, Saver::of(store), profile, Progress::launch, newest_readable)
    }

    /// As [`Session::launch`], but where there are saves and none can be read, a new game begins over them: for a game
    /// that has asked its player after [`SessionError::AllDamaged`]. The damaged files stay where they are.
    ///
    /// # Errors
    /// As [`Session::launch`], except for damage.
    pub fn launch_anew(spec: &Spec, store: impl Store + 'static, profile: &str) -> Result<Session, SessionError> {
        Session::open(spec, Saver::of(store), profile, Progress::launch, anew)
    }

    /// Loads a profile's progress without launching it: for tools that repair saves.
    ///
    /// # Errors
    /// As [`Session::launch`].
    pub fn inspect(spec: &Spec, store: impl Store + 'static, profile: &str) -> Result<Session, SessionError> {
        Session::open(spec, Saver::of(store), profile, Progress::load, newest_readable)
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
        let found = newest_readable(store, &Owner::Profile(profile.to_owned()))?;
        let device = newest_readable(store, &Owner::Device)?;
        let Launched { progress, mut report, .. } = Progress::load(spec, found.image.as_ref(), device.image.as_ref())?;
        (report.origin, report.device_origin) = (found.origin, device.origin);
        let (generation, saved_at) = found.image.map(|image| (image.generation, image.saved_at)).unzip();
        Ok(Peek { progress, report, generation: generation.unwrap_or(0), saved_at })
    }

    fn open(spec: &Spec, saver: Saver, profile: &str, load: Load, find: Find) -> Result<Session, SessionError> {
        checked_profile(profile)?;
        let owner = Owner::Profile(profile.to_owned());
        saver.begin(&owner)?;
        let mut running = Running { saver, owner, joined: false };
        let saver = running.saver.clone();
        let found = find(saver.store(), &running.owner)?;
        // Held until this session has joined, so that no other changes the values in between.
        let mut live = saver.device();
        if !live.fits(spec) {
            return Err(SessionError::OtherSpec);
        }
        let device = find(saver.store(), &Owner::Device)?;
        let device_image = live.image(spec, device.image.as_ref())?;
        let Launched { progress, mut report, outcome } = load(spec, found.image.as_ref(), device_image.as_ref())?;
        (report.origin, report.device_origin) = (found.origin, device.origin);
        saver.desk().found(&running.owner, found.newest, spec.keep());
        if !live.is_live() {
            saver.desk().found(&Owner::Device, device.newest, spec.keep());
        }
        if report.migrated.iter().any(|step| step.device_first) {
            saver.desk().device_first(&running.owner);
        }
        let seen = live.join(&progress);
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
            saves_device,
            seen,
        };
        if save_due {
            session.save();
        }
        Ok(session)
    }

    /// The newest generation of the profile that is durable; 0 if nothing was saved yet.
    pub fn generation(&self) -> u64 {
        self.running.saver.desk().generation(&self.running.owner)
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
        match &self.running.owner {
            Owner::Profile(name) => name,
            Owner::Device => "",
        }
    }

    /// Why the last save failed, while none has succeeded since.
    pub fn save_failure(&self) -> Option<Arc<StoreError>> {
        self.running.saver.desk().failure(&[&self.running.owner, &Owner::Device])
    }

    /// Whether everything that was handed over is durable, of this player and of the device: the gate before a level
    /// change.
    pub fn settled(&self) -> bool {
        self.running.saver.desk().settled(&[&self.running.owner, &Owner::Device])
    }

    /// Waits until everything that was handed over is durable, of this player and of the device.
    ///
    /// # Errors
    /// If that takes longer than `timeout`, with the reason why the last try failed. It is still being tried.
    pub fn settle(&self, timeout: Duration) -> Result<(), Arc<StoreError>> {
        self.running.saver.desk().settle(&[&self.running.owner, &Owner::Device], timeout)
    }

    /// Saves what the player would have if they quit now: works it out, hands it over and returns. The ticket tells
    /// when it is durable; dropping the ticket changes nothing.
    pub fn save(&mut self) -> SaveTicket {
        self.update();
        self.running.saver.hand_over(&self.running.owner, self.progress.suspend(), self.saves_device)
    }

    /// Saves and ends the session. Waits up to 3 seconds for the save to be durable.
    ///
    /// # Errors
    /// As [`Session::quit_within`].
    pub fn quit(self) -> Result<Saved, QuitError> {
        self.quit_within(QUIT_WAITS)
    }

    /// Saves and ends the session, and waits for the save to be durable, but not longer than `timeout`.
    ///
    /// # Errors
    /// If the save is not durable by then, or cannot become so. The session comes back with the error, nothing is
    /// lost, play can go on and `quit` can be tried again.
    pub fn quit_within(mut self, timeout: Duration) -> Result<Saved, QuitError> {
        let ticket = self.save();
        match self.running.saver.desk().insist(ticket.marks(), timeout) {
            Ok(saved) => {
                self.running.saver.desk().prune(&self.running.owner);
                // A session that has saved everything can only be quit once, here.
                let _ = self.progress.quit();
                Ok(saved)
            }
            Err(error) => Err(QuitError { error, session: Box::new(self) }),
        }
    }

    /// Takes over what other sessions of this process made of the device's values. Everything that takes `&mut self`
    /// does that first; a game that only reads can do it once a frame.
    pub fn update(&mut self) {
        if self.has_device {
            self.running.saver.device().take_values(&mut self.progress, &mut self.seen);
        }
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
        result
    }

    fn moment(&mut self, moment: impl FnOnce(&mut Progress) -> Result<Outcome, Refused>) -> Result<Outcome, Refused> {
        let outcome = self.act(moment)?;
        if outcome.save_due {
            self.save();
        }
        Ok(outcome)
    }
}

/// A quit that could not save, and the session it left as it was.
#[derive(Error)]
#[error("{error}")]
pub struct QuitError {
    /// Why.
    #[source]
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

/// What reads progress. There is no way to the [`Progress`] itself: what plays is the session, and a copy of it that does
/// not save cannot be made by accident.
///
/// ```compile_fail
/// # use vestigum::{MemoryStore, Session, Spec};
/// # let spec = Spec::from_toml("[game]\nid = \"fellpost\"").unwrap();
/// let game = Session::launch(&spec, MemoryStore::default(), "ada").unwrap();
/// let mut copy = game.clone();
/// copy.new_run();
/// ```
impl Session {
    /// The spec it runs.
    pub fn spec(&self) -> &Spec {
        &self.spec
    }

    /// Where the player stands.
    pub fn place(&self) -> Place {
        self.progress.place()
    }

    /// The level overview, in the order of the levels; see [`Progress::board`].
    pub fn board(&self) -> Vec<BoardRow> {
        self.progress.board()
    }

    /// Every value; see [`Progress::entries`].
    pub fn entries(&self) -> Vec<Entry> {
        self.progress.entries()
    }

    /// Reads a value; see [`Progress::get`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    #[inline]
    pub fn get<T: Scalar + ?Sized>(&self, at: Handle<T>) -> T::Read<'_> {
        self.progress.get(at)
    }

    /// Whether an optional field has a value.
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn filled<T: ?Sized>(&self, at: Handle<T>) -> bool {
        self.progress.filled(at)
    }

    /// Reads a field by name; see [`Progress::value`].
    ///
    /// # Errors
    /// As [`Progress::value`].
    pub fn value(&self, field: &str, keys: &[&str]) -> Result<Value, AccessError> {
        self.progress.value(field, keys)
    }

    /// Computes a derived value; see [`Progress::derived`].
    ///
    /// # Errors
    /// As [`Progress::derived`].
    pub fn derived(&self, name: &str) -> Result<Value, AccessError> {
        self.progress.derived(name)
    }

    /// Reads a field as a Rust value; see [`Progress::read_as`].
    ///
    /// # Errors
    /// As [`Progress::read_as`].
    pub fn read_as<T: DeserializeOwned>(&self, field: &str, keys: &[&str]) -> Result<T, AccessError> {
        self.progress.read_as(field, keys)
    }

    /// What [`Session::reset`] would change.
    ///
    /// # Errors
    /// As [`Session::reset`].
    pub fn preview_reset(&self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
        self.progress.preview_reset(reset)
    }

    /// What a save would write now: the player's progress as it would be after quitting.
    pub fn suspend(&self) -> Suspended {
        self.progress.suspend()
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        if !self.progress.is_closed() {
            tracing::warn!(profile = %self.profile(), "the session was dropped without quit: what was not saved is lost");
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
                self.moment(|progress| progress.$name($($argument),*))
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
        self.act(|progress| progress.set(at, value))
    }

    /// Adds to a number; see [`Progress::add`].
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn add<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        self.act(|progress| progress.add(at, by))
    }

    /// Writes a field by name; see [`Progress::write`].
    ///
    /// # Errors
    /// As [`Progress::write`].
    pub fn write(&mut self, field: &str, keys: &[&str], value: Value) -> Result<Written, AccessError> {
        self.act(|progress| progress.write(field, keys, value))
    }

    /// Adds to a field by name; see [`Progress::write_add`].
    ///
    /// # Errors
    /// As [`Progress::write_add`].
    pub fn write_add(&mut self, field: &str, keys: &[&str], by: Value) -> Result<Written, AccessError> {
        self.act(|progress| progress.write_add(field, keys, by))
    }

    /// Puts a value into a list or a set; see [`Progress::insert`].
    ///
    /// # Errors
    /// As [`Progress::insert`].
    pub fn insert(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.act(|progress| progress.insert(field, keys, item))
    }

    /// Puts a value under a key of a map; see [`Progress::insert_at`].
    ///
    /// # Errors
    /// As [`Progress::insert_at`].
    pub fn insert_at(&mut self, field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError> {
        self.act(|progress| progress.insert_at(field, keys, at, item))
    }

    /// Takes a value out of a list, a set or a map; see [`Progress::remove`].
    ///
    /// # Errors
    /// As [`Progress::remove`].
    pub fn remove(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.act(|progress| progress.remove(field, keys, item))
    }

    /// Writes a Rust value into a field; see [`Progress::write_from`].
    ///
    /// # Errors
    /// As [`Progress::write_from`].
    pub fn write_from<T: Serialize>(&mut self, field: &str, keys: &[&str], value: &T) -> Result<Written, AccessError> {
        self.act(|progress| progress.write_from(field, keys, value))
    }

    /// What changed since the last call, for a display; see [`Progress::drain_changes`].
    pub fn drain_changes(&mut self) -> Vec<Update> {
        self.act(|progress| progress.drain_changes())
    }

    /// Resets and saves at once, as a new generation: the one before can be restored.
    ///
    /// # Errors
    /// If there is no such level, field or key. Nothing has changed then.
    pub fn reset(&mut self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
        let changes = self.act(|progress| progress.reset(reset))?;
        self.save();
        Ok(changes)
    }
}
