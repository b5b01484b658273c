//! Which entries show in the loaded game, found for all entries of all fields at once.
//!
//! Every entry has a number. For each bit of the numbers there are two loads: one in which the entries whose number has the bit
//! hold another value, and one in which those without it do. A value of the loaded game that changes in just the loads of one
//! number depends on that entry. One that depends on several entries changes in more loads, and tells nothing here.

use std::collections::BTreeSet;

use vestigum_core::state::State;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::span::Span;

use super::images::{Sample, SampleKind, made};
use super::{Prover, same_slot};
use crate::parallel::{cores, in_parts};

/// The values that an entry has: any two that every type tells apart.
const BEFORE: SampleKind = SampleKind::Typical(40);
const AFTER: SampleKind = SampleKind::Typical(91);

impl Prover<'_> {
    /// The entries of these fields that show, by their slots in the old version.
    pub(super) fn all_together(&self, fields: &[&Field]) -> BTreeSet<usize> {
        let usable = || self.samples.iter().filter(|sample| !sample.extreme);
        let in_level = |sample: &&Sample| sample.state.position.is_level();
        let Some(base) = usable().find(in_level).or_else(|| usable().next()) else { return BTreeSet::new() };
        let held = |field: &&&Field| base.state.position.is_level() || !field.needs_level();
        let state = &self.samples[0].state;
        let there = |field: &Field, slot: usize| {
            state.has_entry(&self.old, field, slot) && !self.trace.drops_entry(field, slot, &state.made)
        };
        let entries: Vec<(&Field, usize)> = fields
            .iter()
            .filter(held)
            .flat_map(|field| field.slots().filter(|slot| there(field, *slot)).map(|slot| (*field, slot)))
            .collect();
        let load = |changed: &dyn Fn(usize) -> bool| -> Option<State> {
            let changes = entries.iter().enumerate().map(|(number, (field, slot))| {
                let kind = if changed(number) { AFTER } else { BEFORE };
                (*field, *slot, made(field, kind, *slot as u64))
            });
            self.left(&base.with_all(changes))
        };
        let Some(before) = load(&|_| false) else { return BTreeSet::new() };
        let bits = usize::BITS - entries.len().leading_zeros();
        let has = |number: usize, bit: u32| (number >> bit) & 1 == 1;
        // Of each load the slots of the loaded game that changed.
        let loads = in_parts(bits as usize * 2, cores(), &|part| {
            let (bit, wanted) = (part as u32 / 2, part % 2 == 1);
            let after = load(&|number| has(number, bit) == wanted)?;
            Some((0..after.slot_count()).map(|slot| !same_slot(&before, &after, slot)).collect::<Vec<bool>>())
        });
        if loads.len() < bits as usize * 2 {
            return BTreeSet::new();
        }
        let codes = (0..before.slot_count()).map(|slot| {
            loads.iter().zip(0u64..).fold(0, |code, (changed, part)| code | (u64::from(changed[slot]) << part))
        });
        let codes: BTreeSet<u64> = codes.collect();
        let code =
            |number: usize| (0..bits).fold(0, |code, bit| code | 1u64 << (bit * 2 + u32::from(has(number, bit))));
        let shows = |(number, _): &(usize, _)| codes.contains(&code(*number));
        entries.iter().enumerate().filter(shows).map(|(_, (_, slot))| *slot).collect()
    }

    /// The fields that a save may hold something of. Without saves made inside levels, nothing of a visit is ever saved.
    pub(super) fn saved_fields(&self, stopped: bool) -> Vec<&Field> {
        let saved = |field: &&Field| field.lasts != Span::Session && (stopped || !field.needs_level());
        self.old.fields.iter().filter(saved).collect()
    }
}
