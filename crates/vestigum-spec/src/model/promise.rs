//! Promises: what must hold in every state that play can reach, and the findings that are allowed.

use std::sync::Arc;

use crate::model::expression::Expression;
use crate::model::field::FieldId;
use crate::vocabulary::moment::Moment;

/// Something that must hold in every state that play can reach.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Promise {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub promised: Promised,
}

/// Describes what is promised.
#[derive(Clone, Debug)]
pub enum Promised {
    /// None of these ever becomes less.
    NeverFalls(Vec<NeverFalls>),
    /// A condition, after these moments or, if there are none, always.
    Holds(Expression, Vec<Moment>),
    /// From every state that play can reach some play without these moments makes the condition hold.
    Can(Expression, Vec<Moment>),
}

/// Names what never becomes less.
#[derive(Clone, Debug)]
pub enum NeverFalls {
    /// Every entry of a field.
    Field(FieldId),
    /// A value that is worked out: a derived value for each of its keys, one entry of a field, a member.
    Value(Vec<Expression>),
}

impl Promise {
    /// Returns what is promised, in the words of the spec.
    pub fn name(&self) -> &str {
        &self.name
    }
}
