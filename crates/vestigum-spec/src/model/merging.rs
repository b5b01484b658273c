//! How saves of two installations are merged.

use crate::model::expression::Expression;
use crate::vocabulary::merging::MergeLaw;

/// Describes what a spec says of it: `[merge]`.
#[derive(Debug)]
pub struct Merging {
    /// The number by which two runs are compared: the higher one stays. Without one, the newer change decides.
    pub run: Option<Expression>,
    /// Says what becomes of each field, in the order of the spec.
    pub fields: Vec<FieldMerge>,
    /// Whether a field is only raised, only lowered or only added to by what its rules do: then a save need not say by which save it
    /// was last changed.
    pub grows: Vec<bool>,
}

/// Describes what becomes of a field when saves are merged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FieldMerge {
    /// It stays where it is: no save of a player has it.
    Apart,
    /// It belongs to the run, and a run is taken whole from one side.
    WithRun,
    /// The newer change counts: a bool.
    Changed,
    /// The law decides about what both sides changed.
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
