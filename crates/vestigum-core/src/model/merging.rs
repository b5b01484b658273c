//! How saves of two installations are merged.

use crate::model::expression::Expression;
use crate::vocabulary::merging::MergeLaw;

/// What a spec says of it: `[merge]`.
#[derive(Debug)]
pub struct Merging {
    /// The number by which two runs are compared: the higher one stays. Without one, the newer save decides.
    pub run: Option<Expression>,
    /// What becomes of each field, in the order of the spec.
    pub fields: Vec<FieldMerge>,
}

/// What becomes of a field when saves are merged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldMerge {
    /// It stays where it is: no save of a player has it.
    Apart,
    /// It belongs to the run, and a run is taken whole from one side.
    WithRun,
    /// Two sides that changed it have changed it to the same: a bool.
    Changed,
    /// What both sides changed is decided by the law.
    By(MergeLaw),
}

impl FieldMerge {
    /// It in a word or two, as tables show it.
    pub fn words(self) -> &'static str {
        match self {
            FieldMerge::Apart => "stays",
            FieldMerge::WithRun => "with the run",
            FieldMerge::Changed => "as changed",
            FieldMerge::By(law) => law.word(),
        }
    }
}
