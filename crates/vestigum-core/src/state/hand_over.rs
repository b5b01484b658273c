//! Handing a state over to another thread: first as a whole, then what changed since.
//!
//! The other side keeps a copy and brings it up to date, so a hand-over costs what was written since the last one, however
//! many values there are. Random plays hold the copy against the state.

use std::sync::Arc;

use super::{CHECKPOINT, ENTRY, HANDED, MARKS, State};
use crate::state::kept::Kept;
use crate::state::position::Position;
use crate::state::visits::Visits;
use vestigum_spec::model::axis::MadeKeys;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Moved;

/// Describes what the copy has not heard of yet.
#[derive(Clone, Debug, Default)]
pub(super) struct Unheard {
    /// The slots that were written, each once: their bit says so.
    pub slots: Vec<usize>,
    /// Whether both marks were taken anew.
    pub marks_taken: bool,
    pub checkpoint: CheckpointMark,
    pub names: NewNames,
}

/// Describes what became of the names of open key sets.
#[derive(Clone, Debug, Default)]
pub(super) enum NewNames {
    #[default]
    None,
    /// These were made, each with the place of its set.
    Made(Vec<(usize, Arc<str>)>),
    /// Some were given up, so the others have moved.
    GivenUp,
}

/// Describes what became of the checkpoint mark as a whole, besides what was written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum CheckpointMark {
    #[default]
    Kept,
    Taken,
    /// Given up: it became the entry mark.
    GivenUp,
}

/// Describes what one hand-over brings.
#[derive(Debug)]
pub enum HandOver {
    /// The first one: all of the state.
    Whole(State),
    /// Says what changed since the one before.
    Changes(Changes),
}

/// Describes what changed between two hand-overs.
#[derive(Debug)]
pub struct Changes {
    slots: Vec<ChangedSlot>,
    marks_taken: bool,
    checkpoint: CheckpointMark,
    position: Position,
    names: HandedNames,
    moved: Option<Arc<Moved>>,
    kept: Option<Arc<Kept>>,
    kept_of_device: Option<Arc<Kept>>,
    visits: Option<Box<Visits>>,
}

#[derive(Debug)]
enum HandedNames {
    Made(Vec<(usize, Arc<str>)>),
    All(MadeKeys),
}

/// A slot that was written: its value, and what the marks have noted for it.
#[derive(Debug)]
struct ChangedSlot {
    slot: usize,
    noted: u8,
    value: Value,
    entry: Option<Value>,
    checkpoint: Option<Value>,
}

impl State {
    /// Returns what a copy needs to become this state: all of it the first time, then what changed.
    pub fn hand_over(&mut self) -> HandOver {
        let Some(unheard) = &mut self.unheard else {
            let copy = State { baseline: None, ..self.clone() };
            self.track();
            self.visits_are_told();
            return HandOver::Whole(copy);
        };
        let Unheard { slots, marks_taken, checkpoint, names } = std::mem::take(unheard);
        let mut changed = Vec::with_capacity(slots.len());
        for slot in &slots {
            let slot = *slot;
            self.noted[slot] &= !HANDED;
            let noted = self.noted[slot] & MARKS;
            changed.push(ChangedSlot {
                slot,
                noted,
                value: self.values[slot].clone(),
                entry: if noted & ENTRY == 0 { None } else { self.entry.get(&slot).cloned() },
                checkpoint: if noted & CHECKPOINT == 0 { None } else { self.checkpoint.get(&slot).cloned() },
            });
        }
        self.reuse(slots);
        let visits = self.visits.clone();
        self.visits_are_told();
        HandOver::Changes(Changes {
            slots: changed,
            marks_taken,
            checkpoint,
            position: self.position.clone(),
            names: match names {
                NewNames::None => HandedNames::Made(Vec::new()),
                NewNames::Made(names) => HandedNames::Made(names),
                NewNames::GivenUp => HandedNames::All(self.made.clone()),
            },
            moved: self.moved.clone(),
            kept: self.kept.clone(),
            kept_of_device: self.kept_of_device.clone(),
            visits,
        })
    }

    /// Brings a copy up to date.
    pub fn take_over(&mut self, changes: Changes) {
        let Changes { slots, marks_taken, checkpoint, position, names, moved, kept, kept_of_device, visits } = changes;
        if marks_taken {
            self.take_marks();
        }
        match checkpoint {
            CheckpointMark::Kept => {}
            CheckpointMark::Taken => self.take_checkpoint(),
            CheckpointMark::GivenUp => self.give_up_checkpoint(),
        }
        for ChangedSlot { slot, noted, value, entry, checkpoint } in slots {
            self.values[slot] = value;
            self.noted[slot] = (self.noted[slot] & !MARKS) | noted;
            match entry {
                Some(entry) => drop(self.entry.insert(slot, entry)),
                None => drop(self.entry.remove(&slot)),
            }
            match checkpoint {
                Some(checkpoint) => drop(self.checkpoint.insert(slot, checkpoint)),
                None => drop(self.checkpoint.remove(&slot)),
            }
        }
        self.position = position;
        match names {
            HandedNames::Made(names) => {
                for (set, name) in names {
                    self.made[set].insert(name);
                }
            }
            HandedNames::All(made) => self.made = made,
        }
        self.moved = moved;
        (self.kept, self.kept_of_device) = (kept, kept_of_device);
        // Several hand-overs may come before anybody looks.
        let before = self.visits.take();
        self.visits = visits.map(|mut visits| {
            let Visits { banked, ended, .. } = before.map(|before| *before).unwrap_or_default();
            visits.banked = banked.into_iter().chain(visits.banked).collect();
            visits.ended = ended.into_iter().chain(visits.ended).collect();
            visits
        });
    }

    /// Remembers from now on what is written, for [`State::hand_over`] and [`State::go_back_to`].
    pub fn track(&mut self) {
        self.unheard = Some(Unheard::default());
        self.noted.iter_mut().for_each(|noted| *noted &= !HANDED);
    }

    /// Becomes `origin` again. This state was a copy of it when [`State::track`] was called: it costs what was written since.
    pub fn go_back_to(&mut self, origin: &State) {
        let Some(unheard) = &mut self.unheard else { return self.copy_from(origin) };
        let Unheard { slots, .. } = std::mem::take(unheard);
        for slot in &slots {
            self.values[*slot].clone_from(&origin.values[*slot]);
        }
        self.reuse(slots);
        for (noted, of_origin) in self.noted.iter_mut().zip(&origin.noted) {
            *noted = of_origin & !HANDED;
        }
        self.copy_rest(origin);
        debug_assert!(self.values == origin.values, "all that was written is known");
    }

    /// Returns the slots that were written since [`State::track`] or [`State::go_back_to`], and whether a mark was taken or given up;
    /// `None` where nobody tracks it.
    pub fn written(&self) -> Option<(&[usize], bool)> {
        let unheard = self.unheard.as_ref()?;
        let marks_kept = matches!(unheard.checkpoint, CheckpointMark::Kept) && !unheard.marks_taken;
        Some((&unheard.slots, !marks_kept))
    }

    /// Returns the slots for which a mark has noted a value, in any order; those of both marks come twice.
    pub fn marked_slots(&self) -> impl Iterator<Item = usize> + '_ {
        self.entry.keys().chain(self.checkpoint.keys()).copied()
    }

    /// Uses the memory of a list of slots again, which has been told.
    fn reuse(&mut self, mut slots: Vec<usize>) {
        slots.clear();
        if let Some(unheard) = &mut self.unheard {
            unheard.slots = slots;
        }
    }

    /// Makes a name of an open key set.
    pub fn make_name(&mut self, set: usize, name: &str) {
        let name: Arc<str> = name.into();
        if let Some(unheard) = &mut self.unheard {
            match &mut unheard.names {
                NewNames::None => unheard.names = NewNames::Made(vec![(set, name.clone())]),
                NewNames::Made(names) => names.push((set, name.clone())),
                NewNames::GivenUp => {}
            }
        }
        self.made[set].insert(name);
    }

    /// Some names of open key sets were given up: a copy has to hear of it.
    pub fn names_given_up(&mut self) {
        if let Some(unheard) = &mut self.unheard {
            unheard.names = NewNames::GivenUp;
        }
    }

    /// Notes that a slot is written.
    #[inline]
    pub(super) fn changes(&mut self, slot: usize) {
        if self.noted[slot] & HANDED == 0
            && let Some(unheard) = &mut self.unheard
        {
            unheard.slots.push(slot);
            self.noted[slot] |= HANDED;
        }
    }
}
