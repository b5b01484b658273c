//! Which of several players of one app.

/// Names one of the players of an app, so that each has a session, messages and conditions of its own.
///
/// ```
/// use bevy_app::{App, Update};
/// use bevy_ecs::prelude::*;
/// use vestigum::{MemoryStore, Saver, Spec};
/// use vestigum_bevy::conditions::SeatConditions;
/// use vestigum_bevy::{FirstSeat, PlayerSession, ProgressPlugin, Seat};
///
/// struct SecondSeat;
/// impl Seat for SecondSeat {}
///
/// # let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
/// let saver = Saver::new(MemoryStore::default());                  // one for both: they share the device's values
/// let mut app = App::new();
/// app.add_plugins(ProgressPlugin::new(&spec, &saver).launching("ada"))
///     .add_plugins(ProgressPlugin::<SecondSeat>::of_seat(&spec, &saver).launching("bo"))
///     .add_systems(Update, race.run_if(FirstSeat::in_level("mill_lane")).run_if(SecondSeat::in_level("mill_lane")));
///
/// fn race(ada: Res<PlayerSession>, bo: Res<PlayerSession<SecondSeat>>) {
///     println!("{} against {}", ada.profile(), bo.profile());
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub trait Seat: Send + Sync + Sized + 'static {}

/// The player of an app with one player.
pub struct FirstSeat;

impl Seat for FirstSeat {}
