//! What reaches a save and is no play of its player: another player of the device, a sync, a save of an earlier version, a level that
//! players made and removed.
//!
//! Each is a step like those of play, from a state in which the condition holds. The other save is a second unknown state in
//! which it holds, too; it stands where a step of play has the mark of the entry, which the condition itself never reads.

use vestigum_core::Span;
use vestigum_core::Spec;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::model::node::{EntryRef, Node, Pick, ReadAt};
use vestigum_spec::vocabulary::merging::MergeLaw;

use super::after::{Cases, Read};
use super::always::{Always, read_at};
use super::outcomes::{By, MomentOutcome, read_as};
use crate::explore::gaps::{Gap, is_made_by_update, names};

/// Lists what a step can make of what the condition reads.
type Outcomes = Vec<MomentOutcome>;

impl Always<'_> {
    /// Lists what the proof leaves out: the steps after which it is not shown that the condition holds.
    pub(super) fn gaps(&self, spec: &Spec) -> Vec<Gap> {
        let mut gaps = Vec::new();
        let fields = || self.reads.iter().map(|read| self.spec.field(read.field()));
        if self.by_level_removed().is_none() {
            let of_levels = |field: &&Field| field.axes.contains(&Axis::Level);
            gaps.push(Gap::MadeLevels(names(fields().filter(of_levels))));
        }
        if self.by_other_player().is_none() {
            gaps.push(Gap::Players(names(fields().filter(|field| field.lasts == Span::Device))));
        }
        if self.by_sync().is_none() {
            gaps.push(Gap::Syncs(names(fields().filter(|field| field.lasts != Span::Device))));
        }
        let made = |field: &Field| is_made_by_update(spec, field);
        let older = fields().filter(|field| made(field) && self.by_older_save(spec, field).is_none());
        let older = names(older);
        if !older.is_empty() {
            gaps.push(Gap::OlderSaves(older));
        }
        gaps
    }

    /// A player has the fields of the profile, and what all players do to the device comes between two steps of one.
    fn by_other_player(&self) -> Option<()> {
        let of_device = |field: &Field| field.lasts == Span::Device;
        let (mut device, mut other) = (false, false);
        for read in &self.reads {
            if of_device(self.spec.field(read.field())) { device = true } else { other = true }
        }
        // The fields of the device alone change by the steps of some player, and each step keeps the condition.
        if !(device && other) {
            return Some(());
        }
        // Someone who has never played.
        self.after(|field, read| {
            vec![outcome(if of_device(field) { Some(read.before()) } else { default(field, read) })]
        })?;
        // Someone who comes back.
        self.after(|field, read| vec![outcome(if of_device(field) { other_save(read) } else { Some(read.before()) })])
    }

    fn by_sync(&self) -> Option<()> {
        let Some(merging) = &self.spec.merging else { return Some(()) };
        // The run comes from one side, whichever it is.
        for run_of_other in [false, true] {
            self.after(|field, read| {
                let place = field.id.0 as usize;
                // The openings are judged again.
                if field.id == self.spec.opened {
                    return vec![outcome(None)];
                }
                let here = read.before();
                let Some(there) = other_save(read) else {
                    let apart = merging.fields[place] == FieldMerge::Apart;
                    return vec![outcome(apart.then_some(here))];
                };
                let either = || vec![outcome(Some(here.clone())), outcome(Some(there.clone()))];
                let both = || vec![here.clone(), there.clone()];
                let grows = merging.grows[place] && field.ty.is_number() && !field.optional;
                match merging.fields[place] {
                    FieldMerge::Apart => vec![outcome(Some(here))],
                    FieldMerge::WithRun => vec![outcome(Some(if run_of_other { there } else { here }))],
                    FieldMerge::By(MergeLaw::Max) if grows => vec![outcome(Some(Node::Highest(both())))],
                    FieldMerge::By(MergeLaw::Min) if grows => vec![outcome(Some(Node::Lowest(both())))],
                    FieldMerge::Changed | FieldMerge::By(MergeLaw::Max | MergeLaw::Min | MergeLaw::Newer) => either(),
                    FieldMerge::By(MergeLaw::Sum | MergeLaw::Union) => vec![outcome(None)],
                }
            })?;
        }
        Some(())
    }

    /// A save from before a field had the values that this version gives it: it has its default if it is new, and anything if a step
    /// makes it.
    fn by_older_save(&self, spec: &Spec, made: &Field) -> Option<()> {
        let is_new = spec.updates().history.iter().all(|history| {
            let mut models = history.versions().flat_map(|version| history.models_of(version));
            models.all(|model| model.find_field(&made.name).is_none_or(|field| field.ty == made.ty))
        });
        let with = |of: &dyn Fn(&Field, &Read) -> Option<Node>| {
            self.after(|field, read| {
                vec![outcome(if field.id == made.id { of(field, read) } else { Some(read.before()) })]
            })
        };
        with(&default)?;
        let migrated = spec.model().document.migrations.iter().any(|migration| !migration.steps.is_empty());
        if is_new && !migrated { Some(()) } else { with(&|_, _| None) }
    }

    /// A level that players made is removed, and its entries with it; another one can be made in its place.
    fn by_level_removed(&self) -> Option<()> {
        if self.spec.made_levels.is_empty() {
            return Some(());
        }
        self.after(|field, read| {
            let is_of_level = matches!(read, Read::Entry(_, EntryRef::Picked(picks)) if picks.contains(&Pick::Level));
            vec![outcome(if is_of_level { default(field, read) } else { Some(read.before()) })]
        })
    }

    /// Checks that the condition holds after such a step, if it holds of this save and of the other one.
    fn after(&self, of: impl Fn(&Field, &Read) -> Outcomes) -> Option<()> {
        let Always { spec, condition, ref reads, budget, .. } = *self;
        let outcomes: Vec<Outcomes> = reads.iter().map(|read| of(spec.field(read.field()), read)).collect();
        let known = || self.lemmas.iter().map(|lemma| &lemma.holds).chain([condition]);
        let given: Vec<Node> = [ReadAt::Was, ReadAt::Entry]
            .into_iter()
            .flat_map(|at| known().filter_map(move |known| read_at(known, at)))
            .collect();
        Cases { spec, condition, reads, outcomes: &outcomes, rest: &|_| None, budget }.all_hold(&given)
    }
}

fn outcome(value: Option<Node>) -> MomentOutcome {
    MomentOutcome { facts: Vec::new(), value, by: By::Nothing }
}

/// Reads the entry of another save, where one entry is read.
fn other_save(read: &Read) -> Option<Node> {
    match read {
        Read::Entry(field, entry) => Some(Node::Read(ReadAt::Entry, *field, entry.clone())),
        Read::All(..) => None,
    }
}

/// The default of one entry; all together are not worked out.
fn default(field: &Field, read: &Read) -> Option<Node> {
    matches!(read, Read::Entry(..)).then(|| Node::Const(read_as(field, &field.default)))
}
