//! What happened, as messages. All of them are written in `PreUpdate` (a launch, a leave) or `PostUpdate` (the rest), in the set
//! [`ProgressSystems`](crate::ProgressSystems).

use std::marker::PhantomData;
use std::sync::Arc;

use bevy_ecs::prelude::*;
use vestigum::{LoadReport, Outcome, SessionError, StoreError, Update};

use crate::seat::{FirstSeat, Seat};

macro_rules! messages {
    ($($(#[$doc:meta])* $name:ident { $($(#[$of:meta])* $field:ident: $ty:ty),* $(,)? })*) => {$(
        $(#[$doc])*
        #[derive(Message, Clone, Debug)]
        #[non_exhaustive]
        pub struct $name<P: Seat = FirstSeat> {
            $($(#[$of])* pub $field: $ty,)*
            seat: PhantomData<fn() -> P>,
        }

        impl<P: Seat> $name<P> {
            pub(crate) fn new($($field: $ty),*) -> $name<P> {
                $name { $($field,)* seat: PhantomData }
            }
        }
    )*};
}

messages! {
    /// A player's session is there from now on.
    PlayerLaunched {
        /// Whose.
        profile: String,
        /// Says what loading did: what was left out, brought into its limits or migrated.
        report: LoadReport,
        /// Says what the moment `launch` came to.
        outcome: Outcome,
    }
    /// A player could not be launched. Nothing was changed.
    PlayerLaunchFailed {
        /// Whose session.
        profile: String,
        /// Says why. After [`SessionError::AllDamaged`], and if the player says so, [`PlayerLauncher::launch_anew`](crate::PlayerLauncher::launch_anew).
        error: Arc<SessionError>,
    }
    /// A moment happened.
    MomentHappened {
        /// Says what it came to.
        outcome: Outcome,
    }
    /// A value is not what it was in the frame before; for displays.
    ValueChanged {
        /// Says which, what it was and what it is.
        update: Update,
    }
    /// Everything that was handed over is durable.
    PlayerSaved {
        /// The generation that the save is.
        generation: u64,
    }
    /// A save failed. Play goes on and it is tried again; [`PlayerSaved`] follows when that succeeds.
    PlayerSaveFailed {
        /// Says why.
        error: Arc<StoreError>,
    }
    /// A player has left, and everything is saved.
    PlayerLeft {
        /// Says who.
        profile: String,
        /// The generation of the last save.
        generation: u64,
    }
    /// A player wanted to leave, and the last save failed: the session is still there, and nothing is lost.
    PlayerLeaveFailed {
        /// Says who.
        profile: String,
        /// Says why.
        error: Arc<StoreError>,
    }
}
