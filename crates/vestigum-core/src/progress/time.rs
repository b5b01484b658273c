//! Time that passes in play, for the fields that count it.

use std::time::Duration;

use crate::outcome::Written;
use crate::progress::Progress;
use vestigum_spec::model::entry::EntrySlot;
use vestigum_spec::model::field::Counts;
use vestigum_spec::value::{Value, add};
use vestigum_spec::{AccessError, AccessErrorKind};

impl Progress {
    /// Adds the time that passed to every field that `counts`, each by the same whole milliseconds. What is left of a
    /// millisecond is added with the next call, so that frames can be counted one by one. A game that is paused does not
    /// call it. Nothing is counted where there is no entry: outside a level, for a field that has one for each.
    ///
    /// # Errors
    /// After `quit`.
    ///
    /// # Example
    ///
    /// ```
    /// # use std::time::Duration;
    /// # use vestigum_core::{Progress, Spec};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [field.played]
    ///     type = "int"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     counts = "ms"
    /// "#)?;
    /// let mut game = Progress::fresh(&spec);
    /// for _frame in 0..60 {
    ///     game.tick(Duration::from_secs(1) / 60)?;       // 16.67 ms each
    /// }
    /// assert_eq!(game.get(spec.int("played")?), 999);    // and what is left counts with the next frame
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn tick(&mut self, passed: Duration) -> Result<Written, AccessError> {
        if self.is_closed() {
            return Err(AccessErrorKind::Closed.into());
        }
        let passed = self.rest.saturating_add(passed);
        let ms = passed.as_millis();
        self.rest = Duration::from_nanos(u64::from(passed.subsec_nanos() % 1_000_000));
        let ms = Value::Int(i64::try_from(ms).unwrap_or(i64::MAX));
        let (mut clamped, mut opens) = (false, false);
        let model = self.model.clone();
        let in_level = self.state.position.is_level();
        for id in &model.clocks {
            let field = model.field(*id);
            let only_in_level = field.in_level || field.counts == Some(Counts::InLevel);
            if only_in_level && !in_level {
                continue;
            }
            let Ok(EntrySlot::Slot(slot)) = self.entry(field, &[]) else { continue };
            if !self.state.has_entry(&model, field, slot) {
                continue;
            }
            let old = self.state.value(slot);
            let sum = if old.is_filled() { add(old, &ms) } else { ms.clone() };
            let (sum, outside) = field.limits.clamp(sum);
            clamped |= outside;
            opens |= model.opens_levels(*id);
            self.state.write(slot, sum);
        }
        Ok(self.written(opens, clamped, false))
    }
}
