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

enum Wanted {
    Launch { profile: String, anew: bool },
    Leave,
}

/// Describes what a thread comes back with.
pub(crate) enum Done {
    Launched(Result<Box<Session>, SessionError>),
    Left(Result<Saved, QuitError>),
}

impl<P: Seat> PlayerLauncher<P> {
    pub(crate) fn new(spec: Spec, saver: Saver, limit: Duration) -> PlayerLauncher<P> {
        PlayerLauncher { spec, saver, limit, state: State::Idle, seat: PhantomData }
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
    /// is there. If somebody plays, that session is left first; where it cannot be saved, the player stays, and
    /// [`PlayerLeaveFailed`](crate::messages::PlayerLeaveFailed) tells. False if the launcher is busy: then nothing is done.
    pub fn launch(&mut self, profile: &str) -> bool {
        self.want(Wanted::Launch { profile: profile.to_owned(), anew: false })
    }

    /// As [`PlayerLauncher::launch`], but begins a new game where none of the saves can be read; see [`Session::launch_anew`].
    pub fn launch_anew(&mut self, profile: &str) -> bool {
        self.want(Wanted::Launch { profile: profile.to_owned(), anew: true })
    }

    /// Leaves the session of whoever plays: it is saved on a thread of its own, and [`PlayerLeft`](crate::messages::PlayerLeft) tells when
    /// that is durable. Until then there is no [`PlayerSession`](crate::PlayerSession). False if the launcher is busy.
    pub fn leave(&mut self) -> bool {
        self.want(Wanted::Leave)
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
                self.run(name, move || match running.map(|session| session.quit_within(limit)) {
                    Some(Err(stuck)) => Done::Left(Err(stuck)),
                    Some(Ok(_)) | None => Done::Launched(launch(&spec, saver, &profile).map(Box::new)),
                });
            }
        }
    }

    fn quit(&mut self, session: Session) {
        let limit = self.limit;
        self.run(session.profile().to_owned(), move || Done::Left(session.quit_within(limit)));
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

fn do_once(work: &Mutex<Option<impl FnOnce()>>) {
    let work = work.lock().ok().and_then(|mut work| work.take());
    if let Some(work) = work {
        work();
    }
}
