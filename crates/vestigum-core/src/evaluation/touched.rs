//! Which entries of a field a rule touches.

use crate::evaluation::Env;
use vestigum_spec::model::axis::{Axis, Touched};
use vestigum_spec::model::field::Field;

/// The entries that a rule touches: on the axis of levels the moment's, on that of checkpoints the moment's, on a key
/// set with `current` that key, on any other axis every key.
pub fn touched(field: &Field, env: &Env<'_>) -> Touched {
    if field.axes.is_empty() {
        return Touched::One(field.first_slot);
    }
    let mut wanted = Vec::with_capacity(field.axes.len());
    for axis in &field.axes {
        let key = match axis {
            Axis::Level => Some(env.level),
            Axis::Checkpoint => Some(env.checkpoint_key()),
            Axis::Keys(set) => {
                let has_current = env.spec.key_sets[*set as usize].current.is_some();
                has_current.then(|| env.spec.current_key(*set, |slot| env.state.value(slot).clone()))
            }
        };
        match key {
            Some(None) => return Touched::Nothing,
            Some(key) => wanted.push(key),
            None => wanted.push(None),
        }
    }
    match wanted.iter().copied().collect::<Option<Vec<u32>>>() {
        Some(keys) => Touched::One(field.slot_at(&keys)),
        None => Touched::Where(wanted),
    }
}
