//! The plugin in the schedule of an app without a window.

use std::thread::sleep;
use std::time::{Duration, Instant};

use bevy_app::{App, AppExit, Last, PostUpdate, Update};
use bevy_ecs::message::MessageCursor;
use bevy_ecs::prelude::*;
use vestigum::{MemoryStore, Moment, Owner, Saver, Session, SessionError, Spec, Store};
use vestigum_bevy::conditions::{SeatConditions, busy, in_any_level, in_level, in_menu, playing, run_over, settled};
use vestigum_bevy::messages::{
    MomentHappened, PlayerLaunchFailed, PlayerLaunched, PlayerLeaveFailed, PlayerLeft, PlayerSaveFailed, PlayerSaved,
    ValueChanged,
};
use vestigum_bevy::{FirstSeat, PlayerLauncher, PlayerSession, ProgressPlugin, ProgressSystems, Seat};
use vestigum_testing::watched_store::WatchedStore;

struct SecondSeat;
impl Seat for SecondSeat {}

/// Collects what the plugin reported, in order.
#[derive(Resource, Default)]
struct Heard(Vec<String>);

fn spec() -> Spec {
    Spec::from_toml(
        r#"
        [game]
        id = "fellpost"
        [levels]
        order = ["mill_lane", "heather_rise"]
        [field.letters]
        type = "int"
        lasts = "visit"
        after_failure = "entry"
        [field.best_letters]
        type = "int"
        per = "level"
        lasts = "profile"
        on.complete = { max = "letters" }
        [field.lanterns]
        type = "int"
        default = 1
        lasts = "run"
        after_failure = "keep"
        written_by = "both"
        on.death = { add = -1 }
        [field.volume]
        type = "int"
        default = 70
        lasts = "device"
        [run]
        over_when = "lanterns == 0"
        [save]
        at = ["complete"]
        "#,
    )
    .unwrap()
}

fn hear<P: Seat>(
    (mut launched, mut refused): (MessageReader<PlayerLaunched<P>>, MessageReader<PlayerLaunchFailed<P>>),
    (mut happened, mut changed): (MessageReader<MomentHappened<P>>, MessageReader<ValueChanged<P>>),
    (mut saved, mut failed): (MessageReader<PlayerSaved<P>>, MessageReader<PlayerSaveFailed<P>>),
    (mut left, mut stuck): (MessageReader<PlayerLeft<P>>, MessageReader<PlayerLeaveFailed<P>>),
    mut heard: ResMut<Heard>,
) {
    let mut tell = |text: String| heard.0.push(text);
    launched.read().for_each(|launched| tell(format!("{} launched", launched.profile)));
    refused.read().for_each(|refused| tell(format!("{} not launched: {}", refused.profile, refused.error)));
    happened.read().for_each(|happened| tell(format!("{}", happened.outcome.moment)));
    changed.read().for_each(|changed| tell(format!("{} = {}", changed.update.name(), changed.update.after)));
    saved.read().for_each(|saved| tell(format!("saved as {}", saved.generation)));
    failed.read().for_each(|failed| tell(format!("not saved: {}", failed.error)));
    left.read().for_each(|left| tell(format!("{} left with {}", left.profile, left.generation)));
    stuck.read().for_each(|stuck| tell(format!("{} stays: {}", stuck.profile, stuck.error)));
}

fn app(saver: &Saver, launching: Option<&str>) -> App {
    let mut app = App::new();
    let plugin = ProgressPlugin::new(&spec(), saver).waiting_at_most(Duration::from_millis(600));
    app.add_plugins(match launching {
        Some(profile) => plugin.launching(profile),
        None => plugin,
    });
    app.init_resource::<Heard>().add_systems(PostUpdate, hear::<FirstSeat>.after(ProgressSystems::Tell));
    app
}

/// Frames until something holds.
#[track_caller]
fn until(app: &mut App, holds: impl Fn(&mut App) -> bool) {
    let begun = Instant::now();
    while !holds(app) {
        assert!(begun.elapsed() < Duration::from_secs(20), "heard so far: {:?}", app.world().resource::<Heard>().0);
        app.update();
        sleep(Duration::from_millis(1));
    }
}

fn heard(app: &App, text: &str) -> bool {
    app.world().resource::<Heard>().0.iter().any(|heard| heard.contains(text))
}

fn game(app: &mut App) -> Mut<'_, PlayerSession> {
    app.world_mut().resource_mut::<PlayerSession>()
}

fn launched(store: impl Store + 'static) -> App {
    let mut app = app(&Saver::new(store), Some("ada"));
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    app
}

#[test]
fn frames_go_on_while_a_session_is_launched_and_left() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    store.hold(true);
    let mut app = app(&Saver::new(store.clone()), None);
    assert!(app.world_mut().resource_mut::<PlayerLauncher>().launch("ada"));
    assert!(!app.world_mut().resource_mut::<PlayerLauncher>().launch("bo"), "one at a time");
    for _ in 0..50 {
        app.update();
        assert!(!app.world().contains_resource::<PlayerSession>());
        assert!(app.world().resource::<PlayerLauncher>().is_busy());
    }
    store.hold(false);
    until(&mut app, |app| heard(app, "ada launched"));
    assert!(app.world().contains_resource::<PlayerSession>());

    store.hold(true);
    assert!(app.world_mut().resource_mut::<PlayerLauncher>().leave());
    for _ in 0..50 {
        app.update();
        assert!(!app.world().contains_resource::<PlayerSession>());
    }
    store.hold(false);
    until(&mut app, |app| heard(app, "ada left with"));
    // From one player to the next, without a menu.
    app.world_mut().resource_mut::<PlayerLauncher>().launch("ada");
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    game(&mut app).enter("mill_lane").unwrap();
    app.world_mut().resource_mut::<PlayerLauncher>().launch("bo");
    until(&mut app, |app| heard(app, "bo launched"));
    assert_eq!(game(&mut app).profile(), "bo");
    assert!(heard(&app, "enter"), "what happened in the last frame is told as well");
    assert!(Session::peek(&spec(), &store, "ada").unwrap().generation() > 1);
}

#[test]
fn moments_values_and_saves_are_told() {
    let mut app = launched(MemoryStore::default());
    app.add_systems(
        Update,
        (|mut game: ResMut<PlayerSession>| -> Result {
            let letters = game.spec().int("letters")?;
            game.add(letters, 60)?;
            game.complete()?;
            Ok(())
        })
        .run_if(in_level("mill_lane")),
    );
    game(&mut app).enter("mill_lane").unwrap();
    until(&mut app, |app| heard(app, "saved as"));
    let told = ["enter", "complete", "best_letters[mill_lane] = 60", "opened[heather_rise] = true"];
    told.iter().for_each(|text| assert!(heard(&app, text), "{text}"));
    assert!(!heard(&app, "letters = 60"), "what is gone again in the same frame is no change");
    // A refused moment is told to whoever says it, and to nobody else.
    let count = app.world().resource::<Heard>().0.len();
    assert!(game(&mut app).death().is_err());
    app.update();
    assert_eq!(app.world().resource::<Heard>().0.len(), count);
}

#[test]
fn conditions_say_where_the_player_is() {
    fn asked(app: &mut App) -> Vec<bool> {
        let conditions = [
            app.world_mut().run_system_cached(playing),
            app.world_mut().run_system_cached(in_menu),
            app.world_mut().run_system_cached(in_any_level),
            app.world_mut().run_system_cached(run_over),
            app.world_mut().run_system_cached(busy),
        ];
        conditions.map(|held| held.unwrap()).to_vec()
    }
    let store = WatchedStore::new(MemoryStore::default(), 1);
    store.hold(true);
    let mut app = app(&Saver::new(store.clone()), Some("ada"));
    app.update();
    assert_eq!(asked(&mut app), [false, false, false, false, true]);
    store.hold(false);
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    assert_eq!(asked(&mut app), [true, true, false, false, false]);
    game(&mut app).enter("mill_lane").unwrap();
    assert_eq!(asked(&mut app), [true, false, true, false, false]);
    for (level, there) in [("mill_lane", true), ("heather_rise", false)] {
        let id = app.world_mut().register_system(in_level(level));
        assert_eq!(app.world_mut().run_system(id).unwrap(), there, "{level}");
    }
    store.hold(true);
    game(&mut app).save();
    assert!(!app.world_mut().run_system_cached(settled).unwrap());
    store.hold(false);
    until(&mut app, |app| app.world_mut().run_system_cached(settled).unwrap());
    game(&mut app).death().unwrap();
    assert_eq!(asked(&mut app), [true, false, false, true, false]);
}

#[test]
fn a_save_that_fails_is_told_once_and_so_is_the_one_that_succeeds() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let mut app = launched(store.clone());
    store.cut_off(true);
    game(&mut app).save();
    until(&mut app, |app| heard(app, "not saved"));
    // Whoever wants to leave now stays, with everything.
    app.world_mut().resource_mut::<PlayerLauncher>().leave();
    until(&mut app, |app| heard(app, "ada stays"));
    assert!(app.world().contains_resource::<PlayerSession>());
    store.cut_off(false);
    until(&mut app, |app| app.world().resource::<PlayerSession>().settled());
    app.world_mut().resource_mut::<PlayerLauncher>().leave();
    until(&mut app, |app| heard(app, "ada left"));
}

#[test]
fn the_exit_waits_for_the_save() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let mut app = launched(store.clone());
    store.hold(true);
    let mut played = game(&mut app);
    played.enter("mill_lane").unwrap();
    let letters = played.spec().int("letters").unwrap();
    played.add(letters, 60).unwrap();
    played.complete().unwrap();
    app.world_mut().write_message(AppExit::Success);
    let released = std::thread::spawn({
        let store = store.clone();
        move || {
            sleep(Duration::from_millis(150));
            store.hold(false);
        }
    });
    app.update();
    released.join().unwrap();
    let seen = Session::peek(&spec(), &store, "ada").unwrap();
    assert_eq!(seen.value("best_letters", &["mill_lane"]).unwrap().as_int(), 60);
    assert!(!app.world().contains_resource::<PlayerSession>());
}

#[test]
fn the_exit_waits_no_longer_than_its_limit() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let saver = Saver::new(store.clone());
    let mut app = app(&saver, Some("ada"));
    app.add_plugins(ProgressPlugin::<SecondSeat>::of_seat(&spec(), &saver).launching("bo"));
    until(&mut app, |app| {
        app.world().contains_resource::<PlayerSession>() && app.world().contains_resource::<PlayerSession<SecondSeat>>()
    });
    store.hold(true);
    app.world_mut().write_message(AppExit::Success);
    let begun = Instant::now();
    app.update();
    // Both seats together: the 600 ms of the first, or 3 s if the second was asked first, and a little for the other.
    assert!(begun.elapsed() < Duration::from_secs(10));
    store.hold(false);
}

#[test]
fn an_exit_in_the_middle_of_a_launch_loses_nothing() {
    let store = MemoryStore::default();
    let saver = Saver::new(store.clone());
    let mut app = app(&saver, Some("ada"));
    app.world_mut().write_message(AppExit::Success);
    app.update();
    // The seat of the player is free again.
    Session::launch(&spec(), &saver, "ada").unwrap().quit().unwrap();
}

#[test]
fn a_launch_that_fails_says_why_and_the_app_goes_on() {
    let saver = Saver::new(MemoryStore::default());
    let other = Session::launch(&spec(), &saver, "ada").unwrap();
    let mut app = app(&saver, Some("ada"));
    until(&mut app, |app| heard(app, "ada not launched"));
    let mut cursor = MessageCursor::<PlayerLaunchFailed>::default();
    let failed = app.world().resource::<Messages<PlayerLaunchFailed>>();
    let errors: Vec<_> = cursor.read(failed).map(|failed| failed.error.clone()).collect();
    assert!(matches!(&*errors[0], SessionError::AlreadyRunning { owner: Owner::Profile(name) } if name == "ada"));
    other.quit().unwrap();
    assert!(app.world_mut().resource_mut::<PlayerLauncher>().launch_anew("ada"));
    until(&mut app, |app| heard(app, "ada launched"));
    // A session that is launched twice by the same seat is left first.
    assert!(app.world_mut().resource_mut::<PlayerLauncher>().launch("ada"));
    until(&mut app, |app| {
        app.world().resource::<Heard>().0.iter().filter(|heard| *heard == "ada launched").count() == 2
    });
}

#[test]
fn two_players_of_one_app_share_the_device_and_nothing_else() {
    let saver = Saver::new(MemoryStore::default());
    let mut app = app(&saver, Some("ada"));
    app.add_plugins(ProgressPlugin::<SecondSeat>::of_seat(&spec(), &saver).launching("bo"));
    until(&mut app, |app| {
        app.world().contains_resource::<PlayerSession>() && app.world().contains_resource::<PlayerSession<SecondSeat>>()
    });
    let mut ada = game(&mut app);
    let volume = ada.spec().int("volume").unwrap();
    ada.set(volume, 40).unwrap();
    ada.enter("mill_lane").unwrap();
    app.update();
    let mut bo = app.world_mut().resource_mut::<PlayerSession<SecondSeat>>();
    bo.sync_device();
    let volume = bo.spec().int("volume").unwrap();
    assert_eq!(bo.get(volume), 40);
    assert_eq!(bo.place(), vestigum::Place::Menu);
    let id = app.world_mut().register_system(SecondSeat::in_level("mill_lane"));
    assert!(!app.world_mut().run_system(id).unwrap());
    let mut of_bo = MessageCursor::<MomentHappened<SecondSeat>>::default();
    assert_eq!(of_bo.read(app.world().resource::<Messages<MomentHappened<SecondSeat>>>()).count(), 0);
    let mut of_ada = MessageCursor::<MomentHappened>::default();
    let moments = of_ada.read(app.world().resource::<Messages<MomentHappened>>());
    assert_eq!(moments.map(|happened| happened.outcome.moment).collect::<Vec<_>>(), [Moment::Enter]);
}

/// A switch told nothing of the player who left, and a switch that failed left nobody playing.
#[test]
fn a_switch_reports_who_left_and_a_failed_one_leaves_the_old_player() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let saver = Saver::new(store.clone());
    let mut app = app(&saver, Some("ada"));
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    game(&mut app).enter("mill_lane").unwrap();
    // Somebody has the player elsewhere in this process.
    let other = Session::launch(&spec(), &saver, "bo").unwrap();
    app.world_mut().resource_mut::<PlayerLauncher>().launch("bo");
    until(&mut app, |app| heard(app, "bo not launched"));
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    assert_eq!(game(&mut app).profile(), "ada");
    assert!(matches!(game(&mut app).place(), vestigum::Place::InLevel { .. }), "the visit goes on");
    assert!(!heard(&app, "ada left"));
    other.quit().unwrap();
    // The old one cannot be saved.
    store.cut_off(true);
    app.world_mut().resource_mut::<PlayerLauncher>().launch("bo");
    until(&mut app, |app| heard(app, "not launched") || heard(app, "ada stays"));
    until(&mut app, |app| app.world().contains_resource::<PlayerSession>());
    assert_eq!(game(&mut app).profile(), "ada");
    store.cut_off(false);
    app.world_mut().resource_mut::<PlayerLauncher>().launch("bo");
    until(&mut app, |app| heard(app, "bo launched"));
    assert!(heard(&app, "ada left with"));
    assert_eq!(game(&mut app).profile(), "bo");
}

#[test]
fn nobody_can_leave_where_nobody_plays() {
    let mut app = app(&Saver::new(MemoryStore::default()), None);
    app.update();
    assert!(!app.world_mut().resource_mut::<PlayerLauncher>().leave());
    assert!(!app.world().resource::<PlayerLauncher>().is_busy());
}

/// The save was lost where a system behind the plugin's own wrote the message.
#[test]
fn an_exit_that_is_written_last_of_all_is_in_time() {
    let store = MemoryStore::default();
    let mut app = launched(store.clone());
    app.add_systems(
        Last,
        (|mut exit: MessageWriter<AppExit>| {
            exit.write(AppExit::Success);
        })
        .after(ProgressSystems::Exit),
    );
    let volume = game(&mut app).spec().int("volume").unwrap();
    game(&mut app).set(volume, 40).unwrap();
    app.update();
    assert!(!app.world().contains_resource::<PlayerSession>());
    assert_eq!(Session::peek(&spec(), &store, "ada").unwrap().get(volume), 40);
}

/// A moment that only the session has would be said through it, and told to nobody.
#[test]
fn everything_that_changes_a_session_is_there_on_the_resource() {
    let here = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
    let interface = std::fs::read_to_string(here.join("../../docs/api/vestigum.txt")).unwrap();
    let resource = std::fs::read_to_string(here.join("src/session.rs")).unwrap();
    let methods = interface.lines().filter_map(|line| line.strip_prefix("vestigum::Session: pub fn "));
    let changing = methods.filter(|method| method.contains("&mut self"));
    let changing: Vec<&str> = changing.filter_map(|method| method.split(['(', '<']).next()).collect();
    assert!(changing.len() >= 36, "{changing:?}");
    for method in changing {
        let has = [("    ", "("), ("fn ", "("), ("    ", "[")];
        let has = has.iter().any(|(before, behind)| resource.contains(&format!("{before}{method}{behind}")));
        assert!(has, "`{method}` of a session is not one of `PlayerSession`");
    }
}
