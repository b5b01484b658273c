//! What becomes of every field from one version to the next.
//!
//! A plan is made of two shapes and the steps between them: for each field of the new one, whose values it has, and what
//! is written over them.

use std::sync::Arc;

use crate::diagnostic::SourceSpan;
use crate::migration::names::{FieldStep, NameMap};
use crate::migration::steps::ReadSteps;
use crate::model::Model;
use crate::model::expression::Expression;
use crate::model::field::{Field, FieldId};
use crate::vocabulary::span::Span;

/// Describes what a migration does to the saves of one version.
#[derive(Debug)]
pub struct MigrationPlan {
    /// The version it leads to.
    pub to: i64,
    /// The version it comes from, without rules.
    pub old: Arc<Model>,
    /// Says what became of names.
    pub names: NameMap,
    /// For each field of the new version.
    pub fields: Vec<FieldPlan>,
    /// Old fields that change their owner.
    pub moved: Vec<FieldId>,
    /// Fields that the game's own code makes.
    pub hooked: Vec<String>,
    /// The steps in words.
    pub told: Arc<[String]>,
    /// For each old field whether no frozen shape of its version has it: a plan for saves that hold more than those. Empty where all have.
    pub extra: Vec<bool>,
}

/// Describes where the values of a field come from.
#[derive(Debug, Default)]
pub struct FieldPlan {
    /// The old field whose values it has.
    pub carried: Option<FieldId>,
    /// Says what is written over them.
    pub fills: Vec<Fill>,
    /// Says what is written into members of the values that are carried.
    pub member_fills: Vec<MemberFill>,
}

/// A fill of a member: an expression over the members that the struct had before.
#[derive(Debug)]
pub struct MemberFill {
    /// The field that is filled.
    pub field: FieldId,
    /// The names on the way to the member, in the new version.
    pub members: Vec<Arc<str>>,
    /// The members of the old version that the expression reads.
    pub reads: Vec<Arc<str>>,
    /// Says what it is filled with: an expression over the older values.
    pub expression: Expression,
    /// Says where the document says it.
    pub span: SourceSpan,
}

/// A fill: a field or one entry of it, and an expression over the old values.
#[derive(Debug)]
pub struct Fill {
    /// The field that is filled.
    pub field: FieldId,
    /// The entry, of a keyed field; all of it if none is named.
    pub at: Option<usize>,
    /// Says what it is filled with: an expression over the older values.
    pub expression: Expression,
    /// Says where the document says it.
    pub span: SourceSpan,
    /// The target as it was written.
    pub shown: String,
}

/// Whose a field is: the two are saved apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnerKind {
    /// A player's save.
    Player,
    /// The device's save.
    Device,
}

impl OwnerKind {
    /// Returns whose save a field is in.
    pub fn of(field: &Field) -> OwnerKind {
        if field.lasts == Span::Device { OwnerKind::Device } else { OwnerKind::Player }
    }
}

/// Two versions, one after the other.
pub(crate) struct Pair<'a> {
    pub old: &'a Arc<Model>,
    pub new: &'a Model,
    /// Whether they are two versions, and not a frozen version and what has become of it since.
    pub raised: bool,
    /// Says where to point when something is gone.
    pub at: SourceSpan,
    /// Says where the new version declares a field, if it is the one in the document.
    pub place: &'a dyn Fn(&str) -> Option<SourceSpan>,
}

/// Plans the way from one version to the next.
pub(crate) fn plan(pair: &Pair<'_>, steps: ReadSteps) -> MigrationPlan {
    let old = &**pair.old;
    let ReadSteps { said, fills, member_fills, moved, hooked, told, .. } = steps;
    let names = NameMap::new(old, pair.new, said, &member_fills, &fills);
    let mut fields: Vec<FieldPlan> = pair.new.fields.iter().map(|_| FieldPlan::default()).collect();
    for was in &old.fields {
        if let Some(now) = successor(pair.new, &names, was) {
            let is = pair.new.field(now);
            let its_owner = OwnerKind::of(was) == OwnerKind::of(is) || moved.contains(&was.id);
            // Entries that are kept by something else have no places there; fills say what becomes of them.
            if its_owner && names.same_axes(old, pair.new, was, is) {
                fields[now.0 as usize].carried = Some(was.id);
            }
        }
    }
    for fill in fills {
        fields[fill.field.0 as usize].fills.push(fill);
    }
    for fill in member_fills {
        fields[fill.field.0 as usize].member_fills.push(fill);
    }
    // A fill of one entry wins over one of all entries, wherever they stand.
    fields.iter_mut().for_each(|plan| plan.fills.sort_by_key(|fill| fill.at.is_some()));
    MigrationPlan {
        to: pair.new.version,
        old: pair.old.clone(),
        names,
        fields,
        moved,
        hooked,
        told: told.into(),
        extra: Vec::new(),
    }
}

/// The field of the new version that has the values of an old one.
pub(crate) fn successor(new: &Model, names: &NameMap, was: &Field) -> Option<FieldId> {
    match names.step(was.id) {
        Some(FieldStep::Renamed(now)) => Some(now),
        Some(FieldStep::Dropped) => None,
        None => new.find_field(&was.name).filter(|now| now.lasts != Span::Session).map(|now| now.id),
    }
}

impl MigrationPlan {
    /// The fields of the new version that are made of an old one: that have its values, or are filled by what reads it.
    pub fn readers(&self, was: FieldId) -> impl Iterator<Item = (FieldId, &Fill)> {
        self.fills().filter(move |(_, fill)| fill.expression.reads().contains(&was))
    }

    fn fills(&self) -> impl Iterator<Item = (FieldId, &Fill)> {
        self.fields.iter().flat_map(|plan| &plan.fills).map(|fill| (fill.field, fill))
    }

    /// The field that has the values of an old one.
    pub fn carrier(&self, was: FieldId) -> Option<FieldId> {
        self.fields.iter().position(|plan| plan.carried == Some(was)).map(|index| FieldId(index as u32))
    }

    /// Returns whether the game's own code makes it.
    pub fn is_hooked(&self, name: &str) -> bool {
        self.hooked.iter().any(|hooked| hooked == name)
    }
}
