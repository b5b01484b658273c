//! A copy of a session's progress on the thread that saves it.

use std::sync::Arc;

use crate::progress::Progress;
use crate::state::State;
use crate::state::hand_over::{Changes, HandOver};
use crate::state::visits::Visits;
use crate::suspension::{Suspended, suspend};
use vestigum_spec::model::Model;

/// Describes what a session hands over when it saves.
#[derive(Debug)]
pub struct Handed(HandedPart);

#[derive(Debug)]
enum HandedPart {
    Whole(Box<Replica>),
    Changes(Changes),
}

impl Progress {
    /// Returns what a [`Replica`] needs to be what this progress is now. It costs what was written since the last time.
    #[doc(hidden)]
    pub fn hand_over(&mut self) -> Handed {
        Handed(match self.state.hand_over() {
            HandOver::Whole(state) => HandedPart::Whole(Box::new(Replica { model: self.model.clone(), state })),
            HandOver::Changes(changes) => HandedPart::Changes(changes),
        })
    }
}

/// A copy of a session's progress as of its last hand-over. It projects and encodes where the game does not wait for it.
#[derive(Debug)]
pub struct Replica {
    model: Arc<Model>,
    state: State,
}

impl Replica {
    /// Brings a copy up to date; the first hand-over of a session makes it. None only for changes of a copy that is not there.
    pub fn after(replica: Option<Box<Replica>>, handed: Handed) -> Option<Box<Replica>> {
        match handed.0 {
            HandedPart::Whole(replica) => Some(replica),
            HandedPart::Changes(changes) => {
                let mut replica = replica?;
                replica.state.take_over(changes);
                Some(replica)
            }
        }
    }

    /// Returns what the player would have if they had quit at the last hand-over.
    pub fn suspended(&self) -> Suspended {
        Suspended { model: self.model.clone(), state: suspend(&self.model, &self.state) }
    }

    /// All values, marks and the place.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Returns what became of visits to levels, if the session follows them.
    pub fn visits(&self) -> Visits {
        self.state.visits().cloned().unwrap_or_default()
    }

    /// Forgets which visits were banked: a save has it.
    pub fn visits_are_told(&mut self) {
        self.state.visits_are_told();
    }
}
