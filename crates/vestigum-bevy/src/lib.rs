//! Vestigum as a plugin of the Bevy engine.
//!
//! [`ProgressPlugin`] brings a player's session into an app. [`PlayerLauncher`] launches and leaves without holding up a frame;
//! [`PlayerSession`] is the session as a resource while somebody plays; what moments came to, what values became and what was saved
//! is told as [messages]; run [conditions] ask where the player is. When the app exits, the last save is waited
//! for within a limit.
//!
//! ```
//! use bevy_app::{App, Startup, Update};
//! use bevy_ecs::prelude::*;
//! use vestigum::{MemoryStore, Spec};
//! use vestigum_bevy::messages::MomentHappened;
//! use vestigum_bevy::{PlayerLauncher, PlayerSession, ProgressPlugin, conditions};
//!
//! # let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
//! fn title(mut launcher: ResMut<PlayerLauncher>) {
//!     launcher.launch("ada");                          // loads on a thread of its own
//! }
//!
//! fn begin(mut game: ResMut<PlayerSession>) -> Result {
//!     game.enter("mill_lane")?;
//!     Ok(())
//! }
//!
//! fn arrive(mut game: ResMut<PlayerSession>) -> Result {
//!     game.complete()?;                                // what it came to is told as a message, too
//!     Ok(())
//! }
//!
//! fn cheer(mut happened: MessageReader<MomentHappened>) {
//!     for record in happened.read().flat_map(|happened| happened.outcome.records()) {
//!         println!("a record: {record}");
//!     }
//! }
//!
//! let mut app = App::new();
//! app.add_plugins(ProgressPlugin::new(&spec, MemoryStore::default()))
//!     .add_systems(Startup, title)
//!     .add_systems(Update, begin.run_if(conditions::in_menu))
//!     .add_systems(Update, (arrive.run_if(conditions::in_level("mill_lane")), cheer).chain());
//! # for _ in 0..1000 {
//! #     app.update();
//! #     if app.world().get_resource::<PlayerSession>().is_some_and(|game| game.board()[0].completed) { break; }
//! #     std::thread::sleep(std::time::Duration::from_millis(1));
//! # }
//! # assert!(app.world().resource::<PlayerSession>().board()[0].completed);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Several players
//!
//! Everything here is generic over a [`Seat`], which is [`FirstSeat`] where none is named. For a second player, make a type, add the plugin for
//! it on the same [`Saver`](vestigum::Saver), and name it: `ResMut<PlayerSession<Second>>`, `MessageReader<MomentHappened<Second>>`,
//! `Second::in_level("mill_lane")`.
//!
//! # Time
//!
//! The crate knows no clock. Call `game.tick(time.delta())` where fields of the spec count time.

#![forbid(unsafe_code)]

pub mod conditions;
mod launcher;
pub mod messages;
mod plugin;
mod seat;
mod session;
mod systems;

pub use launcher::PlayerLauncher;
pub use plugin::{ProgressExit, ProgressPlugin, ProgressSystems};
pub use seat::{FirstSeat, Seat};
pub use session::PlayerSession;

/// The examples of this crate's README run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
