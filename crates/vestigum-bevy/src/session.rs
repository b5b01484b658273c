//! The session as a resource.

use std::fmt::Display;
use std::marker::PhantomData;
use std::ops::Deref;
use std::sync::Arc;
use std::time::Duration;

use bevy_ecs::prelude::*;
use serde::Serialize;
use vestigum::handle::{FieldValue, Item, ListMut, MapMut, MapValue, Number, SetMut, SetValue};
use vestigum::{
    AccessError, Call, Change, CodeError, Edit, Handle, MadeLevelError, Outcome, Part, Redeemed, Refused, Reset,
    SaveTicket, Session, Update, Value, Written,
};

use crate::seat::{FirstSeat, Seat};

/// The session of a player, while somebody plays. It is there from [`PlayerLaunched`](crate::messages::PlayerLaunched) on, until
/// [`PlayerLauncher::leave`](crate::PlayerLauncher::leave) or the end of the app.
///
/// It reads and writes as a [`Session`] does, and is read as one: `&PlayerSession` goes where `&Session` is asked for. Moments are said here, and what they came to is told as
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

macro_rules! writes {
    ($($name:ident$([$($bounds:tt)*])?($($argument:ident: $ty:ty),*) -> $answer:ty;)*) => {
        impl<P: Seat> PlayerSession<P> {
            $(#[doc = concat!("Calls [`Session::", stringify!($name), "`].")]
            ///
            /// # Errors
            #[doc = concat!("As [`Session::", stringify!($name), "`], if at all.")]
            pub fn $name$(<$($bounds)*>)?(&mut self $(, $argument: $ty)*) -> $answer {
                self.session.$name($($argument),*)
            })*
        }
    };
}

// There is no way to the whole session: a moment said there would be reported to nobody.
writes! {
    set[T: FieldValue + ?Sized](at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError>;
    add[T: Number](at: Handle<T>, by: T) -> Result<Written, AccessError>;
    raise[T: FieldValue](at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError>;
    lower[T: FieldValue](at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError>;
    update[T: for<'a> FieldValue<Read<'a> = T, Write<'a> = T>](at: Handle<T>, change: impl FnOnce(&mut T)) -> Result<Written, AccessError>;
    rank[T: Item](at: Handle<Vec<T>>, entry: T) -> Result<Written, AccessError>;
    list_mut[T: Item](at: Handle<Vec<T>>) -> ListMut<'_, Session, T>;
    set_of_mut[S: SetValue](at: Handle<S>) -> SetMut<'_, Session, S>;
    map_mut[M: MapValue](at: Handle<M>) -> MapMut<'_, Session, M>;
    edit(field: &str, keys: &[&str], path: &[Part], edit: Edit) -> Result<Written, AccessError>;
    write(field: &str, keys: &[&str], value: Value) -> Result<Written, AccessError>;
    write_add(field: &str, keys: &[&str], by: Value) -> Result<Written, AccessError>;
    write_from[T: Serialize](field: &str, keys: &[&str], value: &T) -> Result<Written, AccessError>;
    insert(field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError>;
    insert_at(field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError>;
    remove(field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError>;
    tick(passed: Duration) -> Result<Written, AccessError>;
    redeem(name: impl AsRef<str>, code: impl Display) -> Result<Redeemed, CodeError>;
    make_level() -> Result<Arc<str>, MadeLevelError>;
    remove_level(level: impl AsRef<str>) -> Result<Vec<Change>, MadeLevelError>;
    import_level(text: &str) -> Result<Arc<str>, MadeLevelError>;
    reset(reset: &Reset) -> Result<Vec<Change>, AccessError>;
    save() -> SaveTicket;
    sync_device() -> ();
}

impl<P: Seat> PlayerSession<P> {
    pub(crate) fn drain_changes(&mut self) -> Vec<Update> {
        self.session.drain_changes()
    }
}
