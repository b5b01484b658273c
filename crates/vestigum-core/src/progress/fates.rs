//! Applying the fates of a moment to the state.
//!
//! All reads see the state before the moment: the new values are worked out first and written together.

use crate::evaluation::Env;
use crate::evaluation::judge::ExpressionValue;
use crate::evaluation::touched::touched;
use crate::outcome::{Change, Outcome, RankedIn};
use crate::progress::{Progress, Subject};
use crate::state::{NotedSlots, State};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Touched;
use vestigum_spec::model::entry::{entry_name, keys_of};
use vestigum_spec::model::fates::{Effect, FieldFate};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::fate::{Fate, Operation, PlainFate};
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::span::Span;

/// A value that a moment is about to write.
struct Pending {
    slot: usize,
    value: Value,
    /// None where only the marks change, because the value is what it was, and where nobody asks.
    change: Option<Change>,
}

impl Progress {
    /// Works out and writes the fates of `moment`, and notes every change in the outcome.
    pub(super) fn apply_fates(&mut self, moment: Moment, subject: &Subject, outcome: &mut Outcome) {
        let (pending, ranked) = {
            let spec = &*self.model;
            let at = Env::new(spec, &self.state, subject.level, subject.checkpoint.as_ref());
            let env = Env { exit: subject.exit.as_deref(), ..at };
            let in_level = self.state.position.level().is_some();
            let through = moment == Moment::Launch;
            let noted = self.state.noted_slots();
            let quiet = self.quiet;
            let concerned = spec.plan.concerned(moment, noted.fields(&spec.fields));
            let pending = Vec::with_capacity(concerned.len());
            let mut evaluator = Evaluator { spec, state: &self.state, through, quiet, pending, ranked: Vec::new() };
            for id in concerned {
                let (field, fate) = (spec.field(id), spec.plan.fate(id, moment));
                // Outside a level an attempt or visit value does not exist, so no rule can change it.
                let outside = field.needs_level() && !in_level && moment != Moment::Enter;
                if outside || (self.projects && field.lasts == Span::Device) {
                    continue;
                }
                evaluator.field(field, fate, &noted, &env);
            }
            (evaluator.pending, evaluator.ranked)
        };
        outcome.ranked.extend(ranked);
        if !self.quiet {
            outcome.changes.reserve(pending.len());
        }
        for Pending { slot, value, change } in pending {
            if moment == Moment::Launch {
                self.state.write_through(slot, value);
            } else {
                self.state.write(slot, value);
            }
            outcome.changes.extend(change);
        }
        if !self.quiet && self.state.position.level().is_some() {
            let names = self.model.plan.set_back(moment).iter().map(|id| self.model.field(*id).name.clone());
            outcome.set_back.extend(names);
        }
    }
}

struct Evaluator<'a> {
    spec: &'a Model,
    state: &'a State,
    /// Whether the marks get the value, too.
    through: bool,
    /// Whether nobody asks what changed.
    quiet: bool,
    pending: Vec<Pending>,
    ranked: Vec<RankedIn>,
}

impl Evaluator<'_> {
    fn field(&mut self, field: &Field, fate: &FieldFate, noted: &NotedSlots, env: &Env<'_>) {
        let decided = fate.rules.iter().find(|rule| rule.when.as_ref().is_none_or(|when| when.holds(env)));
        let ruled = decided.map(|rule| (touched(field, env), &rule.does));
        if let Some((touched, effect)) = &ruled {
            // The operand is the same for every entry: keys in it are fixed or the moment's.
            let operand = match effect {
                Effect::Plain(_) => Value::Unfilled,
                Effect::Operation(_, operand) => operand.value(env),
            };
            match touched {
                Touched::Nothing => {}
                Touched::One(slot) if self.state.has_entry(self.spec, field, *slot) => {
                    self.effect(field, *slot, effect, &operand);
                }
                Touched::One(_) => {}
                Touched::Where(_) => {
                    for slot in field.slots().filter(|slot| touched.contains(field, *slot)) {
                        if self.state.has_entry(self.spec, field, slot) {
                            self.effect(field, slot, effect, &operand);
                        }
                    }
                }
            }
        }
        let untouched = |slot: &usize| ruled.as_ref().is_none_or(|(touched, _)| !touched.contains(field, *slot));
        match fate.fallback {
            PlainFate::Keep => {}
            PlainFate::Reset => {
                for slot in field.slots().filter(untouched) {
                    self.simple(field, slot, fate.fallback);
                }
            }
            // Only what was written since the mark was taken can be another value there.
            PlainFate::Entry | PlainFate::Checkpoint => {
                for slot in noted.of(field.slots()).iter().copied().filter(untouched) {
                    self.simple(field, slot, fate.fallback);
                }
            }
        }
    }

    fn effect(&mut self, field: &Field, slot: usize, effect: &Effect, operand: &Value) {
        match effect {
            Effect::Plain(simple) => self.simple(field, slot, *simple),
            Effect::Operation(Operation::Rank, _) => {
                let (value, clamped, ranked) = field.limits.ranked(self.state.value(slot), operand.clone());
                if let (Some(ranked), false) = (ranked, self.quiet) {
                    let ranking = entry_name(self.spec, field, slot, &self.state.made);
                    self.ranked.push(RankedIn { ranking, ranked });
                }
                self.change(field, slot, value, Fate::Operation(Operation::Rank), clamped);
            }
            Effect::Operation(operation, _) => {
                let (new, cut) = operation.apply(self.state.value(slot), operand, &field.ty.zero(), &field.limits);
                let (value, clamped) = field.limits.clamp(new);
                self.change(field, slot, value, Fate::Operation(*operation), clamped || cut);
            }
        }
    }

    fn simple(&mut self, field: &Field, slot: usize, simple: PlainFate) {
        let value = match simple {
            PlainFate::Keep => return self.mark(slot),
            PlainFate::Entry | PlainFate::Checkpoint if !self.state.is_noted(slot) => return,
            PlainFate::Reset => &field.default,
            PlainFate::Entry => self.state.at_entry(slot),
            PlainFate::Checkpoint => self.state.at_checkpoint(slot),
        };
        if value != self.state.value(slot) {
            self.change(field, slot, value.clone(), Fate::Plain(simple), false);
        } else {
            self.mark(slot);
        }
    }

    /// A rule leaves the value as it is; at `launch` the marks get it all the same.
    fn mark(&mut self, slot: usize) {
        if self.through && self.state.is_noted(slot) {
            self.pending.push(Pending { slot, value: self.state.value(slot).clone(), change: None });
        }
    }

    fn change(&mut self, field: &Field, slot: usize, value: Value, fate: Fate, clamped: bool) {
        let before = self.state.value(slot);
        if *before == value && !clamped {
            return self.mark(slot);
        }
        let change = (!self.quiet).then(|| Change {
            field: field.name.clone(),
            keys: keys_of(self.spec, field, slot, &self.state.made),
            before: before.clone(),
            after: value.clone(),
            fate,
            clamped,
        });
        self.pending.push(Pending { slot, value, change });
    }
}
