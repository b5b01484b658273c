//! The model: what a spec means, with every name resolved.

pub mod axis;
pub mod entry;
pub mod expression;
pub mod fates;
pub mod field;
pub mod level;
pub mod node;
pub mod promise;
pub mod source;
pub mod table;

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::document::Document;
use crate::model::axis::KeySet;
use crate::model::expression::Expression;
use crate::model::fates::FatePlan;
use crate::model::field::{Field, FieldId};
use crate::model::level::{Derived, Level};
use crate::model::promise::Promise;
use crate::model::source::Source;
use crate::model::table::Table;
use crate::value::types::StructType;
use crate::vocabulary::fate::PlainFate;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::policy::{Accept, Respawn, Resume};
use crate::vocabulary::span::Lasts;

/// What a spec means. It is shared by everything that runs it, and never changes.
#[derive(Debug)]
pub struct Model {
    pub id: Arc<str>,
    pub title: String,
    pub version: i64,
    pub levels: Vec<Level>,
    pub level_ids: FxHashMap<Arc<str>, u32>,
    /// All levels in the order of their ids, which is the one that images want.
    pub levels_by_name: Vec<u32>,
    /// How many of the levels stand in `order`: the first ones.
    pub in_order: usize,
    pub lasts: Lasts,
    /// The axis of checkpoints: level and checkpoint of each, for the levels that list theirs.
    pub checkpoint_keys: Vec<(u32, u32)>,
    pub key_sets: Vec<KeySet>,
    pub structs: Vec<Arc<StructType>>,
    pub tables: Vec<Table>,
    /// Declared fields first, the built-ins `completed` and `opened` last.
    pub fields: Vec<Field>,
    pub field_ids: FxHashMap<Arc<str>, FieldId>,
    pub completed: FieldId,
    pub opened: FieldId,
    pub slots: usize,
    pub derived: Vec<Derived>,
    pub derived_ids: FxHashMap<Arc<str>, u32>,
    pub own_moments: Vec<Arc<str>>,
    pub over_when: Option<Expression>,
    pub respawn: Respawn,
    pub accept: Accept,
    pub resume: Resume,
    pub save_at: Vec<Moment>,
    pub keep: u32,
    pub sources: Vec<Source>,
    pub promises: Vec<Promise>,
    pub plan: FatePlan,
    /// What the document says, to write it back.
    pub document: Document,
    /// Changes when anything in the document does; handles carry it.
    pub fingerprint: u32,
}

impl Model {
    /// Whether a moment gives the checkpoint up before its fates: the checkpoint mark becomes the entry mark.
    pub(crate) fn gives_up_checkpoint(&self, moment: Moment) -> bool {
        match moment {
            Moment::Restart | Moment::Abandon | Moment::GameOver => true,
            Moment::Death => self.respawn == Respawn::Entry,
            Moment::Launch
            | Moment::NewRun
            | Moment::Enter
            | Moment::Checkpoint
            | Moment::Complete
            | Moment::Travel
            | Moment::Quit
            | Moment::Own(_) => false,
        }
    }

    /// What a fate means at a moment: where the checkpoint is given up first, its mark is the entry's.
    pub fn meant(&self, moment: Moment, simple: PlainFate) -> PlainFate {
        if simple == PlainFate::Checkpoint && self.gives_up_checkpoint(moment) { PlainFate::Entry } else { simple }
    }
}

impl Model {
    #[inline]
    pub fn field(&self, id: FieldId) -> &Field {
        &self.fields[id.0 as usize]
    }

    pub fn find_field(&self, name: &str) -> Option<&Field> {
        self.field_ids.get(name).map(|id| self.field(*id))
    }

    pub fn level(&self, level: u32) -> &Level {
        &self.levels[level as usize]
    }

    pub fn moment_name(&self, moment: Moment) -> &str {
        match moment {
            Moment::Own(n) => self.own_moments.get(usize::from(n)).map_or("?", |name| name),
            built_in => built_in.word().unwrap_or_default(),
        }
    }

    pub fn moment(&self, name: &str) -> Option<Moment> {
        Moment::from_word(name).or_else(|| {
            let n = self.own_moments.iter().position(|own| &**own == name)?;
            u16::try_from(n).ok().map(Moment::Own)
        })
    }

    /// The slot that holds whether `level` is open.
    pub fn opened_slot(&self, level: u32) -> usize {
        self.field(self.opened).slot_at(&[level])
    }
}
