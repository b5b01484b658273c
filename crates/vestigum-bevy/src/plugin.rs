//! The plugin.

use std::marker::PhantomData;
use std::time::Duration;

use bevy_app::{App, AppExit, Last, MainScheduleOrder, Plugin, PostUpdate, PreUpdate};
use bevy_ecs::prelude::*;
use bevy_ecs::schedule::ScheduleLabel;
use vestigum::{Saver, Spec};

use crate::launcher::PlayerLauncher;
use crate::messages::{
    MomentHappened, PlayerLaunchFailed, PlayerLaunched, PlayerLeaveFailed, PlayerLeft, PlayerSaveFailed, PlayerSaved,
    ValueChanged,
};
use crate::seat::{FirstSeat, Seat};
use crate::systems;

/// When the systems of the plugin run. Order systems of your own around them where a frame matters.
#[derive(SystemSet, Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ProgressSystems {
    /// In `PreUpdate`: a session that was launched comes, one that was left is gone.
    Arrive,
    /// In `PostUpdate`: what happened in this frame is told as messages.
    Tell,
    /// In [`ProgressExit`], after the app was told to exit: the last save is waited for.
    Exit,
}

/// The schedule behind `Last`: a system that writes `AppExit` there is in time.
#[derive(ScheduleLabel, Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct ProgressExit;

/// Brings a player's progress into an app; see the [crate](crate).
pub struct ProgressPlugin<P: Seat = FirstSeat> {
    spec: Spec,
    saver: Saver,
    launching: Option<String>,
    limit: Duration,
    seat: PhantomData<fn() -> P>,
}

impl ProgressPlugin {
    /// The progress of the one player of an app, on a store or a saver.
    pub fn new(spec: &Spec, saves: impl Into<Saver>) -> ProgressPlugin {
        ProgressPlugin::of_seat(spec, saves)
    }
}

impl<P: Seat> ProgressPlugin<P> {
    /// The progress of one of several players: add the plugin once for each [`Seat`], all on clones of one [`Saver`].
    pub fn of_seat(spec: &Spec, saves: impl Into<Saver>) -> ProgressPlugin<P> {
        ProgressPlugin {
            spec: spec.clone(),
            saver: saves.into(),
            launching: None,
            limit: Duration::from_secs(3),
            seat: PhantomData,
        }
    }

    /// Launches that player with the app; without it, [`PlayerLauncher::launch`] does it from a title screen.
    #[must_use]
    pub fn launching(self, profile: &str) -> Self {
        ProgressPlugin { launching: Some(profile.to_owned()), ..self }
    }

    /// Sets how long leaving, and the exit of the app, waits for the last save; 3 seconds by default.
    #[must_use]
    pub fn waiting_at_most(self, limit: Duration) -> Self {
        ProgressPlugin { limit, ..self }
    }
}

impl<P: Seat> Plugin for ProgressPlugin<P> {
    fn build(&self, app: &mut App) {
        let mut launcher = PlayerLauncher::<P>::new(self.spec.clone(), self.saver.clone(), self.limit);
        if let Some(profile) = &self.launching {
            launcher.launch(profile);
        }
        app.insert_resource(launcher)
            .add_message::<PlayerLaunched<P>>()
            .add_message::<PlayerLaunchFailed<P>>()
            .add_message::<MomentHappened<P>>()
            .add_message::<ValueChanged<P>>()
            .add_message::<PlayerSaved<P>>()
            .add_message::<PlayerSaveFailed<P>>()
            .add_message::<PlayerLeft<P>>()
            .add_message::<PlayerLeaveFailed<P>>()
            .add_message::<AppExit>()
            .add_systems(
                PreUpdate,
                (systems::begin::<P>.run_if(systems::is_wanted::<P>), systems::arrive::<P>)
                    .chain()
                    .in_set(ProgressSystems::Arrive),
            )
            .add_systems(PostUpdate, systems::tell::<P>.in_set(ProgressSystems::Tell))
            .init_schedule(ProgressExit)
            .add_systems(ProgressExit, systems::exit::<P>.run_if(on_message::<AppExit>).in_set(ProgressSystems::Exit));
        let mut order = app.world_mut().resource_mut::<MainScheduleOrder>();
        // Another seat may have put it there.
        if !order.labels.contains(&ProgressExit.intern()) {
            order.insert_after(Last, ProgressExit);
        }
    }
}
