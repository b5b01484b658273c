//! An evening of two carriers, in an app without a window: they launch, walk, fall and arrive, and the app exits when all is saved.
//!
//! Run it with `cargo run -p vestigum-bevy --example evening`.

use bevy_app::{App, AppExit, PostUpdate, Update};
use bevy_ecs::prelude::*;
use vestigum::{DirStore, Moment, Outcome, Refused, Saver, Session, Spec};
use vestigum_bevy::conditions::{SeatConditions, in_level, playing, settled};
use vestigum_bevy::messages::{MomentHappened, PlayerLaunched, PlayerSaved, ValueChanged};
use vestigum_bevy::{FirstSeat, PlayerSession, ProgressPlugin, ProgressSystems, Seat};

const PROGRESS: &str = r#"
[game]
id = "fellpost"
[levels]
order = ["mill_lane", "heather_rise"]
[level.mill_lane]
checkpoints = ["ford"]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "checkpoint"
[field.lanterns]
type = "int"
default = 3
lasts = "run"
after_failure = "keep"
written_by = "both"
on.death = { add = -1 }
[field.best_letters]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[save]
at = ["checkpoint", "complete", "death"]
"#;

/// The second player.
struct SecondSeat;
impl Seat for SecondSeat {}

/// Names what a step of the script does.
type Script<P> = &'static [fn(&mut PlayerSession<P>) -> Result];

/// Says how far the script of a seat is.
#[derive(Resource)]
struct Evening<P: Seat> {
    script: Script<P>,
    step: usize,
}

fn letters<P: Seat>(game: &mut PlayerSession<P>, count: i64) -> Result {
    let letters = game.spec().int("letters")?;
    game.add(letters, count)?;
    Ok(())
}

fn said(moment: std::result::Result<Outcome, Refused>) -> Result {
    moment.map(drop).map_err(BevyError::from)
}

/// One step in each frame, as an engine would: what a key or a collision means is said to the session, and nothing else.
fn play<P: Seat>(mut evening: ResMut<Evening<P>>, mut game: ResMut<PlayerSession<P>>) -> Result {
    if let Some(step) = evening.script.get(evening.step) {
        step(&mut game)?;
        evening.step += 1;
    }
    Ok(())
}

fn tell<P: Seat>(
    mut launched: MessageReader<PlayerLaunched<P>>,
    mut happened: MessageReader<MomentHappened<P>>,
    mut changed: MessageReader<ValueChanged<P>>,
    mut saved: MessageReader<PlayerSaved<P>>,
    mut who: Local<String>,
) {
    for launched in launched.read() {
        who.clone_from(&launched.profile);
        println!("{}: {}", *who, launched.report);
    }
    for happened in happened.read() {
        println!("{}: {}", *who, happened.outcome.moment);
        happened.outcome.records().for_each(|record| println!("{}:   a record, {record}", *who));
    }
    for update in changed.read().map(|changed| &changed.update) {
        println!("{}:   {} is {} now", *who, update.name(), update.after);
    }
    for saved in saved.read() {
        println!("{}:   durable as generation {}", *who, saved.generation);
    }
}

/// A system that runs on one level alone, and only while something is being saved.
fn wind() {
    println!("     the wind blows over Mill Lane, and a save is on its way");
}

/// Both have arrived: the app may go. It waits for what is not saved yet.
fn go_home(
    mut ada: MessageReader<MomentHappened>,
    mut bo: MessageReader<MomentHappened<SecondSeat>>,
    mut arrived: Local<usize>,
    mut exit: MessageWriter<AppExit>,
) {
    *arrived += ada.read().filter(|happened| happened.outcome.moment == Moment::Complete).count();
    *arrived += bo.read().filter(|happened| happened.outcome.moment == Moment::Complete).count();
    if *arrived == 2 {
        exit.write(AppExit::Success);
    }
}

fn main() -> std::result::Result<(), Box<dyn std::error::Error>> {
    let spec = Spec::from_toml(PROGRESS)?;
    let folder = tempfile::tempdir()?;
    let saver = Saver::new(DirStore::open(folder.path())?);
    let ada: Script<FirstSeat> = &[
        |game| said(game.enter("mill_lane")),
        |game| letters(game, 60),
        |game| said(game.checkpoint("ford")),
        |game| letters(game, 20),
        |game| said(game.death()),
        |game| letters(game, 45),
        |game| said(game.complete()),
    ];
    let bo: Script<SecondSeat> =
        &[|game| said(game.enter("mill_lane")), |game| letters(game, 30), |game| said(game.complete())];
    let mut app = App::new();
    app.add_plugins(ProgressPlugin::new(&spec, &saver).launching("ada"))
        .add_plugins(ProgressPlugin::<SecondSeat>::of_seat(&spec, &saver).launching("bo"))
        .insert_resource(Evening { script: ada, step: 0 })
        .insert_resource(Evening { script: bo, step: 0 })
        .add_systems(Update, (play::<FirstSeat>.run_if(playing), play::<SecondSeat>.run_if(SecondSeat::playing)))
        .add_systems(Update, wind.run_if(in_level("mill_lane")).run_if(not(settled)))
        .add_systems(PostUpdate, (tell::<FirstSeat>, tell::<SecondSeat>, go_home).chain().after(ProgressSystems::Tell));
    while app.should_exit().is_none() {
        app.update();
    }
    drop(app);

    // The next evening: everything is as it was.
    let best = spec.int_per_level("best_letters")?;
    for (carrier, letters) in [("ada", 105), ("bo", 30)] {
        let seen = Session::peek(&spec, saver.store(), carrier)?;
        println!("{carrier}: {} letters on Mill Lane", seen.get(best.at("mill_lane")?));
        assert_eq!(seen.get(best.at("mill_lane")?), letters);
    }
    Ok(())
}
