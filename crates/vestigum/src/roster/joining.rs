//! Letting players in, off the server's thread.

use std::fmt;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use thiserror::Error;

use vestigum_core::Owner;

use super::keeper::Shared;
use crate::error::SessionError;
use crate::session::Session;
use crate::store::{Lease, StoreError};

/// Says how long a player whose lease is held elsewhere waits before it is asked for again.
const ASK_AGAIN: Duration = Duration::from_millis(100);
/// The longest such pause.
const LONGEST_ASK: Duration = Duration::from_secs(1);

/// Describes why a player cannot play here.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum JoinError {
    /// Another server has the player.
    #[error("{player} plays on `{}`, which holds the lease for another {} s unless it renews it", .holder.escape_debug(), .left.as_secs_f64().ceil())]
    Held {
        /// The player.
        player: String,
        /// The other server.
        holder: String,
        /// For how long its lease runs.
        left: Duration,
    },
    /// The player is on this roster already.
    #[error("{player} is here already")]
    AlreadyHere {
        /// The player.
        player: String,
    },
    /// The player's progress cannot be loaded.
    #[error(transparent)]
    Session(#[from] SessionError),
    /// The roster lets nobody in any more.
    #[error("the server is shutting down")]
    ShuttingDown,
}

/// A player on the way in.
#[derive(Clone, Default)]
pub struct JoinTicket {
    state: Arc<TicketState>,
}

#[derive(Default)]
struct TicketState {
    result: Mutex<Option<Result<(), Arc<JoinError>>>>,
    told: Condvar,
}

impl JoinTicket {
    pub(super) fn refused(why: JoinError) -> JoinTicket {
        let ticket = JoinTicket::default();
        ticket.tell(Err(Arc::new(why)));
        ticket
    }

    fn lock(&self) -> MutexGuard<'_, Option<Result<(), Arc<JoinError>>>> {
        self.state.result.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn tell(&self, result: Result<(), Arc<JoinError>>) {
        *self.lock() = Some(result);
        self.state.told.notify_all();
    }

    /// Returns what came of it; none while the player is being loaded. When it is `Ok`, [`Roster::get_mut`](super::Roster::get_mut) has the player.
    pub fn poll(&self) -> Option<Result<(), Arc<JoinError>>> {
        self.lock().clone()
    }

    /// Waits for it. Not for the thread that plays: that one polls, or looks at what [`Roster::tick`](super::Roster::tick) tells.
    ///
    /// # Errors
    /// If the player cannot play here.
    pub fn wait(&self) -> Result<(), Arc<JoinError>> {
        let mut result = self.lock();
        loop {
            if let Some(result) = &*result {
                return result.clone();
            }
            result = self.state.told.wait(result).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

impl fmt::Debug for JoinTicket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("JoinTicket").field("state", &self.poll()).finish()
    }
}

/// A player who is to be let in.
pub(super) struct Join {
    pub player: Arc<str>,
    pub ticket: JoinTicket,
    /// Until when another server is waited for.
    pub until: Instant,
    /// Says how often it was asked for.
    pub asked: u32,
}

/// Describes what came of it, for the server's thread.
pub(super) struct Arrival {
    pub player: Arc<str>,
    pub result: Result<(Session, Lease), Arc<JoinError>>,
}

/// Describes what came of one try.
enum Tried {
    /// The session, the lease, and when it was asked for.
    Done(Result<Box<(Session, Lease, Instant)>, JoinError>),
    /// Another server has the player, and may let go.
    Again(Instant),
}

impl Shared {
    /// Loads players on one of the roster's threads until the roster ends.
    pub(super) fn load_players(&self) {
        while let Some(join) = self.next_join() {
            let result = match self.try_to_join(&join) {
                Tried::Again(at) => {
                    self.join_again(join, at);
                    continue;
                }
                Tried::Done(result) => result,
            };
            let told = match result {
                Ok(arrived) => {
                    let (session, lease, asked) = *arrived;
                    self.keep_lease(&join.player, lease.clone(), asked);
                    Ok((session, lease))
                }
                Err(why) => Err(Arc::new(why)),
            };
            let ticket = told.as_ref().map(|_| ()).map_err(Arc::clone);
            // Where nobody takes it in, the roster has ended, and the session with it.
            self.arrived(Arrival { player: join.player, result: told });
            join.ticket.tell(ticket);
        }
    }

    fn try_to_join(&self, join: &Join) -> Tried {
        let player = &join.player;
        let owner = Arc::new(Owner::Profile(player.to_string()));
        let store = self.saver.store();
        let asked = Instant::now();
        let lease = match store.lease(&owner, &self.options.holder, self.options.lease) {
            Ok(lease) => lease,
            Err(StoreError::Leased { holder, left, .. }) => {
                let now = Instant::now();
                // One whose lease runs long is asked for less and less often: there may be thousands of them.
                let pause = (ASK_AGAIN * (join.asked + 1)).min(LONGEST_ASK);
                let again = now + pause.min(left.max(Duration::from_millis(1)));
                if now < join.until {
                    return Tried::Again(again.min(join.until));
                }
                return Tried::Done(Err(JoinError::Held { player: player.to_string(), holder, left }));
            }
            Err(error) => return Tried::Done(Err(SessionError::from(error).into())),
        };
        self.saver.queue().set_lease(&owner, Some(lease.clone()));
        match Session::open_for_roster(&self.spec, &self.saver, player) {
            Ok(session) => Tried::Done(Ok(Box::new((session, lease, asked)))),
            Err(error) => {
                if let Err(error) = store.release(std::slice::from_ref(&lease)) {
                    tracing::warn!(%owner, %error, "a lease could not be given back; it runs out by itself");
                }
                self.saver.queue().retire(&owner);
                Tried::Done(Err(error.into()))
            }
        }
    }
}
