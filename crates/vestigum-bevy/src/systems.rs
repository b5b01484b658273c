//! What the plugin does in each frame. Nothing here waits, but for [`exit`].

use std::sync::Arc;
use std::time::{Duration, Instant};

use bevy_ecs::prelude::*;
use vestigum::{QuitError, StoreError};

use crate::launcher::{Done, Gone, PlayerLauncher};
use crate::messages::{
    MomentHappened, PlayerLaunchFailed, PlayerLaunched, PlayerLeaveFailed, PlayerLeft, PlayerSaveFailed, PlayerSaved,
    ValueChanged,
};
use crate::seat::Seat;
use crate::session::PlayerSession;

/// Returns whether something is to begin.
pub(crate) fn is_wanted<P: Seat>(launcher: Res<'_, PlayerLauncher<P>>) -> bool {
    launcher.is_wanted()
}

/// Hands what is wanted to a thread, with the session that has to be left for it.
pub(crate) fn begin<P: Seat>(world: &mut World) {
    tell_all::<P>(world);
    let running = world.remove_resource::<PlayerSession<P>>().map(PlayerSession::into_session);
    let mut launcher = world.resource_mut::<PlayerLauncher<P>>();
    launcher.plays(false);
    launcher.begin(running);
}

/// Holds what is reported before a session goes.
fn tell_all<P: Seat>(world: &mut World) {
    let Some(mut game) = world.get_resource_mut::<PlayerSession<P>>() else { return };
    let (happened, changes) = (game.take_happened(), game.drain_changes());
    world.write_message_batch(happened.into_iter().map(MomentHappened::<P>::new));
    world.write_message_batch(changes.into_iter().map(ValueChanged::<P>::new));
}

/// Takes what a thread came back with.
pub(crate) fn arrive<P: Seat>(
    mut commands: Commands<'_, '_>,
    mut launcher: ResMut<'_, PlayerLauncher<P>>,
    mut launched: MessageWriter<'_, PlayerLaunched<P>>,
    mut launch_failed: MessageWriter<'_, PlayerLaunchFailed<P>>,
    mut left: MessageWriter<'_, PlayerLeft<P>>,
    mut leave_failed: MessageWriter<'_, PlayerLeaveFailed<P>>,
) {
    let launcher = launcher.bypass_change_detection();
    let Some((profile, done)) = launcher.done() else { return };
    let session = match done {
        Done::Launched(session, gone) => {
            if let Some(Gone { profile, generation }) = gone {
                left.write(PlayerLeft::new(profile, generation));
            }
            launched.write(PlayerLaunched::new(
                profile,
                session.load_report().clone(),
                session.launch_outcome().clone(),
            ));
            Some(session)
        }
        Done::Refused(error, playing) => {
            launch_failed.write(PlayerLaunchFailed::new(profile, Arc::new(error)));
            playing
        }
        Done::Left(Gone { profile, generation }) => {
            left.write(PlayerLeft::new(profile, generation));
            None
        }
        Done::Stays(QuitError { error, session, .. }) => {
            leave_failed.write(PlayerLeaveFailed::new(session.profile().to_owned(), error));
            Some(session)
        }
    };
    if let Some(session) = session {
        launcher.plays(true);
        commands.insert_resource(PlayerSession::<P>::new(*session));
    }
}

/// Describes what was told of the saves of a session.
#[derive(Default)]
pub(crate) struct Told {
    generation: u64,
    failure: Option<Arc<StoreError>>,
}

/// Tells what happened in this frame.
pub(crate) fn tell<P: Seat>(
    game: Option<ResMut<'_, PlayerSession<P>>>,
    mut told: Local<'_, Told>,
    mut happened: MessageWriter<'_, MomentHappened<P>>,
    mut changed: MessageWriter<'_, ValueChanged<P>>,
    mut saved: MessageWriter<'_, PlayerSaved<P>>,
    mut failed: MessageWriter<'_, PlayerSaveFailed<P>>,
) {
    let Some(mut game) = game else {
        *told = Told::default();
        return;
    };
    // Whoever watches the resource for changes hears of those of the game, not of this look at it.
    if game.is_added() {
        told.generation = game.generation();
    }
    let touched = game.is_changed();
    let game = game.bypass_change_detection();
    if touched || game.has_happened() {
        happened.write_batch(game.take_happened().into_iter().map(MomentHappened::new));
        changed.write_batch(game.drain_changes().into_iter().map(ValueChanged::new));
    }
    let failure = game.save_failure();
    let is_new = |failure: &Arc<StoreError>| told.failure.as_ref().is_none_or(|before| !Arc::ptr_eq(before, failure));
    if let Some(failure) = failure.as_ref().filter(|failure| is_new(failure)) {
        failed.write(PlayerSaveFailed::new(failure.clone()));
    }
    told.failure = failure;
    if game.settled() && game.generation() > told.generation {
        told.generation = game.generation();
        saved.write(PlayerSaved::new(told.generation));
    }
}

/// When all seats have to be done with leaving.
#[derive(Resource)]
pub(crate) struct ExitUntil(Instant);

/// The least that each seat gets, also where another one has used up the time.
const LEAST: Duration = Duration::from_millis(100);

/// When the app was told to exit: quits, and waits for the save within the limit. All seats of an app share the time.
pub(crate) fn exit<P: Seat>(world: &mut World) {
    let limit = world.resource::<PlayerLauncher<P>>().limit;
    let now = Instant::now();
    let until = world.get_resource_or_insert_with(|| ExitUntil(now + limit)).0;
    let left = |until: Instant| until.saturating_duration_since(Instant::now()).max(LEAST);
    // A session that is under way: launched it is not missed, left it is saved.
    let under_way = world.resource_mut::<PlayerLauncher<P>>().wait(left(until));
    let running = match under_way {
        Some(Done::Launched(session, _) | Done::Refused(_, Some(session))) => Some(*session),
        Some(Done::Stays(QuitError { session, .. })) => Some(*session),
        Some(Done::Refused(_, None) | Done::Left(_)) | None => {
            world.remove_resource::<PlayerSession<P>>().map(PlayerSession::into_session)
        }
    };
    if let Some(session) = running {
        let profile = session.profile().to_owned();
        if let Err(error) = session.quit_within(left(until)) {
            tracing::error!(profile, error = %error.error, "the app exits without the last save");
        }
    }
}
