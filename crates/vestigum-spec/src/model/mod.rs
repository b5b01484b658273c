//! The model: what a spec means, with every name resolved.
//!
//! It is made in stages, and each stage is a type of its own: [`Names`] knows what there is, [`Types`] what every field holds,
//! [`Readable`] all that an expression can read, and [`Model`] what happens at every moment. A later stage has the earlier
//! ones inside and reads as they do; nothing is half built in between.

pub mod axis;
pub mod code;
pub mod entry;
pub mod expression;
pub mod fates;
pub mod field;
pub mod level;
pub mod members;
pub mod merging;
pub mod node;
pub mod placed;
pub mod promise;
pub mod source;
pub mod table;

use std::ops::{Deref, Range};
use std::sync::{Arc, OnceLock};

use rustc_hash::FxHashMap;

use crate::document::Document;
use crate::model::axis::KeySet;
use crate::model::code::Code;
use crate::model::expression::Expression;
use crate::model::fates::FatePlan;
use crate::model::field::{Field, FieldId};
use crate::model::level::{Derived, Level, Opening};
use crate::model::members::MemberNames;
use crate::model::merging::Merging;
use crate::model::promise::Promise;
use crate::model::source::Source;
use crate::model::table::Table;
use crate::nearest::suggestion;
use crate::value::types::StructType;
use crate::vocabulary::fate::PlainFate;
use crate::vocabulary::moment::Moment;
use crate::vocabulary::policy::{Accept, NewerSaves, Respawn, Resume};
use crate::vocabulary::span::Lasts;

/// The first stage: what a spec has, by name.
#[derive(Debug)]
pub struct Names {
    /// The id of the game.
    pub id: Arc<str>,
    /// The title of the game, for people.
    pub title: String,
    /// The version of the saved data.
    pub version: i64,
    /// The levels: those in `order` first, the others after them, those that players make last.
    pub levels: Vec<Level>,
    /// The levels by their ids.
    pub level_ids: FxHashMap<Arc<str>, u32>,
    /// All levels in the order of their ids, which is the one that images want.
    pub levels_by_name: Vec<u32>,
    /// Says how many of the levels stand in `order`: the first ones.
    pub in_order: usize,
    /// The levels that players can make, behind all that were shipped.
    pub made_levels: Range<u32>,
    /// Says how long `completed` and `opened` last.
    pub lasts: Lasts,
    /// The axis of checkpoints: level and checkpoint of each, for the levels that list theirs.
    pub checkpoint_keys: Vec<(u32, u32)>,
    /// The game's own moments; those that begin a run stand behind the others.
    pub own_moments: Vec<Arc<str>>,
    /// The first of the own moments that begin a run.
    pub first_new_run: usize,
    /// The moments at which `completed` and `opened` begin anew, where they last a run.
    pub cleared_at: Vec<Moment>,
    /// The folder in which every level has a file.
    pub assets: Option<String>,
    /// The struct types, each behind those that are in it.
    pub structs: Vec<Arc<StructType>>,
    /// The key sets.
    pub key_sets: Vec<KeySet>,
    /// The tables.
    pub tables: Vec<Table>,
}

/// The second stage: the fields, each with its type, its limits and its place among the values.
#[derive(Debug)]
pub struct Types {
    /// The stage before.
    pub names: Names,
    /// Declared fields first, the built-ins `completed` and `opened` last.
    pub fields: Vec<Field>,
    /// The fields by their names.
    pub field_ids: FxHashMap<Arc<str>, FieldId>,
    /// The built-in field `completed`.
    pub completed: FieldId,
    /// The built-in field `opened`.
    pub opened: FieldId,
    /// All fields in the order of their names, which is the one that images want.
    pub fields_by_name: Vec<FieldId>,
    /// The fields that last as long as the device.
    pub device_fields: Vec<FieldId>,
    /// The fields that count time.
    pub clocks: Vec<FieldId>,
    /// The fields that are there for levels that players make, where they make any.
    pub made_fields: Option<MadeFields>,
    /// Says how many values there are.
    pub slots: usize,
}

/// The fields that are there for levels that players make.
#[derive(Clone, Debug)]
pub struct MadeFields {
    /// Whether each level is made: `made`.
    pub made: FieldId,
    /// The field with their titles.
    pub title: Option<FieldId>,
    /// The fields that go along when a level is exported.
    pub carries: Vec<FieldId>,
}

/// The third stage: everything that an expression can read.
#[derive(Debug)]
pub struct Readable {
    /// The stage before.
    pub types: Types,
    /// Each behind those that it reads.
    pub derived: Vec<Derived>,
    /// The derived values by their names.
    pub derived_ids: FxHashMap<Arc<str>, u32>,
}

/// Describes what a spec means. It is shared by everything that runs it, and never changes.
#[derive(Debug)]
pub struct Model {
    /// The stage before.
    pub readable: Readable,
    /// When each level opens.
    pub openings: Vec<Opening>,
    /// For each level, the condition under which the board does not show it.
    pub hidden: Vec<Option<Expression>>,
    /// For each field, whether some level's opening reads it: only its writes have to judge openings.
    pub opens_levels: Vec<bool>,
    /// The condition under which the run is over.
    pub over_when: Option<Expression>,
    /// Says where a death puts the player.
    pub respawn: Respawn,
    /// Says which checkpoints count.
    pub accept: Accept,
    /// Says what a save made inside a level brings back.
    pub resume: Resume,
    /// The moments that ask for a save.
    pub save_at: Vec<Moment>,
    /// Says what becomes of saves of this version that hold more than this spec has a place for, if the spec does.
    pub newer: Option<NewerSaves>,
    /// Says how many older generations of an image are kept.
    pub keep: u32,
    /// Says what every moment does to every field.
    pub plan: FatePlan,
    /// Says what play can give.
    pub sources: Vec<Source>,
    /// Says what must hold in every state that play can reach.
    pub promises: Vec<Promise>,
    /// The codes.
    pub codes: Vec<Code>,
    /// Says how saves of two installations are merged, if the spec says it.
    pub merging: Option<Merging>,
    /// Says what the document says, to write it back.
    pub document: Document,
    /// Changes when anything in the document does; handles carry it.
    pub fingerprint: u32,
    /// Names what its saves hold, as images say it; nothing until the history knows the model.
    pub shape: Arc<str>,
    /// Caches what [`Model::members`] returns.
    pub(crate) members: OnceLock<MemberNames>,
}

impl Deref for Types {
    type Target = Names;

    fn deref(&self) -> &Names {
        &self.names
    }
}

impl Deref for Readable {
    type Target = Types;

    fn deref(&self) -> &Types {
        &self.types
    }
}

impl Deref for Model {
    type Target = Readable;

    fn deref(&self) -> &Readable {
        &self.readable
    }
}

impl Model {
    /// Returns the names of fields, levels and keys as images write them.
    pub fn members(&self) -> &MemberNames {
        self.members.get_or_init(|| MemberNames::of(self))
    }

    /// Returns whether a moment gives the checkpoint up before its fates: the checkpoint mark becomes the entry mark.
    pub fn gives_up_checkpoint(&self, moment: Moment) -> bool {
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
            | Moment::Own(_)
            | Moment::OwnRun(_) => false,
        }
    }

    /// Returns what a fate means at a moment: where the checkpoint is given up first, its mark is the entry's.
    pub fn meant(&self, moment: Moment, simple: PlainFate) -> PlainFate {
        if simple == PlainFate::Checkpoint && self.gives_up_checkpoint(moment) { PlainFate::Entry } else { simple }
    }
}

impl Names {
    /// A level by its number.
    pub fn level(&self, level: u32) -> &Level {
        &self.levels[level as usize]
    }

    /// The levels of the game: all but those that players make.
    pub fn shipped_levels(&self) -> &[Level] {
        &self.levels[..self.made_levels.start as usize]
    }

    /// Returns whether a level is one that players make, whether it is made or not.
    pub fn is_made_level(&self, level: u32) -> bool {
        self.made_levels.contains(&level)
    }

    /// The name of a moment in this game.
    pub fn moment_name(&self, moment: Moment) -> &str {
        match moment {
            Moment::Own(n) | Moment::OwnRun(n) => self.own_moments.get(usize::from(n)).map_or("?", |name| name),
            built_in => built_in.word().unwrap_or_default(),
        }
    }

    /// The moment of a name.
    pub fn moment(&self, name: &str) -> Option<Moment> {
        Moment::from_word(name).or_else(|| {
            let n = self.own_moments.iter().position(|own| &**own == name)?;
            Some(self.own_moment(n as u16))
        })
    }

    fn own_moment(&self, n: u16) -> Moment {
        if usize::from(n) < self.first_new_run { Moment::Own(n) } else { Moment::OwnRun(n) }
    }

    /// Every moment of the game: the built-in ones, and then its own.
    pub fn moments(&self) -> impl Iterator<Item = Moment> {
        let own = (0..self.own_moments.len() as u16).map(|n| self.own_moment(n));
        Moment::BUILT_IN.iter().copied().chain(own)
    }
}

impl Types {
    /// A field by its id.
    #[inline]
    pub fn field(&self, id: FieldId) -> &Field {
        &self.fields[id.0 as usize]
    }

    /// The level of that name, or else the name that was probably meant.
    ///
    /// # Errors
    /// If there is none: the name that was probably meant, if one is near.
    pub fn find_level(&self, name: &str) -> Result<u32, Option<String>> {
        let found = self.level_ids.get(name).copied();
        found.ok_or_else(|| suggestion(name, self.levels.iter().map(|level| &*level.id)))
    }

    /// The field that was probably meant.
    pub fn suggested_field(&self, name: &str) -> Option<String> {
        suggestion(name, self.fields.iter().map(Field::name))
    }

    /// A field by its name.
    pub fn find_field(&self, name: &str) -> Option<&Field> {
        self.field_ids.get(name).map(|id| self.field(*id))
    }

    /// The slots of the device's values, in the order of the fields.
    pub fn device_slots(&self) -> impl Iterator<Item = usize> {
        self.device_fields.iter().flat_map(|id| self.field(*id).slots())
    }

    /// Returns whether a field is the one that says which levels are made.
    pub fn is_made_field(&self, field: FieldId) -> bool {
        self.made_fields.as_ref().is_some_and(|fields| fields.made == field)
    }

    /// Returns whether a field holds what a player gave a level.
    pub fn is_given(&self, field: FieldId) -> bool {
        self.made_fields.as_ref().is_some_and(|fields| fields.carries.contains(&field))
    }

    /// The slot that holds whether a level is made, of one that players make.
    pub fn made_slot(&self, level: u32) -> Option<usize> {
        let fields = self.made_fields.as_ref().filter(|_| self.is_made_level(level))?;
        Some(self.field(fields.made).slot_at(&[level]))
    }

    /// The slot that holds whether `level` is open.
    pub fn opened_slot(&self, level: u32) -> usize {
        self.field(self.opened).slot_at(&[level])
    }
}

impl Model {
    /// When a level opens.
    pub fn opening(&self, level: u32) -> &Opening {
        &self.openings[level as usize]
    }

    /// Returns whether a code can write a field: then it can be anything that its limits allow.
    pub fn is_carried(&self, field: FieldId) -> bool {
        self.codes.iter().flat_map(|code| &code.digits).any(|digit| digit.field == field)
    }

    /// The code of that name, or else the name that was probably meant.
    ///
    /// # Errors
    /// If there is none: the name that was probably meant, if one is near.
    pub fn find_code(&self, name: &str) -> Result<&Code, Option<String>> {
        let found = self.codes.iter().find(|code| *code.name == *name);
        found.ok_or_else(|| suggestion(name, self.codes.iter().map(|code| &*code.name)))
    }

    /// Returns whether a write of a field can open a level.
    #[inline]
    pub fn opens_levels(&self, field: FieldId) -> bool {
        self.opens_levels[field.0 as usize]
    }
}
