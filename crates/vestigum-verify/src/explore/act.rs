//! What can happen in a state: the moments, and the sources of the level one stands in.
//!
//! A search of one promise also writes what play can write and no source gives, and lets another player begin where it matters
//! what belongs to the device.
//!
//! Left out are `enter_any`, which is for debugging; entering at a checkpoint; checkpoints of levels that list none, whose
//! names nobody knows; resets; and crashes: a crash brings back what an earlier save left, and that is a state which
//! quitting there and then leads to, so it is explored anyway.

use std::fmt;

use vestigum_core::state::State;
use vestigum_core::state::position::Position;
use vestigum_core::suspension::Suspended;
use vestigum_core::{Call, Moment, Progress, Spec, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::entry_name;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::source::{Gift, GiftKey};
use vestigum_spec::value::add;

use super::relaxed::Relaxation;
use super::writes::{PlayWrite, PlayWrites};

/// One thing that happens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Act {
    Enter(u32),
    Checkpoint(u32),
    /// The level is completed by one of its exits.
    Exit(u16),
    /// A moment without an argument.
    Moment(Moment),
    /// Quit, and the next launch.
    Relaunch,
    Take(u16),
    /// Play writes a value that no source gives.
    Write(PlayWrite),
    /// Quit, and a player launches who has never played on this device.
    Newcomer,
}

/// Describes what a search may do.
#[derive(Clone, Debug)]
pub(crate) struct Repertoire {
    pub counters: Vec<FieldId>,
    pub sources: Vec<bool>,
    pub failures: bool,
    /// Whether the game itself says that the run is over.
    pub says_game_over: bool,
    pub without: Vec<Moment>,
    /// Lists what play writes at will.
    pub writes: PlayWrites,
    /// Says whether another player is another start.
    pub players: bool,
    /// Says which locks are lifted.
    pub relaxation: Relaxation,
}

impl Repertoire {
    /// Everything that is possible in a state.
    pub(crate) fn acts(&self, spec: &Spec, game: &Progress) -> Vec<Act> {
        let data = &**spec.model();
        let mut acts = Vec::new();
        let allowed = |moment: &Moment| !self.without.contains(moment) && (self.failures || !moment.is_failure());
        let mut add = |moments: &[Moment]| {
            acts.extend(moments.iter().filter(|moment| allowed(moment)).map(|moment| Act::Moment(*moment)));
        };
        match &game.state().position {
            Position::Menu | Position::RunOver => {
                add(&data.moments().filter(|moment| moment.begins_run()).collect::<Vec<_>>());
            }
            Position::Level(_) => {
                let mut said: Vec<Moment> = data.moments().filter(|moment| is_said_in_levels(*moment)).collect();
                // Of two plays that are as short the one without failing is told.
                said.sort_by_key(|moment| *moment != Moment::Complete);
                add(&said);
            }
        }
        add(&data.moments().filter(|moment| matches!(moment, Moment::Own(_))).collect::<Vec<_>>());
        // In the menu a game over is no failure.
        let over = match &game.state().position {
            Position::Menu => true,
            Position::Level(_) => self.failures,
            Position::RunOver => false,
        };
        if over && self.says_game_over && !self.without.contains(&Moment::GameOver) {
            acts.push(Act::Moment(Moment::GameOver));
        }
        match &game.state().position {
            Position::Menu => {
                // A search makes no levels.
                let shipped = 0..data.made_levels.start;
                let open = shipped.filter(|level| game.is_open(*level) || self.relaxation.lifts(*level));
                acts.extend(open.map(Act::Enter));
            }
            Position::Level(standing) => {
                let sources = data.sources.iter().enumerate().filter(|(index, source)| {
                    self.sources[*index]
                        && source.is_in(standing.level)
                        && self.taken(game, *index, standing.level) < source.times
                });
                acts.extend(sources.map(|(index, _)| Act::Take(index as u16)));
                let listed = data.level(standing.level).checkpoints.len() as u32;
                acts.extend((0..listed).map(Act::Checkpoint));
                if allowed(&Moment::Complete) {
                    acts.extend((0..data.level(standing.level).exits.len() as u16).map(Act::Exit));
                }
            }
            Position::RunOver => {}
        }
        // Quitting inside a level takes back what a failure would, so it counts as one.
        let quits = self.failures || !game.state().position.is_level();
        if quits && allowed(&Moment::Quit) {
            acts.push(Act::Relaunch);
            if self.players {
                acts.push(Act::Newcomer);
            }
        }
        let in_level = game.state().position.is_level();
        let writes = self.writes.tried.iter().filter(|write| {
            let told = self.writes.told(data, **write);
            told.is_some_and(|(field, slot, value)| (in_level || !field.in_level) && game.state().value(slot) != value)
        });
        acts.extend(writes.copied().map(Act::Write));
        acts
    }

    fn slot(&self, game: &Progress, source: usize, level: u32) -> usize {
        let field = game.model().field(self.counters[source]);
        if field.is_keyed() { field.slot_at(&[level]) } else { field.first_slot }
    }

    fn taken(&self, game: &Progress, source: usize, level: u32) -> i64 {
        game.state().value(self.slot(game, source, level)).as_int()
    }

    /// Does one thing, to its end; answers whether it was possible.
    pub(crate) fn apply(&self, game: &mut Progress, act: Act) -> bool {
        let model = game.model().clone();
        let call = match act {
            Act::Enter(level) => {
                Call::Enter { level: &model.level(level).id, checkpoint: None, locked: !self.relaxation.lifts(level) }
            }
            Act::Checkpoint(index) => {
                let level = game.state().position.level();
                let name = level.and_then(|level| model.level(level).checkpoints.get_index(index as usize));
                let Some(name) = name else { return false };
                Call::Checkpoint(name)
            }
            Act::Exit(index) => {
                let level = game.state().position.level();
                let exit = level.and_then(|level| model.level(level).exits.get(usize::from(index)));
                let Some((name, _)) = exit else { return false };
                Call::CompleteBy(name)
            }
            Act::Moment(moment) => {
                let Some(call) = Call::plain(moment, model.moment_name(moment)) else { return false };
                call
            }
            Act::Take(source) => {
                self.take(game, usize::from(source));
                return true;
            }
            Act::Write(write) => {
                let Some((_, slot, value)) = self.writes.told(&model, write) else { return false };
                game.state_mut().write(slot, value.clone());
                game.judge_openings();
                return true;
            }
            Act::Relaunch => {
                *game = game.suspend().into_relaunched(true);
                return true;
            }
            Act::Newcomer => {
                *game = Suspended::new(&model, newcomer(game)).into_relaunched(true);
                return true;
            }
        };
        game.apply(call).is_ok_and(|outcome| outcome.accepted)
    }

    /// Takes a source: its counter goes up, and what it gives is written as play would write it.
    pub(crate) fn take(&self, game: &mut Progress, source: usize) {
        let Some(level) = game.state().position.level() else { return };
        let spec = game.model().clone();
        let slot = self.slot(game, source, level);
        let taken = game.state().value(slot).as_int();
        game.state_mut().write(slot, Value::Int(taken + 1));
        for gift in &spec.sources[source].gives {
            let field = spec.field(gift.field);
            let slot = gift.slot(field, level);
            let old = game.state().value(slot);
            let new = match (&gift.value, old.is_filled()) {
                (Value::Int(_) | Value::Float(_), true) => add(old, &gift.value),
                (value, _) => value.clone(),
            };
            let (new, _) = field.limits.clamp(new);
            game.state_mut().write(slot, new);
        }
        game.judge_openings();
    }
}

/// Says whether a game says a moment in a level, with nothing more to say of it. A checkpoint is said with its name.
fn is_said_in_levels(moment: Moment) -> bool {
    match moment {
        Moment::Complete | Moment::Death | Moment::Restart | Moment::Travel | Moment::Abandon => true,
        // These have acts of their own.
        Moment::Launch | Moment::Enter | Moment::Checkpoint | Moment::GameOver | Moment::Quit | Moment::Own(_) => false,
        // A run begins in the menu.
        Moment::NewRun | Moment::OwnRun(_) => false,
    }
}

/// Makes the state of a newcomer before the first launch: nothing but what the device has.
pub(crate) fn newcomer(on_device: &Progress) -> State {
    let model = on_device.model();
    let mut state = State::fresh(model);
    for slot in model.device_slots() {
        state.write(slot, on_device.state().value(slot).clone());
    }
    state
}

/// Returns whether the game itself says that the run is over: no condition does, and something depends on it.
pub(crate) fn says_game_over(spec: &Model) -> bool {
    let ruled = |field: &Field| !spec.plan.fate(field.id, Moment::GameOver).rules.is_empty();
    spec.over_when.is_none() && spec.fields.iter().any(ruled)
}

/// The act as statements of a playthrough, one line each. `writes` are those that acts mean, and `players` counts the players there were.
pub(crate) fn statements(
    spec: &Spec,
    act: Act,
    level: Option<u32>,
    writes: &PlayWrites,
    players: &mut usize,
) -> Vec<String> {
    let data = &**spec.model();
    match act {
        Act::Write(write) => {
            let Some((field, slot, value)) = writes.told(data, write) else { return Vec::new() };
            // No write is tried of an entry whose key is made at run time.
            let made = vec![Default::default(); data.key_sets.len()];
            let name = entry_name(data, field, slot, &made);
            let written = format!("{name} = {}", value.literal().unwrap_or_else(|| "''".into()));
            vec![format!("{written:34} # as play may write it: no [[source]] gives `{}`", field.name)]
        }
        Act::Newcomer => {
            *players += 1;
            vec!["quit".into(), format!("profile player_{}", *players + 1), "launch".into()]
        }
        Act::Enter(level) => vec![format!("enter {}", data.level(level).id)],
        Act::Checkpoint(index) => {
            let name = level.map(|level| data.level(level).checkpoints[index as usize].clone()).unwrap_or_default();
            vec![format!("checkpoint {name}")]
        }
        Act::Exit(index) => {
            let exit = level.and_then(|level| data.level(level).exits.get(usize::from(index)));
            vec![format!("complete {}", exit.map(|(name, _)| name.to_string()).unwrap_or_default())]
        }
        Act::Moment(moment) => vec![data.moment_name(moment).to_owned()],
        Act::Relaunch => vec!["quit".into(), "launch".into()],
        Act::Take(source) => {
            let source = &data.sources[source as usize];
            let writes = source.gives.iter().enumerate().map(|(index, gift)| {
                let how = if matches!(gift.value, Value::Int(_) | Value::Float(_)) { "+=" } else { "=" };
                let write = format!(
                    "{} {how} {}",
                    given_name(data, gift, level),
                    gift.value.literal().unwrap_or_else(|| "''".into())
                );
                if index == 0 { format!("{write:34} # takes `{}`", source.name) } else { write }
            });
            writes.collect()
        }
    }
}

/// Returns what a source gives, as a playthrough writes it: without a key where the level alone says which entry it is.
fn given_name(spec: &Model, gift: &Gift, level: Option<u32>) -> String {
    let field = spec.field(gift.field);
    if gift.keys.iter().all(|key| *key == GiftKey::Level) {
        return field.name.to_string();
    }
    // No source gives an entry whose key is made at run time.
    let made = vec![Default::default(); spec.key_sets.len()];
    entry_name(spec, field, gift.slot(field, level.unwrap_or_default()), &made).to_string()
}

impl fmt::Display for Act {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Act::Enter(_) => f.write_str("enter"),
            Act::Checkpoint(_) => f.write_str("checkpoint"),
            Act::Exit(_) => f.write_str("complete"),
            Act::Moment(moment) => write!(f, "{moment}"),
            Act::Relaunch => f.write_str("launch"),
            Act::Take(_) => f.write_str("a source"),
            Act::Write(_) => f.write_str("a write"),
            Act::Newcomer => f.write_str("another player"),
        }
    }
}
