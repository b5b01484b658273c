//! The session as a resource.

use std::marker::PhantomData;
use std::ops::{Deref, DerefMut};

use bevy_ecs::prelude::*;
use vestigum::{Call, Outcome, Refused, Session};

use crate::seat::{FirstSeat, Seat};

/// The session of a player, while somebody plays. It is there from [`PlayerLaunched`](crate::messages::PlayerLaunched) on, until
/// [`PlayerLauncher::leave`](crate::PlayerLauncher::leave) or the end of the app.
///
/// It reads and writes as a [`Session`] does. Moments are said here, and what they came to is told as
/// [`MomentHappened`](crate::messages::MomentHappened) too, so that the system that says a moment need not know who wants to hear of it.
///
/// ```
/// use bevy_ecs::prelude::*;
/// use vestigum_bevy::PlayerSession;
///
/// fn fall(mut game: ResMut<PlayerSession>) -> Result {
///     let fell = game.death()?;
///     println!("back to {:?}", fell.respawn);
///     Ok(())
/// }
/// ```
#[derive(Resource)]
pub struct PlayerSession<P: Seat = FirstSeat> {
    session: Session,
    /// Says what moments came to since it was last told.
    happened: Vec<Outcome>,
    seat: PhantomData<fn() -> P>,
}

impl<P: Seat> PlayerSession<P> {
    pub(crate) fn new(session: Session) -> PlayerSession<P> {
        PlayerSession { session, happened: Vec::new(), seat: PhantomData }
    }

    pub(crate) fn into_session(self) -> Session {
        self.session
    }

    pub(crate) fn take_happened(&mut self) -> Vec<Outcome> {
        std::mem::take(&mut self.happened)
    }

    pub(crate) fn has_happened(&self) -> bool {
        !self.happened.is_empty()
    }

    /// Says a moment; see [`Session::apply`].
    ///
    /// # Errors
    /// As [`Session::apply`].
    pub fn apply(&mut self, call: Call<'_>) -> Result<Outcome, Refused> {
        let outcome = self.session.apply(call)?;
        self.happened.push(outcome.clone());
        Ok(outcome)
    }
}

macro_rules! moments {
    ($($name:ident($($argument:ident: $ty:ty),*) => $call:expr;)*) => {
        impl<P: Seat> PlayerSession<P> {
            $(#[doc = concat!("Says a moment; see [`Session::", stringify!($name), "`].")]
            ///
            /// # Errors
            #[doc = concat!("As [`Session::", stringify!($name), "`].")]
            pub fn $name(&mut self $(, $argument: $ty)*) -> Result<Outcome, Refused> {
                self.apply($call)
            })*
        }
    };
}

moments! {
    new_run() => Call::NewRun;
    enter(level: impl AsRef<str>) => Call::enter(level.as_ref());
    enter_at(level: impl AsRef<str>, checkpoint: impl AsRef<str>) => Call::enter(level.as_ref()).at(checkpoint.as_ref());
    enter_any(level: impl AsRef<str>, checkpoint: Option<&str>) => Call::Enter { level: level.as_ref(), checkpoint, locked: false };
    checkpoint(name: impl AsRef<str>) => Call::Checkpoint(name.as_ref());
    death() => Call::Death;
    restart() => Call::Restart;
    complete() => Call::Complete;
    complete_by(exit: impl AsRef<str>) => Call::CompleteBy(exit.as_ref());
    travel() => Call::Travel;
    abandon() => Call::Abandon;
    game_over() => Call::GameOver;
    own_moment(name: impl AsRef<str>) => Call::Own(name.as_ref());
}

impl<P: Seat> Deref for PlayerSession<P> {
    type Target = Session;

    fn deref(&self) -> &Session {
        &self.session
    }
}

impl<P: Seat> DerefMut for PlayerSession<P> {
    fn deref_mut(&mut self) -> &mut Session {
        &mut self.session
    }
}
