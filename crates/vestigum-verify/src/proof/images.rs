//! Images of a frozen version, made from its shape: the smallest, the largest, typical and random ones, and one suspended
//! at every place.

use std::sync::Arc;

use vestigum_core::state::State;
use vestigum_core::state::position::{Checkpoint, LevelPosition, Position};
use vestigum_core::{Image, Suspended, Type, Value};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::{KeySet, MadeKeys};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::limits::Limits;
use vestigum_spec::value::types::Member;
use vestigum_spec::vocabulary::policy::Resume;

/// The most items and characters that a large value gets: more would show nothing new.
const LARGE: usize = 8;
/// Says how many names an open key set gets.
const MADE: usize = 2;

/// The saves of one player and the device, before they are images.
#[derive(Clone, Debug)]
pub(super) struct Sample {
    pub name: String,
    pub model: Arc<Model>,
    pub state: State,
    /// Whether it was made for the place where the player stopped.
    pub stopped: bool,
    /// Whether its values are all the smallest or all the largest.
    pub extreme: bool,
}

/// Describes what values a sample has.
#[derive(Clone, Copy, Debug)]
pub(super) enum SampleKind {
    Smallest,
    /// The smallest values, and no entry without one: what is asked only of values that are there shows.
    SmallestFilled,
    Largest,
    /// Values as play makes them, different for each number.
    Typical(u64),
    Random(u64),
}

impl Sample {
    pub(super) fn images(&self) -> (Image, Image) {
        let suspended = Suspended::new(&self.model, self.state.clone());
        (suspended.profile_image("player"), suspended.device_image())
    }

    /// A sample of one kind, standing somewhere.
    pub(super) fn new(
        model: &Arc<Model>,
        names: &MadeKeys,
        name: String,
        kind: SampleKind,
        position: Position,
    ) -> Sample {
        let data = &**model;
        let mut state = State::fresh(data);
        state.made.clone_from(names);
        state.position = position;
        let in_level = state.position.is_level();
        // Every level that players can make is made, so that something is kept for it.
        for slot in data.made_levels.clone().filter_map(|level| data.made_slot(level)) {
            state.write_through(slot, Value::Bool(true));
        }
        let is_sampled = |field: &&Field| (in_level || !field.needs_level()) && !data.is_made_field(field.id);
        for field in data.fields.iter().filter(is_sampled) {
            for slot in field.slots().filter(|slot| state.has_entry(data, field, *slot)).collect::<Vec<_>>() {
                let value = |mark: u64| made(field, kind, slot as u64 * 3 + mark);
                state.write_through(slot, value(0));
                if in_level && field.rewinds {
                    state.write_marks(slot, value(1), value(2));
                }
            }
        }
        let extreme = matches!(kind, SampleKind::Smallest | SampleKind::SmallestFilled | SampleKind::Largest);
        Sample { name, model: model.clone(), state, stopped: false, extreme }
    }

    /// Returns the save with other values in some slots of a field, and in their marks.
    pub(super) fn with(&self, field: &Field, changes: impl IntoIterator<Item = (usize, Value)>) -> Sample {
        self.with_all(changes.into_iter().map(|(slot, value)| (field, slot, value)))
    }

    /// Returns the save with other values in slots of any fields.
    pub(super) fn with_all<'f>(&self, changes: impl IntoIterator<Item = (&'f Field, usize, Value)>) -> Sample {
        let mut sample = self.clone();
        for (field, slot, value) in changes {
            sample.state.write_through(slot, value.clone());
            if self.state.position.is_level() && field.rewinds {
                sample.state.write_marks(slot, value.clone(), value);
            }
        }
        sample
    }
}

/// Names that players have made: of a set that declares its names later, some of those.
pub(super) fn made_names(model: &Model, declared: impl Fn(u32) -> Vec<Arc<str>>) -> MadeKeys {
    let of_set = |(set, index): (&KeySet, u32)| {
        let declared = declared(index);
        // Beside names that a later version declares, one that it does not.
        let wanted = if declared.is_empty() { MADE } else { MADE + 1 };
        let count = set.max.map_or(0, |max| (max as usize).min(wanted));
        let any = (1..=count).map(|n| Arc::from(format!("made_{n}")));
        declared.into_iter().take(MADE).chain(any).take(count).collect()
    };
    model.key_sets.iter().zip(0..).map(of_set).collect()
}

/// All samples of a version. `random` says how many random ones there are, from a seed.
pub(super) fn samples(model: &Arc<Model>, made: &MadeKeys, random: usize, seed: u64) -> Vec<Sample> {
    let mut samples = vec![
        Sample::new(model, made, "smallest".into(), SampleKind::Smallest, Position::Menu),
        Sample::new(model, made, "largest".into(), SampleKind::Largest, Position::Menu),
        Sample::new(model, made, "typical".into(), SampleKind::Typical(1), Position::Menu),
        Sample::new(model, made, "after a game over".into(), SampleKind::Typical(2), Position::RunOver),
    ];
    let places = places(model);
    if model.fields.iter().any(|field| field.optional) {
        let positions = [Position::Menu].into_iter().chain(places.first().cloned().map(Position::Level));
        samples.extend(positions.map(|position| {
            let at = position.level_position().map(|place| format!(" in {}", place.named(model))).unwrap_or_default();
            Sample::new(model, made, format!("smallest, all filled{at}"), SampleKind::SmallestFilled, position)
        }));
    }
    if let Some(place) = places.first() {
        for (name, kind) in [("smallest", SampleKind::Smallest), ("largest", SampleKind::Largest)] {
            let name = format!("{name} in {}", place.named(model));
            samples.push(Sample::new(model, made, name, kind, Position::Level(place.clone())));
        }
    }
    for (index, place) in places.iter().enumerate() {
        let name = format!("suspended in {}", place.named(model));
        let sample =
            Sample::new(model, made, name, SampleKind::Typical(index as u64 + 3), Position::Level(place.clone()));
        samples.push(Sample { stopped: true, ..sample });
    }
    for n in 0..random as u64 {
        let seed = mixed(seed ^ n.wrapping_mul(0x9E37_79B9));
        // Every third stands somewhere in a level.
        let position = match places.get(seed as usize % places.len().max(1)) {
            Some(place) if n % 3 == 2 => Position::Level(place.clone()),
            _ => Position::Menu,
        };
        samples.push(Sample::new(model, made, format!("random {}", n + 1), SampleKind::Random(seed), position));
    }
    samples
}

/// Every place in a level where a save can have been made.
fn places(model: &Model) -> Vec<LevelPosition> {
    if model.resume == Resume::None {
        return Vec::new();
    }
    let mut places = Vec::new();
    for (index, level) in model.levels.iter().enumerate() {
        let level_index = index as u32;
        places.push(LevelPosition { level: level_index, checkpoint: None, entered_at: None });
        for checkpoint in 0..level.checkpoints.len() as u32 {
            let at = Some(Checkpoint::Listed(checkpoint));
            // The first is also where some have entered.
            let entered_at = at.clone().filter(|_| checkpoint == 0);
            places.push(LevelPosition { level: level_index, checkpoint: at, entered_at });
        }
    }
    places
}

/// A value of a field.
pub(super) fn made(field: &Field, kind: SampleKind, slot: u64) -> Value {
    let value = match kind {
        SampleKind::Smallest if field.optional => return Value::Unfilled,
        SampleKind::Random(seed) if field.optional && mixed(seed ^ slot).is_multiple_of(4) => return Value::Unfilled,
        kind => of_type(&field.ty, &field.limits, kind, slot),
    };
    field.limits.clamp(value).0
}

pub(super) fn of_type(ty: &Type, limits: &Limits, kind: SampleKind, slot: u64) -> Value {
    let number = match kind {
        SampleKind::Smallest | SampleKind::SmallestFilled => 0,
        SampleKind::Largest => u64::MAX,
        SampleKind::Typical(n) => n * 17 + slot * 5 + 1,
        SampleKind::Random(seed) => mixed(seed ^ slot.wrapping_mul(0xD6E8_FEB8)),
    };
    let small = |most: u64| match kind {
        SampleKind::Smallest | SampleKind::SmallestFilled => 0,
        SampleKind::Largest => most,
        _ => number % (most + 1),
    };
    let items = |inner: &Type| -> Vec<Value> {
        let count = match kind {
            SampleKind::Smallest | SampleKind::SmallestFilled => 0,
            SampleKind::Largest => LARGE.min(limits.max_len),
            _ => small(2) as usize + 1,
        };
        (0..count as u64).map(|item| of_type(inner, limits, kind, slot * 31 + item + 7)).collect()
    };
    match ty {
        Type::Bool => Value::Bool(small(1) == 1),
        Type::Int => Value::Int(int(limits, kind, number)),
        Type::Float => Value::float(float(limits, kind, number)),
        Type::Text => Value::text(text(limits, kind, number)),
        Type::Bytes => Value::bytes(text(limits, kind, number).into_bytes()),
        Type::Vec2 => Value::vec2(number as f64 / 4.0, small(100) as f64),
        Type::Vec3 => Value::vec3(number as f64 / 4.0, small(100) as f64, 1.5),
        Type::Choice(names) => {
            let last = names.len().saturating_sub(1) as u64;
            names.get(small(last) as usize).cloned().map_or(Value::Unfilled, Value::Choice)
        }
        Type::Struct(structure) => {
            let members = structure.members.iter().zip(0..);
            let members = members.map(|(member, index)| of_member(member, limits, kind, slot * 13 + index));
            Value::Struct(structure.clone(), Arc::new(members.collect()))
        }
        Type::List(inner) => Value::List(items(inner).into()),
        Type::Set(inner) => Value::Set(items(inner).into_iter().collect()),
        Type::Map(inner) => {
            let entries = items(inner).into_iter().zip(1..).map(|(value, n)| (Arc::from(format!("key_{n}")), value));
            Value::Map(entries.collect())
        }
    }
}

/// A value of a member, inside its own limits where it has some.
pub(super) fn of_member(member: &Member, limits: &Limits, kind: SampleKind, slot: u64) -> Value {
    of_type(&member.ty, &limits.of_member(member), kind, slot)
}

fn int(limits: &Limits, kind: SampleKind, number: u64) -> i64 {
    let bounds = limits.range.as_ref().map(|(lowest, highest)| (lowest.as_int(), highest.as_int()));
    let (lowest, highest) = bounds.unwrap_or((i64::MIN, i64::MAX));
    match kind {
        SampleKind::Smallest | SampleKind::SmallestFilled => lowest,
        SampleKind::Largest => highest,
        SampleKind::Typical(_) => lowest.max(0).saturating_add((number % 200) as i64).min(highest),
        SampleKind::Random(_) => {
            let width = highest.wrapping_sub(lowest) as u64;
            // Half of them are small, as most values are.
            let step = if number.is_multiple_of(2) { number % 1000 } else { number };
            lowest
                .max(if step < 1000 { 0 } else { lowest })
                .wrapping_add((step % width.saturating_add(1).max(1)) as i64)
                .clamp(lowest, highest)
        }
    }
}

fn float(limits: &Limits, kind: SampleKind, number: u64) -> f64 {
    let bounds = limits.range.as_ref().map(|(lowest, highest)| (lowest.as_float(), highest.as_float()));
    let (lowest, highest) = bounds.unwrap_or((-1e12, 1e12));
    match kind {
        SampleKind::Smallest | SampleKind::SmallestFilled => lowest,
        SampleKind::Largest => highest,
        _ => (lowest.max(0.0) + (number % 4000) as f64 / 4.0).clamp(lowest, highest),
    }
}

fn text(limits: &Limits, kind: SampleKind, number: u64) -> String {
    match kind {
        SampleKind::Smallest | SampleKind::SmallestFilled => String::new(),
        SampleKind::Largest => "W".repeat(limits.max_len.min(LARGE * 8)),
        _ => format!("word {}", number % 1000),
    }
}

/// A number made of another one so that neighbours have nothing in common.
fn mixed(seed: u64) -> u64 {
    let mut z = seed.wrapping_add(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^ (z >> 31)
}
