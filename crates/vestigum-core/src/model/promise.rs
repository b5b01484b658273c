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

/// What is promised.
#[derive(Clone, Debug)]
pub enum Promised {
    /// No entry of these fields ever becomes less.
    NeverFalls(Vec<FieldId>),
    /// A condition, after these moments or, if there are none, always.
    Holds(Expression, Vec<Moment>),
}

impl Promise {
    /// What is promised, in the words of the spec.
    pub fn name(&self) -> &str {
        &self.name
    }
}
