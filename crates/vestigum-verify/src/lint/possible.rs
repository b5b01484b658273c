//! What every entry can be while only some levels can be played.
//!
//! An entry begins at its default. A rule that can decide at a moment widens it by what its operand can be, a source by
//! what it gives as long as it does not come back, play by the whole range of a field that no source gives. What grows on
//! and on is widened to the end of its range. So the bounds are never too narrow: what lies outside them cannot be reached.

use rustc_hash::FxHashSet;

use vestigum_core::{Moment, Span, Spec, Value};
use vestigum_spec::analysis::assume::can_decide;
use vestigum_spec::analysis::bounds::{Bounds, FieldBounds};
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::source::Source;
use vestigum_spec::vocabulary::fate::Operation;

use super::kept;

/// An entry may grow 4 times before it is widened to the end of its range.
const ROUNDS: usize = 4;

pub(super) struct Possible<'s> {
    spec: &'s Model,
    /// The levels that can be played.
    pub reached: Vec<bool>,
    /// For each source, how many of them have it.
    having: Vec<usize>,
    /// Says what each entry can be without what sources give.
    base: Vec<Bounds>,
    /// The rules that are looked at, by field and moment.
    rules: Vec<(FieldId, Moment)>,
}

impl<'s> Possible<'s> {
    /// Nothing can be played yet. Only what these fields depend on is worked out.
    pub(super) fn new(spec: &'s Spec, fields: FxHashSet<FieldId>) -> Possible<'s> {
        let data = &**spec.model();
        let matter = crate::explore::closed(spec, fields);
        let mut base = vec![Bounds::Any; data.slots];
        for field in &data.fields {
            let first = begins(data, field);
            field.slots().for_each(|slot| base[slot] = first);
        }
        let ruled = data.fields.iter().filter(|field| matter.contains(&field.id));
        let rules = ruled.flat_map(|field| spec.moments().map(|moment| (field.id, moment)));
        let rules = rules.filter(|(field, moment)| !data.plan.fate(*field, *moment).rules.is_empty());
        let (reached, having) = (vec![false; data.levels.len()], vec![0; data.sources.len()]);
        let mut possible = Possible { spec: data, reached, having, base, rules: rules.collect() };
        possible.settle(&[]);
        possible
    }

    /// Returns what a field can be: one entry, or any of them.
    pub(super) fn bounds(&self, field: FieldId, slot: Option<usize>) -> Bounds {
        let field = self.spec.field(field);
        match slot {
            Some(slot) => self.entry(field, slot),
            None => field.slots().map(|slot| self.entry(field, slot)).reduce(Bounds::or).unwrap_or(Bounds::Any),
        }
    }

    /// These levels can be played, too.
    pub(super) fn reach(&mut self, levels: &[usize]) {
        for level in levels {
            self.reached[*level] = true;
            for (source, having) in self.spec.sources.iter().zip(&mut self.having) {
                *having += usize::from(source.is_in(*level as u32));
            }
        }
        self.settle(levels);
    }

    fn entry(&self, field: &Field, slot: usize) -> Bounds {
        let reached = |level: Option<u32>| level.is_none_or(|level| self.reached[level as usize]);
        if field.built_in && self.spec.is_carried(field.id) {
            return Bounds::OPEN;
        }
        if field.built_in {
            let there = reached(field.level_of(self.spec, slot));
            return Bounds::Truth { holds: there, fails: true };
        }
        if field.ty.is_number() {
            let (low, high) = self.given(field, slot);
            return clamped(field, self.base[slot].plus(low, high));
        }
        // What is no number is written as it is.
        let gifts = self.sources_of(field, slot).flat_map(|(source, _)| &source.gives);
        let written = gifts.filter(|gift| gift.is_of(field, slot)).map(|gift| Bounds::of(&gift.value));
        written.fold(self.base[slot], Bounds::or)
    }

    /// The sources that play can take for an entry, each with the number of levels that have it.
    fn sources_of(&self, field: &Field, slot: usize) -> impl Iterator<Item = (&'s Source, usize)> {
        let of = field.level_of(self.spec, slot);
        let having = self.spec.sources.iter().zip(&self.having).map(move |(source, levels)| match of {
            Some(level) => (source, usize::from(self.reached[level as usize] && source.is_in(level))),
            None => (source, *levels),
        });
        having.filter(|(_, levels)| *levels > 0)
    }

    /// The least and the most that sources add to an entry.
    fn given(&self, field: &Field, slot: usize) -> (f64, f64) {
        let mut given = (0.0, 0.0);
        for (source, levels) in self.sources_of(field, slot) {
            for gift in source.gives.iter().filter(|gift| gift.is_of(field, slot)) {
                let often = if stays_taken(self.spec, source, field) {
                    let counters = if source.lasts.is_of_visit() { 1 } else { levels };
                    source.times as f64 * counters as f64
                } else {
                    f64::INFINITY
                };
                // What gives nothing gives nothing however often.
                let all = if gift.value.as_float() == 0.0 { 0.0 } else { gift.value.as_float() * often };
                given = (given.0 + all.min(0.0), given.1 + all.max(0.0));
            }
        }
        given
    }

    /// Widens entries until nothing more comes of it. The levels are those that were reached last.
    fn settle(&mut self, fresh: &[usize]) {
        let given = self.spec.sources.iter().flat_map(|source| &source.gives).map(|gift| gift.field);
        let mut changed: FxHashSet<FieldId> = given.chain([self.spec.completed, self.spec.opened]).collect();
        for round in 0.. {
            let mut found: Vec<(usize, Bounds)> = Vec::new();
            for (id, moment) in &self.rules {
                let field = self.spec.field(*id);
                for (index, rule) in self.spec.plan.fate(*id, *moment).rules.iter().enumerate() {
                    let again = reads(field, rule).any(|read| changed.contains(&read));
                    if again || round == 0 {
                        for level in self.places(field, rule, *moment, fresh, again) {
                            self.applied(field, *moment, index, level, &mut found);
                        }
                    }
                }
            }
            changed.clear();
            for (slot, bounds) in found {
                let wider = self.base[slot].or(bounds);
                if wider != self.base[slot] {
                    let id = self.field_of(slot);
                    let field = self.spec.field(id);
                    self.base[slot] = if round >= ROUNDS { widened(field, self.base[slot], wider) } else { wider };
                    changed.insert(id);
                }
            }
            if changed.is_empty() {
                return;
            }
        }
    }

    fn field_of(&self, slot: usize) -> FieldId {
        let at = self.spec.fields.partition_point(|field| field.slots().end <= slot);
        self.spec.fields[at].id
    }

    /// The levels at which a rule is looked at; none where it is all the same which it is.
    fn places(&self, field: &Field, rule: &Rule, moment: Moment, fresh: &[usize], all: bool) -> Vec<Option<u32>> {
        let outside = !moment.has_level();
        let placed = field.is_per_level()
            || rule.when.iter().any(|when| when.speaks_of_place(self.spec))
            || matches!(&rule.does, Effect::Operation(_, operand) if operand.speaks_of_place(self.spec));
        if !placed {
            let any = outside || self.reached.contains(&true);
            return if any { vec![None] } else { Vec::new() };
        }
        let levels: Vec<u32> = match all {
            true => (0..self.reached.len() as u32).filter(|level| self.reached[*level as usize]).collect(),
            false => fresh.iter().map(|level| *level as u32).collect(),
        };
        levels.into_iter().map(Some).chain(outside.then_some(None)).collect()
    }

    /// Returns what a rule can make of the entries that it touches.
    fn applied(
        &self,
        field: &Field,
        moment: Moment,
        index: usize,
        level: Option<u32>,
        found: &mut Vec<(usize, Bounds)>,
    ) {
        let rules = &self.spec.plan.fate(field.id, moment).rules;
        let of = |field, slot| self.bounds(field, slot);
        let fields = FieldBounds::new(&of);
        let fields = match level {
            Some(level) => fields.at(level),
            None => fields,
        };
        if !can_decide(rules, index, self.spec, &fields) {
            return;
        }
        let rule = &rules[index];
        let Effect::Operation(operation, operand) = &rule.does else { return };
        let operand = operand.bounds(self.spec, &fields);
        let slots = match (&field.axes[..], level) {
            ([Axis::Level], Some(level)) => field.slot_at(&[level])..field.slot_at(&[level]) + 1,
            _ => field.slots(),
        };
        for slot in slots.filter(|slot| touches(self.spec, field, *slot, level)) {
            let before = self.entry(field, slot);
            let after = match operation {
                Operation::Set | Operation::Max | Operation::Min => operand,
                Operation::Add => before.with(operand),
                Operation::Union | Operation::Rank => Bounds::Any,
            };
            found.push((slot, clamped(field, after)));
        }
    }
}

/// Returns what an entry is at first, with what play may write into it if no source gives it.
fn begins(spec: &Model, field: &Field) -> Bounds {
    let given = |source: &Source| source.gives.iter().any(|gift| gift.field == field.id);
    if field.built_in {
        return Bounds::of(&Value::Bool(false));
    }
    if spec.is_carried(field.id) || field.written_by.play() && !spec.sources.iter().any(given) {
        return Bounds::of_range(field);
    }
    Bounds::of_default(field)
}

/// Returns whether a rule in a level touches the entry.
fn touches(spec: &Model, field: &Field, slot: usize, level: Option<u32>) -> bool {
    let Some(level) = level else { return true };
    field.axes.iter().all(|axis| !matches!(axis, Axis::Level | Axis::Checkpoint))
        || field.is_of_level(spec, slot, level)
}

/// The fields that a rule depends on. What it adds to is one of them.
fn reads<'r>(field: &Field, rule: &'r Rule) -> impl Iterator<Item = FieldId> + use<'r> {
    let (operand, own) = match &rule.does {
        Effect::Operation(operation, operand) => (Some(operand), (*operation == Operation::Add).then_some(field.id)),
        Effect::Plain(_) => (None, None),
    };
    rule.when.iter().chain(operand).flat_map(|expression| expression.reads().iter().copied()).chain(own)
}

/// Returns whether a source stays taken for as long as a value of the field can be kept: so it gives no more than once all it has.
fn stays_taken(spec: &Model, source: &Source, field: &Field) -> bool {
    let life = |span: Span| match span {
        Span::Attempt | Span::Visit => 0,
        Span::Session | Span::Run => 1,
        Span::Profile | Span::Device => 2,
    };
    let same = source.lasts == field.lasts || (source.lasts.is_of_visit() && field.lasts.is_of_visit());
    let outlives = same || life(source.lasts) > life(field.lasts);
    let failures = [Moment::Death, Moment::Restart, Moment::Abandon, Moment::GameOver];
    outlives
        && failures.iter().all(|moment| kept::of_field(spec, field, *moment) <= kept::of_source(spec, source, *moment))
}

fn clamped(field: &Field, bounds: Bounds) -> Bounds {
    let limits = field.limits.range.as_ref().map(|(low, high)| (low.as_float(), high.as_float()));
    match (bounds, limits) {
        (Bounds::Number(low, high), Some((lowest, highest))) => {
            Bounds::Number(low.clamp(lowest, highest), high.clamp(lowest, highest))
        }
        // An operand that nothing is known about can be anything that the field can.
        (Bounds::Any, _) if field.ty.is_number() => match limits {
            Some((lowest, highest)) => Bounds::Number(lowest, highest),
            None => Bounds::Number(f64::NEG_INFINITY, f64::INFINITY),
        },
        (bounds, _) => bounds,
    }
}

/// The side that grew goes to the end of the range.
fn widened(field: &Field, before: Bounds, after: Bounds) -> Bounds {
    let (Bounds::Number(a, b), Bounds::Number(c, d)) = (before, after) else { return after };
    let low = if c < a { f64::NEG_INFINITY } else { a };
    let high = if d > b { f64::INFINITY } else { b };
    clamped(field, Bounds::Number(low, high))
}
