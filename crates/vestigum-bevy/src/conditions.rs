//! Run conditions: where the player is, and whether all is saved.
//!
//! They are for the [`FirstSeat`]; [`SeatConditions`] has those of another seat, as
//! `SecondSeat::in_level("mill_lane")`. All of them are
//! false while nobody plays, [`busy`] apart.
//!
//! ```
//! use bevy_app::{App, Update};
//! use bevy_ecs::prelude::*;
//! use vestigum_bevy::conditions::{busy, in_level, in_menu, settled};
//!
//! fn wheel() {}
//! fn walk() {}
//! fn show_board() {}
//! fn loading_screen() {}
//!
//! App::new().add_systems(Update, (
//!     walk.run_if(in_level("mill_lane")),          // or `Level::MillLane`, of the enum that `spec!` makes
//!     show_board.run_if(in_menu),
//!     wheel.run_if(not(settled)),
//!     loading_screen.run_if(busy),
//! ));
//! ```

use bevy_ecs::prelude::*;
use vestigum::Place;

use crate::launcher::PlayerLauncher;
use crate::seat::{FirstSeat, Seat};
use crate::session::PlayerSession;

/// Returns whether the player is in that level.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::in_level;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(in_level("mill_lane")));
/// ```
pub fn in_level(level: impl AsRef<str>) -> impl FnMut(Option<Res<PlayerSession>>) -> bool + Clone {
    FirstSeat::in_level(level)
}

/// Returns whether the player is in some level.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::in_any_level;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(in_any_level));
/// ```
pub fn in_any_level(game: Option<Res<PlayerSession>>) -> bool {
    FirstSeat::in_any_level(game)
}

/// Returns whether the player is in no level, and the run goes on.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::in_menu;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(in_menu));
/// ```
pub fn in_menu(game: Option<Res<PlayerSession>>) -> bool {
    FirstSeat::in_menu(game)
}

/// Returns whether the player's run is over.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::run_over;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(run_over));
/// ```
pub fn run_over(game: Option<Res<PlayerSession>>) -> bool {
    FirstSeat::run_over(game)
}

/// Returns whether somebody plays, and all that was handed over to be saved is durable.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::settled;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(settled));
/// ```
pub fn settled(game: Option<Res<PlayerSession>>) -> bool {
    FirstSeat::settled(game)
}

/// Returns whether somebody plays.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::playing;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(playing));
/// ```
pub fn playing(game: Option<Res<PlayerSession>>) -> bool {
    FirstSeat::playing(game)
}

/// Returns whether a session is being launched or left: for a loading screen.
///
/// # Example
///
/// ```
/// # use bevy_app::{App, Update};
/// # use bevy_ecs::prelude::*;
/// # use vestigum_bevy::conditions::busy;
/// # fn draw() {}
/// # let mut app = App::new();
/// app.add_systems(Update, draw.run_if(busy));
/// ```
pub fn busy(launcher: Option<Res<PlayerLauncher>>) -> bool {
    FirstSeat::busy(launcher)
}

fn is_in<P: Seat>(game: Option<&PlayerSession<P>>, there: impl Fn(&Place) -> bool) -> bool {
    game.is_some_and(|game| there(&game.place()))
}

/// The conditions of a seat, as functions of its type. See [`Seat`] for an example.
pub trait SeatConditions: Seat {
    /// Returns whether the player is in that level.
    fn in_level(level: impl AsRef<str>) -> impl FnMut(Option<Res<PlayerSession<Self>>>) -> bool + Clone {
        let level = level.as_ref().to_owned();
        move |game| is_in(game.as_deref(), |place| matches!(place, Place::InLevel { level: at, .. } if **at == *level))
    }

    /// Returns whether the player is in some level.
    fn in_any_level(game: Option<Res<PlayerSession<Self>>>) -> bool {
        is_in(game.as_deref(), |place| matches!(place, Place::InLevel { .. }))
    }

    /// Returns whether the player is in no level, and the run goes on.
    fn in_menu(game: Option<Res<PlayerSession<Self>>>) -> bool {
        is_in(game.as_deref(), |place| matches!(place, Place::Menu))
    }

    /// Returns whether the player's run is over.
    fn run_over(game: Option<Res<PlayerSession<Self>>>) -> bool {
        is_in(game.as_deref(), |place| matches!(place, Place::RunOver))
    }

    /// Returns whether somebody plays, and all that was handed over to be saved is durable.
    fn settled(game: Option<Res<PlayerSession<Self>>>) -> bool {
        game.is_some_and(|game| game.settled())
    }

    /// Returns whether somebody plays.
    fn playing(game: Option<Res<PlayerSession<Self>>>) -> bool {
        game.is_some()
    }

    /// Returns whether a session is being launched or left: for a loading screen.
    fn busy(launcher: Option<Res<PlayerLauncher<Self>>>) -> bool {
        launcher.is_some_and(|launcher| launcher.is_busy())
    }
}

impl<P: Seat> SeatConditions for P {}
