//! Launching and leaving on a thread of their own, so that no frame waits for a disk.

use std::marker::PhantomData;
use std::mem;
use std::sync::mpsc::{Receiver, TryRecvError, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use bevy_ecs::prelude::*;
use vestigum::{QuitError, Saved, Saver, Session, SessionError, Spec};

use crate::seat::{FirstSeat, Seat};

/// Launches a player's session, and leaves it. The plugin inserts one.
///
/// ```
/// use bevy_ecs::prelude::*;
/// use vestigum_bevy::PlayerLauncher;
/// use vestigum_bevy::messages::PlayerLaunchFailed;
///
/// fn chosen(mut launcher: ResMut<PlayerLauncher>) {
///     launcher.launch("ada");
/// }
///
/// fn say(mut failed: MessageReader<PlayerLaunchFailed>) {
///     for failed in failed.read() {
///         println!("{} cannot play: {}", failed.profile, failed.error);
///     }
/// }
/// ```
#[derive(Resource)]
pub struct PlayerLauncher<P: Seat = FirstSeat> {
    spec: Spec,
    saver: Saver,
    pub(crate) limit: Duration,
    state: State,
    /// Whether somebody plays.
    playing: bool,
    seat: PhantomData<fn() -> P>,
}

enum State {
    /// Nothing is under way.
    Idle,
    /// Asked for, and not begun.
    Wanted(Wanted),
    /// A thread launches or quits.
    Busy { profile: String, done: Mutex<Receiver<Done>> },
}

/// Describes a player who has left, with everything saved.
pub(crate) struct Gone {
    pub profile: String,
    pub generation: u64,
}

enum Wanted {
    Launch { profile: String, anew: bool },
    Leave,
}

/// Describes what a thread comes back with.
pub(crate) enum Done {
    /// A session, and who has left for it.
    Launched(Box<Session>, Option<Gone>),
    /// A player who could not be launched, and the session of whoever plays still.
    Refused(SessionError, Option<Box<Session>>),
    Left(Gone),
    /// The last save failed: the session is there still.
    Stays(QuitError),
}

impl<P: Seat> PlayerLauncher<P> {
    pub(crate) fn new(spec: Spec, saver: Saver, limit: Duration) -> PlayerLauncher<P> {
        PlayerLauncher { spec, saver, limit, state: State::Idle, playing: false, seat: PhantomData }
    }

    /// The saver, for [`Profiles`](vestigum::Profiles) and for peeking on a title screen.
    pub fn saver(&self) -> &Saver {
        &self.saver
    }

    /// The spec.
    pub fn spec(&self) -> &Spec {
        &self.spec
    }

    /// Returns whether a session is being launched or left.
    pub fn is_busy(&self) -> bool {
        !matches!(self.state, State::Idle)
    }

    /// Launches a player's session: it is read on a thread of its own, and [`PlayerLaunched`](crate::messages::PlayerLaunched) tells when it
    /// is there. If somebody else plays, that session is left once the new one is read, and [`PlayerLeft`](crate::messages::PlayerLeft) tells
    /// it. Where the new one cannot be launched, or the old one cannot be saved, the old one plays on, and
    /// [`PlayerLaunchFailed`](crate::messages::PlayerLaunchFailed) or [`PlayerLeaveFailed`](crate::messages::PlayerLeaveFailed) says why.
    /// Returns `false` if the launcher is busy: then nothing is done.
    pub fn launch(&mut self, profile: &str) -> bool {
        self.want(Wanted::Launch { profile: profile.to_owned(), anew: false })
    }

    /// As [`PlayerLauncher::launch`], but begins a new game where none of the saves can be read; see [`Session::launch_anew`].
    pub fn launch_anew(&mut self, profile: &str) -> bool {
        self.want(Wanted::Launch { profile: profile.to_owned(), anew: true })
    }

    /// Leaves the session of whoever plays: it is saved on a thread of its own, and [`PlayerLeft`](crate::messages::PlayerLeft) tells when
    /// that is durable. Until then there is no [`PlayerSession`](crate::PlayerSession). Returns `false` if the launcher is busy or nobody plays: then nothing is done.
    pub fn leave(&mut self) -> bool {
        self.playing && self.want(Wanted::Leave)
    }

    /// Notes whether somebody plays from now on.
    pub(crate) fn plays(&mut self, playing: bool) {
        self.playing = playing;
    }

    fn want(&mut self, wanted: Wanted) -> bool {
        let free = !self.is_busy();
        if free {
            self.state = State::Wanted(wanted);
        }
        free
    }

    /// Returns whether something was asked for and is not begun.
    pub(crate) fn is_wanted(&self) -> bool {
        matches!(self.state, State::Wanted(_))
    }

    /// Begins what is wanted, with the session that runs. Who wants to launch while somebody plays gets that one left first.
    pub(crate) fn begin(&mut self, running: Option<Session>) {
        let State::Wanted(wanted) = mem::replace(&mut self.state, State::Idle) else { return };
        match (wanted, running) {
            (Wanted::Leave, None) => {}
            (Wanted::Leave, Some(session)) => self.quit(session),
            (Wanted::Launch { profile, anew }, running) => {
                let (spec, saver, limit) = (self.spec.clone(), self.saver.clone(), self.limit);
                let launch = if anew { Session::launch_anew } else { Session::launch };
                let name = profile.clone();
                self.run(name, move || switch(running, limit, &profile, || launch(&spec, saver, &profile)));
            }
        }
    }

    fn quit(&mut self, session: Session) {
        let limit = self.limit;
        self.run(session.profile().to_owned(), move || leave(session, limit).map_or_else(Done::Stays, Done::Left));
    }

    fn run(&mut self, profile: String, work: impl FnOnce() -> Done + Send + 'static) {
        let (sender, receiver) = sync_channel(1);
        let work = Arc::new(Mutex::new(Some(move || drop(sender.send(work())))));
        let of_thread = work.clone();
        self.state = State::Busy { profile, done: Mutex::new(receiver) };
        let begun = thread::Builder::new().name("vestigum player".into()).spawn(move || do_once(&of_thread));
        if begun.is_err() {
            // There can be no thread more: this frame waits, and nothing is lost.
            do_once(&work);
        }
    }

    /// Returns what a thread came back with, and whose it is.
    pub(crate) fn done(&mut self) -> Option<(String, Done)> {
        let State::Busy { profile, done } = &mut self.state else { return None };
        let found = match done.get_mut() {
            Ok(receiver) => receiver.try_recv(),
            Err(poisoned) => poisoned.into_inner().try_recv(),
        };
        let found = match found {
            Ok(done) => Some((mem::take(profile), done)),
            Err(TryRecvError::Empty) => return None,
            // The thread is gone without a word: it panicked, and said so.
            Err(TryRecvError::Disconnected) => None,
        };
        self.state = State::Idle;
        found
    }

    /// Waits for what is under way: when the app exits.
    pub(crate) fn wait(&mut self, limit: Duration) -> Option<Done> {
        let State::Busy { done, .. } = &mut self.state else { return None };
        let receiver = done.get_mut().ok()?;
        receiver.recv_timeout(limit).ok()
    }
}

/// Quits a session.
fn leave(session: Session, limit: Duration) -> Result<Gone, QuitError> {
    let profile = session.profile().to_owned();
    let Saved { generation, .. } = session.quit_within(limit)?;
    Ok(Gone { profile, generation })
}

/// Launches a player in place of whoever plays. The new session comes first, so that a launch that fails leaves the old one as it is; only a player
/// who is launched anew has to leave before.
fn switch(
    running: Option<Session>,
    limit: Duration,
    profile: &str,
    launch: impl FnOnce() -> Result<Session, SessionError>,
) -> Done {
    let launched = |launched: Result<Session, SessionError>, gone| match launched {
        Ok(session) => Done::Launched(Box::new(session), gone),
        Err(error) => Done::Refused(error, None),
    };
    match running {
        None => launched(launch(), None),
        Some(old) if old.profile() == profile => match leave(old, limit) {
            Ok(gone) => launched(launch(), Some(gone)),
            Err(stuck) => Done::Stays(stuck),
        },
        Some(old) => match launch() {
            Err(error) => Done::Refused(error, Some(Box::new(old))),
            Ok(new) => match leave(old, limit) {
                Ok(gone) => Done::Launched(Box::new(new), Some(gone)),
                // Nothing was played in the new one.
                Err(stuck) => Done::Stays(stuck),
            },
        },
    }
}

fn do_once(work: &Mutex<Option<impl FnOnce()>>) {
    let work = work.lock().ok().and_then(|mut work| work.take());
    if let Some(work) = work {
        work();
    }
}
