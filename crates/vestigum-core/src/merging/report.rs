//! What a merge says: what came from where.

use std::fmt;
use std::sync::Arc;

use crate::image::report::LoadReport;
use vestigum_spec::model::merging::FieldMerge;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::key::EntryName;
use vestigum_spec::words;

words! {
    /// One of the two sides of a merge.
    #[derive(Default)]
    pub enum Side {
        /// The one that is named first.
        #[default]
        Here = "here",
        /// The other one.
        There = "there",
    }
}

/// Whose run stayed, and why.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub enum RunFrom {
    /// Both sides have the same.
    #[default]
    Both,
    /// This side has seen the other's, and gone on.
    OnlyChanged(Side),
    /// This side's run was changed later.
    Newer(Side),
    /// The number of `[merge] run` is higher on this side.
    Higher {
        /// The side.
        side: Side,
        /// The number here.
        here: Value,
        /// The number there.
        there: Value,
    },
}

impl RunFrom {
    /// The side, if both do not have the same.
    pub fn side(&self) -> Option<Side> {
        match self {
            RunFrom::Both => None,
            RunFrom::OnlyChanged(side) | RunFrom::Newer(side) | RunFrom::Higher { side, .. } => Some(*side),
        }
    }
}

impl fmt::Display for RunFrom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RunFrom::Both => f.write_str("the run is the same on both sides"),
            RunFrom::OnlyChanged(side) => {
                write!(f, "the run goes on as it is {side}: it continues the one of the other side")
            }
            RunFrom::Newer(side) => write!(f, "the run goes on as it is {side}: it was changed later"),
            RunFrom::Higher { side: Side::Here, here, there } => {
                write!(f, "the run goes on as it is here: {here} is more than {there}")
            }
            RunFrom::Higher { side: Side::There, here, there } => {
                write!(f, "the run goes on as it is there: {there} is more than {here}")
            }
        }
    }
}

/// Tells of one entry that is not the same in both saves and in what came of them.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct MergedEntry {
    /// The entry.
    pub name: EntryName,
    /// Says how it is merged.
    pub merge: FieldMerge,
    /// Its value here.
    pub here: Value,
    /// Its value there.
    pub there: Value,
    /// Its value now.
    pub merged: Value,
    /// Whether the value was brought inside the limits of the field.
    pub clamped: bool,
}

/// A level that a player made, under a name that the other side gave to another one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MovedLevel {
    /// The name that it had.
    pub level: String,
    /// The name that it has now; none if there was no room for it.
    pub to: Option<String>,
}

/// Describes what a merge did.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct MergeReport {
    /// Whose run stayed.
    pub run: RunFrom,
    /// The side that was saved later.
    pub newer: Side,
    /// The entries that are not the same in both saves and in the merged one, in the order of the spec.
    pub entries: Vec<MergedEntry>,
    /// Levels that opened because of the merge.
    pub opened: Vec<String>,
    /// Levels that both sides made under one name.
    pub moved_levels: Vec<MovedLevel>,
    /// Names of open key sets for which there was no room: the set and the name.
    pub no_room: Vec<(Arc<str>, Arc<str>)>,
    /// The level in which the run stood, if the other side removed it.
    pub left_level: Option<String>,
    /// Says what loading did to the save here.
    pub here: LoadReport,
    /// Says what loading did to the save there.
    pub there: LoadReport,
}
