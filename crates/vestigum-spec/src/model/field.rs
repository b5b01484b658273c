//! Fields: named, typed pieces of progress.

use std::ops::Range;
use std::sync::Arc;

use crate::model::axis::Axis;
use crate::value::Value;
use crate::value::limits::Limits;
use crate::value::ranking::Ranking;
use crate::value::types::Type;
use crate::vocabulary::fate::{Operation, PlainFate};
use crate::vocabulary::span::{Span, WrittenBy};

/// The word for a field whose entries are sorted, and that keeps only the best.
pub const RANKING: &str = "ranking";

/// The word for a field whose bytes are kept beside the image.
pub const BLOB: &str = "blob";

/// A field's place in its spec.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FieldId(pub u32);

/// Describes how a field counts time: in milliseconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counts {
    /// Wherever the player is.
    Everywhere,
    /// Only inside a level.
    InLevel,
}

/// One named, typed piece of progress.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Field {
    #[doc(hidden)]
    pub id: FieldId,
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub ty: Type,
    #[doc(hidden)]
    pub lasts: Span,
    #[doc(hidden)]
    pub after_failure: Option<PlainFate>,
    #[doc(hidden)]
    pub written_by: WrittenBy,
    #[doc(hidden)]
    pub limits: Limits,
    #[doc(hidden)]
    pub default: Value,
    #[doc(hidden)]
    pub optional: bool,
    #[doc(hidden)]
    pub label: Option<Arc<str>>,
    /// Whether a write of play asks for a save.
    #[doc(hidden)]
    pub saves: bool,
    /// Whether a list of players shows it.
    #[doc(hidden)]
    pub thumbnail: bool,
    #[doc(hidden)]
    pub counts: Option<Counts>,
    #[doc(hidden)]
    pub axes: Vec<Axis>,
    /// Says how many keys each axis has.
    #[doc(hidden)]
    pub dims: Vec<u32>,
    #[doc(hidden)]
    pub first_slot: usize,
    #[doc(hidden)]
    pub slots: usize,
    #[doc(hidden)]
    pub rewinds: bool,
    #[doc(hidden)]
    pub built_in: bool,
    /// Whether play may write it, and whether only in a level: what every write asks.
    #[doc(hidden)]
    pub played: bool,
    #[doc(hidden)]
    pub in_level: bool,
}

impl Field {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its type.
    pub fn ty(&self) -> &Type {
        &self.ty
    }

    /// Its type as a spec writes it, as in `ranking of walk`.
    pub fn type_name(&self) -> String {
        match (&self.limits.ranking, &self.ty) {
            (Some(_), Type::List(item)) => format!("{RANKING} of {item}"),
            _ if self.is_blob() => BLOB.to_owned(),
            (_, ty) => ty.to_string(),
        }
    }

    /// By what its entries are sorted and how many there can be, if it is a ranking.
    pub fn ranking(&self) -> Option<&Ranking> {
        self.limits.ranking.as_deref()
    }

    /// Returns whether its bytes are kept beside the image, under their digest.
    pub fn is_blob(&self) -> bool {
        self.limits.blob
    }

    /// Returns what the operand of a rule is: a ranking takes an entry, and every other field a value of its own type.
    #[doc(hidden)]
    pub fn operand_type(&self, operation: Operation) -> &Type {
        match (operation, &self.ty) {
            (Operation::Rank, Type::List(item)) => item,
            (
                Operation::Set | Operation::Add | Operation::Max | Operation::Min | Operation::Union | Operation::Rank,
                ty,
            ) => ty,
        }
    }

    /// Returns how long its value lives.
    pub fn lasts(&self) -> Span {
        self.lasts
    }

    /// Returns what a failure does to it, where the spec says so.
    pub fn after_failure(&self) -> Option<PlainFate> {
        self.after_failure
    }

    /// Returns who writes it.
    pub fn written_by(&self) -> WrittenBy {
        self.written_by
    }

    /// Its limits.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// The value before anything was written.
    pub fn default(&self) -> &Value {
        &self.default
    }

    /// Returns what players call it, where the spec says it.
    pub fn label(&self) -> Option<&str> {
        self.label.as_deref()
    }

    /// Returns whether a write of play that changes it asks for a save at once.
    pub fn saves(&self) -> bool {
        self.saves
    }

    /// Returns whether a list of players shows it.
    pub fn is_thumbnail(&self) -> bool {
        self.thumbnail
    }

    /// Returns whether it counts time, and where.
    pub fn counts(&self) -> Option<Counts> {
        self.counts
    }

    /// Returns whether it can have no value.
    pub fn is_optional(&self) -> bool {
        self.optional
    }

    /// Returns whether it is one of the two that every game has, `completed` and `opened`.
    pub fn is_built_in(&self) -> bool {
        self.built_in
    }

    /// Returns whether some moment can bring back what the field was at a mark.
    pub fn rewinds(&self) -> bool {
        self.rewinds
    }

    #[doc(hidden)]
    pub fn slots(&self) -> Range<usize> {
        self.first_slot..self.first_slot + self.slots
    }

    /// Returns whether the value can exist only inside a level.
    #[doc(hidden)]
    pub fn needs_level(&self) -> bool {
        self.in_level
    }
}
